"""Sign-in in which a person takes part: on another device (RFC 8628), or in a browser with an answer to a
loopback port (RFC 6749, section 4.1; RFC 7636; RFC 8252).
"""

from __future__ import annotations

import asyncio
import base64
import hashlib
import secrets
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from urllib.parse import parse_qsl, urlencode, urlsplit

from juxtalogos.exchange.oauth import ACCEPT, FORM, Endpoints, json_of, token_of, token_request
from juxtalogos.exchange.signing import Credential, Memory
from juxtalogos.model.contract import SecurityScheme
from juxtalogos.model.errors import NoAnswer
from juxtalogos.model.exchange import Exchange, Request

Send = Callable[[Request], Awaitable[Exchange]]
Tell = Callable[[str], None]

DEVICE_GRANT = "urn:ietf:params:oauth:grant-type:device_code"
INTERVAL, SLOWER = 5.0, 5.0
"""Seconds between two questions, and by how much they grow when the service asks for it (section 3.5)."""
LEAST = 0.05
"""Seconds between two questions at least, whatever the service says."""
PATIENCE = 600.0
"""Seconds that a person may take, where the service names no limit, and at most."""
LONGEST_REQUEST = 10.0
"""Seconds that a request to the loopback port may take."""
MAX_LINE, MAX_FIELDS = 16 * 1024, 200
"""Bytes of a line of a request to the loopback port, and how many fields of it are read."""


async def by_device(
    scheme: SecurityScheme,
    endpoints: Endpoints,
    credential: Credential,
    send: Send,
    tell: Tell,
    pause: Callable[[float], Awaitable[None]] = asyncio.sleep,
) -> Memory:
    """The tokens after a person has confirmed a code on another device (RFC 8628). NoAnswer where that is
    refused, or takes too long.
    """
    scopes = {"scope": " ".join(scheme.scopes)} if scheme.scopes else {}
    asked = urlencode({"client_id": credential.user, **scopes}).encode()
    exchange = await send(Request("POST", endpoints.device, (FORM, ACCEPT), asked))
    told = json_of(exchange)
    code, word, page = (
        str(told.get(name) or "") for name in ("device_code", "user_code", "verification_uri")
    )
    if not (code and word and page):
        raise NoAnswer(
            f"no code for {scheme.name}: {endpoints.device} responded {_told(exchange, told)}",
            mend="check the client's id: --client ID",
        )
    tell(f"open {told.get('verification_uri_complete') or page} and confirm the code {word}")
    interval = max(_number(told.get("interval"), INTERVAL), LEAST)
    limit = min(_number(told.get("expires_in"), PATIENCE), PATIENCE)
    waited = 0.0
    while waited < limit:
        await pause(interval)
        waited += interval
        exchange = await send(
            token_request(endpoints.token, credential, {"grant_type": DEVICE_GRANT, "device_code": code})
        )
        match json_of(exchange).get("error"):
            case "authorization_pending":
                continue
            case "slow_down":
                interval += SLOWER
            case "access_denied":
                raise NoAnswer(f"the sign-in for {scheme.name} was refused")
            case "expired_token":
                break
            case _ if exchange.response is None:
                interval *= 2  # section 3.5: after a lost connection more slowly
            case _:
                return token_of(exchange, scheme)
    raise NoAnswer(f"nobody confirmed the code for {scheme.name} in time", mend="begin again")


async def by_browser(
    scheme: SecurityScheme,
    endpoints: Endpoints,
    credential: Credential,
    send: Send,
    tell: Tell,
    open_page: Callable[[str], object] = lambda url: None,
    port: int = 0,
    limit: float = PATIENCE,
) -> Memory:
    """The tokens after a person has signed in on the service's page, which sends the browser back to a port
    of 127.0.0.1 (RFC 8252, section 7.3) with a code that only this call can use (PKCE with S256, RFC 7636).
    NoAnswer where that is refused, or takes too long.
    """
    state, verifier = secrets.token_urlsafe(24), secrets.token_urlsafe(48)
    challenge = base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).rstrip(b"=").decode()
    waiting = _Waiting(state, asyncio.get_running_loop().create_future())
    server = await asyncio.start_server(waiting.answer, "127.0.0.1", port, limit=MAX_LINE)
    async with server:
        back = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}/"
        asked = {
            "response_type": "code",
            "client_id": credential.user,
            "redirect_uri": back,
            "state": state,
            "code_challenge": challenge,
            "code_challenge_method": "S256",
        }
        if scheme.scopes:
            asked["scope"] = " ".join(scheme.scopes)
        joiner = "&" if urlsplit(endpoints.authorize).query else "?"
        page = endpoints.authorize + joiner + urlencode(asked)
        tell(f"sign in on this page: {page}")
        open_page(page)
        try:
            given = await asyncio.wait_for(waiting.came, limit)
        except TimeoutError:
            raise NoAnswer(f"nobody signed in for {scheme.name} in time", mend="begin again") from None
    if "error" in given:
        raise NoAnswer(f"the sign-in for {scheme.name} was refused: {given['error']}")
    form = {
        "grant_type": "authorization_code",
        "code": given["code"],
        "redirect_uri": back,
        "code_verifier": verifier,
    }
    return token_of(await send(token_request(endpoints.token, credential, form)), scheme)


@dataclass(frozen=True, slots=True)
class _Waiting:
    """For the browser that comes back."""

    state: str
    came: asyncio.Future[dict[str, str]]

    async def answer(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Answers one request to the loopback port. Other pages may ask here too: only an answer to this very
        question counts (RFC 6749, section 10.12).
        """
        try:
            given = await asyncio.wait_for(self._asked(reader), LONGEST_REQUEST)
            ours = secrets.compare_digest(given.get("state", "").encode(), self.state.encode())
            if ours and not self.came.done() and ("code" in given or "error" in given):
                self.came.set_result(given)
            text = "The sign-in is complete. Close this page." if ours else "Nothing was asked for here."
            body = f"<!doctype html><title>Juxtalogos</title><p>{text}</p>".encode()
            head = (
                f"HTTP/1.1 {'200 OK' if ours else '404 Not Found'}\r\n"
                "Content-Type: text/html; charset=utf-8\r\n"
                f"Content-Length: {len(body)}\r\nConnection: close\r\n\r\n"
            )
            writer.write(head.encode() + body)
            await writer.drain()
        except (OSError, ValueError, TimeoutError):
            pass  # whoever that was, it was not the answer
        finally:
            writer.close()

    @staticmethod
    async def _asked(reader: asyncio.StreamReader) -> dict[str, str]:
        """The parameters of a GET."""
        words = (await reader.readline()).split()
        for _ in range(MAX_FIELDS):  # unread, they would make the browser see a broken connection
            if not (await reader.readline()).strip():
                break
        target = words[1].decode("ascii", "replace") if len(words) > 1 and words[0] == b"GET" else ""
        return dict(parse_qsl(urlsplit(target).query))


def _number(value: object, otherwise: float) -> float:
    sound = isinstance(value, int | float) and not isinstance(value, bool) and 0 < value < 1e9
    return float(value) if sound else otherwise  # type: ignore[arg-type]


def _told(exchange: Exchange, told: Mapping[str, object]) -> str:
    status = str(exchange.response.status) if exchange.response else exchange.error
    return f"{status} {told.get('error') or ''}".strip()
