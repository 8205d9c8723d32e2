"""The simple types that every schema has (XSD 1.0 part 2, section 3)."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from juxtalogos.model.location import Location
from juxtalogos.schema.xml.tree.simple_types import XSD, Facet, Patterns, SimpleType
from juxtalogos.schema.xml.tree.value_spaces import READERS

if TYPE_CHECKING:
    from juxtalogos.schema.patterns import Pattern
    from juxtalogos.schema.patterns.parse import Node


def nowhere() -> Location:
    """Built-in types stand in no document."""
    return Location("", "")


_DERIVED = """
normalizedString string replace|token normalizedString collapse|language token|NMTOKEN token|Name token
NCName Name
ID NCName|IDREF NCName|ENTITY NCName|integer decimal|nonPositiveInteger integer
negativeInteger nonPositiveInteger
long integer|int long|short int|byte short|nonNegativeInteger integer|unsignedLong nonNegativeInteger
unsignedInt unsignedLong|unsignedShort unsignedInt|unsignedByte unsignedShort
positiveInteger nonNegativeInteger
"""
_PATTERNS = {
    "language": r"[a-zA-Z]{1,8}(-[a-zA-Z0-9]{1,8})*",
    "NMTOKEN": r"\c+",
    "Name": r"\i\c*",
    "NCName": r"[\i-[:]][\c-[:]]*",
    "QName": r"([\i-[:]][\c-[:]]*:)?[\i-[:]][\c-[:]]*",
    "NOTATION": r"([\i-[:]][\c-[:]]*:)?[\i-[:]][\c-[:]]*",
    "integer": r"[+\-]?[0-9]+",
}
_LIMITS: dict[str, tuple[int | None, int | None]] = {
    "nonPositiveInteger": (None, 0),
    "negativeInteger": (None, -1),
    "nonNegativeInteger": (0, None),
    "positiveInteger": (1, None),
    "long": (-(2**63), 2**63 - 1),
    "int": (-(2**31), 2**31 - 1),
    "short": (-(2**15), 2**15 - 1),
    "byte": (-128, 127),
    "unsignedLong": (0, 2**64 - 1),
    "unsignedInt": (0, 2**32 - 1),
    "unsignedShort": (0, 2**16 - 1),
    "unsignedByte": (0, 255),
}


def _make() -> dict[str, SimpleType]:
    any_simple = SimpleType(
        f"{{{XSD}}}anySimpleType", "atomic", "anySimpleType", nowhere, None, "preserve", kind="anySimpleType"
    )
    found = {"anySimpleType": any_simple}
    for name in READERS:
        if name != "anySimpleType":
            space = "preserve" if name == "string" else "collapse"
            found[name] = SimpleType(
                f"{{{XSD}}}{name}", "atomic", name, nowhere, any_simple, space, kind=name
            )
            found[name].patterns = _patterns(name)
    for entry in (entry for line in _DERIVED.split("\n") if line for entry in line.split("|")):
        name, base_name, *space_of = entry.split()
        base = found[base_name]
        one = SimpleType(
            f"{{{XSD}}}{name}",
            "atomic",
            base.primitive,
            nowhere,
            base,
            (space_of or [base.space])[0],
            kind=name,
        )
        one.patterns = _patterns(name) or base.patterns
        one.facets = {**base.facets, **_limits(name)}
        found[name] = one
    for name, item in (("NMTOKENS", "NMTOKEN"), ("IDREFS", "IDREF"), ("ENTITIES", "ENTITY")):
        one = SimpleType(f"{{{XSD}}}{name}", "list", "", nowhere, any_simple, item=found[item], kind=name)
        one.facets = {"minLength": Facet("minLength", "1", 1, nowhere)}
        found[name] = one
    return found


class _Late:
    """A built-in type's pattern, compiled when it is first needed."""

    __slots__ = ("_made", "source")

    def __init__(self, source: str) -> None:
        self.source = source
        self._made: Pattern | None = None

    @property
    def made(self) -> Pattern:
        if self._made is None:
            from juxtalogos.schema.patterns import compile_xsd_pattern

            self._made = compile_xsd_pattern(self.source)
        return self._made

    @property
    def tree(self) -> Node:
        return self.made.tree

    def search(self, text: str) -> bool:
        return self.made.search(text)

    def plain_search(self) -> Callable[[str], Any] | None:
        return self.made.plain_search()


def _patterns(name: str) -> Patterns:
    return (((), (_Late(_PATTERNS[name]),)),) if name in _PATTERNS else ()


def _limits(name: str) -> dict[str, Facet]:
    least, most = _LIMITS.get(name, (None, None))
    found = {}
    if least is not None:
        found["minInclusive"] = Facet("minInclusive", str(least), Decimal(least), nowhere)
    if most is not None:
        found["maxInclusive"] = Facet("maxInclusive", str(most), Decimal(most), nowhere)
    return found


BUILTINS: dict[str, SimpleType] = _make()
"""By local name."""
