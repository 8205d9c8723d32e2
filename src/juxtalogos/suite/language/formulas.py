"""Formulas: values computed from inputs and earlier outputs. Arithmetic, text, dates; nothing else, and
within bounds.

    inputs.lines * 2 + steps.made.count          numbers, exact in decimals
    'PC-' + text(steps.made.number)              texts
    format(today() + days(3), 'DD.MM.YYYY')      dates
    pick('bulk', 'tanker')                       made-up values, the same for the same seed

Names lead to runtime values: `inputs.NAME`, `steps.ID.NAME`, or any runtime expression as it stands
(`$response.body#/total`).
"""

from __future__ import annotations

import contextlib
import math
import operator
import random
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal, DivisionByZero, InvalidOperation, localcontext
from typing import Any

from juxtalogos.model.errors import ConfigError, quoted
from juxtalogos.model.schema import ABSENT
from juxtalogos.suite.language.expressions import BadExpression, Expression, Scope, evaluate, parse_expression
from juxtalogos.suite.language.own_names import own_name
from juxtalogos.suite.language.tokens import Tokens
from juxtalogos.suite.parameters import SharedParameter

MAX_LENGTH, MAX_DEPTH, MAX_TEXT = 2_000, 40, 100_000
_TOKEN = re.compile(
    r"\s*(?:(?P<text>'(?:[^']|'')*')|(?P<number>\d+(?:\.\d+)?)|(?P<expression>\$[^\s()<>=!&|+*,]+)"
    r"|(?P<name>[A-Za-z_][A-Za-z0-9_\-]*(?:\.[A-Za-z0-9_\-]+)*)|(?P<op><=|>=|==|!=|[-+*/%<>(),]))"
)


class BadFormula(ValueError):
    """The text is no formula; `at` counts characters from 0."""

    def __init__(self, what: str, at: int = 0) -> None:
        super().__init__(what)
        self.at = at


class NoValue(ValueError):
    """A formula has no value here: something it reads is absent, or its parts do not go together."""


@dataclass(frozen=True, slots=True)
class Formula:
    """`op` is `value`, `read`, `call`, or an operator."""

    op: str
    operands: tuple[Any, ...]


@dataclass(slots=True)
class FormulaContext:
    """What formulas stand on: the day, and the seed of made-up values."""

    now: datetime = field(default_factory=lambda: datetime.now(UTC))
    random: random.Random = field(default_factory=lambda: random.Random(0))
    token: str = ""
    """Random text of the run: what is unique is made of it."""
    label: str = ""
    """The case and row: what two of them make is never the same."""
    known: Mapping[str, Any] = field(default_factory=dict)
    """Known values by name; `{formula = "TEXT"}` for one that is computed."""
    made: int = 0
    """How many unique texts were made so far."""


def parse_formula(text: str) -> Formula:
    """BadFormula when the text is none."""
    if len(text) > MAX_LENGTH:
        raise BadFormula(f"a formula of more than {MAX_LENGTH} characters")
    parser = _Parser(text, _TOKEN, BadFormula)
    found = parser.comparison(0)
    parser.ended()
    return found


class _Parser(Tokens):
    def comparison(self, depth: int) -> Formula:
        if depth > MAX_DEPTH:
            raise BadFormula("nested too deep", self.start)
        left = self.sum(depth)
        word = self.take("<", "<=", ">", ">=", "==", "!=")
        return Formula(word, (left, self.sum(depth))) if word else left

    def sum(self, depth: int) -> Formula:
        left = self.product(depth)
        while word := self.take("+", "-"):
            left = Formula(word, (left, self.product(depth)))
        return left

    def product(self, depth: int) -> Formula:
        left = self.operand(depth)
        while word := self.take("*", "/", "%"):
            left = Formula(word, (left, self.operand(depth)))
        return left

    def operand(self, depth: int) -> Formula:
        if depth > MAX_DEPTH:
            raise BadFormula("nested too deep", self.start)
        if self.take("-"):
            return Formula("-", (Formula("value", (Decimal(0),)), self.operand(depth + 1)))
        if self.take("("):
            inner = self.comparison(depth + 1)
            if not self.take(")"):
                raise BadFormula("a ')' is missing", self.start)
            return inner
        kind, token, start = self.kind, self.token, self.start
        if kind in ("end", "op"):
            raise BadFormula("a value is missing", start)
        self.advance()
        if kind == "text":
            return Formula("value", (token[1:-1].replace("''", "'"),))
        if kind == "number":
            return Formula("value", (Decimal(token),))
        if kind == "name" and self.kind == "op" and self.token == "(":
            return self.call(token, start, depth)
        return (
            Formula("read", (_runtime(token, start),))
            if token not in _WORDS
            else Formula("value", (_WORDS[token],))
        )

    def call(self, name: str, start: int, depth: int) -> Formula:
        if name not in FUNCTIONS:
            raise BadFormula(f"there is no function {name!r}; known: {', '.join(FUNCTIONS)}", start)
        self.advance()
        arguments: list[Formula] = []
        while not self.take(")"):
            if arguments and not self.take(","):
                raise BadFormula("a ',' or ')' is missing", self.start)
            arguments.append(self.comparison(depth + 1))
        least, most = FUNCTIONS[name].counts
        if not least <= len(arguments) <= most:
            raise BadFormula(f"{name} takes {least}{f' to {most}' if most != least else ''} values", start)
        return Formula("call", (name, *arguments))


_WORDS: dict[str, Any] = {"true": True, "false": False, "null": None}


def _runtime(token: str, start: int) -> Expression:
    text = token
    if not token.startswith("$"):
        place, _, name = token.partition(".")
        step, _, output = name.partition(".")
        text = {
            "inputs": f"$inputs.{name}",
            "steps": f"$steps.{step}.outputs.{output}",
            "outputs": f"$outputs.{name}",
        }.get(place, "")
        if not text or not name:
            raise BadFormula(
                f"{token!r} is no value; write inputs.NAME, steps.ID.NAME or a runtime expression", start
            )
    try:
        return parse_expression(text)
    except BadExpression as error:
        raise BadFormula(str(error), start) from None


def reads_of(formula: Formula) -> list[Expression]:
    """The runtime expressions a formula reads."""
    found: list[Expression] = []
    waiting: list[Any] = [formula]
    while waiting:
        one = waiting.pop()
        if isinstance(one, Formula):
            waiting.extend(reversed(one.operands))
        elif isinstance(one, Expression):
            found.append(one)
    return found


def uses(formula: Formula, name: str) -> bool:
    """Whether a formula calls a function."""
    return (formula.op == "call" and formula.operands[0] == name) or any(
        isinstance(one, Formula) and uses(one, name) for one in formula.operands
    )


def is_unique(formula: Formula, known: Mapping[str, Any]) -> bool:
    """Whether what a formula gives is of this run alone: by `unique()`, or by a known value made so."""
    if uses(formula, "unique"):
        return True
    if formula.op == "call" and formula.operands[0] == "known" and formula.operands[1].op == "value":
        value = known.get(str(formula.operands[1].operands[0]))
        text = str(value.get("formula", "")) if isinstance(value, Mapping) else ""
        with contextlib.suppress(BadFormula):
            return bool(text) and uses(parse_formula(text), "unique")
    return False


def compute(formula: Formula, scope: Scope, ground: FormulaContext) -> Any:
    """The value as JSON has it; NoValue says why there is none."""
    try:
        with localcontext() as context:
            context.prec = 40
            return _plain(_compute(formula, scope, ground))
    except (InvalidOperation, DivisionByZero, ZeroDivisionError, OverflowError):
        raise NoValue("the numbers cannot be computed with") from None


def settled(variables: Mapping[str, Any], ground: FormulaContext, where: str) -> dict[str, Any]:
    """Variables of a configuration or suite, those of the form `{formula = "TEXT"}` computed, without those
    that have no value yet; ConfigError at `where` names a bad one.
    """
    found: dict[str, Any] = {}
    for name, value in variables.items():
        try:
            computed = settled_value(value, ground)
        except (BadFormula, NoValue) as error:
            raise ConfigError(
                f"the variable {quoted(name)}: {error}", where=where, mend="see docs/suites.md for formulas"
            ) from None
        if computed is not ABSENT:
            found[name] = computed
    return found


def settled_value(value: Any, ground: FormulaContext) -> Any:
    """A value of a configuration, computed where it has the form `{formula = "TEXT"}`; ABSENT for a
    parameter that has a type only.

    BadFormula, NoValue.
    """
    one = SharedParameter.of(value)
    if one.formula:
        return compute(parse_formula(one.formula), Scope({}), ground)
    return one.value


def _compute(formula: Formula, scope: Scope, ground: FormulaContext) -> Any:
    if formula.op == "value":
        return formula.operands[0]
    if formula.op == "read":
        expression: Expression = formula.operands[0]
        value = evaluate(expression, scope)
        if value is ABSENT:
            raise NoValue(f"{expression.text} has no value")
        return _number(value)
    if formula.op == "call":
        name, *arguments = formula.operands
        values = [_compute(argument, scope, ground) for argument in arguments]
        try:
            return FUNCTIONS[name].run(ground, *values)
        except (TypeError, ValueError, AttributeError) as error:
            raise NoValue(
                f"{name}: {error}" if isinstance(error, NoValue) else f"{name} cannot take these values"
            ) from None
    rest: list[tuple[str, Formula]] = []
    while (
        formula.op in _ARITHMETIC or formula.op in _COMPARE
    ):  # a chain is as long as its text, so it is no recursion
        rest.append((formula.op, formula.operands[1]))
        formula = formula.operands[0]
    value = _compute(formula, scope, ground)
    for op, right in reversed(rest):
        value = _operate(op, value, _compute(right, scope, ground))
    return value


def _number(value: Any) -> Any:
    return Decimal(str(value)) if isinstance(value, int | float) and not isinstance(value, bool) else value


_ARITHMETIC: Mapping[str, Callable[[Any, Any], Any]] = {
    "+": operator.add,
    "-": operator.sub,
    "*": operator.mul,
    "/": operator.truediv,
    "%": operator.mod,
}
_COMPARE: Mapping[str, Callable[[Any, Any], bool]] = {
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
    "==": operator.eq,
    "!=": operator.ne,
}


def _operate(op: str, left: Any, right: Any) -> Any:
    numbers = isinstance(left, Decimal) and isinstance(right, Decimal)
    texts = isinstance(left, str) and isinstance(right, str)
    if op in ("==", "!="):
        return _COMPARE[op](left, right)
    if op in _COMPARE:
        if numbers or texts or (isinstance(left, date) and type(left) is type(right)):
            return _COMPARE[op](left, right)
    elif numbers:
        return _ARITHMETIC[op](left, right)
    elif op == "+" and texts and len(left) + len(right) <= MAX_TEXT:
        return left + right
    elif op in "+-" and isinstance(left, date) and isinstance(right, timedelta):
        return _ARITHMETIC[op](left, right)
    elif op == "-" and isinstance(left, date) and type(left) is type(right):
        return Decimal((left - right).days)
    raise NoValue(f"{_kind(left)} {op} {_kind(right)} has no meaning")


def _kind(value: Any) -> str:
    names = {
        Decimal: "a number",
        str: "a text",
        bool: "a truth value",
        list: "a list",
        dict: "an object",
        timedelta: "a span",
    }
    return "a date" if isinstance(value, date) else names.get(type(value), "null")


def _plain(value: Any) -> Any:
    if isinstance(value, Decimal):
        if not math.isfinite(value) or abs(value) > _LARGEST:
            raise NoValue("the number is too large for JSON")
        return (
            int(value)
            if value == value.to_integral_value() and abs(value) < Decimal(10) ** 30
            else float(value)
        )
    if isinstance(value, datetime):
        return value.isoformat(timespec="seconds").replace("+00:00", "Z")
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, timedelta):
        raise NoValue("a span of time is no value; add it to a date")
    return value


_LARGEST = Decimal("1e308")


@dataclass(frozen=True, slots=True)
class Function:
    run: Callable[..., Any]
    counts: tuple[int, int]
    meaning: str


def _date(ground: FormulaContext, text: str) -> Any:
    text = text.strip()
    if re.fullmatch(r"\d{4}-\d\d-\d\d", text):
        return date.fromisoformat(text)
    found = datetime.fromisoformat(text)
    return found if found.tzinfo else found.replace(tzinfo=UTC)


_MARKS = {"YYYY": "%Y", "MM": "%m", "DD": "%d", "hh": "%H", "mm": "%M", "ss": "%S"}


def _format(ground: FormulaContext, when: date, form: str) -> str:
    if not isinstance(when, date):
        raise TypeError
    return re.sub("YYYY|MM|DD|hh|mm|ss", lambda found: when.strftime(_MARKS[found.group()]), form)


def _text(ground: FormulaContext, value: Any) -> str:
    plain = _plain(value)
    return (
        plain
        if isinstance(plain, str)
        else "true"
        if plain is True
        else "false"
        if plain is False
        else str(plain)
    )


def _round(ground: FormulaContext, value: Decimal, digits: Decimal = Decimal(0)) -> Decimal:
    return value.quantize(Decimal(1).scaleb(-int(digits)))


def _part(ground: FormulaContext, text: str, start: Decimal, count: Decimal) -> str:
    return (
        text[int(start) : int(start) + int(count)]
        if start >= 0 and count >= 0
        else text[int(start) :][: int(count)]
    )


def _replace(ground: FormulaContext, text: str, old: str, new: str) -> str:
    if len(text) + text.count(old) * (len(new) - len(old)) > MAX_TEXT:
        raise NoValue(f"more than {MAX_TEXT:,} characters")
    return text.replace(old, new)


def _span(unit: str) -> Callable[[FormulaContext, Decimal], timedelta]:
    return lambda ground, count: timedelta(**{unit: float(count)})


def _known(ground: FormulaContext, name: str) -> Any:
    if name not in ground.known:
        raise NoValue(
            f"nothing is known here of {quoted(name)}: write it under [[targets.NAME.known]], or learn it"
            " with compose --learn"
        )
    try:
        return _number(settled_value(ground.known[name], ground))
    except BadFormula as error:
        raise NoValue(str(error)) from None


def _unique(ground: FormulaContext, template: str) -> str:
    ground.made += 1
    return own_name(template[:MAX_LENGTH], f"{ground.token}\0{ground.label}\0{ground.made}")


_NAMES = (
    "Grey Tern",
    "Skerry Maid",
    "Tide Runner",
    "Lantern",
    "Northlight",
    "Curlew",
    "Anchorstone",
    "Merrow Lass",
)

FUNCTIONS: Mapping[str, Function] = {
    "today": Function(lambda ground: ground.now.date(), (0, 0), "the day, in UTC"),
    "now": Function(lambda ground: ground.now.replace(microsecond=0), (0, 0), "the moment, in UTC"),
    "date": Function(_date, (1, 1), "a text as date or date and time (RFC 3339)"),
    "days": Function(_span("days"), (1, 1), "a span to add to a date"),
    "hours": Function(_span("hours"), (1, 1), "a span to add to a date and time"),
    "minutes": Function(_span("minutes"), (1, 1), "a span to add to a date and time"),
    "format": Function(_format, (2, 2), "a date as text; YYYY MM DD hh mm ss stand for its parts"),
    "text": Function(_text, (1, 1), "a value as text"),
    "number": Function(lambda ground, text: Decimal(str(text).strip()), (1, 1), "a text as number"),
    "round": Function(_round, (1, 2), "a number with so many decimals"),
    "lower": Function(lambda ground, text: text.lower(), (1, 1), "a text in lower case"),
    "upper": Function(lambda ground, text: text.upper(), (1, 1), "a text in upper case"),
    "trim": Function(lambda ground, text: text.strip(), (1, 1), "a text without space around it"),
    "part": Function(_part, (3, 3), "so many characters of a text from a place, counted from 0"),
    "replace": Function(_replace, (3, 3), "a text with another put in"),
    "length": Function(
        lambda ground, value: Decimal(len(value)), (1, 1), "characters of a text, items of a list"
    ),
    "sum": Function(
        lambda ground, items: sum(map(_number, items), Decimal(0)), (1, 1), "the sum of a list of numbers"
    ),
    "least": Function(lambda ground, *values: min(values), (2, 20), "the smallest"),
    "most": Function(lambda ground, *values: max(values), (2, 20), "the largest"),
    "pick": Function(
        lambda ground, *values: ground.random.choice(values), (1, 50), "one of the values, by the seed"
    ),
    "between": Function(
        lambda ground, low, high: Decimal(ground.random.randint(int(low), int(high))),
        (2, 2),
        "a whole number, by the seed",
    ),
    "digits": Function(
        lambda ground, count: "".join(
            ground.random.choice("0123456789") for _ in range(min(int(count), 200))
        ),
        (1, 1),
        "so many digits, by the seed",
    ),
    "unique": Function(
        _unique,
        (1, 1),
        (
            "a different text for each run, case and row; # stands for a digit, ? for a "
            "lower-case and ^ for an upper-case letter"
        ),
    ),
    "known": Function(
        _known,
        (1, 1),
        "what is known under a name: [[contracts.NAME.known]], [[targets.NAME.known]], or what was learned",
    ),
    "name": Function(
        lambda ground: ground.random.choice(_NAMES), (0, 0), "a made-up vessel's name, by the seed"
    ),
}
