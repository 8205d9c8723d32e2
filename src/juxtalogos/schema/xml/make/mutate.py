"""Mutations: from a valid element, copies that break the schema at one place each, and by what.

Candidates are made a kind of change at a time; each is checked by the engine, and given out only when it is
rejected.
"""

from __future__ import annotations

import copy
import xml.etree.ElementTree as ET
from collections.abc import Callable, Iterator
from decimal import Decimal

from juxtalogos.documents.xmltext import local
from juxtalogos.model.schema import Mutation
from juxtalogos.schema.xml.check.checker import FREE, Checker
from juxtalogos.schema.xml.check.identity import NIL, TYPE
from juxtalogos.schema.xml.tell.text import scope_of
from juxtalogos.schema.xml.tree.components import ComplexType, ElementDecl, Type
from juxtalogos.schema.xml.tree.reader import SchemaReader
from juxtalogos.schema.xml.tree.simple_types import SimpleType
from juxtalogos.schema.xml.tree.value_spaces import ORDERED

_TEXTS = (
    "",
    "quay",
    "-1",
    "0",
    "1",
    "2.5",
    "1e2",
    "true",
    "2026-02-30",
    "P",
    "a b",
    "99999999999999999999",
    "#",
    "%zz",
    "é",
)
MAX_GROWTH = 5_000
_STRANGE = "{urn:merrow:strange}strange"
Change = tuple[str, ET.Element]
_Changed = Callable[[ET.Element], tuple[ET.Element, ET.Element]]


def mutate(reader: SchemaReader, declared: ElementDecl, element: ET.Element) -> Iterator[Mutation]:
    """One mutation per place, rule and kind of change."""
    told: set[tuple[str, str, str]] = set()
    for what, broken in changes(reader, declared, element):
        checker = Checker(reader, lambda _: scope_of(reader.prefixes))
        checker.root(broken, declared)
        found = [deviation for deviation in checker.deviations if not deviation.advisory]
        key = (found[0].path, found[0].keyword, what) if found else ("", "", "")
        if found and key not in told:
            told.add(key)
            first = found[0]
            yield Mutation(broken, first.path, first.keyword, first.location, what, tuple(found[1:]))


def changes(reader: SchemaReader, declared: ElementDecl, element: ET.Element) -> Iterator[Change]:
    """(what was done, the whole changed): most break the schema, some do not."""
    checker = Checker(reader, lambda _: scope_of(reader.prefixes))
    checker.root(element, declared)
    order = list(element.iter())
    index = {one: number for number, one in enumerate(order)}

    def changed(one: ET.Element) -> tuple[ET.Element, ET.Element]:
        whole = copy.deepcopy(element)
        return whole, list(whole.iter())[index[one]]

    for one in order:
        kind = checker.types.get(one)
        if kind is not None:
            yield from _of_content(one, kind, changed)
            yield from _of_attributes(one, kind, changed)
            yield from _of_type(one, changed)


def _of_content(one: ET.Element, kind: Type, changed: _Changed) -> Iterator[Change]:
    simple = kind if isinstance(kind, SimpleType) else kind.simple
    if simple is not None:
        for text in wrong_texts(simple, one.text or ""):
            whole, at = changed(one)
            at.text = text
            yield f"{local(one.tag)} = {text[:40]!r}", whole
        whole, at = changed(one)
        ET.SubElement(at, _STRANGE)
        yield f"an element within {local(one.tag)}", whole
        return
    whole, at = changed(one)
    at.text = "quay"
    yield f"text within {local(one.tag)}", whole
    for number in range(len(one)):
        name = local(one[number].tag)
        whole, at = changed(one)
        del at[number]
        yield f"{name} left out", whole
        whole, at = changed(one)
        at.insert(number, copy.deepcopy(at[number]))
        yield f"{name} twice", whole
        if number + 1 < len(one):
            whole, at = changed(one)
            at[number : number + 2] = [at[number + 1], at[number]]
            yield f"{name} behind what follows it", whole
    for number in (0, len(one)):
        whole, at = changed(one)
        at.insert(number, ET.Element(_STRANGE))
        yield f"a strange element in {local(one.tag)}", whole
    if len(one):
        whole, at = changed(one)
        at[0].tag = local(at[0].tag) if at[0].tag.startswith("{") else f"{{urn:merrow:strange}}{at[0].tag}"
        yield f"{local(one[0].tag)} in another namespace", whole
        whole, at = changed(one)
        at[:] = []
        yield f"{local(one.tag)} emptied", whole


def _of_attributes(one: ET.Element, kind: Type, changed: _Changed) -> Iterator[Change]:
    declared = kind.attributes if isinstance(kind, ComplexType) else {}
    for name, text in one.items():
        if name in FREE:
            continue
        whole, at = changed(one)
        del at.attrib[name]
        yield f"@{local(name)} left out", whole
        attribute = declared.get(name)
        for wrong in wrong_texts(attribute.type, text) if attribute else ():
            whole, at = changed(one)
            at.set(name, wrong)
            yield f"@{local(name)} = {wrong[:40]!r}", whole
    whole, at = changed(one)
    at.set("strange", "quay")
    yield f"@strange on {local(one.tag)}", whole
    whole, at = changed(one)
    at.set("{urn:merrow:strange}strange", "quay")
    yield f"@strange of another namespace on {local(one.tag)}", whole


def _of_type(one: ET.Element, changed: _Changed) -> Iterator[Change]:
    whole, at = changed(one)
    at.set(NIL, "true")
    yield f"{local(one.tag)} nil with content", whole
    whole, at = changed(one)
    at.set(NIL, "true")
    at.text = None
    at[:] = []
    yield f"{local(one.tag)} nil", whole
    for name in ("xs:string", "xs:int", "Strange"):
        whole, at = changed(one)
        at.set(TYPE, name)
        yield f"{local(one.tag)} as {name}", whole


def wrong_texts(kind: SimpleType, text: str) -> Iterator[str]:
    """Texts near a value that break its type, or nearly do."""
    found = [*_TEXTS, text + "!", text[:-1], text + text[-1:], text.upper(), text.lower(), f" {text}\n"]
    for name, facet in kind.facets.items():
        if name in ("maxLength", "length") and facet.value < MAX_GROWTH:
            filler = text[-1:] or "q"
            found += [filler * (facet.value + 1), filler * facet.value]
            found += (
                [" ".join([text.split(" ")[0] or "1"] * (facet.value + 1))] if kind.variety == "list" else []
            )
        if name in ("minLength", "length") and facet.value:
            found += [text[: facet.value - 1], " ".join(text.split()[: facet.value - 1])]
        if name in ("totalDigits", "fractionDigits"):
            found += ["1" * (facet.value + 1), "0." + "1" * (facet.value + 1), "1." + "0" * (facet.value + 1)]
        if name.startswith(("min", "max")) and kind.primitive in ORDERED:
            found += [facet.text, *_beyond(facet.value)]
    if kind.enumeration:
        found += [facet.text for facet in kind.enumeration[:3]]
    yield from dict.fromkeys(item for item in found if item != text)


def _beyond(limit: object) -> list[str]:
    if isinstance(limit, Decimal):
        return [f"{limit + shift:f}" for shift in (1, -1, Decimal("0.01"), Decimal("-0.01"))]
    if isinstance(limit, float):
        return [repr(limit + 1), repr(limit - 1)]
    return [
        "1901-01-01",
        "2999-12-31",
        "1901-01-01T00:00:00Z",
        "2999-12-31T00:00:00Z",
        "P9Y",
        "-P9Y",
        "P30D",
        "P31D",
    ]
