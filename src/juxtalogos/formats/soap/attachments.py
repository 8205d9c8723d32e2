"""Answers with attachments: the root part of multipart/related (RFC 2387), with what XOP took out of it put back."""

from __future__ import annotations

import base64
import email.policy
import re
from email import message_from_bytes
from email.message import Message
from urllib.parse import unquote

from juxtalogos.exchange.media import parse_media_type

_INCLUDE = re.compile(
    rb"""<(?:[\w.-]+:)?Include\b[^>]*?href\s*=\s*["']cid:([^"']+)["'][^>]*?(?:/>|>\s*</(?:[\w.-]+:)?Include\s*>)"""
)
MAX_PARTS = 1_000


def root_part(body: bytes, content_type: str) -> tuple[bytes, str]:
    """(bytes of the envelope, what is wrong). A body of one part is its own root."""
    kind = parse_media_type(content_type)
    if kind is None or kind.type != "multipart":
        return body, ""
    head = f"Content-Type: {content_type}\r\nMIME-Version: 1.0\r\n\r\n".encode("utf-8", "replace")
    message = message_from_bytes(head + body, policy=email.policy.HTTP)
    parts = [part for part in message.iter_parts() if isinstance(part, Message)] if message.is_multipart() else []
    if not parts or len(parts) > MAX_PARTS:
        return b"", "no parts in multipart/related" if not parts else "too many parts"
    wanted = (kind.parameter("start") or "").strip("<>")
    by_id = {str(part.get("Content-ID", "")).strip().strip("<>"): part for part in parts}
    root = by_id.get(wanted, parts[0]) if wanted else parts[0]
    if wanted and wanted not in by_id:
        return b"", f"no part has the Content-ID {wanted[:60]}"
    text = _payload(root)

    def put_back(found: re.Match[bytes]) -> bytes:
        part = by_id.get(unquote(found[1].decode("utf-8", "replace")))
        return base64.b64encode(_payload(part)) if part is not None else found[0]

    return (_INCLUDE.sub(put_back, text) if b"Include" in text else text), ""


def _payload(part: Message) -> bytes:
    found = part.get_payload(decode=True)
    return found if isinstance(found, bytes) else b""
