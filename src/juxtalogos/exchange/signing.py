"""What the ways to sign in share: credentials, what a flow remembers and asks for, fields of a request."""

from __future__ import annotations

import base64
from collections.abc import Awaitable, Callable, Collection, Generator, Mapping
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass, field, replace
from typing import Any, Protocol, TypeVar

from juxtalogos.documents.uris import origin_alone
from juxtalogos.model.errors import NoAnswer
from juxtalogos.model.exchange import Exchange, Request

Memory = dict[str, Any]
"""What a flow remembers between requests, by its own names."""


class KeptTokens(Protocol):
    """Where the tokens of a person's sign-in are kept between commands."""

    @property
    def command(self) -> str:
        """What signs in."""
        ...

    def exists(self) -> bool:
        """Whether a person has signed in."""
        ...

    def alone(self) -> AbstractAsyncContextManager[None]:
        """Lets one process at a time renew: a refresh token may hold once only."""
        ...

    def load(self) -> Memory:
        """`token`, `until` (on the monotonic clock) and `refresh`, as far as there are any."""
        ...

    def save(self, memory: Mapping[str, Any]) -> None:
        """Keeps what was renewed."""
        ...


@dataclass(frozen=True, slots=True)
class Credential:
    """A secret in use; never shown, not even in a repr."""

    secret: str = field(repr=False)
    user: str = ""
    header: str = ""
    """The name of the field to use instead of the scheme's own."""
    kept: KeptTokens | None = field(default=None, repr=False)


MAX_REQUESTS = 5
"""Requests of its own that one flow may ask for."""
Result = TypeVar("Result")


async def driven(
    flow: Generator[Request, Exchange, Result], ask: Callable[[Request], Awaitable[Exchange]], scheme: str
) -> Result:
    """What a flow ends with, each of its requests asked. NoAnswer where it wants too many."""
    try:
        wanted = next(flow)
        for _ in range(MAX_REQUESTS):
            wanted = flow.send(await ask(wanted))
    except StopIteration as end:
        return end.value  # type: ignore[no-any-return]
    raise NoAnswer(f"signing in with {scheme} asks for more than {MAX_REQUESTS} requests")


def require_origin(url: str, origins: Collection[str], scheme: str) -> None:
    """NoAnswer where signing in would ask at an origin that the target does not list."""
    if origin_alone(url) not in origins:
        raise NoAnswer(
            f"signing in with {scheme} needs {url}, which is not at the target's origins",
            mend="if it is to be trusted, list it: origins = [...] in [targets.NAME]",
        )


def with_header(request: Request, name: str, value: str) -> Request:
    """The request with a field in place of those of its name."""
    kept = tuple(pair for pair in request.headers if pair[0].lower() != name.lower())
    return replace(request, headers=(*kept, (name, value)))


def basic_word(user: str, secret: str) -> str:
    """RFC 7617."""
    return "Basic " + base64.b64encode(f"{user}:{secret}".encode()).decode()
