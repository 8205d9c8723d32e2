"""Matching recorded requests: by address, by the element in the body, by action."""

from __future__ import annotations

from functools import cached_property
from urllib.parse import urlsplit

from juxtalogos.documents.uris import origin_alone
from juxtalogos.documents.xmltext import NotXml, local
from juxtalogos.documents.xmltree import read_tree
from juxtalogos.exchange.media import parse_media_type
from juxtalogos.formats.soap.binding_facts import url_of, version_of
from juxtalogos.formats.soap.definition.http_binding import path_texts
from juxtalogos.formats.soap.schemas import soap_schema
from juxtalogos.formats.soap.wire.attachments import root_part
from juxtalogos.formats.soap.wire.envelope import Envelope, opened
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Request, header
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.location import Location
from juxtalogos.schema.xml.check.checker import automaton_of
from juxtalogos.schema.xml.tree.components import ComplexType, ElementDecl


def envelope_of(request: Request) -> Envelope | None:
    """The envelope that a request carries; None when it carries none."""
    if not request.body:
        return None
    body, wrong = root_part(request.body, header(request.headers, "content-type") or "")
    if wrong:
        return None
    try:
        return opened(read_tree(body))
    except NotXml:
        return None


def body_names(contract: Contract, operation: Operation) -> list[str]:
    """The names that the first element in an operation's request body may have; an empty one when it has
    none.
    """
    media = operation.body.media[0] if operation.body else None
    if media and media.unreadable:
        return []
    if not media or not media.schema:
        return [""]
    schema = soap_schema(contract, media.schema)
    kind = schema.declared.type
    if not schema.of_type or not isinstance(kind, ComplexType):
        return list(schema.reader.substitutes(schema.declared)) or [schema.declared.name]
    automaton = automaton_of(kind, schema.reader)
    terms = [one.term for one in automaton.expected(automaton.start)]
    return [one.name for one in terms if isinstance(one, ElementDecl)]


class Matcher:
    """The operations of a contract by the element in their requests' bodies."""

    def __init__(self, contract: Contract) -> None:
        self.contract = contract
        self.operations = tuple(operation for operation in contract.operations if not operation.not_callable)

    @cached_property
    def by_name(self) -> dict[str, list[Operation]]:
        """Operations by the name of the first element in their bodies."""
        found: dict[str, list[Operation]] = {}
        for operation in self.operations:
            for name in body_names(self.contract, operation) if version_of(operation) else ():
                found.setdefault(name, []).append(operation)
        return found

    @cached_property
    def unreadable(self) -> list[Operation]:
        """Operations whose declared body cannot be read."""
        return [
            operation
            for operation in self.operations
            if operation.body and any(part.unreadable for part in operation.body.media)
        ]

    def match(self, request: Request, base_url: str) -> tuple[Operation, ...]:
        """Of operations at the same address those whose element stands in the body, the one with the same
        action first.
        """
        operations = self.operations
        plain = tuple(
            operation
            for operation in operations
            if not version_of(operation) and _is_plain(operation, request, base_url)
        )
        if request.method != "POST":
            return plain
        envelope = envelope_of(request)
        if envelope is None:
            return plain
        entry = envelope.entry.tag if envelope.entry is not None else ""
        action = action_of(request)
        found = [
            one for one in self.by_name.get(entry, ()) if _same_place(url_of(one, base_url), request.url)
        ]
        if not found and action:  # of a body that cannot be read, nobody knows the element
            found = [
                one
                for one in self.unreadable
                if one.fact("action") == action and _same_place(url_of(one, base_url), request.url)
            ]
        return tuple(
            sorted(found, key=lambda one: (version_of(one) != envelope.version, one.fact("action") != action))
        )

    def unmatched(self, request: Request, base_url: str) -> CheckResult | str:
        """What a request is that no operation matches: a finding at an address of ours; else why it is none
        of ours.
        """
        if not any(_same_place(url_of(operation, base_url), request.url) for operation in self.operations):
            return "outside the base URL"
        if request.method == "GET":
            return "it asks for the definition or a page, which no operation declares"
        envelope = envelope_of(request)
        if envelope is None:
            return "it carries no envelope"
        entry = envelope.entry
        observed = local(entry.tag) if entry is not None else "an empty Body"
        root = Location(self.contract.root)
        return CheckResult(
            "operation.undeclared",
            False,
            f"request {observed}",
            "an operation of the definition",
            observed,
            root,
        )


def action_of(request: Request) -> str:
    """SOAPAction of 1.1, or the `action` of 1.2's media type."""
    kind = parse_media_type(header(request.headers, "content-type") or "")
    named = kind.parameter("action") if kind else None
    return named or (header(request.headers, "soapaction") or "").strip().strip('"')


def _same_place(one: str, other: str) -> bool:
    try:
        first, second = urlsplit(one), urlsplit(other)
        if first.netloc and origin_alone(one) != origin_alone(other):
            return False
    except ValueError:
        return False
    return first.path.rstrip("/") == second.path.rstrip("/")


def _is_plain(operation: Operation, request: Request, base_url: str) -> bool:
    if request.method != operation.method:
        return False
    try:
        if urlsplit(base_url).netloc and origin_alone(base_url) != origin_alone(request.url):
            return False
        return path_texts(operation, request, base_url) is not None
    except ValueError:
        return False
