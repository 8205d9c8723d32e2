"""A WSDL contract bound to SOAP and plain HTTP: what its wire form does, and all that is cached for it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from functools import cached_property
from typing import Any

from juxtalogos.conventions.faults import fault_outcome
from juxtalogos.formats.base import BaseWire
from juxtalogos.formats.http.outcomes import with_outcome
from juxtalogos.formats.http.wire import HttpWire
from juxtalogos.formats.soap.coverage import elements, hits
from juxtalogos.formats.soap.schemas import parse_text, selector
from juxtalogos.formats.soap.wire.checks import check_envelope, check_fault
from juxtalogos.formats.soap.wire.decode import decode
from juxtalogos.formats.soap.wire.encode import encode
from juxtalogos.formats.soap.wire.envelope import other_versions
from juxtalogos.formats.soap.wire.inputs import inputs_of
from juxtalogos.formats.soap.wire.match import Matcher
from juxtalogos.model.contract import DeclaredAnswer, Operation
from juxtalogos.model.elements import Element
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.outcome import Outcome, Wrong
from juxtalogos.model.schema import SchemaRef
from juxtalogos.model.wire import Answer, Inputs, ObservedFault, Variant, WireCheck


class SoapWire(HttpWire):
    """See `Wire`."""

    method_tells = False

    @property
    def checks(self) -> tuple[WireCheck, ...]:
        return *super().checks, check_envelope, check_fault

    @cached_property
    def _reader(self) -> Matcher:
        return Matcher(self.contract)

    def encode(self, operation: Operation, inputs: Inputs, base_url: str, *, loose: bool = False) -> Request:
        return encode(self.contract, operation, inputs, base_url, loose=loose)

    def inputs_of(self, operation: Operation, request: Request, base_url: str) -> Inputs:
        return inputs_of(self.contract, operation, request, base_url)

    def match(self, request: Request, base_url: str) -> tuple[Operation, ...]:
        return self._reader.match(request, base_url)

    def unmatched(self, request: Request, base_url: str) -> CheckResult | str:
        return self._reader.unmatched(request, base_url)

    def decode(self, operation: Operation, exchange: Exchange) -> Answer:
        answer = with_outcome(decode(self.contract, operation, exchange), exchange)
        return answer if answer.fault is None else _of_fault(answer, answer.fault)

    def due(self, answer: DeclaredAnswer, wrong: Wrong) -> bool:
        return BaseWire.due(self, answer, wrong) if answer.fault else super().due(answer, wrong)

    def refusals(self, operation: Operation, wrong: Wrong) -> tuple[DeclaredAnswer, ...]:
        if any(answer.fault for answer in operation.answers):
            return BaseWire.refusals(self, operation, wrong)
        return super().refusals(operation, wrong)

    def other_versions(self, operation: Operation) -> Iterator[Variant]:
        yield from other_versions(operation)

    def elements(self, operation: Operation) -> Iterator[Element]:
        return elements(self.contract, operation)

    def hits(
        self, operation: Operation, exchange: Exchange, answer: Answer, base_url: str
    ) -> tuple[str, ...]:
        return hits(self.contract, operation, exchange, answer, base_url)

    def parse_text(self, schema: SchemaRef | None, pointer: str, text: str) -> Any:
        return parse_text(self.contract, schema, pointer, text)

    def selector(self, operation: Operation, schema: SchemaRef, pointer: str) -> str:
        return selector(self.contract, operation, schema, pointer)


def _of_fault(answer: Answer, fault: ObservedFault) -> Answer:
    """A fault means what its name says; without one, that the service failed or the message was wrong."""
    if fault.name:
        return replace(answer, outcome=fault_outcome(fault.name))
    if answer.outcome.about_caller:
        return answer
    return replace(answer, outcome=Outcome.FAILED if fault.of_service else Outcome.INVALID)
