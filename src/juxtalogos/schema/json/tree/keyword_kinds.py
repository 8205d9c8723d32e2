"""What kind of operand each keyword takes (JSON Schema 2020-12 validation; OpenAPI 2.0 and 3.0, schema
object).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Any


def is_number(value: Any) -> bool:
    """A number that JSON can write, of a size that it can compute with."""
    if type(value) is int:
        return value.bit_length() < 8_000
    return type(value) is float and math.isfinite(value)


def is_count(value: Any) -> bool:
    """A whole number of at least 0."""
    return is_number(value) and bool(value == int(value) and value >= 0)


def is_schema(value: Any) -> bool:
    return isinstance(value, dict | bool)


def _schemas(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and all(is_schema(member) for member in value)


def _several(
    *words: str, right: Callable[[Any], bool], kind: str
) -> dict[str, tuple[Callable[[Any], bool], str]]:
    return dict.fromkeys(words, (right, kind))


KINDS: Mapping[str, tuple[Callable[[Any], bool], str]] = {
    **_several(
        "minLength",
        "maxLength",
        "minItems",
        "maxItems",
        "minProperties",
        "maxProperties",
        right=is_count,
        kind="a whole number of at least 0",
    ),
    **_several("minimum", "maximum", right=is_number, kind="a number"),
    # A boolean up to OpenAPI 3.0, a number since.
    **_several(
        "exclusiveMinimum",
        "exclusiveMaximum",
        right=lambda value: type(value) is bool or is_number(value),
        kind="a number or a boolean",
    ),
    **_several("multipleOf", right=lambda value: is_number(value) and value > 0, kind="a number above 0"),
    **_several("uniqueItems", right=lambda value: type(value) is bool, kind="true or false"),
    **_several("pattern", "format", right=lambda value: type(value) is str, kind="a text"),
    **_several(
        "properties",
        "patternProperties",
        right=lambda value: type(value) is dict,
        kind="a mapping of names to schemas",
    ),
    **_several("allOf", "anyOf", "oneOf", right=_schemas, kind="a list of schemas, at least one"),
    **_several("additionalProperties", "not", right=is_schema, kind="a schema"),
    # Draft 4 and 2019-09 know a list of schemas.
    **_several("items", right=lambda value: is_schema(value) or isinstance(value, list), kind="a schema"),
}
"""Keyword -> (whether an operand is right, what it takes)."""


def wrong_kinds(schema: Mapping[str, Any]) -> list[str]:
    """The keywords of a schema whose operands are of the wrong kind."""
    return [word for word in KINDS.keys() & schema.keys() if not KINDS[word][0](schema[word])]
