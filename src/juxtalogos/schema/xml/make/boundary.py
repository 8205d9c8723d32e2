"""Boundary samples: plain values of an element that just reach a limit at one place, take an enumerated
value, or are nil.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from decimal import Decimal
from typing import Any

from juxtalogos.model.location import Location, follow_pointer, split_pointer
from juxtalogos.model.schema import Boundary
from juxtalogos.schema.xml.tell.outline import outline
from juxtalogos.schema.xml.tell.plain_values import kind_at, plain
from juxtalogos.schema.xml.tree.components import ComplexType, ElementDecl
from juxtalogos.schema.xml.tree.reader import SchemaReader
from juxtalogos.schema.xml.tree.simple_types import Facet, SimpleType

MAX_LENGTH = 5_000


def boundaries(
    declared: ElementDecl, reader: SchemaReader, value: Any, accepts: Callable[[Any], bool]
) -> Iterator[Boundary]:
    """From a valid plain value, valid ones at each limit of the places that it has."""
    for row in outline(declared, reader, depth=100):
        keys = split_pointer(row.path)
        try:
            current = follow_pointer(value, row.path)
        except (LookupError, ValueError):
            continue
        kind, nillable = kind_at(declared, keys, reader) if keys else (declared.type, declared.nillable)
        simple = kind.simple if isinstance(kind, ComplexType) else kind
        if nillable:
            yield from _sound(value, keys, None, row.path, "nillable", row.place, "null", accepts)
        if simple is None or isinstance(current, dict):
            continue
        for facet, what, text in limits_of(simple, str(current)):
            place = facet.where() if facet is not None else row.place
            keyword = facet.name if facet is not None else "type"
            yield from _sound(value, keys, plain(simple, text), row.path, keyword, place, what, accepts)


def limits_of(kind: SimpleType, current: str) -> Iterator[tuple[Facet | None, str, str]]:
    """(facet, what, text) of each text at a limit."""
    for index, facet in enumerate(kind.enumeration):
        yield facet, f"member {index}", facet.text
    if kind.primitive == "boolean":
        yield from ((None, word, word) for word in ("true", "false"))
    for member in kind.members if not kind.enumeration else ():
        yield from limits_of(member, current)
    for name, facet in kind.facets.items():
        if name in ("minInclusive", "maxInclusive"):
            yield facet, "at the limit", facet.text.strip()
        elif name in ("minExclusive", "maxExclusive") and isinstance(facet.value, Decimal):
            digits = int(kind.facets["fractionDigits"].value) if "fractionDigits" in kind.facets else 2
            step = (
                Decimal(1)
                if any(ancestor.kind == "integer" for ancestor in kind.ancestors())
                else Decimal(1).scaleb(-digits)
            )
            yield facet, "next to the limit", f"{facet.value + (step if name == 'minExclusive' else -step):f}"
        elif name in ("minLength", "maxLength") and kind.variety == "atomic" and facet.value <= MAX_LENGTH:
            length = facet.value
            text = (
                current[:length]
                if len(current) >= length
                else current + (current[-1:] or "q") * (length - len(current))
            )
            yield facet, "at the limit", text


def _sound(
    value: Any,
    keys: list[str],
    fresh: Any,
    path: str,
    keyword: str,
    place: Location | None,
    what: str,
    accepts: Callable[[Any], bool],
) -> Iterator[Boundary]:
    changed = _replaced(value, keys, fresh)
    if accepts(changed):
        yield Boundary(changed, path, keyword, place or Location(""), what)


def _replaced(value: Any, keys: list[str], fresh: Any) -> Any:
    if not keys:
        return fresh
    if isinstance(value, list):
        index = int(keys[0])
        return [*value[:index], _replaced(value[index], keys[1:], fresh), *value[index + 1 :]]
    return {**value, keys[0]: _replaced(value[keys[0]], keys[1:], fresh)}
