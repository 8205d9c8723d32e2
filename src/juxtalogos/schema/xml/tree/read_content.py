"""Reading elements and content models (XSD 1.0 part 1, sections 3.3, 3.7 and 3.8)."""

from __future__ import annotations

import xml.etree.ElementTree as ET

from juxtalogos.documents.xmltext import local
from juxtalogos.model.errors import quoted
from juxtalogos.schema.xml.tree.components import (
    ComplexType,
    ElementDecl,
    ModelGroup,
    Particle,
    Type,
    blocked_by,
    derived,
)
from juxtalogos.schema.xml.tree.identity_paths import BadPath, constraint
from juxtalogos.schema.xml.tree.read_attributes import AttributeReader
from juxtalogos.schema.xml.tree.read_base import S, described, is_true, where_of, words_of
from juxtalogos.schema.xml.tree.sources import SchemaEntry, Sources, qualified

_PARTICLES = ("element", "group", "choice", "sequence", "all", "any")
_MAX_NESTING = 150


class ContentReader(AttributeReader):
    """The part of the reader that makes elements and content models."""

    def __init__(self, sources: Sources) -> None:
        super().__init__(sources)
        self._elements: dict[str, ElementDecl | None] = {}
        self._local: dict[tuple[ET.Element, str], ElementDecl] = {}
        self._nesting = 0
        self._substitutes: dict[ElementDecl, dict[str, ElementDecl]] = {}

    def global_element(self, name: str) -> ElementDecl | None:
        """A global element; None when there is none."""
        if name not in self._elements:
            entry = self.sources.entries.get(("element", name))
            if (
                entry is None and name == f"{S}schema"
            ):  # a schema as data: nobody brings the schema of schemas
                self._elements[name] = ElementDecl(name, self.any_type.where, self.any_type)
                return self._elements[name]
            if entry is None:
                return None
            made = self._elements[name] = ElementDecl(name, where_of(entry.source, entry.node), self.any_type)
            self._fill_element(made, entry.node, entry)
        return self._elements[name]

    def _element_at(self, node: ET.Element, above: SchemaEntry) -> ElementDecl | None:
        if "ref" in node.attrib:
            if above.source.name(node.get("ref", ""), node) == f"{S}schema":
                return self.global_element(f"{S}schema")
            referred = self._referred("element", node, "ref", above)
            return self.global_element(referred[0]) if referred else self._missing(node, above)
        key = (node, above.source.namespace)
        made = self._local.get(key)
        if made is None:
            name = node.get("name", "").strip()
            if not name:
                self.sources.fault(
                    "this element has neither name nor ref", above.source.place(node), "give it a name"
                )
                return None
            form = node.get("form") or above.source.node.get("elementFormDefault", "unqualified")
            full = qualified(above.source.namespace, name) if form == "qualified" else name
            made = self._local[key] = ElementDecl(full, where_of(above.source, node), self.any_type)
            self._fill_element(made, node, above)
        return made

    def _missing(self, node: ET.Element, above: SchemaEntry) -> ElementDecl | None:
        """What stands for a global element that is not there: of its name, and nothing known of it."""
        name = above.source.name(node.get("ref", ""), node)
        if name is None:
            return None
        self.unknown -= 1  # the element takes note
        made = self._local.get((node, above.source.namespace))
        if made is None:
            made = ElementDecl(name, where_of(above.source, node), self.any_type, unread=True)
            self._local[node, above.source.namespace] = made
        return made

    def _fill_element(self, made: ElementDecl, node: ET.Element, above: SchemaEntry) -> None:
        source = above.source
        before, self.unknown = self.unknown, 0
        inner = next((child for child in node if child.tag in (f"{S}simpleType", f"{S}complexType")), None)
        if "type" in node.attrib:
            made.type = self.type_at(node, "type", above) or self.any_type
        elif inner is not None:
            made.type = self.new_type("", inner, above)
        made.unread = bool(self.unknown)
        made.nillable = is_true(node, "nillable")
        made.abstract = is_true(node, "abstract")
        made.default, made.fixed = node.get("default"), node.get("fixed")
        made.block = words_of(node, "block", source, "blockDefault")
        made.final = words_of(node, "final", source, "finalDefault")
        made.description = described(node)
        head = node.get("substitutionGroup")
        if head:
            referred = self._referred("element", node, "substitutionGroup", above)
            made.head = referred[0] if referred else ""
            if "type" not in node.attrib and inner is None:
                leader = self.global_element(made.head) if made.head != made.name else None
                made.type = leader.type if leader is not None else self.any_type
                made.unread = leader is None or leader.unread
        self.unknown = before
        found = []
        for one in node:
            if local(one.tag) in ("key", "keyref", "unique") and one.tag.startswith(S):
                try:
                    found.append(constraint(one, source))
                except BadPath as error:
                    self.sources.fault(
                        str(error), source.place(one), "see XSD part 1, section 3.11.6, for what is allowed"
                    )
        made.constraints = tuple(found)

    def substitutes(self, head: ElementDecl) -> dict[str, ElementDecl]:
        """The elements that may stand where `head` is declared, by name (section 3.3.6)."""
        known = self._substitutes.get(head)
        if known is not None:
            return known
        found: dict[str, ElementDecl] = {} if head.abstract else {head.name: head}
        self._substitutes[head] = found
        if "substitution" in head.block or self.global_element(head.name) is not head:
            return found
        waiting, members = [head.name], dict[str, ElementDecl]()
        while waiting:
            for name, _ in self.sources.members.get(waiting.pop(), ()):
                one = self.global_element(name) if name not in members and name != head.name else None
                if one is not None:
                    waiting.append(name)
                    members[name] = one
        self.finish()  # what a type is derived from is known only once it is read
        for name, one in members.items():
            if not one.abstract and derived(one.type, head.type, head.block | blocked_by(head.type)):
                found[name] = one
        return found

    def variants(self, declared: ElementDecl) -> list[Type]:
        """The named types that `xsi:type` may choose for an element, its own first unless
        that is abstract.
        """
        found = []
        base = declared.type
        blocked = declared.block | blocked_by(base)
        names = [] if base is self.any_type else self.sources.derived_from(base.name)
        for name in [base.name, *names]:
            one = self.type(name) if name else None
            abstract = isinstance(one, ComplexType) and one.abstract
            if one is not None and not abstract and one not in found and derived(one, base, blocked):
                found.append(one)
        return found

    def content_of(self, node: ET.Element, above: SchemaEntry) -> Particle | None:
        """The content model below a node; None when it has none."""
        found = next(
            (child for child in node if local(child.tag) in _PARTICLES[1:5] and child.tag.startswith(S)), None
        )
        particle = self._particle(found, above, ()) if found is not None else None
        group = particle.term if particle is not None else None
        if particle is None or not isinstance(group, ModelGroup) or group.particles:
            return particle
        # Nothing can be chosen from an empty choice; the others are just empty (section 3.4.2).
        return particle if group.kind == "choice" and particle.least else None

    def _particle(
        self, node: ET.Element, above: SchemaEntry, groups: tuple[ET.Element, ...]
    ) -> Particle | None:
        """None where it may not occur or cannot be read."""
        least, most = self._occurs(node, above)
        kind = local(node.tag)
        if most == 0 or kind not in _PARTICLES:
            return None
        where = where_of(above.source, node)
        if kind == "element":
            decl = self._element_at(node, above)
            return Particle(decl, least, most, where) if decl is not None else None
        if kind == "any":
            return Particle(self._wildcard(node, above), least, most, where)
        if kind == "group":
            return self._group_at(node, above, groups, least, most)
        self._nesting += 1
        try:
            if self._nesting > _MAX_NESTING:
                self.sources.fault(
                    "groups are nested too deep", above.source.place(node), "flatten the content model"
                )
                return None
            inner = [self._particle(child, above, groups) for child in node if child.tag.startswith(S)]
        finally:
            self._nesting -= 1
        return Particle(
            ModelGroup(kind, tuple(child for child in inner if child is not None), where), least, most, where
        )

    def _group_at(
        self,
        node: ET.Element,
        above: SchemaEntry,
        groups: tuple[ET.Element, ...],
        least: int,
        most: int | None,
    ) -> Particle | None:
        referred = self._referred("group", node, "ref", above)
        if referred is None:
            return None
        _, entry = referred
        if entry.node in groups:
            self.sources.fault("this group contains itself", above.source.place(node), "break the circle")
            return None
        inner = self._group_of(entry, (*groups, entry.node))
        return Particle(inner.term, least, most, where_of(above.source, node)) if inner is not None else None

    def _group_of(self, entry: SchemaEntry, groups: tuple[ET.Element, ...]) -> Particle | None:
        found = next(
            (child for child in entry.node if local(child.tag) in ("all", "choice", "sequence")), None
        )
        return self._particle(found, entry, groups or (entry.node,)) if found is not None else None

    def _occurs(self, node: ET.Element, above: SchemaEntry) -> tuple[int, int | None]:
        found: list[int | None] = []
        for attribute in ("minOccurs", "maxOccurs"):
            text = node.get(attribute, "1").strip()
            if attribute == "maxOccurs" and text == "unbounded":
                found.append(None)
            elif text.isascii() and text.isdigit() and len(text) < 10:
                found.append(int(text))
            else:
                self.sources.fault(
                    f"{attribute} is {quoted(text)}", above.source.place(node, attribute), "write a number"
                )
                found.append(1)
        least, most = found
        if most is not None and least is not None and least > most:
            if "maxOccurs" in node.attrib or least > 1:
                self.sources.fault(
                    f"minOccurs is {least}, more than maxOccurs {most}",
                    above.source.place(node),
                    "correct one of them",
                )
            least = most
        return least or 0, most
