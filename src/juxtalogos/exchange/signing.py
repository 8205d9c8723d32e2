"""What the ways to sign in share: credentials, what a flow remembers, fields of a request."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Protocol

from juxtalogos.model.exchange import Request

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


def with_header(request: Request, name: str, value: str) -> Request:
    """The request with a field in place of those of its name."""
    kept = tuple(pair for pair in request.headers if pair[0].lower() != name.lower())
    return replace(request, headers=(*kept, (name, value)))


def basic_word(user: str, secret: str) -> str:
    """RFC 7617."""
    return "Basic " + base64.b64encode(f"{user}:{secret}".encode()).decode()
