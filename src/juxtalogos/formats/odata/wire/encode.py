"""Encoding: an operation and its inputs -> a request with the protocol's headers."""

from __future__ import annotations

import re
from typing import Any

from juxtalogos.documents.jsontext import dump_json
from juxtalogos.exchange.media import chosen_media, parse_media_type
from juxtalogos.exchange.multipart import enclosed
from juxtalogos.formats.odata.csdl import Model
from juxtalogos.formats.odata.wire.atom import entry_text
from juxtalogos.formats.odata.wire.batch import batch_parts
from juxtalogos.formats.odata.wire.literals import in_path, in_query, literal
from juxtalogos.model.contract import Input, Operation
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.exchange import Request
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs

_VARIABLE = re.compile(r"(\w+=)?\{([^}]+)\}(,?)")


def encode(
    model: Model, operation: Operation, inputs: Inputs, base_url: str, *, loose: bool = False
) -> Request:
    """The request, without credentials.

    UsageError names an input that does not fit; `loose` sends it all the same.
    """
    known = {declared_input.address: declared_input for declared_input in operation.inputs}
    for address in inputs.values:
        if address not in known and not address.startswith("header.") and not loose:
            raise UsageError(f"{operation.id} has no input {quoted(address)}", mend=nearest(address, known))
    writer = _Writer(model, operation, known, inputs, loose)
    path = writer.path()
    query = writer.query()
    headers = [
        (address.partition(".")[2], _text(value))
        for address, value in inputs.values.items()
        if address.startswith("header.")
    ]
    given = {name.lower() for name, _ in headers}
    body = None
    if inputs.body is not ABSENT:
        content_type, body = _body(model, operation, inputs)
        headers += [("Content-Type", content_type)] if "content-type" not in given else []
    headers += [pair for pair in _protocol(model, operation, inputs) if pair[0].lower() not in given]
    url = base_url.rstrip("/") + path + ("?" + "&".join(query) if query else "")
    return Request(operation.method, url, tuple(headers), body)


class _Writer:
    def __init__(
        self, model: Model, operation: Operation, known: dict[str, Input], inputs: Inputs, loose: bool
    ) -> None:
        self.model = model
        self.operation = operation
        self.known = known
        self.inputs = inputs
        self.loose = loose
        self.aliases: list[str] = []

    def path(self) -> str:
        """Variables as literals; optional parameters that are not given are left out with their name."""

        def filled(found: re.Match[str]) -> str:
            name, address = found[2], f"path.{found[2]}"
            value = self.inputs.values.get(address, ABSENT)
            one = self.known.get(address)
            if value is ABSENT:
                if self.loose or (one is not None and not one.required):
                    return "" if found[1] else found[3]
                raise UsageError(
                    f"{self.operation.id} needs {address}", mend=f"give it with --set {address}=VALUE"
                )
            if one is None or one.style == "name":
                return f"{found[1] or ''}{in_path(_text(value))}{found[3]}"
            text = literal(one.style, value, v4=self.model.is_v4)
            if one.style.startswith("Collection ") or isinstance(value, dict | list):
                self.aliases.append(f"@{name}={in_query(text)}")  # URL conventions 4.0, 5.1.1.13
                text = f"@{name}"
                return f"{found[1] or ''}{text}{found[3]}"
            return f"{found[1] or ''}{in_path(text)}{found[3]}"

        return re.sub(r",(?=\))", "", _VARIABLE.sub(filled, self.operation.path))

    def query(self) -> list[str]:
        found = list(self.aliases)
        for address, value in self.inputs.values.items():
            place, _, name = address.partition(".")
            if place != "query":
                continue
            one = self.known.get(address)
            if one is None or one.style == "option":
                text = ",".join(map(_text, value)) if isinstance(value, list) else _text(value)
            else:
                text = literal(one.style, value, v4=self.model.is_v4)
            found.append(f"{in_query(name)}={in_query(text)}")
        return found


def _protocol(model: Model, operation: Operation, inputs: Inputs) -> list[tuple[str, str]]:
    """4.0 part 1, 8.2.5 to 8.2.7; V2 overview, 3.1. The answer is asked for in JSON where it has one."""
    declared = list(
        dict.fromkeys(
            media.media_type
            for answer in operation.answers
            if answer.status[0] == "2"
            for media in answer.media
        )
    )
    accept = next(
        (entry for entry in declared if "json" in entry), declared[0] if declared else "application/json"
    )
    if accept == "multipart/mixed" or "multipart/mixed" in declared:
        accept = (
            "multipart/mixed"
            if not (inputs.content_type or "").startswith("application/json")
            else "application/json"
        )
    if model.is_v4:
        version = "4.01" if model.version != "4.0" else "4.0"
        accept = "application/json;odata.metadata=minimal" if accept == "application/json" else accept
        found = [("Accept", accept), ("OData-MaxVersion", version)]
        return [*found, ("OData-Version", version)] if inputs.body is not ABSENT else found
    accept = (
        "application/json;odata=verbose"
        if accept == "application/json" and model.version == "3.0"
        else accept
    )
    version = "3.0" if model.version == "3.0" else "2.0"
    found = [("Accept", accept), ("MaxDataServiceVersion", version)]
    return [*found, ("DataServiceVersion", version)] if inputs.body is not ABSENT else found


def _body(model: Model, operation: Operation, inputs: Inputs) -> tuple[str, bytes]:
    media = chosen_media(operation, inputs.content_type)
    content_type = inputs.content_type or (media.media_type if media else "application/json")
    if isinstance(inputs.body, bytes):
        return content_type, inputs.body
    parsed = parse_media_type(content_type)
    if parsed and parsed.type == "multipart":
        boundary, body = enclosed(batch_parts(inputs.body))
        return f"multipart/mixed;boundary={boundary}", body
    if parsed and parsed.is_xml and not isinstance(inputs.body, str):
        return content_type, entry_text(model, operation.fact("type"), inputs.body).encode()
    if isinstance(inputs.body, str) and not (parsed and parsed.is_json):
        return content_type, inputs.body.encode()
    if parsed and parsed.is_json and model.version == "3.0" and content_type == "application/json":
        content_type = "application/json;odata=verbose"
    return content_type, dump_json(inputs.body, indent=2).encode()


def _text(value: Any) -> str:
    return value if isinstance(value, str) else dump_json(value)
