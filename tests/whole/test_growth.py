"""Nothing in checking, sampling or telling is exponential in an answer or a definition: steps of the engine
counted, n beside 2n.
"""

from __future__ import annotations

import itertools
import sys
from collections.abc import Callable
from typing import Any

import pytest

from juxtalogos.model.errors import Unsampleable
from juxtalogos.schema.json import compile_schema

Schemas = dict[str, Any]


def nested(depth: int, **more: Any) -> Any:
    value: Any = {"kind": "C", "n": 1, **more}
    for _ in range(depth):
        value = {"kind": "C", "n": 1, "child": value}
    return value


def ref(name: str) -> dict[str, str]:
    return {"$ref": f"#/$defs/{name}"}


def recursive(rules: Any, dialect: str = "2020-12") -> Callable[[int], tuple[Schemas, Any, str]]:
    """A schema that refers to itself, and a value as deep as asked for."""
    return lambda size: ({"$defs": {"P": rules}, **ref("P")}, nested(size), dialect)


def chained(rules: Callable[[int], Any], value: Any) -> Callable[[int], tuple[Schemas, Any, str]]:
    """A chain of schemas as long as asked for, each of which refers to the next several times."""
    return lambda size: (
        {
            "$defs": (
                {f"A{number}": rules(number + 1) for number in range(size)}
                | {f"A{size}": {"type": ["object", "string"]}}
            ),
            **ref("A0"),
        },
        value,
        "2020-12",
    )


CHILD = {"type": "object", "properties": {"child": ref("P"), "n": {"type": "integer"}}}
OTHER = {"type": "object", "properties": {"child": ref("P"), "m": {"type": "integer"}}}
CONSTRUCTS: dict[str, Callable[[int], tuple[Schemas, Any, str]]] = {
    "anyOf that overlaps": recursive({"anyOf": [CHILD, OTHER]}),
    "oneOf, one of which fails late": recursive(
        {"oneOf": [{**CHILD, "required": ["n"]}, {**CHILD, "required": ["m"]}]}
    ),
    "if and then": recursive({"if": CHILD, "then": OTHER}),
    "not": recursive({**CHILD, "not": {"required": ["odd"], "properties": {"child": ref("P")}}}),
    "allOf twice": recursive({"allOf": [CHILD, OTHER]}),
    "dependentSchemas": recursive({**CHILD, "dependentSchemas": {"child": OTHER, "n": OTHER}}),
    "unevaluatedProperties": recursive({"anyOf": [CHILD, OTHER], "unevaluatedProperties": True}),
    "items twice": lambda size: (
        {
            "$defs": {
                "P": {
                    "anyOf": [
                        {"type": "array", "items": ref("P")},
                        {"type": "array", "items": ref("P"), "maxItems": 9},
                        {"type": "integer"},
                    ]
                }
            },
            **ref("P"),
        },
        _lists(size),
        "2020-12",
    ),
    "discriminator of a parent": lambda size: (
        {
            "$defs": {
                "P": {
                    "type": "object",
                    "required": ["kind"],
                    "discriminator": {"propertyName": "kind", "mapping": {"C": "#/$defs/C"}},
                    "properties": {"kind": {"type": "string"}, "child": ref("P")},
                },
                "C": {"allOf": [ref("P"), {"type": "object", "properties": {"n": {"type": "integer"}}}]},
            },
            **ref("P"),
        },
        nested(size),
        "openapi-3.0",
    ),
    "allOf that doubles": chained(lambda number: {"allOf": [ref(f"A{number}"), ref(f"A{number}")]}, {}),
    "anyOf that doubles": chained(lambda number: {"anyOf": [ref(f"A{number}"), ref(f"A{number}")]}, {}),
    "allOf that doubles, of a text": chained(
        lambda number: {"allOf": [ref(f"A{number}"), ref(f"A{number}")]}, "tide"
    ),
}


def _lists(depth: int) -> Any:
    value: Any = [1]
    for _ in range(depth):
        value = [value]
    return value


USES: dict[str, Callable[[Any, Any], Any]] = {
    "first check": lambda schema, value: schema.check(value),
    "compiled check": lambda schema, value: (schema.compile(), schema.check(value)),
    "hits": lambda schema, value: schema.examine(value).hits,
    "compiled hits": lambda schema, value: (schema.compile(), schema.examine(value).hits),
    "of a broken value": lambda schema, value: schema.check(_broken(value)),
    "compiled, of a broken value": lambda schema, value: (schema.compile(), schema.check(_broken(value))),
    "outline": lambda schema, value: list(itertools.islice(schema.outline(depth=4), 500)),
    "elements": lambda schema, value: list(schema.elements()),
    "sample": lambda schema, value: _sample(schema),
    "mutations": lambda schema, value: list(itertools.islice(schema.mutate(value), 12)),
}


def _broken(value: Any) -> Any:
    if isinstance(value, dict) and "child" in value:
        return {**value, "child": _broken(value["child"])}
    if isinstance(value, list):
        return [_broken(one) for one in value]
    return {**value, "n": "no number", "m": "none either"} if isinstance(value, dict) else None


def _sample(schema: Any) -> None:
    try:
        schema.sample(full=True)
    except Unsampleable:
        return


def steps(
    build: Callable[[int], tuple[Schemas, Any, str]], size: int, use: Callable[[Any, Any], Any], most: int
) -> int:
    """Calls of functions; gives up beyond `most`."""
    definition, value, dialect = build(size)
    schema = compile_schema(definition, dialect)
    count = 0

    class Enough(Exception):
        pass

    def called(frame: Any, event: str, argument: Any) -> None:
        nonlocal count
        count += event == "call"
        if count > most:
            raise Enough

    sys.setprofile(called)
    try:
        use(schema, value)
    except Enough:
        pass
    finally:
        sys.setprofile(None)
    return count


@pytest.mark.parametrize("name", CONSTRUCTS)
@pytest.mark.parametrize("use", USES)
def test_twice_the_size_takes_no_more_than_some_times_the_steps(name: str, use: str) -> None:
    build = CONSTRUCTS[name]
    first = steps(build, 9, USES[use], 150_000)
    second = steps(build, 18, USES[use], 7 * first + 20_000)
    assert first < 150_000, "exponential already"
    assert second <= 6 * first + 10_000, (first, second)
