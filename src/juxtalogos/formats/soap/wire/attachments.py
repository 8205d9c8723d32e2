"""Messages with attachments: made, and taken apart. The root part of multipart/related (RFC 2387), with what
XOP took out of it put back.
"""

from __future__ import annotations

import base64
import email.policy
import re
from dataclasses import dataclass
from email import message_from_bytes
from email.message import Message
from typing import Any
from urllib.parse import quote, unquote

from juxtalogos.exchange.media import parse_media_type
from juxtalogos.exchange.multipart import enclosed

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
    parts = (
        [part for part in message.iter_parts() if isinstance(part, Message)] if message.is_multipart() else []
    )
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


@dataclass(frozen=True, slots=True)
class Attachment:
    name: str
    media_type: str
    content: bytes


def content_of(value: Any, types: str) -> bytes:
    """An attachment's bytes: of a text type the text, else what Base64 stands for, where it is that."""
    text = value if isinstance(value, str) else str(value)
    if not types.startswith("text/") and len(text) >= 8:
        try:
            return base64.b64decode(text, validate=True)
        except ValueError:
            pass
    return text.encode()


def packed(root: bytes, content_type: str, attached: list[Attachment], *, mtom: bool) -> tuple[str, bytes]:
    """(Content-Type, body) of multipart/related: SOAP with attachments, or MTOM, whose root is of a type of
    its own (MTOM, section 3).
    """
    kind = content_type.partition(";")[0]
    inner = f'application/xop+xml; charset=utf-8; type="{kind}"' if mtom else content_type
    parts = [("root", inner, root), *((one.name, one.media_type, one.content) for one in attached)]
    made = []
    for name, media_type, content in parts:
        head = f"Content-Type: {media_type}\r\nContent-Transfer-Encoding: binary\r\n"
        made.append(f"{head}Content-ID: <{quote(name)}@juxtalogos>\r\n\r\n".encode() + content)
    boundary, body = enclosed(made)
    start = f'; start-info="{kind}"' if mtom else ""
    outer = (
        f'multipart/related; boundary={boundary}; type="{"application/xop+xml" if mtom else kind}";'
        f' start="<root@juxtalogos>"{start}'
    )
    return outer, body


def _payload(part: Message) -> bytes:
    found = part.get_payload(decode=True)
    return found if isinstance(found, bytes) else b""
