"""Undoing later what a run created and could not undo."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from juxtalogos.documents.jsontext import parse_answer
from juxtalogos.exchange.redact import MASK
from juxtalogos.exchange.transport import Transport
from juxtalogos.formats import outcome_of
from juxtalogos.ledger import Ledger, UndoRecord
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.run.judging.refusals import words_of
from juxtalogos.run.target.session import Session
from juxtalogos.run.undo.created import KEY, AskedFor, asked_list
from juxtalogos.suite.inputs import values_of, with_values
from juxtalogos.suite.language.selectors import select_json

PASSES = 20
"""Over what is left, at most: so deep may things hang on one another the wrong way round."""


@dataclass(frozen=True, slots=True)
class Undone:
    """What became of one thing to be undone."""

    record: UndoRecord
    done: bool
    told: str


def inputs_of(record: UndoRecord) -> Inputs:
    """The inputs that were kept. ValueError where they are none that we wrote."""
    found = json.loads(record.sent)
    if not isinstance(found, dict) or not isinstance(found.get("values"), dict):
        raise ValueError("no inputs")
    return Inputs(found["values"], found.get("body", ABSENT), str(found.get("type", "")))


def place_of(record: UndoRecord) -> str:
    """`suite#case#step` of what is to undo it."""
    try:
        found = json.loads(record.sent)
        return "#".join(str(found.get(key, "")) for key in ("suite", "case", "step"))
    except (ValueError, AttributeError):
        return ""


async def undo(session: Session, ledger: Ledger, records: Sequence[UndoRecord]) -> list[Undone]:
    """Sends what undoes each, the newest first, and notes what was done; again while that helps, for one may
    hang on another.
    """
    found: dict[int, Undone] = {}
    waiting = list(records)
    async with Transport(session.options) as transport:
        for _ in range(PASSES):
            before = len(waiting)
            for item in waiting:
                contract = session.contracts.get(item.contract)
                operation = contract.operation(item.operation) if contract else None
                found[item.id] = await _undo(session, transport, item, contract, operation)
                if found[item.id].done:
                    ledger.mark_undone(item.id)
            waiting = [entry for entry in waiting if not found[entry.id].done]
            if len(waiting) == before:
                break
    return [found[record.id] for record in records]


async def _undo(
    session: Session,
    transport: Transport,
    record: UndoRecord,
    contract: Contract | None,
    operation: Operation | None,
) -> Undone:
    if contract is None or operation is None:
        return Undone(record, False, f"there is no operation {record.contract}:{record.operation} any more")
    if MASK in record.sent:
        return Undone(record, False, "a secret stood in its inputs, and was not kept")
    try:
        inputs, found = inputs_of(record), json.loads(record.sent)
        if all(value != KEY for _, value in values_of(inputs)):
            return await _send(session, transport, record, contract, operation, inputs)
        keys = await _keys(session, transport, contract, AskedFor(**found.get("intent", {})))
    except (JuxtalogosError, ValueError, TypeError) as error:
        return Undone(record, False, str(error).split("\n")[0])
    if keys is None:
        return Undone(
            record, False, "it is not known whether it was created, and no operation lists such items"
        )
    told = Undone(record, True, "nothing was created")
    for key in keys:
        told = await _send(session, transport, record, contract, operation, _named(inputs, key))
    return told


async def _send(
    session: Session,
    transport: Transport,
    record: UndoRecord,
    contract: Contract,
    operation: Operation,
    inputs: Inputs,
) -> Undone:
    try:
        request = session.encoded(contract, operation, inputs)
        exchange = await session.send(contract, operation, request, transport)
    except (JuxtalogosError, ValueError) as error:
        return Undone(record, False, str(error).split("\n")[0])
    status = exchange.response.status if exchange.response else 0
    outcome = outcome_of(contract, operation, exchange)
    if outcome.succeeded or outcome is Outcome.ABSENT:
        gone = ": it was gone already" if outcome is Outcome.ABSENT else ""
        return Undone(record, True, f"{status}{gone}")
    return Undone(
        record,
        False,
        f"{status}: {session.redactor.cut_text(words_of(exchange))}" if status else exchange.error,
    )


async def _keys(
    session: Session, transport: Transport, contract: Contract, intent: AskedFor
) -> list[Any] | None:
    """The keys of listed items that hold a text of the run's own; None where nothing would show them."""
    listing = contract.operation(intent.listing) if intent.listing else None
    if listing is None or not intent.marks or not intent.selector.startswith("$"):
        return None
    exchange = await asked_list(session, transport, contract, listing, intent.given)
    if exchange.response is None:
        raise ValueError(exchange.error)
    outcome = outcome_of(contract, listing, exchange)
    if outcome is Outcome.ABSENT:
        return []  # what it would lie below is gone
    if not outcome.succeeded:
        raise ValueError(f"{exchange.response.status}: the list cannot be read")
    parts = re.fullmatch(r"(.+?)(?:\.(\w+)|\['(.+)'\])", intent.selector)
    if parts is None:
        return None
    above, name = parts[1], parts[2] or parts[3].replace("\\'", "'").replace("\\\\", "\\")
    items = select_json(above, parse_answer(exchange.response.body))
    return [
        item[name]
        for item in items
        if isinstance(item, dict)
        and name in item
        and any(mark in json.dumps(item, ensure_ascii=False) for mark in intent.marks)
    ]


def _named(inputs: Inputs, key: Any) -> Inputs:
    """Inputs with the key in the places that wait for it."""
    return with_values(inputs, {at: key for at, value in values_of(inputs) if value == KEY})
