"""How a contract is spoken: what goes into a request, what an answer is read as, and what a format's wire
form must do.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Protocol

from juxtalogos.model.contract import Contract, DeclaredAnswer, DeclaredHeader, Media, Operation
from juxtalogos.model.elements import Element
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.schema import ABSENT, Examined, Schema, SchemaRef


@dataclass(frozen=True, slots=True)
class Problem:
    """A problem of form found while decoding: the finding kind, and what was declared and seen."""

    kind: str
    at: str
    declared: str
    observed: str


@dataclass(frozen=True, slots=True)
class HeaderValue:
    """A declared header as it came: its text and the value that text stands for; None
    when it did not come.
    """

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
    of_service: bool = False
    """Whether it blames the service itself, and not what was sent."""


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


WireCheck = Callable[[Contract, Operation, Answer, Exchange], Iterable[CheckResult]]
"""A rule on an answer."""


class Conversation(Protocol):
    """What a protocol knows of the exchanges of one case together. It is told of each in its turn."""

    def seen(self, operation: Operation, exchange: Exchange, answer: Answer) -> Iterable[CheckResult]:
        """The results of rules over several exchanges: what was acknowledged before is there now."""

    def question(self, operation: Operation, results: Iterable[CheckResult]) -> Request | None:
        """What to ask the service before these results are told; None when nothing is doubtful."""

    def answered(
        self, operation: Operation, results: Iterable[CheckResult], exchange: Exchange
    ) -> tuple[CheckResult, ...]:
        """The results in the light of what the service said to the question."""

    def more(self, exchange: Exchange, answer: Answer) -> Request | None:
        """The request for the rest of an answer of which only a part came."""


class Wire(Protocol):
    """A contract bound to its protocol. It owns all that is cached for the contract."""

    contract: Contract
    checks: tuple[WireCheck, ...]
    """Rules that only this protocol knows."""
    method_tells: bool
    """Whether the method of a request says what is asked: then one that is not declared is none of the
    contract's."""

    def encode(self, operation: Operation, inputs: Inputs, base_url: str, *, loose: bool = False) -> Request:
        """The request, without credentials.

        UsageError when an input does not fit; `loose` sends what does not fit as far as it has a form.
        """

    def taken(self, operation: Operation, request: Request, base_url: str) -> Inputs:
        """The inputs that a request of the operation was made with, as far as they have an address; no
        credentials.
        """

    def match(self, request: Request, base_url: str) -> tuple[Operation, ...]:
        """The operations that a request may be a call of, best first."""

    def unmatched(self, request: Request, base_url: str) -> CheckResult | str:
        """What a request is that matches none: a finding, or why it is none of this contract's."""

    def decode(self, operation: Operation, exchange: Exchange) -> Answer:
        """The declared answer that a response is. Call only for an exchange that has one."""

    def elements(self, operation: Operation) -> Iterator[Element]:
        """Everything of an operation that can be exercised."""

    def hits(self, operation: Operation, exchange: Exchange, answer: Answer, base_url: str) -> Iterable[str]:
        """Ids of the elements that an exchange exercised, each once."""

    def parts(self, exchange: Exchange) -> tuple[Exchange, ...]:
        """The exchanges that one consists of (a batch), each as if it had been sent alone; empty for an
        ordinary one.
        """

    def conversation(self, base_url: str) -> Conversation | None:
        """For a case that begins; None where each exchange stands for itself."""

    def misread(self, request: Request) -> tuple[tuple[str, str, Request], ...]:
        """(place, rule, the request as it may not be) for what of the protocol itself, schemas aside, a
        request can break.
        """

    def parse_text(self, schema: SchemaRef | None, pointer: str, text: str) -> Any:
        """The text that a person wrote for a place of a value, read by what is declared there."""

    def selector(self, operation: Operation, schema: SchemaRef, pointer: str) -> str | None:
        """An XPath of a place in an answer's body; None where a JSON Pointer is enough."""
