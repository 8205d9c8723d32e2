"""Cases that must take turns: what they create has a key that is not of one case alone, such as a language
below an item that is listed. Side by side they would create it twice, and the second would be refused.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from juxtalogos.compose.resources import Resource
from juxtalogos.compose.values import known_formula
from juxtalogos.conventions.naming import plain
from juxtalogos.model.contract import Operation
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.inputs import values_of
from juxtalogos.workspace.known import KnownValue


def creates_in_turn(
    operation: Operation,
    resource: Resource,
    inputs: Inputs,
    formulas: Mapping[str, str],
    known: Iterable[KnownValue],
    made: Iterable[str],
) -> bool:
    """Whether a step creates an item whose whole key another case would send as well.

    `formulas`: by address what is computed when the case begins; `made`: the steps of the case that created
    something, whose values are of this case.
    """
    key = set(_key_names(resource))
    values = dict(values_of(inputs))
    owners = {one.address for one in operation.inputs if one.identifies}
    parts = {at: value for at, value in values.items() if at in owners or _is_part(at, key)}
    if not any(_is_part(address, key) for address in parts):
        return False  # the service gives the key
    from_case = tuple(f"$steps.{step_id}." for step_id in made)
    unique = {known_formula(one) for one in known if "unique(" in one.formula}
    computed = {formulas.get(at, "") for at, value in parts.items() if str(value).startswith("$inputs.")}
    return not (
        any(isinstance(value, str) and value.startswith(from_case) for value in parts.values())
        or any("unique(" in formula or formula in unique for formula in computed)
    )


def _key_names(resource: Resource) -> Iterator[str]:
    """The plain names of what identifies one item."""
    for operation in resource.operations:
        if operation.id in resource.items:
            for declared in operation.inputs:
                if declared.identifies and declared.identifies == operation.resource:
                    yield plain(declared.name)


def _is_part(address: str, key: set[str]) -> bool:
    """Whether an input is a part of the key: a parameter, or a member of the body itself."""
    place, _, name = address.partition("/") if address.startswith("body") else address.partition(".")
    return "/" not in name and place in ("body", "path") and plain(name) in key
