"""Simple types: their facets, and whether a text is one of their values (XSD 1.0 part 2, sections 2, 4 and
5).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from decimal import Decimal
from typing import TYPE_CHECKING, Any, Protocol

from juxtalogos.model.location import Location
from juxtalogos.schema.xml.tree.value_spaces import FORMS, JUDGED, READERS, Scope, compare

if TYPE_CHECKING:
    from juxtalogos.schema.patterns.parse import Node

XSD = "http://www.w3.org/2001/XMLSchema"
Where = Callable[[], Location]
MAX_REMEMBERED = 2_000
"""Texts of one type that are remembered as its values."""


@dataclass(frozen=True, slots=True, eq=False)
class Facet:
    name: str
    text: str
    value: Any
    where: Where


class TextMatcher(Protocol):
    """A pattern of XML Schema."""

    @property
    def tree(self) -> Node: ...
    def search(self, text: str) -> bool: ...
    def plain_search(self) -> Callable[[str], Any] | None: ...


Patterns = tuple[tuple[tuple[Facet, ...], tuple[TextMatcher, ...]], ...]
"""Each step of derivation: its facets, none where a built-in type brings them, and what they compile to."""


@dataclass(frozen=True, slots=True)
class InvalidText:
    """Why a text is no value of a type; `undecided`: why that is not known."""

    facet: str
    declared: str
    where: Where
    undecided: str = ""


@dataclass(slots=True, eq=False)
class SimpleType:
    """One simple type with all that it inherits."""

    name: str
    """`{namespace}local`; empty where it has none."""
    variety: str
    """`atomic`, `list` or `union`."""
    primitive: str
    """The local name of the primitive type; empty of lists and unions."""
    where: Where
    base: SimpleType | None = None
    space: str = "collapse"
    """`preserve`, `replace` or `collapse`."""
    item: SimpleType | None = None
    members: tuple[SimpleType, ...] = ()
    facets: dict[str, Facet] = field(default_factory=dict)
    patterns: Patterns = ()
    """Each step of derivation: one of its patterns must match."""
    enumeration: tuple[Facet, ...] = ()
    final: frozenset[str] = frozenset()
    kind: str = ""
    """The nearest built-in type's local name."""
    remembered: set[str] = field(default_factory=set)
    keys: frozenset[Any] = frozenset()
    """Keys of the enumerated values."""
    unread: bool = False
    """Whether what it is made of cannot be read: then of no text is it known whether it is a value."""

    @property
    def needs_scope(self) -> bool:
        """Whether its values depend on the prefixes in force."""
        if self.variety == "list":
            return self.item is not None and self.item.needs_scope
        if self.variety == "union":
            return any(member.needs_scope for member in self.members)
        return self.primitive in ("QName", "NOTATION")

    def normal(self, text: str) -> str:
        """The text after its white space was treated (section 4.3.6)."""
        if _SPACES(text) is None:
            return text
        if self.space == "collapse":
            return _collapse(text)
        return text.translate(_BLANK) if self.space == "replace" else text

    def accepts(self, text: str, scope: Scope) -> bool:
        """Whether a text is one of its values."""
        if text in self.remembered:
            return True
        if next(self.wrongs(text, scope), None) is not None:
            return False
        if not self.needs_scope and len(text) < 100 and len(self.remembered) < MAX_REMEMBERED:
            self.remembered.add(text)
        return True

    def value(self, text: str, scope: Scope) -> tuple[str, Any]:
        """The (primitive, raw) of a text that is a value; ValueError when it is none."""
        text = self.normal(text)
        if self.variety == "union":
            for member in self.members:
                if next(member.wrongs(text, scope), None) is None:
                    return member.value(text, scope)
            raise ValueError("no member type has it")
        if self.variety == "list":
            assert self.item is not None
            return "list", tuple(self.item.value(part, scope) for part in text.split())
        form = FORMS.get(self.primitive)
        if form is not None and not form.fullmatch(text):
            raise ValueError(f"no {self.primitive}")
        return self.primitive, READERS[self.primitive](text, scope)

    def wrongs(self, text: str, scope: Scope) -> Iterator[InvalidText]:
        """Every facet that a text breaks; of a text that is not even of the form, that alone."""
        text = self.normal(text)
        if self.unread and self.variety == "atomic":
            yield InvalidText("type", "as declared", self.where, "its type cannot be read")
            return
        if self.variety == "union":
            firsts = [next(member.wrongs(text, scope), None) for member in self.members]
            if None not in firsts:
                yield InvalidText(
                    "type",
                    self.words(),
                    self.where,
                    next((first.undecided for first in firsts if first and first.undecided), ""),
                )
                return
        elif self.variety == "list":
            assert self.item is not None
            for part in text.split():
                found = next(self.item.wrongs(part, scope), None)
                if found is not None:
                    yield InvalidText(
                        found.facet, f"a list, each {found.declared}", found.where, found.undecided
                    )
                    return
        else:
            form = FORMS.get(self.primitive)
            if form is not None and form.fullmatch(text) is None:
                yield InvalidText("type", self.words(), self.where)
                return
            if self.primitive in JUDGED or self.primitive == "QName":
                try:
                    READERS[self.primitive](text, scope)
                except (ValueError, ArithmeticError):
                    yield InvalidText("type", self.words(), self.where)
                    return
        yield from self._broken_patterns(text)
        yield from self._broken_facets(text, scope)

    def _broken_patterns(self, text: str) -> Iterator[InvalidText]:
        if not self.patterns:
            return
        from juxtalogos.schema.patterns import PatternTimeout

        for facets, patterns in self.patterns:
            late = ""
            for pattern in patterns:
                try:
                    if pattern.search(text):
                        break
                except PatternTimeout:
                    late = "its pattern takes too long"
            else:
                words = " or ".join(facet.text for facet in facets)
                if not facets:  # a built-in type's own
                    yield InvalidText("type", self.words(), self.where, late)
                    return
                yield InvalidText("pattern", f"matching {words}", facets[0].where, late)

    def _broken_facets(self, text: str, scope: Scope) -> Iterator[InvalidText]:
        if not self.facets and not self.enumeration:
            return
        value = self.value(text, scope)
        if self.enumeration and value not in self.keys:
            yield InvalidText("enumeration", allowed(self.enumeration), self.enumeration[0].where)
        for name, facet in self.facets.items():
            if not _HOLDS[name](facet.value, value[1], text, self):
                yield InvalidText(name, f"{_WORDS[name]} {facet.text}", facet.where)

    def words(self) -> str:
        """The type as a person calls it."""
        if self.variety == "list":
            return f"list of {self.item.words() if self.item else 'any'}"
        if self.variety == "union":
            return " or ".join(dict.fromkeys(member.words() for member in self.members))
        return self.kind or self.primitive

    def ancestors(self) -> Iterator[SimpleType]:
        """The types that it is derived from, the nearest first."""
        at: SimpleType | None = self
        while at is not None:
            yield at
            at = at.base


_SPACES = re.compile(r"[\t\n\r ]").search
_BLANK = {9: " ", 10: " ", 13: " "}


def _collapse(text: str) -> str:
    return " ".join(part for part in text.translate(_BLANK).split(" ") if part)


def allowed(facets: tuple[Facet, ...], most: int = 12) -> str:
    """Enumerated values in words."""
    words = ", ".join(facet.text for facet in facets[:most])
    more = f" and {len(facets) - most} more" if len(facets) > most else ""
    return f"one of {words}{more}" if len(facets) > 1 else words


def _length(raw: Any, text: str, owner: SimpleType) -> int | None:
    """Characters, bytes or items; None of names, whose length tells nothing (part 2, section 4.3.1)."""
    if owner.primitive in ("QName", "NOTATION"):
        return None
    return len(raw) if isinstance(raw, bytes | tuple | str) else len(text)


def _at_least(limit: int, raw: Any, text: str, owner: SimpleType) -> bool:
    found = _length(raw, text, owner)
    return found is None or found >= limit


def _at_most(limit: int, raw: Any, text: str, owner: SimpleType) -> bool:
    found = _length(raw, text, owner)
    return found is None or found <= limit


def _digits(raw: Decimal) -> tuple[int, int]:
    """(digits, digits of the fraction) of a number without needless zeros."""
    _, digits, exponent = raw.as_tuple()
    assert isinstance(exponent, int)
    text = "".join(map(str, digits))
    shorter = text.rstrip("0") if exponent < 0 else text
    fraction = max(0, -exponent - (len(text) - len(shorter)))
    if exponent < 0:
        text = text[: len(text) + exponent + fraction] if -exponent - fraction else text
    significant = text.lstrip("0")
    return max(len(significant), fraction), fraction


_HOLDS: dict[str, Callable[[Any, Any, str, SimpleType], bool]] = {
    "length": lambda limit, raw, text, owner: _length(raw, text, owner) in (None, limit),
    "minLength": _at_least,
    "maxLength": _at_most,
    "minInclusive": lambda limit, raw, text, owner: compare(raw, limit) in (0, 1),
    "maxInclusive": lambda limit, raw, text, owner: compare(raw, limit) in (0, -1),
    "minExclusive": lambda limit, raw, text, owner: compare(raw, limit) == 1,
    "maxExclusive": lambda limit, raw, text, owner: compare(raw, limit) == -1,
    "totalDigits": lambda limit, raw, text, owner: _digits(raw)[0] <= limit,
    "fractionDigits": lambda limit, raw, text, owner: _digits(raw)[1] <= limit,
}
_WORDS = {
    "length": "length",
    "minLength": "length at least",
    "maxLength": "length at most",
    "minInclusive": "at least",
    "maxInclusive": "at most",
    "minExclusive": "more than",
    "maxExclusive": "less than",
    "totalDigits": "digits at most",
    "fractionDigits": "digits of the fraction at most",
}
FACETS = (*_HOLDS, "pattern", "enumeration", "whiteSpace")
