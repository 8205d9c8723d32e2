"""An OpenAPI contract bound to HTTP: what its wire form does, and all that is cached for it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from juxtalogos.formats.http.outcomes import with_outcome
from juxtalogos.formats.http.wire import HttpWire
from juxtalogos.formats.openapi.coverage import Reading, elements, hits, readings
from juxtalogos.formats.openapi.wire.decode import decode
from juxtalogos.formats.openapi.wire.encode import Prepared, encode, prepared
from juxtalogos.formats.openapi.wire.inputs import inputs_of
from juxtalogos.formats.openapi.wire.styles import parse_text
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.elements import Element
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.schema import SchemaRef
from juxtalogos.model.wire import Answer, Inputs


class OpenApiWire(HttpWire):
    """See `Wire`."""

    def __init__(self, contract: Contract) -> None:
        super().__init__(contract)
        self._prepared: dict[str, Prepared] = {}
        self._readings: dict[str, tuple[Reading, ...]] = {}

    def encode(self, operation: Operation, inputs: Inputs, base_url: str, *, loose: bool = False) -> Request:
        known = self._prepared.get(operation.id)
        if known is None:
            known = self._prepared[operation.id] = prepared(operation)
        return encode(self.contract, operation, known, inputs, base_url, loose=loose)

    def inputs_of(self, operation: Operation, request: Request, base_url: str) -> Inputs:
        return inputs_of(self.contract, operation, self._reading(operation), request, base_url)

    def decode(self, operation: Operation, exchange: Exchange) -> Answer:
        return with_outcome(decode(self.contract, operation, exchange), exchange)

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

    def parse_text(self, schema: SchemaRef | None, pointer: str, text: str) -> Any:
        return parse_text(self.contract, schema, pointer, text)
