"""Encoding: an operation and its inputs -> a request."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote_plus

from juxtalogos.documents.jsontext import dump_json
from juxtalogos.exchange.media import chosen_media, parse_media_type
from juxtalogos.exchange.multipart import enclosed
from juxtalogos.formats.http.match import base_of
from juxtalogos.formats.http.templates import filled, variables
from juxtalogos.formats.openapi.wire.styles import to_text, write
from juxtalogos.formats.openapi.wire.xml_bodies import to_xml
from juxtalogos.model.contract import Contract, Input, Media, Operation
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.exchange import Request
from juxtalogos.model.schema import ABSENT, SchemaRef
from juxtalogos.model.wire import Inputs
from juxtalogos.schema.json.tell.profile import View


@dataclass(frozen=True, slots=True)
class Prepared:
    """What is the same for every request of an operation."""

    by_address: Mapping[str, Input]
    accept: str


def prepared(operation: Operation) -> Prepared:
    return Prepared(
        {declared_input.address: declared_input for declared_input in operation.inputs}, accepted(operation)
    )


def encode(
    contract: Contract,
    operation: Operation,
    known: Prepared,
    inputs: Inputs,
    base_url: str,
    *,
    loose: bool = False,
) -> Request:
    """The request, without credentials.

    UsageError names an input that does not fit; `loose` sends it all the same.
    """
    by_address, accept = known.by_address, known.accept
    for address in inputs.values:
        if address not in by_address and not address.startswith("header.") and not loose:
            raise UsageError(
                f"{operation.id} has no input {quoted(address)}", mend=nearest(address, by_address)
            )
    texts: dict[str, str] = {}
    query, headers, cookies = [], [], []
    for address, value in inputs.values.items():
        one = by_address.get(address)
        if one is None:
            place, _, name = address.partition(".")
            pair = f"{quote_plus(name)}={quote_plus(to_text(value))}"
            if place == "query":
                query.append(pair)
            elif place == "cookie":
                cookies.append(pair)
            else:
                headers.append((name, to_text(value)))
        elif one.place == "path":
            text = write(one, value)
            if text == "" and not loose:
                raise UsageError(
                    f"{operation.id}: {address} is empty, so the path has a hole", mend="give it a value"
                )
            texts[one.name] = text
        elif one.place == "query":
            query += [write(one, value)] if value != [] and value != {} else []
        elif one.place == "header":
            headers.append((one.name, write(one, value)))
        else:
            cookies.append(write(one, value).replace("&", "; "))
    for missing in variables(operation.path):
        if missing not in texts and loose:
            texts[missing] = ""
        elif missing not in texts:
            raise UsageError(
                f"{operation.id} needs path.{missing}", mend=f"give it with --set path.{missing}=VALUE"
            )
    path, fixed = filled(operation.path, texts)
    if cookies:
        headers.append(("Cookie", "; ".join(cookies)))
    if accept and not any(name.lower() == "accept" for name, _ in headers):
        headers.append(("Accept", accept))
    body = None
    if inputs.body is not ABSENT:
        content_type, body = encode_body(contract, operation, inputs)
        if not any(name.lower() == "content-type" for name, _ in headers):
            headers.append(("Content-Type", content_type))
    query = [fixed, *query] if fixed else query
    url = base_of(contract, operation, base_url).rstrip("/") + path + ("?" + "&".join(query) if query else "")
    return Request(operation.method, url, tuple(headers), body)


def accepted(operation: Operation) -> str:
    """The declared media types of all answers, those of success first."""
    answers = sorted(operation.answers, key=lambda answer: not answer.status.startswith("2"))
    return ", ".join(
        dict.fromkeys(media.media_type.partition(";")[0] for answer in answers for media in answer.media)
    )


def encode_body(contract: Contract, operation: Operation, inputs: Inputs) -> tuple[str, bytes]:
    """(Content-Type, bytes). Bytes go as they are; values by the media type."""
    media = chosen_media(operation, inputs.content_type)
    content_type = inputs.content_type or (media.media_type if media else "application/json")
    if "*" in content_type:
        content_type = (
            "text/plain"
            if isinstance(inputs.body, str)
            else "application/octet-stream"
            if isinstance(inputs.body, bytes)
            else "application/json"
        )
    if isinstance(inputs.body, bytes):
        return content_type, inputs.body
    parsed = parse_media_type(content_type)
    if parsed and parsed.is_form:
        return content_type, form(inputs.body, media).encode()
    if parsed and parsed.is_multipart:
        boundary, body = enclosed(form_parts(inputs.body, dict(media.encoding) if media else {}))
        return f"multipart/form-data; boundary={boundary}", body
    if parsed and parsed.is_xml and media and media.schema and not isinstance(inputs.body, str):
        return content_type, _as_xml(contract, media.schema, inputs.body).encode()
    if isinstance(inputs.body, str) and not (parsed and parsed.is_json):
        return content_type, inputs.body.encode()
    return content_type, dump_json(inputs.body, indent=2).encode()


def _as_xml(contract: Contract, ref: SchemaRef, value: Any) -> str:
    """The root is called as its schema says, else as the schema itself is called."""
    schema: Any = contract.schema(ref)
    reference = schema.node.rule("ref")
    name = str(reference.operand.uri).rpartition("/")[2] if reference else "root"
    return to_xml(View(schema.node, schema.context()), value, name)


def form(value: Any, media: Media | None = None) -> str:
    """application/x-www-form-urlencoded: each property as a query parameter of style `form`, exploded, unless
    its encoding says otherwise.
    """
    if not isinstance(value, dict):
        return to_text(value)
    parts = []
    styles = {name: (style, explode) for name, style, explode in media.styles} if media else {}
    for name, item in value.items():
        if media and name in styles and isinstance(item, list | dict):
            style, explode = styles[name]
            as_query = Input(name, "query", False, None, media.location, style, explode)
            parts += [write(as_query, item)] if item else []
            continue
        for one in item if isinstance(item, list) else [item]:
            parts.append(f"{quote_plus(name)}={quote_plus(to_text(one))}")
    return "&".join(parts)


def form_parts(value: Any, content_types: dict[str, str]) -> list[bytes]:
    """The parts of multipart/form-data (RFC 7578): one a property, one an item of a list."""
    if not isinstance(value, dict):
        raise UsageError("a multipart body is made of named parts", mend="give an object, a property a part")
    parts = []
    for name, item in value.items():
        for one in item if isinstance(item, list) else [item]:
            escaped = name.replace("\\", "\\\\").replace('"', "%22").replace("\r", "%0D").replace("\n", "%0A")
            file_name = ""
            kind = content_types.get(name, "").partition(",")[0]
            if isinstance(one, bytes):
                file_name, kind = f'; filename="{escaped}"', kind or "application/octet-stream"
            elif isinstance(one, dict | list):
                kind = kind or "application/json"
            elif kind and not kind.startswith("text/plain"):
                file_name = f'; filename="{escaped}"'
            data = one if isinstance(one, bytes) else to_text(one).encode()
            head = f'Content-Disposition: form-data; name="{escaped}"{file_name}\r\n'
            head += f"Content-Type: {kind}\r\n" if kind else ""
            parts.append(head.encode() + b"\r\n" + data)
    return parts
