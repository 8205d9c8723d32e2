"""Reading OpenAPI definitions: faults with lines, references over files, ids, and parameters read back by
another parser.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, parse_qsl, unquote, urlsplit

import jsonschema
import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import BERTHS, Result, answers, definition, read_contract
from juxtalogos.compose.filling import filled, settings_given
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.documents.positions import position
from juxtalogos.formats import wire_of
from juxtalogos.formats.http.match import path_values
from juxtalogos.formats.openapi.coverage import input_value
from juxtalogos.formats.openapi.wire.styles import ParameterReader, kinds, write
from juxtalogos.model.contract import Input
from juxtalogos.model.errors import DocumentError, UsageError
from juxtalogos.model.exchange import Request
from juxtalogos.model.location import Location
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.inputs import resolve_address

_OK = answers({"type": "string"})

FAULTS: list[tuple[str, dict[str, Any], str, int]] = [
    # what is wrong, the definition's `paths` and `components`, the message, how many operations stay
    (
        "a reference to nothing",
        {
            "paths": {
                "/q": {
                    "get": {"responses": answers({"$ref": "#/components/schemas/No"})},
                    "put": {"responses": _OK},
                }
            }
        },
        "which does not exist",
        2,
    ),
    (
        "a reference to no file",
        {"paths": {"/q": {"get": {"responses": answers({"$ref": "no.yaml#/X"})}, "put": {"responses": _OK}}}},
        "there is no such file",
        2,
    ),
    (
        "a parameter reference",
        {
            "paths": {
                "/q": {
                    "get": {"parameters": [{"$ref": "#/components/parameters/No"}], "responses": _OK},
                    "put": {"responses": _OK},
                }
            }
        },
        "which does not exist",
        2,
    ),
    (
        "a circle of references",
        {
            "paths": {
                "/q": {
                    "get": {"responses": answers({"$ref": "#/components/schemas/A"})},
                    "put": {"responses": _OK},
                }
            },
            "components": {
                "schemas": {"A": {"$ref": "#/components/schemas/B"}, "B": {"$ref": "#/components/schemas/A"}}
            },
        },
        "defined by itself",
        2,
    ),
    (
        "a circle of parameters",
        {
            "paths": {
                "/q": {"get": {"parameters": [{"$ref": "#/components/parameters/A"}], "responses": _OK}}
            },
            "components": {"parameters": {"A": {"$ref": "#/components/parameters/A"}}},
        },
        "round in a circle",
        1,
    ),
    (
        "a hole in the path",
        {"paths": {"/q/{id}": {"get": {"responses": _OK}}}},
        "no parameter is declared for {id}",
        1,
    ),
    ("a path without a slash", {"paths": {"q": {"get": {"responses": _OK}}}}, "does not begin with '/'", 1),
    (
        "no status code",
        {"paths": {"/q": {"get": {"responses": {"ok": {"description": "x"}}}}}},
        "is no status code",
        1,
    ),
    (
        "no media type",
        {"paths": {"/q": {"get": {"responses": {"200": {"description": "x", "content": {"json": {}}}}}}}},
        "is no media type",
        1,
    ),
    (
        "an id twice",
        {
            "paths": {
                "/q": {
                    "get": {"operationId": "x", "responses": _OK},
                    "put": {"operationId": "x", "responses": _OK},
                }
            }
        },
        "stands 2 times",
        2,
    ),
    (
        "a parameter without a place",
        {"paths": {"/q": {"get": {"parameters": [{"name": "a"}], "responses": _OK}}}},
        "needs `name`, and `in`",
        1,
    ),
    (
        "required in a property",
        {
            "paths": {
                "/q": {
                    "get": {
                        "responses": answers(
                            {"type": "object", "properties": {"a": {"type": "string", "required": True}}}
                        )
                    }
                }
            }
        },
        "`required` in a schema is a list",
        1,
    ),
    (
        "an unknown type",
        {"paths": {"/q": {"get": {"responses": answers({"type": "text"})}}}},
        "unknown type text",
        1,
    ),
    (
        "a broken pattern",
        {"paths": {"/q": {"get": {"responses": answers({"type": "string", "pattern": "["})}}}},
        "no regular expression",
        1,
    ),
    (
        "a security scheme that is not declared",
        {"paths": {"/q": {"get": {"security": [{"key": []}], "responses": _OK}}}},
        "is not declared",
        1,
    ),
    (
        "a text for a schema",
        {"paths": {"/q": {"get": {"responses": answers({"properties": {"a": "string"}})}}}},
        "a schema is a mapping of keywords",
        1,
    ),
    (
        "a list of properties",
        {"paths": {"/q": {"get": {"responses": answers({"properties": [{"a": {}}]})}}}},
        '`properties` is [{"a": {}}], not a mapping of names',
        1,
    ),
    (
        "a length below 0",
        {"paths": {"/q": {"get": {"responses": answers({"maxLength": -1})}}}},
        "`maxLength` is -1, not a whole number of at least 0",
        1,
    ),
    (
        "a limit in quotes",
        {"paths": {"/q": {"get": {"responses": answers({"minimum": "1"})}}}},
        '`minimum` is "1", not a number',
        1,
    ),
    (
        "allOf of a reference's text",
        {"paths": {"/q": {"get": {"responses": answers({"allOf": ["#/components/schemas/A"]})}}}},
        "not a list of schemas",
        1,
    ),
    (
        "an answer of an older form",
        {
            "paths": {
                "/q": {"get": {"responses": {"200": {"description": "x", "schema": {"type": "string"}}}}}
            }
        },
        "a response object has no schema",
        1,
    ),
    (
        "an answer without a description",
        {"paths": {"/q": {"get": {"responses": {"200": {}}}}}},
        "has no description",
        1,
    ),
    (
        "content that is a list",
        {"paths": {"/q": {"get": {"responses": {"200": {"description": "x", "content": []}}}}}},
        "`content` of the response 200 is not a mapping",
        1,
    ),
    (
        "a header that is a text",
        {"paths": {"/q": {"get": {"responses": {"200": {"description": "x", "headers": {"X-A": "a"}}}}}}},
        "the header X-A is no mapping",
        1,
    ),
    (
        "a parameter twice",
        {"paths": {"/q": {"get": {"parameters": [{"name": "a", "in": "query"}] * 2, "responses": _OK}}}},
        "the query parameter a occurs twice",
        1,
    ),
    ("no operations", {"paths": {}}, "no operations", 0),
    ("paths that are a list", {"paths": []}, "no mapping", 0),
]


@pytest.mark.parametrize(("what", "parts", "words", "sound"), FAULTS, ids=[fault[0] for fault in FAULTS])
def test_faults_are_listed_and_the_sound_rest_is_kept(
    what: str, parts: dict[str, Any], words: str, sound: int
) -> None:
    contract = read_contract(definition(parts["paths"], **parts.get("components", {})))
    found = [fault for fault in contract.faults if words in fault.what]
    assert found and len(set(found)) == len(found) < 3, contract.faults
    assert found[0].mend
    assert position(contract.documents["quay.yaml"], found[0].location.pointer).line > 1
    assert len(contract.operations) == sound


def test_what_is_left_out_of_a_schema_forbids_nothing_and_what_no_schema_is_proves_nothing() -> None:
    contract = read_contract(
        definition({"/q": {"get": {"responses": answers({"maxLength": -1, "minimum": "5"})}}})
    )
    schema = contract.schema(next(contract.schema_refs(contract.operations[0])))
    assert schema.accepts("quay") and schema.accepts(1) and schema.accepts_anything
    # An extension and an example are no schemas, whatever they have; a property may be called like a keyword.
    free = {
        "x-a": {"schema": {"type": "int"}},
        "example": {"minLength": -1},
        "properties": {"type": {"type": "string"}, "minLength": {"type": "integer"}},
    }
    assert read_contract(definition({"/q": {"get": {"responses": answers(free)}}})).faults == ()


@pytest.mark.parametrize(
    ("parameters", "words"),
    [
        (
            [{"in": "body", "name": "b", "schema": {}}, {"in": "formData", "name": "f", "type": "string"}],
            "form data and a body parameter",
        ),
        (
            [{"in": "body", "name": "b", "schema": {}}, {"in": "body", "name": "c", "schema": {}}],
            "one body parameter only",
        ),
        ([{"in": "query", "name": "b", "type": "int"}], "unknown type int"),
    ],
)
def test_faults_of_the_older_form(parameters: Any, words: str) -> None:
    old = {
        "swagger": "2.0",
        "info": {"title": "q", "version": "1"},
        "paths": {"/q": {"post": {"parameters": parameters, "responses": {"200": {"description": "x"}}}}},
    }
    assert [words in fault.what for fault in read_contract(json.dumps(old)).faults] == [True]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("swagger: '1.2'\npaths: {}", "unknown OpenAPI version 1.2"),
        ("openapi: 4.0.0\npaths: {}", "unknown OpenAPI version 4.0.0"),
        ("openapi: 3\npaths: {}", "unknown OpenAPI version 3"),
        ("services: {a: 1}", "no service definition: a mapping with the keys services"),
        ("- a", "no service definition: a list"),
        ("just text", "no service definition"),
    ],
)
def test_what_cannot_be_used_at_all(text: str, words: str) -> None:
    with pytest.raises(DocumentError) as caught:
        read_contract(text)
    assert words in str(caught.value)


def test_definitions_over_several_files(tmp_path: Path, jux: Callable[..., Result]) -> None:
    folder = tmp_path / "api"
    (folder / "parts").mkdir(parents=True)
    (folder / "main.yaml").write_text(
        definition(
            {
                "/quays": {"$ref": "parts/paths.yaml#/quays"},
                "/b": {
                    "get": {"operationId": "b", "responses": answers({"$ref": "parts/schemas.json#/Berth"})}
                },
            }
        ),
        "utf-8",
    )
    (folder / "parts" / "paths.yaml").write_text(
        yaml.safe_dump(
            {
                "quays": {
                    "get": {
                        "operationId": "quays",
                        "responses": answers({"type": "array", "items": {"$ref": "schemas.json#/Berth"}}),
                    }
                }
            }
        ),
        "utf-8",
    )
    (folder / "parts" / "schemas.json").write_text(
        '{"Berth": {"type": "object", "properties": {"next": {"$ref": "#/Berth"}, "depth": {"$ref":'
        ' "../depth.yaml"}}}}',
        "utf-8",
    )
    (folder / "depth.yaml").write_text("type: number\nminimum: 2\n", "utf-8")
    jux("init", "w")
    result = jux("import", folder, "--name", "quays", "--json", "-C", "w").json
    assert result == {
        "contract": "quays",
        "format": "openapi",
        "version": "3.0.3",
        "operations": 2,
        "problems": [],
    }
    assert sorted(
        path.relative_to(tmp_path / "w/definitions/quays").as_posix()
        for path in (tmp_path / "w/definitions/quays").rglob("*")
        if path.is_file()
    ) == [
        "depth.yaml",
        "main.yaml",
        "origin.json",
        "parts/paths.yaml",
        "parts/schemas.json",
    ]
    assert jux("show", "quays", "-C", "w").out.startswith(
        "Quay"
    )  # a contract goes before an operation of its name
    rows = {
        row["path"]: row
        for row in jux("show", "b", "--json", "-C", "w").json["answers"][0]["media"][0]["properties"]
    }
    assert rows["/depth"]["allowed"] == "at least 2" and "as Berth above" in rows["/next"]["type"]


def test_files_outside_the_folder_are_not_read(tmp_path: Path, jux: Callable[..., Result]) -> None:
    (tmp_path / "secret.yaml").write_text("type: string\n", "utf-8")
    (tmp_path / "api").mkdir()
    for name, target in (
        ("up", "../secret.yaml"),
        ("link", "linked.yaml"),
        ("net", "http://127.0.0.1:9/x.yaml"),
    ):
        (tmp_path / "api" / f"{name}.yaml").write_text(
            definition({"/q": {"get": {"responses": answers({"$ref": target})}}}), "utf-8"
        )
    (tmp_path / "api" / "linked.yaml").symlink_to(tmp_path / "secret.yaml")
    jux("init", "w")
    for name, words in (
        ("up", "outside the definition's folder"),
        ("link", "outside the definition's folder"),
        ("net", "not followed"),
    ):
        assert words in jux("import", tmp_path / "api" / f"{name}.yaml", "-C", "w", status=1).out
    kept = [path.name for path in (tmp_path / "w/definitions/up").rglob("*") if path.is_file()]
    assert sorted(kept) == ["origin.json", "up.yaml"]


def test_a_broken_definition_does_not_replace_a_sound_one(
    berths: Path, tmp_path: Path, jux: Callable[..., Result]
) -> None:
    (tmp_path / "berths.yaml").write_text("openapi: 3.0.3\npaths: {q: 1}", "utf-8")
    jux("import", tmp_path / "berths.yaml", "-C", berths, status=2)
    assert len(jux("show", "berths", "--json", "-C", berths).json["operations"]) == 20


_STYLED = [
    ("path", "simple", False),
    ("path", "simple", True),
    ("path", "label", False),
    ("path", "label", True),
    ("path", "matrix", False),
    ("path", "matrix", True),
    ("query", "form", True),
    ("query", "form", False),
    ("query", "spaceDelimited", False),
    ("query", "pipeDelimited", False),
    ("query", "deepObject", True),
    ("header", "simple", False),
    ("header", "simple", True),
    ("cookie", "form", False),
]
_WORDS = st.text("abz09 -_~&=?/#%+é", min_size=1, max_size=6)


@settings(max_examples=150, deadline=None)
@given(st.sampled_from(_STYLED), st.one_of(_WORDS, st.integers(-99, 99), st.booleans()))
def test_primitives_are_read_back(styled: tuple[str, str, bool], value: Any) -> None:
    place, style, explode = styled
    if style in ("deepObject",) or (place == "header" and isinstance(value, str) and value != value.strip()):
        return
    schema = {"type": {str: "string", int: "integer", bool: "boolean"}[type(value)]}
    assert _round_trip(place, style, explode, schema, value) == value


@settings(max_examples=200, deadline=None)
@given(st.sampled_from(_STYLED), st.lists(st.text("abz09é", min_size=1, max_size=4), min_size=1, max_size=4))
def test_lists_are_read_back(styled: tuple[str, str, bool], value: list[str]) -> None:
    place, style, explode = styled
    if style != "deepObject":
        assert (
            _round_trip(place, style, explode, {"type": "array", "items": {"type": "string"}}, value) == value
        )


@settings(max_examples=200, deadline=None)
@given(
    st.sampled_from(_STYLED),
    st.dictionaries(st.sampled_from(["role", "name", "x"]), st.integers(0, 99), min_size=1),
)
def test_objects_are_read_back(styled: tuple[str, str, bool], value: dict[str, int]) -> None:
    place, style, explode = styled
    if style in ("spaceDelimited", "pipeDelimited"):
        return
    schema = {"type": "object", "properties": {name: {"type": "integer"} for name in ("role", "name", "x")}}
    assert _round_trip(place, style, explode, schema, value) == value


def _round_trip(place: str, style: str, explode: bool, schema: Any, value: Any) -> Any:
    parameter = {
        "name": "p",
        "in": place,
        "required": True,
        "style": style,
        "explode": explode,
        "schema": schema,
    }
    path = "/q/{p}/end" if place == "path" else "/q"
    contract = read_contract(definition({path: {"get": {"parameters": [parameter], "responses": _OK}}}))
    operation = contract.operations[0]
    request = wire_of(contract).encode(operation, Inputs({f"{place}.p": value}), "http://quay.test/v1")
    assert wire_of(contract).match(request, "http://quay.test/v1") == (operation,)
    one = operation.inputs[0]
    texts = path_values(contract, operation, request.url, "http://quay.test/v1") or {}
    return input_value(one, ParameterReader(one, *kinds(contract, one.schema)), request, texts)


@pytest.mark.parametrize(
    ("place", "style", "explode", "value", "text"),
    [
        # The table "style examples" of OpenAPI 3.0.3 (parameter object), with the array and the object it
        # uses.
        ("path", "matrix", False, "blue", ";color=blue"),
        ("path", "matrix", False, ["blue", "black", "brown"], ";color=blue,black,brown"),
        ("path", "matrix", False, {"R": 100, "G": 200}, ";color=R,100,G,200"),
        ("path", "matrix", True, ["blue", "black", "brown"], ";color=blue;color=black;color=brown"),
        ("path", "matrix", True, {"R": 100, "G": 200}, ";R=100;G=200"),
        ("path", "label", False, "blue", ".blue"),
        ("path", "label", True, {"R": 100, "G": 200}, ".R=100.G=200"),
        ("query", "form", False, ["blue", "black"], "color=blue,black"),
        ("query", "form", False, {"R": 100, "G": 200}, "color=R,100,G,200"),
        ("query", "form", True, ["blue", "black"], "color=blue&color=black"),
        ("query", "form", True, {"R": 100, "G": 200}, "R=100&G=200"),
        ("path", "simple", False, ["blue", "black"], "blue,black"),
        ("path", "simple", False, {"R": 100, "G": 200}, "R,100,G,200"),
        ("path", "simple", True, {"R": 100, "G": 200}, "R=100,G=200"),
        ("query", "spaceDelimited", False, ["blue", "black"], "color=blue%20black"),
        ("query", "pipeDelimited", False, ["blue", "black"], "color=blue%7Cblack"),
        ("query", "deepObject", True, {"R": 100, "G": 200}, "color%5BR%5D=100&color%5BG%5D=200"),
    ],
)
def test_the_standards_table_of_styles(place: str, style: str, explode: bool, value: Any, text: str) -> None:
    assert write(Input("color", place, True, None, Location("x"), style, explode), value) == text


def test_server_side_parsers_read_what_was_put_in() -> None:
    """The query and form of every composed request, read by Python's own parsers and
    judged by `jsonschema`.
    """
    contract = read_contract(BERTHS, "berths")
    spec = yaml.safe_load(BERTHS)
    store = {"components": spec["components"]}
    checked = 0
    for operation in contract.operations:
        for full in (False, True):
            inputs = sample_inputs(contract, operation, full=full)
            request = wire_of(contract).encode(operation, inputs, "http://quay.test/v1")
            parts = urlsplit(request.url)
            query = parse_qs(parts.query, keep_blank_values=True)
            for address, value in inputs.values.items():
                place, _, name = address.partition(".")
                if place == "query":
                    wanted = (
                        [",".join(value)]
                        if isinstance(value, list)
                        else [str(value).lower() if isinstance(value, bool) else str(value)]
                    )
                    assert query[name] == wanted
                elif place == "path":
                    assert str(value) in unquote(parts.path).split("/")
            checked += _judge_body(spec, store, operation, request)
    assert checked >= 14


def _judge_body(spec: Any, store: Any, operation: Any, request: Request) -> int:
    if request.body is None:
        return 0
    item = spec["paths"][operation.path][operation.method.lower()]
    ((media_type, media),) = item["requestBody"]["content"].items()
    schema = {**media["schema"], **store}
    value: Any = request.body.decode()
    if media_type == "application/json":
        value = yaml.safe_load(value)
    elif media_type.endswith("urlencoded"):
        value = {key: int(text) if text.isdigit() else text for key, text in parse_qsl(value)}
    # `nullable` is no keyword of JSON Schema; no sample here is null.
    jsonschema.Draft4Validator(schema, format_checker=jsonschema.FormatChecker()).validate(_no_times(value))
    return 1


def _no_times(value: Any) -> Any:
    """PyYAML reads timestamps as objects; the validator wants their texts."""
    if isinstance(value, dict):
        return {key: _no_times(item) for key, item in value.items()}
    if isinstance(value, list):
        return [_no_times(item) for item in value]
    return value.isoformat().replace("+00:00", "Z") if hasattr(value, "isoformat") else value


HARD: list[Any] = [
    {"type": "object", "required": ["a"], "properties": {"a": {"$ref": "#/components/schemas/Tree"}}},
    {
        "allOf": [
            {"$ref": "#/components/schemas/Base"},
            {
                "type": "object",
                "required": ["z"],
                "properties": {"z": {"type": "integer", "multipleOf": 5, "minimum": 7}},
            },
        ]
    },
    {
        "oneOf": [
            {"$ref": "#/components/schemas/Base"},
            {
                "type": "array",
                "minItems": 2,
                "uniqueItems": True,
                "items": {"type": "string", "enum": ["x", "y", "z"]},
            },
        ]
    },
    {
        "type": "object",
        "minProperties": 2,
        "additionalProperties": {"type": "string", "pattern": "^[A-Z]{3}-\\d+$"},
    },
    {
        "type": "object",
        "properties": {
            "when": {"type": "string", "format": "date-time"},
            "mail": {"type": "string", "format": "email"},
            "code": {"type": "string", "pattern": "^[a-f0-9]{8}(-x)?$"},
        },
    },
    {"type": "string", "minLength": 30, "maxLength": 31},
    {"type": "number", "exclusiveMinimum": True, "minimum": 0, "maximum": 0.5},
    {"anyOf": [{"type": "integer", "minimum": 3, "maximum": 2}, {"type": "boolean"}]},
    {
        "type": "array",
        "minItems": 3,
        "items": {
            "type": "object",
            "required": ["k"],
            "properties": {"k": {"type": "integer", "enum": [4, 8]}},
        },
    },
    {"not": {"type": "object"}, "type": "string"},
]
_PARTS = {
    "schemas": {
        "Tree": {
            "type": "object",
            "required": ["name"],
            "properties": {
                "name": {"type": "string"},
                "children": {"type": "array", "items": {"$ref": "#/components/schemas/Tree"}},
            },
        },
        "Base": {
            "type": "object",
            "required": ["kind"],
            "properties": {"kind": {"type": "string", "enum": ["b"]}, "size": {"type": "integer"}},
        },
    }
}


@pytest.mark.parametrize("index", range(len(HARD)))
@pytest.mark.parametrize("full", [False, True])
def test_skeleton_bodies_of_hard_definitions(index: int, full: bool) -> None:
    text = definition(
        {
            "/q": {
                "post": {
                    "requestBody": {
                        "required": True,
                        "content": {"application/json": {"schema": HARD[index]}},
                    },
                    "responses": _OK,
                }
            }
        },
        **_PARTS,
    )
    contract = read_contract(text)
    for seed in range(3):
        body = sample_inputs(contract, contract.operations[0], full=full, seed=seed).body
        schema = {**HARD[index], "components": _PARTS}
        assert jsonschema.Draft4Validator(schema, format_checker=jsonschema.FormatChecker()).is_valid(body), (
            body
        )


def test_setting_inputs_by_address() -> None:
    contract = read_contract(BERTHS, "berths")
    announce = contract.operation("announcePortCall")
    settings_ = [
        "X-Agent=Skerry",
        "body/vesselId=V-7",
        "body/cargo/0/goods=ore",
        "body/cargo/0/tonnes=12",
        "body/draughtMetres=5.5",
    ]
    changed = filled(contract, announce, settings_given(wire_of(contract), announce, settings_))
    assert changed.values == {"header.X-Agent": "Skerry"}
    assert changed.body["cargo"] == [{"goods": "ore", "tonnes": 12}]
    assert (changed.body["vesselId"], changed.body["draughtMetres"]) == ("V-7", 5.5)
    vessels = contract.operation("listVessels")
    assert settings_given(wire_of(contract), vessels, ["kind=bulk,tanker", "limit=3"]) == {
        "query.kind": ["bulk", "tanker"],
        "query.limit": 3,
    }
    for bad, words in (("limt=3", "did you mean"), ("body/x=1", "takes no body"), ("limit", "no '='")):
        with pytest.raises(UsageError) as caught:
            settings_given(wire_of(contract), vessels, [bad])
        assert words in str(caught.value)
    with pytest.raises(UsageError, match="no place"):
        filled(contract, announce, {"body/cargo/0/goods": "ore", "body/cargo/24/goods": "ore"})
    assert resolve_address(vessels, "limit") == "query.limit"


def test_matching_prefers_what_is_concrete() -> None:
    paths = {
        path: {
            "get": {
                "operationId": name,
                "parameters": [
                    {"name": one, "in": "path", "required": True, "schema": {"type": "string"}}
                    for one in names
                ],
                "responses": _OK,
            }
        }
        for path, name, names in (
            ("/b/{id}", "one", ["id"]),
            ("/b/free", "free", []),
            ("/{kind}/free", "kind", ["kind"]),
            ("/b/{id}.{ending}", "file", ["id", "ending"]),
        )
    }
    contract = read_contract(definition(paths))

    def matched(path: str, base: str = "http://h/v1") -> list[str]:
        return [
            operation.id for operation in wire_of(contract).match(Request("GET", f"http://h/v1{path}"), base)
        ]

    assert matched("/b/free")[0] == "free"
    assert matched("/b/7") == ["one"]
    assert matched("/x/free") == ["kind"]
    assert "file" in matched("/b/plan.csv")
    assert matched("/b/7", "http://other/v1") == [] and matched("/b/7/8") == []
