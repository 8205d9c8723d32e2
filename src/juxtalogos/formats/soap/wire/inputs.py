"""A request read back into the inputs that it was made with."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from typing import Any

from juxtalogos.exchange.message import further_headers
from juxtalogos.formats.soap.binding_facts import version_of
from juxtalogos.formats.soap.definition.http_binding import input_texts
from juxtalogos.formats.soap.schemas import soap_schema
from juxtalogos.formats.soap.wire.encoding import plain_values
from juxtalogos.formats.soap.wire.envelope import Envelope
from juxtalogos.formats.soap.wire.match import envelope_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Request
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.schema.xml.check.identity import ScopeOf


def inputs_of(contract: Contract, operation: Operation, request: Request, base_url: str) -> Inputs:
    """Header blocks and the body as plain values; a body that is not the declared one as it came."""
    values: dict[str, Any] = (
        dict(input_texts(operation, request, base_url)) if not version_of(operation) else {}
    )
    values |= {f"header.{name}": text for name, text in further_headers(request)}
    if not version_of(operation):
        return Inputs({address: text for address, text in values.items() if _known(operation, address)})
    envelope = envelope_of(request)
    media = operation.body.media[0] if operation.body else None
    if envelope is None:
        return Inputs(values, request.body or ABSENT)
    for declared_input in operation.inputs:
        schema = soap_schema(contract, declared_input.schema) if declared_input.schema else None
        block = envelope.block(schema.declared.name) if schema else None
        if schema is not None and block is not None:
            values[declared_input.address] = schema.tree(block, envelope.tree.scope)
    body = _body(contract, operation, envelope) if media and media.schema else ABSENT
    if body is ABSENT and envelope.entry is not None:
        body = request.body
    return Inputs(values, body, media.media_type if media else "")


def _known(operation: Operation, address: str) -> bool:
    return address.startswith("header.") or any(
        declared_input.address == address for declared_input in operation.inputs
    )


def _body(contract: Contract, operation: Operation, envelope: Envelope) -> Any:
    media = operation.body.media[0] if operation.body else None
    if media is None or media.schema is None or envelope.body is None or media.encoding:
        return ABSENT  # what lies beside the envelope is not read back
    schema = soap_schema(contract, media.schema)
    element = envelope.entry
    scope: ScopeOf = envelope.tree.scope
    if schema.of_type:
        element = ET.Element(schema.declared.name)
        element.extend(envelope.body)
    elif media.schema.encoded:
        plain = plain_values(envelope.body)
        element, scope = (plain.element, plain.scope_of(scope)) if plain else (None, scope)
    if element is None or element.tag != schema.declared.name:
        return ABSENT  # one that stands in for the declared one is sent as it is
    return schema.tree(element, scope)
