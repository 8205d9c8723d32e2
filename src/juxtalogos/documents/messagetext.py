"""HTTP/1.1 request messages (RFC 9112) as documents: their parts as a value, and the line on which each
stands.
"""

from __future__ import annotations

import re
from typing import Any

from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.model.location import Position, split_pointer

_REQUEST_LINE = re.compile(rb"[!#$%&'*+.^_`|~0-9A-Za-z-]{1,40} \S+ HTTP/1\.[01]\r?(?:\n|$)")
_TOKEN = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+")


class NotMessage(Exception):
    """Says on which line a text is no message."""

    def __init__(self, words: str, line: int) -> None:
        super().__init__(words)
        self.line = line


def is_message(data: bytes) -> bool:
    """Whether a text begins with a request line (RFC 9112, section 3)."""
    return _REQUEST_LINE.match(data[:70_000]) is not None


def read_message(data: bytes) -> dict[str, Any]:
    """A message's `method`, `target`, `fields` (pairs) and, where it has one, `body`; NotMessage names the
    line.

    The body is the value of JSON, the text of what else is UTF-8; bytes where it is neither.
    """
    head, body = split_message(data)
    lines = re.split(r"\r?\n", head.decode("utf-8", "replace"))
    words = lines[0].split(" ")
    if len(words) != 3 or not words[2].startswith("HTTP/"):
        raise NotMessage(f"no request line: {lines[0][:60]!r}", 1)
    fields = []
    for number, line in enumerate(lines[1:], 2):
        name, colon, value = line.partition(":")
        if not colon or not _TOKEN.fullmatch(name):
            raise NotMessage(f"no header field: {line[:60]!r}", number)
        fields.append([name, value.strip()])
    found: dict[str, Any] = {"method": words[0], "target": words[1], "fields": fields}
    if body:
        kind = next((value for name, value in fields if name.lower() == "content-type"), "")
        found["body"] = _body(body, kind.partition(";")[0].strip().lower())
    return found


def _body(body: bytes, kind: str) -> Any:
    try:
        if kind.endswith(("/json", "+json")):
            return parse_json(body)
        return body.decode("utf-8")
    except (NotJson, UnicodeDecodeError):
        return body


def split_message(data: bytes) -> tuple[bytes, bytes]:
    """(start line and fields, body): the first empty line parts them, with either kind of line end."""
    found = re.search(rb"\r?\n\r?\n", data)
    return (data[: found.start()], data[found.end() :]) if found else (data.rstrip(b"\r\n"), b"")


class MessageFinder:
    """The line of a part: of the request line, a field, or where the body begins."""

    def __init__(self, data: bytes) -> None:
        self.text = data.decode("utf-8", "replace")
        self._body = split_message(data)[0].count(b"\n") + 3

    def find(self, pointer: str) -> Position:
        """Where the part begins that a pointer leads into."""
        part, *within = split_pointer(pointer) or ["method"]
        if part == "fields" and within and within[0].isdigit():
            return Position(int(within[0]) + 2, 1)
        return Position(self._body if part == "body" else 2 if part == "fields" else 1, 1)
