"""The JSON schema engine: differential checks against `jsonschema`, words, directions, hostile values."""

from __future__ import annotations

import contextlib
import itertools
import json
import time
from importlib import resources
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import ROOT, answers, definition, read_contract
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.schema import Direction, SchemaRef
from juxtalogos.schema.json import BadReference, TooDeep, compile_schema
from juxtalogos.schema.json.tell.profile import declared_kinds

_KEYS = st.sampled_from(["berth", "quay", "depth", "x", ""])
_SCALARS = (
    st.none()
    | st.booleans()
    | st.integers(-5, 30)
    | st.floats(-5, 30, allow_nan=False).map(lambda x: round(x, 2))
    | st.text(max_size=4)
)
_VALUES = st.recursive(
    _SCALARS,
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(_KEYS, inner, max_size=4),
    max_leaves=8,
)


def _schemas() -> st.SearchStrategy[Any]:
    small = st.integers(0, 4)
    leaf = st.fixed_dictionaries(
        {},
        optional={
            "type": (
                st.sampled_from(["null", "boolean", "object", "array", "number", "integer", "string"])
                | st.lists(
                    st.sampled_from(["null", "integer", "string", "object"]),
                    min_size=1,
                    max_size=3,
                    unique=True,
                )
            ),
            "enum": st.lists(_SCALARS, min_size=1, max_size=3),
            "const": _SCALARS,
            "minimum": st.integers(-3, 9),
            "maximum": st.integers(0, 20),
            "exclusiveMinimum": st.integers(-3, 9),
            "multipleOf": st.sampled_from([1, 2, 0.5, 0.25]),
            "minLength": small,
            "maxLength": small,
            "pattern": st.sampled_from(["^a", "b$", "^[0-9]*$", "."]),
            "minItems": small,
            "maxItems": small,
            "uniqueItems": st.booleans(),
            "required": st.lists(_KEYS, max_size=2, unique=True),
            "minProperties": small,
            "maxProperties": small,
            "dependentRequired": st.dictionaries(_KEYS, st.lists(_KEYS, max_size=2, unique=True), max_size=2),
        },
    )

    def grow(inner: st.SearchStrategy[Any]) -> st.SearchStrategy[Any]:
        return st.fixed_dictionaries(
            {},
            optional={
                "type": st.sampled_from(["object", "array", "string"]),
                "properties": st.dictionaries(_KEYS, inner, max_size=3),
                "patternProperties": st.dictionaries(st.sampled_from(["^b", "y$"]), inner, max_size=1),
                "additionalProperties": inner,
                "propertyNames": inner,
                "items": inner,
                "prefixItems": st.lists(inner, min_size=1, max_size=2),
                "contains": inner,
                "minContains": st.integers(0, 2),
                "allOf": st.lists(inner, min_size=1, max_size=2),
                "anyOf": st.lists(inner, min_size=1, max_size=2),
                "oneOf": st.lists(inner, min_size=1, max_size=2),
                "not": inner,
                "if": inner,
                "then": inner,
                "else": inner,
                "unevaluatedProperties": inner,
                "unevaluatedItems": inner,
                "required": st.lists(_KEYS, max_size=2, unique=True),
                "dependentSchemas": st.dictionaries(_KEYS, inner, max_size=1),
            },
        )

    return st.recursive(leaf | st.booleans(), grow, max_leaves=6)


@settings(max_examples=400, deadline=None)
@given(_schemas(), _VALUES)
def test_verdicts_agree_with_an_independent_validator(schema: Any, value: Any) -> None:
    expected = jsonschema.Draft202012Validator(schema).is_valid(value)
    found = compile_schema(schema)
    deviations = found.check(value)
    assert found.accepts(value) is expected
    assert bool(deviations) is not expected


@settings(max_examples=250, deadline=None)
@given(_schemas(), st.booleans(), st.integers(0, 3))
def test_samples_are_valid(schema: Any, full: bool, seed: int) -> None:
    try:
        sample = compile_schema(schema).sample(full=full, seed=seed)
    except Unsampleable as error:
        assert "no valid sample" in error.what
        return
    assert jsonschema.Draft202012Validator(schema).is_valid(sample)


_CALL = {
    "type": "object",
    "required": ["vessel", "length"],
    "additionalProperties": False,
    "properties": {
        "vessel": {"type": "string", "minLength": 2},
        "length": {"type": "number", "maximum": 400},
        "kind": {"enum": ["bulk", "tanker"]},
        "lines": {"type": "array", "items": {"type": "integer"}, "maxItems": 2},
        "when": {"type": "string", "format": "date"},
    },
}


@pytest.mark.parametrize(
    ("value", "expected"),
    [
        ({"vessel": "Tern", "length": 80}, []),
        ({"length": 80}, [("body.required", "/vessel", "property vessel is required", "missing")]),
        (
            {"vessel": "T", "length": 80},
            [("body.length", "/vessel", "2 or more characters", '1 characters: "T"')],
        ),
        ({"vessel": "Tern", "length": "80"}, [("body.type", "/length", "number", 'string "80"')]),
        ({"vessel": "Tern", "length": 401}, [("body.range", "/length", "at most 400", "integer 401")]),
        (
            {"vessel": "Tern", "length": 8, "kind": "ferry"},
            [("body.enum", "/kind", 'one of "bulk", "tanker"', 'string "ferry"')],
        ),
        (
            {"vessel": "Tern", "length": 8, "flag": 1},
            [("body.extra", "/flag", "only vessel, length, kind, lines, when", "property flag = 1")],
        ),
        (
            {"vessel": "Tern", "length": 8, "lines": [1, "x", 2]},
            [
                ("body.count", "/lines", "at most 2 items", "3 items"),
                ("body.type", "/lines/1", "integer", 'string "x"'),
            ],
        ),
        (
            {"vessel": "Tern", "length": 8, "when": "14.3.2026"},
            [("body.format", "/when", "date format", 'string "14.3.2026"')],
        ),
        ([], [("body.type", "", "object", "an array of 0 items")]),
    ],
)
def test_every_deviation_with_place_and_words(value: Any, expected: list[tuple[str, ...]]) -> None:
    found = compile_schema(_CALL).check(value)
    assert sorted((one.kind, one.path, one.declared, one.observed) for one in found) == sorted(expected)
    for one in found:
        assert one.location.pointer.startswith(("/properties", "/required", "/additionalProperties", "/type"))


def test_the_nearest_branch_is_told() -> None:
    schema = {
        "oneOf": [
            {
                "type": "object",
                "required": ["pilot"],
                "properties": {"mode": {"const": "piloted"}, "pilot": {"type": "string"}},
            },
            {"type": "object", "required": ["mode"], "properties": {"mode": {"const": "free"}}},
        ]
    }
    (found,) = compile_schema(schema).check({"mode": "piloted", "pilot": 3})
    assert found.kind == "body.branch"
    assert "/pilot" in found.observed and "string, and it is integer 3" in found.observed
    assert found.because[0].path == "/pilot"
    (several,) = compile_schema({"oneOf": [{"type": "integer"}, {"minimum": 3}]}).check(5)
    assert several.observed.startswith("fits several")


def _ref(text_schema: Any, direction: Direction, **components: Any) -> Any:
    text = definition({"/q": {"get": {"responses": answers(text_schema)}}}, **components)
    contract = read_contract(text)
    media = contract.operations[0].answers[0].media[0]
    return contract.schema(SchemaRef("openapi-3.0", media.schema.document, media.schema.pointer, direction))


def test_openapi_3_0_rules() -> None:
    schema = {
        "type": "object",
        "required": ["id", "key"],
        "properties": {
            "id": {"type": "integer", "readOnly": True},
            "key": {"$ref": "#/components/schemas/Key"},
            "kind": {"type": "string", "nullable": True, "enum": ["a", "b"]},
            "depth": {"type": "number", "minimum": 2, "exclusiveMinimum": True},
            "note": {"nullable": True, "type": "string"},
        },
    }
    key = {"schemas": {"Key": {"type": "string", "writeOnly": True, "format": "password"}}}
    request, response = _ref(schema, Direction.REQUEST, **key), _ref(schema, Direction.RESPONSE, **key)
    assert request.accepts({"key": "k"}) and not request.accepts({"id": 1})
    assert response.accepts({"id": 1}) and not response.accepts({"key": "k"})
    assert response.accepts({"id": 1.0, "note": None}) and not response.accepts({"id": True})
    assert not response.accepts({"id": 1, "depth": 2}) and response.accepts({"id": 1, "depth": 2.1})
    # Doubtful, not forbidden: remarked and accepted.
    for value, keyword in (({"id": 1, "kind": None}, "enum"), ({"id": 1, "key": "k"}, "writeOnly")):
        (remark,) = response.check(value)
        assert remark.advisory and remark.keyword == keyword and response.accepts(value)
    # What stands beside $ref is ignored in 3.0.
    assert _ref({"$ref": "#/components/schemas/Key", "maxLength": 1}, Direction.REQUEST, **key).accepts(
        "longer"
    )


def test_readonly_in_a_sibling_of_allof_is_found() -> None:
    schema = {
        "allOf": [
            {"type": "object", "properties": {"key": {"type": "string", "writeOnly": True}}},
            {"required": ["key"]},
        ]
    }
    assert _ref(schema, Direction.RESPONSE).accepts({})
    assert not _ref(schema, Direction.REQUEST).accepts({})


@pytest.mark.parametrize(
    ("schema", "value", "valid"),
    [
        ({"multipleOf": 0.01}, 0.07, True),
        ({"multipleOf": 0.1}, 0.3, True),
        ({"multipleOf": 1e-8}, 12391239123, True),
        ({"multipleOf": 3}, 10**400, False),
        ({"uniqueItems": True}, [1, True, 1.5, "1"], True),
        ({"uniqueItems": True}, [{"a": 1, "b": 2}, {"b": 2.0, "a": 1.0}], False),
        ({"enum": [1]}, 1.0, True),
        ({"enum": [True]}, 1, False),
        ({"maxLength": 2}, "🚢🚢", True),
        ({"const": {"a": [1]}}, {"a": [1.0]}, True),
        ({"type": "integer"}, 1e300, True),
        ({"type": "integer"}, float("inf"), False),
        ({"type": "integer"}, float("nan"), False),
        ({"pattern": "^\ud800$"}, "\ud800", True),
        ({"pattern": "^(a+)+$"}, "a" * 4000 + "!", False),
        ({"format": "date"}, "2026-02-29", False),
    ],
)
def test_exact_values(schema: Any, value: Any, valid: bool) -> None:
    assert compile_schema(schema).accepts(value) is valid


def test_a_pattern_that_takes_too_long_decides_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("juxtalogos.schema.patterns.engine.TIME_LIMIT", 1e-9)
    text = "ab" * 100_000 + "!"
    (found,) = compile_schema({"pattern": r"^(?=a)(\w\w)*\1$"}).check(text)
    assert found.undecided and found.advisory and "too long" in found.observed
    named = compile_schema({"patternProperties": {r"^(?=a)(\w\w)*\1$": False}}).check({text: 1})
    assert named[0].undecided


def test_nothing_hangs_or_overflows() -> None:
    started = time.perf_counter()
    deep: Any = []
    for _ in range(100_000):
        deep = [deep]
    recursive = compile_schema({"type": "array", "items": {"$ref": "#"}})
    with pytest.raises(ValueError, match="too deep"):
        recursive.check(deep)
    while deep:  # taken apart by hand: Python's own deallocation of such depth is slow
        deep = deep[0]
    for schema in ({"$ref": "#"}, {"allOf": [{"$ref": "#"}]}):
        with pytest.raises((Unsampleable, ValueError)):
            compile_schema(schema).sample()
    with pytest.raises(BadReference):
        compile_schema({"$ref": "#/nowhere"}).check(1)
    assert time.perf_counter() - started < 20


@pytest.mark.parametrize(
    "schema",
    [
        {"minItems": 3, "uniqueItems": True, "items": {"enum": [1, 2, 3]}},
        {"type": "string", "minLength": 12, "maxLength": 14},
        {"type": "string", "pattern": "^[A-Z]{2}-\\d{3,}$", "minLength": 9},
        {"type": "number", "exclusiveMinimum": 1.5, "maximum": 1.6},
        {"type": "integer", "multipleOf": 7, "minimum": 100, "maximum": 106},
        {
            "allOf": [
                {"properties": {"a": {"type": "integer"}}},
                {"required": ["a"], "properties": {"a": {"minimum": 5}}},
            ]
        },
        {"type": "object", "minProperties": 3, "properties": {"a": {"type": "null"}}},
        {
            "type": "object",
            "properties": {"child": {"$ref": "#"}, "name": {"type": "string"}},
            "required": ["name"],
        },
        {"type": "array", "contains": {"const": "berth"}, "items": {"type": "string"}, "minItems": 2},
        {"not": {"type": "string"}},
        {
            "if": {"properties": {"k": {"const": 1}}, "required": ["k"]},
            "then": {"required": ["v"]},
            "required": ["k"],
            "properties": {"k": {"const": 1}},
        },
        {"type": "string", "format": "uuid"},
        {"type": "object", "propertyNames": {"pattern": "^x-"}, "minProperties": 1},
        {"anyOf": [{"type": "string", "minLength": 5, "maxLength": 2}, {"type": "integer"}]},
    ],
)
@pytest.mark.parametrize("full", [False, True])
def test_samples_of_hard_schemas(schema: Any, full: bool) -> None:
    for seed in range(3):
        sample = compile_schema(schema).sample(full=full, seed=seed)
        assert jsonschema.Draft202012Validator(schema, format_checker=jsonschema.FormatChecker()).is_valid(
            sample
        ), sample


def test_examples_come_first_and_wrong_ones_are_passed_over() -> None:
    schema = {
        "type": "object",
        "required": ["a", "b"],
        "properties": {
            "a": {"type": "integer", "examples": [42]},
            "b": {"type": "string", "examples": [3], "default": "berth"},
        },
    }
    assert compile_schema(schema).sample() == {"a": 42, "b": "berth"}


def test_elements_and_hits() -> None:
    schema = {
        "type": "object",
        "properties": {
            "kind": {"enum": ["bulk", "tanker"]},
            "owner": {"$ref": "#/$defs/Owner"},
            "choice": {
                "oneOf": [
                    {"type": "object", "required": ["a"], "properties": {"a": {}}},
                    {"type": "object", "required": ["b"], "properties": {"b": {}}},
                ]
            },
        },
        "$defs": {
            "Owner": {
                "type": "object",
                "properties": {"name": {"type": "string"}, "parent": {"$ref": "#/$defs/Owner"}},
            }
        },
    }
    compiled = compile_schema(schema)
    declared = {element.id: element for element in compiled.elements()}
    assert len(declared) == 11
    hit = set(compiled.hits({"kind": "bulk", "owner": {"parent": {"name": "Skerry"}}, "choice": {"b": 1}}))
    assert hit <= set(declared)
    missed = sorted(json.loads(json.dumps(declared[one].label)) for one in set(declared) - hit)
    assert missed == ["a", "choice: alternative 1", 'kind = "tanker"']


def _both_ways(schema: Any, value: Any) -> None:
    """The compiled and the interpreted engine give identical deviations and hits."""
    compiled, interpreted = compile_schema(schema), compile_schema(schema)
    compiled.compile()
    interpreted.uses = 99
    assert compiled.check(value) == interpreted.check(value)
    assert set(compiled.hits(value)) == set(interpreted.hits(value))


@settings(max_examples=400, deadline=None)
@given(_schemas(), _VALUES)
def test_compiled_and_interpreted_are_identical(schema: Any, value: Any) -> None:
    _both_ways(schema, value)


_HOSTILE_NAMES = [
    "'",
    '"',
    "\\",
    "\n",
    "'); import os #",
    "{x}",
    "\u2028",
    "é",
    "",
    "__class__",
    "v0",
    "\ud800",
    "a\x00b",
    "%s",
]


def test_hostile_names_cannot_become_code() -> None:
    schema = {
        "type": "object",
        "required": _HOSTILE_NAMES,
        "properties": {name: {"enum": [name, *_HOSTILE_NAMES[:3]]} for name in _HOSTILE_NAMES},
        "dependentRequired": {name: [name] for name in _HOSTILE_NAMES},
        "additionalProperties": False,
    }
    value = {name: name for name in _HOSTILE_NAMES}
    _both_ways(schema, value)
    assert compile_schema(schema).accepts(value)
    for name in _HOSTILE_NAMES:
        _both_ways(schema, {**value, name: 5})
        _both_ways(schema, {key: item for key, item in value.items() if key != name})


_TOLD = {
    "type": "object",
    "required": ["shape"],
    "properties": {
        "shape": {
            "oneOf": [{"$ref": "#/$defs/quay"}, {"$ref": "#/$defs/mark"}],
            "discriminator": {"propertyName": "kind"},
        },
        "size": {"anyOf": [{"type": "integer", "minimum": 1}, {"type": "string", "enum": ["S", "L"]}]},
    },
    "$defs": {
        "quay": {
            "type": "object",
            "required": ["kind"],
            "properties": {"kind": {"const": "quay"}, "parts": {"type": "array", "items": {"$ref": "#"}}},
        },
        "mark": {
            "type": "object",
            "required": ["kind"],
            "properties": {"kind": {"enum": ["buoy", "light"]}, "name": {"type": "string", "minLength": 2}},
        },
    },
}


@pytest.mark.parametrize(
    "value",
    [
        {
            "shape": {
                "kind": "quay",
                "parts": [
                    {"shape": {"kind": "light", "name": "Mole"}, "size": 3},
                    {"shape": {"kind": "buoy"}},
                ],
            },
            "size": "L",
        },
        {
            "shape": {
                "kind": "quay",
                "parts": [
                    {"shape": {"kind": "light", "name": "M"}},
                    {"shape": {"kind": "buoy", "name": "No. 7"}},
                    3,
                ],
            }
        },
        {"shape": {"kind": "pier"}, "size": 0},
        {"shape": {"kind": 3}, "size": "M"},
        {"shape": [], "size": 2.0},
        {"shape": {"kind": "quay", "parts": [{"shape": {"kind": "quay", "parts": [{}]}}]}},
    ],
)
def test_branches_told_apart(value: Any) -> None:
    _both_ways(_TOLD, value)
    assert compile_schema(_TOLD).accepts(value) is jsonschema.Draft202012Validator(_TOLD).is_valid(value)


@settings(max_examples=150, deadline=None)
@given(st.data())
def test_broken_items_are_told_alike_wherever_their_list_stands(data: st.DataObject) -> None:
    """Compiled functions go on behind broken items; what those hit in part is what the interpreter says they
    hit.
    """
    items = data.draw(
        st.sampled_from(
            [
                _TOLD,
                {"$ref": "#/$defs/quay"},
                {"type": ["string", "integer"], "enum": ["S", 1]},
                {"type": "array", "items": _TOLD},
            ]
        )
    )
    lists = (
        {"type": "array", "prefixItems": [{"type": "string"}], "items": items}
        if data.draw(st.booleans())
        else {"type": "array", "items": items}
    )
    page = {
        "type": "object",
        "required": ["a"],
        "properties": {"a": lists, "b": {"type": "object", "properties": {"c": lists}}},
    }
    schema = {
        **data.draw(
            st.sampled_from(
                [lists, page, {"allOf": [page, {"type": "object", "patternProperties": {"^c": lists}}]}]
            )
        ),
        "$defs": _TOLD["$defs"],
        "$id": "urn:x",
    }
    one = st.sampled_from(
        [
            "S",
            1,
            None,
            {},
            {"shape": {"kind": "quay"}},
            {"shape": {"kind": "light", "name": "x"}},
            {"shape": {"kind": "buoy"}, "size": 0},
            {"shape": {"kind": "quay"}, "size": "L"},
            {"kind": "quay", "parts": [{}]},
            [{"shape": {"kind": "buoy"}, "size": 2}],
            [{}],
        ]
    )
    value = data.draw(st.lists(one, max_size=6))
    _both_ways(
        schema,
        data.draw(
            st.sampled_from(
                [
                    value,
                    {"a": value},
                    {"a": ["S"], "b": {"c": value}},
                    {"a": value, "b": {"c": value}},
                    {"a": [], "c": value},
                ]
            )
        ),
    )


def test_compiling_happens_at_the_third_use_and_only_then() -> None:
    schema = compile_schema({"type": "array", "items": {"type": "integer"}})
    for _ in range(2):
        schema.check([1])
        assert schema.function is None or schema.uses == 2
    schema.check([1])
    assert schema.function is not None
    looking_back = compile_schema({"unevaluatedProperties": False})
    assert not looking_back.compile() and not looking_back.accepts({"a": 1})


_KEYWORDS = st.sampled_from(
    [
        "type",
        "enum",
        "const",
        "multipleOf",
        "minimum",
        "maximum",
        "exclusiveMinimum",
        "minLength",
        "maxLength",
        "pattern",
        "format",
        "minItems",
        "maxItems",
        "uniqueItems",
        "contains",
        "minContains",
        "required",
        "properties",
        "patternProperties",
        "additionalProperties",
        "propertyNames",
        "dependentRequired",
        "dependentSchemas",
        "dependencies",
        "items",
        "prefixItems",
        "allOf",
        "anyOf",
        "oneOf",
        "not",
        "if",
        "then",
        "else",
        "$ref",
        "$dynamicRef",
        "$recursiveRef",
        "$id",
        "id",
        "$schema",
        "$anchor",
        "$defs",
        "definitions",
        "nullable",
        "discriminator",
        "readOnly",
        "writeOnly",
        "example",
        "default",
        "unevaluatedItems",
        "unevaluatedProperties",
        "$dynamicAnchor",
        "additionalItems",
    ]
)
_ODD = st.sampled_from(
    [
        float("nan"),
        float("inf"),
        1e400,
        -0.0,
        10**400,
        -(10**30),
        "\ud800",
        "a" * 300,
        "(",
        "^(a+)+$",
        "#",
        "#/",
        "#/$defs/x",
        "//",
        "%",
        "http://[",
        True,
        None,
        [],
        {},
    ]
)
_JUNK = st.recursive(
    _SCALARS | _ODD | _KEYWORDS,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(_KEYWORDS | _KEYS, inner, max_size=4),
    max_leaves=12,
)


@settings(max_examples=500, deadline=None)
@given(
    _JUNK, _JUNK, st.sampled_from(["draft4", "draft7", "2019-09", "2020-12", "openapi-3.0", "openapi-3.1"])
)
def test_no_schema_and_no_value_ends_in_a_fault_of_ours(schema: Any, value: Any, dialect: str) -> None:
    """What is no schema allows everything; references that lead nowhere and depth are told by errors of their
    own.
    """
    expected = (BadReference, TooDeep, Unsampleable)
    compiled = compile_schema(schema, dialect)
    with contextlib.suppress(*expected):
        for _ in range(4):
            compiled.check(value)
    for work in (
        compiled.elements,
        compiled.outline,
        lambda: compiled.hits(value),
        lambda: compiled.mutate(value),
        lambda: [compiled.sample(full=True)],
    ):
        with contextlib.suppress(*expected):
            list(itertools.islice(work(), 30))


def test_the_documented_example_runs(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    for name in ("pilotage.wsdl", "pilotage-types.xsd"):
        (tmp_path / name).write_bytes(resources.files("juxtalogos.demo").joinpath(name).read_bytes())
    monkeypatch.chdir(tmp_path)
    text = (ROOT / "docs" / "schema.md").read_text("utf-8")
    code = "\n".join(line[4:] for line in text.split("\n") if line.startswith("    ") or not line)
    exec(compile(code, "docs/schema.md", "exec"), {})
    out = capsys.readouterr().out
    assert 'text matching ^B[0-9]+$ string "Q4" #/properties/berth/pattern' in out
    assert "without berth /berth required" in out and "() [" in out
    told = (
        "/GetJob/jobId pattern matching PJ-[0-9]{4,6} P-0000"
        " pilotage-types.xsd#/schema/simpleType[@name='JobId']/restriction/pattern"
    )
    assert told in out and told in text


@pytest.mark.parametrize(
    ("name", "good", "bad"),
    [
        ("base64url", "cXVheQ", "a+b"),
        ("char", "x", "xy"),
        ("decimal", "-1.50", "1,5"),
        ("http-date", "Sat, 14 Mar 2026 06:30:00 GMT", "2026-03-14"),
        ("media-range", "text/*; q=1", "text"),
        ("sf-boolean", "?1", "true"),
        ("sf-string", '"a\\"b"', "a"),
        ("sf-token", "*a/b", "1a"),
        ("uint16", 65535, 65536),
        ("uint64", 2**64 - 1, -1),
        ("double-int", 2**53 - 1, 2**53),
        ("unixtime", 1, 1.5),
        ("int32", -(2**31), 2**31),
        ("int64", 2**63 - 1, 2**63),
        ("byte", "cXVheQ==", "cXVheQ="),
        ("float", 3.4e38, 3.5e38),
        ("int32", 1, float("inf")),
        ("idn-email", "ümlaut@käi.example", "x"),
        ("idn-hostname", "käi.example", "〮.example"),
    ],
)
def test_formats_of_the_openapi_registry(name: str, good: Any, bad: Any) -> None:
    schema = compile_schema({"format": name}, "openapi-3.1")
    assert schema.accepts(good) and not schema.accepts(bad)
    schema.compile()
    assert schema.accepts(good) and not schema.accepts(bad)
    assert schema.accepts(schema.sample())


@pytest.mark.parametrize("dialect", ["draft4", "draft6", "draft7", "2019-09", "2020-12"])
def test_what_stands_beside_ref(dialect: str) -> None:
    """It counts since 2019-09 (8.2.4.1), and not before (JSON Reference, 3)."""
    text = compile_schema(
        {"definitions": {"a": {"type": "string"}}, "$ref": "#/definitions/a", "maxLength": 1}, dialect=dialect
    )
    assert text.accepts("ab") is dialect.startswith("draft") and not text.accepts(1)


@pytest.mark.parametrize(
    ("pointer", "kinds"),
    [("/0", ("integer",)), ("/1", ("boolean",)), ("/2", ("string",)), ("/9", ("string",)), ("/x", ())],
)
def test_types_by_place_in_a_list(pointer: str, kinds: tuple[str, ...]) -> None:
    schema: Any = compile_schema(
        {"prefixItems": [{"type": "integer"}, {"type": "boolean"}], "items": {"type": "string"}}
    )
    assert declared_kinds(schema, pointer)[0] == kinds
