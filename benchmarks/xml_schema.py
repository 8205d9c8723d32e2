"""Checking XML beside `lxml.etree.XMLSchema` (libxml2) and `xmlschema`, in the same run; with hits on our
side.

    python benchmarks/xml_schema.py [ROUNDS]

Cases: (a) 100 kB of 4,500 elements, few values twice; (b) the same with values that repeat; (c) attributes
and simple
content; (d) deep content models with choices; (e) (a) with 1 % of the items broken. Documents are parsed
before; what is
measured is the check. Ratios are medians of each round's.
"""

from __future__ import annotations

import statistics
import sys
import time
import xml.etree.ElementTree as ET
from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import xmlschema
from lxml import etree

from juxtalogos.documents.xmltree import read_tree
from juxtalogos.schema.xml import compile_schemas

SCHEMA = """<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:h="urn:merrow:h" targetNamespace="urn:merrow:h" elementFormDefault="qualified">
<xs:simpleType name="Kind"><xs:restriction base="xs:token"><xs:enumeration value="inward"/><xs:enumeration value="outward"/><xs:enumeration value="shift"/></xs:restriction></xs:simpleType>
<xs:simpleType name="Code"><xs:restriction base="xs:token"><xs:pattern value="[A-Z]{2}-[0-9]{4,6}"/></xs:restriction></xs:simpleType>
<xs:element name="log"><xs:complexType><xs:sequence><xs:element name="job" minOccurs="0" maxOccurs="unbounded"><xs:complexType><xs:sequence>
 <xs:element name="code" type="h:Code"/><xs:element name="kind" type="h:Kind"/><xs:element name="vessel"><xs:complexType><xs:sequence>
 <xs:element name="name" type="xs:string"/><xs:element name="draught" type="xs:decimal"/></xs:sequence></xs:complexType></xs:element>
 <xs:element name="at" type="xs:dateTime"/><xs:element name="tugs" type="xs:unsignedByte"/><xs:element name="remark" type="xs:string" minOccurs="0"/>
 </xs:sequence></xs:complexType></xs:element></xs:sequence></xs:complexType></xs:element>
<xs:element name="soundings"><xs:complexType><xs:sequence><xs:element name="s" maxOccurs="unbounded"><xs:complexType><xs:simpleContent><xs:extension base="xs:decimal">
 <xs:attribute name="unit" type="xs:token" use="required"/><xs:attribute name="no" type="xs:int" use="required"/></xs:extension></xs:simpleContent></xs:complexType></xs:element></xs:sequence></xs:complexType></xs:element>
<xs:complexType name="Move"><xs:choice maxOccurs="unbounded"><xs:element name="go" type="xs:token"/><xs:element name="turn" type="xs:int"/><xs:sequence><xs:element name="hold" type="xs:duration"/><xs:element name="then" type="h:Move" minOccurs="0"/></xs:sequence></xs:choice></xs:complexType>
<xs:element name="plan" type="h:Move"/></xs:schema>"""  # noqa: E501


def _log(count: int, distinct: int, broken: int = 0) -> str:
    jobs = []
    for index in range(count):
        number = index % distinct
        kind = "towage" if broken and index % broken == 0 else ("inward", "outward", "shift")[number % 3]
        jobs.append(
            f"<job><code>PJ-{1000 + number}</code><kind>{kind}</kind><vessel><name>Tern"
            f" {number}</name><draught>{4 + number / 100:.2f}</draught></vessel>"
            f"<at>2026-11-{1 + number % 28:02}T08:{number % 60:02}:00Z</at><tugs>{number % 5}</tugs></job>"
        )
    return f'<log xmlns="urn:merrow:h">{"".join(jobs)}</log>'


def _soundings() -> str:
    rows = "".join(f'<s unit="m" no="{index}">{index / 8}</s>' for index in range(3_000))
    return f'<soundings xmlns="urn:merrow:h">{rows}</soundings>'


def _plan(depth: int = 30) -> str:
    inner = "<go>quay</go>"
    for index in range(depth):
        inner = (
            f"<turn>{index}</turn><hold>PT{index}M</hold><then>{inner}</then>"
            + "<go>mole</go><turn>7</turn>" * 30
        )
    return f'<plan xmlns="urn:merrow:h">{inner}</plan>'


CASES = {
    "a": _log(567, 10_000),
    "b": _log(567, 40),
    "c": _soundings(),
    "d": _plan(),
    "e": _log(567, 10_000, broken=100),
}


def _timed(work: Callable[[Any], object], document: Any) -> float:
    start = time.process_time()
    work(document)
    return time.process_time() - start


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 15
    with TemporaryDirectory() as folder:
        path = Path(folder) / "log.xsd"
        path.write_text(SCHEMA)
        ours = compile_schemas([path])
        libxml2 = etree.XMLSchema(etree.parse(str(path)))
        peer = xmlschema.XMLSchema(str(path))
    print(
        f"{'case':4} {'elements':>8} {'ours ms':>8} {'libxml2':>8} {'xmlschema':>9} {'/libxml2':>8}"
        f" {'xmlschema/ours':>14}"
    )
    for name, text in CASES.items():
        tree, parsed = read_tree(text.encode()), etree.fromstring(text.encode())
        plain: ET.Element = ET.fromstring(text)
        rows = []
        for _ in range(rounds):
            mine = _timed(ours.examine, tree)
            other = _timed(libxml2.validate, parsed)
            slow = _timed(lambda document: list(peer.iter_errors(document)), plain)
            rows.append((mine, other, slow, mine / max(other, 1e-9), slow / max(mine, 1e-9)))
        mine, other, slow, ratio, faster = (statistics.median(column) for column in zip(*rows))
        count = sum(1 for _ in plain.iter())
        print(
            f"{name:4} {count:8} {mine * 1e3:8.2f} {other * 1e3:8.2f} {slow * 1e3:9.1f} {ratio:8.2f}"
            f" {faster:14.1f}"
        )


if __name__ == "__main__":
    main()
