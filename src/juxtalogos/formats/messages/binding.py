"""Messages spoken again: an operation and its inputs -> a request, an answer -> its value."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import Any
from urllib.parse import quote, unquote, urlencode, urlsplit

from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.documents.messagetext import read_message
from juxtalogos.exchange.media import chosen_media, parse_media_type
from juxtalogos.exchange.message import request_text
from juxtalogos.formats.http.outcomes import with_outcome
from juxtalogos.formats.http.templates import canonical, filled, template, variables
from juxtalogos.formats.http.wire import HttpWire
from juxtalogos.formats.messages.message import taken_apart
from juxtalogos.formats.messages.shown import ShownEngine, typed
from juxtalogos.model.contract import Operation
from juxtalogos.model.document import Document, Parsed
from juxtalogos.model.elements import Element
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.exchange import Exchange, Request, header
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.schema import ABSENT, SchemaRef
from juxtalogos.model.wire import Answer, Inputs

UNDECLARED = "messages declare nothing about their responses"


class MessagesWire(HttpWire):
    """See `Wire`."""

    @cached_property
    def _examples(self) -> ShownEngine:
        return ShownEngine(self.contract.documents)

    def encode(self, operation: Operation, inputs: Inputs, base_url: str, *, loose: bool = False) -> Request:
        known = {declared_input.address for declared_input in operation.inputs}
        texts: dict[str, str] = {}
        query: list[str] = []
        headers: list[tuple[str, str]] = []
        for address, value in inputs.values.items():
            place, _, name = address.partition(".")
            if address not in known and place != "header" and not loose:
                raise UsageError(
                    f"{operation.id} has no input {quoted(address)}", mend=nearest(address, known)
                )
            if place == "path":
                texts[name] = quote(_text(value), safe="")
                if not texts[name] and not loose:
                    raise UsageError(
                        f"{operation.id}: {address} is empty, so the path has a hole", mend="give it a value"
                    )
            elif place == "query":
                members = value if isinstance(value, list) else [value]
                query += [
                    quote(name) if one is None else urlencode({name: _text(one)}, quote_via=quote)
                    for one in members
                ]
            else:
                headers.append((name, _text(value)))
        missing = [f"path.{name}" for name in variables(operation.path) if name not in texts]
        if missing:
            raise UsageError(f"{operation.id} needs {missing[0]}", mend=f"give it: --set {missing[0]}=VALUE")
        body = None
        if inputs.body is not ABSENT:
            kind, body = _encoded(operation, inputs)
            if kind and not any(name.lower() == "content-type" for name, _ in headers):
                headers.append(("Content-Type", kind))
        path, _ = filled(operation.path, texts)
        url = base_url.rstrip("/") + path + ("?" + "&".join(query) if query else "")
        return Request(operation.method, url, tuple(headers), body)

    def inputs_of(self, operation: Operation, request: Request, base_url: str) -> Inputs:
        below = request.url[len(base_url.rstrip("/")) :] if request.url.startswith(base_url) else request.url
        text = request_text(Request(request.method, f"http://host{below}", request.headers, request.body))
        message = taken_apart(Document("message", "message", text, lambda: Parsed(read_message(text))))
        found = template(operation.path).values(canonical(urlsplit(below).path)) or {}
        values = {
            address: given.value
            for address, given in message.inputs.items()
            if not address.startswith("path.")
        }
        paths = {f"path.{name}": unquote(one) for name, one in found.items()}
        return Inputs({**paths, **values}, message.body, message.content_type)

    def unmatched(self, request: Request, base_url: str) -> CheckResult | str:
        found = super().unmatched(request, base_url)
        return found if isinstance(found, str) else f"no message like it is in {self.contract.name}"

    def decode(self, operation: Operation, exchange: Exchange) -> Answer:
        response = exchange.response
        assert response is not None
        kind = parse_media_type(header(response.headers, "content-type") or "")
        value: Any = ABSENT
        if response.body and not exchange.bodiless and kind is not None and kind.is_json:
            try:
                value = parse_json(response.body)
            except NotJson:
                value = ABSENT
        return with_outcome(Answer(None, None, value, allowed=UNDECLARED), exchange)

    def elements(self, operation: Operation) -> Iterator[Element]:
        yield Element("operation", operation.location, label=operation.id)

    def hits(
        self, operation: Operation, exchange: Exchange, answer: Answer, base_url: str
    ) -> tuple[str, ...]:
        return tuple(element.id for element in self.elements(operation))

    def parse_text(self, schema: SchemaRef | None, pointer: str, text: str) -> Any:
        if schema is None:
            return text
        return typed(self._examples.example(schema), pointer, text, loose=schema.role == "body")


def _text(value: Any) -> str:
    if isinstance(value, str):
        return value
    return dump_json(value)


def _encoded(operation: Operation, inputs: Inputs) -> tuple[str, bytes]:
    """(Content-Type, bytes): values by the media type, texts and bytes as they are."""
    media = chosen_media(operation, inputs.content_type)
    content_type = inputs.content_type or (media.media_type if media else "")
    parsed = parse_media_type(content_type)
    if isinstance(inputs.body, bytes):
        return content_type, inputs.body
    if parsed is not None and parsed.is_form and isinstance(inputs.body, dict):
        plain = {
            name: [_text(one) for one in item] if isinstance(item, list) else _text(item)
            for name, item in inputs.body.items()
        }
        return content_type, urlencode(plain, doseq=True).encode()
    if isinstance(inputs.body, str) and not (parsed is not None and parsed.is_json):
        return content_type, inputs.body.encode()
    return content_type or "application/json", dump_json(inputs.body, indent=2).encode()
