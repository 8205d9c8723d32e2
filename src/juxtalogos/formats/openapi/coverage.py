"""What of an operation can be exercised, and what an exchange exercised."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

from juxtalogos.exchange.media import chosen_media, parse_media_type
from juxtalogos.formats.http.match import path_values
from juxtalogos.formats.openapi.wire.bodies import read_body
from juxtalogos.formats.openapi.wire.styles import ParameterReader, kinds
from juxtalogos.model.contract import Contract, Input, Operation
from juxtalogos.model.elements import Element, element_id
from juxtalogos.model.exchange import Exchange, Request, header
from juxtalogos.model.location import Location
from juxtalogos.model.schema import ABSENT, SchemaRef
from juxtalogos.model.wire import Answer


def elements(contract: Contract, operation: Operation) -> Iterator[Element]:
    """Everything of an operation that can be exercised."""
    yield Element("operation", operation.location, label=operation.id)
    refs: list[SchemaRef] = []
    for declared_input in operation.inputs:
        yield Element("parameter", declared_input.location, label=f"{operation.id} {declared_input.address}")
        refs += [declared_input.schema] if declared_input.schema else []
    for media in operation.body.media if operation.body else ():
        yield Element(
            "media", media.location, media.media_type, "request", f"{operation.id} {media.media_type}"
        )
        refs += [media.schema] if media.schema else []
    for answer in operation.answers:
        yield _status(operation, answer.status)
        for media in answer.media:
            yield Element(
                "media",
                media.location,
                media.media_type,
                "response",
                f"{operation.id} {answer.status} {media.media_type}",
            )
            refs += [media.schema] if media.schema else []
        for head in answer.headers:
            yield Element("header", head.location, label=f"{operation.id} {answer.status} {head.name}")
            refs += [head.schema] if head.schema else []
    for ref in refs:
        yield from contract.schema(ref).elements()


def _status(operation: Operation, status: str) -> Element:
    return Element("status", _status_place(operation, status), label=f"{operation.id} {status}")


def _status_place(operation: Operation, status: str) -> Location:
    return operation.location.child("responses", status)


def hits(
    contract: Contract,
    operation: Operation,
    known: tuple[Reading, ...],
    exchange: Exchange,
    answer: Answer,
    base_url: str,
) -> tuple[str, ...]:
    """Ids of the elements exercised, each once."""
    request = _request_hits(contract, operation, known, exchange.request, base_url)
    return tuple(dict.fromkeys([*request, *_answer_hits(contract, operation, exchange, answer)]))


@dataclass(frozen=True, slots=True)
class Reading:
    """How one input is read back out of requests, and what it exercises; made once for an operation."""

    given: Input
    reader: ParameterReader
    element: str
    schema: Any


def readings(contract: Contract, operation: Operation) -> tuple[Reading, ...]:
    """How each input of an operation is read back."""
    return tuple(
        Reading(
            declared_input,
            ParameterReader(declared_input, *kinds(contract, declared_input.schema)),
            Element("parameter", declared_input.location).id,
            contract.schema(declared_input.schema) if declared_input.schema else None,
        )
        for declared_input in operation.inputs
    )


def _request_hits(
    contract: Contract, operation: Operation, known: tuple[Reading, ...], request: Request, base_url: str
) -> Iterator[str]:
    yield element_id("operation", operation.location)
    texts: dict[str, str] | None = None
    for entry in known:
        if entry.given.place == "path" and texts is None:
            texts = path_values(contract, operation, request.url, base_url) or {}
        value = input_value(entry.given, entry.reader, request, texts or {})
        if value is not ABSENT:
            yield entry.element
            if entry.schema is not None:
                yield from entry.schema.hits(value)
    if request.body is not None and operation.body:
        content_type = header(request.headers, "content-type") or ""
        media = chosen_media(operation, content_type) if content_type else None
        if media:
            yield element_id("media", media.location, media.media_type, "request")
            value = read_body(contract, media, request.body, parse_media_type(content_type)).value
            if value is not ABSENT and media.schema:
                yield from contract.schema(media.schema).hits(value)


def _answer_hits(
    contract: Contract, operation: Operation, exchange: Exchange, answer: Answer
) -> Iterator[str]:
    if answer.declared is None or exchange.response is None:
        return
    yield element_id("status", _status_place(operation, answer.declared.status))
    for head in answer.headers:
        if head.text is not None:
            yield element_id("header", head.declared.location)
            if head.schema is not None:
                yield from head.schema.hits(head.value)
    if answer.media:
        yield element_id("media", answer.media.location, answer.media.media_type, "response")
        if answer.examined is not None:
            yield from answer.examined.hits


def input_value(one: Input, reader: ParameterReader, request: Request, path_texts: Mapping[str, str]) -> Any:
    """A parameter's value read back out of a request; ABSENT when it is not there."""
    if one.place == "path":
        return reader.from_text(path_texts[one.name]) if one.name in path_texts else ABSENT
    if one.place == "query":
        pairs = [part.partition("=")[::2] for part in urlsplit(request.url).query.split("&") if part]
        return reader.from_query([(key, value) for key, value in pairs])
    if one.place == "header":
        text = header(request.headers, one.name)
        return reader.from_text(text) if text is not None else ABSENT
    cookies = [
        part.strip().partition("=")[::2]
        for part in (header(request.headers, "cookie") or "").split(";")
        if part
    ]
    return reader.from_query([(key, value) for key, value in cookies])
