"""The laws that the pages of a list keep; and things to fill them with."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator
from dataclasses import dataclass
from typing import Any

from juxtalogos.compose.listing import Paging, items_in, next_in, paging_of, tells_next, total_in
from juxtalogos.explore.prober.prober import Trial
from juxtalogos.explore.prober.requests import Context, RequestMaker, Unfillable
from juxtalogos.explore.resources.kinds import ResourceKind
from juxtalogos.explore.resources.sandbox import Sandbox
from juxtalogos.model.contract import Operation
from juxtalogos.suite.inputs import with_values


@dataclass(frozen=True, slots=True)
class FullList:
    """A list with all that it holds."""

    listing: Operation
    paging: Paging
    context: Context
    first: Trial
    """The first answer."""
    items: list[Any]


async def whole_lists(sandbox: Sandbox, kind: ResourceKind, count: int) -> AsyncIterator[FullList]:
    """The lists of a kind, with so many things in them as this block makes; why one is not read is noted."""
    if not sandbox.prober.only_reading:
        await several(sandbox, kind, count)
    context = parent_context(sandbox, kind)
    for listing in kind.lists:
        try:
            first, everything = await sandbox.whole(listing, context)
        except Unfillable as error:
            sandbox.notes.setdefault(listing.id, str(error))
            continue
        yield FullList(listing, paging_of(sandbox.maker.rows, listing), context, first, everything)


async def pages_of_lists(sandbox: Sandbox, kind: ResourceKind) -> None:
    """Limits are kept, pages together are the whole, totals count."""
    async for one in whole_lists(sandbox, kind, 3):
        listing, paging, first, everything = one.listing, one.paging, one.first, one.items
        total = total_in(first.value)
        if total is not None and total != len(everything) and (paging.there or not paging.limit):
            sandbox.claim(first, "law.total-counts", "body", f"a total of {len(everything)}", f"{total}")
        if paging.limit:
            await _limited(sandbox, listing, paging, one.context, everything)
        if paging.page or paging.offset:
            await _from(sandbox, listing, paging, one.context, everything)


async def _limited(
    sandbox: Sandbox, listing: Operation, paging: Paging, context: Context, everything: list[Any]
) -> None:
    """Pages of one and of two, against the whole."""
    told = False
    for limit in (1, 2):
        if not takes(sandbox.maker, listing, paging.limit, limit):
            continue
        shown: list[Any] = []
        counts = []
        last: Trial | None = None
        async for seen in sandbox.pages(listing, context, {paging.limit: limit}):
            items = items_in(seen.value) or []
            if len(items) > limit:
                sandbox.claim(
                    seen, "law.page-bounded", paging.limit, f"at most {limit} items", f"{len(items)} items"
                )
                return
            if (
                len(items) < limit
                and len(shown) + len(items) < len(everything)
                and next_in(sandbox.wire, seen.exchange, seen.value) is None
            ):
                sandbox.claim(
                    seen,
                    "law.pages-whole",
                    paging.limit,
                    f"pages of {limit} while there are more",
                    f"{len(items)} items",
                )
                return
            total = total_in(seen.value)
            if total is not None and total != len(everything):
                sandbox.claim(
                    seen,
                    "law.total-counts",
                    "body",
                    f"a total of {len(everything)} on every page",
                    f"{total}",
                )
                return
            shown += items
            counts.append(len(items))
            last, told = seen, told or tells_next(sandbox.wire, seen.exchange, seen.value)
            if len(shown) > len(everything) + limit or len(counts) > 40:
                break
        if last is None or not paging.there or len(counts) > 40 or (paging.cursor and not told):
            return  # nothing says where the next page is
        compare_whole(sandbox, last, shown, everything, paging)


def compare_whole(
    sandbox: Sandbox, seen: Trial, shown: list[Any], everything: list[Any], paging: Paging
) -> None:
    """Whether pages hold each item once."""
    marks = [_mark(one) for one in shown]
    twice = len(marks) - len(set(marks))
    missing = len({_mark(operation) for operation in everything} - set(marks))
    if twice or missing:
        sandbox.claim(
            seen,
            "law.pages-whole",
            paging.cursor or paging.offset or paging.page,
            f"{len(everything)} items, each once",
            f"{len(shown)}, {twice} twice, {missing} missing",
        )


async def _from(
    sandbox: Sandbox, listing: Operation, paging: Paging, context: Context, everything: list[Any]
) -> None:
    """What begins further behind leaves out just what stands before."""
    if not paging.offset or len(everything) < 2 or not takes(sandbox.maker, listing, paging.offset, 1):
        return
    inputs, _ = await sandbox.fill(listing, context)
    seen = await sandbox.call(listing, with_values(inputs, {paging.offset: 1}))
    found = items_in(seen.value) or [] if seen.ok else []
    if (
        seen.ok
        and found
        and [_mark(item) for item in found]
        != [_mark(operation) for operation in everything[1 : 1 + len(found)]]
    ):
        sandbox.claim(
            seen,
            "law.pages-whole",
            paging.offset,
            "what follows the first item",
            f"{len(found)} items, others",
        )


def _mark(value: Any) -> str:
    return json.dumps(value, sort_keys=True, default=str)


def takes(maker: RequestMaker, operation: Operation, address: str, value: Any) -> bool:
    """Whether the definition allows a value for an input."""
    one = maker.input_of(operation, address)
    if one is not None:
        return one.schema is None or maker.contract.schema(one.schema).accepts(value)
    row = maker.row(operation, address)
    media = operation.body.media[0] if operation.body and operation.body.media else None
    if row is None or media is None or media.schema is None:
        return True
    return not maker.contract.schema(media.schema).check_part(row, value)


def parent_context(sandbox: Sandbox, kind: ResourceKind) -> dict[str, Trial]:
    """What the lists of a kind are asked for with: what this block made things below."""
    found = [thing for thing in sandbox.things if thing.kind is kind]
    return dict(found[-1].context) if found else {}


async def several(sandbox: Sandbox, kind: ResourceKind, count: int) -> None:
    """So many things of a kind that differ, below one parent; fewer where no more can be made."""
    context: dict[str, Trial] = {}
    for number in range(count):
        try:
            thing = await sandbox.make(kind, context, full=bool(number % 2 == 0), seed=number)
        except Unfillable as error:
            if kind.creator is not None:
                sandbox.notes.setdefault(kind.creator.id, str(error))
            return
        context = {name: seen for name, seen in thing.context.items() if name != thing.made.operation.id}
