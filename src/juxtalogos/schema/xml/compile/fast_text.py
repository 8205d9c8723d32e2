"""Tests of texts that are sound mostly: a type's own form, limits and patterns, without
saying what is wrong.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from decimal import Decimal
from typing import Any

from juxtalogos.schema.xml.tree.simple_types import SimpleType
from juxtalogos.schema.xml.tree.value_spaces import FORMS

Test = Callable[[str], bool]
_EASY_DAY = r"-(?:0[1-9]|1[0-2])-(?:0[1-9]|1\d|2[0-8])"
_EASY_ZONE = r"(?:Z|[+-](?:0\d|1[0-3]):[0-5]\d)?"
_EASY_CLOCK = r"(?:[01]\d|2[0-3]):[0-5]\d:[0-5]\d(?:\.\d+)?"
_EASY: dict[str, re.Pattern[str]] = {
    "date": re.compile(rf"[1-9]\d{{3}}{_EASY_DAY}{_EASY_ZONE}", re.ASCII),
    "dateTime": re.compile(rf"[1-9]\d{{3}}{_EASY_DAY}T{_EASY_CLOCK}{_EASY_ZONE}", re.ASCII),
    "time": re.compile(rf"{_EASY_CLOCK}{_EASY_ZONE}", re.ASCII),
    "gYear": re.compile(r"[1-9]\d{3}", re.ASCII),
}
"""Forms of values that surely are some: no month ends before its 28th day."""
_INTEGER = re.compile(r"[+-]?[0-9]{1,18}")
_BOUNDS = ("minInclusive", "maxInclusive")


def WHOLE(text: str) -> bool:
    """Stands for the test of types whose values concern the whole document: ID and IDREF."""
    raise NotImplementedError


def text_test(kind: SimpleType) -> Test | None:
    """A test of every text; None where every text is a value."""
    if _concerns_all(kind):
        return WHOLE
    if kind.needs_scope:
        return lambda text: False  # prefixes belong to a place: the checker knows it
    free = kind.primitive in ("string", "anySimpleType") and kind.variety == "atomic" and not kind.unread
    return (
        None
        if free and not (kind.facets or kind.patterns or kind.enumeration)
        else lambda text: kind.accepts(text, {})
    )


def _concerns_all(kind: SimpleType) -> bool:
    inner = (*kind.members, *((kind.item,) if kind.item else ()))
    return kind.kind in ("ID", "IDREF", "IDREFS", "ENTITY", "ENTITIES") or any(map(_concerns_all, inner))


def easy_test(kind: SimpleType) -> Callable[[str], Any] | None:
    """A quick test that is true only of values, though not of all; None where there is none."""
    if kind.variety != "atomic" or kind.enumeration or kind.unread or _concerns_all(kind):
        return None
    if kind.primitive == "decimal" and set(kind.facets) <= set(_BOUNDS):
        return _number(kind)
    if kind.primitive == "string":
        return _string(kind)
    if kind.facets or kind.patterns:
        return None
    form = _EASY.get(kind.primitive) or (
        FORMS.get(kind.primitive) if kind.primitive in ("float", "double", "boolean") else None
    )
    return form.fullmatch if form is not None else None


def _number(kind: SimpleType) -> Callable[[str], Any] | None:
    least, most = (kind.facets[name].value if name in kind.facets else None for name in _BOUNDS)
    own = [facets for facets, _ in kind.patterns if facets]
    if own:
        return None
    if kind.patterns:  # an integer
        low = -(10**18) if least is None else int(least) if least == int(least) else int(least) + (least > 0)
        high = 10**18 if most is None else int(most) if most == int(most) else int(most) - (most < 0)
        match = _INTEGER.fullmatch
        return lambda text: match(text) and low <= int(text) <= high
    form = FORMS["decimal"].fullmatch
    if least is None and most is None:
        return form
    lowest, highest = (
        Decimal("-Infinity") if least is None else least,
        (Decimal("Infinity") if most is None else most),
    )
    return lambda text: len(text) < 25 and form(text) and lowest <= Decimal(text) <= highest


def _string(kind: SimpleType) -> Callable[[str], Any] | None:
    """By patterns that need no time limit, and by length, of texts that white space leaves as they are."""
    tests: list[Callable[[str], Any]] = []
    for _, patterns in kind.patterns:
        plain = patterns[0].plain_search() if len(patterns) == 1 else None
        if plain is None:
            return None
        tests.append(plain)
    if not set(kind.facets) <= {"length", "minLength", "maxLength"}:
        return None
    least = max(
        (kind.facets[name].value for name in ("length", "minLength") if name in kind.facets), default=0
    )
    most = min(
        (kind.facets[name].value for name in ("length", "maxLength") if name in kind.facets), default=1 << 60
    )
    blanks = re.compile(r"[\t\r\n]|^ | $|  ").search if kind.space != "preserve" else None
    if blanks is not None:
        tests.insert(0, lambda text: blanks(text) is None)
    bounded = least > 0 or most < 1 << 60
    if len(tests) == 1 and not bounded:
        return tests[0]
    return lambda text: least <= len(text) <= most and all(test(text) for test in tests)
