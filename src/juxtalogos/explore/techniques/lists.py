"""Queries of lists, on data that makes them matter: filters give what has the value and nothing else, sorting
sorts.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from juxtalogos.compose.listing import optional_inputs, total_in
from juxtalogos.conventions.naming import plain, words_of
from juxtalogos.conventions.words import word_set
from juxtalogos.explore.prober.comparing import same, told
from juxtalogos.explore.prober.prober import Trial
from juxtalogos.explore.prober.requests import Context, Unfillable
from juxtalogos.explore.resources.kinds import ResourceKind
from juxtalogos.explore.resources.sandbox import Sandbox
from juxtalogos.explore.techniques.paging import takes, whole_lists
from juxtalogos.model.contract import Operation

Meaning = Callable[[Any, Any], bool]
"""(value of the item, value that was asked for) -> whether the item has it."""
_least, _most, _beyond, _sort = (
    word_set("filters.least"),
    word_set("filters.most"),
    word_set("filters.beyond"),
    word_set("filters.sort"),
)
"""Words of filters; `beyond` are those of which nobody can tell whether the value itself is meant too."""
MOST_PROBES = 8


def _equal(has: Any, asked: Any) -> bool:
    if isinstance(has, list):
        return any(_equal(one, asked) for one in has)
    if isinstance(has, bool):
        return str(has).lower() == str(asked).lower()
    return has is not None and same(has, asked)


def _contains(has: Any, asked: Any) -> bool:
    return isinstance(has, str) and str(asked).casefold() in has.casefold()


def _begins(has: Any, asked: Any) -> bool:
    return isinstance(has, str) and has.casefold().startswith(str(asked).casefold())


def _ordered(test: Callable[[Any, Any], bool]) -> Meaning:
    def meaning(has: Any, asked: Any) -> bool:
        try:
            return has is not None and bool(test(has, asked))
        except TypeError:
            return False

    return meaning


EQUAL: dict[str, Meaning] = {
    "equal": _equal,
    "contains": _contains,
    "begins with": _begins,
    "whole word": (
        lambda has, asked: isinstance(has, str) and str(asked).casefold() in re.split(r"\W+", has.casefold())
    ),
}
AT_LEAST: dict[str, Meaning] = {
    "at least": _ordered(lambda has, asked: has >= asked),
    "more than": _ordered(lambda has, asked: has > asked),
}
AT_MOST: dict[str, Meaning] = {
    "at most": _ordered(lambda has, asked: has <= asked),
    "less than": _ordered(lambda has, asked: has < asked),
}


def meanings(name: str, member: str) -> dict[str, Meaning]:
    """What an input of that name may mean for a member, by what it is called."""
    if plain(name) == plain(member):
        return EQUAL
    rest = {word for word in words_of(name) if word not in words_of(member)}
    if rest & _least():
        return AT_LEAST if rest & _beyond() else {"at least": AT_LEAST["at least"]}
    if rest & _most():
        return AT_MOST if rest & _beyond() else {"at most": AT_MOST["at most"]}
    return {}


async def queries(sandbox: Sandbox, kind: ResourceKind) -> None:
    """Each filter with each value that the data has, each order."""
    async for whole in whole_lists(sandbox, kind, 4):
        listing, paging, context = whole.listing, whole.paging, whole.context
        items = [item for item in whole.items if isinstance(item, dict)]
        if len(items) < 2:
            continue
        for address, name in optional_inputs(sandbox.maker.rows, listing):
            if address in (paging.limit, paging.offset, paging.page, paging.cursor):
                continue
            if plain(name) in _sort():
                await _sorted(sandbox, listing, context, address)
                continue
            member = _member(name, items)
            if member is not None:
                await _filtered(sandbox, listing, context, address, name, member, items)


def _member(name: str, items: Sequence[Mapping[str, Any]]) -> str | None:
    """The member of the items that a filter is about: called the same, or as what is left without `min` and
    its like.
    """
    names = list(dict.fromkeys(key for item in items for key in item))
    exact = next((one for one in names if plain(one) == plain(name)), None)
    if exact is not None:
        return exact
    rest = "".join(word for word in words_of(name) if word not in _least() and word not in _most())
    return next((one for one in names if plain(one) == rest), None) if rest and rest != plain(name) else None


async def _filtered(
    sandbox: Sandbox,
    listing: Operation,
    context: Context,
    address: str,
    name: str,
    member: str,
    items: Sequence[Mapping[str, Any]],
) -> None:
    """Keeps every meaning that the name allows, and drops what an answer contradicts; tells when none is
    left.
    """
    left = dict(meanings(name, member))
    key = key_member(items)
    if not left or key is None:
        return
    for value in _probes(sandbox, listing, address, member, items, left):
        given = next((one for one in (value, [value]) if takes(sandbox.maker, listing, address, one)), None)
        if given is None:
            continue
        try:
            seen, found = await sandbox.whole(listing, context, {address: given})
        except Unfillable:
            return
        shown = {str(item.get(key)) for item in found if isinstance(item, dict)}
        before = dict(left)
        left = {
            word: test
            for word, test in left.items()
            if shown == {str(item.get(key)) for item in items if test(item.get(member), value)}
        }
        if not left:
            word, test = next(iter(before.items()))
            wanted = {str(item.get(key)) for item in items if test(item.get(member), value)}
            sandbox.claim(
                seen,
                "law.filter-keeps",
                address,
                f"items with {member} {word} the value",
                f"{told(value)}: {len(shown - wanted)} others, {len(wanted - shown)} missing",
            )
            return
        total = total_in(seen.value)
        if total is not None and total != len(found):
            sandbox.claim(
                seen,
                "law.total-counts",
                address,
                "a total of what the filter gives",
                f"{total} for {len(found)} items",
            )
            return


def _probes(
    sandbox: Sandbox,
    listing: Operation,
    address: str,
    member: str,
    items: Sequence[Mapping[str, Any]],
    left: Mapping[str, Meaning],
) -> list[Any]:
    """Values to ask for: those of the items, one that none has, and parts of texts."""
    values: list[Any] = []
    for one in items:
        value = one.get(member)
        for each in value if isinstance(value, list) else [value]:
            if isinstance(each, str | int | float) and each not in values and each != "":
                values.append(each)
    numbers = [one for one in values if isinstance(one, int | float) and not isinstance(one, bool)]
    whole = _declared_whole(sandbox, listing, address)
    if numbers and whole:
        values = list(
            dict.fromkeys(
                [
                    *(one for one in values if one == int(one)),
                    *(int(number) for number in numbers),
                    *(int(number) + 1 for number in numbers),
                ]
            )
        )
    texts = [one for one in values if isinstance(one, str) and len(one) > 4]
    if texts and left is not AT_LEAST and left is not AT_MOST:
        values[1:1] = [texts[0][1:-1]]
    values += [choice for choice in sandbox.maker.choices(listing, address) if choice not in values]
    if any(isinstance(one, bool) for one in values):
        values = [True, False]
    return values[:MOST_PROBES]


def _declared_whole(sandbox: Sandbox, listing: Operation, address: str) -> bool:
    row = sandbox.maker.row(listing, address)
    return row is not None and (row.type.startswith(("integer", "int", "long")) or "nteger" in row.type)


def key_member(items: Sequence[Mapping[str, Any]]) -> str | None:
    """The member that tells the items apart: `id` and its like before others."""
    names = [name for name in items[0] if all(isinstance(item.get(name), str | int) for item in items)]
    telling = [name for name in names if len({str(item[name]) for item in items}) == len(items)]
    telling.sort(key=lambda name: not re.search(r"(?:^id|Id|ID|_id|No|Number|[Cc]ode|[Kk]ey)$", name))
    return telling[0] if telling else None


async def _sorted(sandbox: Sandbox, listing: Operation, context: Context, address: str) -> None:
    """Each declared order: numbers in theirs, texts in one of the usual ones, or at least the reverse of the
    opposite order.
    """
    shown: dict[str, tuple[Trial, list[Any], str]] = {}
    for order in [choice for choice in sandbox.maker.choices(listing, address) if isinstance(choice, str)][
        :8
    ]:
        try:
            seen, found = await sandbox.whole(listing, context, {address: order})
        except Unfillable:
            continue
        if not found or not all(isinstance(item, dict) for item in found):
            continue
        member = _ordering(order, found)
        if member is not None:
            shown[order] = seen, [item.get(member) for item in found], member
    for order, (seen, values, member) in shown.items():
        down = _down(order)
        opposite = next(
            (
                other
                for name, (_, other, same_member) in shown.items()
                if same_member == member and _down(name) != down
            ),
            None,
        )
        if not in_order(values[::-1] if down else values) and not (
            opposite is not None and opposite[::-1] == values and _texts(values)
        ):
            sandbox.claim(
                seen,
                "law.sorted",
                f"{address} {order}",
                f"items by {member}, {'falling' if down else 'rising'}",
                told(values[:6]),
            )


def _down(order: str) -> bool:
    return order.startswith("-") or bool(re.search(r"desc", order, re.IGNORECASE))


def _ordering(order: str, items: Sequence[Mapping[str, Any]]) -> str | None:
    wanted = plain(re.sub(r"(?i)^[-+]|[ _:.-]*(?:asc|desc)(?:ending)?$", "", order))
    return next((name for name in items[0] if plain(name) == wanted), None)


def _texts(values: list[Any]) -> bool:
    return any(isinstance(value, str) for value in values)


def in_order(values: list[Any]) -> bool:
    """Whether values rise: numbers as such, texts by their code points, without case, or by letters and
    digits only.
    """
    there = [value for value in values if value is not None]
    if not all(isinstance(entry, int | float) for entry in there) and not all(
        isinstance(entry, str) for entry in there
    ):
        return True
    if all(isinstance(entry, int | float) for entry in there):
        return _rises(there)
    ways: tuple[Callable[[str], Any], ...] = (str, str.casefold, plain, _natural)
    return any(_rises([way(entry) for entry in there]) for way in ways)


def _natural(text: str) -> list[tuple[int, Any]]:
    return [
        (0, int(part)) if part.isdigit() else (1, part.casefold())
        for part in re.split(r"(\d+)", text)
        if part
    ]


def _rises(values: list[Any]) -> bool:
    return all(one <= other for one, other in itertools.pairwise(values))
