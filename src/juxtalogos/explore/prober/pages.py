"""Lists that come in pages: how the next one is asked for."""

from __future__ import annotations

import json
import re
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import parse_qs, urlsplit

from juxtalogos.conventions.naming import plain
from juxtalogos.conventions.words import word_set
from juxtalogos.explore.prober.comparing import items_in
from juxtalogos.explore.prober.prober import Trial
from juxtalogos.explore.prober.requests import RequestMaker, Unfillable
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Operation
from juxtalogos.model.wire import Inputs, Wire
from juxtalogos.suite.inputs import with_values

Call = Callable[[Operation, Inputs], Awaitable[Trial]]

_inputs = {name: word_set(f"paging.{name}") for name in ("limit", "offset", "page", "cursor")}
_next, _total = word_set("paging.next"), word_set("paging.total")
MOST_PAGES = 60


@dataclass(frozen=True, slots=True)
class Paging:
    """The inputs that say which part of a list is wanted; empty for none."""

    limit: str = ""
    offset: str = ""
    page: str = ""
    cursor: str = ""

    @property
    def there(self) -> bool:
        return bool(self.offset or self.page or self.cursor)


def paging_of(maker: RequestMaker, listing: Operation) -> Paging:
    """How a list's pages are asked for, by what its inputs are called."""
    found: dict[str, str] = {}
    for address, name in optional_inputs(maker, listing):
        for what, names in _inputs.items():
            if plain(name) in names() and (what == "cursor" or _numeric(maker, listing, address)):
                found.setdefault(what, address)
    return Paging(**found)


def optional_inputs(maker: RequestMaker, operation: Operation) -> Iterator[tuple[str, str]]:
    """(address, name) of what need not be given: in the query, and at the top of a body."""
    for declared_input in operation.inputs:
        if declared_input.place == "query":
            yield declared_input.address, declared_input.name.lstrip("$")
    for row in maker.rows.sent(operation):
        if row.depth == 1 and row.scalar:
            yield f"body{row.path}", row.name


def _numeric(maker: RequestMaker, operation: Operation, address: str) -> bool:
    row = maker.row(operation, address)
    word = row.type.partition(" ")[0] if row else ""
    return (
        word in ("integer", "number", "int", "long", "short", "decimal")
        or "nteger" in word
        or word.startswith("unsigned")
    )


def next_in(wire: Wire, seen: Trial) -> Any:
    """The cursor or the URL of the next page; None where a response shows none."""
    told = wire.next_page(seen.exchange) if seen.exchange is not None else None
    if told is not None:
        return told
    value = seen.value
    for holder in _holders(value):
        for name, one in holder.items():
            if (
                plain(name) in _next()
                and isinstance(one, str | int)
                and not isinstance(one, bool)
                and one != ""
            ):
                return one
    return None


def tells_next(wire: Wire, seen: Trial) -> bool:
    """Whether an answer has a place for the next page, also where there is none."""
    return next_in(wire, seen) is not None or any(
        plain(name) in _next() for holder in _holders(seen.value) for name in holder
    )


def total_in(value: Any) -> int | None:
    """How many there are in all, as an answer says."""
    for holder in _holders(value):
        for name, one in holder.items():
            if plain(name) in _total() and isinstance(one, int) and not isinstance(one, bool):
                return one
    return None


def _holders(value: Any) -> Iterator[Mapping[str, Any]]:
    """The objects around a list: not its items."""
    if isinstance(value, dict):
        yield value
        for member in value.values():
            if isinstance(member, dict):
                yield member


async def pages(
    call: Call, maker: RequestMaker, listing: Operation, inputs: Inputs, values: Mapping[str, Any]
) -> AsyncIterator[Trial]:
    """Each page of a list in its turn; Unfillable where the first does not come."""
    paging = paging_of(maker, listing)
    given = dict(values)
    shown, asked = 0, set[str]()
    for number in range(MOST_PAGES):
        trial = await call(listing, with_values(inputs, given))
        if not trial.ok:
            if not number:
                raise Unfillable(f"{listing.id} returned {trial.code}")
            return
        yield trial
        count = len(items_in(trial.value) or [])
        shown += count
        onward = _onward(wire_of(maker.contract), paging, trial, shown, count, given)
        mark = json.dumps(onward, sort_keys=True, default=str)
        if onward is None or mark in asked:
            return
        asked.add(mark)
        given.update(onward)


def _onward(
    wire: Wire, paging: Paging, seen: Trial, shown: int, count: int, given: Mapping[str, Any]
) -> dict[str, Any] | None:
    """What to ask for next; None where there is no more."""
    if paging.cursor:
        following = next_in(wire, seen)
        if following is None or not count:
            return None
        return {paging.cursor: _cursor(following, paging.cursor)}
    if not paging.there or not count:
        return None
    total, limit = total_in(seen.value), given.get(paging.limit)
    if (total is not None and shown >= total) or (isinstance(limit, int) and count < limit):
        return None
    if paging.offset:
        return {paging.offset: shown}
    first = given.get(paging.page)
    return {paging.page: (first if isinstance(first, int) else 1) + 1}


def _cursor(following: Any, address: str) -> Any:
    """The cursor itself, where a URL tells it."""
    if isinstance(following, str) and (
        "?" in following or following.startswith(("http://", "https://", "/"))
    ):
        query = parse_qs(urlsplit(following).query)
        name = re.split(r"[./]", address)[-1]
        if query.get(name):
            return query[name][0]
    return following
