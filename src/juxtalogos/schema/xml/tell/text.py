"""Elements as text, with the prefixes that a set of schemas goes by."""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from collections.abc import Mapping
from html import escape as escaped

from juxtalogos.documents.xmltext import NotXml
from juxtalogos.documents.xmltree import XML_NAMESPACE, read_tree

_PREFIX = re.compile(r"(?<![\w.:-])([A-Za-z_][\w.-]*):(?=[A-Za-z_])")
Prefixes = Mapping[str, str]
"""Namespace -> prefix."""


def scope_of(prefixes: Prefixes) -> dict[str, str]:
    """Prefix -> namespace, as values within a document see them."""
    return {prefix: uri for uri, prefix in prefixes.items()}


def prefixed(name: str, prefixes: Prefixes) -> str:
    """`{namespace}local` as it stands in a value."""
    uri, _, rest = name[1:].partition("}") if name.startswith("{") else ("", "", name)
    return f"{prefixes[uri]}:{rest}" if uri in prefixes else rest


def to_text(
    root: ET.Element, prefixes: Prefixes, *, indent: bool = True, extra: Prefixes | None = None
) -> str:
    """The text of an element, every prefix declared on it; indented where no text stands between elements."""
    known = {XML_NAMESPACE: "xml", **prefixes, **(extra or {})}
    used: dict[str, str] = {}
    mentioned: set[str] = set()
    for node in root.iter():
        for name in (node.tag, *node.attrib):
            if name.startswith("{"):
                uri = name[1:].partition("}")[0]
                used[uri] = known.get(uri) or f"n{len(used) + 1}"
        for text in (node.text, *node.attrib.values()):
            if text and ":" in text:
                mentioned.update(_PREFIX.findall(text))
    used |= {uri: prefix for uri, prefix in known.items() if prefix in mentioned}
    declared = {uri: prefix for uri, prefix in used.items() if uri != XML_NAMESPACE}
    head = "".join(f" xmlns:{prefix}={in_quotes(uri)}" for uri, prefix in declared.items())
    parts: list[str] = []
    _write(root, used, head, parts, "\n" if indent else "")
    return "".join(parts)


def _write(element: ET.Element, used: Mapping[str, str], head: str, parts: list[str], line: str) -> None:
    name = _name(element.tag, used)
    attributes = "".join(f" {_name(key, used)}={in_quotes(value)}" for key, value in element.items())
    start = f"<{name}{head}{attributes}"
    if not len(element):
        text = in_text(element.text).replace("\r", "&#13;")
        parts.append(f"{start}>{text}</{name}>" if text else f"{start}/>")
        return
    mixed = bool(element.text and element.text.strip()) or any(
        one.tail and one.tail.strip() for one in element
    )
    inner = "" if mixed or not line else line + "  "
    parts.append(f"{start}>" + (in_text(element.text) if not inner else ""))
    for child in element:
        parts.append(inner)
        _write(child, used, "", parts, inner)
        if not inner:
            parts.append(in_text(child.tail))
    parts.append((line if inner else "") + f"</{name}>")


def in_text(text: str | None) -> str:
    return escaped(text or "", quote=False)


def in_quotes(text: str) -> str:
    """A quoted value; what a parser would take for a blank is written out."""
    found = escaped(text)
    for char, written in (("\n", "&#10;"), ("\r", "&#13;"), ("\t", "&#9;")):
        found = found.replace(char, written)
    return f'"{found}"'


def _name(name: str, used: Mapping[str, str]) -> str:
    if not name.startswith("{"):
        return name
    uri, _, rest = name[1:].partition("}")
    return f"{used[uri]}:{rest}" if uri in used else rest


def laid_out(body: bytes) -> str:
    """An XML text with a line an element; empty where it is no XML, or has text between its elements."""
    try:
        tree = read_tree(body)
    except NotXml:
        return ""
    prefixes: dict[str, str] = {}
    taken: set[str] = set()
    for scope in tree.scopes.values():
        for prefix, uri in scope.items():
            if prefix and prefix not in taken and uri not in prefixes:
                prefixes[uri] = prefix
                taken.add(prefix)
    return to_text(tree.root, prefixes)
