"""What the parts of a written check must be, told before anything is sent."""

from __future__ import annotations

import re
from typing import Any

from juxtalogos.schema.patterns import PatternError, compile_pattern
from juxtalogos.suite.language.expressions import BadExpression, parse_expression
from juxtalogos.suite.language.selectors import BadSelector, check_xpath, json_path, prefixes_in

_TYPES = ("object", "array", "string", "number", "integer", "boolean", "null")


class BadCheck(ValueError):
    """A written check that cannot be used; `key` is where."""

    def __init__(self, what: str, key: str = "", mend: str = "") -> None:
        super().__init__(what)
        self.key = key
        self.mend = mend


def is_address(text: str) -> bool:
    return bool(
        re.fullmatch(
            r"status|time|text|url|body|body/.*|header\.[!#$%&'*+.^_`|~0-9A-Za-z\-]+", text, re.DOTALL
        )
    )


def check_place(how: str, where: str) -> None:
    """BadCheck when a place in an exchange is none."""
    try:
        if how == "jsonpath":
            json_path(where)
        elif how == "xpath":
            check_xpath(where, namespaces=prefixes_in(where))
        elif where.startswith("$"):
            parse_expression(where)
        elif not is_address(where):
            mend = (
                "write status, time, text, url, header.NAME, body, body/path, or an expression such as"
                " $response.body#/name"
            )
            raise BadCheck(f"{where!r} is no place in an exchange", how, mend)
    except (BadSelector, BadExpression) as error:
        raise BadCheck(str(error), how) from None


def check_operand(test: str, operand: Any) -> None:
    """BadCheck when a test cannot be made with its operand."""
    match test:
        case "among" if not isinstance(operand, list) or not operand:
            raise BadCheck("`among` is a list of values", test)
        case "matches":
            try:
                compile_pattern(operand)
            except (PatternError, TypeError) as error:
                raise BadCheck(
                    f"{operand!r} is no regular expression: {error}", test, "correct the pattern"
                ) from None
        case "exists" if not isinstance(operand, bool):
            raise BadCheck("`exists` is true or false", test)
        case "type" if not _are_types(operand):
            raise BadCheck("`type` is a type of JSON or a list of them", test, ", ".join(_TYPES))
        case "within" if not isinstance(operand, list) or len(operand) != 2:
            raise BadCheck("`within` is a list of two limits", test, "write within: [1, 12]")
        case "mentions" | "omits" if not _are_texts(operand):
            raise BadCheck(f"`{test}` is a text or a list of texts", test)
        case "count" if not _is_count(operand):
            raise BadCheck("`count` is a number, or a mapping with atLeast and atMost", test)
        case "ordered" if not _is_order(operand):
            raise BadCheck(
                "`ordered` is ascending or descending",
                test,
                "or a mapping: {by: /name, direction: ascending}",
            )
        case "near" if isinstance(operand, bool) or not isinstance(operand, int | float | str):
            raise BadCheck("`near` is a number", test)


def _are_types(operand: Any) -> bool:
    names = operand if isinstance(operand, list) else [operand]
    return bool(names) and all(name in _TYPES for name in names)


def _are_texts(operand: Any) -> bool:
    texts = operand if isinstance(operand, list) else [operand]
    return bool(texts) and all(isinstance(text, str) and text for text in texts)


def _is_count(operand: Any) -> bool:
    if isinstance(operand, dict):
        return (
            bool(operand)
            and operand.keys() <= {"atLeast", "atMost"}
            and all(_is_count(one) for one in operand.values())
        )
    return isinstance(operand, int) and not isinstance(operand, bool) and operand >= 0


def _is_order(operand: Any) -> bool:
    if isinstance(operand, dict):
        by = operand.get("by", "")
        return (
            operand.keys() <= {"by", "direction"}
            and isinstance(by, str)
            and (not by or by.startswith("/"))
            and operand.get("direction", "ascending") in ("ascending", "descending")
        )
    return operand in ("ascending", "descending")
