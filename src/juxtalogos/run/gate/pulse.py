"""Whether the service still answers as it did: a request may switch it off, or end the credential that all
others are sent with.

When several operations in a row are refused to everybody, or meet a service that is not available, what
was answered before is asked again. Where that is refused too, what was changed is written back, and where
this does not help nothing more is sent.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field

from juxtalogos.exchange.transport import Sender
from juxtalogos.formats import outcome_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.outcome import Outcome
from juxtalogos.run.gate.places import reads
from juxtalogos.run.gate.reading import Tally
from juxtalogos.run.judging.refusals import words_of
from juxtalogos.run.target.session import Session

LEAST = 3
"""Such answers in a row, of two operations or more, before it is looked at; then twice as many."""
KEPT = 3
"""Requests that are asked again."""
SUSPECTED = 8
"""Changes that are named, where each may have done it: as many as may be under way with what came before."""
CLEARED = 12
"""Other answers after which a change is not suspected any more: several may have been under way."""
PAUSE = 0.5
"""Seconds before a service that is not available is asked again."""
_CHANGED = (Outcome.UNAUTHENTICATED, Outcome.FORBIDDEN, Outcome.BUSY)


@dataclass(slots=True)
class Pulse:
    """Of one run, or of all rounds of learning."""

    tally: Tally
    alive: dict[str, tuple[Contract, Operation, Request]] = field(default_factory=dict)
    """Requests that only read and were answered, the latest last."""
    changes: dict[str, int] = field(default_factory=dict)
    """By what was sent to change something lately: how many other answers came since."""
    row: list[str] = field(default_factory=list)
    """The operations that met such an answer, one after another."""
    suspects: tuple[str, ...] = ()
    """What was sent right before them to change something, the latest first."""
    told: str = ""
    """The latest of these answers, in words."""
    checks: int = 0
    broken: str = ""
    """Why nothing more is sent."""
    mended: dict[str, str] = field(default_factory=dict)
    """By the change that did it, what it did and that it was written back."""
    who: str | None = None
    lock: asyncio.Lock = field(default_factory=asyncio.Lock)

    def began(self, operation: Operation) -> None:
        """A request that may change something is about to be sent."""
        self.changes.pop(operation.full_id, None)
        self.changes[operation.full_id] = 0

    async def note(
        self,
        session: Session,
        sender: Sender,
        told: tuple[Contract, Operation, Request, Exchange],
        write_back: Callable[[], Awaitable[bool]],
    ) -> None:
        """Takes an answer. `write_back` writes back what is changed now, and says whether anything was."""
        contract, operation, request, exchange = told
        if exchange.response is None or not session.signing or self.broken:
            return
        self.who = session.role if self.who is None else self.who
        if session.role != self.who:
            return
        outcome = outcome_of(contract, operation, exchange)
        if outcome not in _CHANGED:
            self._answered(contract, operation, request, outcome)
            return
        if not self.row:
            self.suspects = tuple(self.changes)[::-1][:SUSPECTED]
        self.row.append(operation.full_id)
        status = exchange.response.status
        words = session.redactor.cut_text(words_of(exchange))
        self.told = f"{status} to requests that succeeded before{': ' + words if words else ''}"
        if len(self.row) >= LEAST << self.checks and len(set(self.row)) > 1:
            await self.look(session, sender, write_back)

    def _answered(self, contract: Contract, operation: Operation, request: Request, outcome: Outcome) -> None:
        self.row.clear()
        self.changes = {name: count + 1 for name, count in self.changes.items() if count < CLEARED}
        if outcome.succeeded and reads(operation):
            self.alive.pop(operation.full_id, None)
            self.alive[operation.full_id] = contract, operation, request
            while len(self.alive) > KEPT:
                self.alive.pop(next(iter(self.alive)))

    async def look(self, session: Session, sender: Sender, write_back: Callable[[], Awaitable[bool]]) -> None:
        """Asks again what was answered before, where the latest answers were of such a kind."""
        async with self.lock:
            if self.row and self.alive and not self.broken:
                await self._look(session, sender, write_back)

    async def _look(
        self, session: Session, sender: Sender, write_back: Callable[[], Awaitable[bool]]
    ) -> None:
        self.row.clear()
        self.checks += 1
        if await self._answers(session, sender):
            return
        after = f"since {' or '.join(self.suspects)} it" if self.suspects else "it now"
        what = f"{after} responds {self.told}"
        if await write_back() and await self._answers(session, sender):
            self.mended |= dict.fromkeys(self.suspects, f"{what}; what was changed was written back")
            return
        self.broken = what

    async def _answers(self, session: Session, sender: Sender) -> bool:
        """Whether anything that was answered before still is, after signing in anew where one can."""
        for contract, operation, request in list(self.alive.values())[::-1]:
            for turn in range(3):
                self.tally.requests += 1
                exchange = await session.transmit(contract, operation, request, sender)
                outcome = outcome_of(contract, operation, exchange)
                if exchange.response is None or outcome not in _CHANGED:
                    return True  # a service that is gone is noticed elsewhere
                if outcome is Outcome.BUSY:
                    await asyncio.sleep(PAUSE * (turn + 1))
                else:  # signing in anew did not help
                    break
        return False
