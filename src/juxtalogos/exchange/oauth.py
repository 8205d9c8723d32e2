"""OAuth 2.0 (RFC 6749) and OpenID Connect: tokens for a client, for a password, and with what a person's
sign-in left for renewing.

Every function that asks is a generator: it yields requests and is given their exchanges.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Generator, Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote, urlencode

from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.exchange.signing import Credential, Memory, basic_word, with_header
from juxtalogos.model.contract import SecurityScheme
from juxtalogos.model.errors import NoAnswer
from juxtalogos.model.exchange import Exchange, Request

PASSWORD, CLIENT = "password", "client credentials"
"""Flows of OAuth 2.0 in which no person takes part."""
EARLY = 30.0
"""Seconds before its end that a token is given up."""
WELL_KNOWN = "/.well-known/openid-configuration"
FORM = ("Content-Type", "application/x-www-form-urlencoded")
ACCEPT = ("Accept", "application/json")

Asking = Generator[Request, Exchange, Any]


@dataclass(frozen=True, slots=True)
class Endpoints:
    """Where a server of tokens is asked."""

    token: str = ""
    authorize: str = ""
    device: str = ""


def endpoints_of(scheme: SecurityScheme, memory: Memory) -> Generator[Request, Exchange, Endpoints]:
    """Those that the scheme names, else those of its discovery document (OpenID Connect Discovery 1.0,
    section 4), which is read once.
    """
    if not scheme.discovery:
        return Endpoints(scheme.token_url, scheme.authorize_url, scheme.device_url)
    if "endpoints" not in memory:
        exchange = yield Request("GET", scheme.discovery, (ACCEPT,))
        told = json_of(exchange)
        issuer = str(told.get("issuer", ""))
        if scheme.discovery.endswith(WELL_KNOWN) and issuer != scheme.discovery.removesuffix(WELL_KNOWN):
            # Section 4.3: else another server's document could lead tokens astray.
            raise NoAnswer(
                f"{scheme.discovery} responded {_status(exchange)} and names the issuer {issuer or 'nobody'}",
                mend="check openIdConnectUrl: the issuer is the address before /.well-known",
            )
        names = ("token_endpoint", "authorization_endpoint", "device_authorization_endpoint")
        memory["endpoints"] = Endpoints(*(str(told.get(name) or "") for name in names))
    found = memory["endpoints"]
    assert isinstance(found, Endpoints)
    return found


def json_of(exchange: Exchange) -> Mapping[str, Any]:
    """The object in the body of a response; nothing where there is none."""
    try:
        value = parse_json(exchange.response.body) if exchange.response else {}
    except NotJson:
        return {}
    return value if isinstance(value, dict) else {}


def token_request(url: str, credential: Credential, form: Mapping[str, str]) -> Request:
    """A request of a token (RFC 6749, section 3.2); a client without a secret names itself in the form
    (section 3.2.1).
    """
    if credential.secret:
        client = quote(credential.user, safe=""), quote(credential.secret, safe="")  # section 2.3.1
        return Request(
            "POST",
            url,
            (FORM, ACCEPT, ("Authorization", basic_word(*client))),
            urlencode(form).encode(),
        )
    return Request("POST", url, (FORM, ACCEPT), urlencode({**form, "client_id": credential.user}).encode())


def token_of(exchange: Exchange, scheme: SecurityScheme) -> Memory:
    """The token of an answer (RFC 6749, section 5.1); NoAnswer when it gives none."""
    value = json_of(exchange)
    token = value.get("access_token")
    if (
        exchange.response is None
        or exchange.response.status != 200
        or not isinstance(token, str)
        or not token
    ):
        word = value.get("error")
        told = exchange.error or f"{_status(exchange)} {word if isinstance(word, str) else ''}".strip()
        raise NoAnswer(
            f"no token for {scheme.name}: {exchange.request.url} responded {told}",
            mend="check the client's id (user) and secret of this credential",
        )
    seconds = value.get("expires_in")
    lasts = (
        float(seconds) if isinstance(seconds, int | float) and not isinstance(seconds, bool) else float("inf")
    )
    renewing = value.get("refresh_token")
    more = {"refresh": renewing} if isinstance(renewing, str) and renewing else {}
    return {"token": token, "until": time.monotonic() + max(lasts - EARLY, lasts / 2), **more}


def _status(exchange: Exchange) -> str:
    return str(exchange.response.status) if exchange.response else exchange.error


def bearer_word(request: Request, token: str) -> Request:
    """RFC 6750, section 2.1."""
    return with_header(request, "Authorization", f"Bearer {token}")


def oauth(request: Request, scheme: SecurityScheme, credential: Credential, memory: Memory) -> Asking:
    """Signs with a token: of a client (RFC 6749, section 4.4) or by a password (4.3) where the credential
    names who asks and a secret; with what a person's sign-in left, where it has no secret or that is there;
    else a token given ready-made.
    """
    if not credential.user or not (scheme.token_url or scheme.discovery):
        return bearer_word(request, credential.secret)
    if not _holds(memory):
        _take_up(credential, memory)
    if not _holds(memory):
        yield from _renew(scheme, credential, memory)
    if not _holds(memory):
        yield from _ask(scheme, credential, memory)
    return bearer_word(request, memory["token"])


def _holds(memory: Memory) -> bool:
    return "token" in memory and bool(memory["until"] > time.monotonic())


def _take_up(credential: Credential, memory: Memory) -> None:
    """What a person's sign-in, or another process that renewed it, has kept."""
    kept = credential.kept.load() if credential.kept is not None else {}
    if kept.get("token") != memory.get("void"):
        memory.update(kept)
    elif "refresh" in kept:
        memory["refresh"] = kept["refresh"]


def _renew(scheme: SecurityScheme, credential: Credential, memory: Memory) -> Asking:
    """By the refresh token (section 6), where there is one."""
    before = memory.get("refresh", "")
    if not before:
        return
    url = (yield from endpoints_of(scheme, memory)).token
    form = {"grant_type": "refresh_token", "refresh_token": before}
    person = _by_a_person(scheme, credential)
    by = credential if person or scheme.flow != PASSWORD else Credential("")
    request = token_request(url, by, form)
    if not by.user:  # by a password no client is known
        request = Request("POST", url, (FORM, ACCEPT), urlencode(form).encode())
    exchange = yield request
    memory.pop("refresh", None)  # not before: a flow may be begun and given up
    with contextlib.suppress(NoAnswer):
        memory.update(token_of(exchange, scheme))
        memory.setdefault("refresh", before)
        if person and credential.kept is not None:
            credential.kept.save(memory)
        return
    if person:
        _take_up(credential, memory)  # another process may have used it up


def _by_a_person(scheme: SecurityScheme, credential: Credential) -> bool:
    if credential.kept is None:
        return False
    alone = bool(scheme.flow or scheme.discovery)  # whether the client may ask by itself
    return not credential.secret or not alone or credential.kept.exists()


def _ask(scheme: SecurityScheme, credential: Credential, memory: Memory) -> Asking:
    if _by_a_person(scheme, credential):
        raise NoAnswer(
            f"nobody is signed in for {scheme.name}, or the sign-in has ended",
            mend=f"sign in: {credential.kept.command}" if credential.kept is not None else "",
        )
    url = (yield from endpoints_of(scheme, memory)).token
    scopes = {"scope": " ".join(scheme.scopes)} if scheme.scopes else {}
    if scheme.flow == PASSWORD:  # section 4.3: no client is known, only who signs in
        form = {"grant_type": "password", "username": credential.user, "password": credential.secret}
        request = Request("POST", url, (FORM, ACCEPT), urlencode(form | scopes).encode())
    else:
        request = token_request(url, credential, {"grant_type": "client_credentials", **scopes})
    exchange = yield request
    memory.update(token_of(exchange, scheme))


def void_token(exchange: Exchange, memory: Memory) -> bool:
    """After a 401 a token is forgotten once (RFC 6750, section 3.1); a ready-made one cannot be renewed."""
    token = memory.pop("token", None)
    if token:
        memory["void"] = token
    return bool(token) and bool(memory.pop("until", None))
