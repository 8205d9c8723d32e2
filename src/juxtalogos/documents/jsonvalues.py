"""JSON values as JSON Schema compares them, and in words."""

from __future__ import annotations

from collections.abc import Hashable
from decimal import Decimal, InvalidOperation
from typing import Any

from juxtalogos.documents.jsontext import dump_json


def key_of(value: Any) -> Hashable:
    """A key under which JSON-equal values are equal: 1 and 1.0 are, 1 and true are not (2020-12 core, section
    4.2.2).
    """
    kind = type(value)
    if kind is dict:
        return ("o", frozenset((name, key_of(item)) for name, item in value.items()))
    if kind is list:
        return ("a", tuple(map(key_of, value)))
    if kind is bool:
        return ("b", value)
    return value  # type: ignore[no-any-return]


def equal(one: Any, other: Any) -> bool:
    return key_of(one) == key_of(other)


def type_of(value: Any) -> str:
    """The JSON type's name."""
    if value is None:
        return "null"
    if isinstance(value, bool):
        return "boolean"
    if isinstance(value, str):
        return "string"
    if isinstance(value, int):
        return "integer"
    if isinstance(value, float):
        return "number"
    return "array" if isinstance(value, list) else "object"


def is_of_type(value: Any, name: str) -> bool:
    """Whether a value is of a type as JSON Schema has it."""
    kind = type(value)
    match name:
        case "object":
            return kind is dict
        case "array":
            return kind is list
        case "string":
            return kind is str
        case "integer":
            return kind is int or (kind is float and value.is_integer())
        case "strict integer":
            return kind is int
        case "number":
            return kind is int or kind is float
        case "boolean":
            return kind is bool
    return value is None


def is_multiple(value: float, of: float) -> bool:
    """Exact for decimals as written: 0.3 is a multiple of 0.1."""
    if isinstance(value, int) and isinstance(of, int):
        return value % of == 0
    try:
        number, step = Decimal(repr(value)), Decimal(repr(of))
        if not number.is_finite():
            return False
        if number.adjusted() - step.adjusted() > 5000:
            return True  # beyond any precision a number on the wire has
        digits = max(0, number.adjusted() - step.adjusted()) + 60
        from decimal import Context

        return Context(prec=digits).remainder(number, step) == 0
    except (InvalidOperation, OverflowError):
        return False


def in_words(value: Any, limit: int = 60) -> str:
    """A value on one line, truncated: texts in quotes, as JSON."""
    text = (
        dump_json(value)
        if not isinstance(value, str) or len(value) < 4 * limit
        else dump_json(value[: 4 * limit])
    )
    return text if len(text) <= limit else text[: limit - 1] + "…"


def seen(value: Any) -> str:
    """What was observed: the value and its type."""
    kind = type_of(value)
    if kind == "object":
        return f"an object of {len(value)} properties" if len(value) != 1 else "an object of 1 property"
    if kind == "array":
        return f"an array of {len(value)} items" if len(value) != 1 else "an array of 1 item"
    if kind == "null":
        return "null"
    return f"{kind} {in_words(value)}"
