"""What of an operation can be exercised, and what an exchange exercised."""

from __future__ import annotations

from collections.abc import Iterator

from juxtalogos.formats.soap.binding_facts import version_of
from juxtalogos.formats.soap.definition.http_binding import input_texts
from juxtalogos.formats.soap.schemas import soap_schema
from juxtalogos.formats.soap.wire.encoding import plain_values
from juxtalogos.formats.soap.wire.match import envelope_of
from juxtalogos.model.contract import Contract, DeclaredAnswer, Operation
from juxtalogos.model.elements import Element
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.schema import SchemaRef
from juxtalogos.model.wire import Answer
from juxtalogos.schema.xml.check.identity import ScopeOf


def elements(contract: Contract, operation: Operation) -> Iterator[Element]:
    """Everything of an operation that can be exercised."""
    yield Element("operation", operation.location, label=operation.id)
    refs: list[SchemaRef] = []
    for declared_input in operation.inputs:
        yield Element("parameter", declared_input.location, label=f"{operation.id} {declared_input.address}")
        refs += [declared_input.schema] if declared_input.schema else []
    refs += [media.schema for media in (operation.body.media if operation.body else ()) if media.schema]
    seen = set()
    for answer in operation.answers:
        element = _answer(operation, answer)
        if element.id not in seen:
            seen.add(element.id)
            yield element
        refs += [media.schema for media in answer.media if media.schema]
        for head in answer.headers:
            yield Element("header", head.location, label=f"{operation.id} {head.name}")
            refs += [head.schema] if head.schema else []
    for ref in refs:
        yield from contract.schema(ref).elements()


def _answer(operation: Operation, answer: DeclaredAnswer) -> Element:
    if answer.fault:
        return Element("fault", answer.location, label=f"{operation.id} {answer.fault}")
    return Element(
        "status", answer.location, label=f"{operation.id} {'answer' if answer.media else 'accepted'}"
    )


def hits(
    contract: Contract, operation: Operation, exchange: Exchange, answer: Answer, base_url: str
) -> tuple[str, ...]:
    """Ids of the elements exercised, each once."""
    request = _request(contract, operation, exchange.request, base_url)
    return tuple(dict.fromkeys([*request, *_response(operation, answer)]))


def _request(contract: Contract, operation: Operation, request: Request, base_url: str) -> Iterator[str]:
    yield Element("operation", operation.location).id
    if not version_of(operation):
        texts = input_texts(operation, request, base_url)
        for one in operation.inputs:
            if one.address in texts:
                yield Element("parameter", one.location).id
                if one.schema:
                    yield from soap_schema(contract, one.schema).hits(texts[one.address])
        return
    envelope = envelope_of(request)
    if envelope is None:
        return
    prefixes: ScopeOf = envelope.tree.scope
    for one in operation.inputs:
        schema = soap_schema(contract, one.schema) if one.schema else None
        block = envelope.block(schema.declared.name) if schema else None
        if schema is not None and block is not None:
            yield Element("parameter", one.location).id
            yield from schema.examined(block, prefixes).hits
    media = operation.body.media[0] if operation.body else None
    entry = envelope.entry
    if media and media.schema and entry is not None and envelope.body is not None:
        schema = soap_schema(contract, media.schema)
        if media.schema.encoded:
            plain = plain_values(envelope.body)
            entry, prefixes = (plain.element, plain.scope_of(prefixes)) if plain else (None, prefixes)
        if entry is not None and entry.tag == schema.declared.name:
            yield from schema.examined(entry, prefixes).hits


def _response(operation: Operation, answer: Answer) -> Iterator[str]:
    if answer.declared is not None:
        yield _answer(operation, answer.declared).id
        for head in answer.headers:
            if head.text is not None:
                yield Element("header", head.declared.location).id
                if head.schema is not None:
                    yield from head.schema.hits(head.value)
    if answer.examined is not None:
        yield from answer.examined.hits
