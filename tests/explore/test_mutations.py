"""Mutations: each is rejected by an independent validator, and for the rule it names."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import jsonschema
import pytest
from hypothesis import given, settings
from test_schema_engine import _schemas

from conftest import BERTHS, read_contract
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.location import join_pointer
from juxtalogos.schema.json import compile_schema
from juxtalogos.schema.json.make.mutate import Mutation

CALL: Any = {
    "type": "object",
    "required": ["vessel", "kind"],
    "additionalProperties": False,
    "minProperties": 2,
    "properties": {
        "vessel": {"type": "string", "minLength": 3, "maxLength": 9, "pattern": "^[A-Z]"},
        "kind": {"enum": ["bulk", "tanker"]},
        "length": {"type": "number", "exclusiveMinimum": 5, "maximum": 400, "multipleOf": 0.5},
        "when": {"type": "string", "format": "date"},
        "lines": {
            "type": "array",
            "items": {"type": "integer", "minimum": 1},
            "minItems": 1,
            "maxItems": 3,
            "uniqueItems": True,
        },
        "berth": {
            "oneOf": [
                {"type": "string"},
                {"type": "object", "required": ["id"], "properties": {"id": {"const": 4}}},
            ]
        },
        "note": {"type": ["string", "null"], "not": {"const": "none"}},
    },
    "dependentRequired": {"when": ["length"]},
}

EXPECTED = {
    ("/vessel", "type", "null"),
    ("/vessel", "type", "wrong type"),
    ("/vessel", "minLength", "one character too few"),
    ("/vessel", "maxLength", "one character too many"),
    ("/vessel", "pattern", "does not match the pattern"),
    ("/vessel", "required", "without vessel"),
    ("/kind", "enum", "not among the values"),
    ("/kind", "required", "without kind"),
    ("/length", "exclusiveMinimum", "just past the limit"),
    ("/length", "maximum", "just past the limit"),
    ("/length", "multipleOf", "no multiple"),
    ("/when", "format", "not of the format"),
    ("/lines", "minItems", "one item too few"),
    ("/lines", "maxItems", "one item too many"),
    ("/lines/0", "minimum", "just past the limit"),
    ("/berth", "oneOf", "none of the alternatives"),
    ("/note", "not", "what is forbidden"),
    ("/not-declared", "additionalProperties", "a property that is closed out"),
    ("", "minProperties", "one property too few"),
    ("/length", "dependentRequired", "when without length"),
    ("", "type", "wrong type"),
}


def test_one_mutation_per_rule_and_place() -> None:
    schema = compile_schema(CALL)
    value = schema.sample(full=True)
    found = list(schema.mutate(value))
    told = {(one.path, one.keyword, one.what) for one in found}
    assert told >= EXPECTED, EXPECTED - told
    assert any(one.keyword == "uniqueItems" for one in found)
    assert ("/note", "type", "null") not in told
    assert schema.accepts(value), "the value itself is left alone"
    # A rule that unavoidably breaks too is listed beside the one that is named.
    (dropped,) = [one for one in found if one.what == "one property too few"]
    assert {one.keyword for one in dropped.also} >= {"required"}


def _errors(errors: Iterator[Any], prefix: tuple[Any, ...] = ()) -> Iterator[tuple[tuple[Any, ...], str]]:
    """(keywords on the way to it, pointer) of every error, with those inside branches."""
    for error in errors:
        path = (*prefix, *error.relative_path)
        yield tuple(error.absolute_schema_path), join_pointer(path)
        yield from _errors(iter(error.context or ()), path)


def _is_named(schema: Any, mutation: Mutation) -> bool:
    """Whether the validator reports the named keyword at the place, or (for members) right above it."""
    above = mutation.path.rpartition("/")[0]
    validator = jsonschema.Draft202012Validator(schema, format_checker=jsonschema.FormatChecker())
    errors = list(_errors(validator.iter_errors(mutation.value)))
    return any(path in (mutation.path, above) and mutation.keyword in keywords for keywords, path in errors)


@settings(max_examples=150, deadline=None)
@given(_schemas())
def test_mutations_are_rejected_for_the_rule_they_name(schema: Any) -> None:
    compiled = compile_schema(schema)
    try:
        value = compiled.sample(full=True)
    except Unsampleable:
        return
    for number, mutation in enumerate(compiled.mutate(value)):
        assert not jsonschema.Draft202012Validator(schema).is_valid(mutation.value), mutation
        assert _is_named(schema, mutation), (schema, mutation)
        if number > 20:
            break


@pytest.mark.parametrize("name", ["announcePortCall", "registerVessel", "postNotice", "allotBerth"])
def test_mutations_of_the_harbours_requests(name: str) -> None:
    contract = read_contract(BERTHS, "berths")
    operation = contract.operation(name)
    schema = contract.schema(operation.body.media[0].schema)
    value = schema.sample(full=True)
    found = list(schema.mutate(value))
    assert len(found) >= 6
    for mutation in found:
        assert not schema.accepts(mutation.value)
        assert mutation.location.document == "quay.yaml"


def test_boundaries_are_valid_and_reach_their_limits() -> None:
    schema = compile_schema(CALL)
    found = {
        (one.path, one.keyword, one.what): one.value for one in schema.boundaries(schema.sample(full=True))
    }
    assert len(found[("/vessel", "minLength", "at the limit")]["vessel"]) == 3
    assert len(found[("/vessel", "maxLength", "at the limit")]["vessel"]) == 9
    assert found[("/length", "exclusiveMinimum", "next to the limit")]["length"] == 5.5
    assert found[("/length", "maximum", "at the limit")]["length"] == 400
    assert len(set(found[("/lines", "maxItems", "at the limit")]["lines"])) == 3
    assert found[("/kind", "enum", "member 1")]["kind"] == "tanker"
    assert found[("/note", "type", "null")]["note"] is None


@settings(max_examples=100, deadline=None)
@given(_schemas())
def test_boundaries_are_accepted_by_an_independent_validator(schema: Any) -> None:
    compiled = compile_schema(schema)
    try:
        value = compiled.sample(full=True)
    except Unsampleable:
        return
    for number, boundary in enumerate(compiled.boundaries(value)):
        assert jsonschema.Draft202012Validator(schema).is_valid(boundary.value), boundary
        if number > 20:
            break
