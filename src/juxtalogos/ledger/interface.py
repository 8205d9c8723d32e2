"""What a ledger is to those that write and read runs: typed queries, answered where the rows are kept."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import Protocol

from juxtalogos.ledger.records import (
    CaseRecord,
    ExchangeRecord,
    FoundResult,
    HitRow,
    PastFinding,
    PastRun,
    ReportedValue,
    RunRecord,
    StepRow,
    UndoRecord,
)
from juxtalogos.model.verdict import Verdict

JUDGED_KINDS = ("run", "audit", "explore")
"""Kinds of run that are more than a single call."""


@dataclass(frozen=True, slots=True)
class ExchangeQuery:
    """Which exchanges; what is left out does not matter."""

    run: int | None = None
    latest_runs: int = 0
    """Of so many latest runs."""
    number: int | None = None
    after: int = 0
    """Only those with a higher number: for paging."""
    method: str = ""
    url_part: str = ""
    """What the URL has in it."""
    status: str = ""
    """A code (`404`) or a range (`5XX`)."""
    verdict: str = ""
    operation: str = ""
    contract: str = ""
    finding: str = ""
    """A kind of result that did not hold; `any` for whatever kind."""
    of_a_suite: bool = False
    answered: bool = False
    whole_only: bool = False
    """Those that are no part of another."""
    newest_first: bool = False
    limit: int = -1


@dataclass(frozen=True, slots=True)
class RunQuery:
    """Which runs; what is left out does not matter."""

    calls: bool = True
    """Whether single calls count too."""
    target: str = ""
    suite: str = ""
    """Runs with a case of this suite."""
    verdict: str = ""
    labels: tuple[tuple[str, str], ...] = ()
    """Runs that have all of these."""


EVERY_RUN = RunQuery()


class Ledger(Protocol):
    """A store of runs.

    Everything that comes in is redacted already. Used from one thread at a time; several processes may share
    one.
    """

    @property
    def place(self) -> str:
        """Where it is, for a person."""

    def begin(
        self,
        kind: str,
        target: str,
        what: str,
        *,
        token: str = "",
        labels: Iterable[tuple[str, str]] = (),
    ) -> int:
        """A new run; gives its number."""

    def end(self, run: int, verdict: str, *, interrupted: bool = False) -> None: ...

    def note_state(self, run: int, state: str) -> None:
        """Keeps what is different at the service after a run, as JSON text."""

    def state(self, run: int) -> str:
        """The same text; empty where none was kept."""

    def try_add(self, run: int, records: Sequence[ExchangeRecord | CaseRecord | UndoRecord]) -> bool:
        """Stores finished work in one transaction, without waiting: False when another writes just now.
        LedgerError when it cannot be written.
        """

    def add(
        self, run: int, exchanges: Sequence[ExchangeRecord], cases: Sequence[CaseRecord] = ()
    ) -> list[int]:
        """Stores finished work in one transaction, waiting for others; gives the numbers of the exchanges."""

    def assign(self, exchange: int, suite: str, case: str, step: str) -> None:
        """Notes which step of a suite a call was saved as."""

    def undone(self, run: int | None = None) -> list[UndoRecord]:
        """What of a run, or of all, is still to be undone, the newest first."""

    def mark_undone(self, number: int) -> None:
        """Notes that something was undone."""

    def runs(self, limit: int = 50, query: RunQuery = EVERY_RUN) -> list[RunRecord]:
        """The latest first."""

    def case_history(self, suite: str, case: str, limit: int) -> list[PastRun]:
        """What became of a case in the latest runs of it, the latest first."""

    def operation_history(self, contract: str, operation: str, limit: int) -> list[PastRun]:
        """What became of an operation in the latest runs that called it, the latest first."""

    def finding_history(self, wanted: str, limit: int) -> list[PastFinding]:
        """The findings of a kind, or whose fingerprint begins so, those seen last first; no more than that
        many.
        """

    def run(self, number: int | None = None) -> RunRecord:
        """A run by number; without one the latest that is more than a single call. UsageError when there is
        none.
        """

    def cases(self, run: int) -> list[CaseRecord]:
        """By suite, in the order in which they ended."""

    def worst(self, run: int) -> Verdict:
        """The worst verdict of a run's cases."""

    def steps(self, run: int) -> Iterator[StepRow]:
        """What each step came to, without what was sent and came."""

    def exchanges(self, query: ExchangeQuery) -> Iterator[ExchangeRecord]:
        """In the order they were stored, with their checks."""

    def exchange(self, number: int) -> ExchangeRecord | None: ...

    def findings(self, run: int) -> list[FoundResult]:
        """What did not hold, by fingerprint, in the order first seen."""

    def reported(self, run: int) -> Iterator[ReportedValue]:
        """The values that steps of a run put into the report, in the order they were stored."""

    def hits(self, runs: Iterable[int], contract: str) -> Iterator[HitRow]: ...

    def contracts(self, runs: Iterable[int]) -> list[str]:
        """Names of the contracts that some runs had exchanges with."""


OpenLedger = AbstractContextManager[Ledger]
