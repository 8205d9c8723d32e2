"""Line and column of a JSON Pointer in a document's text, found when asked for and not before.

A text with very long lines (a minified definition) is shown formatted, and positions count in that form.
"""

from __future__ import annotations

import bisect
import re
import weakref
from typing import Protocol

import yaml

from juxtalogos.documents.jsontext import decode_utf8, dump_json
from juxtalogos.documents.yamltext import NotYaml, compose_yaml
from juxtalogos.model.contract import Document
from juxtalogos.model.location import Location, Position, split_pointer

LONG_LINE = 1000


class _Finder(Protocol):
    text: str

    def find(self, tokens: list[str]) -> Position: ...


_finders: weakref.WeakKeyDictionary[Document, _Finder] = weakref.WeakKeyDictionary()


def position(document: Document, pointer: str) -> Position:
    """Where the value at a pointer begins; the nearest ancestor when the pointer leads nowhere."""
    return _finder(document).find(split_pointer(pointer))


def lines(document: Document) -> list[str]:
    """The lines that positions count in."""
    return _finder(document).text.split("\n")


def describe(documents: dict[str, Document] | object, location: Location) -> str:
    """`file:line` of a location, or the bare document when it is not among those given."""
    document = documents.get(location.document) if hasattr(documents, "get") else None
    if document is None:
        return location.document
    return f"{location.document}:{position(document, location.pointer).line}"


def _finder(document: Document) -> _Finder:
    found = _finders.get(document)
    if found is None:
        text = decode_utf8(document.text)
        if max(map(len, text.split("\n")), default=0) > LONG_LINE and document.syntax == "json":
            text = dump_json(document.value, indent=2)
        found = _JsonFinder(text) if document.syntax == "json" else _YamlFinder(text)
        _finders[document] = found
    return found


class _YamlFinder:
    def __init__(self, text: str) -> None:
        self.text = text
        try:
            self.root = compose_yaml(text)
        except NotYaml:
            self.root = None

    def find(self, tokens: list[str]) -> Position:
        node = self.root
        mark = node.start_mark if node else None
        for token in tokens:
            child: yaml.Node | None = None
            if isinstance(node, yaml.MappingNode):
                for key, item in node.value:
                    if key.value == token:
                        child, mark = item, key.start_mark
                        break
            elif isinstance(node, yaml.SequenceNode) and token.isdigit() and int(token) < len(node.value):
                child = node.value[int(token)]
                mark = child.start_mark
            if child is None:
                break
            node = child
        return Position(mark.line + 1, mark.column + 1) if mark else Position(1, 1)


_TOKEN = re.compile(r'"(?:[^"\\]|\\.)*"|[{}\[\],:]|[^\s{}\[\],:"]+')


class _JsonFinder:
    """Follows a pointer by skipping over tokens; the members of each container met are remembered."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.starts = [0] + [match.end() for match in re.finditer("\n", text)]
        self.members: dict[int, dict[str, tuple[int, int]]] = {}

    def find(self, tokens: list[str]) -> Position:
        first = _TOKEN.search(self.text)
        at = shown = first.start() if first else 0
        for token in tokens:
            member = self._members_of(at).get(token)
            if member is None:
                break
            shown, at = member
        line = bisect.bisect_right(self.starts, shown) - 1
        return Position(line + 1, shown - self.starts[line] + 1)

    def _members_of(self, at: int) -> dict[str, tuple[int, int]]:
        """(offset to show, offset of the value) of each member of the container at an offset."""
        known = self.members.get(at)
        if known is None:
            known = self.members[at] = dict(self._scan(at)) if self.text[at : at + 1] in ("{", "[") else {}
        return known

    def _scan(self, at: int) -> list[tuple[str, tuple[int, int]]]:
        import json

        is_object = self.text[at] == "{"
        found: list[tuple[str, tuple[int, int]]] = []
        depth, key, key_at, expecting = 0, "", 0, "key" if is_object else "value"
        for match in _TOKEN.finditer(self.text, at):
            text = match.group()
            if depth == 1 and text not in "}],:":
                if expecting == "key":
                    key, key_at, expecting = json.loads(text), match.start(), "colon"
                elif expecting == "value":
                    name = key if is_object else str(len(found))
                    found.append((name, (key_at if is_object else match.start(), match.start())))
                    expecting = "comma"
            if text in ("{", "["):
                depth += 1
            elif text in ("}", "]"):
                depth -= 1
                if depth == 0:
                    break
            elif depth == 1 and text == ":":
                expecting = "value"
            elif depth == 1 and text == ",":
                expecting = "key" if is_object else "value"
        return found
