"""WS-Security: a UsernameToken in the envelope's header (Web Services Security UsernameToken Profile 1.0)."""

from __future__ import annotations

import base64
import hashlib
import os
import re
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from html import escape
from typing import Any

from juxtalogos.formats.soap.names import SECURITY, SECURITY_UTILITY, TOKEN_PROFILE
from juxtalogos.model.contract import SecurityScheme
from juxtalogos.model.exchange import Request

_LIFE = timedelta(minutes=5)
_B64 = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary"


def with_text(request: Request, scheme: SecurityScheme, credential: Any, memory: dict[str, Any]) -> Request:
    """The password as it is (section 3.1, PasswordText)."""
    return _with_token(request, credential.user, credential.secret, "PasswordText", "")


def with_digest(request: Request, scheme: SecurityScheme, credential: Any, memory: dict[str, Any]) -> Request:
    """Base64(SHA-1(nonce + created + password)) (section 3.1, PasswordDigest)."""
    nonce = os.urandom(16)
    created = _stamp(datetime.now(UTC))
    digest = hashlib.sha1(
        nonce + created.encode() + credential.secret.encode(), usedforsecurity=False
    ).digest()
    more = (
        "<wsse:Nonce"
        f' EncodingType="{_B64}">{base64.b64encode(nonce).decode()}</wsse:Nonce><wsu:Created>{created}</wsu:Created>'  # noqa: E501
    )
    memory["digest"] = base64.b64encode(digest).decode()
    return _with_token(request, credential.user, memory["digest"], "PasswordDigest", more)


def _stamp(moment: datetime) -> str:
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")


def _with_token(request: Request, user: str, password: str, kind: str, more: str) -> Request:
    now = datetime.now(UTC)
    block = (
        f'<wsse:Security xmlns:wsse="{SECURITY}" xmlns:wsu="{SECURITY_UTILITY}">'
        f"<wsu:Timestamp><wsu:Created>{_stamp(now)}</wsu:Created><wsu:Expires>{_stamp(now + _LIFE)}</wsu:Expires></wsu:Timestamp>"  # noqa: E501
        f"<wsse:UsernameToken><wsse:Username>{escape(user)}</wsse:Username>"
        "<wsse:Password"
        f' Type="{TOKEN_PROFILE}#{kind}">{escape(password)}</wsse:Password>{more}</wsse:UsernameToken></wsse:Security>'  # noqa: E501
    ).encode()
    return replace(request, body=_in_header(request.body or b"", block))


_TAG = rb"((?:[\w.-]+:)?)%s\b((?:\"[^\"]*\"|'[^']*'|[^>\"'])*?)(/?)>"
_ASIDE = rb"(?:\s|<!--.*?-->|<\?.*?\?>)*"
_ENVELOPE = re.compile(rb"(?:\xef\xbb\xbf)?" + _ASIDE + b"<" + _TAG % b"Envelope", re.DOTALL)
_FIRST = re.compile(_ASIDE + b"<" + _TAG % b"(Header|Body)", re.DOTALL)


def _in_header(body: bytes, block: bytes) -> bytes:
    """The envelope with a block more in its header; as it was where it is no envelope.

    Only what stands directly below the envelope is looked at: a payload may have elements of the same names.
    """
    envelope = _ENVELOPE.match(body)
    first = _FIRST.match(body, envelope.end()) if envelope is not None and not envelope[3] else None
    if first is None:
        return body
    prefix, name, attributes, closed = first[1], first[2], first[3], first[4]
    start = body.rindex(b"<" + prefix + name, first.start(), first.end())
    if name == b"Header" and not closed:
        return body[: first.end()] + block + body[first.end() :]
    whole = (
        b"<"
        + prefix
        + b"Header"
        + (attributes.rstrip() if name == b"Header" else b"")
        + b">"
        + block
        + b"</"
        + prefix
        + b"Header>"
    )
    return body[:start] + whole + body[first.end() if name == b"Header" else start :]
