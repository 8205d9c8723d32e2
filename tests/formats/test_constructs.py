"""Constructs of each version of OpenAPI: read, written as a request, and read back by parsers that are not
ours.
"""

from __future__ import annotations

import xml.etree.ElementTree as ET
from email import message_from_bytes
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import answers, definition, read_contract
from juxtalogos.formats import wire_of
from juxtalogos.formats.openapi import OPENAPI
from juxtalogos.formats.openapi.wire.xml_bodies import from_xml, to_xml
from juxtalogos.model.exchange import header
from juxtalogos.model.wire import Inputs
from juxtalogos.schema.json import compile_schema
from juxtalogos.schema.json.tell.profile import View

OLD = """
swagger: "2.0"
info: {title: Old quay, version: "1"}
host: merrow.example
basePath: /v1
schemes: [https, http]
consumes: [application/json]
produces: [application/json, text/csv]
securityDefinitions:
  key: {type: apiKey, in: header, name: X-Key}
  office: {type: basic}
security: [{key: []}]
parameters:
  Id: {name: id, in: path, required: true, type: integer, minimum: 1}
responses:
  Gone: {description: gone, schema: {$ref: '#/definitions/Fault'}}
paths:
  /berths/{id}:
    parameters: [{$ref: '#/parameters/Id'}]
    get:
      operationId: getBerth
      security: []
      parameters:
        - {name: plain, in: query, type: array, items: {type: integer}}
        - {name: spaced, in: query, type: array, items: {type: string}, collectionFormat: ssv}
        - {name: tabbed, in: query, type: array, items: {type: string}, collectionFormat: tsv}
        - {name: piped, in: query, type: array, items: {type: string}, collectionFormat: pipes}
        - {name: many, in: query, type: array, items: {type: string}, collectionFormat: multi}
        - {name: X-Bays, in: header, type: array, items: {type: integer}, collectionFormat: pipes}
        - {name: wrong, in: header, type: array, items: {type: integer}, collectionFormat: multi}
      responses:
        200: {description: ok, schema: {$ref: '#/definitions/Berth'}, examples: {application/json: {name: Skerry}}}
        404: {$ref: '#/responses/Gone'}
    put:
      operationId: putBerth
      consumes: [application/json, application/xml]
      parameters: [{name: berth, in: body, required: true, schema: {$ref: '#/definitions/Berth'}}]
      responses: {default: {description: x}}
  /plans:
    post:
      operationId: postPlan
      consumes: [multipart/form-data]
      parameters:
        - {name: plan, in: formData, type: file, required: true}
        - {name: note, in: formData, type: string, maxLength: 10}
      produces: []
      responses: {201: {description: made, schema: {type: file}}}
  /lines:
    post:
      operationId: postLines
      consumes: [application/x-www-form-urlencoded]
      parameters:
        - {name: bays, in: formData, type: array, items: {type: integer}, required: true, collectionFormat: pipes}
        - {name: side, in: formData, type: string, enum: [port, starboard]}
      responses: {204: {description: done}}
definitions:
  Berth: {type: object, required: [name], properties: {name: {type: string}, secret: {type: string, format: password}}}
  Fault: {type: object, properties: {code: {type: integer}}}
"""


def test_openapi_2_0() -> None:
    contract = read_contract(OLD)
    assert contract.version == "2.0" and contract.servers == (
        "https://merrow.example/v1",
        "http://merrow.example/v1",
    )
    assert [fault.what for fault in contract.faults] == [
        "the collectionFormat multi is not for header parameters"
    ]
    assert {scheme.name: scheme.kind for scheme in contract.security_schemes} == {
        "key": "apiKey",
        "office": "basic",
    }
    assert set(contract.secret_fields) == {"X-Key", "secret"}
    get, put, plan, lines = contract.operations
    assert get.security == () and put.security == (("key",),)
    values = {
        "path.id": 4,
        "query.plain": [1, 2],
        "query.spaced": ["a", "b"],
        "query.tabbed": ["a", "b"],
        "query.piped": ["a|", "b"],
        "query.many": ["a", "b"],
        "header.X-Bays": [1, 2],
    }
    request = wire_of(contract).encode(get, Inputs(values), "http://h/v1")
    query = parse_qs(urlsplit(request.url).query)
    assert urlsplit(request.url).path == "/v1/berths/4" and header(request.headers, "x-bays") == "1|2"
    assert query == {
        "plain": ["1,2"],
        "spaced": ["a b"],
        "tabbed": ["a\tb"],
        "piped": ["a||b"],
        "many": ["a", "b"],
    }
    assert header(request.headers, "accept") == "application/json, text/csv"
    assert [media.media_type for media in put.body.media] == ["application/json", "application/xml"]
    assert get.answers[0].media[0].examples == ({"name": "Skerry"},) and get.answers[1].media[0].schema
    request = wire_of(contract).encode(plan, Inputs({}, {"plan": b"\x00\r\nbay", "note": "tide"}), "http://h")
    parts = message_from_bytes(
        f"Content-Type: {header(request.headers, 'content-type')}\r\n\r\n".encode() + request.body
    ).get_payload()
    found = {part.get_param("name", header="content-disposition"): part for part in parts}
    assert found["plan"].get_filename() and found["plan"].get_payload(decode=True) == b"\x00\r\nbay"
    assert found["note"].get_payload(decode=True) == b"tide" and not found["note"].get_filename()
    form = contract.schema(lines.body.media[0].schema)
    assert [one.path for one in form.check({"bays": ["x"], "side": "left"})] == ["/bays/0", "/side"]
    assert [one.location.pointer for one in form.check({})] == ["/paths/~1lines/post/parameters"]
    request = wire_of(contract).encode(lines, Inputs({}, {"bays": [1, 2], "side": "port"}), "http://h")
    assert parse_qs(request.body.decode()) == {"bays": ["1|2"], "side": ["port"]}
    assert any("postLines" in element.label for element in wire_of(contract).elements(lines))
    sample = contract.schema(plan.body.media[0].schema).sample(full=True)
    assert set(sample) == {"plan", "note"} and contract.schema(plan.body.media[0].schema).accepts(sample)


_XML: Any = {
    "type": "object",
    "xml": {"name": "berth", "namespace": "urn:merrow", "prefix": "m"},
    "required": ["id"],
    "properties": {
        "id": {"type": "integer", "xml": {"attribute": True, "name": "nr"}},
        "name": {"type": "string", "xml": {"name": "title"}},
        "depth": {"type": "number"},
        "free": {"type": "boolean", "nullable": True},
        "bays": {
            "type": "array",
            "items": {"type": "integer", "xml": {"name": "bay"}},
            "xml": {"wrapped": True, "name": "all-bays"},
        },
        "notes": {"type": "array", "items": {"type": "string"}},
        "gate": {
            "type": "object",
            "properties": {"open": {"type": "boolean"}, "by": {"type": "string", "xml": {"attribute": True}}},
        },
    },
    "additionalProperties": False,
}
_TEXT = st.text(
    st.characters(codec="utf-8", exclude_categories=["Cc", "Cs"], exclude_characters="\ufffe\uffff"),
    min_size=1,
    max_size=8,
).filter(lambda text: text.strip() == text)


@settings(max_examples=100, deadline=None)
@given(
    st.fixed_dictionaries(
        {"id": st.integers()},
        optional={
            "name": _TEXT,
            "depth": st.floats(-1e6, 1e6, allow_nan=False),
            "free": st.sampled_from([True, False, None]),
            "bays": st.lists(st.integers(), max_size=3),
            "notes": st.lists(_TEXT, min_size=1, max_size=3),
            "gate": st.fixed_dictionaries({"open": st.booleans()}, optional={"by": _TEXT}),
        },
    )
)
def test_xml_by_its_xml_objects(value: Any) -> None:
    schema = compile_schema(_XML, "openapi-3.0")
    view = View(schema.node, schema.context())
    text = to_xml(view, value, "root")
    root = ET.fromstring(text)
    assert root.tag == "{urn:merrow}berth" and root.get("nr") == str(value["id"])
    assert [bay.text for bay in root.findall("all-bays/bay")] == [str(bay) for bay in value.get("bays", [])]
    assert [note.text for note in root.findall("notes")] == value.get("notes", [])
    found = from_xml(view, root)
    assert schema.accepts(found) and found == value


def test_references_wherever_the_versions_allow_them() -> None:
    files = {
        "quay.yaml": {
            "openapi": "3.1.0",
            "info": {"title": "x", "version": "1"},
            "paths": {"/a": {"$ref": "paths.yaml#/a"}, "/b%20b": {"$ref": "deep/b.yaml"}},
            "webhooks": {"moored": {"post": {"summary": "a vessel is moored", "responses": answers()}}},
        },
        "paths.yaml": {
            "a": {
                "get": {
                    "operationId": "getA",
                    "parameters": [{"$ref": "#/shared/~1p%20q"}],
                    "callbacks": {"told": {"{$request.query.to}": {"post": {"responses": answers()}}}},
                    "responses": {"200": {"$ref": "deep/b.yaml#/answer"}},
                }
            },
            "shared": {"/p q": {"name": "p", "in": "query", "schema": {"$ref": "schemas.json#tide"}}},
        },
        "deep/b.yaml": {
            "get": {"operationId": "getB", "responses": {"200": {"$ref": "#/answer"}}},
            "answer": {
                "description": "x",
                "content": {"application/json": {"schema": {"$ref": "../schemas.json#/Tree"}}},
            },
        },
        "schemas.json": {
            "tide": {"$anchor": "tide", "type": "integer"},
            "Tree": {
                "type": "object",
                "properties": {
                    "parts": {"type": "array", "items": {"$ref": "#/Tree"}},
                    "t": {"$ref": "#tide"},
                },
            },
        },
    }
    from juxtalogos.documents.load import load_document

    contract = OPENAPI.read(
        "quay", "quay.yaml", lambda uri: load_document(uri, yaml.safe_dump(files[uri]).encode())
    )
    assert contract.faults == () and [one.id for one in contract.operations] == ["getA", "getB"]
    assert set(contract.documents) == set(files)
    assert [(one.kind, one.name, one.operation) for one in contract.outgoing] == [
        ("webhook", "moored", ""),
        ("callback", "told", "getA"),
    ]
    tree = contract.schema(contract.operations[0].answers[0].media[0].schema)
    assert [one.path for one in tree.check({"parts": [{"t": "x"}], "t": 1})] == ["/parts/0/t"]
    assert not contract.schema(contract.operations[0].inputs[0].schema).accepts("x")


@pytest.mark.parametrize(
    ("server", "wanted"),
    [
        ("/v2", "http://h/v2/a"),
        ("https://merrow.example/v3", "http://h/v3/a"),
        ("https://elsewhere.example/v3", "http://h/v1/a"),
        ("{stage}/x", "http://h/v1/test/x/a"),
    ],
)
def test_servers_of_one_path_keep_to_the_targets_host(server: str, wanted: str) -> None:
    servers = [{"url": server, "variables": {"stage": {"default": "test"}}}]
    text = yaml.safe_load(definition({"/a": {"servers": servers, "get": {"responses": answers()}}}))
    contract = read_contract(yaml.safe_dump({**text, "servers": [{"url": "https://merrow.example/v1"}]}))
    assert wire_of(contract).encode(contract.operations[0], Inputs({}), "http://h/v1").url == wanted
