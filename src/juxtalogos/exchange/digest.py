"""HTTP Digest access authentication (RFC 7616): a challenge read, and the field that meets it."""

from __future__ import annotations

import hashlib
import re
import secrets
from collections.abc import Callable, Iterable, Mapping
from typing import Any
from urllib.parse import urlsplit

from juxtalogos.model.exchange import Request

_ALGORITHMS: Mapping[str, Callable[[bytes], Any]] = {
    "SHA-256": hashlib.sha256,
    "MD5": hashlib.md5,
    "": hashlib.md5,
}
"""The strongest first; a challenge without one means MD5."""
_PAIR = re.compile(r'(\w+)\s*=\s*(?:"((?:[^"\\]|\\.)*)"|([^\s,]+))')


def digest_challenge(fields: Iterable[str]) -> Mapping[str, str] | None:
    """The parameters of the strongest challenge that can be met (section 3.3); None where there is none."""
    found: list[dict[str, str]] = []
    for value in fields:
        for part in re.split(r"(?i)(?=\bdigest\s)", value):
            if not part.lower().startswith("digest"):
                continue
            pairs = {
                name.lower(): (quoted or bare).replace('\\"', '"')
                for name, quoted, bare in _PAIR.findall(part[6:])
            }
            if pairs.get("nonce") and _name(pairs) in _ALGORITHMS:
                found.append(pairs)
    return min(found, key=lambda one: list(_ALGORITHMS).index(_name(one)), default=None)


def digest_word(challenge: Mapping[str, str], count: int, request: Request, user: str, password: str) -> str:
    """The value of `Authorization` (section 3.4) for the `count`th request under a nonce."""
    make = _ALGORITHMS[_name(challenge)]

    def hashed(text: str) -> str:
        return str(make(text.encode()).hexdigest())

    parts = urlsplit(request.url)
    uri = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    realm, nonce, client = challenge.get("realm", ""), challenge["nonce"], secrets.token_hex(8)
    first = hashed(f"{user}:{realm}:{password}")
    if challenge.get("algorithm", "").lower().endswith("-sess"):
        first = hashed(f"{first}:{nonce}:{client}")
    offered = [word.strip() for word in challenge.get("qop", "").split(",") if word.strip()]
    integrity = offered == ["auth-int"]
    second = f"{request.method}:{uri}"
    if integrity:
        second += f":{make(request.body or b'').hexdigest()}"
    told = {"username": user, "realm": realm, "nonce": nonce, "uri": uri}
    if offered:
        qop, number = "auth-int" if integrity else "auth", f"{count:08x}"
        told["response"] = hashed(f"{first}:{nonce}:{number}:{client}:{qop}:{hashed(second)}")
        plain = f', qop={qop}, nc={number}, cnonce="{client}"'
    else:
        told["response"], plain = hashed(f"{first}:{nonce}:{hashed(second)}"), ""
    if "opaque" in challenge:
        told["opaque"] = challenge["opaque"]
    if challenge.get("algorithm"):
        plain += f", algorithm={challenge['algorithm']}"
    escaped = (f'{name}="{_quoted(value)}"' for name, value in told.items())
    return f"Digest {', '.join(escaped)}{plain}"


def _quoted(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"')


def _name(challenge: Mapping[str, str]) -> str:
    return challenge.get("algorithm", "").upper().removesuffix("-SESS")
