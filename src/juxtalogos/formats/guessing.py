"""What a typed URL and a body file leave unsaid: the method, and the media type of the body."""

from __future__ import annotations

import mimetypes
from pathlib import Path

from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.documents.xmltext import NotXml, namespace, parse_xml
from juxtalogos.formats.soap.names import ENVELOPES, MEDIA
from juxtalogos.model.exchange import Headers, header

_BY_SUFFIX = {
    ".json": "application/json",
    ".xml": "application/xml",
    ".csv": "text/csv",
    ".txt": "text/plain",
}


def usual_method(body: bytes | None) -> str:
    """The method of a request of which none was said."""
    return "GET" if body is None else "POST"


def with_media_type(headers: Headers, name: str, body: bytes | None) -> tuple[Headers, str]:
    """(the header fields with a Content-Type, if there is a body and none was given; why it is that one)."""
    if body is None or header(headers, "Content-Type") is not None:
        return headers, ""
    kind, why = media_type_of_file(name, body)
    return (*headers, ("Content-Type", kind)), f"{kind}, {why}"


def media_type_of_file(name: str, body: bytes) -> tuple[str, str]:
    """(media type, why it is taken for that): XML by its root, for SOAP has types of its own; else by the
    file's name, else by what stands in it.
    """
    suffix = Path(name).suffix.lower()
    if suffix in ("", ".xml", ".soap", ".txt") and body.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"<"):
        try:
            space = namespace(parse_xml(body).tag)
            version = next((version for version, uri in ENVELOPES.items() if uri == space), "")
            if version:
                return MEDIA[version], f"a SOAP {version} envelope"
            return "application/xml", "as it is XML"
        except NotXml:
            pass
    known = _BY_SUFFIX.get(suffix) or mimetypes.guess_type(name, strict=False)[0]
    if known:
        return known, "by the file's name"
    try:
        parse_json(body)
        return "application/json", "as it is JSON"
    except NotJson:
        pass
    try:
        body.decode("utf-8")
        return "text/plain", "as it is text"
    except UnicodeDecodeError:
        return "application/octet-stream", "as nothing tells what it is"
