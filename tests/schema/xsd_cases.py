"""Schemas for the differential tests: every construct of XSD 1.0, in small pieces. Each case: (name, files by
name); the first file leads.
"""

from __future__ import annotations

_HEAD = (
    '<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:merrow:t"'
    ' targetNamespace="urn:merrow:t" elementFormDefault="qualified">'
)


def _one(body: str, head: str = _HEAD) -> dict[str, str]:
    return {"main.xsd": f"{head}{body}</xs:schema>"}


CASES: dict[str, dict[str, str]] = {
    "sequence": _one("""
      <xs:element name="job"><xs:complexType><xs:sequence>
        <xs:element name="id" type="xs:positiveInteger"/>
        <xs:element name="note" type="xs:string" minOccurs="0"/>
        <xs:element name="tug" type="xs:token" minOccurs="2" maxOccurs="4"/>
        <xs:element name="remark" type="xs:normalizedString" minOccurs="0" maxOccurs="unbounded"/>
      </xs:sequence></xs:complexType></xs:element>"""),
    "nested groups": _one("""
      <xs:element name="watch"><xs:complexType><xs:sequence maxOccurs="3">
        <xs:choice minOccurs="0" maxOccurs="unbounded">
          <xs:element name="a" type="xs:int"/>
          <xs:sequence><xs:element name="b" type="xs:date"/><xs:element name="c" type="xs:time" minOccurs="0"/></xs:sequence>
        </xs:choice>
        <xs:element name="end" type="xs:boolean"/>
      </xs:sequence></xs:complexType></xs:element>"""),
    "counted sequences": _one("""
      <xs:element name="log"><xs:complexType><xs:sequence minOccurs="2" maxOccurs="3">
        <xs:element name="from" type="xs:dateTime"/>
        <xs:element name="to" type="xs:dateTime" minOccurs="0" maxOccurs="2"/>
      </xs:sequence></xs:complexType></xs:element>"""),
    "all": _one("""
      <xs:element name="light"><xs:complexType><xs:all>
        <xs:element name="colour" type="xs:string"/>
        <xs:element name="period" type="xs:duration"/>
        <xs:element name="height" type="xs:decimal" minOccurs="0"/>
      </xs:all><xs:attribute name="lit" type="xs:boolean" use="required"/></xs:complexType></xs:element>
      <xs:element name="buoy"><xs:complexType><xs:all minOccurs="0">
        <xs:element name="x" type="xs:float"/><xs:element name="y" type="xs:double"/>
      </xs:all></xs:complexType></xs:element>"""),
    "named groups": _one("""
      <xs:group name="place"><xs:sequence>
        <xs:element name="lat" type="xs:decimal"/><xs:element name="lon" type="xs:decimal"/>
      </xs:sequence></xs:group>
      <xs:group name="either"><xs:choice><xs:group ref="t:place"/><xs:element name="berth" type="xs:NMTOKEN"/></xs:choice></xs:group>
      <xs:attributeGroup name="stamp"><xs:attribute name="by" type="xs:NCName" use="required"/>
        <xs:attributeGroup ref="t:more"/></xs:attributeGroup>
      <xs:attributeGroup name="more"><xs:attribute name="at" type="xs:dateTime"/></xs:attributeGroup>
      <xs:element name="mark"><xs:complexType><xs:sequence>
        <xs:group ref="t:either" maxOccurs="2"/><xs:element name="then" type="xs:string" minOccurs="0"/>
      </xs:sequence><xs:attributeGroup ref="t:stamp"/></xs:complexType></xs:element>"""),
    "extension and xsi:type": _one(
        """
      <xs:complexType name="Job"><xs:sequence><xs:element name="id" type="xs:int"/></xs:sequence>
        <xs:attribute name="unit" type="xs:string"/></xs:complexType>
      <xs:complexType name="Escort"><xs:complexContent><xs:extension base="t:Job"><xs:sequence>
        <xs:element name="tugs" type="xs:unsignedByte"/></xs:sequence>
        <xs:attribute name="lead" type="xs:boolean" use="required"/></xs:extension></xs:complexContent></xs:complexType>
      <xs:complexType name="Night"><xs:complexContent><xs:extension base="t:Escort"><xs:choice>
        <xs:element name="lamp" type="xs:string"/><xs:element name="radar" type="xs:string"/></xs:choice>
        </xs:extension></xs:complexContent></xs:complexType>
      <xs:element name="jobs"><xs:complexType><xs:sequence>
        <xs:element name="job" type="t:Job" maxOccurs="unbounded"/></xs:sequence></xs:complexType></xs:element>"""
    ),
    "abstract": _one("""
      <xs:complexType name="Craft" abstract="true"><xs:sequence><xs:element name="name" type="xs:string"/></xs:sequence></xs:complexType>
      <xs:complexType name="Tug"><xs:complexContent><xs:extension base="t:Craft"><xs:sequence>
        <xs:element name="pull" type="xs:decimal"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>
      <xs:complexType name="Launch"><xs:complexContent><xs:extension base="t:Craft"/></xs:complexContent></xs:complexType>
      <xs:element name="fleet"><xs:complexType><xs:sequence><xs:element name="craft" type="t:Craft" maxOccurs="3"/>
      </xs:sequence></xs:complexType></xs:element>"""),
    "restriction": _one("""
      <xs:complexType name="Move"><xs:sequence>
        <xs:element name="from" type="xs:string" minOccurs="0"/><xs:element name="to" type="xs:string"/>
        <xs:element name="via" type="xs:string" minOccurs="0" maxOccurs="unbounded"/></xs:sequence>
        <xs:attribute name="speed" type="xs:decimal"/><xs:attribute name="odd" type="xs:string"/></xs:complexType>
      <xs:complexType name="Short"><xs:complexContent><xs:restriction base="t:Move"><xs:sequence>
        <xs:element name="from" type="xs:string"/><xs:element name="to" type="xs:string"/></xs:sequence>
        <xs:attribute name="speed" use="required"><xs:simpleType><xs:restriction base="xs:decimal">
          <xs:maxInclusive value="12"/></xs:restriction></xs:simpleType></xs:attribute>
        <xs:attribute name="odd" use="prohibited"/></xs:restriction></xs:complexContent></xs:complexType>
      <xs:element name="move" type="t:Move"/><xs:element name="short" type="t:Short"/>"""),
    "block and final": _one(
        """
      <xs:complexType name="A"><xs:sequence><xs:element name="x" type="xs:int"/></xs:sequence></xs:complexType>
      <xs:complexType name="B"><xs:complexContent><xs:extension base="t:A"><xs:sequence><xs:element name="y" type="xs:int"/>
        </xs:sequence></xs:extension></xs:complexContent></xs:complexType>
      <xs:complexType name="C"><xs:complexContent><xs:restriction base="t:A"><xs:sequence><xs:element name="x" type="xs:byte"/>
        </xs:sequence></xs:restriction></xs:complexContent></xs:complexType>
      <xs:element name="open" type="t:A"/><xs:element name="noext" type="t:A" block="extension"/>
      <xs:element name="nores" type="t:A" block="restriction"/><xs:element name="none" type="t:A" block="#all"/>"""
    ),
    "substitution": _one("""
      <xs:element name="event" type="xs:string" abstract="true"/>
      <xs:element name="arrival" type="xs:string" substitutionGroup="t:event"/>
      <xs:element name="pilotage" substitutionGroup="t:event"><xs:simpleType><xs:restriction base="xs:string">
        <xs:maxLength value="8"/></xs:restriction></xs:simpleType></xs:element>
      <xs:element name="boarding" substitutionGroup="t:pilotage"/>
      <xs:element name="shut" type="xs:int" block="substitution"/>
      <xs:element name="shutter" type="xs:int" substitutionGroup="t:shut"/>
      <xs:complexType name="Call"><xs:sequence><xs:element name="at" type="xs:date"/></xs:sequence></xs:complexType>
      <xs:complexType name="LongCall"><xs:complexContent><xs:extension base="t:Call"><xs:sequence>
        <xs:element name="days" type="xs:int"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>
      <xs:element name="call" type="t:Call" abstract="true"/>
      <xs:element name="longCall" type="t:LongCall" substitutionGroup="t:call"/>
      <xs:element name="visit"><xs:complexType><xs:sequence><xs:element ref="t:call"/></xs:sequence></xs:complexType></xs:element>
      <xs:element name="day"><xs:complexType><xs:sequence>
        <xs:element ref="t:event" minOccurs="1" maxOccurs="4"/><xs:element ref="t:shut" minOccurs="0"/>
      </xs:sequence></xs:complexType></xs:element>"""),
    "nillable": _one("""
      <xs:element name="gate"><xs:complexType><xs:sequence>
        <xs:element name="opens" type="xs:dateTime" nillable="true"/>
        <xs:element name="depth" nillable="true"><xs:complexType><xs:simpleContent><xs:extension base="xs:decimal">
          <xs:attribute name="datum" type="xs:string" use="required"/></xs:extension></xs:simpleContent></xs:complexType></xs:element>
        <xs:element name="shut" type="xs:dateTime"/>
      </xs:sequence></xs:complexType></xs:element>"""),
    "mixed": _one("""
      <xs:element name="notice"><xs:complexType mixed="true"><xs:sequence>
        <xs:element name="to" type="xs:string" minOccurs="0"/><xs:element name="when" type="xs:date"/></xs:sequence></xs:complexType></xs:element>
      <xs:complexType name="Text" mixed="true"><xs:choice minOccurs="0" maxOccurs="unbounded"><xs:element name="b" type="xs:string"/></xs:choice></xs:complexType>
      <xs:complexType name="Longer" mixed="true"><xs:complexContent><xs:extension base="t:Text"><xs:sequence>
        <xs:element name="sign" type="xs:string"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>
      <xs:element name="longer" type="t:Longer"/>"""),
    "wildcards": _one(
        """
      <xs:element name="known" type="xs:int"/>
      <xs:element name="lax"><xs:complexType><xs:sequence><xs:element name="a" type="xs:int"/>
        <xs:any namespace="##any" processContents="lax" minOccurs="0" maxOccurs="2"/></xs:sequence>
        <xs:anyAttribute processContents="lax"/></xs:complexType></xs:element>
      <xs:element name="strict"><xs:complexType><xs:sequence><xs:any namespace="##targetNamespace" minOccurs="1" maxOccurs="2"/></xs:sequence></xs:complexType></xs:element>
      <xs:element name="skip"><xs:complexType><xs:sequence><xs:any namespace="##other" processContents="skip" minOccurs="1"/></xs:sequence>
        <xs:anyAttribute namespace="##other" processContents="skip"/></xs:complexType></xs:element>
      <xs:element name="listed"><xs:complexType><xs:sequence><xs:any namespace="urn:x urn:y ##local" processContents="lax" maxOccurs="unbounded"/></xs:sequence></xs:complexType></xs:element>"""
    ),
    "lists and unions": _one("""
      <xs:simpleType name="Marks"><xs:list itemType="xs:short"/></xs:simpleType>
      <xs:simpleType name="Few"><xs:restriction base="t:Marks"><xs:minLength value="2"/><xs:maxLength value="3"/></xs:restriction></xs:simpleType>
      <xs:simpleType name="Size"><xs:restriction base="xs:token"><xs:enumeration value="small"/><xs:enumeration value="large"/></xs:restriction></xs:simpleType>
      <xs:simpleType name="Either"><xs:union memberTypes="xs:positiveInteger t:Size"><xs:simpleType><xs:list itemType="xs:date"/></xs:simpleType></xs:union></xs:simpleType>
      <xs:simpleType name="Some"><xs:restriction base="t:Either"><xs:enumeration value="7"/><xs:enumeration value="small"/></xs:restriction></xs:simpleType>
      <xs:element name="v"><xs:complexType><xs:sequence>
        <xs:element name="marks" type="t:Marks"/><xs:element name="few" type="t:Few"/><xs:element name="either" type="t:Either"/>
        <xs:element name="some" type="t:Some"/><xs:element name="tokens" type="xs:NMTOKENS"/>
      </xs:sequence><xs:attribute name="sizes" type="t:Few"/></xs:complexType></xs:element>"""),
    "facets": _one("""
      <xs:element name="f"><xs:complexType><xs:sequence>
        <xs:element name="code"><xs:simpleType><xs:restriction base="xs:string"><xs:pattern value="[A-Z]{2}-\\d{3}"/><xs:pattern value="X\\d"/></xs:restriction></xs:simpleType></xs:element>
        <xs:element name="both"><xs:simpleType><xs:restriction><xs:simpleType><xs:restriction base="xs:string"><xs:pattern value="[a-m]+"/></xs:restriction></xs:simpleType><xs:pattern value="[c-z]+"/></xs:restriction></xs:simpleType></xs:element>
        <xs:element name="len"><xs:simpleType><xs:restriction base="xs:token"><xs:length value="5"/></xs:restriction></xs:simpleType></xs:element>
        <xs:element name="span"><xs:simpleType><xs:restriction base="xs:string"><xs:minLength value="2"/><xs:maxLength value="4"/></xs:restriction></xs:simpleType></xs:element>
        <xs:element name="num"><xs:simpleType><xs:restriction base="xs:decimal"><xs:totalDigits value="5"/><xs:fractionDigits value="2"/><xs:minExclusive value="0"/><xs:maxInclusive value="250.5"/></xs:restriction></xs:simpleType></xs:element>
        <xs:element name="int"><xs:simpleType><xs:restriction base="xs:integer"><xs:minInclusive value="-3"/><xs:maxExclusive value="9"/></xs:restriction></xs:simpleType></xs:element>
        <xs:element name="day"><xs:simpleType><xs:restriction base="xs:date"><xs:minInclusive value="2026-01-01"/><xs:maxExclusive value="2027-01-01"/></xs:restriction></xs:simpleType></xs:element>
        <xs:element name="wait"><xs:simpleType><xs:restriction base="xs:duration"><xs:maxInclusive value="P1M"/></xs:restriction></xs:simpleType></xs:element>
        <xs:element name="hex"><xs:simpleType><xs:restriction base="xs:hexBinary"><xs:length value="2"/></xs:restriction></xs:simpleType></xs:element>
        <xs:element name="kept"><xs:simpleType><xs:restriction base="xs:string"><xs:whiteSpace value="collapse"/><xs:enumeration value="in port"/><xs:enumeration value="at sea"/></xs:restriction></xs:simpleType></xs:element>
        <xs:element name="ratio"><xs:simpleType><xs:restriction base="xs:double"><xs:minInclusive value="0"/><xs:maxInclusive value="1"/></xs:restriction></xs:simpleType></xs:element>
      </xs:sequence></xs:complexType></xs:element>"""),
    "simple content": _one(
        """
      <xs:simpleType name="Unit"><xs:restriction base="xs:string"><xs:enumeration value="m"/><xs:enumeration value="ft"/></xs:restriction></xs:simpleType>
      <xs:complexType name="Depth"><xs:simpleContent><xs:extension base="xs:decimal">
        <xs:attribute name="unit" type="t:Unit" use="required"/>
        </xs:extension></xs:simpleContent></xs:complexType>
      <xs:complexType name="Shoal"><xs:simpleContent><xs:restriction base="t:Depth"><xs:maxInclusive value="5"/>
        <xs:attribute name="unit" type="t:Unit" fixed="m" use="required"/></xs:restriction></xs:simpleContent></xs:complexType>
      <xs:element name="depth" type="t:Depth"/>
      <xs:element name="soundings"><xs:complexType><xs:sequence><xs:element name="d" type="t:Depth" maxOccurs="unbounded"/></xs:sequence></xs:complexType></xs:element>"""
    ),
    "default and fixed": _one("""
      <xs:element name="order"><xs:complexType><xs:sequence>
        <xs:element name="port" type="xs:string" fixed="Merrow"/><xs:element name="count" type="xs:int" default="3"/>
        <xs:element name="rate" type="xs:decimal" fixed="1.0" minOccurs="0"/></xs:sequence>
        <xs:attribute name="v" type="xs:decimal" fixed="1"/><xs:attribute name="lang" type="xs:language" default="en"/>
      </xs:complexType></xs:element>"""),
    "keys": _one("""
      <xs:element name="roster"><xs:complexType><xs:sequence>
        <xs:element name="pilot" maxOccurs="unbounded"><xs:complexType><xs:sequence><xs:element name="name" type="xs:string"/>
          <xs:element name="call" type="xs:token" minOccurs="0"/></xs:sequence><xs:attribute name="no" type="xs:int" use="required"/></xs:complexType></xs:element>
        <xs:element name="turn" minOccurs="0" maxOccurs="unbounded"><xs:complexType><xs:sequence><xs:element name="pilot" type="xs:int"/></xs:sequence></xs:complexType></xs:element>
      </xs:sequence></xs:complexType>
      <xs:key name="byNo"><xs:selector xpath="t:pilot"/><xs:field xpath="@no"/></xs:key>
      <xs:unique name="calls"><xs:selector xpath=".//t:pilot"/><xs:field xpath="t:call"/></xs:unique>
      <xs:keyref name="turns" refer="t:byNo"><xs:selector xpath="t:turn"/><xs:field xpath="t:pilot"/></xs:keyref>
      </xs:element>"""),
    "recursion": _one(
        """
      <xs:complexType name="Zone"><xs:sequence><xs:element name="name" type="xs:Name"/>
        <xs:element name="zone" type="t:Zone" minOccurs="0" maxOccurs="unbounded"/></xs:sequence></xs:complexType>
      <xs:element name="zone" type="t:Zone"/>
      <xs:element name="term"><xs:complexType><xs:choice><xs:element ref="t:term"/><xs:element name="leaf" type="xs:int"/></xs:choice></xs:complexType></xs:element>"""
    ),
    "many in a choice": _one(
        '<xs:element name="signals"><xs:complexType><xs:choice minOccurs="1" maxOccurs="40">'
        + "".join(
            f'<xs:element name="s{index}" type="xs:{kind}"/>'
            for index, kind in enumerate(
                ("int", "date", "token", "boolean", "anyURI", "gYear", "base64Binary", "language") * 3
            )
        )
        + "</xs:choice></xs:complexType></xs:element>"
    ),
    "builtins": _one(
        '<xs:element name="all"><xs:complexType><xs:sequence>'
        + "".join(
            f'<xs:element name="{kind}" type="xs:{kind}" minOccurs="0"/>'
            for kind in (
                "string",
                "normalizedString",
                "token",
                "language",
                "Name",
                "NCName",
                "NMTOKEN",
                "NMTOKENS",
                "boolean",
                "decimal",
                "integer",
                "nonPositiveInteger",
                "negativeInteger",
                "nonNegativeInteger",
                "positiveInteger",
                "long",
                "int",
                "short",
                "byte",
                "unsignedLong",
                "unsignedInt",
                "unsignedShort",
                "unsignedByte",
                "float",
                "double",
                "duration",
                "dateTime",
                "date",
                "time",
                "gYearMonth",
                "gYear",
                "gMonthDay",
                "gDay",
                "gMonth",
                "hexBinary",
                "base64Binary",
                "anyURI",
                "QName",
                "anySimpleType",
                "anyType",
            )
        )
        + "</xs:sequence></xs:complexType></xs:element>"
    ),
    "unqualified": _one(
        """
      <xs:element name="r"><xs:complexType><xs:sequence>
        <xs:element name="local" type="xs:int"/><xs:element name="q" type="xs:int" form="qualified"/><xs:element ref="t:g" minOccurs="0"/>
        </xs:sequence><xs:attribute name="a" type="xs:int" form="qualified" use="required"/><xs:attribute ref="t:b"/></xs:complexType></xs:element>
      <xs:element name="g" type="xs:string"/><xs:attribute name="b" type="xs:boolean"/>""",
        _HEAD.replace(' elementFormDefault="qualified"', ""),
    ),
    "no namespace": _one(
        '<xs:element name="plain"><xs:complexType><xs:sequence><xs:element name="x"'
        ' type="Y"/></xs:sequence></xs:complexType></xs:element><xs:simpleType name="Y"><xs:restriction'
        ' base="xs:int"><xs:maxInclusive value="10"/></xs:restriction></xs:simpleType>',
        '<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema">',
    ),
    "import and chameleon": {
        "main.xsd": (
            f"""{_HEAD.replace("xmlns:t=", 'xmlns:o="urn:merrow:o" xmlns:t=')}
          <xs:import namespace="urn:merrow:o" schemaLocation="sub/other.xsd"/><xs:include schemaLocation="chameleon.xsd"/>
          <xs:element name="m"><xs:complexType><xs:sequence><xs:element ref="o:e"/><xs:element name="c" type="t:Cham"/></xs:sequence></xs:complexType></xs:element></xs:schema>"""
        ),
        "chameleon.xsd": (
            """<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" elementFormDefault="qualified">
          <xs:include schemaLocation="main.xsd"/>
          <xs:complexType name="Cham"><xs:sequence><xs:element name="k" type="Kind"/></xs:sequence></xs:complexType>
          <xs:simpleType name="Kind"><xs:restriction base="xs:string"><xs:enumeration value="a"/></xs:restriction></xs:simpleType></xs:schema>"""
        ),
        "sub/other.xsd": (
            """<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:merrow:t" targetNamespace="urn:merrow:o">
          <xs:import namespace="urn:merrow:t" schemaLocation="../main.xsd"/>
          <xs:element name="e"><xs:complexType><xs:sequence><xs:element name="i" type="t:Kind"/></xs:sequence></xs:complexType></xs:element></xs:schema>"""
        ),
    },
    "redefine": {
        "main.xsd": (
            f"""{_HEAD}<xs:redefine schemaLocation="base.xsd">
          <xs:complexType name="P"><xs:complexContent><xs:extension base="t:P"><xs:sequence><xs:element name="z" type="xs:int"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>
          <xs:simpleType name="S"><xs:restriction base="t:S"><xs:maxLength value="3"/></xs:restriction></xs:simpleType>
          <xs:group name="G"><xs:sequence><xs:group ref="t:G"/><xs:element name="w" type="xs:int"/></xs:sequence></xs:group>
          <xs:attributeGroup name="AG"><xs:attributeGroup ref="t:AG"/><xs:attribute name="two" type="xs:int"/></xs:attributeGroup>
          </xs:redefine></xs:schema>"""
        ),
        "base.xsd": (
            f"""{_HEAD}<xs:complexType name="P"><xs:sequence><xs:element name="s" type="t:S"/></xs:sequence></xs:complexType>
          <xs:simpleType name="S"><xs:restriction base="xs:string"><xs:minLength value="1"/></xs:restriction></xs:simpleType>
          <xs:group name="G"><xs:sequence><xs:element name="v" type="xs:int"/></xs:sequence></xs:group>
          <xs:attributeGroup name="AG"><xs:attribute name="one" type="xs:int" use="required"/></xs:attributeGroup>
          <xs:element name="p" type="t:P"/><xs:element name="g"><xs:complexType><xs:group ref="t:G"/><xs:attributeGroup ref="t:AG"/></xs:complexType></xs:element></xs:schema>"""
        ),
    },
    "derived wildcards": _one("""
      <xs:complexType name="W"><xs:sequence><xs:element name="a" type="xs:int"/></xs:sequence><xs:anyAttribute namespace="urn:x" processContents="skip"/></xs:complexType>
      <xs:complexType name="V"><xs:complexContent><xs:extension base="t:W"><xs:anyAttribute namespace="urn:y" processContents="skip"/></xs:extension></xs:complexContent></xs:complexType>
      <xs:element name="w" type="t:W"/><xs:element name="v" type="t:V"/>"""),
    "empty content": _one(
        """
      <xs:element name="ping"><xs:complexType/></xs:element>
      <xs:element name="pong"><xs:complexType><xs:sequence/><xs:attribute name="n" type="xs:int"/></xs:complexType></xs:element>
      <xs:element name="bare"><xs:complexType><xs:attribute name="n" type="xs:ID"/></xs:complexType></xs:element>"""
    ),
}
