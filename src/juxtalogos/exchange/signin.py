"""Sign-in: what a credential adds to a request. Schemes that need requests of their own come later, as generators."""

from __future__ import annotations

import base64
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from types import MappingProxyType
from typing import Any
from urllib.parse import quote

from juxtalogos.model.contract import Contract, Operation, SecurityScheme
from juxtalogos.model.exchange import Request


@dataclass(frozen=True, slots=True)
class Credential:
    """A secret in use; never shown, not even in a repr."""

    secret: str = field(repr=False)
    user: str = ""


def _with_header(request: Request, name: str, value: str) -> Request:
    kept = tuple(pair for pair in request.headers if pair[0].lower() != name.lower())
    return replace(request, headers=(*kept, (name, value)))


def _basic(request: Request, scheme: SecurityScheme, credential: Credential) -> Request:
    """RFC 7617."""
    token = base64.b64encode(f"{credential.user}:{credential.secret}".encode()).decode()
    return _with_header(request, "Authorization", f"Basic {token}")


def _bearer(request: Request, scheme: SecurityScheme, credential: Credential) -> Request:
    """RFC 6750, section 2.1."""
    return _with_header(request, "Authorization", f"Bearer {credential.secret}")


def _api_key(request: Request, scheme: SecurityScheme, credential: Credential) -> Request:
    if scheme.place == "query":
        joiner = "&" if "?" in request.url else "?"
        return replace(
            request, url=f"{request.url}{joiner}{quote(scheme.key, safe='')}={quote(credential.secret, safe='')}"
        )
    if scheme.place == "cookie":
        pair = f"{scheme.key}={credential.secret}"
        present = next((value for name, value in request.headers if name.lower() == "cookie"), "")
        return _with_header(request, "Cookie", f"{present}; {pair}" if present else pair)
    return _with_header(request, scheme.key, credential.secret)


SCHEMES: dict[str, Callable[[Request, SecurityScheme, Credential], Request]] = {
    "basic": _basic,
    "bearer": _bearer,
    "apiKey": _api_key,
    "oauth2": _bearer,
    "openIdConnect": _bearer,
}
"""By kind; a token for an OAuth or OpenID scheme is given ready-made."""


def sign(
    contract: Contract,
    operation: Operation,
    request: Request,
    credentials: Mapping[str, Credential],
    more: Mapping[str, Callable[[Request, Any, Any], Request]] = MappingProxyType({}),
) -> tuple[Request, tuple[str, ...]]:
    """(the signed request, schemes that a credential is missing for). The first alternative that can be met is taken.

    `more` are the kinds of scheme that only this protocol has.
    """
    alternatives = operation.security
    kinds = {**SCHEMES, **more}
    for alternative in alternatives:
        schemes = [contract.scheme(name) for name in alternative]
        if alternative and all(
            scheme is not None and scheme.name in credentials and scheme.kind in kinds for scheme in schemes
        ):
            for scheme in schemes:
                if scheme is not None:
                    request = kinds[scheme.kind](request, scheme, credentials[scheme.name])
            return request, ()
    if not alternatives or () in alternatives:
        return request, ()
    return request, tuple(name for name in alternatives[0] if name not in credentials)


def variants(credential: Credential) -> tuple[str, ...]:
    """The forms in which a secret may be met: itself, in Base64 alone and with its user."""
    pair = f"{credential.user}:{credential.secret}"
    encoded = tuple(base64.b64encode(text.encode()).decode() for text in (credential.secret, pair))
    return (credential.secret, *encoded)
