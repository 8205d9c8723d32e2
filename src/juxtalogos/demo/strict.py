"""The berths service takes only what its definition allows, as far as that uses OpenAPI."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from datetime import date, datetime
from functools import cache
from importlib import resources
from typing import Any
from urllib.parse import parse_qs

import yaml

XS, XSI = "{http://www.w3.org/2001/XMLSchema}", "{http://www.w3.org/2001/XMLSchema-instance}"
EDM = "{http://docs.oasis-open.org/odata/ns/edm}"


class Wrong(Exception):
    """What the definition does not allow; `status` is what HTTP has for it."""

    def __init__(self, what: str, status: int = 400) -> None:
        super().__init__(what)
        self.what, self.status = what, status


def is_day(text: Any) -> bool:
    try:
        return (
            isinstance(text, str)
            and bool(re.fullmatch(r"\d{4}-\d\d-\d\d", text))
            and bool(date.fromisoformat(text))
        )
    except ValueError:
        return False


def is_moment(text: Any, *, zone: bool = True) -> bool:
    if not isinstance(text, str) or not re.fullmatch(
        r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)" + ("" if zone else "?"), text
    ):
        return False
    try:
        return bool(datetime.fromisoformat(text.replace("Z", "+00:00")))
    except ValueError:
        return False


@cache
def berths() -> Any:
    return yaml.safe_load(resources.files("juxtalogos.demo").joinpath("berths.yaml").read_text("utf-8"))


def _at(node: Any) -> Any:
    while isinstance(node, dict) and "$ref" in node:
        place = berths()
        for step in node["$ref"].removeprefix("#/").split("/"):
            place = place[step]
        node = place
    return node


def check_call(method: str, path: str, query: Mapping[str, list[str]], headers: Any, body: bytes) -> None:
    """Wrong, where a call of the berths service is not as declared; paths and keys are
    the operations' own.
    """
    item = next(
        (
            item
            for template, item in berths()["paths"].items()
            if re.fullmatch(re.sub(r"\{\w+\}", "[^/]+", template), path)
        ),
        None,
    )
    operation = item.get(method.lower()) if item else None
    if item is None or operation is None:
        return
    for one in map(_at, [*item.get("parameters", ()), *operation.get("parameters", ())]):
        name, schema = one["name"], _at(one["schema"])
        texts = (
            query.get(name, [])
            if one["in"] == "query"
            else [headers[name]]
            if one["in"] == "header" and name in headers
            else []
        )
        if not texts and one.get("required") and one["in"] == "query":
            raise Wrong(f"{name} is missing")
        if schema.get("type") == "array":
            texts = [part for text in texts for part in text.split(",")]
            schema = _at(schema["items"])
        elif len(texts) > 1:
            raise Wrong(f"{name} stands more than once")
        for text in texts:
            check_json(_typed(text, schema), schema, name)
    if "requestBody" in operation:
        check_body(_at(operation["requestBody"]), headers, body)


def check_body(declared: Any, headers: Any, body: bytes) -> None:
    media = str(headers.get("Content-Type", "")).partition(";")[0].strip().lower()
    if not body:
        raise Wrong("there is no body")
    if media not in declared["content"]:
        raise Wrong(f"{media or 'no media type'} is not taken here")
    schema = _at(declared["content"][media]["schema"])
    if media == "application/json":
        try:
            check_json(json.loads(body), schema, "body")
        except (ValueError, RecursionError):
            raise Wrong("the body is no JSON") from None
    elif media == "application/x-www-form-urlencoded":
        fields = parse_qs(body.decode("utf-8", "replace"), keep_blank_values=True)
        if any(len(values) > 1 for values in fields.values()):
            raise Wrong("a field stands more than once")
        properties = schema.get("properties", {})
        check_json(
            {name: _typed(values[0], _at(properties.get(name, {}))) for name, values in fields.items()},
            schema,
            "body",
        )


def _typed(text: str, schema: Any) -> Any:
    kind = schema.get("type")
    if kind == "boolean" and text in ("true", "false"):
        return text == "true"
    if kind == "integer" and re.fullmatch(r"-?\d{1,15}", text):
        return int(text)
    if kind == "number" and re.fullmatch(r"-?\d{1,15}(\.\d{1,15})?([eE][+-]?\d{1,2})?", text):
        return float(text)
    return text


_TYPES: dict[str, Any] = {
    "object": dict,
    "array": list,
    "string": str,
    "boolean": bool,
    "integer": int,
    "number": (int, float),
}
_FORMATS: dict[str, Any] = {
    "date": is_day,
    "date-time": is_moment,
    "email": lambda text: bool(re.fullmatch(r"[^@\s]+@[^@\s]+\.[^@\s.]+", text)),
}


def check_json(value: Any, schema: Any, at: str) -> None:
    """The rules that berths.yaml uses."""
    schema = _at(schema)
    if value is None:
        if not schema.get("nullable"):
            raise Wrong(f"{at} must not be null")
        return
    for one in schema.get("allOf", ()):
        check_json(value, one, at)
    kind = schema.get("type")
    if isinstance(value, float) and kind == "integer" and value == int(value):
        value = int(value)
    if kind and (not isinstance(value, _TYPES[kind]) or (isinstance(value, bool) and kind != "boolean")):
        raise Wrong(f"{at} must be of type {kind}")
    if "enum" in schema and value not in schema["enum"]:
        raise Wrong(f"{at} must be one of {', '.join(map(str, schema['enum']))}")
    if isinstance(value, str):
        _check_text(value, schema, at)
    elif isinstance(value, int | float):
        if not schema.get("minimum", value) <= value <= schema.get("maximum", value):
            raise Wrong(f"{at} is out of its limits")
    elif isinstance(value, list):
        if not schema.get("minItems", 0) <= len(value) <= schema.get("maxItems", len(value)):
            raise Wrong(f"{at} has too few or too many items")
        for number, item in enumerate(value):
            check_json(item, schema.get("items", {}), f"{at}/{number}")
    elif isinstance(value, dict):
        _check_members(value, schema, at)


def _check_text(value: str, schema: Any, at: str) -> None:
    if not schema.get("minLength", 0) <= len(value) <= schema.get("maxLength", len(value)):
        raise Wrong(f"{at} is too short or too long")
    if "pattern" in schema and not re.search(schema["pattern"].replace("$", r"\Z"), value, re.ASCII):
        raise Wrong(f"{at} does not match {schema['pattern']}")
    if not _FORMATS.get(schema.get("format", ""), lambda text: True)(value):
        raise Wrong(f"{at} is no {schema['format']}")


def _check_members(value: Mapping[str, Any], schema: Any, at: str) -> None:
    for name in schema.get("required", ()):
        if name not in value:
            raise Wrong(f"{at}/{name} is missing")
    if len(value) < schema.get("minProperties", 0):
        raise Wrong(f"{at} has too few members")
    for name, item in value.items():
        if name in schema.get("properties", {}):
            check_json(item, schema["properties"][name], f"{at}/{name}")
