"""The documents of a schema set: `include`, `import` and `redefine` followed, and every global component
found by name.

Nothing is fetched here: documents are given, and what is missing is a fault.
"""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

from juxtalogos.documents.uris import join_uri
from juxtalogos.documents.xmltext import local
from juxtalogos.documents.xmltree import XML_NAMESPACE, XmlTree, resolve_name
from juxtalogos.model.contract import DefinitionFault
from juxtalogos.model.location import Location
from juxtalogos.schema.xml.tree.simple_types import XSD

_DEFINING = "http://schemas.xmlsoap.org/wsdl/"
"""Namespaces that definitions are written in; no message has them."""
TreeOf = Callable[[str], XmlTree | None]
_S = f"{{{XSD}}}"
SCHEMA = f"{_S}schema"
GLOBALS = {
    "element": "element",
    "attribute": "attribute",
    "complexType": "type",
    "simpleType": "type",
    "group": "group",
    "attributeGroup": "attributeGroup",
    "notation": "notation",
}
"""Kind of a global component, by the local name of what declares it."""
WORDS = {
    "type": "type",
    "element": "element",
    "attribute": "attribute",
    "group": "group",
    "attributeGroup": "attribute group",
}


@dataclass(slots=True, eq=False)
class SchemaSource:
    """One `schema` element, with what it says for all that it holds."""

    uri: str
    tree: XmlTree
    node: ET.Element
    namespace: str
    """The target namespace; a chameleon has that of who includes it."""
    chameleon: bool

    def place(self, node: ET.Element, attribute: str = "") -> Location:
        return Location(self.uri, self.tree.path(node) + (f"/@{attribute}" if attribute else ""))

    def name(self, text: str, node: ET.Element) -> str | None:
        """A name in an attribute's value as `{namespace}local`; None when its prefix is not declared."""
        found = resolve_name(text, self.tree.scope(node))
        if found is not None and self.chameleon and found[0] != "{":
            return qualified(self.namespace, found)
        return found


@dataclass(frozen=True, slots=True, eq=False)
class SchemaEntry:
    """A global component as declared. `original` is what it redefines."""

    node: ET.Element
    source: SchemaSource
    original: SchemaEntry | None = None


def qualified(namespace: str, name: str) -> str:
    return f"{{{namespace}}}{name}" if namespace else name


@dataclass(eq=False)
class Sources:
    """All `schema` elements that were given or led to, and their global components by kind and name."""

    tree_of: TreeOf
    entries: dict[tuple[str, str], SchemaEntry] = field(default_factory=dict)
    faults: dict[DefinitionFault, None] = field(default_factory=dict)
    technical: frozenset[str] = frozenset()
    """Namespaces whose attributes serve the writing of values."""
    members: dict[str, list[tuple[str, SchemaEntry]]] = field(default_factory=dict)
    """Head of a substitution group -> (name, entry) of elements that name it."""
    _derived: dict[str, list[str]] | None = None
    _seen: dict[tuple[str, ET.Element, str], SchemaSource] = field(default_factory=dict)

    def add(self, uri: str, tree: XmlTree, nodes: Iterable[ET.Element]) -> None:
        """Adds the components of schema elements of a document."""
        waiting = [(uri, tree, node, "") for node in nodes]
        while waiting:
            waiting += self._read(*waiting.pop(0))

    def derived_from(self, base: str) -> list[str]:
        """The named types that are derived from another, at whatever remove, in the order
        of the documents.
        """
        if self._derived is None:
            self._derived = {}
            for (kind, name), entry in self.entries.items():
                of = _base_of(entry) if kind == "type" else None
                if of is not None:
                    self._derived.setdefault(of, []).append(name)
        found: dict[str, None] = {}
        waiting = [base]
        while waiting:
            fresh = [name for name in self._derived.get(waiting.pop(0), ()) if name not in found]
            found.update(dict.fromkeys(fresh))
            waiting += fresh
        return list(found)

    def prefixes(self) -> dict[str, str]:
        """Namespace -> prefix, as the documents have them; where two fight for one, the
        later gets a number.
        """
        found: dict[str, str] = {"http://www.w3.org/2001/XMLSchema-instance": "xsi", XSD: "xs"}
        taken = {"xsi", "xs", "xml"}
        for source in self._seen.values():
            for prefix, uri in (
                *source.tree.scope(source.node).items(),
                (initial(source.namespace), source.namespace),
            ):
                if uri and uri not in found and uri != XML_NAMESPACE and not uri.startswith(_DEFINING):
                    base, number = prefix or initial(uri), 1
                    chosen = base
                    while chosen in taken:
                        number += 1
                        chosen = f"{base}{number}"
                    found[uri] = chosen
                    taken.add(chosen)
        return found

    def uris(self) -> set[str]:
        """The documents that were given or led to."""
        return {source.uri for source in self._seen.values()}

    def speaks_of(self, namespace: str) -> bool:
        """Whether a prefix stands for a namespace in one of the schemas."""
        return any(namespace in source.tree.scope(source.node).values() for source in self._seen.values())

    def fault(self, what: str, place: Location, mend: str, severity: str = "fault") -> None:
        """Notes something wrong with a schema, once."""
        self.faults[DefinitionFault(what, place, mend, severity)] = None

    def _read(
        self, uri: str, tree: XmlTree, node: ET.Element, above: str
    ) -> list[tuple[str, XmlTree, ET.Element, str]]:
        declared = node.get("targetNamespace", "")
        namespace = declared or above
        key = (uri, node, namespace)
        if key in self._seen:
            return []
        source = self._seen[key] = SchemaSource(uri, tree, node, namespace, bool(above) and not declared)
        found = []
        for child in node:
            kind = child.tag.removeprefix(_S)
            if kind in ("include", "import"):
                found += self._led_to(source, child, namespace if kind == "include" else "")
            elif kind == "redefine":
                for one in self._led_to(source, child, namespace):
                    self.add_redefined(one)
                for part in child:
                    self._declare(source, part, redefines=True)
            else:
                self._declare(source, child)
        return found

    def add_redefined(self, one: tuple[str, XmlTree, ET.Element, str]) -> None:
        """What is redefined must be known before."""
        waiting = [one]
        while waiting:
            waiting += self._read(*waiting.pop(0))

    def _led_to(
        self, source: SchemaSource, node: ET.Element, above: str
    ) -> list[tuple[str, XmlTree, ET.Element, str]]:
        location = node.get("schemaLocation")
        kind = local(node.tag)
        if not location:
            if kind != "import":
                self.fault(
                    f"this {kind} has no schemaLocation",
                    source.place(node),
                    "name the document with schemaLocation",
                )
            return []
        uri = join_uri(source.uri, location.strip())
        tree = self.tree_of(uri)
        if tree is None:
            return []  # whoever loads the documents says so
        if tree.root.tag != SCHEMA:
            self.fault(
                f"schemaLocation leads to {uri}, which is no schema but <{local(tree.root.tag)}>",
                source.place(node, "schemaLocation"),
                "name an XML Schema document",
            )
            return []
        there = tree.root.get("targetNamespace", "")
        if kind == "import" and there != node.get("namespace", ""):
            self.fault(
                f"namespace {node.get('namespace', '')!r} is imported, but {uri} has {there!r}",
                source.place(node),
                "let both name the same namespace",
            )
        elif kind != "import" and there not in ("", source.namespace):
            self.fault(
                f"{uri} has the target namespace {there!r}, so it cannot be part of {source.namespace!r}",
                source.place(node),
                "import it instead",
            )
            return []
        return [(uri, tree, tree.root, above)]

    def _declare(self, source: SchemaSource, node: ET.Element, redefines: bool = False) -> None:
        kind = GLOBALS.get(node.tag.removeprefix(_S))
        if kind is None:
            if node.tag != f"{_S}annotation" and node.tag.startswith(_S):
                self.fault(
                    f"<{local(node.tag)}> cannot stand here",
                    source.place(node),
                    "see the structure of a schema",
                )
            return
        name = node.get("name")
        if not name:
            self.fault(f"this {local(node.tag)} has no name", source.place(node), "give it a name")
            return
        full = qualified(source.namespace, name.strip())
        before = self.entries.get((kind, full))
        if redefines and before is None:
            self.fault(f"{name} is redefined, but not declared there", source.place(node), "correct the name")
        elif before is not None and not redefines:
            if before.node is not node and ET.tostring(before.node) != ET.tostring(node):
                self.fault(
                    f"{WORDS.get(kind, kind)} {name} is declared twice",
                    source.place(node),
                    "remove one of them",
                )
            return
        entry = self.entries[kind, full] = SchemaEntry(node, source, before if redefines else None)
        head = node.get("substitutionGroup") if kind == "element" else None
        if head:
            of = source.name(head, node)
            if of is not None:
                self.members.setdefault(of, []).append((full, entry))


def schemas_in(tree: XmlTree) -> list[ET.Element]:
    """The outermost `schema` elements of a document: itself, or those inside a WSDL."""
    return [tree.root] if tree.root.tag == SCHEMA else list(tree.root.iter(SCHEMA))


def _base_of(entry: SchemaEntry) -> str | None:
    """The base that a named type names."""
    for node in entry.node:
        kind = local(node.tag)
        inner = (
            node if kind == "restriction" else next(iter(node), None) if kind.endswith("Content") else None
        )
        for one in (inner, *(node if kind.endswith("Content") else ())):
            text = one.get("base") if one is not None else None
            if text is not None and one is not None:
                return entry.source.name(text, one)
    return None


def initial(uri: str) -> str:
    """A prefix made of a namespace's last word."""
    words = [word for word in re.split(r"[^A-Za-z]+", uri) if word]
    return words[-1].lower()[:12] if words else "ns"
