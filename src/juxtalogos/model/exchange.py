"""The observed side: one request and what came back. Bodies are bytes, kept as they came."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

Headers = tuple[tuple[str, str], ...]


def header(headers: Headers, name: str) -> str | None:
    """The field's value; several lines of one name are one list (RFC 9110, section 5.3)."""
    wanted = name.lower()
    values = [value for key, value in headers if key.lower() == wanted]
    return ", ".join(values) if values else None


class BodyForm(StrEnum):
    """What of a body is kept."""

    RAW = "raw"
    """The bytes as they went or came."""
    MASKED = "masked"
    """The same, with secrets masked in place."""
    DECODED = "decoded"
    """Only what it says, secrets masked: never judged, kept or sent again."""


@dataclass(frozen=True, slots=True)
class Request:
    method: str
    url: str
    """The whole URL, encoded as it is sent."""
    headers: Headers = ()
    body: bytes | None = None


@dataclass(frozen=True, slots=True)
class Response:
    status: int
    reason: str
    headers: Headers
    body: bytes
    """After content decoding."""
    http_version: str = "1.1"
    truncated: bool = False
    """True when the body passed the limit and the rest was left unread."""
    problem: str = ""
    """Why the body could not be decoded, when it could not."""
    body_kept: bool = True
    """False where a recording left the body out: nothing is known of it."""


@dataclass(frozen=True, slots=True)
class Timings:
    """Seconds. `sent_at` is Unix time; `first_byte` and `total` count from it."""

    sent_at: float
    first_byte: float
    total: float


@dataclass(frozen=True, slots=True)
class Exchange:
    request: Request
    """As really sent, automatic headers included."""
    response: Response | None
    timings: Timings
    error: str = ""
    """Why no answer came, when none did."""
    tries: tuple[Exchange, ...] = ()
    """What was sent before over a connection that turned out to be closed: no byte of an answer came, so it
    was sent again."""
    lost: bool = False
    """Whether the connection stood and ended without an answer: neither refused, nor
    unknown, nor too slow."""

    unsent: bool = False
    """Whether no connection came about, so that nothing can have been done."""

    @property
    def bodiless(self) -> bool:
        """Whether its answer carries no body whatever is declared (RFC 9110, section 6.4.1)."""
        status = self.response.status if self.response else 0
        return self.request.method == "HEAD" or status in (204, 304) or 100 <= status < 200
