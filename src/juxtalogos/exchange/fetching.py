"""Fetching documents by HTTP: what is asked for, where a response sends on to, why it is no document."""

from __future__ import annotations

import base64
from http import HTTPStatus
from urllib.parse import urljoin

from juxtalogos.model.exchange import Exchange, Headers, Request, Response, header

_MOVED = (301, 302, 303, 307, 308)


def fetch_request(url: str, credentials: Headers = ()) -> Request:
    """The request for a document."""
    return Request("GET", url, (("Accept-Encoding", "gzip, identity"), *credentials))


def basic_credential(user: str, password: str) -> tuple[str, str]:
    """The field of a login (RFC 7617)."""
    return "Authorization", "Basic " + base64.b64encode(f"{user}:{password}".encode()).decode()


def bearer_credential(token: str) -> tuple[str, str]:
    """The field of a token (RFC 6750)."""
    return "Authorization", f"Bearer {token}"


def moved_to(exchange: Exchange) -> str | None:
    """The URL that a redirection leads to (RFC 9110, section 15.4); None where a response is none."""
    response = exchange.response
    if response is None or response.status not in _MOVED:
        return None
    return urljoin(exchange.request.url, header(response.headers, "location") or "")


def login_wanted(response: Response) -> tuple[str, bool] | None:
    """(what the response says, whether a proxy wants the login); None where no login is wanted."""
    if response.status not in (401, 403, 407):
        return None
    return f"{response.status} {HTTPStatus(response.status).phrase}", response.status == 407


def is_document(response: Response) -> bool:
    """Whether a response holds what was asked for."""
    return response.status == 200
