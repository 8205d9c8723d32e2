"""Provoking declared faults: a valid request for what is not there, or one broken input, where a fault's name
promises it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from juxtalogos.compose.relating import Dependency
from juxtalogos.conventions.faults import means_absent, means_invalid
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract, DeclaredAnswer, Operation
from juxtalogos.model.errors import Unsampleable, UsageError
from juxtalogos.model.location import follow_pointer
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.inputs import with_values

UNKNOWN = "a reference to what is not there"
BROKEN = "a value that the schema forbids"
_UNLIKELY = (987_654_321, 98_765, 9_876)
Provocation = tuple[Operation, Inputs, DeclaredAnswer, str]


def provocations(
    contract: Contract, operation: Operation, inputs: Inputs, needs: Iterable[Dependency]
) -> Iterator[Provocation]:
    """(operation, inputs, fault, how it is provoked), one of each kind at most."""
    faults = [answer for answer in operation.answers if answer.fault]
    gone = next((answer for answer in faults if means_absent(answer.fault)), None)
    addresses = [need.input for need in needs]
    if gone is not None and addresses:
        yield operation, _unlikely(contract, operation, inputs, addresses), gone, UNKNOWN
    broken = next((answer for answer in faults if means_invalid(answer.fault) and answer is not gone), None)
    if broken is not None:
        changed = _broken(contract, operation, inputs, addresses)
        if changed is not None:
            yield operation, changed, broken, BROKEN


def _unlikely(contract: Contract, operation: Operation, inputs: Inputs, addresses: list[str]) -> Inputs:
    """Valid references that nothing will be found under: large numbers, and samples that are seldom taken."""
    media = operation.body.media[0] if operation.body and operation.body.media else None
    schema = contract.schema(media.schema) if media and media.schema else None
    for address in addresses:
        if schema is None or not address.startswith("body/"):
            continue
        pointer = address[4:]
        try:
            other = follow_pointer(schema.sample(seed=7), pointer)
        except (Unsampleable, LookupError):
            other = ABSENT
        for value in (*_UNLIKELY, other):
            if value is ABSENT or isinstance(other, str) is not isinstance(value, str):
                continue
            changed = with_values(inputs, {address: value})
            if schema.accepts(changed.body):
                inputs = changed
                break
    return inputs


def _broken(contract: Contract, operation: Operation, inputs: Inputs, linked: list[str]) -> Inputs | None:
    """Inputs with one value that the schema forbids, and that arrives: none that another step gives, none
    that is lost on the way.
    """
    media = operation.body.media[0] if operation.body and operation.body.media else None
    schema = contract.schema(media.schema) if media and media.schema else None
    if schema is None or inputs.body is ABSENT:
        return None
    wire = wire_of(contract)
    for mutation in schema.mutate(inputs.body):
        if not mutation.of_value or mutation.also or f"body{mutation.path}" in linked:
            continue
        changed = Inputs(inputs.values, mutation.value, inputs.content_type)
        try:
            sent = [
                wire.encode(operation, one, "http://127.0.0.1", loose=True).body for one in (inputs, changed)
            ]
        except UsageError:
            continue
        if sent[0] != sent[1]:
            return changed
    return None


def fault_checks(contract: Contract, operation: Operation, answer: DeclaredAnswer) -> list[dict[str, Any]]:
    """That the answer holds this very fault."""
    ref = answer.media[0].schema if answer.media else None
    selected = wire_of(contract).selector(operation, ref, "") if ref else None
    return [{"xpath": selected, "exists": True}] if selected is not None else []
