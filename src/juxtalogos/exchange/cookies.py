"""Cookies of a case (RFC 6265): those that responses set go with later requests to the same place."""

from __future__ import annotations

from dataclasses import replace

import aiohttp
from yarl import URL

from juxtalogos.model.exchange import Exchange, Request, header


def with_cookies(request: Request, cookies: aiohttp.CookieJar) -> Request:
    """The request with the cookies that belong to it, after those that it has."""
    if not len(cookies):
        return request
    found = cookies.filter_cookies(URL(request.url, encoded=True))
    if not found:
        return request
    own = header(request.headers, "cookie")
    text = "; ".join(filter(None, (own, *(f"{cookie.key}={cookie.value}" for cookie in found.values()))))
    kept = (pair for pair in request.headers if pair[0].lower() != "cookie")
    return replace(request, headers=(*kept, ("Cookie", text)))


def take_cookies(exchange: Exchange, cookies: aiohttp.CookieJar) -> None:
    """Keeps the cookies that a response sets."""
    if exchange.response is None:
        return
    lines = [value for name, value in exchange.response.headers if name.lower() == "set-cookie"]
    if lines:
        cookies.update_cookies_from_headers(lines, URL(exchange.request.url, encoded=True))
