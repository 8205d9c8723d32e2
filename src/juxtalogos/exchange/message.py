"""The HTTP/1.1 message text of RFC 9112: written for people to edit, read back to be sent."""

from __future__ import annotations

import re
from collections.abc import Iterator
from urllib.parse import urlsplit

from juxtalogos.documents.messagetext import NotMessage, read_message, split_message
from juxtalogos.exchange.redact import is_credential
from juxtalogos.model.errors import UsageError
from juxtalogos.model.exchange import Headers, Request


def request_text(request: Request) -> bytes:
    """The message with CRLF line ends; Host first. Content-Length is left to the sender."""
    parts = urlsplit(request.url)
    target = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    lines = [f"{request.method} {target} HTTP/1.1", f"Host: {parts.netloc.rpartition('@')[2]}"]
    lines += [f"{name}: {value}" for name, value in request.headers if name.lower() != "host"]
    return ("\r\n".join(lines) + "\r\n\r\n").encode("utf-8") + (request.body or b"")


def parse_request(data: bytes, origin: str, where: str = "message") -> Request:
    """The request that a message is; UsageError with its line when it is none."""
    try:
        read = read_message(data)
    except NotMessage as error:
        mend = (
            "write METHOD TARGET HTTP/1.1"
            if error.line == 1
            else "write NAME: VALUE, and an empty line before the body"
        )
        raise UsageError(f"this is {error}", where=f"{where}:{error.line}", mend=mend) from None
    target, headers = read["target"], tuple((name, value) for name, value in read["fields"])
    url = target if target.startswith(("http://", "https://")) else origin + target
    return Request(read["method"], url, headers, split_message(data)[1] or None)


_SENDERS = frozenset(
    (
        "host",
        "content-length",
        "content-type",
        "transfer-encoding",
        "connection",
        "user-agent",
        "accept",
        "accept-encoding",
        "traceparent",
        "cookie",
        "soapaction",
    )
)
"""Fields that the sender writes, not the caller."""


def further_headers(request: Request) -> Iterator[tuple[str, str]]:
    """The header fields that whoever made the request wrote on purpose; no credentials, no cookies."""
    for name, value in request.headers:
        if name.lower() not in _SENDERS and not is_credential(name):
            yield name, value


def ready_message(data: bytes, extra: Headers) -> bytes:
    """A message as edited -> the bytes to send: CRLF line ends in its head, `extra` fields, and a length
    where it says none.
    """
    head, body = split_message(data)
    lines = re.split(rb"\r?\n", head)
    names = {line.partition(b":")[0].strip().lower() for line in lines[1:]}
    for name, value in extra:
        if name.lower().encode() not in names:
            lines.append(f"{name}: {value}".encode())
    if body and not names & {b"content-length", b"transfer-encoding"}:
        lines.append(b"Content-Length: %d" % len(body))
    return b"\r\n".join(lines) + b"\r\n\r\n" + body
