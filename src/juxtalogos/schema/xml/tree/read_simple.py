"""Reading simple types and their facets (XSD 1.0 part 2, section 4)."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from dataclasses import replace
from typing import Any

from juxtalogos.documents.xmltext import local
from juxtalogos.model.errors import quoted
from juxtalogos.schema.patterns import PatternError, compile_xsd_pattern
from juxtalogos.schema.xml.tree.builtins import BUILTINS
from juxtalogos.schema.xml.tree.read_base import BaseReader, S, where_of
from juxtalogos.schema.xml.tree.simple_types import FACETS, Facet, SimpleType, Where
from juxtalogos.schema.xml.tree.sources import SchemaEntry, Sources
from juxtalogos.schema.xml.tree.value_spaces import ORDERED

_COUNTS = ("length", "minLength", "maxLength", "totalDigits", "fractionDigits")
_DIGITS = ("totalDigits", "fractionDigits")
_MEASURED = ("string", "anyURI", "hexBinary", "base64Binary", "QName", "NOTATION")
"""Primitives whose values have a length (section 4.1.5)."""
_BOUNDS = ("minInclusive", "maxInclusive", "minExclusive", "maxExclusive")
_REPLACES = {
    "minInclusive": "minExclusive",
    "minExclusive": "minInclusive",
    "maxInclusive": "maxExclusive",
    "maxExclusive": "maxInclusive",
}


UNREAD = replace(BUILTINS["anySimpleType"], unread=True, remembered=set())
"""Stands for a type that is named and is not there."""


class SimpleReader(BaseReader):
    """The part of the reader that makes simple types."""

    def __init__(self, sources: Sources) -> None:
        super().__init__(sources)
        self._reading: set[ET.Element] = set()

    def simple(self, node: ET.Element, above: SchemaEntry, name: str = "") -> SimpleType:
        """The type that a `simpleType` element declares; UNREAD with a fault where it cannot be told."""
        if node in self._reading:
            self.sources.fault(
                "this type is derived from itself", above.source.place(node), "name another base"
            )
            return UNREAD
        self._reading.add(node)
        before = self.unknown  # the type itself says whether it can be read
        try:
            return self._simple(node, above, name)
        finally:
            self._reading.discard(node)
            self.unknown = before

    def _simple(self, node: ET.Element, above: SchemaEntry, name: str) -> SimpleType:
        how = next((child for child in node if local(child.tag) in ("restriction", "list", "union")), None)
        if how is None:
            self.sources.fault(
                "this simpleType holds no restriction, list or union", above.source.place(node), "add one"
            )
            return UNREAD
        kind = local(how.tag)
        inner = [one for one in how if one.tag == f"{S}simpleType"]
        final = frozenset(node.get("final", above.source.node.get("finalDefault", "")).split())
        if kind == "restriction":
            base = self.simple(inner[0], above) if inner else self._named(how, "base", above)
            self._allowed(base, "restriction", how, above)
            made = self.restricted(how, base, above, name)
        elif kind == "list":
            item = self.simple(inner[0], above) if inner else self._named(how, "itemType", above)
            made = SimpleType(
                name,
                "list",
                "",
                where_of(above.source, node),
                BUILTINS["anySimpleType"],
                item=item,
                unread=item.unread,
            )
        else:
            members = [self._named_text(text, how, above) for text in how.get("memberTypes", "").split()]
            members += [self.simple(child, above) for child in inner]
            made = SimpleType(
                name,
                "union",
                "",
                where_of(above.source, node),
                BUILTINS["anySimpleType"],
                "preserve",
                members=tuple(members),
                unread=bool(members) and all(member.unread for member in members),
            )
        made.final = frozenset(("restriction", "list", "union")) if "#all" in final else final
        return made

    def _allowed(self, base: SimpleType, how: str, node: ET.Element, above: SchemaEntry) -> None:
        if how in base.final:
            self.sources.fault(
                f"the base type does not allow {how} (final)", above.source.place(node), "derive otherwise"
            )

    def _named(self, node: ET.Element, attribute: str, above: SchemaEntry) -> SimpleType:
        if attribute not in node.attrib:
            self.sources.fault(
                f"{attribute} is missing", above.source.place(node), f"name a type with {attribute}"
            )
            return UNREAD
        found = self.type_at(node, attribute, above)
        if found is not None and not isinstance(found, SimpleType):
            self.sources.fault(
                f"{quoted(node.get(attribute, ''))} is no simple type",
                above.source.place(node, attribute),
                "name a simple type",
            )
            return UNREAD
        return found or UNREAD

    def _named_text(self, text: str, node: ET.Element, above: SchemaEntry) -> SimpleType:
        """One of several names in an attribute."""
        name = above.source.name(text, node)
        found = self.named_type(name) if name is not None else None
        if found is None:
            self.sources.fault(
                f"there is no type {quoted(text)}",
                above.source.place(node, "memberTypes"),
                "declare or import it",
            )
        return found if isinstance(found, SimpleType) else UNREAD

    def restricted(self, how: ET.Element, base: SimpleType, above: SchemaEntry, name: str) -> SimpleType:
        """A restriction by the facets that an element holds."""
        made = SimpleType(
            name,
            base.variety,
            base.primitive,
            where_of(above.source, how),
            base,
            base.space,
            base.item,
            base.members,
            dict(base.facets),
            base.patterns,
            base.enumeration,
            kind=base.kind,
            keys=base.keys,
            unread=base.unread,
        )
        if base.unread:
            return made
        patterns, listed = [], []
        for node in how:
            facet = local(node.tag)
            if facet not in FACETS or not node.tag.startswith(S):
                continue
            text = node.get("value", "")
            where = where_of(above.source, node)
            if facet == "pattern":
                patterns.append(Facet(facet, text, None, where))
            elif facet == "enumeration":
                listed.append((node, text, where))
            elif facet == "whiteSpace":
                if text in ("preserve", "replace", "collapse"):
                    made.space = text
            else:
                value = self._facet_value(facet, text, node, base, above)
                if value is not None:
                    made.facets.pop(_REPLACES.get(facet, ""), None)
                    made.facets[facet] = Facet(facet, text, value, where)
        self._add_patterns(made, patterns)
        self._add_enumeration(made, listed, base, above)
        return made

    def _add_patterns(self, made: SimpleType, facets: list[Facet]) -> None:
        """Patterns of one step are alternatives (section 4.3.4.3)."""
        compiled = []
        for facet in facets:
            try:
                compiled.append(compile_xsd_pattern(facet.text))
            except PatternError as error:
                self.sources.fault(
                    f"{quoted(facet.text)} is no pattern: {error}",
                    facet.where(),
                    "see XSD part 2, appendix F",
                )
                return
        if compiled:
            made.patterns = (*made.patterns, (tuple(facets), tuple(compiled)))

    def _add_enumeration(
        self,
        made: SimpleType,
        listed: list[tuple[ET.Element, str, Where]],
        base: SimpleType,
        above: SchemaEntry,
    ) -> None:
        found, keys = [], set()
        for node, text, where in listed:
            try:
                value = base.value(text, above.source.tree.scope(node))
            except (ValueError, ArithmeticError):
                self.sources.fault(
                    f"{quoted(text)} is no {base.words()}", above.source.place(node), "correct or remove it"
                )
                continue
            found.append(Facet("enumeration", made.normal(text), value, where))
            keys.add(value)
        if found:
            made.enumeration, made.keys = tuple(found), frozenset(keys)

    def _facet_value(
        self, facet: str, text: str, node: ET.Element, base: SimpleType, above: SchemaEntry
    ) -> Any:
        """A facet's value; None with a fault when it has none."""
        atomic = base.primitive if base.variety == "atomic" else ""
        meant = (
            atomic in ORDERED
            if facet in _BOUNDS
            else atomic == "decimal"
            if facet in _DIGITS
            else atomic in _MEASURED or base.variety == "list"
        )
        if not meant:
            self.sources.fault(
                f"{facet} has no meaning for {base.words()}", above.source.place(node), "remove it"
            )
            return None
        try:
            if facet in _COUNTS:
                if not (text.strip().isascii() and text.strip().isdigit() and len(text) < 19):
                    raise ValueError
                return int(text)
            return base.value(text, {})[1]
        except (ValueError, ArithmeticError):
            self.sources.fault(
                f"{facet} is {quoted(text)}, no value of the type", above.source.place(node), "correct it"
            )
            return None
