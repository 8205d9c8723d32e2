"""The documents of one OpenAPI definition: loaded as references lead to them, references followed with their faults."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any
from urllib.parse import unquote, urldefrag

from juxtalogos.documents.uris import join_uri
from juxtalogos.model.contract import Document, Fault
from juxtalogos.model.errors import DocumentError, quoted
from juxtalogos.model.location import Location, escape_key, follow_pointer
from juxtalogos.model.seams import Fetch

_NO_REFERENCES_BELOW = frozenset(("enum", "const", "default", "example", "value"))
_FREE_NAMES = frozenset(("properties", "patternProperties", "schemas", "$defs", "definitions", "dependentSchemas"))
MAX_DOCUMENTS = 2_000
MAX_CHAIN = 50


class Documents:
    """Documents by URI, and the faults met while following references."""

    def __init__(self, root: str, fetch: Fetch) -> None:
        self.root = root
        self.fetch = fetch
        self.by_uri: dict[str, Document] = {}
        self.faults: list[Fault] = []
        self.missing: dict[str, DocumentError] = {}

    def load_all(self) -> None:
        """Loads the root and every document that a reference leads to."""
        waiting = [self.root]
        while waiting:
            uri = waiting.pop(0)
            if uri in self.by_uri or uri in self.missing:
                continue
            if len(self.by_uri) >= MAX_DOCUMENTS:
                raise DocumentError(f"more than {MAX_DOCUMENTS} documents", where=self.root)
            try:
                document = self.by_uri[uri] = self.fetch(uri)
            except DocumentError as error:
                if uri == self.root:
                    raise
                self.missing[uri] = error
                continue
            for _, reference in references(document.value):
                waiting.append(urldefrag(join_uri(uri, reference))[0])

    def fault(self, what: str, location: Location, mend: str, severity: str = "fault") -> None:
        fault = Fault(what, location, mend, severity)
        if fault not in self.faults:
            self.faults.append(fault)

    def follow(self, value: Any, location: Location) -> tuple[Any, Location] | None:
        """The value behind a reference object and where it stands; None when it leads nowhere, with a fault."""
        for _ in range(MAX_CHAIN):
            if not isinstance(value, dict) or not isinstance(value.get("$ref"), str):
                return value, location
            target = self.place(value["$ref"], location)
            if target is None:
                return None
            value, location = target
        self.fault("this reference leads round in a circle", location, "let one of the references name a real object")
        return None

    def place(self, reference: str, location: Location) -> tuple[Any, Location] | None:
        uri, fragment = urldefrag(join_uri(location.document, reference))
        pointer = unquote(fragment)
        place = location.child("$ref")
        if uri in self.missing:
            error = self.missing[uri]
            self.fault(
                f"reference to {quoted(reference)}: {error.what}",
                place,
                error.mend or "correct the reference or add the file",
            )
            return None
        document = self.by_uri.get(uri)
        try:
            if document is None:
                raise LookupError(uri)
            return follow_pointer(document.value, pointer), Location(uri, pointer)
        except (LookupError, ValueError):
            self.fault(
                f"reference to {quoted(reference)}, where nothing is",
                place,
                "correct the reference or add what it names",
            )
            return None


def references(value: Any) -> Iterator[tuple[str, str]]:
    """(pointer of the `$ref`, reference) of all reference objects in a document."""
    stack: list[tuple[Any, str, bool]] = [(value, "", False)]
    seen: set[int] = set()
    while stack:
        current, pointer, free = stack.pop()
        if isinstance(current, dict | list):
            if id(current) in seen:  # aliases of YAML share their value
                continue
            seen.add(id(current))
        if isinstance(current, list):
            stack += [(item, f"{pointer}/{index}", False) for index, item in enumerate(current)]
        elif isinstance(current, dict):
            reference = current.get("$ref")
            if isinstance(reference, str) and not free:
                yield f"{pointer}/$ref", reference
            for key, item in current.items():
                if free or key not in _NO_REFERENCES_BELOW:
                    stack.append((item, f"{pointer}/{escape_key(key)}", key in _FREE_NAMES and not free))
