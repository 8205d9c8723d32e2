"""The XSD engine beside libxml2: samples, mutations, simple types, and what is said of schemas and documents
that are wrong.
"""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from lxml import etree
from xsd_cases import CASES

from juxtalogos.documents.xmltext import local
from juxtalogos.schema.xml import SchemaSet, compile_schemas
from juxtalogos.schema.xml.check.checker import Checker
from juxtalogos.schema.xml.engine import load_tree
from juxtalogos.schema.xml.make.mutate import changes, mutate
from juxtalogos.schema.xml.make.sample import sample_element
from juxtalogos.schema.xml.tell.plain_values import to_element, to_tree
from juxtalogos.schema.xml.tell.text import scope_of, to_text
from juxtalogos.schema.xml.tree.builtins import BUILTINS
from juxtalogos.schema.xml.tree.reader import SchemaReader
from juxtalogos.schema.xml.tree.sources import Sources, schemas_in
from juxtalogos.schema.xml.tree.xml_attributes import add_well_known

XSD = "http://www.w3.org/2001/XMLSchema"
SEEDS = (0, 1, 2, 5)

# Where libxml2 is wrong: (what its verdict is, a pattern of what was changed, the section that says
# otherwise).
LIBXML2_ERRS = (
    ("rejects", r" = ' .*\\n'$", "part 2, 4.3.6: white space around dates, times and durations collapses"),
    ("accepts", r"base64Binary", "part 2, 3.2.16: other characters than Base64's are no value"),
    ("accepts", r"^(NMTOKENS|tokens) = ''", "part 2, 3.3.5: NMTOKENS has one token at least"),
    ("rejects", r"= '9{20}'", "part 2, 3.2.11: years have no limit"),
    ("rejects", r"^rate = ", "part 1, 3.3.4, clause 5.2.2.2.2: values are compared, not texts"),
)


def compiled(tmp_path: Path, name: str) -> tuple[SchemaSet, etree.XMLSchema]:
    for file, text in CASES[name].items():
        (tmp_path / file).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / file).write_text(text)
    found = compile_schemas([tmp_path / "main.xsd"])
    assert found.faults == ()
    return found, etree.XMLSchema(etree.parse(str(tmp_path / "main.xsd")))


@pytest.mark.parametrize("name", CASES)
def test_samples_and_mutations_get_the_verdict_of_libxml2(tmp_path: Path, name: str) -> None:
    ours, oracle = compiled(tmp_path, name)
    reader = ours.reader
    prefixes = scope_of(reader.prefixes)
    made = 0
    for kind, qualified in list(reader.sources.entries):
        declared = reader.element(qualified) if kind == "element" else None
        if declared is None or declared.abstract:
            continue
        for seed in SEEDS:
            element = sample_element(reader, declared, full=seed == 0, seed=seed)
            text = to_text(element, reader.prefixes)
            assert oracle.validate(etree.fromstring(text)), (text, oracle.error_log)
            assert ours.accepts(text)
            # The fast way and the explaining one note the same.
            checker = Checker(reader, lambda _: prefixes)
            checker.root(element, declared)
            found = ours.fast.examine(element, declared, lambda _: prefixes)
            assert found is None or (found[0] == [] and found[1] == checker.hits)
            # As a plain value and back, it is still valid, and the same value.
            plain = json.loads(json.dumps(to_tree(element, declared, reader, lambda _: prefixes)))
            back = to_element(plain, declared, reader)
            assert ours.accepts(to_text(back, reader.prefixes)), plain
            assert to_tree(back, declared, reader, lambda _: prefixes) == plain
            for what, changed in changes(reader, declared, element):
                text = to_text(changed, reader.prefixes, indent=False)
                verdict, mine = oracle.validate(etree.fromstring(text)), ours.accepts(text)
                made += 1
                if verdict != mine:
                    word = "accepts" if verdict else "rejects"
                    assert any(word == how and re.search(where, what) for how, where, _ in LIBXML2_ERRS), (
                        word,
                        what,
                        text,
                    )
    assert made > 50


@pytest.mark.parametrize("name", CASES)
def test_every_mutation_is_told_by_place_and_rule(tmp_path: Path, name: str) -> None:
    ours, _ = compiled(tmp_path, name)
    for kind, qualified in list(ours.reader.sources.entries):
        declared = ours.reader.element(qualified) if kind == "element" else None
        if declared is None or declared.abstract:
            continue
        for one in mutate(ours.reader, declared, sample_element(ours.reader, declared, full=True)):
            found = ours.check(to_text(one.value, ours.reader.prefixes, indent=False))
            assert found and found[0].keyword == one.keyword and found[0].path.endswith(one.path)
            assert found[0].declared and found[0].observed


TEXTS = (
    "",
    "1",
    "0",
    " true ",
    "01",
    "+1",
    "-0",
    "1.0",
    ".5",
    "1.",
    "1e3",
    "INF",
    "-INF",
    "+INF",
    "NaN",
    "2026-11-25",
    "2026-02-30",
    "2024-02-29",
    "0000-01-01",
    "-0001-01-01",
    "12026-01-01",
    "2026-11-25Z",
    "2026-11-25+14:00",
    "2026-11-25+14:01",
    "2026-11-25T24:00:00",
    "2026-11-25T24:00:01",
    "2026-11-25T10:20:30.5Z",
    "10:20:30",
    "24:00:00",
    "10:20:60",
    "P1Y",
    "P",
    "PT",
    "P1M2DT3H",
    "-P1D",
    "P1.5D",
    "PT1.5S",
    "2026-11",
    "2026",
    "--11",
    "--11-31",
    "--02-29",
    "---31",
    "---32",
    "0a",
    "0A ff",
    "YQ==",
    "YWI=",
    "YWJj",
    "YW Jj",
    "YQ=",
    "YR==",
    "a:b",
    "xs:foo",
    "http://x/y z",
    "%zz",
    "a#b#c",
    "://x",
    "a b",
    "a  b",
    "\ta\n",
    "é",
    "x-y.z",
    "1a",
    "en-GB",
    "english-toolong",
    "-129",
    "128",
    "255",
    "256",
    "18446744073709551616",
    "-9223372036854775809",
    "urn:é",
    "[",
    "http://[::1]/",
    "--11--",
    "#a",
    "?x",
    "x:",
    "1:2",
    "./a:b",
)


@pytest.mark.parametrize(
    "name", [name for name in BUILTINS if name not in ("anySimpleType", "NOTATION") and "ENTIT" not in name]
)
def test_built_in_types(name: str) -> None:
    head = f'<xs:schema xmlns:xs="{XSD}"><xs:element name="e" type="xs:{name}"/></xs:schema>'
    oracle = etree.XMLSchema(etree.XML(head))
    for text in TEXTS:
        element = etree.Element("e", nsmap={"xs": XSD})
        element.text = text
        theirs, mine = oracle.validate(element), BUILTINS[name].accepts(text, {"xs": XSD})
        wrong = (
            (name == "base64Binary" and theirs)  # part 2, 3.2.16
            or (name in ("NMTOKENS", "IDREFS") and text == "")  # part 2, 3.3.5 and 3.3.10
            or (name == "gYear" and len(text) > 18)  # part 2, 3.2.11
        )
        assert theirs == mine or wrong, text


FAULTS = (
    (
        (
            '<xs:element name="a" type="t:Jop"/><xs:simpleType name="Job"><xs:restriction'
            ' base="xs:int"/></xs:simpleType>'
        ),
        "there is no type t:Jop",
        "element[@name='a']/@type|element/@type",
        "did you mean Job",
    ),
    (
        (
            '<xs:element name="a"><xs:complexType><xs:sequence><xs:element'
            ' ref="t:b"/></xs:sequence></xs:complexType></xs:element>'
        ),
        "there is no element t:b",
        "@ref",
        "",
    ),
    (
        (
            '<xs:simpleType name="S"><xs:restriction base="xs:int"><xs:minInclusive'
            ' value="x"/></xs:restriction></xs:simpleType>'
        ),
        "minInclusive is x",
        "minInclusive",
        "correct it",
    ),
    (
        (
            '<xs:simpleType name="S"><xs:restriction base="xs:string"><xs:pattern'
            ' value="[a"/></xs:restriction></xs:simpleType>'
        ),
        "[a is no pattern",
        "pattern",
        "appendix F",
    ),
    (
        (
            '<xs:simpleType name="S"><xs:restriction base="xs:string"><xs:maxInclusive'
            ' value="3"/></xs:restriction></xs:simpleType>'
        ),
        "maxInclusive has no meaning for string",
        "maxInclusive",
        "remove it",
    ),
    (
        (
            '<xs:simpleType name="S"><xs:restriction base="xs:string"><xs:totalDigits'
            ' value="3"/></xs:restriction></xs:simpleType>'
        ),
        "totalDigits has no meaning for string",
        "totalDigits",
        "remove it",
    ),
    (
        (
            '<xs:simpleType name="S"><xs:restriction base="xs:date"><xs:length'
            ' value="3"/></xs:restriction></xs:simpleType>'
        ),
        "length has no meaning for date",
        "length",
        "remove it",
    ),
    (
        '<xs:simpleType name="S"><xs:restriction base="t:S"/></xs:simpleType>',
        "derived from itself",
        "simpleType",
        "another base",
    ),
    (
        (
            '<xs:complexType name="C"><xs:complexContent><xs:extension'
            ' base="t:C"/></xs:complexContent></xs:complexType>'
        ),
        "derived from itself",
        "@base",
        "another base",
    ),
    (
        '<xs:group name="G"><xs:sequence><xs:group ref="t:G"/></xs:sequence></xs:group>',
        "this group contains itself",
        "group",
        "break the circle",
    ),
    (
        '<xs:attributeGroup name="G"><xs:attributeGroup ref="t:G"/></xs:attributeGroup>',
        "this attribute group contains itself",
        "attributeGroup",
        "break",
    ),
    (
        '<xs:element name="a"/><xs:element name="a" type="xs:int"/>',
        "element a is declared twice",
        "element[2]",
        "remove",
    ),
    (
        (
            '<xs:complexType name="C"><xs:sequence><xs:element name="x" minOccurs="3"'
            ' maxOccurs="2"/></xs:sequence></xs:complexType>'
        ),
        "minOccurs is 3, more than maxOccurs 2",
        "element",
        "correct",
    ),
    (
        '<xs:include schemaLocation="main.xsd"/><xs:import namespace="urn:other" schemaLocation="main.xsd"/>',
        "namespace 'urn:other' is imported",
        "import",
        "same namespace",
    ),
    ("<xs:sequence/>", "<sequence> cannot stand here", "sequence", ""),
    (
        (
            '<xs:element name="a"><xs:complexType/><xs:key name="k"><xs:selector xpath="a[1]"/><xs:field'
            ' xpath="@b"/></xs:key></xs:element>'
        ),
        "'a[1]' is no selector",
        "key",
        "3.11.6",
    ),
    (
        (
            '<xs:simpleType name="S" final="restriction"><xs:restriction'
            ' base="xs:int"/></xs:simpleType><xs:simpleType name="T"><xs:restriction'
            ' base="t:S"/></xs:simpleType>'
        ),
        "does not allow restriction",
        "restriction",
        "derive otherwise",
    ),
    (
        (
            '<xs:element name="a"><xs:complexType><xs:sequence><xs:element name="x"'
            ' minOccurs="0"/><xs:element name="x"/></xs:sequence></xs:complexType></xs:element>'
        ),
        "it is open which declaration x belongs to",
        "complexType",
        "unique particle attribution",
    ),
    (
        (
            '<xs:element name="a"><xs:complexType><xs:sequence><xs:any minOccurs="0"/><xs:element'
            ' name="x"/></xs:sequence></xs:complexType></xs:element>'
        ),
        "it is open which declaration x belongs to",
        "complexType",
        "",
    ),
    (
        (
            '<xs:complexType name="B"><xs:sequence><xs:element'
            ' name="x"/></xs:sequence></xs:complexType><xs:complexType'
            ' name="R"><xs:complexContent><xs:restriction base="t:B"><xs:sequence><xs:element'
            ' name="x"/><xs:element'
            ' name="y"/></xs:sequence></xs:restriction></xs:complexContent></xs:complexType>'
        ),
        "this restriction lets in y, which its base B does not",
        "'R'",
        "extension",
    ),
)


@pytest.mark.parametrize(("body", "what", "place", "mend"), FAULTS)
def test_faults_of_schemas(tmp_path: Path, body: str, what: str, place: str, mend: str) -> None:
    head = f'<xs:schema xmlns:xs="{XSD}" xmlns:t="urn:t" targetNamespace="urn:t">'
    (tmp_path / "main.xsd").write_text(f"{head}\n{body}</xs:schema>")
    faults = compile_schemas([tmp_path / "main.xsd"]).faults
    assert [one for one in faults if what in one.what], faults
    found = next(one for one in faults if what in one.what)
    assert any(part in found.location.pointer for part in place.split("|")) and mend in found.mend


ROSTER = f"""<xs:schema xmlns:xs="{XSD}" xmlns="urn:r" targetNamespace="urn:r" elementFormDefault="qualified">
<xs:element name="roster"><xs:complexType><xs:sequence>
  <xs:element name="pilot" maxOccurs="3"><xs:complexType><xs:sequence>
    <xs:element name="code"><xs:simpleType><xs:restriction base="xs:token"><xs:pattern value="[A-Z]{{3}}"/></xs:restriction></xs:simpleType></xs:element>
    <xs:element name="since" type="xs:date"/>
    <xs:choice minOccurs="0"><xs:element name="leave" type="xs:date"/><xs:element name="ill" type="xs:boolean"/></xs:choice>
  </xs:sequence><xs:attribute name="no" type="xs:int" use="required"/></xs:complexType></xs:element>
</xs:sequence></xs:complexType></xs:element></xs:schema>"""
GOOD = '<pilot no="1"><code>ABE</code><since>2009-01-01</since></pilot>'
TOLD = (
    (GOOD.replace("ABE", "abe"), "/roster/pilot[1]/code", "pattern", "matching [A-Z]{3}", "abe"),
    (GOOD.replace("<since>2009-01-01</since>", ""), "/roster/pilot[1]", "missing", "since", "nothing more"),
    (GOOD.replace("<code>ABE</code>", ""), "/roster/pilot[1]/since", "missing", "code", "since"),
    (
        GOOD.replace(' no="1"', ""),
        "/roster/pilot[1]/@no",
        "required",
        "the attribute no",
        "no such attribute",
    ),
    (
        GOOD.replace("</pilot>", "<sick/></pilot>"),
        "/roster/pilot[1]/sick",
        "undeclared",
        "leave or ill",
        "sick",
    ),
    (
        GOOD.replace("</pilot>", "<ill>1</ill><leave>2026-01-01</leave></pilot>"),
        "/roster/pilot[1]/leave",
        "order",
        "nothing more",
        "leave, out of its order",
    ),
    (GOOD.replace("2009-01-01", "2009-02-30"), "/roster/pilot[1]/since", "type", "date", "2009-02-30"),
    (GOOD * 4, "/roster/pilot[4]", "order", "nothing more", "pilot, out of its order"),
    (GOOD + GOOD.replace('no="1"', 'no="x"'), "/roster/pilot[2]/@no", "type", "int", "x"),
    (GOOD.replace("<code>", "text<code>"), "/roster/pilot[1]", "text", "elements only", "the text text"),
)


@pytest.mark.parametrize(("inner", "path", "keyword", "declared", "observed"), TOLD)
def test_what_is_said(
    tmp_path: Path, inner: str, path: str, keyword: str, declared: str, observed: str
) -> None:
    (tmp_path / "roster.xsd").write_text(ROSTER)
    schemas = compile_schemas([tmp_path / "roster.xsd"])
    found = schemas.check(f'<roster xmlns="urn:r">{inner}</roster>')
    assert (found[0].path, found[0].keyword, found[0].declared, found[0].observed) == (
        path,
        keyword,
        declared,
        observed,
    )
    assert found[0].location.document.endswith("roster.xsd") and found[0].location.pointer.startswith(
        "/schema/element"
    )


def test_broken_items_are_told_in_order_with_the_hits_of_the_rest(tmp_path: Path) -> None:
    (tmp_path / "roster.xsd").write_text(ROSTER.replace('maxOccurs="3"', 'maxOccurs="unbounded"'))
    schemas = compile_schemas([tmp_path / "roster.xsd"])
    items = [GOOD.replace("ABE", "abe") if index % 7 == 3 else GOOD for index in range(50)]
    found = schemas.check(f'<roster xmlns="urn:r">{"".join(items)}</roster>')
    assert [one.path for one in found] == [
        f"/roster/pilot[{index + 1}]/code" for index in range(50) if index % 7 == 3
    ]


def test_ids_and_references(tmp_path: Path) -> None:
    text = f"""<xs:schema xmlns:xs="{XSD}"><xs:simpleType name="Key"><xs:restriction base="xs:ID"/></xs:simpleType><xs:element name="r"><xs:complexType><xs:sequence>
      <xs:element name="a" maxOccurs="unbounded"><xs:complexType><xs:simpleContent><xs:extension base="xs:IDREFS"><xs:attribute name="k" type="Key" use="required"/>
      </xs:extension></xs:simpleContent></xs:complexType></xs:element></xs:sequence></xs:complexType></xs:element></xs:schema>"""
    (tmp_path / "ids.xsd").write_text(text)
    schemas = compile_schemas([tmp_path / "ids.xsd"])
    told = {
        '<r><a k="x">y x</a><a k="y">x</a></r>': [],
        '<r><a k="x">x</a><a k="x">x</a></r>': [("/r/a[2]/@k", "id")],
        '<r><a k="x">z x q</a></r>': [("/r/a[1]", "idref"), ("/r/a[1]", "idref")],
    }
    for document, found in told.items():
        for _ in range(2):
            assert [(one.path, one.keyword) for one in schemas.check(document)] == found


RULES = f"""<xs:schema xmlns:xs="{XSD}">
<xs:element name="log"><xs:complexType><xs:sequence>
  <xs:element name="entry" maxOccurs="9"><xs:complexType><xs:sequence>
    <xs:element name="mark" type="xs:string" maxOccurs="2" minOccurs="0"/><xs:element name="at" type="xs:date" nillable="true" minOccurs="0"/></xs:sequence>
    <xs:attribute name="like" type="xs:string"/></xs:complexType></xs:element>
  <xs:element name="depth" type="Sounding" minOccurs="0"/></xs:sequence></xs:complexType>
  <xs:unique name="marks"><xs:selector xpath="entry"/><xs:field xpath="mark|./mark"/></xs:unique></xs:element>
<xs:complexType name="Depth"><xs:simpleContent><xs:extension base="xs:decimal"/></xs:simpleContent></xs:complexType>
<xs:complexType name="Sounding"><xs:complexContent><xs:extension base="Depth"><xs:attribute name="datum" type="xs:string" use="required"/></xs:extension></xs:complexContent></xs:complexType>
</xs:schema>"""
BY_RULE = (
    # (what is in the log, its deviations); libxml2 says the same of each
    ("<entry><mark>a</mark></entry><entry><mark>b</mark></entry>", []),
    ("<entry><mark>a</mark><mark>b</mark></entry>", [("/log/entry[1]", "key")]),  # cvc-identity-constraint, 3
    ('<entry><at xsi:nil="false">2026-01-01</at></entry>', []),
    ('<entry xsi:nil="false"/>', [("/log/entry[1]/@nil", "nillable")]),  # cvc-elt, 3.1
    ('<entry xsi:nil="true"/>', [("/log/entry[1]/@nil", "nillable")]),
    ('<entry/><depth datum="chart">4.5</depth>', []),  # cos-ct-extends, 1.4.1
    ('<entry/><depth datum="chart">deep</depth>', [("/log/depth", "type")]),
    ("<entry/><depth>4.5</depth>", [("/log/depth/@datum", "required")]),
)


@pytest.mark.parametrize(("inner", "found"), BY_RULE)
def test_rules_that_are_seldom_met(tmp_path: Path, inner: str, found: list[tuple[str, str]]) -> None:
    (tmp_path / "log.xsd").write_text(RULES)
    schemas = compile_schemas([tmp_path / "log.xsd"])
    assert schemas.faults == ()
    text = f'<log xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance">{inner}</log>'
    assert [(one.path, one.keyword) for one in schemas.check(text)] == found
    assert etree.XMLSchema(etree.XML(RULES)).validate(etree.XML(text)) == (not found)


@pytest.mark.parametrize("name", CASES)
def test_what_is_asked_first_changes_nothing(tmp_path: Path, name: str) -> None:
    """A set of schemas read at once, and the same read one question at a time: stand-ins,
    variants, samples.
    """
    compiled(tmp_path, name)
    trees = {file: load_tree(tmp_path / file, file) for file in CASES[name]}
    whole, lazy = compile_schemas([tmp_path / "main.xsd"]).reader, SchemaReader(Sources(trees.get))
    lazy.sources.add("main.xsd", trees["main.xsd"], schemas_in(trees["main.xsd"]))
    add_well_known(lazy.sources)
    for kind, qualified in list(whole.sources.entries):
        ours, theirs = whole.element(qualified), lazy.global_element(qualified)
        if kind != "element" or ours is None or theirs is None:
            continue
        assert list(whole.substitutes(ours)) == list(lazy.substitutes(theirs)), qualified
        assert [one.name for one in whole.variants(ours)] == [one.name for one in lazy.variants(theirs)]
        if not ours.abstract:
            made = [
                to_text(sample_element(one, of, full=True), one.prefixes)
                for one, of in ((whole, ours), (lazy, theirs))
            ]
            assert made[0] == made[1]


def test_the_library_face(tmp_path: Path) -> None:
    (tmp_path / "roster.xsd").write_text(ROSTER)
    schemas = compile_schemas([tmp_path / "roster.xsd"])
    document = schemas.sample("{urn:r}roster", full=True)
    assert schemas.accepts(document) and not schemas.accepts(b"<roster/>") and not schemas.accepts(b"<roster")
    assert [local(one.tag) for one in etree.fromstring(document)] == ["pilot"]
    assert schemas.check("<other/>")[0].keyword == "undeclared"
