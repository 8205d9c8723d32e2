"""XML bodies by the `xml` objects of their schemas (OpenAPI, XML object): a value to XML and back."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from typing import Any

from juxtalogos.documents.xmltext import local, namespace
from juxtalogos.formats.openapi.wire.styles import coerce, to_text
from juxtalogos.schema.json.tell.profile import View
from juxtalogos.schema.xml.tell.text import in_quotes, in_text

_NIL = "{http://www.w3.org/2001/XMLSchema-instance}nil"
MAX_DEPTH = 200


def root_name(view: View, fallback: str) -> str:
    return view.xml.name or fallback


def to_xml(view: View, value: Any, name: str) -> str:
    """The document of a value; `name` is what the root is called where its schema does not say."""
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        + "".join(_element(view, root_name(view, name), value, 0))
        + "\n"
    )


def _element(view: View, name: str, value: Any, depth: int) -> list[str]:
    """Lines of one element; a list is the elements of its items, within one of its own where that is
    declared.
    """
    pad = "  " * depth
    if isinstance(value, list):
        item = view.of(view.items) if view.items is not None else None
        inner = (item.xml.name if item else "") or name
        lines = [line for member in value for line in _one(item, inner, member, depth + view.xml.wrapped)]
        return [f"{pad}<{name}>\n", *lines, f"{pad}</{name}>\n"] if view.xml.wrapped or depth == 0 else lines
    return _one(view, name, value, depth)


def _one(view: View | None, name: str, value: Any, depth: int) -> list[str]:
    pad, note = "  " * depth, view.xml if view else None
    tag = f"{note.prefix}:{name}" if note and note.prefix else name
    declared = ""
    if note and note.namespace:
        declared = f" xmlns{':' + note.prefix if note.prefix else ''}={in_quotes(note.namespace)}"
    if value is None:
        return [
            f'{pad}<{tag}{declared} xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:nil="true"/>\n'
        ]
    if not isinstance(value, dict):
        return [f"{pad}<{tag}{declared}>{in_text(to_text(value))}</{tag}>\n"]
    attributes, lines = "", []
    for key, item in value.items():
        child = view.of(view.properties[key]) if view and key in view.properties else None
        if child and child.xml.attribute and not isinstance(item, dict | list):
            attributes += f" {child.xml.name or key}={in_quotes(to_text(item))}"
            continue
        wrapped_or_one = not isinstance(item, list) or (child is not None and child.xml.wrapped)
        called = (child.xml.name if child and wrapped_or_one else "") or key
        lines += _element(child, called, item, depth + 1) if child else _one(None, called, item, depth + 1)
    if not lines:
        return [f"{pad}<{tag}{declared}{attributes}/>\n"]
    return [f"{pad}<{tag}{declared}{attributes}>\n", *lines, f"{pad}</{tag}>\n"]


def from_xml(view: View, element: ET.Element, depth: int = 0) -> Any:
    """The value of an element: members by name, texts as their declared types. What is not declared keeps its
    own name.
    """
    if depth > MAX_DEPTH:
        raise ValueError("nested too deep to follow")
    if element.get(_NIL) in ("true", "1"):
        return None
    if "array" in view.kinds and view.items is not None and not ("object" in view.kinds and view.properties):
        return [from_xml(view.of(view.items), child, depth + 1) for child in element]
    if view.properties or "object" in view.kinds:
        return _members(view, element, depth)
    if len(element):
        return {local(child.tag): from_xml(view, child, depth + 1) for child in element}
    return coerce(_text(element), view.kinds)


def _text(element: ET.Element) -> str:
    return element.text or ""


def _members(view: View, element: ET.Element, depth: int) -> dict[str, Any]:
    value: dict[str, Any] = {}
    attributes, elements = _names(view)
    for name, text in element.attrib.items():
        if name == _NIL:
            continue
        found = attributes.get(local(name))
        value[found[0] if found else local(name)] = coerce(text, found[1].kinds) if found else text
    for child in element:
        key, below = elements.get(local(child.tag), (local(child.tag), None))
        if below is not None and below.xml.namespace and below.xml.namespace != namespace(child.tag):
            key, below = local(child.tag), None
        if below is None:
            value[key] = from_xml(View.anything(view.context), child, depth + 1)
        elif "array" in below.kinds and below.items is not None and not below.xml.wrapped:
            value.setdefault(key, []).append(from_xml(below.of(below.items), child, depth + 1))
        else:
            value[key] = from_xml(below, child, depth + 1)
    return value


def _names(view: View) -> tuple[dict[str, tuple[str, View]], dict[str, tuple[str, View]]]:
    """Members by the names of their attributes, and of their elements."""
    attributes: dict[str, tuple[str, View]] = {}
    elements: dict[str, tuple[str, View]] = {}
    for key, node in view.properties.items():
        below = view.of(node)
        if below.xml.attribute:
            attributes[below.xml.name or key] = key, below
            continue
        name = below.xml.name or key
        if "array" in below.kinds and not below.xml.wrapped:
            # The name of a list without a wrapper has no effect; that of its items has.
            name = (below.of(below.items).xml.name if below.items is not None else "") or key
        elements[name] = key, below
    return attributes, elements
