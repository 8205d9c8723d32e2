"""Reading attributes, their groups and wildcards (XSD 1.0 part 1, sections 3.2, 3.6 and 3.10)."""

from __future__ import annotations

import xml.etree.ElementTree as ET

from juxtalogos.documents.xmltext import local
from juxtalogos.schema.xml.tree.builtins import BUILTINS
from juxtalogos.schema.xml.tree.components import Attribute, ComplexType, Wildcard
from juxtalogos.schema.xml.tree.read_base import S, described, where_of
from juxtalogos.schema.xml.tree.read_simple import SimpleReader
from juxtalogos.schema.xml.tree.simple_types import SimpleType
from juxtalogos.schema.xml.tree.sources import SchemaEntry, qualified


class AttributeReader(SimpleReader):
    """The part of the reader that makes attributes."""

    def _attributes_of(
        self, node: ET.Element, above: SchemaEntry, groups: tuple[ET.Element, ...]
    ) -> tuple[dict[str, Attribute], Wildcard | None]:
        found: dict[str, Attribute] = {}
        wildcard: Wildcard | None = None
        for child in node:
            kind = local(child.tag)
            if kind == "attribute" and child.get("use") != "prohibited":
                made = self._attribute_at(child, above)
                if made is not None:
                    if made.name in found:
                        self.sources.fault(
                            f"the attribute {local(made.name)} stands twice",
                            above.source.place(child),
                            "remove one of them",
                        )
                    found[made.name] = made
            elif kind == "attributeGroup" and "ref" in child.attrib:
                referred = self._referred("attributeGroup", child, "ref", above)
                if referred is None:
                    continue
                if referred[1].node in groups:
                    self.sources.fault(
                        "this attribute group contains itself", above.source.place(child), "break the circle"
                    )
                    continue
                inner, its = self._attributes_of(referred[1].node, referred[1], (*groups, referred[1].node))
                found.update(inner)
                wildcard = its if wildcard is None or its is None else wildcard.both(its)
            elif kind == "anyAttribute":
                own = self._wildcard(child, above)
                wildcard = own if wildcard is None else own.both(wildcard)
        return found, wildcard

    def _attribute_name(self, node: ET.Element, above: SchemaEntry) -> str:
        if "ref" in node.attrib:
            return above.source.name(node.get("ref", ""), node) or ""
        form = node.get("form") or above.source.node.get("attributeFormDefault", "unqualified")
        name = node.get("name", "").strip()
        return qualified(above.source.namespace, name) if form == "qualified" else name

    def _attribute_at(self, node: ET.Element, above: SchemaEntry) -> Attribute | None:
        name = self._attribute_name(node, above)
        where = where_of(above.source, node)
        required = node.get("use") == "required"
        if "ref" in node.attrib:
            shared = self._global_attribute(name)
            if shared is None:
                self._unknown("attribute", node.get("ref", ""), node, "ref", above)
                return None
            fixed, default = node.get("fixed", shared.fixed), node.get("default", shared.default)
            return Attribute(
                name, shared.type, where, required, default, fixed, shared.description, shared.technical
            )
        if not name:
            self.sources.fault(
                "this attribute has neither name nor ref", above.source.place(node), "give it a name"
            )
            return None
        made = Attribute(
            name, self._attribute_type(node, above), where, required, node.get("default"), node.get("fixed")
        )
        made.description = described(node)
        made.technical = above.source.namespace in self.sources.technical
        return made

    def _attribute_type(self, node: ET.Element, above: SchemaEntry) -> SimpleType:
        inner = node.find(f"{S}simpleType")
        if inner is not None:
            return self.simple(inner, above)
        if "type" not in node.attrib:
            return BUILTINS["anySimpleType"]
        found = self.type_at(node, "type", above)
        if isinstance(found, ComplexType):
            self.sources.fault(
                "an attribute has text only; this type has more",
                above.source.place(node, "type"),
                "name a simple type",
            )
            return BUILTINS["anySimpleType"]
        return found or BUILTINS["anySimpleType"]

    def _global_attribute(self, name: str) -> Attribute | None:
        entry = self.sources.entries.get(("attribute", name))
        if entry is None:
            return None
        node = entry.node
        made = Attribute(
            name,
            self._attribute_type(node, entry),
            where_of(entry.source, node),
            False,
            node.get("default"),
            node.get("fixed"),
        )
        made.description = described(node)
        made.technical = entry.source.namespace in self.sources.technical
        return made

    def attribute(self, name: str) -> Attribute | None:
        """A global attribute; None when there is none."""
        return self._global_attribute(name)

    def _wildcard(self, node: ET.Element, above: SchemaEntry) -> Wildcard:
        text = node.get("namespace", "##any").split()
        target = above.source.namespace
        process = node.get("processContents", "strict")
        where = where_of(above.source, node)
        if text == ["##any"]:
            return Wildcard(frozenset(), True, process, where)
        if text == ["##other"]:
            return Wildcard(frozenset((target, "")), True, process, where)
        names = {"##targetNamespace": target, "##local": ""}
        return Wildcard(frozenset(names.get(char, char) for char in text), False, process, where)
