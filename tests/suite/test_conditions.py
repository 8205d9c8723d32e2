"""Conditions and runtime expressions of suites, by tables."""

from __future__ import annotations

import pytest

from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.model.schema import ABSENT
from juxtalogos.suite.language.conditions import BadCondition, holds, parse_condition
from juxtalogos.suite.language.expressions import Scope, fill

_SCOPE = Scope(
    {"berth": "B4", "n": 3},
    {"one": {"id": 7, "list": [{"name": "Tern"}]}},
    exchange=Exchange(
        Request("GET", "http://h/q"), Response(200, "OK", (("X-Count", "12"),), b""), Timings(0, 0, 0)
    ),
    request_values={"query.limit": 5},
    response_value={"items": [{"id": 1, "free": True, "none": None}], "name": "Grey Tern"},
)

CONDITIONS: list[tuple[str, bool]] = [
    ("$statusCode == 200", True),
    ("$statusCode >= 200 && $statusCode < 300", True),
    ("$statusCode == 201 || $method == 'GET'", True),
    ("!($statusCode == 200)", False),
    ("$response.body#/name == 'grey tern'", True),
    ("$response.body#/name != 'Grey'", True),
    ("$response.body#/items/0/id == 1", True),
    ("$response.body#/items/0/free == true", True),
    ("$response.body#/items/0/free == 1", False),
    ("$response.body#/items/0/none == null", True),
    ("$response.body#/nothing == null", False),
    ("$response.header.X-Count > 9", True),
    ("$response.header.x-count == 12", True),
    ("$steps.one.outputs.list[0].name == 'Tern'", True),
    ("$steps.one.outputs.list[4].name == 'Tern'", False),
    ("$inputs.n < 'x'", False),
    ("$inputs.n == 3.0", True),
    ("$request.query.limit == 5", True),
    ("$inputs.berth == 'it''s'", False),
    ("$url == 'http://h/q'", True),
    ("$response.body#/items/0/free", True),
]


@pytest.mark.parametrize(("text", "expected"), CONDITIONS)
def test_conditions(text: str, expected: bool) -> None:
    assert holds(parse_condition(text), _SCOPE) is expected


@pytest.mark.parametrize(
    "text",
    [
        "",
        "$statusCode ==",
        "(1 == 1",
        "1 == 1)",
        "$nothing == 1",
        "a == 1",
        "1 = 1",
        "'x",
        "!" * 500 + "true",
        "(" * 500,
    ],
)
def test_broken_conditions(text: str) -> None:
    with pytest.raises(BadCondition):
        parse_condition(text)


def test_expressions_in_values() -> None:
    missing: list[str] = []
    value = {
        "a": "$inputs.n",
        "b": "call {$inputs.berth} of {$steps.one.outputs.id}",
        "c": ["$steps.one.outputs.no"],
        "d": "$5 and {x}",
        "e": 1,
    }
    assert fill(value, _SCOPE, missing) == {
        "a": 3,
        "b": "call B4 of 7",
        "c": [ABSENT],
        "d": "$5 and {x}",
        "e": 1,
    }
    assert missing == ["$steps.one.outputs.no"]
