"""What in a declaration an element can exercise: elements, attributes, enumerated values, choices, nil,
`xsi:type`.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from juxtalogos.documents.xmltext import local
from juxtalogos.model.elements import Element
from juxtalogos.model.schema import Direction
from juxtalogos.schema.xml.tree.components import (
    Attribute,
    ComplexType,
    ElementDecl,
    ModelGroup,
    Particle,
    Type,
    Wildcard,
)
from juxtalogos.schema.xml.tree.reader import SchemaReader
from juxtalogos.schema.xml.tree.simple_types import Facet, SimpleType


def elements_of(declared: ElementDecl, reader: SchemaReader, direction: Direction) -> Iterator[Element]:
    """Each once, however often it is referred to. The declared element itself is told by its operation."""
    seen: set[Any] = {declared}
    waiting: list[tuple[ElementDecl, str]] = [(declared, local(declared.name))]
    types: set[Type] = set()
    while waiting:
        one, above = waiting.pop(0)
        if one.nillable:
            yield Element("null", one.where(), "", direction, f"{above} nil")
        variants = reader.variants(one) if isinstance(one.type, ComplexType) and one.type.name else []
        if len(variants) > 1 or (variants and variants[0] is not one.type):
            for kind in variants:
                if kind is not one.type:
                    yield _variant(kind, one, direction, f"{above}: {local(kind.name)}")
        for kind in [one.type, *variants]:
            if kind in types:
                continue
            types.add(kind)
            owner = local(kind.name) if kind.name else above
            yield from _of_type(kind, owner, direction)
            if isinstance(kind, ComplexType):
                for inner in _children(kind.content, reader):
                    if inner not in seen:
                        seen.add(inner)
                        name = f"{owner}.{local(inner.name)}"
                        yield Element(f"{direction}-property", inner.where(), "", direction, name)
                        waiting.append((inner, local(inner.name)))
                yield from _branches(kind.content, owner, direction)


def _of_type(kind: Type, owner: str, direction: Direction) -> Iterator[Element]:
    simple = kind if isinstance(kind, SimpleType) else kind.simple
    if simple is not None:
        yield from _members(simple, owner, direction)
    for attribute in kind.attributes.values() if isinstance(kind, ComplexType) else ():
        if attribute.technical:
            continue
        yield _attribute(attribute, direction, f"{owner}.@{local(attribute.name)}")
        yield from _members(attribute.type, f"{owner}.@{local(attribute.name)}", direction)


def _members(kind: SimpleType, owner: str, direction: Direction) -> Iterator[Element]:
    for facet in kind.enumeration:
        yield _member(facet, direction, f"{owner} = {facet.text}")
    if kind.variety == "union" and not kind.enumeration:
        for member in kind.members:
            yield from _members(member, owner, direction)


def _children(content: Particle | None, reader: SchemaReader) -> Iterator[ElementDecl]:
    waiting = [content] if content is not None else []
    while waiting:
        term = waiting.pop(0).term
        if isinstance(term, ElementDecl):
            yield from reader.substitutes(term).values()
        elif isinstance(term, ModelGroup):
            waiting = [*term.particles, *waiting]


def _branches(content: Particle | None, owner: str, direction: Direction) -> Iterator[Element]:
    waiting = [content] if content is not None else []
    while waiting:
        term = waiting.pop(0).term
        if not isinstance(term, ModelGroup):
            continue
        if term.kind == "choice" and len(term.particles) > 1:
            for index, one in enumerate(term.particles):
                yield _branch(term, index, direction, f"{owner}: {_called(one)}")
        waiting += term.particles


def _called(particle: Particle) -> str:
    term = particle.term
    if isinstance(term, ElementDecl):
        return local(term.name)
    if isinstance(term, Wildcard):
        return "any element"
    return " and ".join(_called(one) for one in term.particles[:3]) or "nothing"


def _variant(kind: Type, declared: ElementDecl, direction: Direction, label: str = "") -> Element:
    return Element("branch", declared.where(), local(kind.name), direction, label)


def _branch(group: ModelGroup, index: int, direction: Direction, label: str = "") -> Element:
    return Element("branch", group.where(), str(index), direction, label)


def _attribute(one: Attribute, direction: Direction, label: str = "") -> Element:
    return Element(f"{direction}-property", one.where(), "", direction, label)


def _member(facet: Facet, direction: Direction, label: str = "") -> Element:
    return Element("enum", facet.where(), facet.text, direction, label)


def ids_of(raw: Iterable[Any], direction: Direction) -> Iterator[str]:
    """Ids of the elements that a checker noted."""
    for entry in raw:
        if isinstance(entry, ElementDecl):
            yield Element(f"{direction}-property", entry.where(), "", direction).id
        elif isinstance(entry, Attribute):
            yield _attribute(entry, direction).id
        elif isinstance(entry, Facet):
            yield _member(entry, direction).id
        elif isinstance(entry, tuple):
            first, second = entry
            if isinstance(first, ModelGroup):
                yield _branch(first, second, direction).id
            elif first == "nil":
                yield Element("null", second.where(), "", direction).id
            else:
                yield _variant(first, second, direction).id
