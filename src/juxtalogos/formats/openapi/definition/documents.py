"""The documents of one OpenAPI definition: loaded as references lead to them, references followed with their
faults.
"""

from __future__ import annotations

from typing import Any
from urllib.parse import unquote

from juxtalogos.documents.uris import defragmented, join_uri
from juxtalogos.formats.openapi.definition.survey import Survey, survey
from juxtalogos.model.contract import DefinitionFault
from juxtalogos.model.document import Document
from juxtalogos.model.errors import DocumentError, quoted
from juxtalogos.model.format import Fetch
from juxtalogos.model.location import Location, follow_pointer

MAX_DOCUMENTS = 2_000
MAX_CHAIN = 50


class Documents:
    """Documents by URI, and the faults met while following references."""

    def __init__(self, root: str, fetch: Fetch) -> None:
        self.root = root
        self.fetch = fetch
        self.by_uri: dict[str, Document] = {}
        self.surveys: dict[str, Survey] = {}
        self._faults: dict[DefinitionFault, None] = {}
        self.missing: dict[str, DocumentError] = {}

    def load_all(self) -> None:
        """Loads the root and every document that a reference leads to."""
        waiting = [self.root]
        while waiting:
            uri = waiting.pop(0)
            if uri in self.by_uri or uri in self.missing:
                continue
            if len(self.by_uri) >= MAX_DOCUMENTS:
                raise DocumentError(
                    f"more than {MAX_DOCUMENTS} documents",
                    where=self.root,
                    mend="import its parts one by one, from a file that refers to fewer",
                )
            try:
                document = self.by_uri[uri] = self.fetch(uri)
            except DocumentError as error:
                if uri == self.root:
                    raise
                self.missing[uri] = error
                continue
            self.note_merges(document)
            found = self.surveys[uri] = survey(document)
            # Most references stay in their document, and many are alike.
            for reference in dict.fromkeys(reference.partition("#")[0] for _, reference in found.references):
                waiting.append(defragmented(join_uri(uri, reference))[0] if reference else uri)

    def note_merges(self, document: Document) -> None:
        """YAML 1.2 has no merge keys; what they mean is plain."""
        marks = document.parsed.marks
        if marks is not None and marks.merged is not None:
            what = "merge keys (`<<`) are of YAML 1.1: they are honoured"
            mend = "write the members out, or refer to them, for readers of YAML 1.2"
            self.fault(what, Location(document.uri, marks.merged), mend, "warning")

    def fault(self, what: str, location: Location, mend: str, severity: str = "fault") -> None:
        """Notes something wrong with the definition, once."""
        self._faults[DefinitionFault(what, location, mend, severity)] = None

    @property
    def faults(self) -> tuple[DefinitionFault, ...]:
        """Each once, in the order they were met."""
        return tuple(self._faults)

    def follow(self, value: Any, location: Location) -> tuple[Any, Location] | None:
        """The value behind a reference object and where it stands; None when it leads
        nowhere, with a fault.
        """
        for _ in range(MAX_CHAIN):
            if not isinstance(value, dict) or not isinstance(value.get("$ref"), str):
                return value, location
            target = self.place(value["$ref"], location)
            if target is None:
                return None
            value, location = target
        self.fault(
            "this reference leads round in a circle", location, "let one of the references name a real object"
        )
        return None

    def place(self, reference: str, location: Location) -> tuple[Any, Location] | None:
        """(value, place) that a reference leads to; None where it leads nowhere."""
        uri, fragment = defragmented(join_uri(location.document, reference))
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
                f"reference to {quoted(reference)}, which does not exist",
                place,
                "correct the reference or add what it names",
            )
            return None
