"""What exists once: read before it is changed, written back afterwards, and read again."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from juxtalogos.compose.outlines import main_schema
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.formats import wire_of
from juxtalogos.ledger import UndoRecord
from juxtalogos.model.contract import Intent, Operation
from juxtalogos.model.errors import JuxtalogosError, Withheld
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.run.gate.places import reads
from juxtalogos.run.gate.reading import Reader

Owner = tuple[str, str]


class IsList(Withheld):
    """What is read there is a list, and no single thing."""


@dataclass(slots=True)
class KeptSetting:
    """A thing as it was before anything was sent."""

    reader: Operation
    writer: Operation
    values: Mapping[str, Any]
    """The inputs of both, by address."""
    body: dict[str, Any]
    """Of what was read, what the writer takes."""
    shown: dict[str, Any]
    written: bool = False
    left: str = ""
    """Why it is not as it was."""
    undo: UndoRecord | None = None

    @property
    def inputs(self) -> Inputs:
        """Those that write it back."""
        media = self.writer.body.media[0].media_type if self.writer.body and self.writer.body.media else ""
        return Inputs(dict(self.values), self.body, media)


def _holds_items(reader: Reader, operation: Operation, beside: Operation) -> bool:
    """Whether what an operation sends is one of the items listed there, and not what holds them."""
    rows = reader.places.resources.rows
    sent = {row.name for row in rows.sent(operation) if row.depth == 1}
    shown = rows.answered(beside)
    listed = {row.name for row in shown if "/0/" in row.path}
    if any(row.path == "" and row.type.startswith("array") for row in shown) or beside.intent is Intent.LIST:
        return True
    return bool(sent & listed) and not sent & {row.name for row in shown if row.depth == 1}


@dataclass(slots=True)
class KeptSettings:
    """All of a run. One case at a time may change any of them."""

    known: dict[tuple[str, str], KeptSetting] = field(default_factory=dict)
    """By the operation that reads it, and its inputs."""
    lock: asyncio.Lock = field(default_factory=asyncio.Lock)
    owner: Owner | None = None

    async def keep(
        self, reader: Reader, operation: Operation, beside: Operation, inputs: Inputs, owner: Owner
    ) -> KeptSetting:
        """Reads what a request would change. Withheld where it could not be written back."""
        if self.owner != owner:
            await self.lock.acquire()
            self.owner = owner
        declared = {one.address for one in beside.inputs}
        values = {at: value for at, value in inputs.values.items() if at in declared}
        key = beside.id, repr(sorted(values.items(), key=str))
        single = self.known.get(key)
        if single is None:
            single = self.known[key] = await self._read(reader, operation, beside, values)
        if single.left:
            raise Withheld(f"it could not be written back before: {single.left}")
        whole = single.writer.intent is Intent.REPLACE
        sent = inputs.body if isinstance(inputs.body, dict) else {}
        if not whole and not isinstance(inputs.body, dict) and inputs.body is not ABSENT:
            raise Withheld("what it would write is of another form than what is read there")
        declared_names = {row.name for row in reader.places.resources.rows.sent(operation) if row.depth == 1}
        # What is written back whole takes away what it does not have, but gives no hidden value back.
        strange = sorted(
            name for name in sent if name not in single.shown and (name in declared_names or not whole)
        )
        if strange:
            raise Withheld(f"{', '.join(strange)} is not shown there, so it could not be written back")
        return single

    async def _read(
        self, reader: Reader, operation: Operation, beside: Operation, values: Mapping[str, Any]
    ) -> KeptSetting:
        if _holds_items(reader, operation, beside):
            raise IsList("it changes a list from which nothing is removed again")
        came = await reader.call(beside, values)
        if came is None or not reader.outcome(beside, came[0]).succeeded:
            raise Withheld("what it changes cannot be read, so it could not be written back")
        value = came[1]
        if isinstance(value, list):
            raise IsList("it changes a list from which nothing is removed again")
        if not isinstance(value, dict):
            raise Withheld("what it changes is read in another form than it is written")
        resource = reader.places.resource(operation)
        alike = [
            one
            for intent in (Intent.REPLACE, Intent.UPDATE)
            for one in (resource.of(intent) if resource else ())
            if one.on_item == operation.on_item
        ]
        for writer in (*alike, operation):
            body = self._writable(reader, writer, value)
            if body is not None and not reads(writer):
                return KeptSetting(beside, writer, values, body, value)
        raise Withheld("what is read there cannot be written as it is")

    @staticmethod
    def _writable(reader: Reader, writer: Operation, value: dict[str, Any]) -> dict[str, Any] | None:
        """Of what is read, what an operation takes; None where it does not take that."""
        ref = main_schema(writer.body.media) if writer.body else None
        if ref is None:
            return None
        rows = [row for row in reader.places.resources.rows.sent(writer) if row.depth == 1]
        names = {row.name for row in rows if not row.read_only}
        body = {name: member for name, member in value.items() if name in names} if rows else dict(value)
        if not body or not reader.places.contract.schema(ref).accepts(body):
            return None
        return body

    async def settle(self, reader_of: Callable[[str], Reader], owner: Owner) -> list[KeptSetting]:
        """Writes back what a case has changed, and lets the next one begin. Gives all that the case had."""
        if self.owner != owner:
            return []
        try:
            await self.write_back(reader_of)
            return list(self.known.values())
        finally:
            self.owner = None
            self.lock.release()

    async def write_back(self, reader_of: Callable[[str], Reader]) -> bool:
        """Writes back what is changed now. Whether anything was."""
        written = [single for single in self.known.values() if single.written]
        for single in written:
            single.written = False
            single.left = await self._restore(reader_of(single.reader.contract), single)
        return bool(written)

    async def _restore(self, reader: Reader, single: KeptSetting) -> str:
        """Why a thing is not as it was; empty where it is."""
        differing, version = await self._differing(reader, single)
        if not differing:
            return ""
        bodies: list[Mapping[str, Any]] = [single.body]
        if single.writer.intent is Intent.UPDATE and differing.keys() < single.body.keys():
            bodies.insert(0, differing)  # a service may refuse what it need not change
        told = ""
        for body in bodies:
            told = await self._written(reader, single, body, version)
            differing, version = await self._differing(reader, single)
            if not differing:
                return ""
        return f"writing it back returned {told}, and it is not as it was"

    @staticmethod
    async def _written(
        reader: Reader, single: KeptSetting, body: Mapping[str, Any], version: str | None
    ) -> str:
        """What the service says to a body that is written there."""
        contract, session = reader.places.contract, reader.session
        try:
            base = sample_inputs(contract, single.writer, full=False, without=(*single.values, "body"))
            inputs = replace(single.inputs, values={**base.values, **single.values}, body=body)
            wire = wire_of(contract)
            if version is not None and wire.conditional(single.writer):
                inputs = replace(
                    inputs, values={**inputs.values, **wire.precondition(single.writer, version)}
                )
            request = session.encoded(contract, single.writer, inputs)
            reader.tally.requests += 1
            exchange = await session.transmit(contract, single.writer, request, reader.sender)
        except (JuxtalogosError, ValueError) as error:
            return str(error).split("\n")[0]
        return str(exchange.response.status) if exchange.response else exchange.error

    @staticmethod
    async def _differing(reader: Reader, single: KeptSetting) -> tuple[Mapping[str, Any], str | None]:
        """(of what is to be written back, what is read otherwise now; its version)."""
        came = await reader.call(single.reader, single.values)
        if came is None or not isinstance(came[1], dict):
            return single.body, None
        shown = came[1]
        differing = {name: one for name, one in single.body.items() if shown.get(name, ABSENT) != one}
        return differing, wire_of(reader.places.contract).version_of(came[0])
