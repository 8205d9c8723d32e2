"""Filter expressions: read, and tried on an entity (URL conventions 4.0, section 5.1.1; V2, 4.5). What is not
certain is undecided.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import datetime
from decimal import Decimal
from functools import lru_cache
from typing import Any

from juxtalogos.formats.odata.wire.items import moment
from juxtalogos.formats.odata.wire.literals import value_of
from juxtalogos.model.schema import ABSENT

Lookup = Callable[[str], Any]
"""The value at a path of properties; ABSENT where there is none."""
Expression = Callable[[Lookup], Any]
MAX_LENGTH, MAX_DEPTH = 4_000, 60


class Undecided(Exception):
    """Nothing certain can be said: the service's collation, a function that is not known, a value that did
    not come.
    """


_TOKEN = re.compile(
    r"\s*(?:((?:[A-Za-z_][\w.]*)?'(?:[^']|'')*')|([(),])|((?:-?INF|NaN|null|true|false)(?![\w/]))"
    r"|(-?\d{4}-\d\d-\d\d(?:T[\d:.]+(?:Z|[+-]\d\d:\d\d)?)?|\d\d:\d\d(?::\d\d(?:\.\d+)?)?)(?![\w])"
    r"|([0-9a-fA-F]{8}-[0-9a-fA-F-]{27})|([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?[lLmMdDfF]?)(?![\w])|(@?\$?[A-Za-z_][\w./]*)|(\S))"
)


@lru_cache(maxsize=2_000)
def parse(text: str) -> Expression | None:
    """The expression; None where it uses what is not evaluated here."""
    if len(text) > MAX_LENGTH:
        return None
    try:
        return _Parser(text).whole()
    except (Undecided, RecursionError):
        return None


def holds(text: str, lookup: Lookup) -> bool | None:
    """Whether an entity fulfils a filter; None where that is not certain."""
    expression = parse(text)
    if expression is None:
        return None
    try:
        found = expression(lookup)
    except (Undecided, ArithmeticError, TypeError, ValueError, IndexError):
        return None
    return found if isinstance(found, bool) else None


class _Parser:
    def __init__(self, text: str) -> None:
        self.tokens = [found.groups() for found in _TOKEN.finditer(text.strip())]
        self.at = 0
        self.depth = 0

    def whole(self) -> Expression:
        found = self.either()
        if self.at != len(self.tokens):
            raise Undecided
        return found

    def word(self) -> str:
        """The word or sign that comes next; empty at the end."""
        if self.at >= len(self.tokens):
            return ""
        token = self.tokens[self.at]
        return token[6] or token[1] or token[7] or ""

    def taken(self, *words: str) -> str:
        word = self.word()
        if word in words:
            self.at += 1
            return word
        return ""

    def either(self) -> Expression:
        self.depth += 1
        if self.depth > MAX_DEPTH:
            raise Undecided
        found = self.both()
        while self.taken("or"):
            found = _or(found, self.both())
        self.depth -= 1
        return found

    def both(self) -> Expression:
        found = self.comparison()
        while self.taken("and"):
            found = _and(found, self.comparison())
        return found

    def comparison(self) -> Expression:
        if self.taken("not"):
            inner = self.comparison()
            return lambda lookup: not _truth(inner(lookup))
        left = self.sum()
        operator = self.taken("eq", "ne", "lt", "le", "gt", "ge")
        if not operator:
            return left
        return _compared(left, operator, self.sum())

    def sum(self) -> Expression:
        found = self.product()
        while operator := self.taken("add", "sub"):
            found = _computed(found, operator, self.product())
        return found

    def product(self) -> Expression:
        found = self.value()
        while operator := self.taken("mul", "div", "mod"):
            found = _computed(found, operator, self.value())
        return found

    def value(self) -> Expression:
        if self.at >= len(self.tokens):
            raise Undecided
        quoted, _, fixed, when, guid, number, name, _ = self.tokens[self.at]
        if self.taken("("):
            found = self.either()
            if not self.taken(")"):
                raise Undecided
            return found
        self.at += 1
        if name is not None:
            return self.call(name) if self.word() == "(" else _property(name)
        literal = quoted or fixed or when or guid or number
        if literal is None:
            raise Undecided
        value = _literal(literal, quoted is not None)
        return lambda lookup: value

    def call(self, name: str) -> Expression:
        function = _FUNCTIONS.get(name.lower())
        self.taken("(")
        given = [] if self.word() == ")" else [self.either()]
        while self.taken(","):
            given.append(self.either())
        if function is None or not self.taken(")"):
            raise Undecided
        return lambda lookup: function(*(one(lookup) for one in given))


def _literal(text: str, quoted: bool) -> Any:
    value = value_of(text)
    if isinstance(value, int | float) and not isinstance(value, bool):
        return Decimal(repr(value))
    if isinstance(value, str) and (not quoted or text.lower().startswith("datetime")):
        return moment(value) or value
    return value


def _property(name: str) -> Expression:
    def read(lookup: Lookup) -> Any:
        value = lookup(name)
        if value is ABSENT or isinstance(value, dict | list):
            raise Undecided
        return value

    return read


def _truth(value: Any) -> bool:
    if not isinstance(value, bool):
        raise Undecided
    return value


def _tried(one: Expression, lookup: Lookup) -> bool | None:
    try:
        return _truth(one(lookup))
    except Undecided:
        return None


def _and(one: Expression, other: Expression) -> Expression:
    def both(lookup: Lookup) -> bool:
        sides = _tried(one, lookup), _tried(other, lookup)
        if False in sides:
            return False
        if None in sides:
            raise Undecided
        return True

    return both


def _or(one: Expression, other: Expression) -> Expression:
    def either(lookup: Lookup) -> bool:
        sides = _tried(one, lookup), _tried(other, lookup)
        if True in sides:
            return True
        if None in sides:
            raise Undecided
        return False

    return either


def _compared(left: Expression, operator: str, right: Expression) -> Expression:
    def compare(lookup: Lookup) -> bool:
        one, other = left(lookup), right(lookup)
        if operator in ("eq", "ne"):
            same = _same(one, other)
            return same if operator == "eq" else not same
        if one is None or other is None:
            return False
        if isinstance(one, str) or isinstance(other, str) or type(one) is not type(other):
            raise Undecided  # texts are ordered by the service's own collation
        return bool({"lt": one < other, "le": one <= other, "gt": one > other, "ge": one >= other}[operator])

    return compare


def _same(one: Any, other: Any) -> bool:
    if one is None or other is None:
        return one is other
    if isinstance(one, str) and isinstance(other, str):
        if one != other and one.strip().casefold() == other.strip().casefold():
            raise Undecided
        return one == other
    if type(one) is not type(other):
        raise Undecided
    return bool(one == other)


def _computed(left: Expression, operator: str, right: Expression) -> Expression:
    def compute(lookup: Lookup) -> Any:
        one, other = left(lookup), right(lookup)
        if not isinstance(one, Decimal) or not isinstance(other, Decimal) or operator in ("div", "mod"):
            raise Undecided  # how integers divide depends on types that are not told here
        return {"add": one + other, "sub": one - other, "mul": one * other}[operator]

    return compute


def _text(function: Callable[[str, str], bool]) -> Callable[..., bool]:
    """A test of texts; what only letters' case decides is undecided."""

    def test(one: Any, other: Any) -> bool:
        if not isinstance(one, str) or not isinstance(other, str):
            raise Undecided
        if function(one, other) is not function(one.casefold(), other.casefold()):
            raise Undecided
        return function(one, other)

    return test


def _on(kind: type, function: Callable[[Any], Any]) -> Callable[..., Any]:
    def apply(one: Any) -> Any:
        if not isinstance(one, kind):
            raise Undecided
        return function(one)

    return apply


_contains = _text(lambda one, other: other in one)
_FUNCTIONS: dict[str, Callable[..., Any]] = {
    "contains": _contains,
    "substringof": lambda one, other: _contains(other, one),
    "startswith": _text(lambda one, other: one.startswith(other)),
    "endswith": _text(lambda one, other: one.endswith(other)),
    "length": _on(str, lambda one: Decimal(len(one))),
    "tolower": _on(str, str.lower),
    "toupper": _on(str, str.upper),
    "trim": _on(str, str.strip),
    "year": _on(datetime, lambda one: Decimal(one.year)),
    "month": _on(datetime, lambda one: Decimal(one.month)),
    "day": _on(datetime, lambda one: Decimal(one.day)),
}
