"""Encoding: an operation and its inputs -> a request with its envelope, action and content type."""

from __future__ import annotations

import re
import uuid
import xml.etree.ElementTree as ET
from urllib.parse import quote, urlencode, urlsplit

from juxtalogos.documents.xmltext import NotXml, parse_xml
from juxtalogos.formats.soap.binding_facts import url_of, version_of
from juxtalogos.formats.soap.names import ADDRESSING, ATTACHED, ENVELOPES, MEDIA
from juxtalogos.formats.soap.schemas import ElementSchema, soap_schema
from juxtalogos.formats.soap.wire.attachments import Attachment, content_of, packed
from juxtalogos.formats.soap.wire.encoding import marked
from juxtalogos.formats.soap.wire.envelope import closed
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.exchange import Request
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.schema.xml.tell.text import Prefixes


def encode(
    contract: Contract, operation: Operation, inputs: Inputs, base_url: str, *, loose: bool = False
) -> Request:
    """The request, without credentials.

    UsageError names an input that does not fit; `loose` sends it all the same.
    """
    if operation.not_callable:
        raise UsageError(
            f"{operation.id} cannot be called: {operation.not_callable}", mend="correct the definition"
        )
    by_address = {declared_input.address: declared_input for declared_input in operation.inputs}
    for address in inputs.values:
        if address not in by_address and not address.startswith("header.") and not loose:
            raise UsageError(
                f"{operation.id} has no input {quoted(address)}", mend=nearest(address, by_address)
            )
    if not version_of(operation):
        return _plain(operation, inputs, base_url)
    return _soap(contract, operation, inputs, url_of(operation, base_url), loose)


def _soap(contract: Contract, operation: Operation, inputs: Inputs, url: str, loose: bool) -> Request:
    version, action = version_of(operation), operation.fact("action")
    own: list[tuple[str, str]] = []
    prefixes: Prefixes = {uri: prefix for prefix, uri in contract.namespaces}
    blocks = _blocks(contract, operation, inputs, own, loose)
    if operation.fact("addressing"):
        blocks += _addressing(operation, url)
    body, attached = _parted(operation, inputs.body)
    if isinstance(body, bytes | str) and _is_envelope(body):
        text = body.encode() if isinstance(body, str) else body
    else:
        text = closed(version, blocks, _entries(contract, operation, body, loose), prefixes)
    names = {name.lower() for name, _ in own}
    if "content-type" not in names:
        kind = f"{MEDIA[version]}; charset=utf-8"
        if version == "1.2" and action:
            kind += f'; action="{action}"'
        if attached or operation.fact("packaging"):
            kind, text = packed(text, kind, attached, mtom=bool(operation.fact("packaging")))
        own.append(("Content-Type", kind))
    if version == "1.1" and "soapaction" not in names:
        own.append(("SOAPAction", f'"{action}"'))
    if "accept" not in names:
        own.append(("Accept", f"{MEDIA[version]}, multipart/related"))
    return Request("POST", url, tuple(own), text)


def _parted(operation: Operation, body: object) -> tuple[object, list[Attachment]]:
    """(what goes into the envelope, attachments): those that are declared and not given are made up."""
    declared = operation.body.media[0].encoding if operation.body else ()
    given = (
        {key: value for key, value in body.items() if key.startswith(ATTACHED)}
        if isinstance(body, dict)
        else {}
    )
    known = [key for key, _ in declared]
    for key in given:
        if key not in known:
            raise UsageError(
                f"{operation.id} has no attachment {quoted(key)}", mend=nearest(key, known) or "leave it out"
            )
    rest = {key: value for key, value in body.items() if key not in given} if isinstance(body, dict) else body
    return rest, [
        Attachment(
            key.removeprefix(ATTACHED), types.partition(" or ")[0], content_of(given.get(key, "quay"), types)
        )
        for key, types in declared
    ]


def _blocks(
    contract: Contract, operation: Operation, inputs: Inputs, own: list[tuple[str, str]], loose: bool
) -> list[ET.Element]:
    """The header blocks; what is no declared block becomes a header field of HTTP."""
    blocks = []
    by_address = {declared_input.address: declared_input for declared_input in operation.inputs}
    for address, value in inputs.values.items():
        given = by_address.get(address)
        if given is not None and given.unreadable and given.content:
            raise UsageError(f"{address}: {given.unreadable}", mend="give a whole envelope as the body")
        if given is None or given.schema is None:
            own.append((address.partition(".")[2], str(value)))
        else:
            schema = soap_schema(contract, given.schema)
            blocks += _unwrapped(schema, schema.element(value, address, loose=loose))
    return blocks


def _entries(contract: Contract, operation: Operation, body: object, loose: bool) -> list[ET.Element]:
    media = operation.body.media[0] if operation.body else None
    if media is None or media.schema is None:
        return []
    schema = soap_schema(contract, media.schema)
    if isinstance(body, bytes | str):
        text = body.encode() if isinstance(body, str) else body
        if text.lstrip()[:1] == b"<":
            try:
                return [parse_xml(text)]
            except NotXml as error:
                raise UsageError(
                    f"the body is not XML: {error}", mend="give one element, or a whole envelope"
                ) from None
        body = text.decode("utf-8", "replace")
    element = schema.element({} if body is ABSENT else body, loose=loose)
    if media.schema.encoded:
        return [marked(element, schema.declared, schema.reader, version_of(operation))]
    return _unwrapped(schema, element)


def _unwrapped(schema: ElementSchema, element: ET.Element) -> list[ET.Element]:
    """Of a part with a type and no element, what stands within is the body (WSDL 1.1, section 3.5)."""
    return list(element) if schema.of_type else [element]


def _is_envelope(body: bytes | str) -> bool:
    text = body if isinstance(body, str) else body[:4_000].decode("utf-8", "replace")
    return re.search(r"<(?:[\w.-]+:)?Envelope[\s>]", text[:4_000]) is not None and any(
        uri in text for uri in ENVELOPES.values()
    )


def _addressing(operation: Operation, url: str) -> list[ET.Element]:
    """WS-Addressing 1.0, section 3.3: what a request needs."""
    found = []
    texts = {"Action": operation.fact("addressing"), "To": url, "MessageID": f"urn:uuid:{uuid.uuid4()}"}
    for name, text in texts.items():
        block = ET.Element(f"{{{ADDRESSING}}}{name}")
        block.text = text
        found.append(block)
    return found


def _plain(operation: Operation, inputs: Inputs, base_url: str) -> Request:
    """A GET or POST with its parts in the path, the query or a form (WSDL 1.1, section 4)."""
    path = operation.path
    query: list[tuple[str, str]] = []
    form: list[tuple[str, str]] = []
    own: list[tuple[str, str]] = []
    for address, value in inputs.values.items():
        place, _, name = address.partition(".")
        text = str(value).lower() if isinstance(value, bool) else str(value)
        if place == "path":
            path = path.replace(f"{{{name}}}", quote(text, safe="", errors="replace"))
        elif place == "query":
            (form if operation.method == "POST" else query).append((name, text))
        else:
            own.append((name, text))
    url = base_url.rstrip("/") + path
    if query:
        url += ("&" if urlsplit(url).query else "?") + urlencode(query)
    if operation.method == "GET":
        return Request("GET", url, tuple(own))
    own.append(("Content-Type", "application/x-www-form-urlencoded"))
    return Request(operation.method, url, tuple(own), urlencode(form).encode())
