"""XML text into elements with the prefixes in force, and the places of elements in the text.

A place within a document is an XPath of local names: `/definitions/types/schema[2]/element[@name='Job']`.
A step has its name where that is unique among its likes, else its number.
"""

from __future__ import annotations

import contextlib
import re
import xml.etree.ElementTree as ET
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any
from xml.parsers import expat

from juxtalogos.documents.charsets import NotInCharset, decode_text
from juxtalogos.documents.collector import collector_paused
from juxtalogos.documents.xmltext import MAX_DEPTH, MAX_NODES, MAX_PREFIXES, NotXml, local, parse_xml
from juxtalogos.model.location import Position

_CHUNK = 1 << 18
XML_NAMESPACE = "http://www.w3.org/XML/1998/namespace"
_STEP = re.compile(r"([^/\[\]@]+|@[^/\[\]]+)(?:\[(?:@name='([^']*)'|(\d+))\])?")


@dataclass(slots=True, eq=False)
class XmlTree:
    """A document's root and the namespaces declared on its elements, names as `{namespace}local`."""

    root: ET.Element
    scopes: Mapping[ET.Element, Mapping[str, str]]
    """Prefix -> namespace, whole, of each element that declares any; its descendants have the same."""
    _parents: dict[ET.Element, ET.Element] = field(default_factory=dict)
    _steps: dict[ET.Element, dict[ET.Element, str]] = field(default_factory=dict)

    def changed(self) -> None:
        """To be called when elements were put into the tree."""
        self._parents.clear()
        self._steps.clear()

    def parent(self, element: ET.Element) -> ET.Element | None:
        """The element that an element lies in; None for the root."""
        if not self._parents:
            self._parents.update((child, node) for node in self.root.iter() for child in node)
        return self._parents.get(element)

    def scope(self, element: ET.Element) -> Mapping[str, str]:
        """The prefixes in force at an element; of one that is not in the document those of its root."""
        at: ET.Element | None = element
        while at is not None:
            found = self.scopes.get(at)
            if found is not None:
                return found
            at = self.parent(at)
        return self.scopes.get(self.root, {})

    def path(self, element: ET.Element) -> str:
        """The place of an element, as `find` takes it."""
        steps: list[str] = []
        at = element
        while (above := self.parent(at)) is not None:
            if above not in self._steps:
                self._steps[above] = _steps(above)
            steps.append(self._steps[above][at])
            at = above
        return "".join(f"/{step}" for step in (local(at.tag), *reversed(steps)))

    def find(self, path: str) -> ET.Element | None:
        """The element at a place; None when there is none. A last step `@name` names an attribute of it."""
        at: ET.Element | None = None
        for name, wanted, number in _STEP.findall(path):
            if name.startswith("@"):
                break
            siblings = [self.root] if at is None else list(at)
            likes = [one for one in siblings if local(one.tag) == name]
            if wanted:
                likes = [like for like in likes if _called(like) == wanted]
            index = int(number) - 1 if number else 0
            if index >= len(likes):
                return None
            at = likes[index]
        return at


def _called(element: ET.Element) -> str | None:
    """What an element is called by its attribute: `name` in WSDL and XSD, `Name` in metadata of data
    services.
    """
    return element.get("name") or element.get("Name")


def _steps(above: ET.Element) -> dict[ET.Element, str]:
    """The step of each child."""
    counts: Counter[str] = Counter(local(ancestor.tag) for ancestor in above)
    named: Counter[tuple[str, str | None]] = Counter(
        (local(ancestor.tag), _called(ancestor)) for ancestor in above
    )
    numbers: Counter[str] = Counter()
    found = {}
    for one in above:
        name, called = local(one.tag), _called(one)
        numbers[name] += 1
        if counts[name] == 1:
            found[one] = name
        elif called and "'" not in called and named[name, called] == 1:
            found[one] = f"{name}[@name='{called}']"
        else:
            found[one] = f"{name}[{numbers[name]}]"
    return found


def read_tree(data: bytes) -> XmlTree:
    """NotXml says what is wrong. No document type is accepted; depth and count are bounded."""
    if b"<!DOCTYPE" in data.replace(b"\x00", b""):
        parse_xml(data)  # refuses it with its line, unless it only stands in a comment
    head = _ROOT.match(data)
    if head is not None and data.count(b"xmlns") == head[0].count(b"xmlns"):
        return _plain_tree(data, head[0])
    parser: Any = ET.XMLPullParser(events=("start", "end", "start-ns"))
    scopes: dict[ET.Element, Mapping[str, str]] = {}
    stack: list[Mapping[str, str]] = [{"xml": XML_NAMESPACE}]
    fresh: dict[str, str] = {}
    root: ET.Element | None = None
    count = prefixes = 0
    try:
        with collector_paused():
            for chunk in _chunks(parser, data):
                count += len(chunk)
                for event, what in chunk:
                    if event == "end":
                        stack.pop()
                    elif event == "start":
                        if fresh:
                            prefixes += len(stack[-1]) + len(fresh)
                            if prefixes > MAX_PREFIXES:
                                raise NotXml(
                                    "more declarations of namespaces than are followed", too_much=True
                                )
                            scopes[what] = {**stack[-1], **fresh}
                            stack.append(scopes[what])
                            fresh = {}
                        else:
                            stack.append(stack[-1])
                        root = what if root is None else root
                        if len(stack) > MAX_DEPTH + 1:
                            raise NotXml(f"nested deeper than {MAX_DEPTH} levels", too_much=True)
                    else:
                        fresh[what[0]] = what[1]
                if count > 2 * MAX_NODES:
                    raise NotXml(f"more than {MAX_NODES:,} elements", too_much=True)
    except ET.ParseError as error:
        line = error.position[0]
        raise NotXml(f"{expat.ErrorString(error.code)}, line {line}", line) from None
    except (ValueError, LookupError) as error:
        raise error if isinstance(error, NotXml) else NotXml(str(error)) from None
    if root is None:
        raise NotXml("no element found", 1)
    return XmlTree(root, scopes)


_ROOT = re.compile(
    rb"(?:\xef\xbb\xbf)?\s*(?:<\?xml[^>]*\?>\s*)?(?:<!--(?:(?!-->).)*-->\s*)*<[^<>!?]+>", re.DOTALL
)


def _plain_tree(data: bytes, head: bytes) -> XmlTree:
    """Of a document whose prefixes are all declared on its root: no more than the parser in C is needed."""
    if data.count(b"<") > 2 * MAX_NODES:
        raise NotXml(f"more than {MAX_NODES:,} elements", too_much=True)
    parser: Any = ET.XMLPullParser(events=("start-ns",))
    try:
        with collector_paused():
            parser.feed(head)
            scope = {"xml": XML_NAMESPACE, **dict(what for _, what in parser.read_events())}
            root = ET.fromstring(data)
            level, depth = [root], 0
            while level:
                level, depth = [child for one in level for child in one], depth + 1
                if depth > MAX_DEPTH:
                    raise NotXml(f"nested deeper than {MAX_DEPTH} levels", too_much=True)
    except ET.ParseError as error:
        line = error.position[0]
        raise NotXml(f"{expat.ErrorString(error.code)}, line {line}", line) from None
    except (ValueError, LookupError) as error:
        raise error if isinstance(error, NotXml) else NotXml(str(error)) from None
    return XmlTree(root, {root: scope})


def _chunks(parser: Any, data: bytes) -> Iterator[list[tuple[str, Any]]]:
    for start in range(0, len(data), _CHUNK):
        parser.feed(data[start : start + _CHUNK])
        yield list(parser.read_events())
    parser.close()
    yield list(parser.read_events())


def in_charset(data: bytes, charset: str) -> bytes:
    """A text in the encoding that its media type tells, which stands over the text's own word (RFC 7303,
    section 3), as UTF-8.
    """
    if (
        data[:2] in (b"\xff\xfe", b"\xfe\xff")
        or data[:3] == b"\xef\xbb\xbf"
        or charset.lower() in ("", "utf-8", "utf8")
    ):
        return data
    try:
        text = decode_text(data, charset)
    except NotInCharset:
        return data
    return re.sub(r"^\s*<\?xml[^>]*\?>", "", text).encode("utf-8", "replace")


def resolve_name(text: str, scope: Mapping[str, str], *, default: bool = True) -> str | None:
    """A prefixed name as `{namespace}local`; None where its prefix is not declared (Namespaces in XML 1.0,
    section 6).
    """
    prefix, colon, name = text.strip().rpartition(":")
    if not colon:
        uri = scope.get("", "") if default else ""
    elif prefix in scope:
        uri = scope[prefix]
    else:
        return None
    return f"{{{uri}}}{name}" if uri else name


class XmlFinder:
    """Line and column of the element at a path; one pass over the text notes where each element begins."""

    def __init__(self, data: bytes, tree: XmlTree) -> None:
        self.text = data.decode(_encoding(data), "replace")
        self.tree = tree
        self.places: dict[ET.Element, Position] = {}

    def find(self, pointer: str) -> Position:
        """Where the element at a path begins."""
        if not self.places:
            with collector_paused():
                self.places = dict(zip(self.tree.root.iter(), _starts(self.text)))
        at: ET.Element | None = None
        while pointer and at is None:
            at = self.tree.find(pointer)
            pointer = pointer.rpartition("/")[0]
        return self.places.get(at if at is not None else self.tree.root, Position(1, 1))


def _starts(text: str) -> Iterator[Position]:
    parser = expat.ParserCreate("utf-8")
    found: list[Position] = []
    parser.StartElementHandler = lambda *_: found.append(
        Position(parser.CurrentLineNumber, parser.CurrentColumnNumber + 1)
    )
    with contextlib.suppress(expat.ExpatError):
        parser.Parse(text.encode("utf-8", "replace"), True)
    yield from found


def _encoding(data: bytes) -> str:
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return "utf-16"
    named = re.match(rb"(?:\xef\xbb\xbf)?<\?xml[^>]*?encoding\s*=\s*[\"']([A-Za-z0-9._-]+)", data)
    name = named[1].decode("ascii") if named else "utf-8"
    try:
        "".encode(name)
    except LookupError:
        return "utf-8"
    return "utf-8-sig" if name.lower() in ("utf-8", "utf8") else name
