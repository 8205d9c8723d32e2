"""Values of annotations in CSDL XML (CSDL 4.0, section 14): constants, paths, collections and records."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from typing import Any

from juxtalogos.documents.xmltext import local
from juxtalogos.formats.odata.definition.documents import Names

MAX_DEPTH = 20
_PATHS = ("Path", "PropertyPath", "NavigationPropertyPath", "AnnotationPath", "ModelElementPath")


def value_of(node: ET.Element, names: Names, depth: int = 0) -> Any:
    """The value that an annotation or a property of a record has; true where none is written, the default of
    most terms.
    """
    for name, text in node.attrib.items():
        if name in _READERS:
            return _READERS[name](text.strip())
        if name in _PATHS:
            return text.strip()
    for child in node:
        if local(child.tag) != "Annotation":
            return _expression(child, names, depth)
    return True


def _expression(node: ET.Element, names: Names, depth: int) -> Any:
    kind, text = local(node.tag), (node.text or "").strip()
    if depth > MAX_DEPTH:
        return None
    if kind == "Collection":
        return [_expression(child, names, depth + 1) for child in node]
    if kind == "Record":
        return {
            child.get("Property", ""): value_of(child, names, depth + 1)
            for child in node
            if local(child.tag) == "PropertyValue"
        }
    if kind in _PATHS:
        return text
    return _READERS[kind](text) if kind in _READERS else None


def _true(text: str) -> bool:
    return text.lower() in ("true", "1")


def _number(text: str) -> int | float | None:
    try:
        return float(text) if "." in text or "e" in text.lower() else int(text[:40])
    except ValueError:
        return None


def _last(text: str) -> str:
    """`Some.Enum/Member` as the member's name; several of them stay one text."""
    return " ".join(one.rpartition("/")[2] for one in text.split())


_READERS: dict[str, Any] = {
    "String": str,
    "Bool": _true,
    "Int": _number,
    "Decimal": _number,
    "Float": _number,
    "EnumMember": _last,
    "Date": str,
    "DateTimeOffset": str,
    "Duration": str,
    "Guid": str,
    "TimeOfDay": str,
}
