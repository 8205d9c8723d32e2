"""What the gate reads: whole lists, single things, whether an item is there."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from juxtalogos.compose.listing import MOST_PAGES, Paging, items_in, next_in, onward, paging_of, total_in
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.conventions.naming import plain
from juxtalogos.exchange.transport import Sender
from juxtalogos.formats import outcome_of, wire_of
from juxtalogos.model.contract import Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.run.gate.places import Aim, Key, Site, Sites, has_key, texts
from juxtalogos.run.target.session import Session
from juxtalogos.suite.comparing import leaves
from juxtalogos.suite.inputs import has_place, with_values

MOST_SILENT = 3
"""Requests without a response, one after another, until no more are sent to look or to clean up."""
MOST_ITEMS = 20_000
"""A list of more is taken for one that cannot be read."""


@dataclass(frozen=True, slots=True)
class ListedItems:
    """What a list shows."""

    items: tuple[Mapping[str, str], ...]
    """The single values of each item, by name."""

    def has(self, aim: Aim, noun: str) -> bool:
        return any(has_key(item, aim, noun) for item in self.items)


@dataclass(slots=True)
class Tally:
    """Requests that were sent only to look, or to undo."""

    requests: int = 0
    silent: int = 0
    """How many of the latest had no response: a service that is gone is not asked for ever."""

    @property
    def gone(self) -> bool:
        """Whether the service seems to be gone."""
        return self.silent >= MOST_SILENT


@dataclass(slots=True)
class Reader:
    """Asks what only reads, for one contract at one target, and counts it."""

    session: Session
    sender: Sender
    places: Sites
    tally: Tally

    async def call(self, operation: Operation, values: Mapping[str, Any]) -> tuple[Exchange, Any] | None:
        """(exchange, value of its body) of a call with some inputs by address, samples for what else is
        required; None where it cannot be made or has no response.
        """
        try:
            inputs = sample_inputs(self.places.contract, operation, full=False, without=tuple(values))
            return await self.ask(operation, with_values(inputs, values))
        except (JuxtalogosError, ValueError):
            return None

    async def ask(self, operation: Operation, inputs: Inputs) -> tuple[Exchange, Any] | None:
        """The same with all inputs given."""
        try:
            request = self.session.encoded(self.places.contract, operation, inputs)
        except (JuxtalogosError, ValueError):
            return None
        return await self._sent(operation, request)

    async def _sent(self, operation: Operation, request: Request) -> tuple[Exchange, Any] | None:
        self.tally.requests += 1
        try:
            exchange = await self.session.transmit(self.places.contract, operation, request, self.sender)
        except JuxtalogosError:
            return None
        self.tally.silent = 0 if exchange.response is not None else self.tally.silent + 1
        return None if exchange.response is None else (exchange, self.value(operation, exchange))

    def list_inputs(self, listing: Operation, inputs: Inputs) -> Inputs | None:
        """How a list is asked for about which a request is; None where it wants what the request does not
        say, for then it would show another part.
        """
        given = {
            one.address: inputs.values[one.address] for one in listing.inputs if one.address in inputs.values
        }
        try:
            asked = sample_inputs(self.places.contract, listing, full=False, without=tuple(given))
        except (JuxtalogosError, ValueError):
            return None
        asked = replace(asked, values={**asked.values, **given})
        known = {plain(at.partition(".")[2]): value for at, value in inputs.values.items()}
        known |= {
            plain(path.rpartition("/")[2].rpartition(":")[2]): leaf for path, leaf in leaves(inputs.body)
        }
        values: dict[str, Any] = {}
        for row in self.places.resources.rows.sent(listing):
            if row.scalar and row.path and has_place(asked.body, row.path):
                if plain(row.name) not in known:
                    return None
                values[f"body{row.path}"] = known[plain(row.name)]
        return with_values(asked, values)

    def value(self, operation: Operation, exchange: Exchange) -> Any:
        """What the body of a response says; ABSENT where it cannot be read."""
        try:
            return wire_of(self.places.contract).decode(operation, exchange).value
        except (JuxtalogosError, ValueError):
            return ABSENT

    def outcome(self, operation: Operation, exchange: Exchange) -> Outcome:
        return outcome_of(self.places.contract, operation, exchange)

    async def all_of(self, listing: Operation, inputs: Inputs) -> ListedItems | None:
        """A list with all of its pages; None where a part of it cannot be read."""
        wire = wire_of(self.places.contract)
        paging = Paging() if wire.whole_without_mark() else paging_of(self.places.resources.rows, listing)
        page = await self.ask(listing, inputs)
        raw: list[Any] = []
        given: dict[str, Any] = {}
        asked: set[str] = set()
        for _ in range(MOST_PAGES):
            if page is None or not self.outcome(listing, page[0]).succeeded:
                return None
            exchange, value = page
            found = items_in(value)
            if found is None:
                found = [] if self._is_empty(listing, value) else _keyed(value)
            if found is None or len(raw) + len(found) > MOST_ITEMS:
                return None
            raw += found
            more = onward(wire, paging, exchange, value, len(raw), len(found), given)
            address = next_in(wire, exchange, value) if more is None else None
            mark = json.dumps(more if more is not None else address, sort_keys=True, default=str)
            if (more is None and (address is None or not found)) or mark in asked:
                total = total_in(value)
                known = tuple(texts(item) for item in raw)
                return None if total is not None and total > len(raw) else ListedItems(known)
            asked.add(mark)
            if more is not None:
                given |= more
                page = await self.ask(listing, self._page(inputs, given))
            else:
                following = wire.page_at(exchange, address) if isinstance(address, str) else None
                page = await self._sent(listing, following) if following is not None else None
        return None

    def _is_empty(self, listing: Operation, value: Any) -> bool:
        """Whether an answer without a list is that of a list without items: nothing, or only what stands
        around a list that is declared (XML leaves the items out).
        """
        if value in (None, ABSENT, "", {}):
            return True
        declared = any("/0" in row.path for row in self.places.resources.rows.answered(listing))
        plain_value = isinstance(value, dict) and not any(
            isinstance(member, dict | list) for member in value.values()
        )
        return declared and plain_value

    @staticmethod
    def _page(inputs: Inputs, given: Mapping[str, Any]) -> Inputs:
        inside = any(at.startswith("body") for at in given)
        base = replace(inputs, body={}) if inside and inputs.body is ABSENT else inputs
        return with_values(base, given)

    async def state_at(self, place: Site, key: Key) -> Outcome | None:
        """What reading the item at a place means; None where nothing reads it."""
        reader = self.places.reader_at(place)
        return await self._state(reader, Aim(place, key))

    async def state_of(self, operation: Operation, aim: Aim) -> Outcome | None:
        """What reading one item means; None where nothing reads it."""
        return await self._state(self.places.reader(operation), aim)

    async def _state(self, reader: Operation | None, aim: Aim) -> Outcome | None:
        values = self.places.addressed(reader, aim) if reader is not None else {}
        if reader is None or not values:
            return None
        came = await self.call(reader, values)
        return Outcome.NO_RESPONSE if came is None else self.outcome(reader, came[0])


def _keyed(value: Any) -> list[Any] | None:
    """The items of an object that holds each item under its key; None where it is none."""
    if isinstance(value, dict) and value and all(isinstance(member, dict) for member in value.values()):
        return [{"id": name, **member} for name, member in value.items()]
    return None
