"""The seams between rooms: what a schema, a format and a reporter are to their users."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from juxtalogos.model.contract import Contract, DeclaredAnswer, DeclaredHeader, Document, Media, Operation, SchemaRef
from juxtalogos.model.elements import Element
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.findings import CheckResult, Deviation
from juxtalogos.model.location import Location


class Absent:
    """The type of `ABSENT`: no value at all, which is not null."""

    def __repr__(self) -> str:
        return "absent"

    def __bool__(self) -> bool:
        return False

    def __deepcopy__(self, memo: object) -> Absent:
        return self


ABSENT = Absent()


class Examined(Protocol):
    """What one pass over a value told."""

    @property
    def deviations(self) -> tuple[Deviation, ...]: ...

    @property
    def hits(self) -> frozenset[str]:
        """Ids of the elements that the value exercises."""


class Schema(Protocol):
    """A compiled schema: the JSON and the XML engine both make one."""

    def examine(self, value: Any) -> Examined:
        """Deviations and hits in one pass; ValueError when the value is nested too deep to follow."""

    def check(self, value: Any) -> tuple[Deviation, ...]:
        """Every deviation of the value."""

    def accepts(self, value: Any) -> bool:
        """Whether the value has no deviation; the fast path."""

    @property
    def accepts_anything(self) -> bool:
        """Whether no value could fail."""

    def sample(self, *, full: bool = False, seed: int = 0) -> Any:
        """A valid value; Unsampleable when none is found."""

    def elements(self) -> Iterator[Element]:
        """Everything in the schema that a value can exercise."""

    def hits(self, value: Any) -> Iterator[str]:
        """Ids of the elements that the value exercises."""

    def outline(self, depth: int = 100) -> Iterator[OutlineRow]:
        """The schema as a person reads it, a row a property, so many levels deep."""

    def check_part(self, row: OutlineRow, value: Any) -> tuple[Deviation, ...]:
        """The deviations of a value for the place that a row of the outline tells of."""

    def mutate(self, value: Any) -> Iterator[Any]:
        """From a valid value, values that break one rule at one place each."""

    def boundaries(self, value: Any) -> Iterator[Any]:
        """From a valid value, valid ones that just reach a limit."""


class SchemaEngine(Protocol):
    def schema(self, ref: SchemaRef) -> Schema: ...

    def assert_formats(self, asserted: bool) -> None: ...


@dataclass(frozen=True, slots=True)
class OutlineRow:
    """One line of a schema shown as a tree."""

    depth: int
    name: str
    path: str
    type: str
    required: bool
    allowed: str
    """Allowed values and limits, in words."""
    description: str = ""
    place: Location | None = None
    """The schema that says so, references followed."""
    scalar: bool = False
    """Whether it is a single text, number or truth value."""
    shared: str = ""
    """The name of the schema at `place`, where that is one which others may name too."""
    nullable: bool = False


@dataclass(frozen=True, slots=True)
class Problem:
    """A problem of form found while decoding: the finding kind, and what was declared and seen."""

    kind: str
    at: str
    declared: str
    observed: str


@dataclass(frozen=True, slots=True)
class HeaderValue:
    """A declared header as it came: its text and the value that text stands for; None when it did not come."""

    declared: DeclaredHeader
    text: str | None
    value: Any = ABSENT
    schema: Schema | None = None


@dataclass(frozen=True, slots=True)
class ObservedFault:
    """A fault of the protocol in an answer; `name` is the declared one that it is, empty when it is none."""

    name: str
    code: str
    reason: str
    declared: tuple[str, ...] = ()
    """Names of the faults that the operation declares."""


@dataclass(frozen=True, slots=True)
class Answer:
    """An exchange's response read as the declared answer it is."""

    declared: DeclaredAnswer | None
    media: Media | None
    value: Any = ABSENT
    schema: Schema | None = None
    problems: tuple[Problem, ...] = ()
    headers: tuple[HeaderValue, ...] = ()
    """Every declared header of the declared answer."""
    unread: str = ""
    """Why the body was not compared with its schema, when it was not."""
    examined: Examined | None = None
    """What the schema says of the value, once it was asked."""
    fault: ObservedFault | None = None
    allowed: str = ""
    """Why nothing forbids the answer, although nothing declares it."""

    @property
    def explicit(self) -> bool:
        return self.declared is not None and self.declared.status != "default"


@dataclass(frozen=True, slots=True)
class Inputs:
    """Values for an operation: parameters by address, and a body."""

    values: Mapping[str, Any]
    body: Any = ABSENT
    content_type: str = ""


Fetch = Callable[[str], Document]
"""Gives a document by its URI relative to the contract's folder; DocumentError when it cannot."""

Check = Callable[[Contract, Operation, Answer, Exchange], Iterable[CheckResult]]


@dataclass(frozen=True, slots=True)
class Format:
    """A format of definitions and its wire form: a value made of functions."""

    name: str
    claims: Callable[[Document], bool]
    """Whether a document is a definition of this format."""
    read: Callable[..., Contract]
    """(name, root URI, fetch, others) -> contract; its faults are listed in it. `others`: URIs of documents that are at hand,
    whether or not anything refers to them; may be left out."""
    engine: Callable[[Mapping[str, Document], str], SchemaEngine]
    """(documents, dialect) -> what compiles the schemas of a contract that was read before."""
    encode: Callable[[Contract, Operation, Inputs, str], Request]
    """(contract, operation, inputs, base URL) -> request; UsageError when an input does not fit."""
    match: Callable[[Contract, Request, str], tuple[Operation, ...]]
    """(contract, request, base URL) -> operations, best first."""
    stray: Callable[[Contract, Request, str], CheckResult | str]
    """(contract, request, base URL) -> what a request is that matches none: a finding, or why it is none of this contract's."""
    decode: Callable[[Contract, Operation, Exchange], Answer]
    elements: Callable[[Contract, Operation], Iterator[Element]]
    hits: Callable[[Contract, Operation, Exchange, Answer, str], Iterable[str]]
    """(contract, operation, exchange, answer, base URL) -> ids of the elements that the exchange exercised, each once."""
    parse_text: Callable[[Contract, SchemaRef | None, str, str], Any]
    """(contract, schema, pointer into its value, text) -> the text that a person wrote, read by what is declared there."""
    checks: tuple[Check, ...] = ()
    """Rules that only this protocol knows."""
    is_root: Callable[[Document], bool] | None = None
    """Whether a definition in several documents begins with this one; None: each that is claimed does."""
    selector: Callable[[Contract, Operation, SchemaRef, str], str] | None = None
    """(contract, operation, schema of an answer, pointer into it) -> an XPath of that place; None: a pointer is enough."""
    sign_in: Mapping[str, Callable[[Request, Any, Any], Request]] = field(default_factory=dict)
    """Kinds of security scheme that only this protocol has: (request, scheme, credential) -> the signed request."""
    plain_names: tuple[str, ...] = ()
    """Names of files that say nothing of what they define; the title names the contract then."""
    source_type: str = ""
    """What a suite calls a source of this format, where the standard has a word for it (Arazzo 1.0.1)."""
