"""What of a rule's value classes a value can exercise: a list empty or not, null, a limit just reached, a
branch taken.

One table serves the elements, the interpreter and the compiled functions.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

from juxtalogos.model.elements import Element
from juxtalogos.schema.json.check.interpreter import Context
from juxtalogos.schema.json.tree.nodes import Node, Rule


@dataclass(frozen=True, slots=True)
class ValueClass:
    """`test` says whether a value is of the class; `expression` says it in source, for a variable `{v}` that
    is of the type `type` already.
    """

    kind: str
    name: str
    type: str
    expression: str
    test: Callable[[Any], bool]


def _is_number(value: Any) -> bool:
    return type(value) is int or type(value) is float


def _number_is(limit: Any, value: Any) -> bool:
    return _is_number(value) and bool(value == limit)


def _size_is(kind: type[list[Any]] | type[str], limit: int, value: Any) -> bool:
    return isinstance(value, kind) and len(value) == limit


EMPTY = ValueClass("array", "empty", "list", "not {v}", partial(_size_is, list, 0))
FILLED = ValueClass("array", "filled", "list", "{v}", lambda value: type(value) is list and bool(value))
NULL = ValueClass("null", "null", "", "{v} is None", lambda value: value is None)


def facets(rule: Rule) -> tuple[ValueClass, ...]:
    """The facets of a rule, none for most."""
    operand = rule.operand
    match rule.op:
        case "type":
            found = (EMPTY, FILLED) if "array" in operand else ()
            return (*found, NULL) if "null" in operand and len(operand) > 1 else found
        case "minimum" | "maximum":
            return (ValueClass("boundary", rule.op, "", "", partial(_number_is, operand)),)
        case "minLength" | "maxLength" if operand > 0:
            return (ValueClass("boundary", rule.op, "", "", partial(_size_is, str, operand)),)
        case "minItems" | "maxItems" if operand > 0:
            return (ValueClass("boundary", rule.op, "", "", partial(_size_is, list, operand)),)
    return ()


def facet_element(rule: Rule, facet: ValueClass, context: Context, label: str = "") -> Element:
    return Element(facet.kind, rule.location, facet.name, context.direction, label)


def branch_element(node: Node, context: Context, label: str = "") -> Element:
    return Element("branch", node.location, "", context.direction, label)
