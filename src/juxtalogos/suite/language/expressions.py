"""Runtime expressions (Arazzo 1.0.1, section 5.7): parsed once, evaluated against what a case knows."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

from juxtalogos.documents.jsontext import dump_json
from juxtalogos.model.exchange import Exchange, header
from juxtalogos.model.location import follow_pointer
from juxtalogos.model.schema import ABSENT

_ID = r"[A-Za-z0-9_\-]+"
_NAME = r"[A-Za-z0-9_.\-]+"
_POINTER = r"(?s:#((?:/.*)?))?"
"""A JSON Pointer: its tokens may hold any character (RFC 6901, section 3), of which texts around an
expression allow fewer."""
_FORMS = {
    "plain": re.compile(r"\$(url|method|statusCode)"),
    "message": re.compile(r"\$(request|response)\.(header|query|path)\.([!#$%&'*+.^_`|~0-9A-Za-z\-]+)"),
    "body": re.compile(rf"\$(request|response)\.body{_POINTER}"),
    "inputs": re.compile(rf"\$inputs\.({_NAME}){_POINTER}"),
    "outputs": re.compile(rf"\$outputs\.({_NAME}){_POINTER}"),
    "steps": re.compile(rf"\$steps\.({_ID})\.outputs\.({_NAME}){_POINTER}"),
    "workflows": re.compile(rf"\$workflows\.({_ID})\.(inputs|outputs)\.({_NAME}){_POINTER}"),
    "source": re.compile(rf"\$sourceDescriptions\.({_ID})\.(url|name|type)"),
    "components": re.compile(rf"\$components\.(inputs|parameters|successActions|failureActions)\.({_NAME})"),
}
_EMBEDDED = re.compile(r"\{(\$[^{}]+)\}")


class BadExpression(ValueError):
    """The text begins like an expression and is none."""


@dataclass(frozen=True, slots=True)
class Expression:
    text: str
    form: str
    parts: tuple[str, ...]


@dataclass(slots=True)
class Scope:
    """What a case knows while it runs."""

    inputs: Mapping[str, Any]
    steps: dict[str, dict[str, Any]] = field(default_factory=dict)
    outputs: Mapping[str, Any] = field(default_factory=dict)
    """Of the workflow that a step called, or of this one once it ended."""
    workflows: dict[str, dict[str, Mapping[str, Any]]] = field(default_factory=dict)
    """By id: what went in and came out of workflows that ended."""
    sources: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    components: Mapping[str, Any] = field(default_factory=dict)
    made: dict[str, Any] = field(default_factory=dict)
    """Of steps that are not safe: what their answers tell that they made, as `STEP/path`."""
    exchange: Exchange | None = None
    request_values: Mapping[str, Any] = field(default_factory=dict)
    request_body: Any = ABSENT
    response_value: Any = ABSENT


@lru_cache(maxsize=10_000)
def parse_expression(text: str) -> Expression:
    """BadExpression when the whole text is no expression."""
    for form, pattern in _FORMS.items():
        found = pattern.fullmatch(text)
        if found:
            return Expression(text, form, tuple(part or "" for part in found.groups()))
    raise BadExpression(f"{text!r} is no runtime expression")


def expressions_in(value: Any) -> Iterator[str]:
    """Every expression in a value: whole texts that begin with a known `$` word, and those embedded in
    braces.
    """
    if isinstance(value, dict):
        for item in value.values():
            yield from expressions_in(item)
    elif isinstance(value, list):
        for item in value:
            yield from expressions_in(item)
    elif isinstance(value, str):
        if looks_like_expression(value):
            yield value
        else:
            yield from (text for text in _EMBEDDED.findall(value) if looks_like_expression(text))


def looks_like_expression(text: str) -> bool:
    return bool(
        re.match(
            r"\$(url|method|statusCode|request\.|response\.|inputs\.|steps\.|outputs\.|workflows\.|sourceDescriptions\.|components\.)",
            text,
        )
    )


def evaluate(expression: Expression, scope: Scope) -> Any:
    """The value; ABSENT when there is none."""
    parts = expression.parts
    match expression.form:
        case "plain":
            return _plain(parts[0], scope)
        case "message":
            return _message(parts, scope)
        case "body":
            value = scope.request_body if parts[0] == "request" else scope.response_value
            try:
                return follow_pointer(value, parts[1]) if value is not ABSENT else ABSENT
            except (LookupError, ValueError):
                return ABSENT
        case "inputs":
            return _named(scope.inputs, *parts)
        case "outputs":
            return _named(scope.outputs, *parts)
        case "steps":
            return _named(scope.steps.get(parts[0], {}), *parts[1:])
        case "workflows":
            return _named(scope.workflows.get(parts[0], {}).get(parts[1], {}), *parts[2:])
        case "source":
            return scope.sources.get(parts[0], {}).get(parts[1], ABSENT)
    found = scope.components.get(parts[0])
    return found.get(parts[1], ABSENT) if isinstance(found, dict) else ABSENT


def _named(holder: Mapping[str, Any], name: str, pointer: str) -> Any:
    """A value by name, and by a pointer into it.

    A name may hold dots; where there is none of it, they lead into values.
    """
    value = holder.get(name, ABSENT)
    if value is ABSENT and "." in name:
        first, *rest = name.split(".")
        value = holder.get(first, ABSENT)
        for key in rest:
            value = value.get(key, ABSENT) if isinstance(value, dict) else ABSENT
    try:
        return follow_pointer(value, pointer) if pointer and value is not ABSENT else value
    except (LookupError, ValueError):
        return ABSENT


def _plain(word: str, scope: Scope) -> Any:
    exchange = scope.exchange
    if exchange is None:
        return ABSENT
    if word == "statusCode":
        return exchange.response.status if exchange.response else ABSENT
    return exchange.request.url if word == "url" else exchange.request.method


def _message(parts: tuple[str, ...], scope: Scope) -> Any:
    side, kind, name = parts
    if kind == "header":
        if scope.exchange is None:
            return ABSENT
        message = scope.exchange.request if side == "request" else scope.exchange.response
        found = header(message.headers, name) if message else None
        return ABSENT if found is None else found
    return scope.request_values.get(f"{kind}.{name}", ABSENT) if side == "request" else ABSENT


def fill(value: Any, scope: Scope, missing: list[str]) -> Any:
    """A value with its expressions evaluated; those without a value are added to `missing`."""
    if isinstance(value, dict):
        return {key: fill(item, scope, missing) for key, item in value.items()}
    if isinstance(value, list):
        return [fill(item, scope, missing) for item in value]
    if not isinstance(value, str) or "$" not in value:
        return value
    if looks_like_expression(value):
        return _value(value, scope, missing)

    def embedded(found: re.Match[str]) -> str:
        if not looks_like_expression(found.group(1)):
            return found.group(0)
        inner = _value(found.group(1), scope, missing)
        return inner if isinstance(inner, str) else dump_json(inner) if inner is not ABSENT else ""

    return _EMBEDDED.sub(embedded, value)


def _value(text: str, scope: Scope, missing: list[str]) -> Any:
    found = evaluate(parse_expression(text), scope)
    if found is ABSENT:
        missing.append(text)
    return found
