"""The declared side: what a definition says, in one shape for every format."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from juxtalogos.model.danger import Danger
from juxtalogos.model.document import Document
from juxtalogos.model.location import Location
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.schema import Schema, SchemaEngine, SchemaRef


class Intent(StrEnum):
    """What an operation is for, as far as its format can tell."""

    LIST = "list"
    READ = "read"
    CREATE = "create"
    REPLACE = "replace"
    UPDATE = "update"
    DELETE = "delete"
    EMPTY = "empty"
    """Destroys what is there, and not one item of it: removes all of a collection, resets, shuts down."""
    ACT = "act"
    """Anything else that is done to a resource."""
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class DefinitionFault:
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
    unreadable: str = ""
    """Why what the definition says of it cannot be read: it is not checkable then, and has no schema."""


@dataclass(frozen=True, slots=True)
class Input:
    """One parameter of an operation, addressed as `path.id`, `query.limit`, `header.X`, `cookie.c`.

    Every format puts its inputs into these four places, since suites know no others (Arazzo 1.0.1, parameter
    object).
    """

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
    identifies: str = ""
    """The key of the resource of which it names an item."""
    alone: bool = False
    """Whether a case of its own tries it: together with others it would hide what they do."""
    beside: tuple[str, ...] = ()
    """Addresses of inputs that go with it when it is tried alone."""
    unreadable: str = ""
    """Why what the definition says of it cannot be read."""
    usual: bool = False
    """Whether it goes along where nothing else is said, though nothing requires it."""
    is_version: bool = False
    """Whether it names the version of an item that the request depends on."""

    @property
    def address(self) -> str:
        return f"{self.place}.{self.name}"


@dataclass(frozen=True, slots=True)
class Body:
    required: bool
    media: tuple[Media, ...]
    location: Location
    description: str = ""
    usual: bool = False
    """Whether it goes along where nothing else is said, though nothing requires it."""


@dataclass(frozen=True, slots=True)
class DeclaredHeader:
    name: str
    required: bool
    schema: SchemaRef | None
    location: Location
    explode: bool = False
    content: str = ""
    description: str = ""
    unreadable: str = ""
    """Why what the definition says of it cannot be read."""


@dataclass(frozen=True, slots=True)
class DeclaredLink:
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
    links: tuple[DeclaredLink, ...] = ()
    open_body: bool = False
    """Whether, with no media declared, the definition leaves open if a body comes (an empty `content`)."""
    unsaid_body: bool = False
    """Whether, with no media declared, the definition says nothing of a body, which forbids none."""
    fault: str = ""
    """The name of the declared fault that it is, in protocols that have faults."""
    fault_element: str = ""
    """The local name of the element that tells that fault."""
    unreadable: str = ""
    """Why what the definition says of it cannot be read: then nothing of it is checkable."""
    outcome: Outcome = Outcome.UNKNOWN
    """What it means; set after the definition is read, by its code or the name of its fault, unless its
    format set it."""
    version_at: str = ""
    """The runtime expression of the mark of the version that it shows; empty where it declares none."""
    address_at: str = ""
    """The runtime expression of the address of what it created; empty where the protocol has none."""
    address_declared: bool = False
    """Whether the definition says that it has this address."""


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
    token_url: str = ""
    """For OAuth 2.0: where tokens are given out; it may be relative to the base URL."""
    scopes: tuple[str, ...] = ()
    flow: str = ""
    """For OAuth 2.0: `client credentials` or `password`, by which tokens are asked for."""
    authorize_url: str = ""
    """For OAuth 2.0: the page on which a person signs in (authorization code)."""
    device_url: str = ""
    """For OAuth 2.0: where a sign-in on another device begins (RFC 8628)."""
    discovery: str = ""
    """For OpenID Connect: the address of its configuration, which names all the others."""
    declared: bool = True
    """Whether the definition says it; else it is what a target may use all the same."""


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
    intent: Intent = Intent.UNKNOWN
    safe: bool = False
    """Whether a call only reads: by the protocol, or as far as its name tells where that does not say."""
    idempotent: bool = False
    """Whether calling it twice does no more than calling it once, by the protocol."""
    resource: str = ""
    """The key of the resource that it works on, its last part its name; empty where the
    format knows of none."""
    on_item: bool = False
    """Whether it works on one item of the resource, and not on the collection."""
    noun: str = ""
    """What it is about, in the singular."""
    names: tuple[str, ...] = ()
    """Addresses of what its caller names anew: a value that is taken already is refused."""
    after: tuple[str, ...] = ()
    """Ids of operations that are called before it, so that there is something for it to find."""
    group: str = ""
    """What of the contract it belongs to: a tag, a service, the first part of its address."""
    danger: Danger = Danger.OWN
    """What it does to what a run did not make; set after the definition is read."""
    not_callable: str = ""
    """Why it cannot be called at all; empty as a rule. It stays where operations are listed and counted."""

    def fact(self, word: str) -> str:
        """What holds for a word: `method`, `path`, `sign-in`, or one of its facts."""
        if word in ("method", "path"):
            return self.method if word == "method" else self.path
        found = next((text for name, text in self.facts if name == word), "")
        if word == "sign-in" and not found:
            return " or ".join(" and ".join(names) if names else "none" for names in self.security)
        return found

    @property
    def call(self) -> str:
        """What is called, as people write it: the method and the path."""
        return f"{self.method} {self.path}"

    @property
    def full_id(self) -> str:
        return f"{self.contract}:{self.id}"

    def not_checkable(self) -> Iterator[tuple[str, str]]:
        """(part, why) of each part that cannot be read."""
        for declared_input in self.inputs:
            if declared_input.unreadable:
                yield declared_input.address, declared_input.unreadable
        for media in self.body.media if self.body else ():
            if media.unreadable:
                yield f"body {media.media_type}", media.unreadable
        for answer in self.answers:
            if answer.unreadable:
                yield f"response {answer.status}", answer.unreadable
            for part in answer.media:
                if part.unreadable:
                    yield f"response {answer.status} {part.media_type}", part.unreadable
            for head in answer.headers:
                if head.unreadable:
                    yield f"response {answer.status} header {head.name}", head.unreadable

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
    faults: tuple[DefinitionFault, ...] = ()
    servers: tuple[str, ...] = ()
    security_schemes: tuple[SecurityScheme, ...] = ()
    description: str = ""
    dialect: str = ""
    """The schema dialect in force where no schema says otherwise."""
    outgoing: tuple[Outgoing, ...] = ()
    secret_fields: tuple[str, ...] = ()
    """Names of body fields declared as passwords and of parameters that carry keys: redacted wherever they
    occur."""
    namespaces: tuple[tuple[str, str], ...] = ()
    """(prefix, namespace) that XPaths on its messages may use."""
    columns: tuple[str, ...] = ("method", "path", "sign-in")
    """Facts that are columns where operations are listed."""
    by_subject: bool = False
    """Whether operations are named SUBJECT.WORD, and many subjects have the same words."""
    _index: Mapping[str, Operation] = field(default_factory=dict, repr=False)

    def schema(self, ref: SchemaRef) -> Schema:
        return self.engine.schema(ref)

    def operation(self, operation_id: str) -> Operation | None:
        """An operation by its id; None when there is none."""
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
