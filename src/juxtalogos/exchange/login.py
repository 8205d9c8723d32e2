"""Sign-in by a request of the service itself: it gives a token, a cookie or an anti-forgery field, which all
other requests carry; it is sent again when these no longer hold.
"""

from __future__ import annotations

import asyncio
import re
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from http.cookies import CookieError, SimpleCookie

from juxtalogos.exchange.oauth import EARLY
from juxtalogos.exchange.signing import with_header
from juxtalogos.exchange.transport import Sender
from juxtalogos.model.errors import NoAnswer
from juxtalogos.model.exchange import Exchange, Headers, Request


@dataclass(frozen=True, slots=True)
class SignedIn:
    """What signing in gave."""

    headers: Headers = ()
    """Fields of every request from then on."""
    cookies: tuple[tuple[str, str], ...] = field(default=(), repr=False)
    secrets: tuple[str, ...] = field(default=(), repr=False)
    """What of it nobody may see."""

    def over(self, request: Request) -> Request:
        """The request with what signing in gave; its own cookies of the same name stay."""
        for name, value in self.headers:
            request = with_header(request, name, value)
        if not self.cookies:
            return request
        present = next((value for name, value in request.headers if name.lower() == "cookie"), "")
        named = set(re.findall(r"(?:^|;)\s*([^=;\s]+)=", present))
        pairs = [f"{name}={value}" for name, value in self.cookies if name not in named]
        if not pairs:
            return request
        return with_header(request, "Cookie", "; ".join(filter(None, (present, *pairs))))

    def stands_in(self, request: Request) -> bool:
        """Whether a request was sent with this."""
        fields = {name.lower(): value for name, value in request.headers}
        sent = fields.get("cookie", "").split("; ")
        return all(fields.get(name.lower()) == value for name, value in self.headers) and all(
            f"{name}={value}" in sent for name, value in self.cookies
        )


@dataclass(slots=True)
class Login:
    """How to sign in by a request. One at a time asks; the others wait for what it gives."""

    name: str
    """The operation, for a person."""
    make: Callable[[], Request]
    read: Callable[[Exchange], SignedIn]
    """NoAnswer where the response does not give what was expected."""
    lasts: float = float("inf")
    """Seconds."""
    learned: Callable[[str, bool], None] = lambda text, passing: None
    given: SignedIn | None = None
    until: float = 0.0
    lock: asyncio.Lock = field(default_factory=asyncio.Lock)

    async def signed(self, request: Request, sender: Sender) -> Request:
        """The request with what signing in gave. NoAnswer where signing in fails."""
        if self.given is None or time.monotonic() >= self.until:
            async with self.lock:
                if self.given is None or time.monotonic() >= self.until:
                    await self._sign_in(sender)
        assert self.given is not None
        return self.given.over(request)

    async def _sign_in(self, sender: Sender) -> None:
        exchange = await sender.send(self.make())
        if exchange.response is None:
            raise NoAnswer(f"signing in by {self.name} had no response: {exchange.error}")
        given = self.read(exchange)
        for text in given.secrets:
            self.learned(text, True)
        self.given = given
        self.until = time.monotonic() + max(self.lasts - EARLY, self.lasts / 2)

    def tell(self, learned: Callable[[str, bool], None]) -> None:
        """Tells somebody else too what nobody may see of what was given."""
        self.learned = learned
        for text in self.given.secrets if self.given is not None else ():
            learned(text, True)

    def void(self, request: Request) -> bool:
        """After a refusal: whether to send again may help. What was given is forgotten, unless another
        request has already got something newer.
        """
        if self.given is not None and self.given.stands_in(request):
            self.given = None
        return self.until > 0


def cookies_set(exchange: Exchange) -> tuple[tuple[str, str], ...]:
    """(name, value) of the cookies that a response sets (RFC 6265, section 4.1); those it deletes are left
    out.
    """
    found: dict[str, str] = {}
    for name, value in exchange.response.headers if exchange.response else ():
        if name.lower() != "set-cookie":
            continue
        jar: SimpleCookie = SimpleCookie()
        try:
            jar.load(value)
        except CookieError:
            continue
        for key, morsel in jar.items():
            gone = morsel["max-age"] == "0" or not morsel.value
            found.pop(key, None)
            if not gone:
                found[key] = morsel.coded_value
    return tuple(found.items())
