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
from juxtalogos.model.outcome import Outcome, Wrong
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
    outcome: Outcome = Outcome.UNKNOWN
    """What it means."""
    code: str = ""
    """The protocol's own code for that, as people write it: a status code, a fault, a result code."""

    @property
    def explicit(self) -> bool:
        return self.declared is not None and self.declared.status != "default"


@dataclass(frozen=True, slots=True)
class Inputs:
    """Values for an operation: parameters by address, and a body."""

    values: Mapping[str, Any]
    body: Any = ABSENT
    content_type: str = ""


@dataclass(frozen=True, slots=True)
class Unmet:
    """What a protocol requires of a response, and the response lacks: a law by name, and the place."""

    law: str
    at: str
    declared: str
    observed: str


@dataclass(frozen=True, slots=True)
class Variant:
    """A request changed so that the protocol, and not a schema, forbids it."""

    at: str
    """The place in the request."""
    rule: str
    wrong: Wrong | None
    """What is wrong with it; None where nothing is known of how that must be refused."""
    change: Callable[[Request], Request]
    """Makes it from a valid request of the operation."""


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
    """A contract bound to its protocol. It owns all that is cached for the contract.

    `juxtalogos.plugin.BaseWire` has a default for all but `encode`, `decode`, `inputs_of` and `match`.
    """

    contract: Contract
    method_tells: bool
    """Whether the method of a request says what is asked: a method that is not declared then belongs to no
    operation."""

    version_place: str
    """Where a response shows the version of what it stands for, as findings name places."""
    address_place: str
    """Where a response shows the address of what it created or began."""

    @property
    def checks(self) -> tuple[WireCheck, ...]:
        """Rules that only this protocol knows."""

    # Requests

    def encode(self, operation: Operation, inputs: Inputs, base_url: str, *, loose: bool = False) -> Request:
        """Returns the request, without credentials.

        Raises UsageError when an input does not fit; with `loose`, such an input is sent as far as it has a
        form.
        """

    def inputs_of(self, operation: Operation, request: Request, base_url: str) -> Inputs:
        """Returns the inputs that a request of the operation was made with, as far as they have an address;
        no credentials.
        """

    def match(self, request: Request, base_url: str) -> tuple[Operation, ...]:
        """Returns the operations that a request may be a call of, best first."""

    def unmatched(self, request: Request, base_url: str) -> CheckResult | str:
        """Returns what a request is that matches none: a finding, or why it is none of this contract's."""

    def answers_to(self, operation: Operation, request: Request) -> bool:
        """Whether what an operation declares of its answers holds for a request that was changed."""

    def probe(self, base_url: str) -> Request:
        """Returns a request that only shows whether something answers at the base URL."""

    def variants(self, operation: Operation, inputs: Inputs) -> Iterable[Variant]:
        """Yields the ways in which a request of the operation can violate the protocol
        itself, schemas aside.
        """

    def head_of(self, operation: Operation, request: Request) -> Request | None:
        """Returns the request for the same response without its body; None where the protocol has none."""

    # Responses

    def decode(self, operation: Operation, exchange: Exchange) -> Answer:
        """Returns the declared answer that a response is. Call only for an exchange that has a response."""

    def outcome(self, operation: Operation, exchange: Exchange, answer: Answer | None = None) -> Outcome:
        """Returns what an exchange means; `answer` saves decoding it again."""

    def unmet(self, exchange: Exchange) -> Iterable[Unmet]:
        """Yields what the protocol requires of such a response, and this one lacks."""

    def version_of(self, exchange: Exchange) -> str | None:
        """Returns the mark of the version that a response shows (an entity tag); None where it shows none."""

    def exact(self, version: str) -> bool:
        """Whether equal versions mean equal contents, byte for byte."""

    def other_version(self, version: str) -> str:
        """Returns a version of the same form that is another one; an earlier one where
        versions are counted.
        """

    def precondition(self, operation: Operation, version: str, *, unless: bool = False) -> dict[str, str]:
        """Returns the inputs that make a request depend on a version: only if it is current, or `unless` it
        is.
        """

    def conditional(self, operation: Operation, *, unless: bool = False) -> bool:
        """Whether the definition says that an operation heeds such a condition."""

    def follow(self, exchange: Exchange) -> Request | None:
        """Returns a request that reads what a response says that it created or began; None where it names no
        address,
        or one of another origin.
        """

    def next_page(self, exchange: Exchange) -> str | None:
        """Returns the address or the mark of the next page, where the protocol itself has a place for it."""

    def whole_without_mark(self) -> bool:
        """Whether a list that names no next page is complete, as the protocol requires it."""

    def page_at(self, exchange: Exchange, address: str) -> Request | None:
        """Returns the request for the page at an address that the exchange's own response shows; None where
        there is no such request, or it would go to another origin.
        """

    def not_done(self, exchange: Exchange) -> bool:
        """Whether a response says that nothing was done of what was asked for, so that it may be asked for
        again.
        """

    def created(self, exchange: Exchange) -> bool | None:
        """Whether a response says that something new exists now; None where the protocol cannot say that."""

    def unchanged(self, exchange: Exchange) -> bool:
        """Whether a response says that nothing has changed since the version that the request names."""

    # Declarations

    def due(self, answer: DeclaredAnswer, wrong: Wrong) -> bool:
        """Whether a declared answer is one that is meant for a wrong request."""

    def refusals(self, operation: Operation, wrong: Wrong) -> tuple[DeclaredAnswer, ...]:
        """Returns the declared answers of which one is due for a wrong request; empty where the definition
        leaves it open.
        """

    def may_refuse(self, wrong: Wrong, exchange: Exchange) -> bool:
        """Whether such a refusal is right for a wrong request, although another one is declared for it."""

    def condition(self, operation: Operation, *outcomes: Outcome, left_open: bool = False) -> str:
        """Returns a condition of a suite (Arazzo 1.0.1, criterion object) for any of some outcomes, as far as
        the
        operation declares them, or with `left_open` does not rule them out; empty where a condition cannot
        express it.
        """

    def returned(self, answer: DeclaredAnswer) -> str:
        """Returns a condition of a suite for what a declared refusal looks like from
        outside; empty for none.
        """

    # Coverage

    def elements(self, operation: Operation) -> Iterator[Element]:
        """Yields everything of an operation that can be exercised."""

    def hits(self, operation: Operation, exchange: Exchange, answer: Answer, base_url: str) -> Iterable[str]:
        """Returns the ids of the elements that an exchange exercised, each once."""

    # Several exchanges

    def parts(self, exchange: Exchange) -> tuple[Exchange, ...]:
        """Returns the exchanges that one consists of (a batch), each as if it had been sent alone; empty for
        an ordinary one.
        """

    def conversation(self, base_url: str) -> Conversation | None:
        """Returns what watches the exchanges of a case that begins; None where each exchange stands for
        itself.
        """

    # Texts that people write

    def parse_text(self, schema: SchemaRef | None, pointer: str, text: str) -> Any:
        """Returns the value that a text means at a place of a value, read by what is declared there."""

    def selector(self, operation: Operation, schema: SchemaRef, pointer: str) -> str | None:
        """Returns an XPath of a place in a response's body; None where a JSON Pointer is enough."""

    def bare(self, operation: Operation, answer: Answer) -> Any:
        """Returns the value of an answer without what its media type adds, so that the values of two media
        types can be compared.
        """
