"""`simple` conditions (Arazzo 1.0.1, criterion object): literals, comparisons, logic, access into values."""

from __future__ import annotations

import operator
import re
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from juxtalogos.documents.jsontext import dump_json
from juxtalogos.documents.jsonvalues import equal
from juxtalogos.model.schema import ABSENT
from juxtalogos.suite.language.expressions import BadExpression, Expression, Scope, evaluate, parse_expression
from juxtalogos.suite.language.numbers import number_in
from juxtalogos.suite.language.tokens import Tokens

MAX_DEPTH = 60

_TOKEN = re.compile(
    r"\s*(?:(?P<text>'(?:[^']|'')*')|(?P<number>-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?)|(?P<word>true|false|null)\b"
    r"|(?P<expression>\$[^\s()<>=!&|\[\]]+)|(?P<op><=|>=|==|!=|&&|\|\||[<>!()]|\[\d+\]|\.[A-Za-z_][\w-]*))"
)
_COMPARE: dict[str, Callable[[Any, Any], bool]] = {
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}


class BadCondition(ValueError):
    """The text is no condition; `at` counts characters from 0."""

    def __init__(self, what: str, at: int) -> None:
        super().__init__(what)
        self.at = at


@dataclass(frozen=True, slots=True)
class Condition:
    """`op` is `value`, `read`, `access`, `not`, `and`, `or` or a comparison."""

    op: str
    operands: tuple[Any, ...]


@lru_cache(maxsize=10_000)
def parse_condition(text: str) -> Condition:
    """BadCondition when the text is none."""
    parser = _Parser(text, _TOKEN, BadCondition)
    found = parser.either(0)
    parser.ended()
    return found


class _Parser(Tokens):
    def either(self, depth: int) -> Condition:
        if depth > MAX_DEPTH:
            raise BadCondition("nested too deep", self.start)
        parts = [self.both(depth)]
        while self.take("||"):
            parts.append(self.both(depth))
        return Condition("or", tuple(parts)) if len(parts) > 1 else parts[0]

    def both(self, depth: int) -> Condition:
        parts = [self.comparison(depth)]
        while self.take("&&"):
            parts.append(self.comparison(depth))
        return Condition("and", tuple(parts)) if len(parts) > 1 else parts[0]

    def comparison(self, depth: int) -> Condition:
        left = self.operand(depth)
        word = self.take("<", "<=", ">", ">=", "==", "!=")
        return Condition(word, (left, self.operand(depth))) if word else left

    def operand(self, depth: int) -> Condition:
        if self.take("!"):
            return Condition(
                "not", (self.operand(depth + 1) if depth < MAX_DEPTH else self.either(depth + 1),)
            )
        if self.take("("):
            inner = self.either(depth + 1)
            if not self.take(")"):
                raise BadCondition("a ')' is missing", self.start)
            return inner
        kind, token, start = self.kind, self.token, self.start
        if kind == "text":
            self.advance()
            return Condition("value", (token[1:-1].replace("''", "'"),))
        if kind == "number":
            self.advance()
            return Condition("value", (float(token) if any(char in token for char in ".eE") else int(token),))
        if kind == "word":
            self.advance()
            return Condition("value", ({"true": True, "false": False, "null": None}[token],))
        if kind != "expression":
            raise BadCondition("a value or an expression is missing", start)
        try:
            found = Condition("read", (parse_expression(token),))
        except BadExpression as error:
            raise BadCondition(str(error), start) from None
        self.advance()
        count = 0
        while self.kind == "op" and self.token[0] in "[.":
            count += 1
            if count > MAX_DEPTH:
                raise BadCondition("nested too deep", self.start)
            key: int | str = int(self.token[1:-1]) if self.token[0] == "[" else self.token[1:]
            found = Condition("access", (found, key))
            self.advance()
        return found


def reads(condition: Condition) -> list[Expression]:
    """The expressions a condition reads."""
    found = []
    for operand in condition.operands:
        if isinstance(operand, Condition):
            found += reads(operand)
        elif isinstance(operand, Expression):
            found.append(operand)
    return found


def holds(condition: Condition, scope: Scope) -> bool:
    return _truth(_evaluate(condition, scope))


def _evaluate(condition: Condition, scope: Scope) -> Any:
    operands = condition.operands
    match condition.op:
        case "value":
            return operands[0]
        case "read":
            return evaluate(operands[0], scope)
        case "access":
            return _access(_evaluate(operands[0], scope), operands[1])
        case "not":
            return not _truth(_evaluate(operands[0], scope))
        case "and":
            return all(_truth(_evaluate(operand, scope)) for operand in operands)
        case "or":
            return any(_truth(_evaluate(operand, scope)) for operand in operands)
    left, right = _alike(_evaluate(operands[0], scope), _evaluate(operands[1], scope))
    if condition.op in ("==", "!="):
        # What is absent equals nothing, nor does it equal another absence: a misspelled name must not pass.
        same = left is not ABSENT and right is not ABSENT and equal(left, right)
        return same == (condition.op == "==")
    if isinstance(left, bool | Absent) or isinstance(right, bool | Absent):
        return False
    both = (isinstance(left, int | float) and isinstance(right, int | float)) or (
        isinstance(left, str) and isinstance(right, str)
    )
    return both and _COMPARE[condition.op](left, right)


Absent = type(ABSENT)


def _truth(value: Any) -> bool:
    return value is not ABSENT and value is not None and value is not False and value != "" and value != 0


def _access(value: Any, key: int | str) -> Any:
    if isinstance(key, int):
        return value[key] if isinstance(value, list) and key < len(value) else ABSENT
    return value.get(key, ABSENT) if isinstance(value, dict) else ABSENT


def _alike(left: Any, right: Any) -> tuple[Any, Any]:
    """Texts compare without regard to case; a text beside a number counts as the number it writes (headers
    are texts).
    """
    if isinstance(left, str) and isinstance(right, str):
        return left.casefold(), right.casefold()
    for text, number, swap in ((left, right, False), (right, left, True)):
        if isinstance(text, str) and isinstance(number, int | float) and not isinstance(number, bool):
            value = number_in(text)
            if value is not None:
                return (number, value) if swap else (value, number)
    return left, right


@lru_cache(maxsize=2_000)
def _read_once(condition: Condition) -> tuple[Expression, ...]:
    return tuple(dict.fromkeys(reads(condition)))


def in_words(condition: Condition, scope: Scope) -> str:
    """What was observed: the values of the expressions in a condition."""
    shown = []
    for expression in _read_once(condition):
        value = evaluate(expression, scope)
        text = "absent" if value is ABSENT else str(value) if type(value) is int else dump_json(value)
        shown.append(f"{expression.text} is {text[:80]}")
    return ", ".join(shown)
