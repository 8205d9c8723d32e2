"""WSDL and SOAP from end to end: the built program on the pilotage service, and the wire form in all its
styles.
"""

from __future__ import annotations

import base64
import hashlib
import os
import re
import subprocess
import sys
from collections.abc import Callable, Iterator
from email import message_from_bytes, policy
from importlib import resources
from pathlib import Path
from typing import Any

import pytest
from lxml import etree

from conftest import KEY, KEY_ENV, ROOT, Result, serving, sign, trusting
from juxtalogos.check import check_exchange, examined
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.exchange.sign_in import Signer
from juxtalogos.exchange.signing import Credential
from juxtalogos.formats import FORMATS, wire_of
from juxtalogos.formats.soap.wire.envelope import closed
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import Unsampleable, UsageError
from juxtalogos.model.exchange import Exchange, Request, Response, Timings, header
from juxtalogos.model.wire import Inputs
from juxtalogos.run.judging.judge import judge
from juxtalogos.workspace.files import folder_fetch
from juxtalogos.workspace.workspace import Workspace

Jux = Callable[..., Result]
FILES = ("pilotage.wsdl", "pilotage-types.xsd")
SOAP = FORMATS["soap"]
E11, E12 = "http://schemas.xmlsoap.org/soap/envelope/", "http://www.w3.org/2003/05/soap-envelope"


def demo_text(name: str) -> str:
    return resources.files("juxtalogos.demo").joinpath(name).read_text("utf-8")


def write_demo(folder: Path, change: tuple[str, str] = ("", "")) -> Path:
    folder.mkdir(exist_ok=True)
    for name in FILES:
        text = demo_text(name)
        (folder / name).write_text(text.replace(*change) if name == FILES[0] and change[0] else text)
    return folder / FILES[0]


@pytest.fixture
def office(tmp_path: Path, jux: Jux) -> Iterator[Path]:
    """A workspace with the pilotage contract and a target, the service running without deviations."""
    wsdl = write_demo(tmp_path / "given")
    with serving() as url:
        home = tmp_path / "work"
        jux("init", home)
        jux("import", wsdl, "-C", home)
        target = (
            "\n[targets.quay]\nurl ="
            f' "{url.replace("/v1", "/pilotage")}"\n[targets.quay.credentials.token]\nuser = "desk"\nenv ='
            ' "MERROW_KEY"\n'
        )
        with (home / "juxtalogos.toml").open("a") as config:
            config.write(target)
        trusting(home)
        yield home


def body_schema(tmp_path: Path) -> etree.XMLSchema:
    tree = etree.parse(str(tmp_path / "given" / FILES[0]))
    schema = tree.find(".//{http://www.w3.org/2001/XMLSchema}schema")
    (tmp_path / "given" / "inline.xsd").write_bytes(etree.tostring(schema))
    return etree.XMLSchema(etree.parse(str(tmp_path / "given" / "inline.xsd")))


def test_look_fill_send(tmp_path: Path, jux: Jux, office: Path) -> None:
    listed = jux("show", "pilotage", "--json", "-C", office).json["operations"]
    assert [(one["id"], one["port"], one["version"], one["style"]) for one in listed][::6] == [
        ("planJob", "JobsPort", "SOAP 1.1", "document/literal"),
        ("listPilots", "WatchPort", "SOAP 1.2", "document/literal"),
    ]
    shown = jux("show", "quoteFee", "-C", office).out
    assert re.search(r"body/atDay +date +instead of atNight", shown)
    assert "response 500 with the fault TooDeep" in jux("show", "planJob", "-C", office).out
    oracle = body_schema(tmp_path)
    for operation in (one["id"] for one in listed):
        for extra in ((), ("--full",)):
            envelope = etree.fromstring(
                jux("skeleton", operation, "--form", "body", *extra, "-C", office).out.encode()
            )
            body = envelope.find("{*}Body")[0]
            assert oracle.validate(body), oracle.error_log
    message = jux("skeleton", "rosterPilot", "-C", office).out
    assert (
        'application/soap+xml; charset=utf-8; action="urn:merrow:pilotage:rosterPilot"' in message
        and "<p:Desk>" in message
    )
    sent = jux(
        "call",
        "planJob",
        "--json",
        "-C",
        office,
        *_sets(
            "body/order/@xsi:type=EscortOrder",
            "body/order/leadTug=T4",
            "body/order/distanceCables=3",
            "body/order/to/sea/@buoy=M7",
            "body/order/remark/0=first",
            "body/order/remark/1=second",
            "body/order/vessel/name=Tern & Gull",
            "body/order/@urgent=true",
        ),
        env=KEY_ENV,
        status=None,
    )
    request = etree.fromstring(sent.json["request"]["body"].encode())
    order = request.find(".//{*}order")
    assert [etree.QName(one).localname for one in order] == [
        "kind",
        "vessel",
        "from",
        "to",
        "plannedFor",
        "remark",
        "remark",
        "leadTug",
        "distanceCables",
    ]
    assert (
        order.get("{http://www.w3.org/2001/XMLSchema-instance}type") == "h:EscortOrder"
        and order.get("urgent") == "true"
    )
    to = [etree.QName(one).localname for one in order.find("{*}to")]
    assert to == ["sea"]  # the branch that was set took the place of the sample's
    told = jux("show", "planJob", "-C", office, env={"COLUMNS": "160"}).out
    assert re.search(r"body/order/leadTug +token +with @xsi:type EscortOrder; matching T", told)
    assert KEY not in sent.out and request.find(".//{*}Password").text == "[redacted]"


def test_the_documented_commands_run(tmp_path: Path, jux: Jux) -> None:
    """The first block of docs/soap.md, as written but for the port."""
    text = (ROOT / "docs" / "soap.md").read_text("utf-8")
    block = next(part for part in text.split("\n\n") if part.startswith("    juxtalogos import"))
    jux("init", tmp_path / "w")
    with serving() as url:
        for line in block.splitlines():
            words = line.replace("http://127.0.0.1:8480", url.removesuffix("/v1")).split()[1:]
            result = jux(*words, "-C", tmp_path / "w")
            assert result.out
    assert "PJ-1001" in result.out and "passed" in result.out


def _sets(*texts: str) -> list[str]:
    return [word for text in texts for word in ("--set", text)]


def test_tables_and_questions(jux: Jux, office: Path) -> None:
    table = jux(
        "skeleton",
        "planJob",
        "--form",
        "table",
        *_sets(),
        "--input",
        "body/order/kind",
        "--input",
        "body/order/tugs",
        "-C",
        office,
    ).out
    assert table.splitlines() == [
        "kind,tugs",
        "inward,3",
        "outward,3",
        "shift,3",
        "escort,3",
        "inward,0",
        "inward,4",
    ]
    jux("call", "planJob", "-C", office, env=KEY_ENV)
    asked = subprocess.run(
        [sys.executable, "-m", "juxtalogos", "call", "getJob", "--ask", "-C", str(office)],
        input="PJ-1\nPJ-1001\n",
        capture_output=True,
        text=True,
        env={**os.environ, **KEY_ENV},
    )
    assert "matching PJ-[0-9]{4,6} expected, PJ-1 given" in asked.stderr and asked.returncode == 0, (
        asked.stderr
    )
    assert "<p:jobId>PJ-1001</p:jobId>" in asked.stdout


WRONG = (
    ("body/order/vesel/name=x", "there is no body/order/vesel/name", "did you mean body/order/vessel/name"),
    ("body/order/vessel=x", "body/order/vessel has elements within: name", "body/order/vessel/name=VALUE"),
    ("body/order/@urgnt=1", "there is no body/order/@urgnt", "@urgent"),
    ("body/order/@xsi:type=Escort", "Escort is no type of it", "EscortOrder"),
    ("body/order/kind/x=1", "there is no body/order/kind/x", "did you mean body/order/kind"),
    ("header.Desk=1", "", ""),
    ("query.x=1", "planJob has no input query.x", ""),
)


@pytest.mark.parametrize(("setting", "what", "mend"), WRONG)
def test_inputs_that_do_not_fit(jux: Jux, office: Path, setting: str, what: str, mend: str) -> None:
    result = jux("skeleton", "planJob", "--set", setting, "-C", office, status=None)
    assert what in result.err and mend in result.err and (result.status == 2) is bool(what)


def test_compose_run_cover_audit(tmp_path: Path, jux: Jux, office: Path) -> None:
    told = jux("compose", "pilotage", "-C", office).out
    assert "left out: tideGate  its effect is unknown: juxtalogos rules OPERATION --does WORD" in told
    jux("rules", "tideGate", "--does", "read", "-C", office)
    assert re.search(r"pilotage +tideGate +does +read", jux("rules", "-C", office).out)
    jux("compose", "pilotage", "-C", office)
    suite = (office / "suites" / "pilotage.arazzo.yaml").read_text()
    assert (
        "selector: //p:PlanJobResponse/p:job/h:jobId" in suite
        and "x-juxtalogos-namespaces" in suite
        and "type: soap" not in suite
    )
    ran = jux("run", "-C", office, env=KEY_ENV)
    assert "0 failed" not in ran.out and ran.out.count(" passed ") >= 17
    table = jux("coverage", "-C", office).out
    assert (
        re.search(r"operations +10 +10 +100", table)
        and re.search(r"faults +4 +5", table)
        and re.search(r"nulls +2 +2", table)
    )
    har = tmp_path / "all.har"
    jux("exchanges", "--har", har, "-C", office)
    assert "[redacted]" in har.read_text() and KEY not in har.read_text()
    audited = jux("audit", har, "--target", "quay", "-C", office)
    assert "no findings" in audited.out and "skipped" not in audited.out.splitlines()[-1]
    assert KEY.encode() not in (office / ".juxtalogos" / "ledger.sqlite").read_bytes()


def test_pin_link_and_keep(jux: Jux, office: Path) -> None:
    jux("call", "planJob", "--save", "first#plan", "-C", office, env=KEY_ENV)
    jux(
        "call",
        "getJob",
        "--set",
        "body/jobId=@1#/job/jobId",
        "--save",
        "first#plan",
        "-C",
        office,
        env=KEY_ENV,
    )
    places = jux("pin", "--list", "--json", "-C", office).json["places"]
    state = next(one for one in places if one["address"].endswith("/state"))
    assert state["address"] == "body/job/state" and state["value"] == "planned"
    jux("pin", state["number"], "-C", office)
    jux("pin", "body/job/order/vessel/draughtMetres", "--test", "type", "-C", office)  # by its declared type
    jux("pin", "--whole", "jobs/one", "--twice", "-C", office, env=KEY_ENV)
    suite = (office / "suites" / "first.arazzo.yaml").read_text()
    assert "$steps.planJob.outputs" in suite and "at: body/job/state" in suite and "type: number" in suite
    ran = jux("run", "first", "-C", office, env=KEY_ENV, status=None)
    # The job's number is new and is carried; what differs is the moment it was noted, and that was not told
    # to differ.
    assert ran.status in (0, 1) and "jobId" not in ran.out


DEFINITION_FAULTS = (
    (
        'element="p:GetJob"/>',
        'element="p:GetJop"/>',
        "there is no element p:GetJop",
        "pilotage.wsdl:142",
        "declare it",
        "",
    ),
    (
        'message="p:ListJobsIn"',
        'message="p:ListJobIn"',
        "the message p:ListJobIn is not there",
        "pilotage.wsdl:176",
        "did you mean ListJobsIn",
        "",
    ),
    (
        'binding="p:WatchBinding"',
        'binding="p:WachBinding"',
        "names the binding p:WachBinding, which is not there",
        "pilotage.wsdl:",
        "did you mean WatchBinding",
        "listPilots rosterPilot tideGate quoteFee",
    ),
    (
        '<operation name="quoteFee"><soap12',
        '<operation name="quotFee"><soap12',
        "the port type has no operation quotFee",
        "pilotage.wsdl:",
        "correct the name",
        "quotFee",
    ),
    (
        'schemaLocation="pilotage-types.xsd"',
        'schemaLocation="types.xsd"',
        "'types.xsd': there is no such file",
        "pilotage.wsdl:14",
        "add the file",
        "",
    ),
    (
        'type="p:Licence"',
        'type="p:Licens"',
        "there is no type p:Licens",
        "pilotage.wsdl:",
        "did you mean Licence",
        "",
    ),
    (
        'part="desk"',
        'part="dask"',
        "the header names the part dask, which is not there",
        "pilotage.wsdl:",
        "correct message and part",
        "",
    ),
    (
        (
            '<port name="WatchPort" binding="p:WatchBinding"><soap12:address'
            ' location="http://pilotage.merrow.example/pilotage/watch"/></port>'
        ),
        "",
        "belongs to no port: 4 operations of it cannot be called",
        "pilotage.wsdl:234",
        "add a port",
        "listPilots rosterPilot tideGate quoteFee",
    ),
    (
        'type="p:Watch"',
        'type="p:Wach"',
        "the port type p:Wach is not there",
        "pilotage.wsdl:234",
        "add it or correct",
        "listPilots rosterPilot tideGate quoteFee",
    ),
    (
        '<input message="p:TideGateIn"/>',
        "",
        "tideGate is sent by the service itself",
        "pilotage.wsdl:",
        "it cannot be called",
        "tideGate",
    ),
    (
        "<soap12:binding style",
        "<p:binding style",
        "is neither SOAP 1.1, SOAP 1.2 nor HTTP",
        "pilotage.wsdl:234",
        "cannot be called",
        "listPilots rosterPilot tideGate quoteFee",
    ),
)


@pytest.mark.parametrize(("old", "new", "what", "where", "mend", "lost"), DEFINITION_FAULTS)
def test_faults_of_a_wsdl_leave_the_sound_rest(
    tmp_path: Path, jux: Jux, old: str, new: str, what: str, where: str, mend: str, lost: str
) -> None:
    wsdl = write_demo(tmp_path / "given", (old, new))
    jux("init", tmp_path / "w")
    result = jux("import", wsdl, "-C", tmp_path / "w", status=None)
    said = result.out + result.err
    assert result.status == (1 if "  fault  " in said else 0)
    assert what.replace("'", "") in said.replace("'", "") and where in said and (mend in said), said
    listed = jux("show", "pilotage", "--json", "-C", tmp_path / "w").json["operations"]
    assert len(listed) == 10
    assert [one["id"] for one in listed if one["notCallable"]] == lost.split()
    for name in lost.split()[:1]:
        why = next(one["notCallable"] for one in listed if one["id"] == name)
        assert f"not callable: {why}" in jux("show", name, "-C", tmp_path / "w").out
        told = jux("call", name, "-C", tmp_path / "w", status=2).err
        assert f"{name} cannot be called: {why}" in told or "no target" in told
    if lost:
        url = "http://127.0.0.1:9"
        jux("targets", "set", "quay", url, "-C", tmp_path / "w", status=None)
        told = jux("call", lost.split()[0], "-C", tmp_path / "w", status=2).err
        assert f"{lost.split()[0]} cannot be called" in told
        composed = jux("compose", "pilotage", "-C", tmp_path / "w", status=None)
        assert lost.split()[0] in composed.out + composed.err
        contract = Workspace(tmp_path / "w").contract("pilotage")
        operation = contract.operation(lost.split()[0])
        assert operation and "operation" in {one.kind for one in wire_of(contract).elements(operation)}


def wsdl(
    types: str,
    messages: str,
    operations: str,
    bound: str,
    *,
    head: str = "soap",
    style: str = "document",
    port: str = "",
) -> str:
    binding = {
        "soap": "http://schemas.xmlsoap.org/wsdl/soap/",
        "soap12": "http://schemas.xmlsoap.org/wsdl/soap12/",
    }[head]
    return f"""<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:b="{binding}" xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t"
      xmlns:mime="http://schemas.xmlsoap.org/wsdl/mime/" xmlns:wsaw="http://www.w3.org/2006/05/addressing/wsdl" xmlns:wsdl="http://schemas.xmlsoap.org/wsdl/"
      xmlns:enc="http://schemas.xmlsoap.org/soap/encoding/" targetNamespace="urn:t"><types><xs:schema targetNamespace="urn:t" elementFormDefault="qualified">{types}</xs:schema></types>
      {messages}<portType name="P">{operations}</portType>
      <binding name="B" type="t:P"><b:binding style="{style}" transport="http://schemas.xmlsoap.org/soap/http"/>{port}{bound}</binding>
      <service name="S"><port name="Q" binding="t:B"><b:address location="http://s.merrow.example/s"/></port></service></definitions>"""


_IO = '<message name="I"><part name="a" {0}/></message><message name="O"><part name="r" {1}/></message>'
_OP = '<operation name="go"><input message="t:I"/><output message="t:O"/></operation>'
_BOUND = (
    '<operation name="go"><b:operation soapAction="urn:go"/><input><b:body {0}/></input><output><b:body'
    " {0}/></output></operation>"
)
_GO = (
    '<xs:element name="Go"><xs:complexType><xs:sequence><xs:element name="n"'
    ' type="xs:int"/></xs:sequence></xs:complexType></xs:element><xs:element name="Gone" type="xs:string"/>'
)
_RPC = 'use="literal" namespace="urn:ops"'
_ENCODED = 'use="encoded" namespace="urn:ops" encodingStyle="http://schemas.xmlsoap.org/soap/encoding/"'

STYLES: dict[str, tuple[str, str, Any]] = {
    "document": (
        wsdl(_GO, _IO.format('element="t:Go"', 'element="t:Gone"'), _OP, _BOUND.format('use="literal"')),
        "<t:Go><t:n>3</t:n></t:Go>",
        {"n": 3},
    ),
    "document, a simple element": (
        wsdl(_GO, _IO.format('element="t:Gone"', 'element="t:Gone"'), _OP, _BOUND.format('use="literal"')),
        "<t:Gone>quay</t:Gone>",
        "quay",
    ),
    "document, a type": (
        wsdl(
            '<xs:complexType name="T"><xs:sequence><xs:element name="x"'
            ' type="xs:int"/></xs:sequence></xs:complexType>',
            _IO.format('type="t:T"', 'type="t:T"'),
            _OP,
            _BOUND.format('use="literal"'),
        ),
        "<env:Body><t:x>3</t:x></env:Body>",
        {"x": 3},
    ),
    "rpc literal": (
        wsdl("", _IO.format('type="xs:int"', 'type="xs:string"'), _OP, _BOUND.format(_RPC), style="rpc"),
        "<ops:go><a>3</a></ops:go>",
        {"a": 3},
    ),
    "rpc literal, SOAP 1.2": (
        wsdl(
            "",
            _IO.format('type="xs:int"', 'type="xs:string"'),
            _OP,
            _BOUND.format(_RPC),
            style="rpc",
            head="soap12",
        ),
        "<ops:go><a>3</a></ops:go>",
        {"a": 3},
    ),
    "rpc encoded": (
        wsdl("", _IO.format('type="xs:int"', 'type="xs:string"'), _OP, _BOUND.format(_ENCODED), style="rpc"),
        (
            '<ops:go env:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/"><a'
            ' xsi:type="xs:int">3</a></ops:go>'
        ),
        {"a": 3},
    ),
    "rpc encoded, arrays": (
        wsdl(
            '<xs:complexType name="L"><xs:complexContent><xs:restriction base="enc:Array"><xs:attribute'
            ' ref="enc:arrayType"'
            ' wsdl:arrayType="xs:int[]"/></xs:restriction></xs:complexContent></xs:complexType>',
            _IO.format('type="t:L"', 'type="t:L"'),
            _OP,
            _BOUND.format(_ENCODED),
            style="rpc",
        ),
        (
            '<a xsi:type="t:L" enc:arrayType="xs:int[2]"><item xsi:type="xs:int">3</item><item'
            ' xsi:type="xs:int">4</item></a>'
        ),
        {"a": {"item": [3, 4]}},
    ),
    "no parts": (
        wsdl("", '<message name="I"/><message name="O"/>', _OP, _BOUND.format('use="literal"')),
        "<env:Body/>",
        None,
    ),
    "a header": (
        wsdl(
            _GO,
            _IO.format('element="t:Go"', 'element="t:Gone"')
            + '<message name="H"><part name="h" element="t:Gone"/></message>',
            _OP,
            _BOUND.format('use="literal"').replace(
                "<input>", '<input><b:header message="t:H" part="h" use="literal"/>'
            ),
        ),
        "<env:Header><t:Gone>quay</t:Gone></env:Header>",
        {"n": 3},
    ),
    "addressing": (
        wsdl(
            _GO,
            _IO.format('element="t:Go"', 'element="t:Gone"'),
            _OP,
            _BOUND.format('use="literal"'),
            port='<wsaw:UsingAddressing wsdl:required="true"/>',
        ),
        "<wsa:Action>urn:go</wsa:Action><wsa:To>http://h/s</wsa:To><wsa:MessageID>",
        {"n": 3},
    ),
}


def contract_of(tmp_path: Path, text: str) -> Contract:
    (tmp_path / "s.wsdl").write_text(text)
    contract = SOAP.read("s", "s.wsdl", folder_fetch(tmp_path))
    assert contract.faults == (), contract.faults
    return contract


def answered(
    contract: Contract, body: bytes, status: int = 200, media: str = "", name: str = "go"
) -> list[tuple[str, str, bool]]:
    """(kind, place, whether it fails) of what an answer leads to."""
    operation = contract.operation(name)
    assert operation is not None
    version = operation.fact("version")[-3:]
    media = media or {"1.1": "text/xml", "1.2": "application/soap+xml"}[version]
    response = Response(status, "", (("Content-Type", media),), body)
    exchange = Exchange(Request("POST", "http://h/s"), response, Timings(0, 0, 0))
    answer = examined(wire_of(contract).decode(operation, exchange))
    return [
        (one.kind, one.at, one.fails)
        for one in check_exchange(contract, operation, answer, exchange, wire_of(contract).checks)
        if not one.held
    ]


@pytest.mark.parametrize("name", STYLES)
def test_styles(tmp_path: Path, name: str) -> None:
    text, expected, value = STYLES[name]
    contract = contract_of(tmp_path, text)
    operation = contract.operation("go")
    assert operation is not None
    inputs = sample_inputs(contract, operation, full=False)
    if value is not None:
        inputs = Inputs(inputs.values, value, inputs.content_type)
    request = wire_of(contract).encode(operation, inputs, "http://h/s")
    flat = re.sub(r">\s+<", "><", (request.body or b"").decode())
    assert expected in flat, flat
    assert wire_of(contract).match(request, "http://h/s") == (operation,) or value is None
    hit = {
        one.partition("|")[0]
        for one in wire_of(contract).hits(
            operation, Exchange(request, None, Timings(0, 0, 0)), examined_nothing(), "http://h/s"
        )
    }
    assert "operation" in hit
    # The service's side of the same: an answer made by the schema has nothing against it.
    media = operation.answers[0].media[0]
    if media.schema is not None:
        schema: Any = contract.schema(media.schema)
        element = schema.element(schema.sample(full=True))
        version = operation.fact("version")[-3:]
        entries = list(element) if schema.of_type else [element]
        body = closed(
            version,
            [],
            entries,
            {uri: prefix for prefix, uri in contract.namespaces} | schema.reader.prefixes,
        )
        assert answered(contract, body) == []


def examined_nothing() -> Any:
    from juxtalogos.model.wire import Answer

    return Answer(None, None)


def env(inner: str, space: str = E11, head: str = "") -> bytes:
    return (
        f'<e:Envelope xmlns:e="{space}" xmlns:t="urn:t">{head}<e:Body>{inner}</e:Body></e:Envelope>'.encode()
    )


_FAULT = "<e:Fault><faultcode>e:Client</faultcode><faultstring>no</faultstring>{}</e:Fault>"
_FAULT12 = (
    "<e:Fault><e:Code><e:Value>e:{}</e:Value></e:Code><e:Reason><e:Text"
    ' xml:lang="en">no</e:Text></e:Reason>{}</e:Fault>'
)
_TYPES = (
    _GO + '<xs:element name="Shut"><xs:complexType><xs:sequence><xs:element name="gate"'
    ' type="xs:token"/></xs:sequence></xs:complexType></xs:element>'
)
_WITH_FAULT = (
    '<operation name="go"><input message="t:I"/><output message="t:O"/><fault name="Shut"'
    ' message="t:F"/></operation>'
)
_MESSAGES = (
    _IO.format('element="t:Go"', 'element="t:Gone"')
    + '<message name="F"><part name="f" element="t:Shut"/></message>'
)

ANSWERS = (
    # (answer, status, media type, version, what is found)
    (env("<t:Gone>x</t:Gone>"), 200, "", "1.1", []),
    (env("<t:Gone>x</t:Gone>"), 202, "", "1.1", []),
    (env("<t:Gone>x</t:Gone>"), 200, "multipart/related; type=text/xml", "1.1", [("envelope.form", True)]),
    (env("<t:Gone>x</t:Gone>"), 200, "application/soap+xml", "1.1", [("media.undeclared", True)]),
    (env("<t:Gone>x</t:Gone>", E12), 200, "", "1.1", [("envelope.version", True)]),
    (env("<t:Gone>x</t:Gone>"), 500, "", "1.1", [("status.server-error", False), ("status.protocol", True)]),
    (env("<t:Go/>"), 200, "", "1.1", [("body.other", True)]),
    (env(""), 200, "", "1.1", [("body.missing", True)]),
    (env("<t:Gone>x</t:Gone><t:Gone>x</t:Gone>"), 200, "", "1.1", [("body.extra", True)]),
    (env("<t:Gone><t:n/></t:Gone>"), 200, "", "1.1", [("body.type", True)]),
    (
        b"<html><body>login</body></html>",
        200,
        "text/html",
        "1.1",
        [("media.undeclared", True), ("envelope.form", True)],
    ),
    (b"<html/>", 404, "text/html", "1.1", [("status.undeclared", False)]),
    (b"oops", 500, "text/plain", "1.1", [("status.server-error", True)]),
    (b"oops", 200, "text/xml", "1.1", [("media.untrue", True)]),
    (env("<t:Gone>x</t:Gone>")[:-20], 200, "text/xml", "1.1", [("media.untrue", True)]),
    (
        f'<e:Envelope xmlns:e="{E11}"><e:Head/></e:Envelope>'.encode(),
        200,
        "",
        "1.1",
        [("envelope.form", True)],
    ),
    (env(_FAULT.format("<detail><t:Shut><t:gate>g</t:gate></t:Shut></detail>")), 500, "", "1.1", []),
    (env(_FAULT.format("<detail><t:Shut/></detail>")), 500, "", "1.1", [("body.required", True)]),
    (
        env(_FAULT.format("<detail><t:Shut><t:gate>g</t:gate></t:Shut></detail>")),
        200,
        "",
        "1.1",
        [("status.protocol", True)],
    ),
    (env(_FAULT.format("")), 500, "", "1.1", [("fault.undeclared", False)]),
    (
        env("<e:Fault><faultcode>e:Server</faultcode></e:Fault>"),
        500,
        "",
        "1.1",
        [("fault.form", True), ("fault.undeclared", False)],
    ),
    (env(_FAULT12.format("Sender", ""), E12), 400, "", "1.2", [("fault.undeclared", False)]),
    (env(_FAULT12.format("Sender", ""), E12), 500, "", "1.2", [("fault.undeclared", False)]),
    (
        env(_FAULT12.format("Receiver", ""), E12),
        400,
        "",
        "1.2",
        [("status.protocol", True), ("fault.undeclared", False)],
    ),
    (
        env(_FAULT12.format("Client", ""), E12),
        500,
        "",
        "1.2",
        [("fault.form", True), ("fault.undeclared", False)],
    ),
    (env(_FAULT.format("") * 2), 500, "", "1.1", [("fault.form", True), ("fault.undeclared", False)]),
    (
        env(_FAULT.format("") + "<t:Gone>x</t:Gone>"),
        500,
        "",
        "1.1",
        [("fault.form", True), ("fault.undeclared", False)],
    ),
    (
        env(_FAULT12.format("Sender", "") * 2, E12),
        400,
        "",
        "1.2",
        [("fault.form", True), ("fault.undeclared", False)],
    ),
    (
        env(_FAULT12.format("Sender", "<e:Detail><t:Shut><t:gate>g</t:gate></t:Shut></e:Detail>"), E12),
        400,
        "",
        "1.2",
        [],
    ),
)


@pytest.mark.parametrize(("body", "status", "media", "version", "found"), ANSWERS)
def test_answers(
    tmp_path: Path, body: bytes, status: int, media: str, version: str, found: list[tuple[str, bool]]
) -> None:
    head = {"1.1": "soap", "1.2": "soap12"}[version]
    contract = contract_of(
        tmp_path, wsdl(_TYPES, _MESSAGES, _WITH_FAULT, _BOUND.format('use="literal"'), head=head)
    )
    told = answered(contract, body, status, media)
    assert [(kind, fails) for kind, _, fails in told] == found, told


def test_header_blocks(tmp_path: Path) -> None:
    messages = (
        _IO.format('element="t:Go"', 'element="t:Gone"')
        + '<message name="H"><part name="h" element="t:Shut"/></message>'
    )
    bound = _BOUND.format('use="literal"').replace(
        "<output>", '<output><b:header message="t:H" part="h" use="literal"/>'
    )
    contract = contract_of(tmp_path, wsdl(_TYPES, messages, _OP, bound))
    block = '<e:Header><t:Shut e:mustUnderstand="1" e:actor="urn:a">{}</t:Shut></e:Header>'
    assert answered(contract, env("<t:Gone>x</t:Gone>", head=block.format("<t:gate>g</t:gate>"))) == []
    assert answered(contract, env("<t:Gone>x</t:Gone>", head=block.format("<t:gat/>"))) == [
        ("header.malformed", "header.Shut/gat", True)
    ]
    assert answered(contract, env("<t:Gone>x</t:Gone>")) == [("header.missing", "header.Shut", True)]


def test_one_way(tmp_path: Path) -> None:
    text = wsdl(
        _GO,
        _IO.format('element="t:Go"', 'element="t:Gone"'),
        '<operation name="go"><input message="t:I"/></operation>',
        _BOUND.format('use="literal"'),
    )
    contract = contract_of(tmp_path, text)
    assert answered(contract, b"", 202) == [] and answered(contract, b"", 200) == []
    assert [kind for kind, _, _ in answered(contract, env("<t:Gone/>"), 200)] == ["body.unexpected"]
    assert [kind for kind, _, fails in answered(contract, b"", 500) if fails] == ["status.server-error"]


def test_plain_http_bindings(tmp_path: Path) -> None:
    http, mime = "http://schemas.xmlsoap.org/wsdl/http/", "http://schemas.xmlsoap.org/wsdl/mime/"
    text = wsdl(
        _GO,
        '<message name="I"><part name="gate" type="xs:string"/><part name="day"'
        ' type="xs:date"/></message><message name="O"><part name="r" element="t:Gone"/></message>',
        _OP,
        "",
    )
    for verb, location, way in (("GET", "/gates/(gate)", "urlReplacement"), ("POST", "/gates", "urlEncoded")):
        bound = (
            '<operation name="go"><h:operation'
            f' location="{location}"/><input><h:{way}/></input><output><m:mimeXml'
            ' part="r"/></output></operation>'
        )
        plain = re.sub(r"<b:binding[^>]*/>", f'<h:binding verb="{verb}"/>{bound}', text).replace(
            "<definitions ", f'<definitions xmlns:h="{http}" xmlns:m="{mime}" '
        )
        contract = contract_of(tmp_path, plain.replace("b:address", "h:address"))
        operation = contract.operations[0]
        inputs = sample_inputs(contract, operation, full=True)
        values = {
            address: "sea lock" if address.endswith("gate") else "2026-11-25"
            for address in (one.address for one in operation.inputs)
        }
        request = wire_of(contract).encode(operation, Inputs(values, inputs.body), "http://h/s")
        if verb == "GET":
            assert (request.method, request.url, request.body) == (
                "GET",
                "http://h/s/gates/sea%20lock?day=2026-11-25",
                None,
            )
        else:
            assert (request.url, request.body) == ("http://h/s/gates", b"gate=sea+lock&day=2026-11-25")
        assert wire_of(contract).match(request, "http://h/s") == (operation,)
        answers = (
            (b'<t:Gone xmlns:t="urn:t">x</t:Gone>', []),
            (b"<Gone>x</Gone>", ["body.other"]),
            (b"x", ["media.untrue"]),
        )
        for body, kinds in answers:
            exchange = Exchange(
                request, Response(200, "", (("Content-Type", "text/xml"),), body), Timings(0, 0, 0)
            )
            answer = examined(wire_of(contract).decode(operation, exchange))
            assert [
                one.kind
                for one in check_exchange(contract, operation, answer, exchange, wire_of(contract).checks)
                if not one.held
            ] == kinds


def test_overloads_and_two_ports_have_ids_of_their_own(tmp_path: Path) -> None:
    messages = (
        _IO.format('element="t:Go"', 'element="t:Gone"')
        + '<message name="J"><part name="a" element="t:Gone"/></message>'
    )
    operations = (
        '<operation name="go"><input name="one" message="t:I"/><output message="t:O"/></operation><operation'
        ' name="go"><input name="two" message="t:J"/><output message="t:O"/></operation>'
    )
    bound = _BOUND.format('use="literal"')
    both = bound.replace("<input>", '<input name="one">') + bound.replace("<input>", '<input name="two">')
    contract = contract_of(tmp_path, wsdl(_GO, messages, operations, both))
    assert [one.id for one in contract.operations] == ["S.Q.go", "S.Q.go.two"]
    bodies = [
        wire_of(contract).encode(one, sample_inputs(contract, one, full=False), "http://h/s").body
        for one in contract.operations
    ]
    assert b"<t:Go>" in bodies[0] and b"<t:Gone>" in bodies[1]


def test_a_wsdl_in_many_files(tmp_path: Path, jux: Jux) -> None:
    text = wsdl("", _IO.format('element="t:Go"', 'element="t:Gone"'), _OP, _BOUND.format('use="literal"'))
    whole = etree.fromstring(text.encode())
    service = whole.find("{*}service")
    whole.remove(service)
    schema = whole.find("{*}types")[0]
    whole.find("{*}types").remove(schema)
    etree.SubElement(whole.find("{*}types"), schema.tag).append(
        etree.fromstring(
            '<xs:import xmlns:xs="http://www.w3.org/2001/XMLSchema" namespace="urn:t"'
            ' schemaLocation="xsd/t.xsd"/>'
        )
    )
    given = tmp_path / "given"
    (given / "xsd").mkdir(parents=True)
    (given / "abstract.wsdl").write_bytes(etree.tostring(whole))
    # Circular, and a chameleon: the included file has no namespace of its own.
    (given / "xsd" / "t.xsd").write_text(
        '<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:t"'
        ' elementFormDefault="qualified"><xs:include schemaLocation="c.xsd"/></xs:schema>'
    )
    (given / "xsd" / "c.xsd").write_text(
        '<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" elementFormDefault="qualified"><xs:include'
        f' schemaLocation="t.xsd"/>{_GO}</xs:schema>'
    )
    root = etree.fromstring(text.encode())
    for child in list(root):
        root.remove(child)
    root.append(
        etree.fromstring(
            '<import xmlns="http://schemas.xmlsoap.org/wsdl/" namespace="urn:t" location="abstract.wsdl"/>'
        )
    )
    root.append(service)
    (given / "service.wsdl").write_bytes(etree.tostring(root))
    jux("init", tmp_path / "w")
    result = jux("import", given, "-C", tmp_path / "w")
    assert "1 operation, 4 documents" in result.out
    assert "<t:n>3</t:n>" in jux("skeleton", "go", "-C", tmp_path / "w").out
    # An import that names no location finds its namespace among the files of the folder; the cache knows it
    # too.
    abstract = (given / "abstract.wsdl").read_text()
    (given / "abstract.wsdl").write_text(abstract.replace(' schemaLocation="xsd/t.xsd"', ""))
    assert "1 operation, 4 documents" in jux("import", given, "-C", tmp_path / "w").out
    for _ in range(2):
        assert "<t:n>3</t:n>" in jux("skeleton", "go", "-C", tmp_path / "w").out


def test_what_is_often_met(tmp_path: Path) -> None:
    """A schema as data beside any element, `xml:lang` by import, several ports of one port type, an answer in
    another charset.
    """
    types = """<xs:import namespace="http://www.w3.org/XML/1998/namespace" schemaLocation="http://www.w3.org/2001/xml.xsd"/>
      <xs:element name="Go"><xs:complexType><xs:sequence><xs:element name="n" type="xs:int" minOccurs="0"/></xs:sequence></xs:complexType></xs:element>
      <xs:element name="Gone"><xs:complexType><xs:sequence><xs:element name="GoResult" minOccurs="0"><xs:complexType><xs:sequence>
        <xs:element ref="xs:schema"/><xs:any/></xs:sequence></xs:complexType></xs:element><xs:element name="note" minOccurs="0"><xs:complexType><xs:simpleContent>
        <xs:extension base="xs:string"><xs:attribute ref="xml:lang" use="required"/></xs:extension></xs:simpleContent></xs:complexType></xs:element>
      </xs:sequence></xs:complexType></xs:element>"""
    text = wsdl(
        types.replace("<xs:any/>", '<xs:any processContents="lax"/>'),
        _IO.format('element="t:Go"', 'element="t:Gone"'),
        _OP,
        _BOUND.format('use="literal"'),
    )
    soap12 = (
        text[text.index("<binding") : text.index("<service")]
        .replace('name="B"', 'name="B12"')
        .replace("b:", "b12:")
        .replace("t12:", "t:")
    )
    port = (
        '<port name="Q12" binding="t:B12"><b12:address'
        ' location="http://s.merrow.example/s"/></port></service>'
    )
    text = (
        text.replace("<service", soap12 + "<service")
        .replace("</service>", port)
        .replace("xmlns:t=", 'xmlns:b12="http://schemas.xmlsoap.org/wsdl/soap12/" xmlns:t=')
    )
    contract = contract_of(tmp_path, text)
    assert [(one.id, one.fact("version")) for one in contract.operations] == [
        ("S.Q.go", "SOAP 1.1"),
        ("S.Q12.go", "SOAP 1.2"),
    ]
    data = (
        '<t:GoResult><xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" id="d"><xs:element'
        ' name="x"/></xs:schema><rows xmlns=""><row>1</row></rows></t:GoResult>'
    )
    assert (
        answered(contract, env(f'<t:Gone>{data}<t:note xml:lang="en">x</t:note></t:Gone>'), name="S.Q.go")
        == []
    )
    assert answered(contract, env('<t:Gone><t:note xml:lang="e n">x</t:note></t:Gone>'), name="S.Q.go") == [
        ("body.type", "body/note/@lang", True)
    ]
    latin = env('<t:Gone><t:note xml:lang="da">måge</t:note></t:Gone>').decode().encode("latin-1")
    assert answered(contract, latin, media="text/xml; charset=iso-8859-1", name="S.Q.go") == []
    assert [kind for kind, _, _ in answered(contract, latin, name="S.Q.go")] == ["media.untrue"]


def test_tokens(tmp_path: Path) -> None:
    contract = contract_of(tmp_path, STYLES["document"][0])
    operation = contract.operations[0]
    request = wire_of(contract).encode(
        operation, sample_inputs(contract, operation, full=False), "http://h/s"
    )
    credential = Credential("s<cr&t", "desk")
    for scheme in ("token", "digest"):
        signed, missing = sign(contract, operation, request, {scheme: credential})
        token = etree.fromstring(signed.body).find(".//{*}UsernameToken")
        password, nonce, created = (
            token.findtext(f"{{*}}{name}") for name in ("Password", "Nonce", "Created")
        )
        assert missing == () and token.findtext("{*}Username") == "desk"
        if scheme == "token":
            assert password == "s<cr&t"
        else:
            digest = hashlib.sha1(base64.b64decode(nonce) + created.encode() + b"s<cr&t").digest()
            assert base64.b64decode(password) == digest
        assert etree.fromstring(signed.body).find(".//{*}Timestamp/{*}Expires") is not None
        assert wire_of(contract).match(signed, "http://h/s") == (operation,)


def test_attachments_are_put_back(tmp_path: Path) -> None:
    types = (
        '<xs:element name="Go" type="xs:string"/><xs:element'
        ' name="Chart"><xs:complexType><xs:sequence><xs:element name="data"'
        ' type="xs:base64Binary"/></xs:sequence></xs:complexType></xs:element>'
    )
    contract = contract_of(
        tmp_path,
        wsdl(types, _IO.format('element="t:Go"', 'element="t:Chart"'), _OP, _BOUND.format('use="literal"')),
    )
    include = '<x:Include xmlns:x="http://www.w3.org/2004/08/xop/include" href="cid:one%40merrow"/>'
    root = env(f"<t:Chart><t:data>{include}</t:data></t:Chart>")
    packed = (
        b'--b\r\nContent-Type: application/xop+xml; type="text/xml"\r\nContent-ID: <root>\r\n\r\n'
        + root
        + b"\r\n--b\r\nContent-Type: application/octet-stream\r\nContent-Transfer-Encoding:"
        b" binary\r\nContent-ID: <one@merrow>\r\n\r\n\x00\xff\x10chart\r\n--b--\r\n"
    )
    media = 'multipart/related; boundary=b; type="application/xop+xml"; start="<root>"'
    assert answered(contract, packed, 200, media) == []
    operation = contract.operations[0]
    exchange = Exchange(
        Request("POST", "http://h/s"), Response(200, "", (("Content-Type", media),), packed), Timings(0, 0, 0)
    )
    assert (
        base64.b64decode(wire_of(contract).decode(operation, exchange).value["data"]) == b"\x00\xff\x10chart"
    )


def test_attachments_and_mtom_are_sent(tmp_path: Path) -> None:
    messages = _IO.format('element="t:Go"', 'element="t:Gone"').replace(
        "</message>",
        '<part name="chart" type="xs:base64Binary"/><part name="note" type="xs:string"/></message>',
        1,
    )
    related = (
        '<mime:multipartRelated><mime:part><b:body parts="a"'
        ' use="literal"/></mime:part><mime:part><mime:content part="chart"'
        ' type="application/pdf"/></mime:part><mime:part><mime:content part="note"'
        ' type="text/plain"/><mime:content part="note" type="text/html"/></mime:part></mime:multipartRelated>'
    )
    bound = _BOUND.format('use="literal"').replace(
        '<input><b:body use="literal"/></input>', f"<input>{related}</input>"
    )
    contract = contract_of(tmp_path, wsdl(_GO, messages, _OP, bound))
    operation = contract.operations[0]
    body = {"n": 3, "cid:chart": base64.b64encode(b"\x00%PDF").decode()}
    request = wire_of(contract).encode(operation, Inputs({}, body), "http://h/s")
    whole = message_from_bytes(
        f"Content-Type: {header(request.headers, 'content-type')}\r\n\r\n".encode() + request.body,
        policy=policy.HTTP,
    )
    parts = [
        (part.get_content_type(), part["Content-ID"], part.get_payload(decode=True))
        for part in whole.iter_parts()
    ]
    assert [(kind, name) for kind, name, _ in parts] == [
        ("text/xml", "<root@juxtalogos>"),
        ("application/pdf", "<chart@juxtalogos>"),
        ("text/plain", "<note@juxtalogos>"),
    ]
    assert b"<t:n>3</t:n>" in parts[0][2] and parts[1][2] == b"\x00%PDF" and parts[2][2] == b"quay"
    assert wire_of(contract).match(request, "http://h/s") == (operation,)
    with pytest.raises(UsageError, match="no attachment cid:chrt"):
        wire_of(contract).encode(operation, Inputs({}, {"n": 3, "cid:chrt": "x"}), "http://h/s")
    ns = (
        'xmlns:wsp="http://www.w3.org/ns/ws-policy" xmlns:wsu="urn:u"'
        ' xmlns:wsoma="http://schemas.xmlsoap.org/ws/2004/09/policy/optimizedmimeserialization"'
    )
    asked = (
        '<wsp:Policy wsu:Id="m"'
        " {0}><wsp:ExactlyOne><wsp:All><wsoma:OptimizedMimeSerialization{1}/></wsp:All></wsp:ExactlyOne></wsp:Policy>"
    )
    for optional, packaging in (("", "MTOM"), (' wsp:Optional="true"', "")):
        text = wsdl(
            _GO,
            _IO.format('element="t:Go"', 'element="t:Gone"'),
            _OP,
            _BOUND.format('use="literal"'),
            port=f'<wsp:PolicyReference {ns} URI="#m"/>',
        )
        contract = contract_of(tmp_path, text.replace("<types>", asked.format(ns, optional) + "<types>"))
        assert contract.operations[0].fact("packaging") == packaging
        request = wire_of(contract).encode(contract.operations[0], Inputs({}, {"n": 3}), "http://h/s")
        assert ("application/xop+xml" in (header(request.headers, "content-type") or "")) is bool(packaging)
        assert wire_of(contract).match(request, "http://h/s") == contract.operations


POLICIES = (
    # what a policy holds, the sign-in told, what is missing of a target without credentials
    ("", "not declared", ()),
    (
        "<sp:SupportingTokens><w:Policy><sp:UsernameToken/></w:Policy></sp:SupportingTokens>",
        "token",
        ("token",),
    ),
    ("<sp:UsernameToken><w:Policy><sp:HashPassword/></w:Policy></sp:UsernameToken>", "digest", ("digest",)),
    ('<sp:UsernameToken w:Optional="true"/>', "token or none", ()),
    (
        "<w:ExactlyOne><w:All><sp:UsernameToken/></w:All><w:All><sp:HttpBasicAuthentication/></w:All></w:ExactlyOne>",
        "token or basic",
        ("token",),
    ),
    ("<sp:Layout/>", "not declared", ()),
)


@pytest.mark.parametrize(("inner", "told", "missing"), POLICIES)
def test_sign_in_is_as_policies_say(tmp_path: Path, inner: str, told: str, missing: tuple[str, ...]) -> None:
    policy = (
        '<w:Policy xmlns:w="http://www.w3.org/ns/ws-policy"'
        f' xmlns:sp="urn:sp"><w:ExactlyOne><w:All>{inner}</w:All></w:ExactlyOne></w:Policy>'
    )
    text = wsdl(
        _GO,
        _IO.format('element="t:Go"', 'element="t:Gone"'),
        _OP,
        _BOUND.format('use="literal"'),
        port=policy,
    )
    contract = contract_of(tmp_path, text)
    operation = contract.operations[0]
    assert operation.fact("sign-in") == told
    signer = Signer({}, {"http://h"})
    assert signer.chosen(contract, operation, SOAP.sign_in)[1] == missing
    basic = Signer({"basic": Credential("p", "u")}, {"http://h"})  # a target may know better
    assert [scheme.name for scheme, _ in basic.chosen(contract, operation, SOAP.sign_in)[0]] == ["basic"]


def test_references_of_encoded_values(tmp_path: Path) -> None:
    types = (
        '<xs:complexType name="J"><xs:all><xs:element name="x" type="xs:int" form="unqualified"/><xs:element'
        ' name="next" type="t:J" minOccurs="0" form="unqualified"/></xs:all></xs:complexType>'
    )
    contract = contract_of(
        tmp_path,
        wsdl(types, _IO.format('type="t:J"', 'type="t:J"'), _OP, _BOUND.format(_ENCODED), style="rpc"),
    )
    xsi = 'xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xmlns:xsd="http://www.w3.org/2001/XMLSchema"'
    inner = (
        f'<o:goResponse xmlns:o="urn:ops" {xsi}><r href="#a"/></o:goResponse><multiRef id="a" xsi:type="t:J"'
        f' {xsi}><next href="#b"/><x xsi:type="xsd:int">1</x></multiRef><multiRef'
        ' id="b"><x>{}</x></multiRef>'
    )
    assert answered(contract, env(inner.format("2"))) == []
    assert answered(contract, env(inner.format("two"))) == [("body.type", "body/r/next/x", True)]
    assert answered(
        contract, env(inner.replace('href="#b"', 'href="#a"').format("2"))
    )  # round in a circle: ends


UNREAD = (
    # (damage to the schema of an answer, verdict of an answer whose n is no number, kinds of what is told)
    (("", ""), "failed", ["body.type"]),
    (('type="t:N"', 'type="t:No"'), "unproven", []),
    (('name="N"><xs:restriction base="xs:int"', 'name="N"><xs:restriction base="xs:nit"'), "unproven", []),
    (('ref="t:k"', 'ref="t:kk"'), "unproven", []),
    (('base="t:B"', 'base="t:Bb"'), "unproven", []),
    (('group ref="t:g"', 'group ref="t:gg"'), "unproven", []),
    (('attributeGroup ref="t:ag"', 'attributeGroup ref="t:agg"'), "unproven", []),
    (('name="N"><xs:restriction base="xs:int"', 'name="N"><xs:restriction base="xs:token"'), "passed", []),
)


@pytest.mark.parametrize(("damage", "verdict", "kinds"), UNREAD)
def test_what_a_schema_names_and_is_not_there_accuses_nobody(
    tmp_path: Path, damage: tuple[str, str], verdict: str, kinds: list[str]
) -> None:
    types = (
        '<xs:simpleType name="N"><xs:restriction base="xs:int"/></xs:simpleType><xs:element name="k"'
        ' type="xs:token"/><xs:group name="g"><xs:sequence><xs:element name="h"'
        ' type="xs:token"/></xs:sequence></xs:group><xs:attributeGroup name="ag"><xs:attribute name="at"'
        ' type="xs:token"/></xs:attributeGroup><xs:complexType name="B"><xs:sequence><xs:element name="b"'
        ' type="xs:token"/></xs:sequence></xs:complexType><xs:complexType'
        ' name="D"><xs:complexContent><xs:extension base="t:B"><xs:sequence><xs:element name="n"'
        ' type="t:N"/><xs:element ref="t:k"/><xs:group ref="t:g"/></xs:sequence><xs:attributeGroup'
        ' ref="t:ag"/></xs:extension></xs:complexContent></xs:complexType><xs:element'
        ' name="Gone"><xs:complexType><xs:sequence><xs:element name="d"'
        ' type="t:D"/></xs:sequence></xs:complexType></xs:element>'
    )
    assert damage[0] in types
    text = wsdl(
        types.replace(*damage),
        _IO.format('element="t:k"', 'element="t:Gone"'),
        _OP,
        _BOUND.format('use="literal"'),
    )
    (tmp_path / "s.wsdl").write_text(text)
    contract = SOAP.read("s", "s.wsdl", folder_fetch(tmp_path))
    assert bool(contract.faults) == (verdict == "unproven")
    operation = contract.operation("go")
    assert operation is not None
    name, number = ("kk", 3) if "kk" in damage[1] else ("k", "three")
    inner = f'<t:d at="x"><t:b>b</t:b><t:n>{number}</t:n><t:{name}>k</t:{name}><t:h>h</t:h></t:d>'
    response = Response(200, "", (("Content-Type", "text/xml"),), env(f"<t:Gone>{inner}</t:Gone>"))
    exchange = Exchange(Request("POST", "http://h/s"), response, Timings(0, 0, 0))
    judged = judge(wire_of(contract), operation, exchange, "http://h/s")
    assert str(judged.verdict) == verdict, judged
    assert [one.kind for one in judged.results if one.fails] == kinds
    assert verdict != "unproven" or "cannot be read" in judged.reason


LOST = (
    # (damage, the part that is not checkable, whether a request can be made up, verdicts of a sound answer
    # and of a fault)
    (('message="t:O"', 'message="t:Oo"'), "response 200 text/xml", True, ("unproven", "passed")),
    (('element="t:Gone"', 'element="t:Gonne"'), "response 200 text/xml", True, ("unproven", "passed")),
    (('element="t:Go"', 'element="t:Goo"'), "body text/xml", False, ("unproven", "unproven")),
    (('<input message="t:I"', '<input message="t:Ii"'), "body text/xml", False, ("unproven", "unproven")),
    (('message="t:F"', 'message="t:Ff"'), "response 500 text/xml", True, ("passed", "unproven")),
    (('element="t:Shut"', 'element="t:Shutt"'), "response 500 text/xml", True, ("passed", "unproven")),
    (('message="t:H" part="h"', 'message="t:H" part="x"'), "header.x", False, ("passed", "passed")),
    (('message="t:H" part="h"', 'message="t:Hh" part="h"'), "header.h", False, ("passed", "passed")),
)


@pytest.mark.parametrize(("damage", "part", "made", "verdicts"), LOST)
def test_a_broken_part_of_a_wsdl_is_not_checkable(
    tmp_path: Path, damage: tuple[str, str], part: str, made: bool, verdicts: tuple[str, str]
) -> None:
    messages = _MESSAGES + '<message name="H"><part name="h" element="t:Gone"/></message>'
    bound = _BOUND.format('use="literal"').replace(
        "<input>", '<input><b:header message="t:H" part="h" use="literal"/>'
    )
    text = wsdl(_TYPES, messages, _WITH_FAULT, bound)
    assert damage[0] in text
    (tmp_path / "s.wsdl").write_text(text.replace(*damage, 1))
    contract = SOAP.read("s", "s.wsdl", folder_fetch(tmp_path))
    operation = contract.operation("go")
    assert (
        operation is not None
        and contract.faults
        and [name for name, _ in operation.not_checkable()] == [part]
    )
    wire = wire_of(contract)
    assert all(wire.elements(operation))
    if made:
        sample_inputs(contract, operation, full=False)
    else:
        with pytest.raises(Unsampleable, match="cannot be read"):
            sample_inputs(contract, operation, full=True)
    fields = (("Content-Type", "text/xml"), ("SOAPAction", '"urn:go"'))
    request = Request("POST", "http://h/s", fields, env("<t:Go><t:n>3</t:n></t:Go>"))
    assert wire.match(request, "http://h/s") == (operation,)
    fault = env(_FAULT.format("<detail><t:Shut><t:gate>g</t:gate></t:Shut></detail>"))
    for status, body, verdict in zip((200, 500), (env("<t:Gone>x</t:Gone>"), fault), verdicts):
        exchange = Exchange(request, Response(status, "", fields[:1], body), Timings(0, 0, 0))
        judged = judge(wire, operation, exchange, "http://h/s")
        assert str(judged.verdict) == verdict, judged
        assert verdict == "passed" or "cannot be read" in judged.reason


@pytest.mark.parametrize("use", [_RPC, _ENCODED])
def test_a_wrapper_of_another_namespace_is_read_on(tmp_path: Path, use: str) -> None:
    messages = _IO.format('type="xs:int"', 'type="xs:int"')
    contract = contract_of(tmp_path, wsdl("", messages, _OP, _BOUND.format(use), style="rpc"))
    told = [
        answered(contract, env(f'<o:{name} xmlns:o="urn:{space}"><r>{value}</r></o:{name}>'))
        for name, space, value in (
            ("goResponse", "ops", "3"),
            ("goResponse", "old", "3"),
            ("goResponse", "old", "x"),
            ("wentResponse", "old", "x"),
        )
    ]
    other, wrong = ("body.other", "body", True), ("body.type", "body/r", True)
    assert told == [[], [other], [other, wrong], [other]]
    two = '<o:goResponse xmlns:o="urn:old"><r>x</r></o:goResponse><t:more/>'
    extra = [("body.extra", "body/more", True)] if use == _RPC else []
    assert sorted(answered(contract, env(two))) == sorted([other, *extra, wrong])
    fault = _FAULT.format("<detail/>") + '<multiRef id="a"/>'
    assert ("fault.form" in str(answered(contract, env(fault), 500))) == (use == _RPC)


def test_encoded_samples_hold_no_made_up_references(tmp_path: Path) -> None:
    """What SOAP encoding adds to each value is not set by hand, is no row of `show` and
    no gap of coverage.
    """
    enc = 'xmlns:se="http://schemas.xmlsoap.org/soap/encoding/" xmlns:wsdl="http://schemas.xmlsoap.org/wsdl/"'
    types = (
        f'<xs:complexType name="J" {enc}><xs:all><xs:element name="x" type="se:int"'
        ' form="unqualified"/></xs:all></xs:complexType><xs:complexType name="Js"'
        f' {enc}><xs:complexContent><xs:restriction base="se:Array"><xs:attribute ref="se:arrayType"'
        ' wsdl:arrayType="t:J[]"/></xs:restriction></xs:complexContent></xs:complexType>'
    )
    text = wsdl(types, _IO.format('type="t:Js"', 'type="t:Js"'), _OP, _BOUND.format(_ENCODED), style="rpc")
    contract = contract_of(tmp_path, text)
    operation = contract.operations[0]
    inputs = sample_inputs(contract, operation, full=True)
    assert list(inputs.body.values()) == [{"item": [{"x": 3}]}]
    sent = wire_of(contract).encode(operation, inputs, "http://h/s").body or b""
    assert b"href" not in sent and b"offset" not in sent and b'arrayType="t:J[1]"' in sent and b":int" in sent
    assert operation.body and operation.body.media[0].schema
    paths = [row.path for row in contract.schema(operation.body.media[0].schema).outline()]
    assert not [path for path in paths if "@" in path]
    assert not [one for one in wire_of(contract).elements(operation) if "@" in one.label]


def test_encoded_values_from_end_to_end(tmp_path: Path, jux: Jux) -> None:
    """What a sent value names has its prefix declared; elements of the encoding's own schema have no line and
    no gap without one.
    """
    (tmp_path / "lists.wsdl").write_text(STYLES["rpc encoded, arrays"][0])
    work = tmp_path / "w"
    jux("init", work)
    jux("import", tmp_path / "lists.wsdl", "-C", work)
    request = jux("skeleton", "go", "--full", "-C", work).out
    assert 'enc:arrayType="xs:int[' in request and 'xmlns:xs="http://www.w3.org/2001/XMLSchema"' in request
    jux("targets", "set", "local", "http://127.0.0.1:9/s", "-C", work)
    jux("compose", "lists", "--include-destructive", "-C", work)
    jux("run", "-C", work, status=None)
    gaps = jux("coverage", "--gaps", "-C", work).out
    assert "@offset" not in gaps and re.search(r"L\.item +lists\.wsdl:\d+", gaps)
    assert "written" in jux("report", "-C", work).out


HOSTILE: dict[str, Callable[[], bytes]] = {
    "an entity bomb": lambda: (
        b'<!DOCTYPE d [<!ENTITY a "aaaaaaaaaa"><!ENTITY b'
        b' "&a;&a;&a;&a;&a;&a;&a;&a;">]><definitions>&b;</definitions>'
    ),
    "an external entity": lambda: (
        b'<!DOCTYPE d [<!ENTITY a SYSTEM "file:///etc/passwd">]><definitions>&a;</definitions>'
    ),
    "depth": lambda: b"<a>" * 100_000 + b"</a>" * 100_000,
    "a wrong encoding": lambda: b'<?xml version="1.0" encoding="utf-8"?><a>\xff\xfe\xff</a>',
    "another encoding": lambda: '<?xml version="1.0" encoding="utf-16"?><!DOCTYPE a><a/>'.encode("utf-16"),
    "size": lambda: b"<a>" + b" " * 200_000_000 + b"</a>",
    "no service": lambda: b'<definitions xmlns="http://schemas.xmlsoap.org/wsdl/"/>',
    "another root": lambda: b'<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"/>',
    "types in a circle": (
        lambda: (
            STYLES["document"][0]
            .replace(
                "<xs:element name",
                '<xs:simpleType name="X"><xs:restriction base="t:Y"/></xs:simpleType><xs:simpleType'
                ' name="Y"><xs:restriction base="t:X"/></xs:simpleType><xs:group name="g"><xs:sequence><xs:group'
                ' ref="t:g"/></xs:sequence></xs:group><xs:element name',
                1,
            )
            .encode()
        )
    ),
    "a document that imports itself": (
        lambda: (
            STYLES["document"][0]
            .replace("<types>", '<import namespace="urn:t" location="w.wsdl"/><types>')
            .encode()
        )
    ),
    "a path that leads out": (
        lambda: (
            STYLES["document"][0]
            .replace("<types>", '<import namespace="urn:t" location="../../../etc/passwd"/><types>')
            .encode()
        )
    ),
}


@pytest.mark.parametrize("name", HOSTILE)
def test_hostile_definitions_end_in_a_message(tmp_path: Path, name: str) -> None:
    (tmp_path / "given").mkdir()
    (tmp_path / "given" / "w.wsdl").write_bytes(HOSTILE[name]())
    code = (
        "import resource,sys\nresource.setrlimit(resource.RLIMIT_AS,(3<<30,3<<30))\nfrom juxtalogos.cli.main"
        " import main\nsys.exit(main(sys.argv[1:]))"
    )
    for words in (["init", "w"], ["import", "given/w.wsdl", "-C", "w"]):
        done = subprocess.run(
            [sys.executable, "-c", code, *words], cwd=tmp_path, capture_output=True, text=True, timeout=60
        )
        assert "Traceback" not in done.stderr, done.stderr
    sound = name in ("types in a circle", "a document that imports itself", "a path that leads out")
    assert done.returncode == (0 if name == "a document that imports itself" else 1 if sound else 2), (
        done.stderr + done.stdout
    )
    assert len(done.stderr) < 2_000


@pytest.mark.parametrize("name", ["an entity bomb", "an external entity", "a wrong encoding"])
def test_hostile_answers_are_told_and_nothing_more(tmp_path: Path, name: str) -> None:
    contract = contract_of(tmp_path, STYLES["document"][0])
    assert answered(contract, HOSTILE[name]()) == [("media.untrue", "body", True)]
    assert (
        answered(contract, HOSTILE["depth"]()) == []
    )  # it may be XML: nobody is accused of what was not followed
    deep = env("<t:Gone>" * 300 + "</t:Gone>" * 300)
    assert [kind for kind, _, _ in answered(contract, deep)] == ["body.type"]
