"""What every schema may refer to without bringing it: the attributes of `xml:` (their schema is
http://www.w3.org/2001/xml.xsd).
"""

from __future__ import annotations

from juxtalogos.documents.xmltree import XML_NAMESPACE, read_tree
from juxtalogos.schema.xml.tree.simple_types import XSD
from juxtalogos.schema.xml.tree.sources import Sources

_XML = f"""<xs:schema xmlns:xs="{XSD}" targetNamespace="{XML_NAMESPACE}">
<xs:attribute name="lang"><xs:simpleType><xs:union memberTypes="xs:language"><xs:simpleType>
<xs:restriction base="xs:string">
<xs:enumeration value=""/></xs:restriction></xs:simpleType></xs:union></xs:simpleType></xs:attribute>
<xs:attribute name="space"><xs:simpleType><xs:restriction base="xs:NCName"><xs:enumeration value="default"/>
<xs:enumeration value="preserve"/></xs:restriction></xs:simpleType></xs:attribute>
<xs:attribute name="base" type="xs:anyURI"/><xs:attribute name="id" type="xs:ID"/>
<xs:attributeGroup name="specialAttrs"><xs:attribute ref="xml:base"/><xs:attribute ref="xml:lang"/>
<xs:attribute ref="xml:space"/>
<xs:attribute ref="xml:id"/></xs:attributeGroup></xs:schema>"""
WELL_KNOWN = (XML_NAMESPACE, XSD)


def add_well_known(sources: Sources) -> None:
    """Adds them, where no document brought them."""
    if ("attribute", f"{{{XML_NAMESPACE}}}lang") not in sources.entries:
        tree = read_tree(_XML.encode())
        sources.add("xml.xsd", tree, [tree.root])
