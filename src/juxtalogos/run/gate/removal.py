"""The request that removes an item."""

from __future__ import annotations

from juxtalogos.compose.requests import sample_inputs
from juxtalogos.model.contract import Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.wire import Inputs
from juxtalogos.run.gate.places import Aim, Sites
from juxtalogos.suite.inputs import with_values


def removal(places: Sites, deleter: Operation, aim: Aim) -> Inputs | None:
    """The inputs by which an operation removes an item; None where they cannot be made."""
    values = places.addressed(deleter, aim)
    if not values:
        return None
    try:
        inputs = sample_inputs(places.contract, deleter, full=False, without=tuple(values))
        return with_values(inputs, values)
    except (JuxtalogosError, ValueError):
        return None
