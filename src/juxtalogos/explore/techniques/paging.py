"""Lists that come in pages: how they are asked for, and the laws that their pages keep."""

from __future__ import annotations

import json
import re
from collections.abc import AsyncIterator, Iterator, Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import TYPE_CHECKING, Any
from urllib.parse import parse_qs, urlsplit

from juxtalogos.explore.bench import Seen
from juxtalogos.explore.comparing import items_in
from juxtalogos.explore.kinds import Kind
from juxtalogos.explore.values import Context, Maker, Unfillable
from juxtalogos.formats.naming import plain
from juxtalogos.model.contract import Operation
from juxtalogos.suite.inputs import with_values

if TYPE_CHECKING:
    from juxtalogos.explore.yard import Yard

_LIMIT = frozenset(("limit", "pagesize", "perpage", "size", "count", "top", "max", "maxresults", "maxitems", "first", "take", "pagelimit", "pagelength", "rows", "howmany", "atmost", "most"))  # fmt: skip
_OFFSET = frozenset(("offset", "skip", "start", "startindex", "from", "startat", "firstresult"))
_PAGE = frozenset(("page", "pagenumber", "pageno", "pagenr", "pageindex"))
_CURSOR = frozenset(("after", "cursor", "next", "pagetoken", "continuation", "continuationtoken", "marker", "startafter", "nexttoken", "token", "bookmark", "nextcursor"))  # fmt: skip
_NEXT = frozenset(("next", "nextcursor", "nextpage", "nextpagetoken", "nexttoken", "cursor", "continuation", "continuationtoken", "marker", "after", "nextmarker", "nextlink", "bookmark"))  # fmt: skip
_TOTAL = frozenset(("total", "totalcount", "totalitems", "totalresults", "count", "totalelements", "overall", "matched", "found"))  # fmt: skip
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


def paging_of(maker: Maker, listing: Operation) -> Paging:
    """How a list's pages are asked for, by what its inputs are called."""
    found: dict[str, str] = {}
    for address, name in optional_inputs(maker, listing):
        for what, names in (("limit", _LIMIT), ("offset", _OFFSET), ("page", _PAGE), ("cursor", _CURSOR)):
            if plain(name) in names and (what == "cursor" or _numeric(maker, listing, address)):
                found.setdefault(what, address)
    return Paging(**found)


def optional_inputs(maker: Maker, operation: Operation) -> Iterator[tuple[str, str]]:
    """(address, name) of what need not be given: in the query, and at the top of a body."""
    for one in operation.inputs:
        if one.place == "query":
            yield one.address, one.name.lstrip("$")
    for row in maker.rows.sent(operation):
        if row.depth == 1 and row.scalar:
            yield f"body{row.path}", row.name


def _numeric(maker: Maker, operation: Operation, address: str) -> bool:
    row = maker.row(operation, address)
    word = row.type.partition(" ")[0] if row else ""
    return word in ("integer", "number", "int", "long", "short", "decimal") or "nteger" in word or word.startswith("unsigned")  # fmt: skip


def next_in(seen: Seen) -> Any:
    """What an answer tells of the next page: a cursor or a URL; None where it tells of none."""
    link = seen.header("link")
    found = re.search(r'<([^>]*)>\s*;[^,]*rel="?next"?', link) if link else None
    if found:
        return found[1]
    response = seen.exchange.response if seen.exchange else None
    for name, text in response.headers if response else ():
        if ("next" in plain(name) and "page" in plain(name)) or plain(name) in ("xnext", "xnextcursor", "xnexttoken"):
            return text
    value = seen.value
    for holder in _holders(value):
        for name, one in holder.items():
            if plain(name) in _NEXT and isinstance(one, str | int) and not isinstance(one, bool) and one != "":
                return one
    return None


def tells_next(seen: Seen) -> bool:
    """Whether an answer has a place for the next page, also where there is none."""
    return next_in(seen) is not None or any(plain(name) in _NEXT for holder in _holders(seen.value) for name in holder)


def total_in(value: Any) -> int | None:
    """How many there are in all, as an answer says."""
    for holder in _holders(value):
        for name, one in holder.items():
            if plain(name) in _TOTAL and isinstance(one, int) and not isinstance(one, bool):
                return one
    return None


def _holders(value: Any) -> Iterator[Mapping[str, Any]]:
    """The objects around a list: not its items."""
    if isinstance(value, dict):
        yield value
        for one in value.values():
            if isinstance(one, dict):
                yield one


async def pages(yard: Yard, listing: Operation, context: Context, values: Mapping[str, Any] = MappingProxyType({})) -> AsyncIterator[Seen]:  # fmt: skip
    """Each page of a list in its turn; Unfillable where the first does not come."""
    paging = paging_of(yard.maker, listing)
    inputs, _ = await yard.fill(listing, context)
    given = dict(values)
    shown, asked = 0, set[str]()
    for number in range(MOST_PAGES):
        seen = await yard.call(listing, with_values(inputs, given))
        if not seen.ok:
            if not number:
                raise Unfillable(f"{listing.id} was answered with {seen.outcome}")
            return
        yield seen
        count = len(items_in(seen.value) or [])
        shown += count
        onward = _onward(paging, seen, shown, count, number, given)
        mark = json.dumps(onward, sort_keys=True, default=str)
        if onward is None or mark in asked:
            return
        asked.add(mark)
        given.update(onward)


def _onward(paging: Paging, seen: Seen, shown: int, count: int, number: int, given: Mapping[str, Any]) -> dict[str, Any] | None:  # fmt: skip
    """What to ask for next; None where there is no more."""
    if paging.cursor:
        following = next_in(seen)
        if following is None or not count:
            return None
        return {paging.cursor: _cursor(following, paging.cursor)}
    if not paging.there or not count:
        return None
    total, limit = total_in(seen.value), given.get(paging.limit)
    if (total is not None and shown >= total) or (isinstance(limit, int) and count < limit):  # fmt: skip
        return None
    if paging.offset:
        return {paging.offset: shown}
    first = given.get(paging.page)
    return {paging.page: (first if isinstance(first, int) else 1) + 1}


def _cursor(following: Any, address: str) -> Any:
    """The cursor itself, where a URL tells it."""
    if isinstance(following, str) and ("?" in following or following.startswith(("http://", "https://", "/"))):
        query = parse_qs(urlsplit(following).query)
        name = re.split(r"[./]", address)[-1]
        if query.get(name):
            return query[name][0]
    return following


async def pages_of_lists(yard: Yard, kind: Kind) -> None:
    """Limits are kept, pages together are the whole, totals count."""
    if not yard.bench.only_reading:
        await several(yard, kind, 3)
    context = parent_context(yard, kind)
    for listing in kind.lists:
        paging = paging_of(yard.maker, listing)
        try:
            first, everything = await yard.whole(listing, context)
        except Unfillable as error:
            yard.notes.setdefault(listing.id, str(error))
            continue
        total = total_in(first.value)
        if total is not None and total != len(everything) and (paging.there or not paging.limit):
            yard.claim(first, "law.total-counts", "body", f"a total of {len(everything)}", f"{total}")
        if paging.limit:
            await _limited(yard, listing, paging, context, everything)
        if paging.page or paging.offset:
            await _from(yard, listing, paging, context, everything)


async def _limited(yard: Yard, listing: Operation, paging: Paging, context: Context, everything: list[Any]) -> None:
    """Pages of one and of two, against the whole."""
    told = False
    for limit in (1, 2):
        if not takes(yard.maker, listing, paging.limit, limit):
            continue
        shown: list[Any] = []
        counts = []
        last: Seen | None = None
        async for seen in pages(yard, listing, context, {paging.limit: limit}):
            items = items_in(seen.value) or []
            if len(items) > limit:
                yard.claim(seen, "law.page-bounded", paging.limit, f"at most {limit} items", f"{len(items)} items")
                return
            if len(items) < limit and len(shown) + len(items) < len(everything) and next_in(seen) is None:
                yard.claim(seen, "law.pages-whole", paging.limit, f"pages of {limit} while there are more", f"{len(items)} items")  # fmt: skip
                return
            total = total_in(seen.value)
            if total is not None and total != len(everything):
                yard.claim(seen, "law.total-counts", "body", f"a total of {len(everything)} on every page", f"{total}")
                return
            shown += items
            counts.append(len(items))
            last, told = seen, told or tells_next(seen)
            if len(shown) > len(everything) + limit or len(counts) > 40:
                break
        if last is None or not paging.there or len(counts) > 40 or (paging.cursor and not told):
            return  # nothing says where the next page is
        compare_whole(yard, last, shown, everything, paging)


def compare_whole(yard: Yard, seen: Seen, shown: list[Any], everything: list[Any], paging: Paging) -> None:
    """Whether pages hold each item once."""
    marks = [json.dumps(one, sort_keys=True, default=str) for one in shown]
    twice = len(marks) - len(set(marks))
    missing = len({json.dumps(one, sort_keys=True, default=str) for one in everything} - set(marks))
    if twice or missing:
        yard.claim(seen, "law.pages-whole", paging.cursor or paging.offset or paging.page, f"{len(everything)} items, each once", f"{len(shown)}, {twice} twice, {missing} missing")  # fmt: skip


async def _from(yard: Yard, listing: Operation, paging: Paging, context: Context, everything: list[Any]) -> None:
    """What begins further behind leaves out just what stands before."""
    if not paging.offset or len(everything) < 2 or not takes(yard.maker, listing, paging.offset, 1):
        return
    inputs, _ = await yard.fill(listing, context)
    seen = await yard.call(listing, with_values(inputs, {paging.offset: 1}))
    found = items_in(seen.value) or [] if seen.ok else []
    if seen.ok and found and [_mark(one) for one in found] != [_mark(one) for one in everything[1 : 1 + len(found)]]:
        yard.claim(seen, "law.pages-whole", paging.offset, "what stands behind the first item", f"{len(found)} items, others")  # fmt: skip


def _mark(value: Any) -> str:
    return json.dumps(value, sort_keys=True, default=str)


def takes(maker: Maker, operation: Operation, address: str, value: Any) -> bool:
    """Whether the definition allows a value for an input."""
    one = maker.input_of(operation, address)
    if one is not None:
        return one.schema is None or maker.contract.schema(one.schema).accepts(value)
    row = maker.row(operation, address)
    media = operation.body.media[0] if operation.body and operation.body.media else None
    if row is None or media is None or media.schema is None:
        return True
    return not maker.contract.schema(media.schema).check_part(row, value)


def parent_context(yard: Yard, kind: Kind) -> dict[str, Seen]:
    """What the lists of a kind are asked for with: what this block made things below."""
    found = [one for one in yard.things if one.kind is kind]
    return dict(found[-1].context) if found else {}


async def several(yard: Yard, kind: Kind, count: int) -> None:
    """So many things of a kind that differ, below one parent; fewer where no more can be made."""
    context: dict[str, Seen] = {}
    for number in range(count):
        try:
            thing = await yard.make(kind, context, full=bool(number % 2 == 0), seed=number)
        except Unfillable as error:
            if kind.creator is not None:
                yard.notes.setdefault(kind.creator.id, str(error))
            return
        context = {name: seen for name, seen in thing.context.items() if name != thing.made.operation.id}
