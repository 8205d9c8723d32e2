"""A request read back into the inputs that it was made with."""

from __future__ import annotations

from typing import Any

from juxtalogos.exchange.media import chosen_media
from juxtalogos.exchange.message import further_headers
from juxtalogos.formats.odata.coverage import Counted
from juxtalogos.formats.odata.wire.literals import value_of
from juxtalogos.formats.odata.wire.match import options, path_values
from juxtalogos.model.contract import Operation
from juxtalogos.model.exchange import Request, header
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs

_PROTOCOL = frozenset(("odata-version", "odata-maxversion", "dataserviceversion", "maxdataserviceversion"))


def inputs_of(counted: Counted, operation: Operation, request: Request, base_url: str) -> Inputs:
    """Literals in the path as values, options as they are written, a body's value; its bytes where it cannot
    be read.
    """
    values: dict[str, Any] = {
        f"path.{name}": value for name, value in path_values(operation, request.url, base_url).items()
    }
    query = options(request.url)
    for declared_input in operation.inputs:
        if declared_input.place == "query" and declared_input.name in query:
            values[declared_input.address] = (
                query[declared_input.name]
                if declared_input.style == "option"
                else value_of(query[declared_input.name])
            )
    for name, text in further_headers(request):
        if name.lower() not in _PROTOCOL:
            values[f"header.{name}"] = text
    if not request.body:
        return Inputs(values)
    content_type = header(request.headers, "content-type") or ""
    media = chosen_media(operation, content_type)
    value = counted.body(operation, request, media) if media else ABSENT
    return Inputs(values, request.body if value is ABSENT else value, content_type)
