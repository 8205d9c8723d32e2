"""WSDLs, schemas and answers damaged at random places: used, or told in an error of ours, never a fault of
the program.
"""

from __future__ import annotations

import contextlib
import copy
import itertools
import sys
import xml.etree.ElementTree as ET
from importlib import resources
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from lxml import etree
from xsd_cases import CASES

from conftest import TESTS
from juxtalogos.check import check_exchange, examined
from juxtalogos.compose.composer import compose
from juxtalogos.compose.dependencies import find_dependencies
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.documents.load import load_document
from juxtalogos.documents.positions import position
from juxtalogos.formats import FORMATS, wire_of
from juxtalogos.formats.soap.wire.envelope import closed
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import DocumentError, JuxtalogosError
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.schema.xml.tell.text import to_text

SOAP = FORMATS["soap"]
_DEMO = resources.files("juxtalogos.demo")
_LOCKS = (TESTS / "php" / "locks.wsdl").read_text()
_WSDLS = [
    {
        "w.wsdl": _DEMO.joinpath("pilotage.wsdl").read_text("utf-8"),
        "pilotage-types.xsd": _DEMO.joinpath("pilotage-types.xsd").read_text("utf-8"),
    },
    {"w.wsdl": _LOCKS},
]
_WRAP = (
    '<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:b="http://schemas.xmlsoap.org/wsdl/soap/"'
    ' xmlns:t="urn:merrow:t" targetNamespace="urn:w"><types>{}</types><message name="I"><part name="p"'
    ' element="t:{}"/></message><portType name="P"><operation name="go"><input message="w:I"'
    ' xmlns:w="urn:w"/><output message="w:I" xmlns:w="urn:w"/></operation></portType><binding name="B"'
    ' type="w:P" xmlns:w="urn:w"><b:binding/><operation name="go"><input><b:body'
    ' use="literal"/></input><output><b:body use="literal"/></output></operation></binding><service'
    ' name="S"><port name="Q" binding="w:B" xmlns:w="urn:w"><b:address'
    ' location="http://h/s"/></port></service></definitions>'
)
for _name, _files in CASES.items():
    _first = etree.fromstring(_files["main.xsd"].encode()).find("{http://www.w3.org/2001/XMLSchema}element")
    if len(_files) == 1 and _first is not None and "no namespace" not in _name:
        _WSDLS.append({"w.wsdl": _WRAP.format(_files["main.xsd"], _first.get("name"))})
VALUES = st.one_of(
    st.text(st.characters(min_codepoint=32, max_codepoint=126), max_size=6),
    st.sampled_from(
        (
            "t:x",
            "xs:int",
            "p:Job",
            "h:Order",
            "unbounded",
            "-1",
            "0",
            "1",
            "99999999999",
            "true",
            "#all",
            "##any",
            "",
            "[",
            "(a",
            "a{2,1}",
            "\\p{Xx}",
            ".",
        )
    ),
)


def damaged(data: st.DataObject, text: str) -> str:
    """An XML text with some attributes and elements changed, taken out, doubled or moved."""
    root = etree.fromstring(text.encode())
    for _ in range(data.draw(st.integers(1, 3))):
        nodes = [one for one in root.iter() if isinstance(one.tag, str)]
        node = nodes[data.draw(st.integers(0, len(nodes) - 1))]
        how = data.draw(
            st.sampled_from(["value", "value", "attribute", "remove", "double", "move", "rename", "text"])
        )
        above = node.getparent()
        keys = list(node.attrib)
        if how in ("value", "attribute") and keys:
            key = keys[data.draw(st.integers(0, len(keys) - 1))]
            if how == "value":
                node.set(key, data.draw(VALUES))
            else:
                del node.attrib[key]
        elif how == "text":
            node.text = data.draw(VALUES)
        elif above is None:
            continue
        elif how == "remove":
            above.remove(node)
        elif how == "double":
            above.append(copy.deepcopy(node))
        elif how == "move":
            other = nodes[data.draw(st.integers(0, len(nodes) - 1))]
            if other is not node and node not in other.iterancestors():
                other.append(node)
        else:
            node.tag = nodes[data.draw(st.integers(0, len(nodes) - 1))].tag
    return etree.tostring(root).decode()


@pytest.fixture(scope="module", autouse=True)
def _deep() -> None:
    sys.setrecursionlimit(12_000)  # as the command line has it


def read(files: dict[str, str]) -> Contract | None:
    def fetch(uri: str) -> Any:
        if uri not in files:
            raise DocumentError("there is no such file", where=uri)
        return load_document(uri, files[uri].encode())

    try:
        document = fetch("w.wsdl")
        return SOAP.read("w", "w.wsdl", fetch) if SOAP.claims(document) else None
    except JuxtalogosError:
        return None


def use(contract: Contract) -> list[tuple[Any, Any]]:
    """What the commands would do with it; gives (operation, an answer's envelope) for what can be sampled."""
    found = []
    for fault in contract.faults:
        document = contract.documents.get(fault.location.document)
        assert document is None or position(document, fault.location.pointer).line >= 1
    for operation in list(contract.operations)[:12]:
        list(wire_of(contract).elements(operation))
        for ref in contract.schema_refs(operation):
            list(contract.schema(ref).outline())
        try:
            inputs = sample_inputs(contract, operation, full=True)
            request = wire_of(contract).encode(operation, inputs, "http://h/s")
            wire_of(contract).match(request, "http://h/s")
            media = operation.body.media[0] if operation.body else None
            schema: Any = contract.schema(media.schema) if media and media.schema else None
            if schema is not None:
                list(itertools.islice(schema.mutate(inputs.body), 20))
                list(itertools.islice(schema.boundaries(inputs.body), 20))
            answer = (
                operation.answers[0].media[0] if operation.answers and operation.answers[0].media else None
            )
            if answer and answer.schema:
                made: Any = contract.schema(answer.schema)
                element = made.element(made.sample(full=True, seed=3))
                version = operation.fact("version")[-3:] or "1.1"
                body = closed(
                    version if version in ("1.1", "1.2") else "1.1", [], [element], made.reader.prefixes
                )
                found.append((operation, body))
        except JuxtalogosError:
            continue
    with contextlib.suppress(JuxtalogosError):
        compose(contract, find_dependencies(contract), "../w.wsdl")
    return found


def judge(contract: Contract, operation: Any, body: bytes, status: int = 200) -> None:
    media = "text/xml" if "1.1" in operation.fact("version") else "application/soap+xml"
    exchange = Exchange(
        Request("POST", "http://h/s", (("Content-Type", media),), body),
        Response(status, "", (("Content-Type", media),), body),
        Timings(0, 0, 0),
    )
    answer = examined(wire_of(contract).decode(operation, exchange))
    list(check_exchange(contract, operation, answer, exchange, wire_of(contract).checks))
    list(wire_of(contract).hits(operation, exchange, answer, "http://h/s"))


@settings(max_examples=150, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.data())
def test_damaged_wsdls_and_schemas(data: st.DataObject) -> None:
    files = dict(data.draw(st.sampled_from(_WSDLS)))
    name = data.draw(st.sampled_from(sorted(files)))
    files[name] = damaged(data, files[name])
    contract = read(files)
    if contract is not None:
        for operation, body in use(contract):
            judge(contract, operation, body)


_SOUND = [(contract, use(contract)) for contract in (read(files) for files in _WSDLS) if contract is not None]


@settings(max_examples=150, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.data())
def test_damaged_answers(data: st.DataObject) -> None:
    contract, answers = data.draw(st.sampled_from([one for one in _SOUND if one[1]]))
    operation, body = data.draw(st.sampled_from(answers))
    text = damaged(data, body.decode().partition("?>")[2].strip())
    judge(contract, operation, text.encode(), data.draw(st.sampled_from((200, 200, 202, 400, 500))))


def test_every_case_of_these_trials_is_sound_to_begin_with() -> None:
    assert len(_SOUND) == len(_WSDLS) and all(contract.operations for contract, _ in _SOUND)
    assert to_text(ET.Element("{urn:x}a"), {}) == '<n1:a xmlns:n1="urn:x"/>'
