"""Jobs that were begun only (202): followed by their `Location` to their end (RFC 9110, section 15.3.3)."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from dataclasses import replace
from typing import Any

from juxtalogos.conventions.words import word_set
from juxtalogos.explore.prober.prober import Purpose, Trial
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract

POLLS, PAUSE, ALIKE = 12, 0.2, 4
"""How often a job is asked for, how much longer each pause is, and how many answers may be alike before it is
given up."""
_ends, _states = word_set("jobs.ended"), word_set("jobs.state")


async def followed(
    call: Callable[..., Awaitable[Trial]], contract: Contract, base_url: str, begun: Trial
) -> tuple[Trial | None, Trial | None]:
    """(the last that the job told of itself, the request that did not find it); None each where there is
    none. Elsewhere than at the service nothing is asked.
    """
    asked = wire_of(contract).follow(begun.exchange) if begun.exchange is not None else None
    operation = next(iter(wire_of(contract).match(asked, base_url)), None) if asked is not None else None
    if asked is None or operation is None:
        return None, None
    url = asked.url
    inputs = wire_of(contract).inputs_of(operation, asked, base_url)
    last: Trial | None = None
    alike = 0
    for number in range(POLLS):
        purpose = Purpose.CONFLICT if number else Purpose.VALID
        trial = await call(
            operation, inputs, purpose, change=lambda request: replace(request, url=url, body=None)
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
        [one.lower() for name, one in value.items() if isinstance(one, str) and name.lower() in _states()]
        if isinstance(value, dict)
        else []
    )


def ended(value: Any) -> bool:
    """Whether a job says that it is over."""
    return any(one in _ends() for one in states_in(value))
