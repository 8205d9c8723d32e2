"""Moments and limits that belong together: a start before its end, an end that is still to come, a lower
limit below its upper one.

Which is which is told by the words of their names (`conventions`, group `moments`).
"""

from __future__ import annotations

import re
from collections.abc import Container, Iterable, Iterator, Mapping
from typing import Any

from juxtalogos.conventions.naming import words_of
from juxtalogos.conventions.words import word_set

_begins = word_set("moments.start")
_ends = word_set("moments.end")
_future = word_set("moments.future")
_least = word_set("moments.least")
_most = word_set("moments.most")
_MOMENT = re.compile(r"\d{4}-\d\d-\d\d(T\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:\d\d)?)?")
START, END = 30, 60
"""Days from now of what begins and of what ends: no service takes them for past, few for too far away."""


def moment_formulas(values: Mapping[str, Any], own: Container[str]) -> Iterator[tuple[str, str]]:
    """(address, formula) of the moments among the values that are `own`, made up, and are to lie ahead: what
    ends or falls due, and what begins where something beside it ends. In a query what begins stays, for it
    asks for what was.
    """
    for group in _beside(values):
        moments = {address: found for address, value in group.items() if (found := _moment(value))}
        ends = [address for address in moments if _is(address, _ends())]
        begins = [address for address in moments if _is(address, _begins()) and address not in ends]
        for address in ends:
            if address in own and (begins or _is(address, _future())):
                yield address, _ahead(moments[address], END)
        for address in begins if ends else ():
            if address in own and not address.startswith("query."):
                yield address, _ahead(moments[address], START)


def ordered_limits(values: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
    """(address, value) of upper limits that are equal to the lower one beside them: one more."""
    for group in _beside(values):
        numbers = {at: value for at, value in group.items() if type(value) in (int, float)}
        least = [value for address, value in numbers.items() if _is(address, _least())]
        for address, value in numbers.items():
            if least and _is(address, _most()) and value <= max(least):
                yield address, max(least) + 1


def _beside(values: Mapping[str, Any]) -> Iterable[dict[str, Any]]:
    """Values by the object, or the place, that they stand in."""
    groups: dict[str, dict[str, Any]] = {}
    for address, value in values.items():
        above = address.rpartition("/")[0] if "/" in address else address.partition(".")[0]
        groups.setdefault(above, {})[address] = value
    return groups.values()


def _moment(value: Any) -> re.Match[str] | None:
    return _MOMENT.fullmatch(value) if isinstance(value, str) else None


def _is(address: str, words: frozenset[str]) -> bool:
    name = re.split(r"[/.]", address)[-1]
    return not words.isdisjoint(words_of(name))


def _ahead(sample: re.Match[str], days: int) -> str:
    return f"format(today() + days({days}), 'YYYY-MM-DD{sample[1] or ''}')"
