"""What a wire form does where its protocol says nothing more: the base of every format,
ours and a plug-in's.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from juxtalogos.check.body import check_body
from juxtalogos.conventions.faults import meant_for
from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.formats.http.outcomes import base_request
from juxtalogos.model.contract import Contract, DeclaredAnswer, Operation
from juxtalogos.model.elements import Element
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.outcome import Outcome, Wrong
from juxtalogos.model.schema import SchemaRef
from juxtalogos.model.wire import Answer, Conversation, Inputs, Unmet, Variant, WireCheck


class BaseWire:
    """A `Wire` of a protocol whose responses are successes or faults, and nothing else.

    A format derives from it and writes `encode`, `decode`, `inputs_of` and `match`. `decode` sets
    `Answer.outcome`.
    """

    method_tells = False
    version_place = "body"
    address_place = "body"

    def __init__(self, contract: Contract) -> None:
        self.contract = contract

    @property
    def checks(self) -> tuple[WireCheck, ...]:
        return (check_body,)

    def encode(self, operation: Operation, inputs: Inputs, base_url: str, *, loose: bool = False) -> Request:
        raise NotImplementedError

    def inputs_of(self, operation: Operation, request: Request, base_url: str) -> Inputs:
        raise NotImplementedError

    def match(self, request: Request, base_url: str) -> tuple[Operation, ...]:
        raise NotImplementedError

    def decode(self, operation: Operation, exchange: Exchange) -> Answer:
        raise NotImplementedError

    def unmatched(self, request: Request, base_url: str) -> CheckResult | str:
        return f"no operation of {self.contract.name} is called this way"

    def answers_to(self, operation: Operation, request: Request) -> bool:
        return True

    def probe(self, base_url: str) -> Request:
        return base_request(base_url)

    def variants(self, operation: Operation, inputs: Inputs) -> Iterable[Variant]:
        return ()

    def page_at(self, exchange: Exchange, address: str) -> Request | None:
        return None

    def created(self, exchange: Exchange) -> bool | None:
        return None

    def not_done(self, exchange: Exchange) -> bool:
        return False

    def head_of(self, operation: Operation, request: Request) -> Request | None:
        return None

    def outcome(self, operation: Operation, exchange: Exchange, answer: Answer | None = None) -> Outcome:
        if exchange.response is None:
            return Outcome.NO_RESPONSE
        return (answer or self.decode(operation, exchange)).outcome

    def unmet(self, exchange: Exchange) -> Iterable[Unmet]:
        return ()

    def version_of(self, exchange: Exchange) -> str | None:
        return None

    def exact(self, version: str) -> bool:
        return True

    def other_version(self, version: str) -> str:
        return version + "1"

    def precondition(self, operation: Operation, version: str, *, unless: bool = False) -> dict[str, str]:
        return {}

    def conditional(self, operation: Operation, *, unless: bool = False) -> bool:
        return False

    def follow(self, exchange: Exchange) -> Request | None:
        return None

    def next_page(self, exchange: Exchange) -> str | None:
        return None

    def whole_without_mark(self) -> bool:
        return False

    def unchanged(self, exchange: Exchange) -> bool:
        return False

    def due(self, answer: DeclaredAnswer, wrong: Wrong) -> bool:
        return bool(answer.fault) and meant_for(answer.fault, wrong)

    def refusals(self, operation: Operation, wrong: Wrong) -> tuple[DeclaredAnswer, ...]:
        return tuple(answer for answer in operation.answers if self.due(answer, wrong))

    def may_refuse(self, wrong: Wrong, exchange: Exchange) -> bool:
        return False

    def condition(self, operation: Operation, *outcomes: Outcome, left_open: bool = False) -> str:
        return ""

    def returned(self, answer: DeclaredAnswer) -> str:
        return ""

    def elements(self, operation: Operation) -> Iterator[Element]:
        yield Element("operation", operation.location, label=operation.id)
        for answer in operation.answers:
            yield self._answered(operation, answer)
        for ref in self.contract.schema_refs(operation):
            yield from self.contract.schema(ref).elements()

    def hits(self, operation: Operation, exchange: Exchange, answer: Answer, base_url: str) -> Iterable[str]:
        found = [Element("operation", operation.location).id]
        if answer.declared is not None:
            found.append(self._answered(operation, answer.declared).id)
        if answer.examined is not None:
            found += answer.examined.hits
        return list(dict.fromkeys(found))

    def _answered(self, operation: Operation, answer: DeclaredAnswer) -> Element:
        """The element that a declared answer is, among those that stand at one place of the definition."""
        word = answer.fault or answer.status
        return Element("status", answer.location, answer.fault, label=f"{operation.id} {word}")

    def parts(self, exchange: Exchange) -> tuple[Exchange, ...]:
        return ()

    def conversation(self, base_url: str) -> Conversation | None:
        return None

    def parse_text(self, schema: SchemaRef | None, pointer: str, text: str) -> Any:
        try:
            return parse_json(text)
        except NotJson:
            return text

    def selector(self, operation: Operation, schema: SchemaRef, pointer: str) -> str | None:
        return None

    def bare(self, operation: Operation, answer: Answer) -> Any:
        return answer.value
