"""Atom of V2 and V3: feeds, entries, properties, links and errors -> plain values, and an entity -> an entry
(V2 Atom format; RFC 4287).
"""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from collections.abc import Callable
from typing import Any

from juxtalogos.documents.jsontext import dump_json
from juxtalogos.documents.xmltext import NotXml, local, parse_xml
from juxtalogos.formats.odata.csdl import Model, Property, TypeUse
from juxtalogos.formats.odata.primitives import WHOLE
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Problem

ATOM = "http://www.w3.org/2005/Atom"
DATA = "http://schemas.microsoft.com/ado/2007/08/dataservices"
META = f"{DATA}/metadata"
RELATED = f"{DATA}/related/"
SCHEME = f"{DATA}/scheme"
MAX_DEPTH = 30


class AtomReader:
    """Reads one answer; what is put together otherwise than the format says is noted in `problems`."""

    def __init__(self, model: Model) -> None:
        self.model = model
        self.problems: list[Problem] = []

    def read(self, data: bytes, word: str, type_name: str, use: Callable[[], Property | None]) -> Any:
        """The value of a text by what is expected of it; ABSENT, with a problem, when it
        is something else.
        """
        try:
            root = parse_xml(data)
        except NotXml as error:
            self.problem("media.untrue", "body", "XML text", str(error))
            return ABSENT
        tag = local(root.tag)
        if word == "error":
            return self.error(root)
        if word in ("entities", "entity") or tag in ("feed", "entry"):
            wanted = "feed" if word == "entities" else "entry" if word == "entity" else tag
            if root.tag != f"{{{ATOM}}}{wanted}":
                self.problem("body.other", "body", f"the element {wanted} of Atom", f"the element {tag}")
                return ABSENT
            return (
                self.feed(root, type_name, 0) if wanted == "feed" else self.entry(root, type_name, "body", 0)
            )
        if word in ("ref", "refs"):
            links = [{"uri": (node.text or "").strip()} for node in root.iter() if local(node.tag) == "uri"]
            return {"results": links} if word == "refs" else links[0] if links else {}
        one = use()
        if one is None:
            return ABSENT
        if one.type.collection:
            return {
                "results": [
                    self.value(each, TypeUse(one.type.name), 0)
                    for each in root
                    if local(each.tag) == "element"
                ]
            }
        return (
            {one.name: self.value(root, one.type, 0)}
            if tag == one.name
            else {tag: self.value(root, one.type, 0)}
        )

    def problem(self, kind: str, at: str, declared: str, observed: str) -> None:
        self.problems.append(Problem(kind, at, declared, observed))

    def error(self, root: ET.Element) -> Any:
        """An error document (V2 Atom format, errors)."""
        if local(root.tag) != "error":
            self.problem("body.other", "body", "the element error", f"the element {local(root.tag)}")
            return ABSENT
        parts = {local(one.tag): (one.text or "").strip() for one in root}
        found: dict[str, Any] = {key: parts[key] for key in ("code",) if key in parts}
        return {
            "error": {**found, **({"message": {"value": parts["message"]}} if "message" in parts else {})}
        }

    def feed(self, root: ET.Element, type_name: str, depth: int) -> dict[str, Any]:
        """A list of entries."""
        self.must_have(root, "feed", "body")
        entries = [one for one in root if one.tag == f"{{{ATOM}}}entry"]
        found: dict[str, Any] = {
            "results": [
                self.entry(one, type_name, f"body/results/{index}", depth)
                for index, one in enumerate(entries)
            ]
        }
        for one in root:
            if one.tag == f"{{{META}}}count":
                found["__count"] = (one.text or "").strip()
            elif one.tag == f"{{{ATOM}}}link" and one.get("rel") == "next":
                found["__next"] = one.get("href", "")
        return found

    def must_have(self, node: ET.Element, kind: str, at: str) -> None:
        """RFC 4287, sections 4.1.1 and 4.1.2."""
        present = {local(child.tag) for child in node if child.tag.startswith(f"{{{ATOM}}}")}
        for name in ("id", "title", "updated"):
            if name not in present:
                self.problem("control.untrue", at, f"{kind} with atom:{name} (RFC 4287, 4.1)", "missing")

    def entry(self, node: ET.Element, type_name: str, at: str, depth: int) -> dict[str, Any]:
        """One entity."""
        if depth > MAX_DEPTH:
            return {}
        self.must_have(node, "entry", at)
        meta: dict[str, Any] = {}
        for one in node:
            tag = one.tag
            if tag == f"{{{ATOM}}}id":
                meta["uri"] = (one.text or "").strip()
            elif tag == f"{{{ATOM}}}category" and one.get("scheme") == SCHEME:
                meta["type"] = one.get("term", "")
        etag = node.get(f"{{{META}}}etag")
        if etag is not None:
            meta["etag"] = etag
        actual = meta["type"] if self.model.structured(meta.get("type", "")) else type_name
        found: dict[str, Any] = {"__metadata": meta}
        content = node.find(f"{{{ATOM}}}content")
        properties = node.find(f"{{{META}}}properties")
        if properties is None and content is not None:
            properties = content.find(f"{{{META}}}properties")
        if properties is not None:
            found.update(self.members(properties, actual, depth))
        for one in node.iterfind(f"{{{ATOM}}}link"):
            relation = one.get("rel", "")
            if relation.startswith(RELATED):
                found[relation[len(RELATED) :]] = self.link(one, actual, relation[len(RELATED) :], at, depth)
        return found

    def link(self, node: ET.Element, type_name: str, name: str, at: str, depth: int) -> Any:
        """What a navigation property's link holds inline; else where it leads."""
        inline = node.find(f"{{{META}}}inline")
        if inline is None:
            return {"__deferred": {"uri": node.get("href", "")}}
        way = next((one for one in self.model.navigation(type_name) if one.name == name), None)
        target = way.target if way else ""
        feed, entry = inline.find(f"{{{ATOM}}}feed"), inline.find(f"{{{ATOM}}}entry")
        if feed is not None:
            return self.feed(feed, target, depth + 1)
        return self.entry(entry, target, f"{at}/{name}", depth + 1) if entry is not None else None

    def members(self, node: ET.Element, type_name: str, depth: int) -> dict[str, Any]:
        """The properties of an entity or complex value."""
        declared = {prop.name: prop for prop in self.model.properties(type_name)}
        found: dict[str, Any] = {}
        for child in node:
            name = local(child.tag)
            known = declared.get(name)
            use = known.type if known else TypeUse(child.get(f"{{{META}}}type", "Edm.String"))
            found[name] = self.value(child, use, depth + 1)
        return found

    def value(self, node: ET.Element, use: TypeUse, depth: int) -> Any:
        """The value of a property's element."""
        if (node.get(f"{{{META}}}null") or "").strip() in ("true", "1") or depth > MAX_DEPTH:
            return None
        if use.collection:
            inner = TypeUse(use.name)
            return {
                "results": [
                    self.value(child, inner, depth + 1) for child in node if local(child.tag) == "element"
                ]
            }
        if self.model.structured(use.name) is not None:
            return self.members(node, use.name, depth)
        return typed(node.text or "", self.model.underlying(use))


def typed(text: str, kind: str) -> Any:
    """The value of a text by its type; the text itself where it is none of it."""
    stripped = text.strip()
    if kind in WHOLE and re.fullmatch(r"[+-]?\d{1,25}", stripped, re.ASCII):
        return int(stripped)
    if kind == "Edm.Boolean" and stripped in ("true", "false", "1", "0"):
        return stripped in ("true", "1")
    if kind in ("Edm.Decimal", "Edm.Double", "Edm.Single") and re.fullmatch(
        r"[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?", stripped, re.ASCII
    ):
        return float(stripped) if not re.fullmatch(r"[+-]?\d{1,25}", stripped) else int(stripped)
    return text if kind == "Edm.String" else stripped


# Writing.

for _prefix, _space in (("d", DATA), ("m", META), ("", ATOM)):
    ET.register_namespace(_prefix or "atom", _space)


def entry_text(model: Model, type_name: str, value: Any) -> str:
    """An entity as an Atom entry; null as `m:null`."""
    entry = ET.Element(f"{{{ATOM}}}entry")
    meta = value.get("__metadata") if isinstance(value, dict) else None
    named = meta.get("type") if isinstance(meta, dict) else None
    told: str = named if isinstance(named, str) else type_name
    ET.SubElement(entry, f"{{{ATOM}}}category", {"term": told, "scheme": SCHEME})
    ET.SubElement(entry, f"{{{ATOM}}}title")
    author = ET.SubElement(entry, f"{{{ATOM}}}author")
    ET.SubElement(author, f"{{{ATOM}}}name")
    content = ET.SubElement(entry, f"{{{ATOM}}}content", {"type": "application/xml"})
    properties = ET.SubElement(content, f"{{{META}}}properties")
    ways = {one.name: one for one in model.navigation(told)}
    declared = {prop.name: prop for prop in model.properties(told)}
    for name, item in value.items() if isinstance(value, dict) else ():
        if name.startswith("__"):
            continue
        if name in ways:
            _inline(model, entry, ways[name].target, name, item)
        else:
            _write(
                model, properties, name, item, declared[name].type.name if name in declared else "Edm.String"
            )
    return ET.tostring(entry, encoding="unicode", xml_declaration=False)


def _inline(model: Model, entry: ET.Element, target: str, name: str, item: Any) -> None:
    link = ET.SubElement(entry, f"{{{ATOM}}}link", {"rel": RELATED + name, "title": name, "href": name})
    inline = ET.SubElement(link, f"{{{META}}}inline")
    many = isinstance(item, list)
    link.set("type", f"application/atom+xml;type={'feed' if many else 'entry'}")
    holder = ET.SubElement(inline, f"{{{ATOM}}}feed") if many else inline
    for one in item if many else [item]:
        holder.append(ET.fromstring(entry_text(model, target, one)))


def _write(model: Model, parent: ET.Element, name: str, item: Any, kind: str) -> None:
    node = ET.SubElement(parent, f"{{{DATA}}}{name}")
    if kind != "Edm.String":
        node.set(f"{{{META}}}type", kind)
    if item is None:
        node.set(f"{{{META}}}null", "true")
    elif isinstance(item, dict):
        declared = {prop.name: prop for prop in model.properties(kind)}
        for key, inner in item.items():
            if not key.startswith("__"):
                _write(model, node, key, inner, declared[key].type.name if key in declared else "Edm.String")
    else:
        node.text = item if isinstance(item, str) else dump_json(item)
