"""What all parts of the reader of schemas share: names followed to what they mean, faults, prefixes."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from typing import Any

from juxtalogos.documents.xmltext import local
from juxtalogos.model.errors import nearest, quoted
from juxtalogos.model.location import Location
from juxtalogos.schema.xml.tree.components import ANY_TYPE, ComplexType, Particle, Type, Wildcard
from juxtalogos.schema.xml.tree.simple_types import XSD, Where
from juxtalogos.schema.xml.tree.sources import WORDS, SchemaEntry, SchemaSource, Sources

S = f"{{{XSD}}}"
ALL = frozenset(("extension", "restriction", "substitution", "list", "union"))


class BaseReader:
    """The schemas read, and what the parts of the reader ask of each other."""

    def __init__(self, sources: Sources) -> None:
        self.sources = sources
        self.any_type = _any_type()
        self._prefixes: dict[str, str] = {}
        self.unknown = 0
        """How many names led nowhere in what is being made; whoever is made of them takes note and sets it
        back."""
        self.compiled: Any = None
        """What was compiled of these schemas, as long as they are kept."""

    def finish(self) -> None:
        """Fills all that was begun."""
        raise NotImplementedError

    def type(self, name: str) -> Type | None:
        """A global type, whole; None when there is none."""
        raise NotImplementedError

    def named_type(self, name: str) -> Type | None:
        """A global type, perhaps not filled yet; None when there is none."""
        raise NotImplementedError

    def new_type(self, name: str, node: ET.Element, above: SchemaEntry) -> Type:
        """A type begun; a complex one is filled later, since it may contain itself."""
        raise NotImplementedError

    def type_at(self, node: ET.Element, attribute: str, above: SchemaEntry) -> Type | None:
        """The type that an attribute names; None with a fault where there is none."""
        raise NotImplementedError

    @property
    def prefixes(self) -> dict[str, str]:
        """Namespace -> prefix: those that the documents use, made unique."""
        if not self._prefixes:
            self._prefixes.update(self.sources.prefixes())
        return self._prefixes

    def add_prefix(self, uri: str, prefix: str) -> None:
        """A prefix for a namespace that the schemas do not use, made unique."""
        if uri in self.prefixes:
            return
        taken = self.prefixes.values()
        chosen = next(
            one for one in (prefix, *(f"{prefix}{number}" for number in range(2, 10_000))) if one not in taken
        )
        self._prefixes.setdefault(uri, chosen)

    def entry(self, kind: str, name: str, above: SchemaEntry) -> SchemaEntry | None:
        """What a name means at a place: within a redefinition, its own name means the original."""
        found = self.sources.entries.get((kind, name))
        return found.original if found is above and above.original is not None else found

    def _unknown(self, kind: str, text: str, node: ET.Element, attribute: str, above: SchemaEntry) -> None:
        self.unknown += 1
        known = [local(name) for what, name in self.sources.entries if what == kind]
        wanted = text.rpartition(":")[2]
        near = (
            nearest(wanted, known)
            if wanted not in known
            else "its namespace, or that of the prefix, is another"
        )
        self.sources.fault(
            f"there is no {WORDS[kind]} {quoted(text)}",
            above.source.place(node, attribute),
            near or "declare it, or import the schema that has it",
        )

    def _referred(
        self, kind: str, node: ET.Element, attribute: str, above: SchemaEntry
    ) -> tuple[str, SchemaEntry] | None:
        text = node.get(attribute, "")
        name = above.source.name(text, node)
        entry = self.entry(kind, name, above) if name is not None else None
        if name is None or entry is None:
            self._unknown(kind, text, node, attribute, above)
            return None
        return name, entry


def described(node: ET.Element) -> str:
    """The documentation of a component."""
    texts = ["".join(child.itertext()) for child in node.iterfind(f"{S}annotation/{S}documentation")]
    return " ".join(" ".join(texts).split())[:1_000]


def where_of(source: SchemaSource, node: ET.Element) -> Where:
    return lambda: source.place(node)


def is_true(node: ET.Element, attribute: str) -> bool:
    return node.get(attribute, "").strip() in ("true", "1")


def words_of(node: ET.Element, attribute: str, source: SchemaSource, default: str) -> frozenset[str]:
    """The words of an attribute, its document's default without one."""
    text = node.get(attribute)
    words = (source.node.get(default, "") if text is None else text).split()
    return ALL if "#all" in words else frozenset(words)


def _any_type() -> ComplexType:
    def nowhere() -> Location:
        return Location("", "")

    anything = Wildcard(frozenset(), True, "lax", nowhere)
    made = ComplexType(ANY_TYPE, nowhere, None, mixed=True, any_attribute=anything)
    made.content = Particle(anything, 0, None, nowhere)
    return made
