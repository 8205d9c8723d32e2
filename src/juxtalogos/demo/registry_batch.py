"""Batches of the registry, and what both of its faces refuse alike."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import unquote

from juxtalogos.demo.registry_store import Refused

Answer = tuple[int, str, bytes, Mapping[str, str]]


def not_allowed(methods: str) -> Refused:
    """RFC 9110, section 15.5.6: with the methods that are allowed."""
    return Refused(405, "NotAllowed", "that cannot be done here", Allow=methods)


def batch(face: Any, prefix: str, headers: Any, body: bytes, status: int, extra: Mapping[str, str]) -> Answer:
    """Each request of a multipart batch, answered in its turn."""
    found = re.search(r'boundary="?([^";]+)', headers.get("Content-Type", ""))
    if not found:
        raise Refused(415, "NotMultipart", "a batch is multipart/mixed")
    out = b""
    for part in body.split(b"--" + found[1].encode()):
        message = re.search(rb"\r\n\r\n([A-Z]+) (\S+) HTTP/1.1\r\n(.*?)\r\n\r\n(.*)", part, re.DOTALL)
        if not message:
            continue
        fields = {
            name.strip(): text.strip()
            for name, _, text in (line.partition(":") for line in message[3].decode().split("\r\n") if line)
        }
        path, _, query = message[2].decode().partition("?")
        path = path.partition(prefix)[2] if prefix in path else f"/{path.lstrip('/')}"
        options = {
            unquote(name): unquote(text)
            for name, _, text in (one.partition("=") for one in query.split("&") if one)
        }
        try:
            code, kind, data, more = face.dispatch(
                message[1].decode(), path.strip("/"), options, fields, message[4].rstrip(b"\r\n")
            )
        except Refused as refused:
            code, kind, data, more = face.refusal(refused, "")
        lines = "".join(
            f"{name}: {text}\r\n"
            for name, text in {**more, **({"Content-Type": kind} if data else {})}.items()
        )
        out += (
            "--batchreply\r\nContent-Type: application/http\r\nContent-Transfer-Encoding:"
            f" binary\r\n\r\nHTTP/1.1 {code} \r\n{lines}Content-Length: {len(data)}\r\n\r\n".encode()
            + data
            + b"\r\n"
        )
    return status, "multipart/mixed;boundary=batchreply", out + b"--batchreply--\r\n", extra
