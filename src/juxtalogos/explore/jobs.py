"""Jobs that were begun only (202): followed by their `Location` to their end (RFC 9110, section 15.3.3)."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from typing import Any
from urllib.parse import urljoin, urlsplit

from juxtalogos.explore.bench import Purpose, Trial
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract
from juxtalogos.model.exchange import Request

POLLS, PAUSE, ALIKE = 12, 0.2, 4
"""How often a job is asked for, how much longer each pause is, and how many answers may be alike before it is
given up."""
_ENDS = (
    "done",
    "completed",
    "complete",
    "succeeded",
    "success",
    "finished",
    "failed",
    "error",
    "cancelled",
    "canceled",
    "ready",
    "ended",
    "closed",
    "aborted",
)


async def followed(
    call: Callable[..., Awaitable[Trial]], contract: Contract, base_url: str, begun: Trial
) -> tuple[Trial | None, Trial | None]:
    """(the last that the job told of itself, the request that did not find it); None each where there is
    none. Elsewhere than at the service nothing is asked.
    """
    where = begun.header("location")
    if where is None or begun.exchange is None:
        return None, None
    url = urljoin(begun.exchange.request.url, where)
    base, target = urlsplit(begun.exchange.request.url), urlsplit(url)
    asked = Request("GET", url, (("Accept", "application/json"),), None)
    operation = next(iter(wire_of(contract).match(asked, base_url)), None)
    if (base.scheme, base.netloc) != (target.scheme, target.netloc) or operation is None:
        return None, None
    inputs = wire_of(contract).taken(operation, asked, base_url)
    last: Trial | None = None
    alike = 0
    for number in range(POLLS):
        purpose = Purpose.CONFLICT if number else Purpose.VALID
        trial = await call(
            operation, inputs, purpose, change=lambda request: Request("GET", url, request.headers, None)
        )
        if not trial.ok:
            return None, trial
        alike = alike + 1 if last is not None and trial.value == last.value else 0
        last = trial
        if ended(trial.value) or alike >= ALIKE:
            break
        await asyncio.sleep(min(PAUSE * number, 1.0) if alike else 0.0)
    return last, None


def states_in(value: Any) -> list[str]:
    """The words in which a job tells its state."""
    return (
        [
            one.lower()
            for name, one in value.items()
            if isinstance(one, str) and name.lower() in ("state", "status", "phase", "progress")
        ]
        if isinstance(value, dict)
        else []
    )


def ended(value: Any) -> bool:
    """Whether a job says that it is over."""
    return any(one in _ENDS for one in states_in(value))
