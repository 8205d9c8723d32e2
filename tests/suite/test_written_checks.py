"""Written checks on their own: each test against what it says in Python, on random values; and what can be
wrong with one.
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from types import SimpleNamespace
from typing import Any, cast

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.location import Location
from juxtalogos.model.schema import ABSENT
from juxtalogos.run.engine.step import CaseState, criterion_result
from juxtalogos.schema.json import compile_schema
from juxtalogos.suite.checks.form import BadCheck
from juxtalogos.suite.checks.written import TESTS, read_check, run_check
from juxtalogos.suite.language.expressions import Scope
from juxtalogos.suite.language.formulas import FormulaContext
from juxtalogos.suite.model import Criterion

MANY = settings(max_examples=120, deadline=None)
PLACE = Location("suite.yaml", "/x")
NUMBERS = st.integers(-4, 4) | st.sampled_from([0.5, 1.0, 2.5, -0.0, 2**53 + 1, 1e300])
TEXTS = st.sampled_from(["", "a", "ab", "b", "1", "2.5", "2026-03-14", "é"])
SCALARS = NUMBERS | TEXTS | st.booleans() | st.none()
VALUES = SCALARS | st.lists(SCALARS, max_size=4) | st.dictionaries(st.sampled_from("ab"), SCALARS, max_size=2)


def _checked(
    written: dict[str, Any],
    value: Any = ABSENT,
    *,
    text: bytes | None = None,
    kind: str = "application/json",
    headers: Any = (),
    inputs: Any = None,
) -> CheckResult:
    body = text if text is not None else json.dumps(value).encode() if value is not ABSENT else b""
    response = Response(200, "", (("Content-Type", kind), *headers), body)
    exchange = Exchange(Request("GET", "http://quay.test/docks"), response, Timings(0, 0.1, 0.2))
    scope = Scope(inputs or {}, exchange=exchange, response_value=value)
    check = read_check(written, PLACE, lambda schema, _: compile_schema(schema))
    return run_check(check, scope, FormulaContext())


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def _same(one: Any, other: Any) -> bool:
    """Equal as JSON has it: true is not 1, 1 is 1.0."""
    if _is_number(one) and _is_number(other):
        return bool(one == other)
    if isinstance(one, list) and isinstance(other, list):
        return len(one) == len(other) and all(map(_same, one, other))
    if isinstance(one, dict) and isinstance(other, dict):
        return one.keys() == other.keys() and all(_same(one[key], other[key]) for key in one)
    return type(one) is type(other) and bool(one == other)


CRITERIA = (
    # (type, condition, value of a JSON body or text of an XML one, whether it holds)
    ("regex", "^true$", True, True),
    ("regex", "True", True, False),
    ("regex", "^null$", None, True),
    ("regex", '"id":3', {"id": 3}, True),
    ("regex", "'id'", {"id": 3}, False),
    ("regex", "^3$", 3, True),
    ("regex", "^Tern$", "Tern", True),
    ("xpath", "string(//nope)", "<a/>", False),
    ("xpath", "string(//b)", "<a><b>x</b></a>", True),
    ("xpath", "//b/@c", '<a><b c=""/></a>', True),
    ("xpath", "count(//b)", "<a/>", False),
    ("xpath", "count(//b)", "<a><b/></a>", True),
    ("xpath", "//b", "<a><b/></a>", True),
    ("xpath", "//b", "<a/>", False),
    ("xpath", "//b = 'x'", "<a><b>x</b></a>", True),
    ("xpath", "//b = //c", "<a/>", False),
    ("xpath", "not(//b)", "<a/>", True),
    ("xpath", "number(//b)", "<a><b>deep</b></a>", False),
    ("xpath", "0, 1", "<a/>", False),
)


@pytest.mark.parametrize(("how", "condition", "value", "held"), CRITERIA)
def test_criteria_look_at_what_was_sent(how: str, condition: str, value: Any, held: bool) -> None:
    body = value.encode() if how == "xpath" else json.dumps(value).encode()
    exchange = Exchange(
        Request("GET", "http://quay.test/docks"), Response(200, "", (), body), Timings(0, 0.1, 0.2)
    )
    scope = Scope({}, exchange=exchange, response_value={} if how == "xpath" else value)
    state = cast(CaseState, SimpleNamespace(scope=scope, suite=SimpleNamespace(namespaces={})))
    found = criterion_result(Criterion(condition, PLACE, "$response.body", how), state)
    assert found.held is held, found


@MANY
@given(VALUES, VALUES, st.sampled_from(["at", "jsonpath"]))
def test_equality_is_that_of_json(value: Any, other: Any, how: str) -> None:
    where = {"at": "body"} if how == "at" else {"jsonpath": "$"}
    alike = _same(value, other)
    assert _checked({**where, "equals": other}, value).held is alike
    assert _checked({**where, "differs": other}, value).held is not alike
    assert _checked({**where, "among": [None, other, "zz"]}, value).held is (alike or _same(value, None))
    found = _checked({**where, "equals": other}, value)
    assert found.kind == "check.unmet" and found.at in ("body", "jsonpath $")


ORDERS: dict[str, Callable[[Any, Any], bool]] = {
    "above": lambda value, limit: value > limit,
    "below": lambda value, limit: value < limit,
    "atLeast": lambda value, limit: value >= limit,
    "atMost": lambda value, limit: value <= limit,
}


@MANY
@given(SCALARS, NUMBERS | TEXTS, NUMBERS | TEXTS, st.floats(0, 3))
def test_limits_are_of_numbers_or_of_texts(value: Any, low: Any, high: Any, by: float) -> None:
    def beside(limit: Any) -> Any:
        """The value as it is compared: with a number, a text counts as the number it writes."""
        return (
            {"1": 1, "2.5": 2.5}.get(value, value) if isinstance(value, str) and _is_number(limit) else value
        )

    def comparable(limit: Any) -> bool:
        one = beside(limit)
        return (_is_number(one) and _is_number(limit)) or (isinstance(one, str) and isinstance(limit, str))

    for name, holds in ORDERS.items():
        assert _checked({"at": "body", name: low}, value).held is (
            comparable(low) and holds(beside(low), low)
        ), name
    within = comparable(low) and comparable(high) and beside(low) >= low and beside(high) <= high
    assert _checked({"at": "body", "within": [low, high]}, value).held is within
    if _is_number(low):
        close = _is_number(beside(low)) and math.isclose(beside(low), low, rel_tol=1e-12, abs_tol=by)
        assert _checked({"at": "body", "near": low, "by": by}, value).held is close


@pytest.mark.parametrize(
    ("text", "number", "same"),
    [
        ("118", 118, True),
        (" 118.0 ", 118, True),
        ("+118", 118, True),
        ("1.18e2", 118, True),
        ("118.", 118, True),
        ("9007199254740993", 2**53 + 1, True),
        ("9007199254740992", 2**53 + 1, False),
        ("1_1_8", 118, False),
        ("١١٨", 118, False),
        ("infinity", math.inf, False),
        ("nan", math.nan, False),
        ("0x76", 118, False),
        ("", 0, False),
        ("118 m", 118, False),
        ("9" * 5_000, 118, False),
        ("true", 1, False),
    ],
)
def test_the_text_of_a_header_is_the_number_it_writes(text: str, number: float, same: bool) -> None:
    headers = [("X-Length", text)]
    for at in ("header.X-Length", "$response.header.X-Length"):
        assert _checked({"at": at, "equals": number}, headers=headers).held is same
        assert _checked({"at": at, "equals": text}, headers=headers).held is bool(text or at)
        assert _checked({"at": at, "near": number, "by": 0}, headers=headers).held is same
    # In JSON a text is none, whatever it writes; in XML all are texts.
    assert not _checked({"at": "body", "equals": number}, text).held
    assert not _checked({"at": "$response.body", "equals": number}, text).held
    assert not _checked({"at": "body", "every": {"equals": number}}, [text]).held
    assert _checked({"at": "body", "equals": number}, text, kind="application/xml").held is same
    xml = f"<dock><length>{text}</length></dock>".encode()
    assert _checked({"xpath": "//length/text()", "equals": number}, text=xml, kind="text/xml").held is (
        same and bool(text)
    )


@MANY
@given(st.lists(SCALARS, max_size=5) | SCALARS, st.integers(0, 5), st.integers(0, 5))
def test_lists_are_counted_and_gone_through(value: Any, least: int, most: int) -> None:
    is_list = isinstance(value, list)
    size = len(value) if is_list else -1
    assert _checked({"at": "body", "count": least}, value).held is (size == least)
    assert _checked({"at": "body", "count": {"atLeast": least, "atMost": most}}, value).held is (
        is_list and least <= size <= most
    )
    assert _checked({"at": "body", "count": {"atMost": most}}, value).held is (is_list and size <= most)
    fitting = [_is_number(one) and one > 0 for one in value] if is_list else []
    every = _checked({"at": "body", "every": {"type": "number"}}, value)
    assert every.held is (is_list and all(map(_is_number, value)))
    if is_list and not every.held:
        places = [str(index) for index, one in enumerate(value) if not _is_number(one)]
        assert every.observed == f"{size} items, not so: {', '.join(places)}"
    texts_too = (
        [good or (isinstance(one, str) and one in ("1", "2.5")) for good, one in zip(fitting, value)]
        if is_list
        else []
    )
    assert _checked({"at": "body", "any": {"above": 0}}, value).held is any(texts_too)
    items = [{"a": one} for one in value] if is_list else value
    assert _checked({"at": "body", "any": {"at": "/a", "exists": True}}, items).held is (size > 0)
    assert _checked({"at": "body", "any": {"at": "/b", "exists": False}}, items).held is (size > 0)


@MANY
@given(st.lists(NUMBERS, max_size=5) | st.lists(TEXTS, max_size=5) | st.lists(SCALARS, max_size=3) | SCALARS)
def test_order(value: Any) -> None:
    kinds = (
        {bool if isinstance(one, bool) else float if _is_number(one) else type(one) for one in value}
        if isinstance(value, list)
        else set()
    )
    if len(kinds) <= 1 and kinds <= {float, str}:
        ascending = isinstance(value, list) and value == sorted(value)
        descending = isinstance(value, list) and value == sorted(value, reverse=True)
        assert _checked({"at": "body", "ordered": "ascending"}, value).held is ascending
        assert _checked({"at": "body", "ordered": "descending"}, value).held is descending
        items = [{"tide": {"at": one}} for one in value] if isinstance(value, list) else value
        by = {"by": "/tide/at", "direction": "descending"}
        assert _checked({"at": "body", "ordered": by}, items).held is descending
        assert _checked({"at": "body", "ordered": {"by": "/none"}}, items).held is (
            isinstance(value, list) and len(value) == 0
        )
    else:
        _checked({"at": "body", "ordered": "ascending"}, value)  # whatever it says, it says something


@MANY
@given(VALUES, st.lists(TEXTS.filter(bool), min_size=1, max_size=3))
def test_texts_in_texts(value: Any, parts: list[str]) -> None:
    text = value if isinstance(value, str) else None
    if text is not None:
        assert _checked({"at": "body", "mentions": parts}, value).held is all(one in text for one in parts)
        assert _checked({"at": "body", "omits": parts}, value).held is not any(one in text for one in parts)
        assert _checked({"at": "body", "matches": "^[ab]*$"}, value).held is (set(text) <= set("ab"))
    else:
        assert not _checked({"at": "body", "matches": ""}, value).held
    kind = {str: "string", bool: "boolean", type(None): "null", list: "array", dict: "object"}.get(
        type(value)
    )
    for name in ("string", "boolean", "null", "array", "object"):
        assert _checked({"at": "body", "type": name}, value).held is (kind == name)
    assert _checked({"at": "body", "type": ["number", "null"]}, value).held is (
        _is_number(value) or value is None
    )
    assert _checked({"at": "body", "type": "integer"}, value).held is (
        _is_number(value) and value == int(value)
    )


HOLD_OF_NOTHING = {"differs", "omits", "exists"}
OPERANDS: dict[str, Any] = {
    "among": [1],
    "exists": False,
    "type": "null",
    "within": [0, 1],
    "count": 0,
    "ordered": "ascending",
    "every": {"exists": True},
    "any": {"exists": True},
    "mentions": "a",
    "omits": "a",
    "matches": "",
    "fits": {},
    "computed": "1",
    "near": 0,
}


@pytest.mark.parametrize("test", sorted(TESTS.keys() - {"kept"}))
def test_what_is_not_there_holds_only_what_says_so(test: str) -> None:
    for written in (
        {"at": "body/none"},
        {"at": "header.X-None"},
        {"at": "$response.body#/none"},
        {"jsonpath": "$.none"},
    ):
        if test in ("count", "every", "any", "ordered") and "jsonpath" in written:
            continue  # a path that chooses nothing chooses an empty list
        found = _checked({**written, test: OPERANDS.get(test, 1)}, {})
        assert found.held is (test in HOLD_OF_NOTHING), written
        assert found.observed == "absent" or test == "count"


@pytest.mark.parametrize(
    ("written", "inputs"),
    [
        ({"equals": "$inputs.none"}, {}),
        ({"differs": "$inputs.none"}, {}),
        ({"every": {"differs": "$inputs.none"}}, {}),
        ({"any": {"equals": "$inputs.none"}}, {}),
        ({"omits": "x{$inputs.none}"}, {}),
        ({"computed": "inputs.none + 1"}, {}),
        ({"computed": "1 / 0"}, {}),
        ({"within": [0, "$inputs.a"]}, {"a": [1]}),
        ({"among": "$inputs.a"}, {"a": 4}),
        ({"count": "$inputs.a"}, {"a": "x"}),
        ({"matches": "$inputs.a"}, {"a": "("}),
        ({"near": "$inputs.a", "by": 1}, {"a": "x"}),
        ({"mentions": "$inputs.a"}, {"a": {"b": []}}),
        ({"type": "$inputs.a"}, {"a": 4}),
        ({"ordered": "$inputs.a"}, {"a": 4}),
    ],
)
def test_an_operand_without_a_value_or_of_another_kind_never_passes(
    written: dict[str, Any], inputs: dict[str, Any]
) -> None:
    """Also where the test alone would hold: nothing was compared."""
    value = ["b"] if {"every", "any"} & written.keys() else "b"
    try:
        found = _checked({"at": "body", **written}, value, inputs=inputs)
    except BadCheck:
        return
    assert not found.held and found.observed


@pytest.mark.parametrize(
    ("written", "words"),
    [
        ([], "a check is a mapping"),
        ({}, "makes 0"),
        ({"at": "body", "equals": 1, "above": 1}, "makes 2"),
        ({"equals": 1}, "has exactly one of"),
        ({"at": "body", "jsonpath": "$", "equals": 1}, "has exactly one of"),
        ({"at": 4, "equals": 1}, "has exactly one of"),
        ({"at": "bodyx", "equals": 1}, "no place in an exchange"),
        ({"at": "header.", "equals": 1}, "no place"),
        ({"at": "$nothing", "equals": 1}, "no runtime expression"),
        ({"jsonpath": "$[", "equals": 1}, ""),
        ({"xpath": "//[", "equals": 1}, ""),
        ({"at": "body", "eqals": 1}, "unknown key"),
        ({"at": "body", "among": []}, "list of values"),
        ({"at": "body", "among": 1}, "list of values"),
        ({"at": "body", "matches": "("}, "no regular expression"),
        ({"at": "body", "matches": 1}, "no regular expression"),
        ({"at": "body", "exists": "yes"}, "true or false"),
        ({"at": "body", "type": "text"}, "type of JSON"),
        ({"at": "body", "type": []}, "type of JSON"),
        ({"at": "body", "within": [1]}, "two limits"),
        ({"at": "body", "mentions": []}, "text or a list"),
        ({"at": "body", "omits": ""}, "text or a list"),
        ({"at": "body", "count": -1}, "number, or a mapping"),
        ({"at": "body", "count": True}, "number, or a mapping"),
        ({"at": "body", "count": {}}, "number, or a mapping"),
        ({"at": "body", "count": {"exactly": 1}}, "number, or a mapping"),
        ({"at": "body", "ordered": "up"}, "ascending or descending"),
        ({"at": "body", "ordered": {"by": "name"}}, "ascending or descending"),
        ({"at": "body", "near": True}, "a number"),
        ({"at": "body", "near": 1, "by": -1}, "tolerance"),
        ({"at": "body", "near": 1, "by": True}, "tolerance"),
        ({"at": "body", "equals": 1, "by": 1}, "tolerance"),
        ({"at": "body", "every": 1}, "a test of each item"),
        ({"at": "body", "any": {"at": "name", "equals": 1}}, "JSON Pointer"),
        ({"at": "body", "any": {"any": {"equals": 1}}}, "no test of an item"),
        ({"at": "body", "every": {"computed": "1"}}, "no test of an item"),
        ({"at": "body", "every": {"kept": "x"}}, "in suites only"),
        ({"at": "body", "kept": "x"}, "in suites only"),
        ({"at": "body", "every": {}}, "makes 0"),
    ],
)
def test_what_is_wrong_with_a_check_is_told(written: Any, words: str) -> None:
    with pytest.raises(BadCheck) as found:
        read_check(written, PLACE, lambda schema, _: compile_schema(schema))
    assert words in str(found.value) and str(found.value)
