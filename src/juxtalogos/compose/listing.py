"""Lists: the items in a response, and how the next page of a list is asked for."""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import parse_qs, urlsplit

from juxtalogos.compose.outlines import Rows
from juxtalogos.conventions.naming import plain
from juxtalogos.conventions.words import word_set
from juxtalogos.model.contract import Operation
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.wire import Wire

_inputs = {name: word_set(f"paging.{name}") for name in ("limit", "offset", "page", "cursor")}
_next, _total = word_set("paging.next"), word_set("paging.total")
MOST_PAGES = 60


def items_in(value: Any) -> list[Any] | None:
    """The items of a list's answer: the shallowest list; None where there is none. Of XML an answer without
    items has none.
    """
    waiting: deque[tuple[int, Any]] = deque([(0, value)])
    while waiting:
        depth, one = waiting.popleft()
        if isinstance(one, list):
            return one
        if isinstance(one, dict) and depth < 3:
            waiting += [(depth + 1, inner) for inner in one.values()]
    return None


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


def paging_of(rows: Rows, listing: Operation) -> Paging:
    """How a list's pages are asked for, by what its inputs are called."""
    found: dict[str, str] = {}
    for address, name, kind in _optional(rows, listing):
        for what, names in _inputs.items():
            if plain(name) in names() and (what == "cursor" or _numeric(kind)):
                found.setdefault(what, address)
    return Paging(**found)


def optional_inputs(rows: Rows, operation: Operation) -> Iterator[tuple[str, str]]:
    """(address, name) of what need not be given: in the query, and at the top of a body."""
    for address, name, _ in _optional(rows, operation):
        yield address, name


def _optional(rows: Rows, operation: Operation) -> Iterator[tuple[str, str, str]]:
    for declared_input in operation.inputs:
        if declared_input.place == "query":
            row = next(iter(rows.of(declared_input.schema, 0)), None)
            yield declared_input.address, declared_input.name.lstrip("$"), row.type if row else ""
    for row in rows.sent(operation):
        if row.depth == 1 and row.scalar:
            yield f"body{row.path}", row.name, row.type


def _numeric(kind: str) -> bool:
    word = kind.partition(" ")[0]
    return (
        word in ("integer", "number", "int", "long", "short", "decimal")
        or "nteger" in word
        or word.startswith("unsigned")
    )


def next_in(wire: Wire, exchange: Exchange | None, value: Any) -> Any:
    """The cursor or the URL of the next page; None where a response shows none."""
    told = wire.next_page(exchange) if exchange is not None else None
    if told is not None:
        return told
    for holder in _holders(value):
        for name, member in holder.items():
            if (
                plain(name) in _next()
                and isinstance(member, str | int)
                and not isinstance(member, bool)
                and member != ""
            ):
                return member
    return None


def tells_next(wire: Wire, exchange: Exchange | None, value: Any) -> bool:
    """Whether an answer has a place for the next page, also where there is none."""
    return next_in(wire, exchange, value) is not None or any(
        plain(name) in _next() for holder in _holders(value) for name in holder
    )


def total_in(value: Any) -> int | None:
    """How many there are in all, as an answer says."""
    for holder in _holders(value):
        for name, member in holder.items():
            if plain(name) in _total() and isinstance(member, int) and not isinstance(member, bool):
                return member
    return None


def _holders(value: Any) -> Iterator[Mapping[str, Any]]:
    """The objects around a list: not its items."""
    if isinstance(value, dict):
        yield value
        for member in value.values():
            if isinstance(member, dict):
                yield member


def onward(
    wire: Wire,
    paging: Paging,
    exchange: Exchange | None,
    value: Any,
    shown: int,
    count: int,
    given: Mapping[str, Any],
) -> dict[str, Any] | None:
    """The inputs that ask for the next page; None where there is no more.

    `shown`: items so far, with this page; `count`: items of this page; `given`: the inputs that asked for it.
    """
    if paging.cursor:
        following = next_in(wire, exchange, value)
        if following is None or not count:
            return None
        return {paging.cursor: _cursor(following, paging.cursor)}
    if not paging.there or not count:
        return None
    total, limit = total_in(value), given.get(paging.limit)
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
