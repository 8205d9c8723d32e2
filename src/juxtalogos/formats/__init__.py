"""Formats of definitions, found by name or by what a document says of itself.

A format is loaded when it is first asked for.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from weakref import WeakKeyDictionary

from juxtalogos.check.laws import LAWS
from juxtalogos.conventions.danger import with_danger
from juxtalogos.conventions.faults import fault_outcome
from juxtalogos.formats.http.outcomes import status_outcome
from juxtalogos.model.contract import Contract, DeclaredAnswer, Operation
from juxtalogos.model.document import Document
from juxtalogos.model.elements import ELEMENT_KINDS
from juxtalogos.model.errors import DocumentError
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.findings import KINDS
from juxtalogos.model.format import Fetch, Format
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.wire import Wire
from juxtalogos.plugins import Table

FORMATS: Table[Format] = Table("juxtalogos.formats")
"""Formats by name."""
FORMATS.register("openapi", "juxtalogos.formats.openapi:OPENAPI")
FORMATS.register("soap", "juxtalogos.formats.soap:SOAP")
FORMATS.register("odata", "juxtalogos.formats.odata:ODATA")
FORMATS.register("messages", "juxtalogos.formats.messages:MESSAGES")

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
    others = (name for name in FORMATS if name not in _SYNTAXES)
    return next((FORMATS[name] for name in others if FORMATS[name].claims(document)), None)


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
    operations: Sequence[Operation] = contract.operations
    if all(answer.outcome is Outcome.UNKNOWN for one in operations for answer in one.answers):
        operations = [_by_faults(one) for one in operations]
    return replace(contract, format=form.name, operations=tuple(with_danger(operations)), _index={})


def _by_faults(operation: Operation) -> Operation:
    """The operation with what its answers mean where nothing but the names of faults says it."""
    return replace(operation, answers=tuple(map(_by_fault, operation.answers)))


def _by_fault(answer: DeclaredAnswer) -> DeclaredAnswer:
    return replace(answer, outcome=fault_outcome(answer.fault) if answer.fault else Outcome.SUCCEEDED)


def outcome_of(contract: Contract, operation: Operation | str, exchange: Exchange | None) -> Outcome:
    """What an exchange of an operation means; by its transport alone where the contract has no such
    operation.
    """
    found = contract.operation(operation) if isinstance(operation, str) else operation
    if exchange is None or exchange.response is None:
        return Outcome.NO_RESPONSE
    return wire_of(contract).outcome(found, exchange) if found else status_outcome(exchange.response.status)


def formats() -> Iterator[Format]:
    """All of them, loaded."""
    return iter(FORMATS.values())


def file_endings() -> tuple[str, ...]:
    """Of the files that definitions of any format are kept in."""
    return tuple(dict.fromkeys(ending for form in formats() for ending in form.endings))


def finding_kinds() -> Mapping[str, str]:
    """Every kind of result, in words: those of all formats, and what single formats add."""
    laws = {law.name: f"violated: {law.told}" for law in LAWS.values() if law.name not in KINDS}
    return {
        **KINDS,
        **laws,
        **{kind: told for form in formats() for kind, told in form.finding_kinds.items()},
    }


def element_kinds(contract: Contract) -> Mapping[str, str]:
    """Every kind of element that a contract can have, with its heading."""
    own = FORMATS[contract.format].element_kinds
    first = {kind: ELEMENT_KINDS[kind] for kind in ("operation", "status")}
    return {**first, **own, **ELEMENT_KINDS}
