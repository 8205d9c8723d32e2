"""Anti-forgery tokens: a first GET asks for one, which every changing request then carries together with its
session.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from juxtalogos.model.contract import SecurityScheme
from juxtalogos.model.errors import NoAnswer
from juxtalogos.model.exchange import Exchange, Request, header
from juxtalogos.model.format import SignInFlow

ASK, NEEDED = "Fetch", "required"
_SIGNED = ("authorization", "cookie")


def with_token(
    request: Request, scheme: SecurityScheme, credential: Any, memory: dict[str, Any]
) -> SignInFlow:
    """The request with the token; NoAnswer when the service gives none."""
    name = credential.header or scheme.key
    if "token" not in memory:
        signed = tuple(pair for pair in request.headers if pair[0].lower() in _SIGNED)
        url = scheme.token_url.rstrip("/") + "/"
        exchange = yield Request("GET", url, ((name, ASK), ("Accept", "application/json"), *signed))
        memory.update(_given(exchange, name, url))
    headers = [pair for pair in request.headers if pair[0].lower() not in (name.lower(), "cookie")]
    cookies = "; ".join(filter(None, (header(request.headers, "cookie"), memory.get("cookies"))))
    headers += [("Cookie", cookies)] if cookies else []
    return replace(request, headers=(*headers, (name, memory["token"])))


def _given(exchange: Exchange, name: str, url: str) -> dict[str, Any]:
    response = exchange.response
    token = header(response.headers, name) if response else None
    if response is None or not token or token.lower() in (NEEDED, ASK.lower()):
        told = exchange.error or f"{response.status if response else ''} without {name}".strip()
        raise NoAnswer(
            f"no token against forged requests: GET {url} responded {told}",
            mend="check the credential's `header`, or leave it out where the service asks for no token",
        )
    pairs = [text.partition(";")[0].strip() for key, text in response.headers if key.lower() == "set-cookie"]
    return {"token": token, **({"cookies": "; ".join(pairs)} if pairs else {})}


def is_void(exchange: Exchange, memory: dict[str, Any]) -> bool:
    """Whether the service refuses the token: it is fetched anew then."""
    response = exchange.response
    if response is None or "token" not in memory:
        return False
    told = [text.lower() for _, text in response.headers]
    if response.status == 403 and NEEDED not in told:
        return False
    memory.clear()
    return True
