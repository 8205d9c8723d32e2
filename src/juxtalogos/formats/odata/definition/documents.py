"""The documents of one service's metadata: loaded as references lead to them, names resolved, faults
gathered.
"""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from juxtalogos.documents.uris import join_uri
from juxtalogos.documents.xmltext import local
from juxtalogos.documents.xmltree import XmlTree
from juxtalogos.model.contract import DefinitionFault
from juxtalogos.model.document import Document
from juxtalogos.model.errors import DocumentError, quoted
from juxtalogos.model.format import Fetch
from juxtalogos.model.location import Location

MAX_DOCUMENTS = 500
_VOCABULARY = re.compile(
    r"^(?:Org\.OData\.)?(Core|Capabilities|Validation|Measures|Authorization)(?:\.V\d+)?\.(\w+)$"
)
_KNOWN = re.compile(r"Org\.OData\.\w+\.V\d+")


class Names:
    """The namespaces and aliases that hold in one document (CSDL 4.0, sections 3.4 and 5.1)."""

    def __init__(self) -> None:
        self.aliases: dict[str, str] = {}

    def qualified(self, text: str) -> str:
        """A name with its namespace instead of an alias."""
        prefix, dot, name = text.rpartition(".")
        return f"{self.aliases[prefix]}.{name}" if dot and prefix in self.aliases else text

    def qualified_path(self, text: str) -> str:
        """A target such as `Alias.Vessel/Name` with its namespace."""
        first, slash, rest = text.partition("/")
        return self.qualified(first) + slash + rest

    def term(self, text: str) -> str:
        """An annotation's term; of the standard vocabularies `Core.Computed`, whatever their alias here."""
        full = self.qualified(text)
        found = _VOCABULARY.match(full)
        return f"{found[1]}.{found[2]}" if found else full


@dataclass(slots=True)
class Apart:
    """What stands apart from what it is about, maybe in another document: gathered from all before anything
    is read.
    """

    annotations: dict[str, dict[str, Any]] = field(default_factory=dict)
    """By target."""
    ends: dict[tuple[str, str], tuple[str, str]] = field(default_factory=dict)
    """V2: (association, role) -> (type, multiplicity)."""
    constraints: dict[str, tuple[str, tuple[tuple[str, str], ...]]] = field(default_factory=dict)
    """V2: association -> (dependent role, pairs of dependent and principal property)."""


class Documents:
    """Documents by URI, the root first, and the faults met while reading them."""

    def __init__(self, root: str, fetch: Fetch | None) -> None:
        self.root = root
        self.by_uri: dict[str, Document] = {}
        self._faults: dict[DefinitionFault, None] = {}
        self._fetch = fetch
        self.apart = Apart()

    def load_all(self) -> None:
        """Loads the root and what it refers to; the standard vocabularies are known, and are not fetched."""
        assert self._fetch is not None
        waiting: list[tuple[str, Location | None]] = [(self.root, None)]
        while waiting:
            uri, place = waiting.pop(0)
            if uri in self.by_uri:
                continue
            if len(self.by_uri) >= MAX_DOCUMENTS:
                raise DocumentError(
                    f"more than {MAX_DOCUMENTS} documents",
                    where=self.root,
                    mend="import its parts one by one, from a file that refers to fewer",
                )
            try:
                document = self._fetch(uri)
            except DocumentError as error:
                if place is None:
                    raise
                what = f"reference to {quoted(uri)}: {error.what}; what it declares is not checkable"
                self.fault(what, place, error.mend or "correct the reference or add the file", "warning")
                continue
            self.by_uri[uri] = document
            for target, namespaces, at in references(document):
                if target and not (namespaces and all(map(_KNOWN.fullmatch, namespaces))):
                    waiting.append((join_uri(uri, target), at))

    def fault(self, what: str, place: Location, mend: str, severity: str = "fault") -> None:
        """Notes something wrong with the metadata, once."""
        self._faults[DefinitionFault(what, place, mend, severity)] = None

    @property
    def faults(self) -> tuple[DefinitionFault, ...]:
        return tuple(self._faults)


def references(document: Document) -> Iterator[tuple[str, list[str], Location]]:
    """(URI, namespaces included from there, place) of each reference to another document (CSDL 4.0, section
    3.3).
    """
    value = document.value
    if isinstance(value, XmlTree):
        for node in value.root:
            if local(node.tag) == "Reference":
                inner = [one.get("Namespace", "") for one in node if local(one.tag) == "Include"]
                place = Location(document.uri, value.path(node))
                yield node.get("Uri") or node.get("Url") or "", inner, place
    elif isinstance(value, dict) and isinstance(value.get("$Reference"), dict):
        for uri, entry in value["$Reference"].items():
            inner = [one.get("$Namespace", "") for one in _includes(entry)]
            yield uri, inner, Location(document.uri).child("$Reference", uri)


def names_of(document: Document) -> Names:
    """The aliases that a document declares for itself and for what it includes."""
    names, value = Names(), document.value
    if isinstance(value, XmlTree):
        for node in value.root.iter():
            if local(node.tag) in ("Include", "Schema", "Using") and node.get("Alias"):
                names.aliases[node.get("Alias", "")] = node.get("Namespace", "")
    elif isinstance(value, dict):
        for entry in (
            (value.get("$Reference") or {}).values() if isinstance(value.get("$Reference"), dict) else ()
        ):
            for one in _includes(entry):
                if isinstance(one.get("$Alias"), str):
                    names.aliases[one["$Alias"]] = str(one.get("$Namespace", ""))
        for namespace, schema in value.items():
            if (
                not namespace.startswith("$")
                and isinstance(schema, dict)
                and isinstance(schema.get("$Alias"), str)
            ):
                names.aliases[schema["$Alias"]] = namespace
    return names


def _includes(entry: Any) -> list[dict[str, Any]]:
    found = entry.get("$Include") if isinstance(entry, dict) else None
    return [item for item in found if isinstance(item, dict)] if isinstance(found, list) else []


def schemas_of(tree: XmlTree) -> Iterator[ET.Element]:
    """The schema elements of a document, wherever they stand."""
    if local(tree.root.tag) == "Schema":
        yield tree.root
        return
    for node in tree.root.iter():
        if local(node.tag) == "Schema":
            yield node
