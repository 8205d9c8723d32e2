"""Values as literals in URLs, and back (URL conventions 4.0, section 4.3 and its ABNF; V2 URI conventions,
2.2.2).
"""

from __future__ import annotations

import base64
import binascii
import re
from datetime import UTC, datetime, timedelta, timezone
from typing import Any
from urllib.parse import quote

from juxtalogos.documents.jsontext import dump_json

_QUOTED = {
    "Edm.Guid": "guid",
    "Edm.DateTime": "datetime",
    "Edm.DateTimeOffset": "datetimeoffset",
    "Edm.Time": "time",
}
_SUFFIX = {"Edm.Int64": "L", "Edm.Decimal": "M", "Edm.Single": "f", "Edm.Double": "d"}
MOMENT = re.compile(r"/Date\((-?\d+)(?:([+-])(\d{1,4}))?\)/")
_PREFIXED = re.compile(r"(?:([A-Za-z_][\w.]*)?'((?:[^']|'')*)')", re.DOTALL)


def literal(kind: str, value: Any, *, v4: bool) -> str:
    """The literal of a value of a type; a value that is none of it becomes what it looks like."""
    if value is None:
        return "null"
    if isinstance(value, bool):
        return "true" if value else "false"
    if kind.startswith("Collection ") or isinstance(value, list | dict):
        return dump_json(value)
    text = value if isinstance(value, str) else dump_json(value)
    if kind in ("Edm.DateTime", "Edm.DateTimeOffset") and MOMENT.fullmatch(text):
        text = from_moment(text, offset=kind == "Edm.DateTimeOffset")
    if v4:
        return _literal_v4(kind, text, value)
    if kind in _QUOTED:
        return f"{_QUOTED[kind]}{quoted(text)}"
    if kind == "Edm.Binary":
        return f"X'{_hex(text)}'"
    if kind in _SUFFIX:
        return text if text[-1:].lower() == _SUFFIX[kind].lower() else text + _SUFFIX[kind]
    return (
        text if kind in ("Edm.Byte", "Edm.SByte", "Edm.Int16", "Edm.Int32", "Edm.Boolean") else quoted(text)
    )


def _literal_v4(kind: str, text: str, value: Any) -> str:
    if kind == "Edm.Duration":
        return f"duration{quoted(text)}"
    if kind == "Edm.Binary":
        return f"binary{quoted(text)}"
    if kind == "Edm.String":
        return quoted(text)
    if kind.startswith("Edm."):
        return text
    return f"{kind}{quoted(text)}"  # an enumeration: its type's name, and the member


def quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def in_path(text: str) -> str:
    """A literal percent-encoded for a segment: what RFC 3986 reserves too, but for what OData itself writes
    there.
    """
    return quote(text, safe="'!$()*;:@,", errors="replace")


def in_query(text: str) -> str:
    return quote(text, safe="'!$()*;:@,/", errors="replace")


def _hex(text: str) -> str:
    try:
        return base64.b64decode(text + "=" * (-len(text) % 4), altchars=b"-_").hex().upper()
    except (binascii.Error, ValueError):
        return text


def from_moment(text: str, *, offset: bool = False) -> str:
    """`/Date(ms)/` of V2 JSON as an ISO moment."""
    found = MOMENT.fullmatch(text)
    if found is None:
        return text
    zone = UTC
    if found[3]:
        minutes = int(found[3])
        zone = timezone(timedelta(minutes=minutes if found[2] == "+" else -minutes))
    try:
        moment = datetime.fromtimestamp(0, UTC) + timedelta(milliseconds=int(found[1]))
    except OverflowError:
        return text
    local = moment.astimezone(zone) if offset else moment
    text = local.replace(tzinfo=None).isoformat(timespec="milliseconds" if local.microsecond else "seconds")
    return text + (
        "Z"
        if offset and zone is UTC
        else local.strftime("%z")[:3] + ":" + local.strftime("%z")[3:]
        if offset
        else ""
    )


def value_of(text: str, kind: str = "") -> Any:
    """The plain value of a literal: numbers as numbers, what is in quotes as a text."""
    if text == "null":
        return None
    if text in ("true", "false"):
        return text == "true"
    found = _PREFIXED.fullmatch(text)
    if found:
        inner = found[2].replace("''", "'")
        if (found[1] or "").lower() in ("x", "binary") and found[1] != "binary":
            try:
                return base64.b64encode(bytes.fromhex(inner)).decode()
            except ValueError:
                return inner
        return inner
    number = re.fullmatch(r"([+-]?\d+)[lL]?", text)
    if number:
        return int(number[1]) if len(text) < 30 else text
    number = re.fullmatch(r"([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)[mMdDfF]?", text)
    return float(number[1]) if number else text


def split_arguments(text: str) -> list[tuple[str, str]] | None:
    """(name, literal) of what stands in parentheses: one bare literal has no name. None where it cannot be
    read.
    """
    parts, start, depth, inside = [], 0, 0, False
    for index, char in enumerate(text):
        if char == "'":
            inside = not inside
        elif inside:
            continue
        elif char in "([{":
            depth += 1
        elif char in ")]}":
            depth -= 1
        elif char == "," and depth == 0:
            parts.append(text[start:index])
            start = index + 1
    if inside or depth:
        return None
    parts += [text[start:]] if text else []
    found = []
    for part in parts:
        named = re.match(r"\s*([A-Za-z_][\w.]*)\s*=(.*)", part, re.DOTALL)
        found.append((named[1], named[2].strip()) if named else ("", part.strip()))
    return found
