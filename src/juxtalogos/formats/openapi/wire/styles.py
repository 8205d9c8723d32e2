"""Parameter styles (OpenAPI 3.0.3 and 3.1, parameter object and "style values"): a value to text and back."""

from __future__ import annotations

import re
from typing import Any
from urllib.parse import quote, unquote, unquote_plus

from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.model.contract import Contract, Input
from juxtalogos.model.schema import ABSENT, SchemaRef
from juxtalogos.schema.json.tell.profile import declared_kinds

RESERVED = ":/?#[]@!$&'()*+,;="
_JOINERS = {"spaceDelimited": "%20", "pipeDelimited": "%7C", "tabDelimited": "%09"}
_PLAIN_JOINERS = {"spaceDelimited": " ", "pipeDelimited": "|", "tabDelimited": "\t"}
_SPLITTERS = {"spaceDelimited": r"%20|\+| ", "pipeDelimited": r"%7[Cc]|\|", "tabDelimited": r"%09|\t"}
"""Tabs, and these styles outside the query, are OpenAPI 2.0's (collectionFormat)."""


def to_text(value: Any) -> str:
    """A primitive as text."""
    if value is True or value is False:
        return "true" if value else "false"
    if value is None:
        return ""
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    return (
        value
        if isinstance(value, str)
        else dump_json(value)
        if isinstance(value, dict | list)
        else str(value)
    )


def _escaper(given: Input) -> Any:
    if given.place == "header":
        return to_text
    safe = RESERVED if given.allow_reserved and given.place == "query" else ""
    return lambda value: quote(to_text(value), safe=safe, errors="replace")


def write(given: Input, value: Any) -> str:
    """The text of a parameter: for `query` and `cookie` with its name (`limit=5`), for the rest the value
    alone.
    """
    escape = _escaper(given)
    name = escape(given.name) if given.place != "header" else given.name
    if given.content:
        text = escape(value if isinstance(value, str) and "json" not in given.content else dump_json(value))
        return f"{name}={text}" if given.place in ("query", "cookie") else text
    if isinstance(value, list):
        return _write_list(given, name, [escape(item) for item in value])
    if isinstance(value, dict):
        return _write_object(given, name, {escape(key): escape(item) for key, item in value.items()})
    text = escape(value)
    match given.style:
        case "spaceDelimited" | "pipeDelimited" | "tabDelimited" if given.place in ("path", "header"):
            return str(text)
        case "form" | "spaceDelimited" | "pipeDelimited" | "tabDelimited" | "deepObject":
            return f"{name}={text}"
        case "label":
            return f".{text}"
        case "matrix":
            return f";{name}={text}" if text else f";{name}"
    return str(text)


def _write_list(given: Input, name: str, items: list[str]) -> str:
    if given.style in _JOINERS and given.place in ("path", "header"):
        return (_JOINERS if given.place == "path" else _PLAIN_JOINERS)[given.style].join(items)
    match given.style, given.explode:
        case ("label", explode):
            return "." + (".".join(items) if explode else ",".join(items))
        case ("matrix", True):
            return "".join(f";{name}={item}" for item in items)
        case ("matrix", False):
            return f";{name}={','.join(items)}"
        case ("simple", _):
            return ",".join(items)
        case (("spaceDelimited" | "pipeDelimited" | "tabDelimited") as style, False):
            return f"{name}={_JOINERS[style].join(items)}"
        case (_, True):
            return "&".join(f"{name}={item}" for item in items)
    return f"{name}={','.join(items)}"


def _write_object(given: Input, name: str, pairs: dict[str, str]) -> str:
    flat = ",".join(f"{key},{item}" for key, item in pairs.items())
    equal = [f"{key}={item}" for key, item in pairs.items()]
    match given.style, given.explode:
        case ("label", explode):
            return "." + (".".join(equal) if explode else flat)
        case ("matrix", explode):
            return "".join(f";{pair}" for pair in equal) if explode else f";{name}={flat}"
        case ("simple", explode):
            return ",".join(equal) if explode else flat
        case ("deepObject", _):
            return "&".join(f"{name}%5B{key}%5D={item}" for key, item in pairs.items())
        case (("spaceDelimited" | "pipeDelimited") as style, False):
            joiner = _JOINERS[style]
            return f"{name}={joiner.join(f'{key}{joiner}{item}' for key, item in pairs.items())}"
        case (_, True):
            return "&".join(equal)
    return f"{name}={flat}"


class ParameterReader:
    """Reads values back out of a request's texts.

    `kinds` are the declared types, `properties` those of an object's members.
    """

    def __init__(
        self,
        given: Input,
        kinds: tuple[str, ...],
        item_kinds: tuple[str, ...],
        properties: dict[str, tuple[str, ...]],
    ) -> None:
        self.given = given
        self.kinds = kinds
        self.item_kinds = item_kinds
        self.properties = properties

    def from_query(self, pairs: list[tuple[str, str]]) -> Any:
        """`pairs` are the raw names and values of the query; ABSENT when the parameter is not there."""
        given = self.given
        if "object" in self.kinds and not given.content:
            if given.style == "deepObject":
                pattern = re.compile(re.escape(given.name) + r"\[([^\]]*)\]")
                found = {
                    match.group(1): raw
                    for key, raw in pairs
                    if (match := pattern.fullmatch(unquote_plus(key)))
                }
                return self.typed(found) if found else ABSENT
            if given.explode:
                found = {unquote_plus(key): raw for key, raw in pairs if unquote_plus(key) in self.properties}
                return self.typed(found) if found else ABSENT
        values = [raw for key, raw in pairs if unquote_plus(key) == given.name]
        if not values:
            return ABSENT
        if "array" in self.kinds and given.explode and not given.content:
            return [coerce(unquote_plus(raw), self.item_kinds) for raw in values]
        splitter = _SPLITTERS.get(given.style, ",|%2[Cc]" if "," not in values[0] else ",")
        return self.plain(values[0], splitter, unquote_plus)

    def from_text(self, raw: str) -> Any:
        """A path segment, header or cookie value."""
        given = self.given
        decode = unquote if given.place == "path" else lambda text: text
        if given.style == "label":
            raw, splitter = raw[1:], r"\." if given.explode else ","
        elif given.style == "matrix":
            pairs = [part.partition("=")[::2] for part in raw.split(";")[1:]]
            if given.explode and "array" in self.kinds:
                return [coerce(unquote(value), self.item_kinds) for _, value in pairs]
            if given.explode and "object" in self.kinds:
                return self.typed(dict(pairs))
            raw, splitter = (pairs[0][1] if pairs else ""), ","
        else:
            splitter = _SPLITTERS.get(given.style, ",")
        return self.plain(raw, splitter, decode)

    def plain(self, raw: str, splitter: str, decode: Any) -> Any:
        """The value of a raw text, by its declared type."""
        if self.given.content:
            try:
                return parse_json(decode(raw))
            except NotJson:
                return decode(raw)
        if "array" in self.kinds:
            return (
                [
                    coerce(
                        decode(part).strip() if self.given.place == "header" else decode(part),
                        self.item_kinds,
                    )
                    for part in re.split(splitter, raw)
                ]
                if raw
                else []
            )
        if "object" in self.kinds:
            parts = re.split(splitter, raw)
            if self.given.explode:
                return self.typed(dict(part.partition("=")[::2] for part in parts))
            return self.typed(dict(zip(parts[::2], parts[1::2], strict=False)))
        return coerce(decode(raw), self.kinds)

    def typed(self, raw: dict[str, str]) -> dict[str, Any]:
        """The values of raw texts by property, by their declared types."""
        decode = unquote if self.given.place == "path" else unquote_plus
        return {
            decode(key): coerce(decode(text), self.properties.get(decode(key), ()))
            for key, text in raw.items()
        }


def coerce(text: str, kinds: tuple[str, ...]) -> Any:
    """A text as the first declared type that it can be; as it stands when it is none, so that a check shows
    it.
    """
    if "integer" in kinds or "number" in kinds:
        try:
            number = parse_json(text)
            if isinstance(number, int | float) and not isinstance(number, bool):
                return number
        except NotJson:
            pass
    if "boolean" in kinds and text in ("true", "false"):
        return text == "true"
    if "null" in kinds and "string" not in kinds and text in ("", "null"):
        return None
    if ("object" in kinds or "array" in kinds) and text[:1] in ("{", "["):
        try:
            return parse_json(text)
        except NotJson:
            pass
    return text


def kinds(
    contract: Contract, ref: SchemaRef | None
) -> tuple[tuple[str, ...], tuple[str, ...], dict[str, tuple[str, ...]]]:
    """(declared types, types of the items, types by property) of a schema."""
    schema: Any = contract.schema(ref) if ref else None
    return declared_kinds(schema) if ref else ((), (), {})


def parse_text(contract: Contract, ref: SchemaRef | None, pointer: str, text: str) -> Any:
    """A text as a person wrote it, read by the schema; a list may be written `a,b`."""
    if ref is None:
        return text
    schema: Any = contract.schema(ref)
    types, item_types, _ = declared_kinds(schema, pointer)
    value = coerce(text, types)
    if isinstance(value, str) and "array" in types and "string" not in types:
        return [coerce(part, item_types) for part in text.split(",")] if text else []
    if not types and text[:1] in ("{", "[", '"'):
        return coerce(text, ("object", "array"))
    return value
