"""Written checks (`x-juxtalogos-checks`): a value chosen out of an exchange, and one test of it; expected
beside actual either way.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from juxtalogos.documents.jsonvalues import equal, in_words, type_of
from juxtalogos.exchange.media import media_type_of
from juxtalogos.model.errors import nearest, quoted
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.location import Location, follow_pointer
from juxtalogos.model.schema import ABSENT
from juxtalogos.schema.patterns import PatternError, PatternTimeout, compile_pattern
from juxtalogos.suite.checks.form import BadCheck, check_operand, check_place
from juxtalogos.suite.kept_answers import run_values
from juxtalogos.suite.language.expressions import Scope, evaluate, fill, parse_expression
from juxtalogos.suite.language.formulas import Formula, FormulaContext, NoValue, compute, parse_formula
from juxtalogos.suite.language.numbers import number_in
from juxtalogos.suite.language.selectors import NoSelection, select_json, select_xml

KIND = "check.unmet"


@dataclass(frozen=True, slots=True)
class WrittenCheck:
    """One test of one value.

    `how` says where the value is: `at` an address or expression, `jsonpath` or `xpath`.
    """

    how: str
    where: str
    test: str
    operand: Any
    location: Location
    note: str = ""
    """Why it is checked, in its author's words."""
    by: float = 0.0
    """Tolerance of `near`."""
    inner: WrittenCheck | None = None
    """For `every` and `any`: the test of each item."""
    formula: Formula | None = None
    schema: Any = None
    """For `fits`: what checks the value."""
    frozen: bool = False
    """Whether it only holds today's behaviour fast; it says so when it fails."""
    typed: bool = False
    """Whether the value has a type of its own, as in JSON; the text of a header counts as the number it
    writes."""


@dataclass(frozen=True, slots=True)
class Test:
    holds: Callable[[WrittenCheck, Any, Any], bool]
    """(check, operand, value) -> whether it holds; the value may be ABSENT."""
    words: Callable[[Any], str]
    """What is expected, of an operand."""
    many: bool = False
    """Whether all chosen nodes together are tested, as a list."""


_KEPT = "as kept in "


def not_as_kept(result: CheckResult) -> bool:
    """Whether a result is that of a kept response from which an answer differs."""
    return result.kind == KIND and not result.held and result.declared.startswith(_KEPT)


def run_check(
    check: WrittenCheck, scope: Scope, ground: FormulaContext, namespaces: Mapping[str, str] | None = None
) -> CheckResult:
    """The result of a written check."""
    at = check.where if check.how == "at" else f"{check.how} {check.where}"
    detail = check.note + (" (holds today's behaviour fast)" if check.frozen else "")
    try:
        if check.inner is not None:
            missing: list[str] = []
            filled = fill(check.inner.operand, scope, missing)
            _all_there(missing)
            check = replace(check, inner=replace(check.inner, operand=filled))
        value = chosen(check, scope, namespaces)
        operand = _operand(check, scope, ground)
    except (NoSelection, NoValue) as error:
        return CheckResult(KIND, False, at, expected(check), str(error), detail=detail)
    if check.test == "kept":
        found = check.schema.differences(value, run_values(scope))
        observed = "; ".join(found[:10]) + (f"; and {len(found) - 10} more" if len(found) > 10 else "")
        return CheckResult(KIND, not found, at, expected(check), observed or "the same", detail=detail)
    try:
        check = _as_typed(check, scope)
        held = TESTS[check.test].holds(check, operand, value)
        observed = _observed(check, value)
    except PatternTimeout:
        held, observed = False, "undecided: the pattern took too long"
    except PatternError as error:
        held, observed = False, f"undecided: {in_words(operand)} is no pattern ({error})"
    except (TypeError, ArithmeticError):  # an operand that came from an expression is of any type
        held, observed = False, f"{in_words(value)}, which cannot be compared with {in_words(operand)}"
    return CheckResult(KIND, held, at, expected(check, operand), observed, detail=detail)


def _operand(check: WrittenCheck, scope: Scope, ground: FormulaContext) -> Any:
    """The operand with its expressions evaluated, or what its formula gives."""
    if check.inner is not None or check.schema is not None:
        return check.operand
    if check.formula is not None:
        return compute(check.formula, scope, ground)
    missing: list[str] = []
    found = fill(check.operand, scope, missing)
    _all_there(missing)
    return found


def _all_there(missing: list[str]) -> None:
    if missing:
        raise NoValue(f"no value for {', '.join(missing)}, which it is compared with")


def _as_typed(check: WrittenCheck, scope: Scope) -> WrittenCheck:
    """The check; where its value is one of JSON it is told so: there a text is never a number."""
    if check.how == "xpath" or not (
        check.how == "jsonpath" or check.where.startswith(("body", "$response.body"))
    ):
        return check
    response = scope.exchange.response if scope.exchange else None
    media = media_type_of(response) if response else None
    if media is None or not media.is_json:
        return check
    return replace(check, typed=True, inner=replace(check.inner, typed=True) if check.inner else None)


def chosen(check: WrittenCheck, scope: Scope, namespaces: Mapping[str, str] | None = None) -> Any:
    """The value to test; ABSENT when there is none. NoSelection when what came cannot be gone through."""
    many = TESTS[check.test].many
    if check.how == "at":
        return value_at(check.where, scope)
    nodes = select_nodes(check.how, check.where, scope, namespaces)
    if many:
        return nodes[0] if len(nodes) == 1 and isinstance(nodes[0], list) else nodes
    return ABSENT if not nodes else nodes[0] if len(nodes) == 1 else nodes


def select_nodes(
    how: str, where: str, scope: Scope, namespaces: Mapping[str, str] | None = None
) -> list[Any]:
    """What a JSONPath or XPath chooses in an answer; NoSelection when it cannot be gone through."""
    response = scope.exchange.response if scope.exchange else None
    if how == "xpath":
        return select_xml(where, response.body if response else b"", namespaces=namespaces)
    if scope.response_value is ABSENT:
        raise NoSelection("the body was not read as a value")
    return select_json(where, scope.response_value)


def value_at(where: str, scope: Scope) -> Any:
    """The value at an address: `status`, `time` (milliseconds), `text`, `url`, `header.NAME`, `body/path`, or
    an expression.
    """
    exchange = scope.exchange
    response = exchange.response if exchange else None
    if where.startswith("$"):
        return evaluate(parse_expression(where), scope)
    if exchange is None or response is None:
        return ABSENT
    match where:
        case "status":
            return response.status
        case "time":
            return round(exchange.timings.total * 1000, 3)
        case "url":
            return exchange.request.url
        case "text":
            return response.body.decode("utf-8", "replace")
    if where.startswith("header."):
        return evaluate(parse_expression(f"$response.{where}"), scope)
    try:
        return (
            follow_pointer(scope.response_value, where[4:]) if scope.response_value is not ABSENT else ABSENT
        )
    except (LookupError, ValueError):
        return ABSENT


def expected(check: WrittenCheck, operand: Any = ABSENT) -> str:
    """What a check expects, in words."""
    if check.test in ("every", "any") and check.inner is not None:
        place = f" {check.inner.where}" if check.inner.where else ""
        return f"{check.test} item{place}: {expected(check.inner)}"
    if check.formula is not None:
        told = f" = {in_words(operand)}" if operand is not ABSENT else ""
        return f"{check.operand}{told}"
    words = TESTS[check.test].words(check.operand if operand is ABSENT else operand)
    return f"{words}, give or take {check.by:g}" if check.test == "near" else words


def _observed(check: WrittenCheck, value: Any) -> str:
    if value is ABSENT:
        return "absent"
    if check.test == "count":
        return f"{len(value)} items" if isinstance(value, list) else f"{type_of(value)}, no list"
    if check.test == "matches" and not isinstance(value, str):
        return f"{in_words(value)}, of type {type_of(value)}: a pattern is for text"
    if check.test in ("every", "any") and check.inner is not None and isinstance(value, list):
        failing = [index for index, item in enumerate(value) if not _item_holds(check.inner, item)]
        return f"{len(value)} items" + (f", not so: {', '.join(map(str, failing[:10]))}" if failing else "")
    if check.test == "fits" and check.schema is not None:
        found = [one for one in check.schema.check(value) if not one.advisory]
        return (
            f"{found[0].path or 'the value'}: {found[0].declared} expected, {found[0].observed}"
            if found
            else in_words(value)
        )
    return in_words(value, 200)


def _item_holds(inner: WrittenCheck, item: Any) -> bool:
    value = item
    if inner.where:
        try:
            value = follow_pointer(item, inner.where)
        except (LookupError, ValueError):
            value = ABSENT
    return TESTS[inner.test].holds(inner, inner.operand, value)


def _matches(value: Any, pattern: Any) -> bool:
    return isinstance(value, str) and bool(compile_pattern(_as_text(pattern)).search(value))


def _compared(holds: Callable[[Any, Any], bool]) -> Callable[[WrittenCheck, Any, Any], bool]:
    """Numbers with numbers, texts with texts (dates of one form sort as texts); a header's text counts as the
    number it writes.
    """

    def test(check: WrittenCheck, operand: Any, value: Any) -> bool:
        left, right = _number(value, operand), operand
        both = (
            isinstance(left, int | float)
            and isinstance(right, int | float)
            and not isinstance(left, bool)
            and not isinstance(right, bool)
        )
        return bool((both or (isinstance(left, str) and isinstance(right, str))) and holds(left, right))

    return test


def _number(value: Any, beside: Any) -> Any:
    """The number that a text writes, where it is compared with one; whole numbers keep all their digits."""
    if isinstance(value, str) and isinstance(beside, int | float) and not isinstance(beside, bool):
        found = number_in(value)
        return value if found is None else found
    return value


def _equals(check: WrittenCheck, operand: Any, value: Any) -> bool:
    if value is ABSENT:
        return False
    loose = not check.typed or check.test == "computed"  # amounts are often texts in JSON
    return equal(value, operand) or (loose and equal(_number(value, operand), operand))


def _near(check: WrittenCheck, operand: Any, value: Any) -> bool:
    found: Any = _number(value, operand)
    numbers = all(isinstance(one, int | float) and not isinstance(one, bool) for one in (found, operand))
    rounding = (
        0 if isinstance(found, int) and isinstance(operand, int) else 1e-12 * abs(operand) if numbers else 0
    )
    return bool(numbers and abs(found - operand) <= check.by + rounding)


def _within(check: WrittenCheck, operand: Any, value: Any) -> bool:
    low, high = operand
    return _compared(lambda one, other: one >= other)(check, low, value) and _compared(
        lambda one, other: one <= other
    )(check, high, value)


def _count(check: WrittenCheck, operand: Any, value: Any) -> bool:
    if not isinstance(value, list):
        return False
    if isinstance(operand, dict):
        return bool(operand.get("atLeast", 0) <= len(value) <= operand.get("atMost", len(value)))
    return bool(len(value) == operand)


def _ordered(check: WrittenCheck, operand: Any, value: Any) -> bool:
    direction, by = (
        (operand, "")
        if isinstance(operand, str)
        else (operand.get("direction", "ascending"), operand.get("by", ""))
    )
    if not isinstance(value, list):
        return False
    try:
        keys: list[Any] = [follow_pointer(item, by) for item in value]
        pairs = itertools.pairwise(keys)
        return all(one <= other if direction == "ascending" else one >= other for one, other in pairs)
    except (LookupError, ValueError, TypeError):
        return False


def _type(check: WrittenCheck, operand: Any, value: Any) -> bool:
    names = operand if isinstance(operand, list) else [operand]
    if value is ABSENT:
        return False
    kind = type_of(value)
    return (
        kind in names
        or (kind == "integer" and "number" in names)
        or ("integer" in names and isinstance(value, float) and value.is_integer())
    )


def _told(prefix: str) -> Callable[[Any], str]:
    return lambda operand: f"{prefix}{in_words(operand)}"


def _texts(operand: Any) -> list[str]:
    """What a text must hold: a number stands for the text that it is written as."""
    return [_as_text(one) for one in (operand if isinstance(operand, list) else [operand])]


def _as_text(value: Any) -> str:
    return value if isinstance(value, str) else "" if value is ABSENT else in_words(value, 1_000_000)


TESTS: Mapping[str, Test] = {
    "equals": Test(_equals, _told("")),
    "differs": Test(lambda check, operand, value: not _equals(check, operand, value), _told("other than ")),
    "among": Test(
        lambda check, operand, value: any(_equals(check, one, value) for one in operand), _told("one of ")
    ),
    "matches": Test(
        lambda check, operand, value: _matches(value, operand), lambda operand: f"text matching {operand}"
    ),
    "exists": Test(
        lambda check, operand, value: (value is not ABSENT) is operand,
        lambda operand: "present" if operand else "absent",
    ),
    "type": Test(_type, lambda operand: " or ".join(operand) if isinstance(operand, list) else str(operand)),
    "above": Test(_compared(lambda value, limit: value > limit), _told("more than ")),
    "below": Test(_compared(lambda value, limit: value < limit), _told("less than ")),
    "atLeast": Test(_compared(lambda value, limit: value >= limit), _told("at least ")),
    "atMost": Test(_compared(lambda value, limit: value <= limit), _told("at most ")),
    "within": Test(_within, lambda operand: f"from {in_words(operand[0])} to {in_words(operand[1])}"),
    "near": Test(_near, _told("")),
    "mentions": Test(
        lambda check, operand, value: all(text in _as_text(value) for text in _texts(operand)),
        _told("text with "),
    ),
    "omits": Test(
        lambda check, operand, value: not any(text in _as_text(value) for text in _texts(operand)),
        _told("text without "),
    ),
    "count": Test(_count, lambda operand: f"{in_words(operand)} items", many=True),
    "ordered": Test(
        _ordered,
        lambda operand: (
            f"in {operand if isinstance(operand, str) else operand.get('direction', 'ascending')} order"
        ),
        many=True,
    ),
    "every": Test(
        lambda check, operand, value: (
            isinstance(value, list)
            and check.inner is not None
            and all(_item_holds(check.inner, item) for item in value)
        ),
        str,
        many=True,
    ),
    "any": Test(
        lambda check, operand, value: (
            isinstance(value, list)
            and check.inner is not None
            and any(_item_holds(check.inner, item) for item in value)
        ),
        str,
        many=True,
    ),
    "computed": Test(_equals, str),
    "kept": Test(lambda check, operand, value: False, lambda operand: f"{_KEPT}{operand}"),
    "fits": Test(
        lambda check, operand, value: (
            value is not ABSENT and check.schema is not None and check.schema.accepts(value)
        ),
        lambda operand: "as the schema says",
    ),
}
"""Every test by the key it is written with."""


def _nothing_kept(name: str) -> Any:
    raise BadCheck("kept responses are compared in suites only", "kept")


def read_check(
    value: Any,
    location: Location,
    schema_of: Callable[[Any, Location], Any],
    kept_of: Callable[[str], Any] = _nothing_kept,
) -> WrittenCheck:
    """A check as it is written; BadCheck says what is wrong with it."""
    if not isinstance(value, dict):
        raise BadCheck(
            "a check is a mapping", mend="write `at: body/name` and a test such as `equals: Skerry`"
        )
    tests = [key for key in value if key in TESTS]
    known = (*TESTS, "at", "jsonpath", "xpath", "note", "by", "frozen")
    for key in value:
        if key not in known:
            raise BadCheck(f"unknown key {quoted(key)}", key, nearest(str(key), known))
    if len(tests) != 1:
        raise BadCheck(f"a check makes one test, this makes {len(tests)}", mend="one of " + ", ".join(TESTS))
    test = tests[0]
    operand = value[test]
    how, where = _where(value)
    inner = formula = schema = None
    if test in ("every", "any"):
        inner = _inner(operand, location.child(test), schema_of)
    elif test == "computed":
        formula = parse_formula(str(operand))
    elif test == "fits":
        schema = schema_of(operand, location.child(test))
    elif test == "kept":
        schema = kept_of(str(operand))
    check_operand(test, operand)
    return WrittenCheck(
        how,
        where,
        test,
        operand,
        location,
        str(value.get("note", "")),
        _tolerance(value, test),
        inner,
        formula,
        schema,
        value.get("frozen") is True,
    )


def _tolerance(value: dict[str, Any], test: str) -> float:
    by = value.get("by", 0)
    if (
        isinstance(by, bool)
        or not isinstance(by, int | float)
        or by < 0
        or ("by" in value and test != "near")
    ):
        raise BadCheck("`by` is the tolerance of `near`, a number from 0", "by")
    return float(by)


def _where(value: dict[str, Any]) -> tuple[str, str]:
    given = [key for key in ("at", "jsonpath", "xpath") if key in value]
    if len(given) != 1 or not isinstance(value[given[0]], str):
        raise BadCheck(
            "a check has exactly one of at, jsonpath and xpath",
            mend="write one of `at`, `jsonpath` and `xpath`",
        )
    check_place(given[0], value[given[0]])
    return given[0], value[given[0]]


def _inner(operand: Any, location: Location, schema_of: Callable[[Any, Location], Any]) -> WrittenCheck:
    """The test of each item; its `at` is a JSON Pointer into the item, empty for the item itself."""
    if not isinstance(operand, dict):
        raise BadCheck(
            "`every` and `any` hold a test of each item",
            mend="write every: {at: /state, among: [moored, closed]}",
        )
    pointer = operand.get("at", "")
    if not isinstance(pointer, str) or (pointer and not pointer.startswith("/")):
        raise BadCheck(
            "in `every` and `any`, `at` is a JSON Pointer into the item", "at", "write one such as /state"
        )
    found = read_check({**operand, "at": "body"}, location, schema_of)
    if found.test in ("computed", "every", "any"):
        raise BadCheck(f"{found.test} is no test of an item", found.test)
    return WrittenCheck("at", pointer, found.test, found.operand, location, by=found.by, schema=found.schema)
