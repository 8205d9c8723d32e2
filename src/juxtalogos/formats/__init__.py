"""Formats of definitions, found by name or by what a document says of itself."""

from __future__ import annotations

from juxtalogos.formats.openapi import OPENAPI
from juxtalogos.model.contract import Document
from juxtalogos.model.errors import DocumentError
from juxtalogos.model.seams import Format

FORMATS: dict[str, Format] = {OPENAPI.name: OPENAPI}


def format_of(document: Document) -> Format:
    """The format that claims a document; DocumentError when none does."""
    for candidate in FORMATS.values():
        if candidate.claims(document):
            return candidate
    kind = (
        "a mapping with the keys " + ", ".join(list(document.value)[:6])
        if isinstance(document.value, dict)
        else f"a {type(document.value).__name__}"
    )
    raise DocumentError(
        f"this is {document.syntax.upper()} but no service definition: {kind}",
        where=f"{document.uri}:1",
        mend="an OpenAPI definition has `openapi: 3.0.3` (or another 3.0 or 3.1 version) at its top",
    )
