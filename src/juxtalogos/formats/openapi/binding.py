"""An OpenAPI contract bound to HTTP: what its wire form does, and all that is cached for it."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import Any

from juxtalogos.formats.http.match import Matcher
from juxtalogos.formats.openapi.coverage import Reading, elements, hits, readings
from juxtalogos.formats.openapi.wire.decode import decode
from juxtalogos.formats.openapi.wire.encode import Prepared, encode, prepared
from juxtalogos.formats.openapi.wire.styles import parse_text
from juxtalogos.formats.openapi.wire.taken import taken
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.elements import Element
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.schema import SchemaRef
from juxtalogos.model.wire import Answer, Inputs, WireCheck


class OpenApiWire:
    """See `Wire`."""

    method_tells = True
    checks: tuple[WireCheck, ...] = ()

    def __init__(self, contract: Contract) -> None:
        self.contract = contract
        self._prepared: dict[str, Prepared] = {}
        self._readings: dict[str, tuple[Reading, ...]] = {}

    @cached_property
    def _matcher(self) -> Matcher:
        return Matcher(self.contract)

    def encode(self, operation: Operation, inputs: Inputs, base_url: str, *, loose: bool = False) -> Request:
        known = self._prepared.get(operation.id)
        if known is None:
            known = self._prepared[operation.id] = prepared(operation)
        return encode(self.contract, operation, known, inputs, base_url, loose=loose)

    def taken(self, operation: Operation, request: Request, base_url: str) -> Inputs:
        return taken(self.contract, operation, self._reading(operation), request, base_url)

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
        return hits(self.contract, operation, self._reading(operation), exchange, answer, base_url)

    def _reading(self, operation: Operation) -> tuple[Reading, ...]:
        known = self._readings.get(operation.id)
        if known is None:
            known = self._readings[operation.id] = readings(self.contract, operation)
        return known

    def parts(self, exchange: Exchange) -> tuple[Exchange, ...]:
        return ()

    def conversation(self, base_url: str) -> None:
        return None

    def misread(self, request: Request) -> tuple[tuple[str, str, Request], ...]:
        return ()

    def parse_text(self, schema: SchemaRef | None, pointer: str, text: str) -> Any:
        return parse_text(self.contract, schema, pointer, text)

    def selector(self, operation: Operation, schema: SchemaRef, pointer: str) -> None:
        return None
