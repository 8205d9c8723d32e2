"""Backing off: what fails while other requests are under way is asked again alone, and from then on one
request at a time is sent.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from dataclasses import dataclass, field, replace

from juxtalogos.exchange.transport import Sender
from juxtalogos.exchange.waiting import retry_after
from juxtalogos.formats import outcome_of, wire_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.findings import CheckResult, Severity
from juxtalogos.model.outcome import Outcome
from juxtalogos.run.target.session import Session

TRIES = 3
"""Times that a request is asked again alone, at most."""
PAUSE = 0.25
"""Seconds before it is asked again, twice as long each time, where the service does not say how long."""
MOST_WAITED = 60.0
"""Seconds of waiting in one run: all pauses share them."""


@dataclass(slots=True)
class Crowd:
    """The requests of one run that are under way."""

    under_way: int = 0
    single: bool = False
    """Whether only one request at a time is sent now."""
    alone: bool = False
    """Whether a request has the service to itself."""
    waited: float = 0.0
    changed: asyncio.Condition = field(default_factory=asyncio.Condition)

    @asynccontextmanager
    async def sending(self, *, alone: bool = False) -> AsyncIterator[int]:
        """Waits until a request may be sent; gives how many are under way with it. `alone`: no other is."""
        async with self.changed:
            await self.changed.wait_for(
                lambda: not self.alone and (self.under_way == 0 or not (alone or self.single))
            )
            self.under_way += 1
            self.alone = alone
            count = self.under_way
        try:
            yield count
        finally:
            async with self.changed:
                self.under_way -= 1
                self.alone = self.alone and not alone
                self.changed.notify_all()

    def back_off(self, told: float | None, turn: int) -> float:
        """Seconds to wait before a request is asked again: as the service says, within what is left of the
        run's time for waiting. From now on one request at a time is sent.
        """
        self.single = True
        wait = min(PAUSE * 2**turn if told is None else told, MOST_WAITED - self.waited)
        self.waited += max(wait, 0.0)
        return max(wait, 0.0)


async def asked_alone(
    crowd: Crowd,
    session: Session,
    sender: Sender,
    called: tuple[Contract, Operation],
    request: Request,
    exchange: Exchange,
    beside: int,
    sleep: Callable[[float], Awaitable[None]],
) -> tuple[Exchange, CheckResult | None]:
    """(the exchange, or that of the same request asked again alone; a remark that the service failed with
    `beside` requests at once). Only where the service refused it, or asking twice does no more than once.
    """
    before = exchange
    for turn in range(TRIES):
        if not _may_ask_again(called, exchange):
            break
        response = exchange.response
        told = retry_after(response, exchange.timings.sent_at) if response is not None else None
        await sleep(crowd.back_off(told, turn))
        async with crowd.sending(alone=True):
            again = await session.send(*called, request, sender)
        exchange = replace(again, tries=(*exchange.tries, replace(exchange, tries=())))
    if exchange is before or _may_ask_again(called, exchange):
        return exchange, None
    remark = CheckResult(
        "load.busy",
        False,
        "status",
        f"{_word(exchange)}, as when asked alone",
        f"{_word(before)} with {beside} requests at once",
        called[1].location,
        Severity.REMARK,
    )
    return exchange, remark


def _word(exchange: Exchange) -> str:
    return str(exchange.response.status) if exchange.response is not None else "no response"


def _may_ask_again(called: tuple[Contract, Operation], exchange: Exchange) -> bool:
    """Whether a response says that the service was busy, and the request may be sent again."""
    repeatable = called[1].safe or called[1].idempotent
    if exchange.response is None:
        return exchange.lost and repeatable
    busy = outcome_of(*called, exchange) in (Outcome.BUSY, Outcome.THROTTLED)
    return busy and (repeatable or wire_of(called[0]).not_done(exchange))
