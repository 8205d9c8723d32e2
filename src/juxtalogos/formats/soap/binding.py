"""A WSDL contract bound to SOAP and plain HTTP: what its wire form does, and all that is cached for it."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import Any

from juxtalogos.formats.soap.coverage import elements, hits
from juxtalogos.formats.soap.schemas import parse_text, selector
from juxtalogos.formats.soap.wire.checks import check_envelope, check_fault
from juxtalogos.formats.soap.wire.decode import decode
from juxtalogos.formats.soap.wire.encode import encode
from juxtalogos.formats.soap.wire.envelope import other_version
from juxtalogos.formats.soap.wire.match import Matcher
from juxtalogos.formats.soap.wire.taken import taken
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.elements import Element
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.schema import SchemaRef
from juxtalogos.model.wire import Answer, Inputs, WireCheck


class SoapWire:
    """See `Wire`."""

    method_tells = False
    checks: tuple[WireCheck, ...] = (check_envelope, check_fault)

    def __init__(self, contract: Contract) -> None:
        self.contract = contract

    @cached_property
    def _matcher(self) -> Matcher:
        return Matcher(self.contract)

    def encode(self, operation: Operation, inputs: Inputs, base_url: str, *, loose: bool = False) -> Request:
        return encode(self.contract, operation, inputs, base_url, loose=loose)

    def taken(self, operation: Operation, request: Request, base_url: str) -> Inputs:
        return taken(self.contract, operation, request, base_url)

    def match(self, request: Request, base_url: str) -> tuple[Operation, ...]:
        return self._matcher.match(request, base_url)

    def unmatched(self, request: Request, base_url: str) -> CheckResult | str:
        return self._matcher.unmatched(request, base_url)

    def decode(self, operation: Operation, exchange: Exchange) -> Answer:
        return decode(self.contract, operation, exchange)

    def elements(self, operation: Operation) -> Iterator[Element]:
        return elements(self.contract, operation)

    def hits(
        self, operation: Operation, exchange: Exchange, answer: Answer, base_url: str
    ) -> tuple[str, ...]:
        return hits(self.contract, operation, exchange, answer, base_url)

    def parts(self, exchange: Exchange) -> tuple[Exchange, ...]:
        return ()

    def conversation(self, base_url: str) -> None:
        return None

    def misread(self, request: Request) -> tuple[tuple[str, str, Request], ...]:
        return other_version(request)

    def parse_text(self, schema: SchemaRef | None, pointer: str, text: str) -> Any:
        return parse_text(self.contract, schema, pointer, text)

    def selector(self, operation: Operation, schema: SchemaRef, pointer: str) -> str:
        return selector(self.contract, operation, schema, pointer)
