"""XML text into elements, within bounds: no document type, so no entities of its own; depth and count are
limited.
"""

from __future__ import annotations

import xml.etree.ElementTree as ET
from typing import Any, NoReturn
from xml.parsers import expat

MAX_DEPTH = 400
MAX_NODES = 1_000_000
MAX_PREFIXES = 2_000_000
"""Prefixes in force, added up over the elements that declare some."""


class NotXml(ValueError):
    """The text is not XML that can be used; the line counts from 1."""

    def __init__(self, what: str, line: int = 0, *, too_much: bool = False) -> None:
        super().__init__(what)
        self.line = line
        self.too_much = too_much
        """Whether it may well be XML, but more than is followed."""


def parse_xml(data: bytes) -> ET.Element:
    """The root element, names as `{namespace}local`; NotXml says what is wrong."""
    return _TreeBuilder(data).root()


class _TreeBuilder:
    def __init__(self, data: bytes) -> None:
        self.data = data
        self.builder = ET.TreeBuilder()
        self.depth = self.count = 0
        self.names: dict[str, str] = {}
        self.parser = expat.ParserCreate(None, "}")
        self.parser.buffer_text = True
        self.parser.StartElementHandler = self.start
        self.parser.EndElementHandler = self.end
        self.parser.CharacterDataHandler = self.builder.data
        self.parser.StartDoctypeDeclHandler = self.doctype

    def root(self) -> ET.Element:
        try:
            self.parser.Parse(self.data, True)
        except expat.ExpatError as error:
            raise NotXml(f"{expat.ErrorString(error.code)}, line {error.lineno}", error.lineno) from None
        except (ValueError, LookupError) as error:
            raise error if isinstance(error, NotXml) else NotXml(str(error)) from None
        return self.builder.close()

    def name(self, name: str) -> str:
        found = self.names.get(name)
        if found is None:
            found = self.names[name] = "{" + name if "}" in name else name
        return found

    def start(self, name: str, attributes: dict[str, str]) -> None:
        self.depth += 1
        self.count += 1
        if self.depth > MAX_DEPTH:
            self.refuse(f"nested deeper than {MAX_DEPTH} levels", too_much=True)
        if self.count > MAX_NODES:
            self.refuse(f"more than {MAX_NODES:,} elements", too_much=True)
        self.builder.start(self.name(name), {self.name(key): value for key, value in attributes.items()})

    def end(self, name: str) -> None:
        self.depth -= 1
        self.builder.end(self.name(name))

    def doctype(self, *_: Any) -> None:
        self.refuse("a document type (DOCTYPE) is not accepted")

    def refuse(self, what: str, *, too_much: bool = False) -> NoReturn:
        raise NotXml(what, self.parser.CurrentLineNumber, too_much=too_much)


def local(tag: str) -> str:
    return tag.rpartition("}")[2]


def namespace(tag: str) -> str:
    return tag[1:].partition("}")[0] if tag.startswith("{") else ""
