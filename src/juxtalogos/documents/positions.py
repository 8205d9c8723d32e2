"""Line and column of a JSON Pointer in a document's text, found when asked for and not before.

A text with very long lines (a minified definition) is shown formatted, and positions count in that form.
"""

from __future__ import annotations

import bisect
import json
import re
import weakref
from collections.abc import Iterator
from typing import Any, Protocol

from juxtalogos.documents.jsontext import decode_utf8, dump_json
from juxtalogos.documents.messagetext import MessageFinder
from juxtalogos.documents.xmltree import XmlFinder
from juxtalogos.model.document import Document
from juxtalogos.model.location import Location, Marks, Position, split_pointer

LONG_LINES = 1000
"""Characters a line, on average, from which a text is shown formatted."""


class _Finder(Protocol):
    text: str

    def find(self, pointer: str) -> Position: ...


_finders: weakref.WeakKeyDictionary[Document, _Finder] = weakref.WeakKeyDictionary()


def position(document: Document, pointer: str) -> Position:
    """Where the value at a pointer (in XML: the element at a path) begins; the nearest ancestor when the
    pointer leads nowhere.
    """
    return _finder(document).find(pointer)


_lines: weakref.WeakKeyDictionary[Document, list[str]] = weakref.WeakKeyDictionary()


def lines(document: Document) -> list[str]:
    """The lines that positions count in."""
    found = _lines.get(document)
    if found is None:
        found = _lines[document] = _finder(document).text.split("\n")
    return found


def describe(documents: dict[str, Document] | object, location: Location) -> str:
    """`file:line` of a location, with the column where the line is long; the bare document when it is not
    among those given.
    """
    document = documents.get(location.document) if hasattr(documents, "get") else None
    if document is None:
        return location.document
    found = position(document, location.pointer)
    column = f":{found.column}" if _is_long(_line_at(document, found)) else ""
    return f"{location.document}:{found.line}{column}"


def excerpt(document: Document, pointer: str) -> str:
    """What stands there, on one line: the whole line, of a long one what begins at the place, without what
    lies within.
    """
    found = position(document, pointer)
    line = _line_at(document, found)
    if not _is_long(line):
        return line.strip()
    text = line[found.column - 1 : found.column - 1 + LONG_LINE]
    if document.syntax == "xml":
        text = text.partition(">")[0] + ">" if ">" in text else text
    elif text[:1] in "{[":
        depth = 0
        for at, char in enumerate(text):
            depth += (char in "{[") - (char in "}]")
            if depth == 0:
                text = text[: at + 1]
                break
    return text if len(text) < LONG_LINE else text[: LONG_LINE - 1] + "…"


LONG_LINE = 240
"""Characters from which a line says too little of where something stands."""


def _line_at(document: Document, place: Position) -> str:
    found = lines(document)
    return found[place.line - 1] if place.line <= len(found) else ""


def _is_long(line: str) -> bool:
    return len(line) > LONG_LINE


def _finder(document: Document) -> _Finder:
    found = _finders.get(document)
    if found is None:
        if document.syntax == "xml":
            found = _finders[document] = XmlFinder(document.text, document.value)
            return found
        if document.syntax == "message":
            found = _finders[document] = MessageFinder(document.text)
            return found
        text = decode_utf8(document.text)
        if document.syntax == "json" and len(text) > LONG_LINES * (text.count("\n") + 1):
            text = dump_json(document.value, indent=2)
        marks = document.parsed.marks
        found = _MarkFinder(text, document.value, marks) if marks is not None else _JsonFinder(text)
        _finders[document] = found
    return found


class _MarkFinder:
    """Follows a pointer by counting the values that stand before it."""

    def __init__(self, text: str, value: Any, marks: Marks) -> None:
        self.text = text
        self.value = value
        self.marks = marks
        self.places: dict[int, tuple[int, int]] = {}
        """(number of the first, number behind the last) of the values of each container, by identity."""
        self.number(value, 0)

    def number(self, value: Any, at: int) -> int:
        """Numbers the values from `at` on; gives the next number. What is shared is numbered where it first
        stands.
        """
        if not isinstance(value, dict | list) or id(value) in self.places:
            return at + 1
        self.places[id(value)] = at, at
        following = at + 1
        for item in value.values() if isinstance(value, dict) else value:
            following = self.number(item, following)
        self.places[id(value)] = at, following
        return following

    def find(self, pointer: str) -> Position:
        value, at = self.value, 0
        for token in split_pointer(pointer):
            if not isinstance(value, dict | list):
                break
            at = self.places[id(value)][0]  # an alias: its text stands where it stood first
            found = self.step(value, token, at)
            if found is None:
                break
            value, at = found
        if at < len(self.marks.lines):
            return Position(self.marks.lines[at], self.marks.columns[at])
        return Position(1, 1)

    def step(self, value: Any, token: str, at: int) -> tuple[Any, int] | None:
        if isinstance(value, list):
            members = [(str(index), item) for index, item in enumerate(value)]
        else:
            members = list(value.items())
        at += 1
        for name, item in members:
            if name == token:
                return item, at
            first, following = (
                self.places.get(id(item), (-1, 0)) if isinstance(item, dict | list) else (-1, 0)
            )
            at = following if first == at else at + 1
        return None


_space = re.compile(r"[ \t\n\r]*").match
_skip = json.JSONDecoder().raw_decode


class _JsonFinder:
    """Follows a pointer by skipping over tokens; the members of each container met are remembered."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.starts: list[int] = []
        """Offsets at which lines begin, once more than a few places were asked for."""
        self.asked = 0
        self.members: dict[int, dict[str, tuple[int, int]]] = {}

    def find(self, pointer: str) -> Position:
        at = shown = self._behind_space(0)
        for token in split_pointer(pointer):
            member = self._members_of(at).get(token)
            if member is None:
                break
            shown, at = member
        return self._position(shown)

    def _position(self, offset: int) -> Position:
        self.asked += 1
        if self.asked < 5:
            return Position(self.text.count("\n", 0, offset) + 1, offset - self.text.rfind("\n", 0, offset))
        if not self.starts:
            self.starts = [0] + [match.end() for match in re.finditer("\n", self.text)]
        line = bisect.bisect_right(self.starts, offset) - 1
        return Position(line + 1, offset - self.starts[line] + 1)

    def _members_of(self, at: int) -> dict[str, tuple[int, int]]:
        """(offset to show, offset of the value) of each member of the container at an offset."""
        known = self.members.get(at)
        if known is None:
            known = self.members[at] = dict(self._scan(at)) if self.text[at : at + 1] in ("{", "[") else {}
        return known

    def _scan(self, at: int) -> Iterator[tuple[str, tuple[int, int]]]:
        """Skips each member's value with the decoder in C, which is twenty times faster than to look at its
        tokens.
        """
        text, is_object = self.text, self.text[at] == "{"
        at, count = self._behind_space(at + 1), 0
        while text[at : at + 1] not in ("}", "]", ""):
            key, shown = str(count), at
            if is_object:
                key, at = _skip(text, at)
                at = self._behind_space(self._behind_space(at) + 1)
            yield key, (shown, at)
            at = self._behind_space(_skip(text, at)[1])
            at, count = self._behind_space(at + 1) if text[at : at + 1] == "," else at, count + 1

    def _behind_space(self, at: int) -> int:
        found = _space(self.text, at)
        return found.end() if found else at
