"""Conditions and formulas on their own: random ones against Python, and those that are made to be too long,
too deep or too large.
"""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from decimal import Decimal, DivisionByZero, InvalidOperation, localcontext
from random import Random
from typing import Any

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.suite.language.conditions import BadCondition, holds, in_words, parse_condition, reads
from juxtalogos.suite.language.expressions import Scope
from juxtalogos.suite.language.formulas import (
    BadFormula,
    FormulaContext,
    NoValue,
    compute,
    parse_formula,
    reads_of,
)
from juxtalogos.suite.language.numbers import number_in
from juxtalogos.suite.language.selectors import select_json

MANY = settings(max_examples=150, deadline=None)
VALUES: dict[str, Any] = {
    "n": 4,
    "x": 2.5,
    "t": "Berth",
    "yes": True,
    "none": None,
    "zero": 0,
    "empty": "",
    "deep": {"list": [{"a": 7}, [True]]},
}
SCOPE = Scope(
    VALUES,
    exchange=Exchange(
        Request("GET", "http://quay.test/"), Response(200, "", (("X-Count", "12"),), b""), Timings(0, 0, 0)
    ),
)


@st.composite
def arithmetic(draw: st.DrawFn, depth: int = 3) -> tuple[str, Any]:
    """(a formula, the same as Python computes it in decimals; None where it has no value)."""
    if depth == 0 or draw(st.integers(0, 3)) == 0:
        name = draw(st.sampled_from(["n", "x", "zero", ""]))
        if name:
            return f"inputs.{name}", Decimal(str(VALUES[name]))
        number = draw(st.decimals(0, 1000, places=2, allow_nan=False))
        return f"{number:f}", number
    op = draw(st.sampled_from("+-*/%u("))
    left, one = draw(arithmetic(depth - 1))
    if op == "(":
        return f"({left})", one
    if op == "u":
        return f"-({left})", None if one is None else 0 - one
    right, other = draw(arithmetic(depth - 1))
    try:
        with localcontext() as context:
            context.prec = 40
            computed = (
                None
                if None in (one, other)
                else {
                    "+": lambda: one + other,
                    "-": lambda: one - other,
                    "*": lambda: one * other,
                    "/": lambda: one / other,
                    "%": lambda: one % other,
                }[op]()
            )
    except (InvalidOperation, DivisionByZero, ZeroDivisionError):
        computed = None
    return f"({left}) {op} ({right})", computed


@MANY
@given(arithmetic())
def test_arithmetic_is_that_of_decimals(drawn: tuple[str, Any]) -> None:
    text, expected = drawn
    if expected is None:
        with pytest.raises(NoValue):
            compute(parse_formula(text), SCOPE, FormulaContext())
        return
    found = compute(parse_formula(text), SCOPE, FormulaContext())
    assert found == (int(expected) if expected == int(expected) else float(expected))


@MANY
@given(
    st.lists(st.tuples(st.sampled_from("+-*"), st.integers(0, 9)), min_size=1, max_size=300),
    st.integers(0, 9),
)
def test_products_bind_before_sums_and_chains_go_from_the_left(
    rest: list[tuple[str, int]], first: int
) -> None:
    products = sum(op == "*" for op, _ in rest)
    assume(products < 28)
    text = f"{first}" + "".join(f" {op} {number}" for op, number in rest)
    assert compute(parse_formula(text), SCOPE, FormulaContext()) == eval(text)


def test_formulas_as_long_as_they_may_be() -> None:
    longest = "+".join(["1"] * 1_000)
    assert (
        compute(parse_formula(longest), SCOPE, FormulaContext()) == 1_000
        and reads_of(parse_formula(longest)) == []
    )
    assert compute(parse_formula(" - ".join(["inputs.n"] * 150)), SCOPE, FormulaContext()) == 4 - 149 * 4
    assert [one.text for one in reads_of(parse_formula("inputs.a + steps.s.b * $response.body#/c"))] == [
        "$inputs.a",
        "$steps.s.outputs.b",
        "$response.body#/c",
    ]
    for text in (
        "+".join(["1"] * 1_001),
        "(" * 41 + "1" + ")" * 41,
        "-" * 60 + "1",
        "lower(" * 41 + "'a'" + ")" * 41,
    ):
        with pytest.raises(BadFormula):
            parse_formula(text)


@pytest.mark.parametrize(
    ("text", "inputs"),
    [
        ("9" * 1_900, {}),
        ("1" + "0" * 308 + " * 10", {}),
        ("number('1e400')", {}),
        ("number('NaN')", {}),
        ("number('Infinity')", {}),
        ("inputs.x * 1", {"x": float("inf")}),
        ("inputs.x + 1", {"x": float("nan")}),
        ("replace(inputs.x, '', inputs.x)", {"x": "a" * 90_000}),
        ("inputs.x + inputs.x", {"x": "a" * 60_000}),
        ("round(1, 5000)", {}),
        ("hours(number('1e300'))", {}),
        ("date('2026-01-01') - days(inputs.x)", {"x": 10**9}),
        ("between(2, 1)", {}),
        ("least(1, 'a')", {}),
        ("length(1)", {}),
        ("sum(1)", {}),
        ("sum(inputs.x)", {"x": [1, "a"]}),
        ("format('2026-01-01', 'DD')", {}),
        ("date('2026-02-30')", {}),
        ("-'a'", {}),
        ("lower(1)", {}),
        ("part(1, 0, 1)", {}),
        ("days(2)", {}),
        ("true + 1", {}),
        ("inputs.none.a", {}),
    ],
)
def test_a_formula_without_a_sane_value_has_none(text: str, inputs: dict[str, Any]) -> None:
    with pytest.raises(NoValue) as found:
        compute(parse_formula(text), Scope(inputs), FormulaContext())
    assert len(str(found.value)) < 200


@MANY
@given(st.dates(date(1900, 1, 1), date(2100, 1, 1)), st.integers(-20_000, 20_000), st.integers(0, 2**32))
def test_dates_and_made_up_values(day: date, count: int, seed: int) -> None:
    def found(text: str) -> Any:
        return compute(
            parse_formula(text),
            Scope({"n": count}),
            FormulaContext(datetime(day.year, day.month, day.day, 6, 30, 5, tzinfo=UTC), Random(seed)),
        )

    assert found("today()") == day.isoformat() and found("now()") == f"{day}T06:30:05Z"
    assert found("today() + days(inputs.n)") == (day + timedelta(count)).isoformat()
    assert found("(today() + days(inputs.n)) - today()") == count
    assert (
        found("now() - hours(1) < now()") is True and found("now() + minutes(inputs.n * 0) == now()") is True
    )
    assert found("format(now(), 'YYYY/MM/DD hh:mm:ss')") == f"{day:%Y/%m/%d} 06:30:05"
    assert found("date(text(today())) == today()") is True
    assert found("pick('a', 'b', 'c')") in "abc" and found("pick(1, 2)") == found("pick(1, 2)")
    assert (
        3 <= found("between(3, 9)") <= 9 and len(found("digits(12)")) == 12 and found("digits(12)").isdigit()
    )
    low, high = sorted((count, 7))
    assert (found("least(inputs.n, 7)"), found("most(inputs.n, 7)")) == (low, high)


@st.composite
def logic(draw: st.DrawFn, depth: int = 3) -> tuple[str, bool]:
    """(a condition, whether it holds)."""
    if depth == 0 or draw(st.integers(0, 3)) == 0:
        return draw(
            st.sampled_from(
                [
                    ("true", True),
                    ("false", False),
                    ("null", False),
                    ("$inputs.yes", True),
                    ("$inputs.nothing", False),
                    ("$inputs.zero", False),
                    ("$inputs.empty", False),
                    ("$inputs.none", False),
                    ("'x'", True),
                    ("$inputs.n == 4", True),
                    ("$inputs.n != 4.0", False),
                    ("$inputs.t == 'bERTH'", True),
                    ("$statusCode < 300", True),
                    ("$response.header.X-Count >= 12", True),
                    ("$inputs.none == null", True),
                    ("$inputs.nothing == null", False),
                    ("$inputs.nothing == $inputs.nowhere", False),
                    ("$inputs.nothing != $inputs.nowhere", True),
                    ("$inputs.nothing < 1", False),
                    ("$inputs.deep.list[0].a == 7", True),
                    ("$inputs.deep.list[9] == 7", False),
                    ("$inputs.yes == 1", False),
                    ("$inputs.t > 'azz'", True),
                    ("$inputs.t < 4", False),
                    ("$inputs.deep.list[1] == $inputs.deep.list[1]", True),
                    ("1 <= 1", True),
                ]
            )
        )
    left, one = draw(logic(depth - 1))
    op = draw(st.sampled_from(["!", "&&", "||"]))
    if op == "!":
        return f"!({left})", not one
    right, other = draw(logic(depth - 1))
    return f"({left}) {op} ({right})", (one and other) if op == "&&" else (one or other)


@MANY
@given(logic(), st.lists(logic(1), max_size=4))
def test_conditions_hold_as_logic_has_it(drawn: tuple[str, bool], more: list[tuple[str, bool]]) -> None:
    text, expected = drawn
    assert holds(parse_condition(text), SCOPE) is expected
    # `&&` binds before `||`: a || b && c.
    both = [(f"({text})", expected), *((f"({one})", held) for one, held in more)]
    assert holds(parse_condition(" || ".join(f"{one} && true" for one, _ in both)), SCOPE) is any(
        held for _, held in both
    )
    assert holds(parse_condition(" && ".join(one for one, _ in both) + " || false && false"), SCOPE) is all(
        held for _, held in both
    )
    told = in_words(parse_condition(text), SCOPE)
    for expression in reads(parse_condition(text)):
        assert f"{expression.text} is " in told


def test_conditions_of_any_length_but_not_of_any_depth() -> None:
    for op, first, expected in (
        ("||", "false", True),
        ("&&", "true", True),
        ("||", "$inputs.yes", True),
        ("&&", "$inputs.zero", False),
    ):
        text = f" {op} ".join([first] * 5_000) + f" {op} true"
        assert holds(parse_condition(text), SCOPE) is expected
        assert len(reads(parse_condition(text))) == (5_000 if "$" in first else 0)
    for text in (
        "$inputs.a" + "[0]" * 5_000,
        "$inputs.a" + ".b[0]" * 5_000,
        "!" * 5_000 + "true",
        "(" * 5_000 + "1",
    ):
        with pytest.raises(BadCondition):
            parse_condition(text)


@pytest.mark.parametrize(
    ("text", "number"),
    [
        ("12", 12),
        (" -3 ", -3),
        ("+0.50", 0.5),
        ("1e3", 1000.0),
        ("7.", 7.0),
        (str(2**63 + 1), 2**63 + 1),
        ("", None),
        ("1_0", None),
        ("nan", None),
        ("inf", None),
        ("0x1", None),
        ("1e999", None),
        ("²", None),
        ("١", None),
        ("1" * 1_001, None),
        ("1 2", None),
        ("--1", None),
    ],
)
def test_numbers_that_texts_write(text: str, number: Any) -> None:
    assert number_in(text) == number and type(number_in(text)) is type(number)


@pytest.mark.parametrize("value", ["1", '{"a": 1}', "[1", "abc", "", 0, None, True, 2.5])
def test_of_a_single_value_a_path_chooses_it_or_nothing(value: Any) -> None:
    assert [*map(repr, select_json("$", value))] == [repr(value)]
    for path in ("$.a", "$..a", "$[0]", "$.*", "$[?@ == 1]"):
        assert select_json(path, value) == []
