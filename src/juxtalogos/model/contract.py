"""The declared side: what a definition says, in one shape for every format."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import TYPE_CHECKING, Any

from juxtalogos.model.location import Location, Marks

if TYPE_CHECKING:
    from juxtalogos.model.seams import Schema, SchemaEngine


_READS = re.compile(r"(?i:get|list|find|read|query|search|fetch|show|look|check|count|describe|retrieve)(?![a-z])")


class Direction(StrEnum):
    """Which way a value travels; readOnly and writeOnly depend on it."""

    REQUEST = "request"
    RESPONSE = "response"


class Document:
    """One document as published: its URI within the contract, its bytes and the value they hold.

    Both may be a function that gives them: of a contract that was read before, most documents are never looked at again.
    """

    __slots__ = ("__weakref__", "_text", "_value", "syntax", "uri")

    def __init__(self, uri: str, syntax: str, text: bytes | Callable[[], bytes], value: Callable[[], Parsed]) -> None:
        self.uri = uri
        self.syntax = syntax
        """`json`, `yaml` or `xml`."""
        self._text = text
        self._value: Callable[[], Parsed] | Parsed = value

    @property
    def text(self) -> bytes:
        if callable(self._text):
            self._text = self._text()
        return self._text

    @property
    def parsed(self) -> Parsed:
        if not isinstance(self._value, Parsed):
            self._value = self._value()
        return self._value

    @property
    def value(self) -> Any:
        return self.parsed.value


@dataclass(frozen=True, slots=True, eq=False)
class Parsed:
    """A document's value, and where its parts stand in the text when that is known already."""

    value: Any
    marks: Marks | None = None


@dataclass(frozen=True, slots=True)
class SchemaRef:
    """A schema named, not compiled; `Contract.schema` compiles it when it is first needed."""

    dialect: str
    document: str
    pointer: str
    direction: Direction
    members: tuple[tuple[str, SchemaRef, bool], ...] = ()
    """(name, schema, whether required) of an object that the document declares by its members only, as a form in OpenAPI 2.0."""

    @property
    def declared(self) -> tuple[SchemaRef, ...]:
        """The schemas that stand in a document: itself, or its members'."""
        return tuple(ref for _, ref, _ in self.members) or (self,)

    @property
    def location(self) -> Location:
        return Location(self.document, self.pointer)


@dataclass(frozen=True, slots=True)
class Fault:
    """Something wrong with a definition itself; `severity` is `fault` or `warning`."""

    what: str
    location: Location
    mend: str
    severity: str = "fault"


@dataclass(frozen=True, slots=True)
class Media:
    """One declared media type (or range) of a body."""

    media_type: str
    schema: SchemaRef | None
    location: Location
    examples: tuple[object, ...] = ()
    encoding: tuple[tuple[str, str], ...] = ()
    """Content type by property, for form and multipart bodies."""
    styles: tuple[tuple[str, str, bool], ...] = ()
    """(property, style, explode) of a form, where that is declared."""


@dataclass(frozen=True, slots=True)
class Input:
    """One parameter of an operation, addressed as `path.id`, `query.limit`, `header.X`, `cookie.c`."""

    name: str
    place: str
    required: bool
    schema: SchemaRef | None
    location: Location
    style: str
    explode: bool
    allow_reserved: bool = False
    content: str = ""
    """A media type, where the value is a serialised document."""
    description: str = ""
    deprecated: bool = False
    examples: tuple[object, ...] = ()

    @property
    def address(self) -> str:
        return f"{self.place}.{self.name}"


@dataclass(frozen=True, slots=True)
class Body:
    required: bool
    media: tuple[Media, ...]
    location: Location
    description: str = ""


@dataclass(frozen=True, slots=True)
class DeclaredHeader:
    name: str
    required: bool
    schema: SchemaRef | None
    location: Location
    explode: bool = False
    content: str = ""
    description: str = ""


@dataclass(frozen=True, slots=True)
class Link:
    """A declared dependency: a value of this answer feeds an input of another operation."""

    operation: str
    parameters: tuple[tuple[str, str], ...]
    """(address or name of the input, runtime expression)."""
    body: str
    location: Location


@dataclass(frozen=True, slots=True)
class DeclaredAnswer:
    status: str
    """A code (`200`), a range (`2XX`) or `default`."""
    media: tuple[Media, ...]
    headers: tuple[DeclaredHeader, ...]
    location: Location
    description: str = ""
    links: tuple[Link, ...] = ()
    open_body: bool = False
    """Whether, with no media declared, the definition leaves open if a body comes (an empty `content`)."""
    fault: str = ""
    """The name of the declared fault that it is, in protocols that have faults."""


@dataclass(frozen=True, slots=True)
class SecurityScheme:
    """How to sign in. `kind` is `basic`, `bearer`, `apiKey` or another word of the definition."""

    name: str
    kind: str
    place: str
    """For `apiKey`: `query`, `header` or `cookie`."""
    key: str
    """For `apiKey`: the name of the parameter."""
    location: Location
    description: str = ""


@dataclass(frozen=True, slots=True)
class Operation:
    """One thing a client may ask for."""

    id: str
    contract: str
    method: str
    path: str
    location: Location
    reference: str = ""
    """Pointer in the root document by which others name it; `location` may be in another document."""
    declared_id: str = ""
    """The operationId as published, also where it is not unique; empty when there is none."""
    summary: str = ""
    description: str = ""
    tags: tuple[str, ...] = ()
    deprecated: bool = False
    inputs: tuple[Input, ...] = ()
    body: Body | None = None
    answers: tuple[DeclaredAnswer, ...] = ()
    security: tuple[tuple[str, ...], ...] = ()
    """Alternatives, each a set of scheme names; an empty alternative means none is needed."""
    servers: tuple[str, ...] = ()
    facts: tuple[tuple[str, str], ...] = ()
    """(word, what holds for it): what else the protocol says of it, such as its service, port and style."""

    def fact(self, word: str) -> str:
        return next((text for name, text in self.facts if name == word), "")

    @property
    def full_id(self) -> str:
        return f"{self.contract}:{self.id}"

    @property
    def safe(self) -> bool:
        """Whether a call is read-only by the protocol (RFC 9110, section 9.2.1)."""
        return self.method in ("GET", "HEAD", "OPTIONS", "TRACE")

    @property
    def reads(self) -> bool:
        """Whether a call is read-only: by the protocol, or as far as the name of an operation tells where it does not say."""
        if self.facts and not self.safe:
            return _READS.match(self.declared_id.rpartition(".")[2]) is not None
        return self.safe

    def answer_for(self, status: int) -> DeclaredAnswer | None:
        """The declared answer: the code itself, else its range, else `default`."""
        by_status = {answer.status: answer for answer in self.answers}
        return by_status.get(str(status)) or by_status.get(f"{status // 100}XX") or by_status.get("default")


@dataclass(frozen=True, slots=True)
class Outgoing:
    """A request that the service itself sends; listed only."""

    kind: str
    """`callback` or `webhook`."""
    name: str
    operation: str
    """The operation whose call leads to it; empty for a webhook."""
    method: str
    address: str
    """Where it goes, as an expression of the definition; empty for a webhook."""
    location: Location
    summary: str = ""


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Contract:
    """What a definition declares: an index of operations plus the documents they point into."""

    name: str
    format: str
    version: str
    title: str
    operations: Sequence[Operation]
    documents: Mapping[str, Document]
    root: str
    engine: SchemaEngine
    faults: tuple[Fault, ...] = ()
    servers: tuple[str, ...] = ()
    security_schemes: tuple[SecurityScheme, ...] = ()
    description: str = ""
    dialect: str = ""
    """The schema dialect in force where no schema says otherwise."""
    outgoing: tuple[Outgoing, ...] = ()
    secret_fields: tuple[str, ...] = ()
    """Names of body fields declared as passwords and of parameters that carry keys: redacted wherever they occur."""
    namespaces: tuple[tuple[str, str], ...] = ()
    """(prefix, namespace) that XPaths on its messages may use."""
    _index: Mapping[str, Operation] = field(default_factory=dict, repr=False)

    def schema(self, ref: SchemaRef) -> Schema:
        return self.engine.schema(ref)

    def operation(self, operation_id: str) -> Operation | None:
        if isinstance(self._index, dict) and not self._index:
            self._index.update((op.id, op) for op in self.operations)
        return self._index.get(operation_id)

    def scheme(self, name: str) -> SecurityScheme | None:
        return next((scheme for scheme in self.security_schemes if scheme.name == name), None)

    def schema_refs(self, operation: Operation) -> Iterator[SchemaRef]:
        """Every schema an operation names: inputs, body, answers and their headers."""
        for given in operation.inputs:
            if given.schema:
                yield from given.schema.declared
        medias = list(operation.body.media) if operation.body else []
        for answer in operation.answers:
            medias += answer.media
            for header in answer.headers:
                if header.schema:
                    yield from header.schema.declared
        for media in medias:
            if media.schema:
                yield from media.schema.declared
