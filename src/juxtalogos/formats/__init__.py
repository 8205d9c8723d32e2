"""Formats of definitions, found by name or by what a document says of itself. A format is loaded when it is first asked for."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from importlib import import_module

from juxtalogos.model.contract import Document
from juxtalogos.model.errors import DocumentError
from juxtalogos.model.seams import Format


class _Table(Mapping[str, Format]):
    def __init__(self, places: Mapping[str, str]) -> None:
        self._places = places
        self._loaded: dict[str, Format] = {}

    def __getitem__(self, name: str) -> Format:
        found = self._loaded.get(name)
        if found is None:
            module, _, attribute = self._places[name].partition(":")
            found = self._loaded[name] = getattr(import_module(module), attribute)
        return found

    def __iter__(self) -> Iterator[str]:
        return iter(self._places)

    def __len__(self) -> int:
        return len(self._places)


FORMATS: Mapping[str, Format] = _Table(
    {"openapi": "juxtalogos.formats.openapi:OPENAPI", "soap": "juxtalogos.formats.soap:SOAP"}
)
_SYNTAXES = {"soap": ("xml",), "openapi": ("json", "yaml")}
"""What the documents of a format are written in; a format is not loaded to look at others."""


def claiming(document: Document) -> Format | None:
    """The format that claims a document; None when none does."""
    for name, syntaxes in _SYNTAXES.items():
        if document.syntax in syntaxes and FORMATS[name].claims(document):
            return FORMATS[name]
    return None


def format_of(document: Document) -> Format:
    """The format that claims a document; DocumentError when none does."""
    found = claiming(document)
    if found is not None:
        return found
    root = getattr(document.value, "root", None)
    kind = (
        f"its root is {root.tag}"
        if root is not None
        else (
            "a mapping with the keys " + ", ".join(list(document.value)[:6])
            if isinstance(document.value, dict)
            else f"a {type(document.value).__name__}"
        )
    )
    raise DocumentError(
        f"this is {document.syntax.upper()} but no service definition: {kind}",
        where=f"{document.uri}:1",
        mend="an OpenAPI definition has `openapi: 3.0.3` (or 3.1, or `swagger: '2.0'`) at its top, a WSDL <definitions>",
    )
