"""Formats of definitions, found by name or by what a document says of itself.

A format is loaded when it is first asked for.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from weakref import WeakKeyDictionary

from juxtalogos.model.contract import Contract
from juxtalogos.model.document import Document
from juxtalogos.model.elements import ELEMENT_KINDS
from juxtalogos.model.errors import DocumentError
from juxtalogos.model.findings import KINDS
from juxtalogos.model.format import Fetch, Format
from juxtalogos.model.wire import Wire
from juxtalogos.plugins import Table

FORMATS: Table[Format] = Table(
    "juxtalogos.formats",
    {
        "openapi": "juxtalogos.formats.openapi:OPENAPI",
        "soap": "juxtalogos.formats.soap:SOAP",
        "odata": "juxtalogos.formats.odata:ODATA",
        "messages": "juxtalogos.formats.messages:MESSAGES",
    },
)
"""Ours, and those that installed packages add under the entry point group `juxtalogos.formats`."""

_SYNTAXES = {
    "soap": ("xml",),
    "openapi": ("json", "yaml"),
    "odata": ("xml", "json"),
    "messages": ("message",),
}
"""What the documents of our formats are written in: a format is not loaded to look at others."""

_wires: WeakKeyDictionary[Contract, Wire] = WeakKeyDictionary()


def wire_of(contract: Contract) -> Wire:
    """The contract bound to its protocol; the same one each time."""
    found = _wires.get(contract)
    if found is None:
        found = _wires[contract] = FORMATS[contract.format].bind(contract)
    return found


def claiming(document: Document) -> Format | None:
    """The format that claims a document, ours before those of plug-ins; None when none does."""
    for name, syntaxes in _SYNTAXES.items():
        if document.syntax in syntaxes and FORMATS[name].claims(document):
            return FORMATS[name]
    return next((FORMATS[name] for name in FORMATS.added if FORMATS[name].claims(document)), None)


def format_of(document: Document) -> Format:
    """The format that claims a document; DocumentError when none does."""
    found = claiming(document)
    if found is not None:
        return found
    root = getattr(document.value, "root", None)
    if root is not None:
        kind = f"its root is {root.tag}"
    elif isinstance(document.value, dict):
        kind = "a mapping with the keys " + ", ".join(list(document.value)[:6])
    else:
        kind = f"a {type(document.value).__name__}"
    raise DocumentError(
        f"this is {document.syntax.upper()} but no service definition: {kind}",
        where=f"{document.uri}:1",
        mend=", ".join(filter(None, (form.hint for form in formats()))),
    )


def read_contract(
    document: Document, name: str, root: str, fetch: Fetch, others: Iterable[str] = ()
) -> Contract:
    """The contract of a definition that begins with a document, read by the format that claims it.

    DocumentError when none does.
    """
    form = format_of(document)
    contract = form.read(name, root, fetch, list(others))
    return contract if contract.format == form.name else replace(contract, format=form.name)


def formats() -> Iterator[Format]:
    """All of them, loaded."""
    return iter(FORMATS.values())


def file_endings() -> tuple[str, ...]:
    """Of the files that definitions of any format are kept in."""
    return tuple(dict.fromkeys(ending for form in formats() for ending in form.endings))


def finding_kinds() -> Mapping[str, str]:
    """Every kind of result, in words: those of all formats, and what single formats add."""
    return {**KINDS, **{kind: words for form in formats() for kind, words in form.finding_kinds.items()}}


def element_kinds(contract: Contract) -> Mapping[str, str]:
    """Every kind of element that a contract can have, with its heading."""
    own = FORMATS[contract.format].element_kinds
    first = {kind: ELEMENT_KINDS[kind] for kind in ("operation", "status")}
    return {**first, **own, **ELEMENT_KINDS}
