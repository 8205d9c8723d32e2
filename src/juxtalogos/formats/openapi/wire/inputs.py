"""A request read back into the inputs that it was made with."""

from __future__ import annotations

from typing import Any

from juxtalogos.exchange.media import chosen_media, parse_media_type
from juxtalogos.exchange.message import further_headers
from juxtalogos.formats.http.match import path_values
from juxtalogos.formats.openapi.coverage import Reading, input_value
from juxtalogos.formats.openapi.wire.bodies import read_body
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Request, header
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs


def inputs_of(
    contract: Contract, operation: Operation, known: tuple[Reading, ...], request: Request, base_url: str
) -> Inputs:
    """Declared parameters by their types, a body as its media type is read; its bytes where it cannot be."""
    texts = path_values(contract, operation, request.url, base_url) or {}
    values = {}
    for item in known:
        value = input_value(item.given, item.reader, request, texts)
        if value is not ABSENT:
            values[item.given.address] = value
    declared = {entry.given.name.lower() for entry in known if entry.given.place == "header"}
    for name, text in further_headers(request):
        if name.lower() not in declared:
            values[f"header.{name}"] = text
    body: Any = ABSENT
    content_type = header(request.headers, "content-type") or ""
    if request.body:
        media = chosen_media(operation, content_type)
        parsed = parse_media_type(content_type)
        body = read_body(contract, media, request.body, parsed).value if parsed else ABSENT
        if body is ABSENT or (parsed is not None and parsed.is_multipart):
            body = request.body
    return Inputs(values, body, content_type if request.body else "")
