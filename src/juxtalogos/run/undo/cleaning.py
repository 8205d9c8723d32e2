"""Undoing later what runs created or changed and could not undo."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, replace

from juxtalogos.exchange.redact import MASK
from juxtalogos.exchange.transport import Transport
from juxtalogos.formats import outcome_of
from juxtalogos.ledger import Ledger, UndoRecord
from juxtalogos.model.contract import Contract, Intent, Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.run.gate.keys import key_of_item
from juxtalogos.run.gate.places import Aim, Sites, unfit
from juxtalogos.run.gate.reading import Reader, Tally
from juxtalogos.run.gate.removal import removal
from juxtalogos.run.judging.refusals import words_of
from juxtalogos.run.target.session import Session
from juxtalogos.run.undo.created import KEY, STILL_THERE, AskedFor
from juxtalogos.suite.inputs import values_of, with_values

PASSES = 20
"""Over what is left, at most: so deep may things hang on one another the wrong way round."""

ANOTHERS = (
    "what is there now shows none of the texts of the run that created it: it may be somebody else's by now,"
    " and was left alone"
)


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
        readers = {
            name: Reader(session, transport, Sites(contract), Tally())
            for name, contract in session.contracts.items()
        }
        for _ in range(PASSES):
            before = len(waiting)
            for item in waiting:
                reader = readers.get(item.contract)
                operation = reader.places.contract.operation(item.operation) if reader else None
                if reader is None or operation is None:
                    told = f"there is no operation {item.contract}:{item.operation} any more"
                    found[item.id] = Undone(item, False, told)
                else:
                    found[item.id] = await _Undoing(reader, item, operation).undone()
                if found[item.id].done:
                    ledger.mark_undone(item.id)
            waiting = [entry for entry in waiting if not found[entry.id].done]
            if len(waiting) == before:
                break
    return [found[record.id] for record in records]


@dataclass(slots=True)
class _Undoing:
    """One record, and what undoes it."""

    reader: Reader
    record: UndoRecord
    operation: Operation

    @property
    def contract(self) -> Contract:
        return self.reader.places.contract

    def ended(self, done: bool, told: str) -> Undone:
        return Undone(self.record, done, told)

    async def undone(self) -> Undone:
        if MASK in self.record.sent:
            return self.ended(False, "a secret stood in its inputs, and was not kept")
        try:
            inputs, found = inputs_of(self.record), json.loads(self.record.sent)
            if any(value == KEY for _, value in values_of(inputs)):
                return await self._asked_for(inputs, AskedFor.read(found.get("intent", {})))
            if self.operation.intent is Intent.DELETE:
                return await self._removed(inputs)
            return await self._written_back(inputs)
        except (JuxtalogosError, ValueError, TypeError) as error:
            return self.ended(False, str(error).split("\n")[0])

    async def _asked_for(self, inputs: Inputs, asked: AskedFor) -> Undone:
        """Of what was asked for without an answer: listed items that carry a text of the run's own."""
        places = self.reader.places
        listing = self.contract.operation(asked.listing) if asked.listing else None
        if listing is None or not asked.marks:
            why = "it is not known whether it was created, and no operation lists such items"
            if listing is not None:
                why = "it is not known whether it was created: nothing that was sent tells it from others"
            return self.ended(False, why)
        shown = await self.reader.all_of(listing, with_values(Inputs({}), asked.given))
        if shown is None:
            if await self._parent_gone(listing, asked):
                return self.ended(True, "what it would lie below is gone")
            return self.ended(False, "it is not known whether it was created: its list cannot be read")
        place = places.aim(self.operation, inputs)
        told = self.ended(True, "nothing was created")
        for item in shown.items:
            if not any(mark in text for text in item.values() for mark in asked.marks):
                continue
            key = key_of_item(places, listing, item, asked.member)
            removing = (
                removal(places, self.operation, replace(place, key=key)) if key and not unfit(key) else None
            )
            if removing is None:
                return self.ended(False, "it was created, and its list does not show what it is called")
            told = await self._removed(removing)
        return told

    async def _parent_gone(self, listing: Operation, asked: AskedFor) -> bool:
        came = await self.reader.ask(listing, with_values(Inputs({}), asked.given))
        return came is not None and self.reader.outcome(listing, came[0]) is Outcome.ABSENT

    async def _removed(self, inputs: Inputs) -> Undone:
        """Removes an item, and looks whether it is gone."""
        aim = self.reader.places.aim(self.operation, inputs)
        if await self._is_anothers(aim):
            return self.ended(False, ANOTHERS)
        outcome, told = await self._sent(inputs)
        if outcome is Outcome.ABSENT:
            return self.ended(True, f"{told.partition(':')[0]}: it was gone already")
        if not outcome.succeeded:
            return self.ended(False, told)
        state = await self.reader.state_of(self.operation, aim) if aim.key else None
        if state is not None and state.succeeded:
            return self.ended(False, STILL_THERE)
        return self.ended(True, told.partition(":")[0])

    async def _is_anothers(self, aim: Aim) -> bool:
        """Whether what is there now shows none of the texts that the item showed when it was created: a
        service may give its name to another after it was removed.
        """
        carried = json.loads(self.record.sent).get("carried", [])
        if not isinstance(carried, list) or not carried or not aim.key:
            return False
        read = self.reader.places.reader(self.operation)
        values = self.reader.places.addressed(read, aim) if read is not None else {}
        came = await self.reader.call(read, values) if read is not None and values else None
        if read is None or came is None or not self.reader.outcome(read, came[0]).succeeded:
            return False
        text = came[0].response.body.decode("utf-8", "replace") if came[0].response else ""
        return not any(str(mark) in text for mark in carried)

    async def _written_back(self, inputs: Inputs) -> Undone:
        """Writes back what exists once, and looks whether it is as it was."""
        if await self._is_as_kept(inputs):
            return self.ended(True, "it is as it was")
        outcome, told = await self._sent(inputs)
        if not outcome.succeeded:
            return self.ended(False, told)
        same = await self._is_as_kept(inputs)
        return self.ended(same is not False, told if same is not False else "it is not as it was")

    async def _is_as_kept(self, inputs: Inputs) -> bool | None:
        """Whether what is read is what was kept; None where that cannot be told."""
        beside = self.reader.places.reader_beside(self.operation, inputs)
        if beside is None or not isinstance(inputs.body, dict):
            return None
        declared = {one.address for one in beside.inputs}
        values = {at: value for at, value in inputs.values.items() if at in declared}
        came = await self.reader.call(beside, values)
        if came is None or not isinstance(came[1], dict):
            return None
        return all(came[1].get(name, ABSENT) == value for name, value in inputs.body.items())

    async def _sent(self, inputs: Inputs) -> tuple[Outcome, str]:
        session = self.reader.session
        try:
            request = session.encoded(self.contract, self.operation, inputs)
            exchange = await session.transmit(self.contract, self.operation, request, self.reader.sender)
        except (JuxtalogosError, ValueError) as error:
            return Outcome.NO_RESPONSE, str(error).split("\n")[0]
        if exchange.response is None:
            return Outcome.NO_RESPONSE, exchange.error
        outcome = outcome_of(self.contract, self.operation, exchange)
        words = session.redactor.cut_text(words_of(exchange))
        return outcome, f"{exchange.response.status}: {words}".rstrip(": ")
