"""An element's declaration as a person reads it: a row an element or attribute, with type, need, limits and
meaning.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from juxtalogos.documents.xmltext import local
from juxtalogos.model.location import escape_key
from juxtalogos.model.schema import OutlineRow
from juxtalogos.schema.xml.tell.addresses import has_own_attributes, layout_of
from juxtalogos.schema.xml.tree.components import (
    ComplexType,
    ElementDecl,
    ModelGroup,
    Particle,
    Type,
    Wildcard,
)
from juxtalogos.schema.xml.tree.reader import SchemaReader
from juxtalogos.schema.xml.tree.simple_types import SimpleType, allowed

MAX_ROWS = 400
_LIMITS = {
    "minInclusive": "at least {}",
    "minExclusive": "more than {}",
    "maxInclusive": "at most {}",
    "maxExclusive": "less than {}",
    "length": "length {}",
    "minLength": "length at least {}",
    "maxLength": "length at most {}",
    "totalDigits": "at most {} digits",
    "fractionDigits": "at most {} digits of the fraction",
}


def outline(declared: ElementDecl, reader: SchemaReader, *, depth: int) -> Iterator[OutlineRow]:
    """Rows from the top; the first is the element itself. A type met again inside itself is named, not
    repeated.
    """
    rows = _element(declared, reader, 0, "", "", True, "", (), depth)
    for count, row in enumerate(rows):
        if count >= MAX_ROWS:
            yield OutlineRow(0, "…", "", "", False, "more rows left out")
            return
        yield row


def _element(
    declared: ElementDecl,
    reader: SchemaReader,
    depth: int,
    name: str,
    path: str,
    required: bool,
    note: str,
    above: tuple[Type, ...],
    deepest: int,
) -> Iterator[OutlineRow]:
    kind = declared.type
    again = kind in above
    described = declared.description or (kind.description if isinstance(kind, ComplexType) else "")
    shared = isinstance(kind, SimpleType) and _shared(kind)
    word = type_word(kind) + (" (as above)" if again else "")
    yield OutlineRow(
        depth,
        name,
        path,
        word,
        required,
        "; ".join(filter(None, (note, *_notes(declared, reader)))),
        described,
        kind.where() if shared else declared.where(),
        isinstance(kind, SimpleType),
        local(kind.name) if shared else "",
        declared.nillable,
        choices=choices(kind) if isinstance(kind, SimpleType) else (),
    )
    if again or depth >= deepest or isinstance(kind, SimpleType):
        return
    above = (*above, kind)
    yield from _parts(kind, reader, depth + 1, path, set(), "", above, deepest)
    known = {*layout_of(kind, reader).elements, *layout_of(kind, reader).attributes}
    for other in _variants(declared, reader):
        if isinstance(other, ComplexType) and other not in above:
            told = f"with @xsi:type {local(other.name)}"
            yield from _parts(other, reader, depth + 1, path, known, told, (*above, other), deepest)


def _notes(declared: ElementDecl, reader: SchemaReader) -> Iterator[str]:
    """What is to be known of an element besides its type."""
    kind = declared.type
    simple = kind if isinstance(kind, SimpleType) else kind.simple
    if simple is not None:
        yield limits(simple)
    if declared.fixed is not None:
        yield f"always {declared.fixed}"
    elif declared.default is not None:
        yield f"{declared.default} when empty"
    if declared.nillable:
        yield "may be null"
    others = [local(variant.name) for variant in _variants(declared, reader)]
    if others:
        must = "is one of" if isinstance(kind, ComplexType) and kind.abstract else "may be"
        yield f"@xsi:type {must} {', '.join(others[:8])}" + (" …" if len(others) > 8 else "")


def _variants(declared: ElementDecl, reader: SchemaReader) -> list[Type]:
    """The types that may stand in for an element's own."""
    kind = declared.type
    if not isinstance(kind, ComplexType) or not kind.name:
        return []
    return [variant for variant in reader.variants(declared) if variant is not kind]


def _parts(
    kind: ComplexType,
    reader: SchemaReader,
    depth: int,
    path: str,
    known: set[str],
    note: str,
    above: tuple[Type, ...],
    deepest: int,
) -> Iterator[OutlineRow]:
    """Attributes, text and children; of a type that stands in for another what that one does not have."""
    layout = layout_of(kind, reader)
    for attribute in kind.attributes.values():
        key = layout.attribute_keys[attribute.name]
        if key in known or attribute.technical:
            continue
        fixed = f"always {attribute.fixed}" if attribute.fixed is not None else ""
        told = "; ".join(filter(None, (note, limits(attribute.type), fixed)))
        yield OutlineRow(
            depth,
            key,
            f"{path}/{key}",
            type_word(attribute.type),
            attribute.required and not note,
            told,
            attribute.description,
            attribute.where(),
            True,
            choices=choices(attribute.type),
        )
    if kind.simple is not None and has_own_attributes(kind) and not note:
        yield OutlineRow(
            depth, "text()", f"{path}/text()", type_word(kind.simple), True, limits(kind.simple), scalar=True
        )
    for particle, needed, told in _places(kind.content):
        told = "; ".join(filter(None, (note, told)))
        if isinstance(particle.term, Wildcard):
            if not note:
                words = "; ".join(filter(None, (told, particle.term.words())))
                yield OutlineRow(depth, "*", f"{path}/*", "XML", needed, words)
            continue
        assert isinstance(particle.term, ElementDecl)
        stand_ins = _stand_ins(particle.term, reader)
        for stand_in in stand_ins:
            key = layout.keys[stand_in.name]
            if key not in known:
                others = [layout.keys[other.name] for other in stand_ins if other is not stand_in]
                how = "instead of" if particle.most == 1 else "any mix with"
                mixed = f"{how} {', '.join(others[:4])}{' …' if len(others) > 4 else ''}" if others else ""
                place = f"{path}/{escape_key(key)}" + ("/0" if key in layout.several else "")
                yield from _element(
                    stand_in,
                    reader,
                    depth,
                    key,
                    place,
                    needed and not note and not others,
                    "; ".join(filter(None, (told, mixed))),
                    above,
                    deepest,
                )


def _stand_ins(declared: ElementDecl, reader: SchemaReader) -> list[ElementDecl]:
    return list(reader.substitutes(declared).values()) or [declared]


def _places(
    content: Particle | None, needed: bool = True, note: str = ""
) -> Iterator[tuple[Particle, bool, str]]:
    """(particle, whether required, what to know of it) of each element or wildcard, in order."""
    if content is None:
        return
    needed = needed and content.least > 0
    term = content.term
    if not isinstance(term, ModelGroup):
        yield content, needed, "; ".join(filter(None, (times(content), note)))
        return
    inner = term.particles
    if term.kind == "choice" and len(inner) > 1:
        for index, one in enumerate(inner):
            others = [_first(other) for number, other in enumerate(inner) if number != index]
            told = f"instead of {' or '.join(others[:4])}" + (" …" if len(others) > 4 else "")
            if content.most is None or content.most > 1:
                told = f"any mix with {' and '.join(others[:4])}"
            yield from _places(one, False, "; ".join(filter(None, (note, told))))
        return
    if content.most is None or content.most > 1:
        names = [_first(child) for child in inner]
        note = "; ".join(filter(None, (note, f"{' and '.join(names[:4])} {times(content)} together")))
    for one in inner:
        yield from _places(one, needed, note)


def _first(particle: Particle) -> str:
    """A branch of a choice in words: by its first element."""
    term = particle.term
    if isinstance(term, ElementDecl):
        return local(term.name)
    if isinstance(term, Wildcard):
        return "any element"
    return _first(term.particles[0]) if term.particles else "nothing"


def times(particle: Particle) -> str:
    """How often, where it is not just once or not at all."""
    if particle.most is None:
        return f"{particle.least} or more times" if particle.least else "any number of times"
    if particle.most == 1:
        return ""
    return (
        f"{particle.least} to {particle.most} times"
        if particle.least != particle.most
        else f"{particle.most} times"
    )


def type_word(kind: Type) -> str:
    """What a person calls a type."""
    if isinstance(kind, SimpleType):
        return kind.words()
    if kind.simple is not None:
        return kind.simple.words()
    name = local(kind.name) if kind.name else ""
    return "XML" if name == "anyType" else name or ("elements" if kind.content is not None else "empty")


def choices(kind: SimpleType) -> tuple[Any, ...]:
    """The values of an enumeration as they are written; of a truth value both."""
    if kind.enumeration:
        return tuple(facet.text for facet in kind.enumeration)
    return (True, False) if kind.words() == "boolean" else ()


def limits(kind: SimpleType) -> str:
    """Allowed values and limits in words."""
    if kind.variety == "union":
        return " or ".join(dict.fromkeys(filter(None, map(limits, kind.members))))
    if kind.enumeration:
        return allowed(kind.enumeration)
    found = [
        words.format(kind.facets[name].text)
        for name, words in _LIMITS.items()
        if name in kind.facets and kind.facets[name].where().document
    ]
    for facets, _ in kind.patterns:
        if facets:
            found.append("matching " + " or ".join(facet.text for facet in facets))
    if kind.variety == "list" and kind.item is not None and limits(kind.item):
        found.append(f"each {limits(kind.item)}")
    return "; ".join(found)


def _shared(kind: SimpleType) -> bool:
    return bool(kind.name) and bool(kind.where().document)
