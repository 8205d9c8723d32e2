"""The HTTP/1.1 message text of RFC 9112: written for people to edit, read back to be sent."""

from __future__ import annotations

import re
from urllib.parse import urlsplit

from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.model.exchange import Headers, Request

_TOKEN = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+")


def request_text(request: Request) -> bytes:
    """The message with CRLF line ends; Host first. Content-Length is left to the sender."""
    parts = urlsplit(request.url)
    target = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    lines = [f"{request.method} {target} HTTP/1.1", f"Host: {parts.netloc.rpartition('@')[2]}"]
    lines += [f"{name}: {value}" for name, value in request.headers if name.lower() != "host"]
    return ("\r\n".join(lines) + "\r\n\r\n").encode("utf-8") + (request.body or b"")


def parse_request(data: bytes, origin: str, where: str = "message") -> Request:
    """The request that a message is; UsageError with its line when it is none."""
    head, body = split_message(data)
    lines = re.split(r"\r?\n", head.decode("utf-8", "replace"))
    words = lines[0].split(" ")
    if len(words) != 3 or not words[2].startswith("HTTP/"):
        raise UsageError(
            f"this is no request line: {quoted(lines[0])}", where=f"{where}:1", mend="write METHOD TARGET HTTP/1.1"
        )
    method, target, _ = words
    headers: list[tuple[str, str]] = []
    for number, line in enumerate(lines[1:], 2):
        name, colon, value = line.partition(":")
        if not colon or not _TOKEN.fullmatch(name):
            raise UsageError(
                f"this is no header field: {quoted(line)}",
                where=f"{where}:{number}",
                mend="write NAME: VALUE, and an empty line before the body",
            )
        headers.append((name, value.strip()))
    url = target if target.startswith(("http://", "https://")) else origin + target
    return Request(method, url, tuple(headers), body or None)


def split_message(data: bytes) -> tuple[bytes, bytes]:
    """(start line and fields, body): the first empty line parts them, with either kind of line end."""
    found = re.search(rb"\r?\n\r?\n", data)
    return (data[: found.start()], data[found.end() :]) if found else (data.rstrip(b"\r\n"), b"")


def ready_message(data: bytes, extra: Headers) -> bytes:
    """A message as edited -> the bytes to send: CRLF line ends in its head, `extra` fields, and a length where it says none."""
    head, body = split_message(data)
    lines = re.split(rb"\r?\n", head)
    names = {line.partition(b":")[0].strip().lower() for line in lines[1:]}
    for name, value in extra:
        if name.lower().encode() not in names:
            lines.append(f"{name}: {value}".encode())
    if body and not names & {b"content-length", b"transfer-encoding"}:
        lines.append(b"Content-Length: %d" % len(body))
    return b"\r\n".join(lines) + b"\r\n\r\n" + body
