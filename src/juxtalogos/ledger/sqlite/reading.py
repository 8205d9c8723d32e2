"""Reading a ledger in SQLite: runs, cases, exchanges, findings, coverage and what became of them."""

from __future__ import annotations

import json
import sqlite3
import zlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

from juxtalogos.ledger.interface import EVERY_RUN, ExchangeQuery, RunQuery
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
)
from juxtalogos.ledger.sqlite.history import (
    CASE_EXCHANGES,
    CASES,
    FINDINGS,
    LEAST_PREFIX,
    OPERATIONS,
    TRIED_KINDS,
    past_case,
    past_finding,
    past_operation,
)
from juxtalogos.ledger.sqlite.queries import (
    LABELS,
    RUN_QUERY,
    STEP_COLUMNS,
    condition,
    run_condition,
    run_record,
    step_row,
)
from juxtalogos.ledger.sqlite.rows import exchange_record, results_of
from juxtalogos.ledger.sqlite.schema import STORED_COLUMNS, VERSION
from juxtalogos.model.errors import LedgerError, UsageError
from juxtalogos.model.findings import Finding
from juxtalogos.model.verdict import Verdict, worst

PAGE = 200
MAX_EXCHANGES = 200
"""Exchanges told with one finding; the count tells how many there are."""


Made = TypeVar("Made")


class SqliteReading:
    """See `Ledger`: its queries, over every form of the file."""

    path: Path
    write: bool
    db: sqlite3.Connection
    version: int
    """Of the form of the file."""

    def _unusable(self, error: Exception) -> LedgerError:
        """What is wrong with the file, apart: another writes, it may not be written, it is damaged."""
        text = str(error)
        if "locked" in text or "busy" in text:
            what, mend = "another program has locked the ledger", "wait until it ends, or end it"
        elif "readonly" in text or "unable to open" in text or isinstance(error, OSError):
            what = f"the ledger cannot be {'written' if self.write else 'opened'}: {text}"
            mend = "give the folder and the file the rights to be written, or use a workspace of your own"
        elif "full" in text or "disk I/O" in text:
            what, mend = (
                f"the ledger cannot be written: {text}",
                "make room on the disk; what was kept before is still there",
            )
        else:
            what, mend = (
                f"the ledger is damaged: {text}",
                "see what is wrong, and save what can be read: juxtalogos ledger check --save FILE",
            )
        return LedgerError(what, where=str(self.path), mend=mend)

    @contextmanager
    def _guarded(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.Error as error:
            raise self._unusable(error) from None

    def _rows(self, query: str, values: Sequence[Any] = ()) -> list[Any]:
        with self._guarded():
            return self.db.execute(query, values).fetchall()

    def _made(self, make: Callable[[Any], Made], rows: Iterable[Any]) -> Iterator[Made]:
        """What rows say; LedgerError where one says nothing that we ever wrote."""
        for row in rows:
            try:
                made = make(row)
            except (
                ValueError,
                KeyError,
                TypeError,
                IndexError,
                AttributeError,
                RecursionError,
                zlib.error,
            ) as error:
                raise self._unusable(error) from None
            yield made

    def runs(self, limit: int = 50, query: RunQuery = EVERY_RUN) -> list[RunRecord]:
        if query.labels and self.version < VERSION:
            return []  # an older form, which has none
        which, values = run_condition(query)
        found = self._rows(f"{self._run_query} WHERE {which} ORDER BY id DESC LIMIT ?", (*values, limit))
        return [*self._made(run_record, found)]

    @property
    def _labels(self) -> str:
        """The labels of a run as SQL; older forms have none."""
        return LABELS if self.version == VERSION else "''"

    @property
    def _run_query(self) -> str:
        return RUN_QUERY.format(labels=self._labels)

    def case_history(self, suite: str, case: str, limit: int) -> list[PastRun]:
        turns = f"{case}["  # its rows and repetitions
        which = suite, case, len(turns), turns
        values = *which, limit, *which
        runs: dict[int, list[Any]] = {}
        for row in self._rows(CASES.format(labels=self._labels), values):
            runs.setdefault(int(row[0]), []).append(row)
        failed = dict(self._rows(CASE_EXCHANGES, values))
        return [*self._made(lambda run: past_case(runs[run], failed.get(run) or 0), runs)]

    def operation_history(self, contract: str, operation: str, limit: int) -> list[PastRun]:
        query = OPERATIONS.format(labels=self._labels, kinds=", ".join("?" * len(TRIED_KINDS)))
        rows = self._rows(query, (contract, operation, *TRIED_KINDS, limit))
        return [*self._made(past_operation, rows)]

    def finding_history(self, wanted: str, limit: int) -> list[PastFinding]:
        if self.version < VERSION:
            return []  # of an older form, which knows no fingerprints
        prefix = wanted if len(wanted) >= LEAST_PREFIX else None
        rows = self._rows(FINDINGS, (wanted, len(wanted), prefix, limit))
        return [*self._made(past_finding, rows)]

    def run(self, number: int | None = None) -> RunRecord:
        if number is None:
            found = self.runs(1, RunQuery(calls=False)) or self.runs(1)
        else:
            found = [*self._made(run_record, self._rows(f"{self._run_query} WHERE id = ?", (number,)))]
        if not found:
            latest = self._rows("SELECT max(id) FROM main.run")[0][0]
            mend = (
                f"the latest is {latest}; list them: juxtalogos runs"
                if latest
                else "make one: juxtalogos run"
            )
            raise UsageError(
                f"there is no run {number}" if number is not None else "there is no run yet", mend=mend
            )
        return found[0]

    def cases(self, run: int) -> list[CaseRecord]:
        query = (
            "SELECT suite, name, verdict, reason, seconds FROM suite_case WHERE run = ? ORDER BY suite, rowid"
        )
        return [
            *self._made(
                lambda row: CaseRecord(row[0], row[1], Verdict(row[2]), row[3], float(row[4])),
                self._rows(query, (run,)),
            )
        ]

    def worst(self, run: int) -> Verdict:
        return worst(
            self._made(
                lambda row: Verdict(row[0]),
                self._rows("SELECT DISTINCT verdict FROM suite_case WHERE run = ?", (run,)),
            )
        )

    def steps(self, run: int) -> Iterator[StepRow]:
        return self._made(
            step_row, self._rows(f"SELECT {STEP_COLUMNS} FROM stored WHERE run = ? ORDER BY id", (run,))
        )

    def exchanges(self, query: ExchangeQuery) -> Iterator[ExchangeRecord]:
        """A page at a time, so that a large run never stands in memory as a whole."""
        left, at = query.limit, query.after
        while left:
            where, values = condition(query, at)
            order = "DESC" if query.newest_first else "ASC"
            size = PAGE if left < 0 else min(PAGE, left)
            rows = self._rows(
                f"SELECT {STORED_COLUMNS} FROM stored WHERE {where} ORDER BY id {order} LIMIT ?",
                (*values, size),
            )
            yield from self._made(exchange_record, rows)
            if len(rows) < size:
                return
            at = rows[-1][0]
            left -= len(rows) if left > 0 else 0

    def exchange(self, number: int) -> ExchangeRecord | None:
        return next(self.exchanges(ExchangeQuery(number=number, limit=1)), None)

    def findings(self, run: int) -> list[FoundResult]:
        if self.version < VERSION:
            return self._findings_before(run)
        query = (
            "SELECT fingerprint, count(*), min(exchange) FROM finding WHERE run = ? GROUP BY fingerprint"
            " ORDER BY 3, min(place)"
        )
        found: list[FoundResult] = []
        for fingerprint, count, first in self._rows(query, (run,)):
            numbers = self._rows(
                "SELECT DISTINCT exchange, place FROM finding WHERE run = ? AND fingerprint = ? ORDER BY 1"
                " LIMIT ?",
                (run, fingerprint, MAX_EXCHANGES),
            )
            rows = self._rows(
                "SELECT contract, operation, status, results FROM stored WHERE id = ?", (first,)
            )
            exchanges = tuple(dict.fromkeys(number for number, _ in numbers))

            def told(
                row: Any, place: Any = numbers[0][1], rest: Any = (fingerprint, count, exchanges)
            ) -> FoundResult:
                return FoundResult(Finding(results_of(row[3])[place], *row[:3]), *rest)

            found += self._made(told, rows)
        return found

    def _findings_before(self, run: int) -> list[FoundResult]:
        """Of an older form, which knows no fingerprints."""
        grouped: dict[str, tuple[Finding, list[int]]] = {}
        for record in self.exchanges(ExchangeQuery(run=run, finding="any")):
            for finding in record.findings():
                grouped.setdefault(finding.fingerprint, (finding, []))[1].append(record.id)
        return [
            FoundResult(finding, fingerprint, len(numbers), tuple(dict.fromkeys(numbers))[:MAX_EXCHANGES])
            for fingerprint, (finding, numbers) in grouped.items()
        ]

    def reported(self, run: int) -> Iterator[ReportedValue]:
        query = (
            "SELECT id, suite, suite_case, step, notes FROM stored WHERE run = ? AND instr(notes,"
            " '\"reported\":') > 0 ORDER BY id"
        )

        def told(row: Any) -> list[ReportedValue]:
            return [
                ReportedValue(row[0], row[1], row[2], row[3], str(name), str(value))
                for name, value in json.loads(row[4]).get("reported", ())
            ]

        for values in self._made(told, self._rows(query, (run,))):
            yield from values

    def hits(self, runs: Iterable[int], contract: str) -> Iterator[HitRow]:
        query = (
            "SELECT element, operation, status, media_type, count, exchange FROM hit WHERE run = ? AND"
            " contract = ?"
        )
        for run in runs:
            for row in self._rows(query, (run, contract)):
                yield HitRow(*row)

    def contracts(self, runs: Iterable[int]) -> list[str]:
        query = "SELECT DISTINCT contract FROM main.exchange WHERE run = ? AND contract <> '' ORDER BY 1"
        return list(dict.fromkeys(name for run in runs for (name,) in self._rows(query, (run,))))
