"""Names for places in a definition that survive its reordering: list members by `$ref`, name or content,
never by index.
"""

from __future__ import annotations

import hashlib
import json
import re
import weakref
import xml.etree.ElementTree as ET
from typing import Any

from juxtalogos.documents.jsontext import dump_json
from juxtalogos.documents.xmltree import XmlTree
from juxtalogos.model.document import Document
from juxtalogos.model.location import escape_key, split_pointer

_NUMBERED = re.compile(r"/[^/\[]+\[\d+\]")
_NAMING = ("ref", "base", "type", "element", "message", "value", "part", "id", "Id")
"""Attributes that tell elements of one name apart which have no name of their own."""
_anchors: weakref.WeakKeyDictionary[Document, dict[str, str]] = weakref.WeakKeyDictionary()


def anchor(document: Document, pointer: str) -> str:
    """The pointer with each index in it replaced by what stands there; as it is where it has none, or leads
    nowhere.
    """
    known = _anchors.setdefault(document, {})
    found = known.get(pointer)
    if found is None:
        found = known[pointer] = (
            _xml(document.value, pointer) if document.syntax == "xml" else _json(document.value, pointer)
        )
    return found


def _json(value: Any, pointer: str) -> str:
    steps, names = value, []
    for token in split_pointer(pointer):
        if isinstance(steps, list) and token.isdigit() and int(token) < len(steps):
            steps = steps[int(token)]
            names.append(f"[{_told(steps)}]")
        else:
            steps = steps.get(token) if isinstance(steps, dict) else None
            names.append(escape_key(token))
    return "".join(f"/{name}" for name in names)


def _told(item: Any) -> str:
    """What a member of a list is called."""
    if isinstance(item, dict):
        if isinstance(item.get("$ref"), str):
            return str(item["$ref"])
        if isinstance(item.get("name"), str):
            return " ".join(str(item[key]) for key in ("in", "name") if key in item)
    if isinstance(item, str | int | float | bool) or item is None:
        return dump_json(item)
    return _digest(json.dumps(item, sort_keys=True, default=str))


def _xml(tree: XmlTree, pointer: str) -> str:
    found = pointer
    for match in reversed(list(_NUMBERED.finditer(pointer))):
        element = tree.find(pointer[: match.end()])
        if element is not None:
            step = match[0].partition("[")[0]
            found = f"{found[: match.start()]}{step}[{_called(element)}]{found[match.end() :]}"
    return found


def _called(element: ET.Element) -> str:
    for key in _NAMING:
        if element.get(key):
            return f"{key}={element.get(key)}"
    inner = element.find("*")
    # A model group has no name; what it holds tells it apart, its annotations and blanks do not.
    words = (
        sorted(f"{node.tag} {sorted(node.attrib.items())}" for node in element.iter())
        if inner is not None
        else []
    )
    return _digest("\n".join(words) or str(sorted(element.attrib.items())))


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode("utf-8", "backslashreplace")).hexdigest()[:12]
