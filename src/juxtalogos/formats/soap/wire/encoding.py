"""SOAP encoding (SOAP 1.1, section 5): the types that its namespace has, and values that refer to each other
made plain.
"""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from collections.abc import Mapping
from dataclasses import dataclass

from juxtalogos.documents.xmltext import local
from juxtalogos.documents.xmltree import XmlTree, read_tree, resolve_name
from juxtalogos.formats.soap.names import ENCODING_11, ENCODING_12, ENVELOPES, WSDL
from juxtalogos.schema.xml.check.identity import TYPE, ScopeOf
from juxtalogos.schema.xml.tell.addresses import layout_of
from juxtalogos.schema.xml.tell.text import prefixed
from juxtalogos.schema.xml.tree.builtins import BUILTINS
from juxtalogos.schema.xml.tree.components import ComplexType, ElementDecl
from juxtalogos.schema.xml.tree.reader import SchemaReader
from juxtalogos.schema.xml.tree.simple_types import XSD
from juxtalogos.schema.xml.tree.sources import Sources

_URI = "soap-encoding"
_SIMPLE = "".join(
    f'<xs:complexType name="{name}"><xs:simpleContent><xs:extension base="xs:{name}"><xs:attributeGroup'
    f' ref="e:common"/></xs:extension></xs:simpleContent></xs:complexType><xs:element name="{name}"'
    f' type="e:{name}"/>'
    for name in BUILTINS
    if name not in ("anySimpleType", "NOTATION")
)
SCHEMA = f"""<xs:schema xmlns:xs="{XSD}" xmlns:e="{ENCODING_11}" targetNamespace="{ENCODING_11}" elementFormDefault="unqualified">
<xs:attributeGroup name="common"><xs:attribute name="id" type="xs:ID"/>
<xs:attribute name="href" type="xs:anyURI"/>
<xs:anyAttribute namespace="##other" processContents="lax"/></xs:attributeGroup>
<xs:attribute name="arrayType" type="xs:string"/><xs:attribute name="offset" type="xs:string"/>
<xs:attribute name="position" type="xs:string"/>
<xs:attribute name="root" type="xs:boolean"/>
<xs:attributeGroup name="arrayAttributes"><xs:attribute ref="e:arrayType"/><xs:attribute ref="e:offset"/>
</xs:attributeGroup>
<xs:attributeGroup name="commonAttributes"><xs:attributeGroup ref="e:common"/></xs:attributeGroup>
<xs:group name="Array"><xs:sequence>
<xs:any namespace="##any" minOccurs="0" maxOccurs="unbounded" processContents="lax"/></xs:sequence></xs:group>
<xs:complexType name="Array"><xs:group ref="e:Array" minOccurs="0"/>
<xs:attributeGroup ref="e:arrayAttributes"/><xs:attributeGroup ref="e:common"/></xs:complexType>
<xs:element name="Array" type="e:Array"/>
<xs:complexType name="Struct"><xs:group ref="e:Array" minOccurs="0"/><xs:attributeGroup ref="e:common"/>
</xs:complexType>
<xs:element name="Struct" type="e:Struct"/>{_SIMPLE}</xs:schema>"""  # noqa: E501


def add_encoding(sources: Sources) -> None:
    """Adds the encoding's own schema, where the documents speak of it and do not bring it."""
    if ("type", f"{{{ENCODING_11}}}Array") in sources.entries:
        return
    if sources.speaks_of(ENCODING_11):
        tree = read_tree(SCHEMA.encode())
        sources.add(_URI, tree, [tree.root])


ARRAY, ITEM = f"{{{ENCODING_11}}}Array", "item"
_DIMENSIONS = re.compile(r"(?:\[[\d,]*\])+$")
_STYLES = {"1.1": ENCODING_11, "1.2": ENCODING_12}
_AWAY = tuple(
    f"{{{uri}}}{name}"
    for uri in (*ENVELOPES.values(), *_STYLES.values())
    for name in ("encodingStyle", "root")
)
_MAX_REFERENCES = 10_000


def array_items(tree: XmlTree) -> None:
    """Writes into the array types of a schema what their `wsdl:arrayType` says of the items (WSDL 1.1,
    section 2.2).

    XSD alone would take such a type for empty: it restricts the encoding's array and names no content.
    """
    changed = False
    for how in tree.root.iter(f"{{{XSD}}}restriction"):
        if resolve_name(how.get("base", ""), tree.scope(how)) != ARRAY:
            continue
        own = [one for one in how if local(one.tag) in ("sequence", "choice", "all", "group")]
        named = next(
            (one.get(f"{{{WSDL}}}arrayType", "") for one in how if one.get(f"{{{WSDL}}}arrayType")), ""
        )
        item = _DIMENSIONS.sub("", named)
        if own or not item:
            continue
        content = ET.Element(f"{{{XSD}}}sequence")
        many = {"minOccurs": "0", "maxOccurs": "unbounded"}
        ET.SubElement(
            content,
            f"{{{XSD}}}element",
            {"name": ITEM, "form": "unqualified", "type": item, "nillable": "true", **many},
        )
        how.insert(0, content)
        changed = True
    if changed:
        tree.changed()


def marked(element: ET.Element, declared: ElementDecl, reader: SchemaReader, version: str) -> ET.Element:
    """A wrapper ready to be sent: its encoding style named, the type of each value told (SOAP 1.1, section
    5.1).
    """
    element.set(f"{{{ENVELOPES[version]}}}encodingStyle", _STYLES[version])
    _mark(element, declared, reader)
    return element


def _mark(element: ET.Element, declared: ElementDecl, reader: SchemaReader) -> None:
    kind = declared.type
    if TYPE not in element.attrib and kind.name and not kind.name.endswith("}anyType"):
        element.set(TYPE, prefixed(kind.name, reader.prefixes))
    if not isinstance(kind, ComplexType):
        return
    layout = layout_of(kind, reader)
    if any(ancestor.name == ARRAY for ancestor in kind.ancestors()) and ITEM in layout.elements:
        of = prefixed(layout.elements[ITEM].type.name, reader.prefixes)
        element.set(f"{{{ENCODING_11}}}arrayType", f"{of}[{len(element)}]")
    for child in element:
        key = layout.keys.get(child.tag)
        if key is not None:
            _mark(child, layout.elements[key], reader)


@dataclass(frozen=True, slots=True)
class Plain:
    """An encoded value with what it refers to put in its place, and the elements that its
    parts were made of.
    """

    element: ET.Element
    origins: Mapping[ET.Element, ET.Element]

    def scope_of(self, scope_of: ScopeOf) -> ScopeOf:
        return lambda element: scope_of(self.origins.get(element, element))


def plain_values(body: ET.Element) -> Plain | None:
    """The first element of an encoded body that is no target of a reference, references followed (SOAP 1.1,
    section 5.4.1).

    Items of arrays, whose names tell nothing, get the one that `array_items` declares.
    """
    entry = next((one for one in body if one.get("id") is None), None)
    if entry is None:
        return None
    by_id = {node.get("id"): node for node in body.iter() if node.get("id")}
    origins: dict[ET.Element, ET.Element] = {}

    def whole(element: ET.Element, above: tuple[ET.Element, ...], name: str) -> ET.Element:
        href = element.get("href", "")
        target = by_id.get(href[1:]) if href.startswith("#") else None
        source = (
            target
            if target is not None and target not in above and len(origins) < _MAX_REFERENCES
            else element
        )
        made = ET.Element(name)
        origins[made] = source
        away = {*_AWAY, "id", *(("href",) if source is not element else ())}
        made.attrib.update(
            {key: text for key, text in {**source.attrib, **element.attrib}.items() if key not in away}
        )
        made.text, made.tail = source.text, element.tail
        items = f"{{{ENCODING_11}}}arrayType" in source.attrib
        made.extend(whole(child, (*above, source), ITEM if items else child.tag) for child in source)
        return made

    return Plain(whole(entry, (), entry.tag), origins)
