"""Reading schemas: XSD documents -> components, each made when it is first asked for (XSD 1.0 part 1, section
3).
"""

from __future__ import annotations

import xml.etree.ElementTree as ET

from juxtalogos.documents.xmltext import local
from juxtalogos.schema.xml.tree.builtins import BUILTINS
from juxtalogos.schema.xml.tree.components import (
    ANY_TYPE,
    ComplexType,
    ElementDecl,
    ModelGroup,
    Particle,
    Type,
)
from juxtalogos.schema.xml.tree.nesting import Depths
from juxtalogos.schema.xml.tree.read_base import S, described, is_true, where_of, words_of
from juxtalogos.schema.xml.tree.read_content import ContentReader
from juxtalogos.schema.xml.tree.simple_types import SimpleType, Where
from juxtalogos.schema.xml.tree.sources import SchemaEntry, Sources


class SchemaReader(ContentReader):
    """Makes components of a schema set.

    Faults are kept in `sources.faults`; what is broken is read as anything.
    """

    def __init__(self, sources: Sources) -> None:
        super().__init__(sources)
        self._types: dict[str, Type] = {ANY_TYPE: self.any_type}
        self._types |= {builtin.name: builtin for builtin in BUILTINS.values()}
        self._waiting: list[tuple[ComplexType, ET.Element, SchemaEntry]] = []
        self._filling: set[ComplexType] = set()
        self._filled: dict[ComplexType, None] = {self.any_type: None}
        self.depths = Depths()

    def element(self, name: str) -> ElementDecl | None:
        """A global element, whole; None when there is none."""
        found = self.global_element(name)
        self.finish()
        return found

    def type(self, name: str) -> Type | None:
        """A global type, whole; None when there is none."""
        found = self.named_type(name)
        self.finish()
        return found

    def finish(self) -> None:
        """Fills all that was begun."""
        while self._waiting:
            self._fill(*self._waiting.pop())

    def everything(self) -> None:
        """Makes every component, so that every fault is known."""
        for kind, name in list(self.sources.entries):
            if kind == "type":
                self.named_type(name)
            elif kind == "element":
                self.global_element(name)
            elif kind == "attribute":
                self._global_attribute(name)
            elif kind == "group":
                entry = self.sources.entries[kind, name]
                self._group_of(entry, ())
            elif kind == "attributeGroup":
                self._attributes_of(
                    self.sources.entries[kind, name].node, self.sources.entries[kind, name], ()
                )
            self.finish()

    def complex_types(self) -> list[ComplexType]:
        """Every complex type that was made, those without a name too."""
        return list(self._filled)

    def named_type(self, name: str) -> Type | None:
        """A global type, perhaps not filled yet; None when there is none."""
        found = self._types.get(name)
        if found is None:
            entry = self.sources.entries.get(("type", name))
            if entry is None:
                return None
            before = self.unknown
            found = self.new_type(name, entry.node, entry)
            self.unknown = before  # the name that is missing is missing in that type, not in what asks for it
        return found

    def new_type(self, name: str, node: ET.Element, above: SchemaEntry) -> Type:
        """A type begun; a complex one is filled later, since it may contain itself."""
        if node.tag == f"{S}simpleType":
            made: Type = self.simple(node, above, name)
            if name:
                self._types[name] = made
            return made
        made = ComplexType(name, where_of(above.source, node), self.any_type)
        if name:
            self._types[name] = made
        self._waiting.append((made, node, above))
        return made

    def type_at(self, node: ET.Element, attribute: str, above: SchemaEntry) -> Type | None:
        """The type that an attribute names; None with a fault where there is none."""
        text = node.get(attribute, "")
        name = above.source.name(text, node)
        if name is not None:
            entry = self.sources.entries.get(("type", name))
            if entry is not None and entry is above and above.original is not None:
                return self._original(name, above.original)
            found = self.named_type(name)
            if found is not None:
                return found
        self._unknown("type", text, node, attribute, above)
        return None

    def _original(self, name: str, entry: SchemaEntry) -> Type:
        """What a redefinition builds on."""
        key = f"{name}\0{id(entry)}"
        found = self._types.get(key)
        if found is None:
            found = self._types[key] = self.new_type("", entry.node, entry)
            found.name = name
        return found

    def _fill(self, made: ComplexType, node: ET.Element, above: SchemaEntry) -> None:
        if made in self._filled or made in self._filling:
            return
        self._filling.add(made)
        before, self.unknown = self.unknown, 0
        source = above.source
        made.abstract = is_true(node, "abstract")
        made.mixed = is_true(node, "mixed")
        made.block = words_of(node, "block", source, "blockDefault")
        made.final = words_of(node, "final", source, "finalDefault")
        made.description = described(node)
        content = next(
            (child for child in node if local(child.tag) in ("simpleContent", "complexContent")), None
        )
        how = (
            next((item for item in content if local(item.tag) in ("extension", "restriction")), None)
            if content is not None
            else None
        )
        if content is None or how is None:
            if content is not None:
                self.sources.fault(
                    f"<{local(content.tag)}> holds no extension or restriction",
                    source.place(content),
                    "add one",
                )
            made.content = self.content_of(node, above)
            made.attributes, made.any_attribute = self._attributes_of(node, above, ())
        else:
            self._derive(made, content, how, above)
        extends = made.derivation == "extension" and isinstance(made.base, ComplexType) and made.base.unread
        made.unread, self.unknown = bool(self.unknown) or extends, before
        self._filled[made] = None
        self._filling.discard(made)

    def _derive(self, made: ComplexType, content: ET.Element, how: ET.Element, above: SchemaEntry) -> None:
        made.derivation = local(how.tag)
        base = self.type_at(how, "base", above) or self.any_type
        if isinstance(base, ComplexType) and not self._fill_base(base):
            self.sources.fault(
                "this type is derived from itself", above.source.place(how, "base"), "name another base"
            )
            base = self.any_type
        made.base = base
        if made.derivation in base.final:
            self.sources.fault(
                f"the base type does not allow {made.derivation} (final)",
                above.source.place(how, "base"),
                "derive otherwise",
            )
        attributes, wildcard = self._attributes_of(how, above, ())
        inherited = base.attributes if isinstance(base, ComplexType) else {}
        prohibited = {self._attribute_name(one, above) for one in how if one.get("use") == "prohibited"}
        extends = made.derivation == "extension"
        made.attributes = {
            **{name: one for name, one in inherited.items() if extends or name not in prohibited},
            **attributes,
        }
        of_base = base.any_attribute if isinstance(base, ComplexType) else None
        made.any_attribute = wildcard
        if extends and of_base is not None:
            made.any_attribute = of_base if wildcard is None else wildcard.either(of_base)
        if local(content.tag) == "simpleContent":
            made.simple = self._simple_content(how, base, above, extends)
            return
        if "mixed" in content.attrib:
            made.mixed = is_true(content, "mixed")
        own = self.content_of(how, above)
        if not extends:
            made.content = own
        elif isinstance(base, ComplexType):
            if (
                base.simple is not None and own is None
            ):  # attributes alone are added (section 3.4.2; cos-ct-extends, 1.4.1)
                made.simple = base.simple
            elif base.simple is not None:
                self.sources.fault(
                    "the base has text, which <complexContent> cannot extend",
                    above.source.place(how),
                    "use <simpleContent>",
                )
            made.mixed = made.mixed or (base.mixed and own is None)
            made.content = _joined(base.content, own, where_of(above.source, how))

    def _fill_base(self, base: ComplexType) -> bool:
        """Fills what is derived from; False when it is being filled, which means a circle."""
        waiting = next((entry for entry in self._waiting if entry[0] is base), None)
        if waiting is not None:
            self._waiting.remove(waiting)
            self._fill(*waiting)
        return base not in self._filling

    def _simple_content(self, how: ET.Element, base: Type, above: SchemaEntry, extends: bool) -> SimpleType:
        of_base = base if isinstance(base, SimpleType) else base.simple
        if extends:
            if of_base is None:
                self.sources.fault(
                    "<simpleContent> extends a type that has no text",
                    above.source.place(how, "base"),
                    "name a type with text",
                )
            return of_base or BUILTINS["string"]
        inner = how.find(f"{S}simpleType")
        start = self.simple(inner, above) if inner is not None else of_base
        return self.restricted(how, start or BUILTINS["string"], above, "")


def _joined(base: Particle | None, own: Particle | None, where: Where) -> Particle | None:
    """The content of an extension: the base's, then its own (section 3.4.2)."""
    if base is None or own is None:
        return base or own
    return Particle(ModelGroup("sequence", (base, own), where), 1, 1, where)
