"""From contract to request: sign-in, bodies of every kind, composing, what requests exercise, and what a
terminal may show.
"""

from __future__ import annotations

import base64
import json
from email import message_from_bytes
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl

import pytest
import yaml

from conftest import BERTHS, answers, definition, read_contract, sign
from juxtalogos.cli.shared.terminal import clean
from juxtalogos.compose.composer import compose
from juxtalogos.compose.dependencies import find_dependencies
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.compose.skeleton import skeleton
from juxtalogos.documents.yamltext import read_yaml
from juxtalogos.exchange.sign_in import variants
from juxtalogos.exchange.signing import Credential
from juxtalogos.formats import wire_of
from juxtalogos.model.errors import ConfigError, UsageError, nearest
from juxtalogos.model.exchange import Exchange, Request, Response, Timings, header
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.document.writer import slug, to_yaml
from juxtalogos.workspace.config import Target, check_url, origin
from juxtalogos.workspace.known import DependencyRule
from juxtalogos.workspace.secrets import filled, secret

_OK = answers({"type": "string"})


def _secured(scheme: dict[str, Any], security: Any = None) -> Any:
    text = definition(
        {"/q": {"get": {"security": security or [{"s": []}], "responses": _OK}}},
        securitySchemes={"s": scheme, "t": {"type": "http", "scheme": "bearer"}},
    )
    return read_contract(text)


@pytest.mark.parametrize(
    ("scheme", "where", "value"),
    [
        (
            {"type": "http", "scheme": "basic"},
            "Authorization",
            "Basic " + base64.b64encode(b"watch:p:w").decode(),
        ),
        ({"type": "http", "scheme": "Bearer"}, "Authorization", "Bearer p:w"),
        ({"type": "oauth2", "flows": {}}, "Authorization", "Bearer p:w"),
        ({"type": "apiKey", "in": "header", "name": "X-Key"}, "X-Key", "p:w"),
        ({"type": "apiKey", "in": "cookie", "name": "key"}, "Cookie", "a=1; key=p:w"),
    ],
)
def test_sign_in(scheme: dict[str, Any], where: str, value: str) -> None:
    contract = _secured(scheme)
    request = Request("GET", "http://h/q", (("Cookie", "a=1"),))
    signed, missing = sign(contract, contract.operations[0], request, {"s": Credential("p:w", "watch")})
    assert header(signed.headers, where) == value and missing == ()
    assert sign(contract, contract.operations[0], request, {}) == (request, ("s",))


def test_sign_in_by_query_and_alternatives() -> None:
    contract = _secured({"type": "apiKey", "in": "query", "name": "key"})
    signed, _ = sign(
        contract, contract.operations[0], Request("GET", "http://h/q?a=1"), {"s": Credential("p&w")}
    )
    assert signed.url == "http://h/q?a=1&key=p%26w"
    either = _secured({"type": "http", "scheme": "basic"}, [{"s": []}, {"t": []}])
    signed, missing = sign(
        either, either.operations[0], Request("GET", "http://h/q"), {"t": Credential("tok")}
    )
    assert header(signed.headers, "authorization") == "Bearer tok" and missing == ()
    optional = _secured({"type": "http", "scheme": "basic"}, [{"s": []}, {}])
    assert sign(optional, optional.operations[0], Request("GET", "http://h/q"), {}) == (
        Request("GET", "http://h/q"),
        (),
    )
    assert "Credential(user=" in repr(Credential("secret", "u")) and "secret" not in repr(
        Credential("secret", "u")
    )
    assert base64.b64encode(b"u:secret").decode() in variants(Credential("secret", "u"))


def test_where_secrets_come_from(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    workspace = tmp_path / "w"
    workspace.mkdir()
    (tmp_path / "key").write_text("from-file\n", "utf-8")
    (workspace / "key").write_text("inside", "utf-8")
    (workspace / "link").symlink_to(tmp_path / "key")

    monkeypatch.setenv("QUAY_KEY", "from-env")
    assert secret("env:QUAY_KEY", "x", workspace) == "from-env"
    assert secret(f"file:{tmp_path / 'key'}", "x", workspace) == "from-file"
    assert secret(f"file:{workspace / 'link'}", "x", workspace) == "from-file"
    assert filled("Bearer env:QUAY_KEY", "x") == ("Bearer from-env", "from-env") and filled("env", "x") == (
        "env",
        "",
    )
    for reference in (f"file:{workspace / 'key'}", f"file:{tmp_path / 'none'}", "env:QUAY_NO_KEY"):
        with pytest.raises(ConfigError):
            secret(reference, "x", workspace)


@pytest.mark.parametrize(
    "url",
    [
        "",
        "quay",
        "ftp://h",
        "http://",
        "http://h:99999",
        "http://h:0",
        "http://u@h",
        "http://h/?a=1",
        "http://h/#x",
        "http://h /x",
        "http://[::1",
    ],
)
def test_what_is_no_base_url(url: str) -> None:
    with pytest.raises(ConfigError):
        check_url(url)


def test_base_urls_and_origins() -> None:
    assert check_url("http://h:8080/v1/") == "http://h:8080/v1"
    assert origin("HTTPS://Quay.test/x") == "https://quay.test:443" and origin("http://h") == "http://h:80"
    assert Target("t", "http://a/x", {"c": "https://b:8/y"}).origins() == {"http://a:80", "https://b:8"}


_BODY = {
    "type": "object",
    "required": ["name", "tags", "plan", "size"],
    "properties": {
        "name": {"type": "string", "example": "Grey Tern & Söhne"},
        "tags": {"type": "array", "minItems": 2, "uniqueItems": True, "items": {"type": "string"}},
        "plan": {"type": "object", "required": ["bay"], "properties": {"bay": {"type": "integer"}}},
        "size": {"type": "number", "example": 4.5},
    },
}


def _posted(media_type: str, schema: Any = _BODY, **more: Any) -> tuple[Any, Request, Any]:
    body = {"required": True, "content": {media_type: {"schema": schema, **more}}}
    contract = read_contract(definition({"/q": {"post": {"requestBody": body, "responses": _OK}}}))
    inputs = sample_inputs(contract, contract.operations[0], full=True)
    return contract, wire_of(contract).encode(contract.operations[0], inputs, "http://h"), inputs.body


def test_multipart_bodies_are_read_by_another_parser() -> None:
    contract, request, value = _posted(
        "multipart/form-data", encoding={"plan": {"contentType": "application/json"}}
    )
    message = message_from_bytes(
        b"Content-Type: "
        + (header(request.headers, "content-type") or "").encode()
        + b"\r\n\r\n"
        + (request.body or b"")
    )
    parts: dict[str, list[Any]] = {}
    for part in message.get_payload():
        parts.setdefault(part.get_param("name", header="content-disposition"), []).append(part)
    assert [part.get_payload(decode=True).decode() for part in parts["name"]] == ["Grey Tern & Söhne"]
    assert [part.get_payload(decode=True).decode() for part in parts["tags"]] == value["tags"]
    assert json.loads(parts["plan"][0].get_payload(decode=True)) == value["plan"]
    assert parts["plan"][0].get_content_type() == "application/json"
    hits = _hits(contract, request)
    assert {"name", "tags", "plan", "size"} <= {
        hit.partition("/properties/")[2].partition("|")[0]
        for hit in hits
        if hit.startswith("request-property")
    }


def test_form_bodies_are_read_by_another_parser() -> None:
    schema = {
        **_BODY,
        "required": ["name", "tags"],
        "properties": {key: _BODY["properties"][key] for key in ("name", "tags", "size")},
    }  # type: ignore[index]
    _, request, value = _posted("application/x-www-form-urlencoded", schema)
    pairs = parse_qsl((request.body or b"").decode())
    assert [text for name, text in pairs if name == "name"] == [value["name"]]
    assert [text for name, text in pairs if name == "tags"] == value["tags"]
    assert ("size", "4.5") in pairs


@pytest.mark.parametrize(
    ("media_type", "sent"),
    [
        ("text/plain", "text/plain"),
        ("*/*", "text/plain"),
        ("application/vnd.quay+json", "application/vnd.quay+json"),
        ("text/csv; charset=utf-8", "text/csv; charset=utf-8"),
    ],
)
def test_content_types_of_other_bodies(media_type: str, sent: str) -> None:
    _, request, value = _posted(media_type, {"type": "string", "example": "bay,row"})
    assert header(request.headers, "content-type") == sent
    assert request.body == (json.dumps(value) if "json" in media_type else value).encode()


def test_odd_inputs_are_told() -> None:
    contract = read_contract(BERTHS, "berths")
    vessel = contract.operation("getVessel")
    for values, words in (
        ({}, "needs path.vesselId"),
        ({"path.vesselId": ""}, "the path has a hole"),
        ({"path.vesselId": "V-1", "query.x": 1}, "has no input query.x"),
    ):
        with pytest.raises(UsageError, match=words):
            wire_of(contract).encode(vessel, Inputs(values), "http://h")
    request = wire_of(contract).encode(
        vessel, Inputs({"path.vesselId": "../../etc?x#y", "header.X-Any": "1"}), "http://h/v1"
    )
    assert (
        request.url == "http://h/v1/vessels/..%2F..%2Fetc%3Fx%23y" and header(request.headers, "x-any") == "1"
    )


def _hits(contract: Any, request: Request) -> set[str]:
    exchange = Exchange(
        request, Response(200, "OK", (("Content-Type", "application/json"),), b'"x"'), Timings(0, 0, 0)
    )
    operation = wire_of(contract).match(request, "http://h")[0]
    return set(
        wire_of(contract).hits(operation, exchange, wire_of(contract).decode(operation, exchange), "http://h")
    )


def test_requests_exercise_parameters_and_their_values_wherever_they_stand() -> None:
    kinds = {"type": "string", "enum": ["bulk", "tanker"]}
    parameters = [
        {"name": "kind", "in": "path", "required": True, "schema": kinds},
        {"name": "kinds", "in": "query", "explode": False, "schema": {"type": "array", "items": kinds}},
        {"name": "X-Kind", "in": "header", "schema": kinds},
        {"name": "seen", "in": "cookie", "schema": kinds},
        {"name": "unused", "in": "query", "schema": kinds},
    ]
    contract = read_contract(definition({"/q/{kind}": {"get": {"parameters": parameters, "responses": _OK}}}))
    inputs = Inputs(
        {
            "path.kind": "bulk",
            "query.kinds": ["bulk", "tanker"],
            "header.X-Kind": "tanker",
            "cookie.seen": "bulk",
        }
    )
    hits = _hits(contract, wire_of(contract).encode(contract.operations[0], inputs, "http://h"))
    assert sum(hit.startswith("parameter|") for hit in hits) == 4
    assert sorted(
        hit.rpartition("/parameters/")[2].split("|")[0][0] + hit.split("|")[2]
        for hit in hits
        if hit.startswith("enum|")
    ) == ['0"bulk"', '1"bulk"', '1"tanker"', '2"tanker"', '3"bulk"']


def _composed(paths: Any, **components: Any) -> list[Any]:
    contract = read_contract(definition(paths, **components))
    dependencies = find_dependencies(contract)
    return compose(contract, dependencies, "../definitions/quay/quay.yaml").document["workflows"]


_ITEM = {
    "type": "object",
    "required": ["id"],
    "properties": {"id": {"type": "string"}, "name": {"type": "string"}},
}


def _item_parameter(name: str) -> list[Any]:
    return [{"name": name, "in": "path", "required": True, "schema": {"type": "string"}}]


def test_flows_without_operation_ids() -> None:
    paths = {
        "/quays": {
            "post": {"responses": answers(_ITEM, "201")},
            "get": {"responses": answers({"type": "array", "items": _ITEM})},
        },
        "/quays/{quayId}": {
            "parameters": _item_parameter("quayId"),
            "get": {"responses": {**answers(_ITEM), "410": {"description": "gone"}}},
            "put": {
                "requestBody": {"content": {"application/json": {"schema": _ITEM}}},
                "responses": answers(_ITEM),
            },
            "delete": {"responses": {"204": {"description": "x"}}},
        },
    }
    cases = _composed(paths)
    flow = next(case for case in cases if case["workflowId"] == "flow-quays")
    assert [step["stepId"] for step in flow["steps"]] == [
        "POST-quays",
        "GET-quays-quayId",
        "GET-quays",
        "PUT-quays-quayId",
        "GET-quays-quayId-2",
        "DELETE-quays-quayId",
        "GET-quays-quayId-3",
    ]
    assert flow["steps"][0]["operationPath"] == "{$sourceDescriptions.quay.url}#/paths/~1quays/post"
    assert flow["steps"][0]["outputs"] == {"id": "$response.body#/id"}
    assert flow["steps"][1]["parameters"][0]["value"] == "$steps.POST-quays.outputs.id"
    assert flow["steps"][5]["x-juxtalogos-always"] is True
    assert flow["steps"][6]["successCriteria"] == [{"condition": "$statusCode == 410"}]
    read = next(case for case in cases if case["workflowId"] == "GET-quays-quayId")
    assert [step["stepId"] for step in read["steps"]] == [
        "POST-quays",
        "GET-quays-quayId",
        "DELETE-quays-quayId",
    ]


def test_dependencies_by_name_by_reference_and_never_in_a_circle() -> None:
    pilot = {"type": "object", "required": ["pilotId"], "properties": {"pilotId": {"type": "string"}}}
    job = {
        "type": "object",
        "required": ["pilotId", "jobRef"],
        "properties": {"pilotId": {"type": "string"}, "jobRef": {"type": "string"}},
    }
    paths = {
        "/watch": {
            "get": {
                "operationId": "onWatch",
                "responses": answers({"type": "object", "properties": {"first": pilot}}),
            }
        },
        "/jobs": {
            "post": {
                "operationId": "addJob",
                "requestBody": {"required": True, "content": {"application/json": {"schema": job}}},
                "responses": answers(
                    job,
                    "201",
                    links={
                        "l": {
                            "operationRef": "#/paths/~1bill/post",
                            "parameters": {"query.ref": "$response.body#/jobRef"},
                        }
                    },
                ),
            }
        },
        "/bill": {
            "post": {
                "operationId": "bill",
                "parameters": [{"name": "ref", "in": "query", "schema": {"type": "string"}}],
                "responses": _OK,
            }
        },
    }
    contract = read_contract(definition(paths))
    found = {
        (one.operation, one.input): (one.source, one.value, one.reason.partition(":")[0])
        for one in find_dependencies(contract)
    }
    assert found[("addJob", "body/pilotId")] == ("onWatch", "$response.body#/first/pilotId", "name")
    assert found[("bill", "query.ref")] == ("addJob", "$response.body#/jobRef", "link")
    assert ("addJob", "body/jobRef") not in found
    for rule, words in (
        (DependencyRule("bil", "query.ref"), "did you mean bill"),
        (DependencyRule("bill", "query.ref", "addJob"), "needs `from` and `value`"),
    ):
        with pytest.raises(ConfigError) as caught:
            find_dependencies(contract, [rule])
        assert words in str(caught.value)


def test_what_cannot_be_sampled_is_left_out_and_said() -> None:
    impossible = {
        "type": "object",
        "required": ["a"],
        "properties": {"a": {"type": "integer", "minimum": 4, "maximum": 3}},
    }
    paths = {
        "/q": {
            "post": {
                "operationId": "q",
                "requestBody": {"required": True, "content": {"application/json": {"schema": impossible}}},
                "responses": _OK,
            },
            "get": {"operationId": "g", "responses": _OK},
        }
    }
    contract = read_contract(definition(paths))
    composed = compose(contract, [], "x")
    assert [case["workflowId"] for case in composed.document["workflows"]] == ["g"]
    ((operation, why),) = composed.left_out
    assert operation == "q" and "no valid sample" in why


def test_skeletons_in_every_form() -> None:
    contract = read_contract(BERTHS, "berths")
    operation = contract.operation("registerVessel")
    inputs = sample_inputs(contract, operation, full=False)
    message = skeleton(wire_of(contract), operation, inputs, "http://h/v1", "message")
    assert (
        message.startswith("POST /v1/vessels HTTP/1.1\nHost: h\n")
        and json.loads(message.partition("\n\n")[2]) == inputs.body
    )
    line = skeleton(
        wire_of(contract),
        operation,
        Inputs({}, {"name": "it's; rm -rf $(x)"}, "application/json"),
        "http://h",
        "curl",
    )
    import shlex

    assert json.loads(shlex.split(line.replace("\\\n", " "))[-1]) == {"name": "it's; rm -rf $(x)"}
    (step,) = yaml.safe_load(skeleton(wire_of(contract), operation, inputs, "http://h", "step"))
    assert (
        step["operationId"] == "$sourceDescriptions.berths.registerVessel"
        and step["requestBody"]["payload"] == inputs.body
    )


@pytest.mark.parametrize(
    "value",
    [
        "no",
        "on",
        "0o17",
        "1e3",
        "2026-03-14",
        "12:30",
        "null",
        "~",
        "",
        " x",
        "a: b",
        "#x",
        "é",
        "-",
        "0x1F",
        ".5",
        "<<",
        "true",
        "1_000",
        "line\nbreak",
    ],
)
def test_suites_are_read_alike_by_both_versions_of_yaml(value: str) -> None:
    text = to_yaml({"v": value, "list": [value]})
    assert yaml.safe_load(text) == read_yaml(text)[0] == {"v": value, "list": [value]}


def test_terminals_see_no_control_characters() -> None:
    assert clean("a\x1b[31m\u202eb\u2028\ud800\x9b") == "a\\x1b[31m\\u202eb\\u2028\\ud800\\x9b"
    assert (
        clean("a\nb\tc", keep_lines=True) == "a\nb\tc"
        and clean("a\nb") == "a\\x0ab"
        and clean("Tür 🚢") == "Tür 🚢"
    )


def test_nearest_names() -> None:
    assert nearest("getBert", ["getBerth", "listTides"]) == "did you mean getBerth?"
    assert nearest("zzz", ["a", "b"]) == "known: a, b" and nearest("x", []) == ""
    assert slug("GET /quays/{id}") == "GET-quays-id"
