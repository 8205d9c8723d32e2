"""What an executor is, and where it takes its work from."""

from __future__ import annotations

from collections import deque
from collections.abc import Awaitable, Callable, Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from juxtalogos.ledger import CaseRecord, Ledger
from juxtalogos.ledger.recorder import Recorder
from juxtalogos.run.engine.binding import BoundRun
from juxtalogos.run.engine.plan import Unit
from juxtalogos.run.engine.step import RunContext


class WorkSource(Protocol):
    """Gives out work, and sees what came of it before it gives out more."""

    def next(self) -> Unit | None:
        """Another unit that may begin now; None when there is none at the moment."""

    def ended(self, unit: Unit, cases: Sequence[CaseRecord]) -> None:
        """A unit that was given out has ended."""

    @property
    def exhausted(self) -> bool:
        """Whether there will be no more work, whatever comes of what is under way."""


@dataclass(frozen=True, slots=True)
class RunSetting:
    """What an executor is made for: one run, where it is kept, and how it is told to stop."""

    bound: BoundRun
    workspace: Path
    ledger: Ledger
    number: int
    """The run's number in the ledger."""
    recorder: Recorder
    context: RunContext
    reset: Callable[[], Awaitable[None]] | None
    """Resets the system under test before a case."""
    processes: int
    done: Callable[[CaseRecord], None]
    """Is told of each case that ended."""


class Executor(Protocol):
    """Does the units of a source, in this process or elsewhere."""

    async def run(self, source: WorkSource) -> None:
        """Until the source is exhausted.

        On cancellation what is under way cleans up after itself and is kept.
        """


class Dealer:
    """A source that knows all its work beforehand; units that must be alone are given out when nothing else
    is under way.
    """

    def __init__(self, units: Iterable[Unit]) -> None:
        self.waiting = deque(units)
        self.under_way = 0
        self.alone = False

    def next(self) -> Unit | None:
        if not self.waiting or self.alone or (self.waiting[0].alone and self.under_way):
            return None
        unit = self.waiting.popleft()
        self.under_way += 1
        self.alone = unit.alone
        return unit

    def ended(self, unit: Unit, cases: Sequence[CaseRecord]) -> None:
        self.under_way -= 1
        self.alone = False

    @property
    def exhausted(self) -> bool:
        return not self.waiting
