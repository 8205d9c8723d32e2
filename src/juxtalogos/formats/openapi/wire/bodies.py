"""Reading bodies: bytes of a media type -> the value that a schema is compared with."""

from __future__ import annotations

from email import message_from_bytes
from typing import Any, NamedTuple
from urllib.parse import parse_qsl

from juxtalogos.documents.charsets import NotInCharset, decode_text
from juxtalogos.documents.jsontext import NotJson, parse_answer, parse_json
from juxtalogos.documents.xmltext import NotXml, local, parse_xml
from juxtalogos.exchange.media import MediaType, parse_media_type
from juxtalogos.formats.openapi.wire.styles import coerce, kinds
from juxtalogos.formats.openapi.wire.xml_bodies import from_xml, root_name
from juxtalogos.model.contract import Contract, Media
from juxtalogos.model.schema import ABSENT, SchemaRef
from juxtalogos.model.wire import Problem
from juxtalogos.schema.json.tell.profile import View


class Read(NamedTuple):
    value: Any = ABSENT
    problem: Problem | None = None
    unread: str = ""
    """Why there is no value, when there is none."""
    too_much: bool = False
    """Whether it may well be sound, but is more than is followed."""


def read_body(contract: Contract, media: Media | None, body: bytes, media_type: MediaType | None) -> Read:
    """`media_type` is what came, or what is declared where nothing was said."""
    if media_type is None:
        return Read(unread="the response has no media type, so its body cannot be read")
    if media_type.is_json:
        try:
            return Read(parse_answer(body))
        except NotJson as error:
            if error.too_much:
                return Read(unread=str(error), too_much=True)
            return _untrue(media_type, "JSON text", str(error), "the body is not JSON")
    schema = media.schema if media else None
    if media_type.is_xml and schema is not None:
        return _xml(contract, schema, body, media_type)
    if media_type.is_text or media_type.is_xml:
        charset = media_type.parameter("charset") or "utf-8"
        try:
            return Read(decode_text(body, charset))
        except NotInCharset as error:
            return _untrue(media_type, f"text in {charset[:40]}", str(error), "the body is not text")
    if media_type.is_form and schema is not None:
        pairs = parse_qsl(body.decode("utf-8", "replace"), keep_blank_values=True)
        return Read(_gathered(pairs, kinds(contract, schema)[2]))
    if media_type.type == "multipart" and schema is not None:
        return _multipart(contract, schema, body, media_type)
    return Read(unread=f"bodies of {media_type} are not compared with a schema")


def _untrue(media_type: MediaType, wanted: str, observed: str, unread: str) -> Read:
    return Read(ABSENT, Problem("media.untrue", "body", f"{media_type}: {wanted}", observed), unread)


def _xml(contract: Contract, ref: SchemaRef, body: bytes, media_type: MediaType) -> Read:
    schema: Any = contract.schema(ref)
    view = View(schema.node, schema.context())
    try:
        root = parse_xml(body)
    except NotXml as error:
        if error.too_much:
            return Read(unread=str(error), too_much=True)
        return _untrue(media_type, "XML text", str(error), "the body is not XML")
    if view.kinds == ("string",):
        return Read(body.decode("utf-8", "replace"))
    wanted = root_name(view, "")
    if wanted and local(root.tag) != wanted:
        problem = Problem("body.name", "body", f"the element {wanted}", f"the element {local(root.tag)}")
        return Read(ABSENT, problem, "the root element is another")
    try:
        return Read(from_xml(view, root))
    except ValueError as error:
        return Read(unread=str(error))


def _multipart(contract: Contract, ref: SchemaRef, body: bytes, media_type: MediaType) -> Read:
    """Parts by name (RFC 7578); for other kinds of multipart in their order."""
    boundary = media_type.parameter("boundary")
    message = message_from_bytes(
        f"Content-Type: {media_type}; boundary={boundary!r}\r\n\r\n".replace("'", '"').encode() + body
    )
    parts = message.get_payload() if boundary and message.is_multipart() else None
    if not isinstance(parts, list):
        return _untrue(media_type, "parts between its boundary", "no parts", "the body has no parts")
    named: list[tuple[str, Any]] = []
    by_property = kinds(contract, ref)[2]
    for part in parts:
        payload: Any = part.get_payload(decode=True)  # type: ignore[union-attr]
        name = part.get_param("name", header="content-disposition")  # type: ignore[union-attr]
        kind = parse_media_type(part.get_content_type())  # type: ignore[union-attr]
        text = payload.decode("utf-8", "replace") if isinstance(payload, bytes) else ""
        if kind and kind.is_json:
            try:
                named.append((str(name), parse_json(text)))
                continue
            except NotJson:
                pass
        named.append((str(name), text))
    if not media_type.is_multipart:
        return Read([value for _, value in named])
    return Read(_gathered(named, by_property))


def _gathered(pairs: list[tuple[str, Any]], by_property: dict[str, tuple[str, ...]]) -> dict[str, Any]:
    value: dict[str, Any] = {}
    for name, item in pairs:
        types = by_property.get(name, ())
        if "array" in types and not isinstance(item, list):
            value.setdefault(name, []).append(item)
        else:
            value[name] = coerce(item, types) if isinstance(item, str) else item
    return value
