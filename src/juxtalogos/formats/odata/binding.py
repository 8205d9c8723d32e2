"""An OData contract bound to its protocol: what its wire form does, and all that is cached for it."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import Any

from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.formats.http.outcomes import with_outcome
from juxtalogos.formats.http.wire import HttpWire
from juxtalogos.formats.odata.coverage import Counted
from juxtalogos.formats.odata.csdl import Model
from juxtalogos.formats.odata.definition.model_reader import model_of
from juxtalogos.formats.odata.wire.batch import parts_of
from juxtalogos.formats.odata.wire.checks import ProtocolRules
from juxtalogos.formats.odata.wire.conversation import ODataConversation
from juxtalogos.formats.odata.wire.decode import decode
from juxtalogos.formats.odata.wire.encode import encode
from juxtalogos.formats.odata.wire.inputs import inputs_of
from juxtalogos.formats.odata.wire.items import bare
from juxtalogos.formats.odata.wire.match import Matcher
from juxtalogos.model.contract import Operation
from juxtalogos.model.elements import Element
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.schema import SchemaRef
from juxtalogos.model.wire import Answer, Inputs, WireCheck
from juxtalogos.schema.json.tell.profile import declared_kinds


class ODataWire(HttpWire):
    """See `Wire`."""

    def whole_without_mark(self) -> bool:
        """In V4 a partial list must have a link to the rest (OData 4.01 Protocol, section 11.2.6.7)."""
        return self.model.is_v4

    @cached_property
    def model(self) -> Model:
        return model_of(self.contract.documents)

    @cached_property
    def checks(self) -> tuple[WireCheck, ...]:
        return *super().checks, ProtocolRules(self.model).check

    @cached_property
    def _reader(self) -> Matcher:
        return Matcher(self.contract, self.model)

    @cached_property
    def _counted(self) -> Counted:
        return Counted(self.contract, self.model)

    def encode(self, operation: Operation, inputs: Inputs, base_url: str, *, loose: bool = False) -> Request:
        return encode(self.model, operation, inputs, base_url, loose=loose)

    def inputs_of(self, operation: Operation, request: Request, base_url: str) -> Inputs:
        return inputs_of(self._counted, operation, request, base_url)

    def match(self, request: Request, base_url: str) -> tuple[Operation, ...]:
        return self._reader.match(request, base_url)

    def unmatched(self, request: Request, base_url: str) -> CheckResult | str:
        return self._reader.unmatched(request, base_url)

    def decode(self, operation: Operation, exchange: Exchange) -> Answer:
        return with_outcome(decode(self.contract, self.model, operation, exchange), exchange)

    def bare(self, operation: Operation, answer: Answer) -> Any:
        """Of entities what they hold; a fault as it came."""
        if not answer.outcome.succeeded:
            return answer.value
        return bare(self.model, operation.fact("type"), answer.value)

    def elements(self, operation: Operation) -> Iterator[Element]:
        return self._counted.elements(operation)

    def hits(
        self, operation: Operation, exchange: Exchange, answer: Answer, base_url: str
    ) -> tuple[str, ...]:
        return tuple(dict.fromkeys(self._counted.hits(operation, exchange, answer, base_url)))

    def parts(self, exchange: Exchange) -> tuple[Exchange, ...]:
        return parts_of(exchange) if exchange.request.url.partition("?")[0].endswith("/$batch") else ()

    def conversation(self, base_url: str) -> ODataConversation:
        return ODataConversation(self.model, base_url)

    def parse_text(self, schema: SchemaRef | None, pointer: str, text: str) -> Any:
        """By the declared type: a text stays one where a text is declared."""
        if schema is None:
            return text
        compiled: Any = self.contract.schema(schema)
        kinds, items, _ = declared_kinds(compiled, pointer)
        if "array" in kinds and "string" not in kinds and not text.startswith("["):
            return [_single(one.strip(), items) for one in text.split(",")] if text else []
        return _single(text, kinds)


def _single(text: str, kinds: tuple[str, ...]) -> Any:
    if "string" in kinds and not ("null" in kinds and text == "null"):
        return text
    try:
        return parse_json(text)
    except NotJson:
        return text
