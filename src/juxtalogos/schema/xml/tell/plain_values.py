"""Elements as plain values, and back: what addresses, suites and expressions go by.

An element with children is an object by their names, a repeated one a list, `@name` an attribute, `text()`
the text beside
attributes or children, null an `xsi:nil`, `@xsi:type` the name of the type chosen, `*` XML text where a
schema lets
anything in. Numbers and truth values are such; where a number would lose digits it stays text. Order is the
schema's.
"""

from __future__ import annotations

import copy
import math
import xml.etree.ElementTree as ET
from collections.abc import Iterable
from decimal import Decimal, InvalidOperation
from typing import Any

from juxtalogos.documents.xmltext import NotXml, local, parse_xml
from juxtalogos.documents.xmltree import resolve_name
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.schema import is_index
from juxtalogos.schema.xml.check.checker import FREE
from juxtalogos.schema.xml.check.identity import NIL, TYPE, ScopeOf
from juxtalogos.schema.xml.tell.addresses import Layout, has_own_attributes, layout_of
from juxtalogos.schema.xml.tell.text import prefixed, to_text
from juxtalogos.schema.xml.tree.components import (
    ComplexType,
    ElementDecl,
    ModelGroup,
    Particle,
    Type,
    Wildcard,
    derived,
    elements_in,
)
from juxtalogos.schema.xml.tree.reader import SchemaReader
from juxtalogos.schema.xml.tree.simple_types import SimpleType

TEXT, ANY, NIL_KEY, TYPE_KEY = "text()", "*", "@xsi:nil", "@xsi:type"


def plain(kind: SimpleType, text: str) -> Any:
    """A text as the JSON value nearest to it."""
    if kind.variety != "atomic":
        return kind.normal(text)
    found = kind.normal(text)
    if kind.primitive == "boolean" and found in ("true", "false", "1", "0"):
        return found in ("true", "1")
    if kind.primitive in ("decimal", "float", "double"):
        return _number(found)
    return found


def _number(text: str) -> Any:
    try:
        value = Decimal(text)
    except InvalidOperation:
        return text
    if not value.is_finite() or len(text) > 40:
        return text
    if value == value.to_integral_value() and "e" not in text.lower() and "." not in text:
        return int(value) if abs(value) < 2**53 else text
    short = float(value)
    return short if math.isfinite(short) and Decimal(repr(short)) == value else text


def to_tree(
    element: ET.Element, declared: ElementDecl | None, reader: SchemaReader, scope_of: ScopeOf
) -> Any:
    """The value of an element; what no schema declares is read as text and objects."""
    kind: Type | None = declared.type if declared is not None else None
    chosen = element.get(TYPE)
    if chosen is not None:
        name = resolve_name(chosen, scope_of(element))
        kind = (reader.type(name) if name else None) or kind
    if element.get(NIL, "").strip() in ("true", "1"):
        rest = {key: text for key, text in element.items() if key not in FREE}
        return {NIL_KEY: True, **_attributes(rest.items(), kind, reader)} if rest else None
    if isinstance(kind, SimpleType):
        text = element.text or ""
        return {TYPE_KEY: local(chosen), TEXT: plain(kind, text)} if chosen is not None else plain(kind, text)
    made: dict[str, Any] = {TYPE_KEY: chosen.rpartition(":")[2]} if chosen is not None else {}
    made |= _attributes(((key, text) for key, text in element.items() if key not in FREE), kind, reader)
    if kind is not None and kind.simple is not None:
        text = plain(kind.simple, element.text or "")
        return (
            {**made, TEXT: text}
            if made or (isinstance(kind, ComplexType) and has_own_attributes(kind))
            else text
        )
    layout = layout_of(kind, reader) if kind is not None else Layout()
    _children(element, layout, made, reader, scope_of)
    if kind is not None and not kind.mixed:
        return made  # what text stands in it is a deviation, and no value
    text = "".join([element.text or "", *(child.tail or "" for child in element)])
    if not made and kind is None:
        return text
    if text.strip():
        made[TEXT] = text
    return made


def _attributes(items: Iterable[tuple[str, str]], kind: Type | None, reader: SchemaReader) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for name, text in items:
        one = kind.attributes.get(name) if isinstance(kind, ComplexType) else None
        key = layout_of(kind, reader).attribute_keys.get(name) if isinstance(kind, ComplexType) else None
        found[key or f"@{local(name)}"] = plain(one.type, text) if one is not None else text
    return found


def _children(
    element: ET.Element, layout: Layout, made: dict[str, Any], reader: SchemaReader, scope_of: ScopeOf
) -> None:
    for child in element:
        key = layout.keys.get(child.tag)
        if key is None and layout.open and not layout.anything:
            bare = copy.copy(child)
            bare.tail = None
            made.setdefault(ANY, []).append(to_text(bare, reader.prefixes, indent=False))
            continue
        declared = layout.elements[key] if key is not None else reader.element(child.tag)
        value = to_tree(child, declared, reader, scope_of)
        if key is None:
            key = local(child.tag)
        if key in layout.several:
            made.setdefault(key, []).append(value)
        elif key not in made:
            made[key] = value
        elif isinstance(made[key], list):
            made[key].append(value)
        else:
            made[key] = [made[key], value]


def to_element(
    value: Any, declared: ElementDecl, reader: SchemaReader, at: str = "body", *, loose: bool = False
) -> ET.Element:
    """The element of a value, children in the schema's order.

    UsageError names what has no place; `loose` lets it in as it is written.
    """
    return (_LooseMaker if loose else _ElementMaker)(reader).element(value, declared, at)


class _ElementMaker:
    def __init__(self, reader: SchemaReader) -> None:
        self.reader = reader

    def element(self, value: Any, declared: ElementDecl, at: str) -> ET.Element:
        made = ET.Element(declared.name)
        kind: Type = declared.type
        if value is None or (isinstance(value, dict) and value.get(NIL_KEY) is True):
            made.set(NIL, "true")
            value = {key: item for key, item in (value or {}).items() if key != NIL_KEY}
            if isinstance(kind, ComplexType):
                self.attributes(value, kind, made, at)
            return made
        if isinstance(value, dict) and TYPE_KEY in value:
            kind = self.chosen(value[TYPE_KEY], declared, made, at)
            value = {key: item for key, item in value.items() if key != TYPE_KEY}
        if isinstance(kind, SimpleType):
            inner = value.get(TEXT, "") if isinstance(value, dict) else value
            if isinstance(value, dict) and set(value) - {TEXT}:
                raise UsageError(f"{at} has text only", mend=f"give it a {kind.words()}")
            made.text = text_of(inner, kind, at)
            return made
        if not isinstance(value, dict):
            self.only_text(value, kind, made, at)
            return made
        self.attributes(value, kind, made, at)
        self.children({key: item for key, item in value.items() if not key.startswith("@")}, kind, made, at)
        return made

    def chosen(self, name: Any, declared: ElementDecl, made: ET.Element, at: str) -> Type:
        options = self.reader.variants(declared)
        found = next(
            (
                option
                for option in options
                if name in (option.name, local(option.name), prefixed(option.name, self.reader.prefixes))
            ),
            None,
        )
        if found is None:
            known = [local(option.name) for option in options]
            raise UsageError(
                f"{at}: {quoted(name)} is no type of it", mend=nearest(str(name), known) or "leave it out"
            )
        made.set(TYPE, prefixed(found.name, self.reader.prefixes))
        return found

    def only_text(self, value: Any, kind: ComplexType, made: ET.Element, at: str) -> None:
        if kind.simple is not None:
            made.text = text_of(value, kind.simple, at)
        elif kind.mixed and isinstance(value, str | int | float):
            made.text = str(value)
        elif isinstance(value, str) and not value.strip():
            return
        else:
            names = ", ".join(layout_of(kind, self.reader).elements) or "nothing"
            raise UsageError(
                f"{at} has elements within: {names}",
                mend=f"set one of them, such as {at}/{names.partition(',')[0]}=VALUE",
            )

    def attributes(self, value: dict[str, Any], kind: ComplexType, made: ET.Element, at: str) -> None:
        layout = layout_of(kind, self.reader)
        for key, item in value.items():
            if not key.startswith("@"):
                continue
            name = layout.attributes.get(key)
            if name is None and kind.any_attribute is None:
                self.undeclared("attribute", key, item, made, layout.attributes, at)
            one = kind.attributes.get(name) if name else None
            made.set(name or key[1:], text_of(item, one.type, f"{at}/{key}") if one else str(item))

    def children(self, value: dict[str, Any], kind: ComplexType, made: ET.Element, at: str) -> None:
        if kind.simple is not None:
            made.text = text_of(value.get(TEXT, ""), kind.simple, at)
            value = {key: item for key, item in value.items() if key != TEXT}
        elif TEXT in value:
            if not kind.mixed:
                raise UsageError(f"{at} has elements only, no text", mend="leave text() out")
            made.text = str(value[TEXT])
        layout = layout_of(kind, self.reader)
        waiting: dict[str, list[ET.Element]] = {}
        for key, items in value.items():
            if key in (TEXT, ANY):
                continue
            declared = layout.elements.get(key)
            if declared is None and layout.anything:
                declared = self.reader.element(key) or ElementDecl(
                    key, kind.where, self.reader.any_type, nillable=True
                )
            if declared is None:
                known = [*layout.elements, *layout.attributes]
                for one in self.undeclared("element", key, items, made, known, at):
                    waiting.setdefault(one.tag, []).append(one)
                continue
            several = items if isinstance(items, list) else [items]
            for index, item in enumerate(several):
                place = f"{at}/{key}" + (f"/{index}" if isinstance(items, list) else "")
                waiting.setdefault(declared.name, []).append(self.element(item, declared, place))
        anything = value.get(ANY, [])
        loose = [_parsed(text, at) for text in (anything if isinstance(anything, list) else [anything])]
        if kind.content is not None:
            self.choose(kind.content, waiting)
            self.arrange(kind.content, waiting, loose, made)
        for rest in waiting.values():  # more than the schema lets in: sent all the same, for who wants to try
            made.extend(rest)
        made.extend(loose)

    def choose(self, particle: Particle, waiting: dict[str, list[ET.Element]]) -> None:
        """Of the branches of a choice that may stand once, that which was set last: it takes the place of a
        sample's.
        """
        if not isinstance(particle.term, ModelGroup) or particle.most != 1:
            return
        inner = particle.term.particles
        if particle.term.kind == "choice":
            names = [self.names(child) for child in inner]
            met = [branch for branch in names if branch & waiting.keys()]
            if len(met) > 1:
                order = list(waiting)
                kept = max(met, key=lambda branch: max(order.index(name) for name in branch & waiting.keys()))
                for name in set().union(*met) - kept:
                    waiting.pop(name, None)
        for one in inner:
            self.choose(one, waiting)

    def names(self, particle: Particle) -> set[str]:
        """Names of the elements that may stand in a particle."""
        found: set[str] = set()
        for one, _ in elements_in(particle):
            if isinstance(one.term, ElementDecl):
                found |= {one.term.name, *self.reader.substitutes(one.term)}
        return found

    def undeclared(
        self, what: str, key: str, items: Any, made: ET.Element, known: Iterable[str], at: str
    ) -> list[ET.Element]:
        """The elements of what no schema declares, where such are let in."""
        raise UsageError(
            f"{at} has no {what} {quoted(key)}",
            mend=nearest(key, known) or (f"it has no {what}s at all" if not list(known) else "leave it out"),
        )

    def arrange(
        self,
        particle: Particle,
        waiting: dict[str, list[ET.Element]],
        loose: list[ET.Element],
        made: ET.Element,
    ) -> None:
        """Takes what a particle lets in, in its order."""
        taken = 0
        while particle.most is None or taken < particle.most:
            before = len(made)
            term = particle.term
            if isinstance(term, ElementDecl):
                names = {term.name: None} | dict.fromkeys(self.reader.substitutes(term))
                found = next((waiting[name] for name in names if waiting.get(name)), None)
                if found:
                    made.append(found.pop(0))
            elif isinstance(term, Wildcard):
                if loose:
                    made.append(loose.pop(0))
            else:
                self.group(term, waiting, loose, made)
            if len(made) == before:
                return
            taken += 1

    def group(
        self,
        term: ModelGroup,
        waiting: dict[str, list[ET.Element]],
        loose: list[ET.Element],
        made: ET.Element,
    ) -> None:
        for inner in term.particles:
            before = len(made)
            self.arrange(inner, waiting, loose, made)
            if term.kind == "choice" and len(made) > before:
                return


class _LooseMaker(_ElementMaker):
    """Lets everything in: what the schema has no place for stands at the end, as it was written, in its
    parent's namespace.
    """

    def element(self, value: Any, declared: ElementDecl, at: str) -> ET.Element:
        try:
            return super().element(value, declared, at)
        except UsageError:
            made = ET.Element(declared.name)
            self.fill(made, value)
            return made

    def choose(self, particle: Particle, waiting: dict[str, list[ET.Element]]) -> None:
        """All branches that were set are sent."""

    def undeclared(
        self, what: str, key: str, items: Any, made: ET.Element, known: Iterable[str], at: str
    ) -> list[ET.Element]:
        if what == "attribute":
            return []  # set under its own name
        holder = ET.Element(made.tag)
        self.fill(holder, {key: items})
        return list(holder)

    def fill(self, made: ET.Element, value: Any) -> None:
        if not isinstance(value, dict):
            made.text = "" if value is None else str(value).lower() if isinstance(value, bool) else str(value)
            return
        space = made.tag[: made.tag.index("}") + 1] if made.tag.startswith("{") else ""
        for key, items in value.items():
            if key.startswith("@"):
                made.set(key[1:], str(items))
            elif key == TEXT:
                made.text = str(items)
            else:
                for item in items if isinstance(items, list) else [items]:
                    self.fill(ET.SubElement(made, space + key), item)


def _parsed(text: Any, at: str) -> ET.Element:
    if isinstance(text, ET.Element):
        return text
    try:
        return parse_xml(str(text).encode())
    except NotXml as error:
        raise UsageError(f"{at}/*: not XML: {error}", mend="write an element as XML text") from None


def text_of(value: Any, kind: SimpleType, at: str) -> str:
    """A plain value as it is written. UsageError when it is an object."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float) and kind.primitive not in ("float", "double"):
        return f"{Decimal(repr(value)):f}" if math.isfinite(value) else str(value)
    if isinstance(value, float) and not math.isfinite(value):
        return "NaN" if math.isnan(value) else "INF" if value > 0 else "-INF"
    if isinstance(value, list):
        return " ".join(text_of(member, kind.item or kind, at) for member in value)
    if isinstance(value, dict):
        raise UsageError(f"{at} has text only", mend=f"give it a {kind.words()}")
    return "" if value is None else str(value)


def kind_at(declared: ElementDecl, keys: list[str], reader: SchemaReader) -> tuple[Type | None, bool]:
    """(type, whether it may be nil) of the place that keys lead to; None where the schema
    has no such place.
    """
    kind: Type = declared.type
    nillable = declared.nillable
    for key in keys:
        if key.isdigit():
            continue
        if not isinstance(kind, ComplexType):
            return (kind if key == TEXT else None), False
        found = _below(kind, key, reader)
        if found is None:
            # Perhaps of a type that `xsi:type` may choose.
            known = [reader.type(name) for what, name in list(reader.sources.entries) if what == "type"]
            derived_ones = [
                entry
                for entry in known
                if isinstance(entry, ComplexType) and entry is not kind and derived(entry, kind)
            ]
            found = next(
                (inner for one in derived_ones if (inner := _below(one, key, reader)) is not None), None
            )
        if found is None:
            return None, False
        kind, nillable = found
    return kind, nillable


def _below(kind: ComplexType, key: str, reader: SchemaReader) -> tuple[Type, bool] | None:
    layout = layout_of(kind, reader)
    if key in layout.elements:
        return layout.elements[key].type, layout.elements[key].nillable
    if key in layout.attributes:
        return kind.attributes[layout.attributes[key]].type, False
    if key == TEXT and kind.simple is not None:
        return kind.simple, False
    return None


def xpath_of(declared: ElementDecl, keys: list[str], reader: SchemaReader) -> str:
    """An XPath of the place that keys lead to, from anywhere in a document, by the reader's prefixes."""
    steps = [f"//{_test(declared.name, reader)}"]
    kind: Type = declared.type
    for key in keys:
        if key.isdigit():
            steps[-1] += f"[{int(key) + 1}]" if is_index(key) else ""
        elif key == TEXT:
            steps.append("text()")
        elif isinstance(kind, ComplexType) and key in layout_of(kind, reader).attributes:
            steps.append(f"@{_test(layout_of(kind, reader).attributes[key], reader)}")
        elif isinstance(kind, ComplexType) and key in layout_of(kind, reader).elements:
            found = layout_of(kind, reader).elements[key]
            steps.append(_test(found.name, reader))
            kind = found.type
        else:
            steps.append(f"*[local-name()='{key}']" if "'" not in key else "*")
    return "/".join(steps)


def _test(name: str, reader: SchemaReader) -> str:
    return prefixed(name, reader.prefixes)
