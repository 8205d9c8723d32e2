"""The ledger in SQLite: written in batches, read back as records."""

from __future__ import annotations

import json
import os
import sqlite3
import time
import zlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import quote

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
    UndoRecord,
)
from juxtalogos.ledger.sqlite.history import (
    CASE_HISTORY,
    FINDING_HISTORY,
    OPERATION_HISTORY,
    case_values,
    rows_by_run,
    seen_case,
    seen_finding,
    seen_operation,
)
from juxtalogos.ledger.sqlite.migrate import migrate
from juxtalogos.ledger.sqlite.queries import (
    LABELS,
    RUN_QUERY,
    STEP_COLUMNS,
    condition,
    run_condition,
    run_record,
    step_row,
)
from juxtalogos.ledger.sqlite.rows import Batch, exchange_record, results_of, storable, store_batch
from juxtalogos.ledger.sqlite.schema import STORED, STORED_COLUMNS, TABLES, VERSION, stored_before
from juxtalogos.model.errors import LedgerError, UsageError
from juxtalogos.model.findings import Finding
from juxtalogos.model.verdict import Verdict, worst
from juxtalogos.workspace.files import private_folder

WAIT = 30.0
"""Seconds that a command waits for whoever else writes."""
PAGE = 200
MAX_EXCHANGES = 200
"""Exchanges told with one finding; the count tells how many there are."""


Made = TypeVar("Made")


class SqliteLedger:
    """One open file. For reading only, nothing of it is changed: an older form is read as it stands."""

    version: int
    """Of the form of the file."""

    def __init__(self, path: Path, *, write: bool) -> None:
        self.path = path
        self.write = write
        try:
            self.db = self._writable() if write else self._readable()
        except (sqlite3.Error, OSError) as error:
            raise self._unusable(error) from None
        if self.version > VERSION:
            self.db.close()
            raise LedgerError(
                f"the ledger is of version {self.version}, this program knows {VERSION}",
                where=str(path),
                mend="use a newer juxtalogos",
            )

    @property
    def place(self) -> str:
        return str(self.path)

    def __enter__(self) -> SqliteLedger:
        return self

    def __exit__(self, *_: object) -> None:
        self.db.close()

    # Opening.

    def _writable(self) -> sqlite3.Connection:
        self._make_private()
        db = self._connected(sqlite3.connect(self.path, timeout=WAIT, isolation_level=None))
        db.execute("PRAGMA journal_mode=WAL")
        db.execute("PRAGMA synchronous=NORMAL")
        if self.version < VERSION:
            # Another process may be at it too: whoever comes second finds all there.
            db.execute("BEGIN IMMEDIATE")
            self.version = int(db.execute("PRAGMA user_version").fetchone()[0])
            if self.version == 0:
                self._make(db)
            elif self.version < VERSION:
                migrate(db, self.path, self.version)
            db.execute("COMMIT")
            self.version = VERSION
        db.execute(STORED)
        return db

    def _make_private(self) -> None:
        """A new file that only its owner may read, in such a folder; one that is there keeps its rights."""
        private_folder(self.path.parent)
        with suppress(FileExistsError):
            os.close(os.open(self.path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))

    def _readable(self) -> sqlite3.Connection:
        if not self.path.exists():
            db = self._connected(sqlite3.connect(":memory:", isolation_level=None))
            self._make(db)
        else:
            db = self._opened_for_reading()
            if self.version == 0:
                db.close()
                db = self._connected(sqlite3.connect(":memory:", isolation_level=None))
                self._make(db)
        db.executescript(stored_before(self.version) if 0 < self.version < VERSION else STORED)
        return db

    def _opened_for_reading(self) -> sqlite3.Connection:
        url = f"file:{quote(str(self.path.resolve()))}"
        try:
            return self._connected(
                sqlite3.connect(f"{url}?mode=ro", uri=True, timeout=WAIT, isolation_level=None)
            )
        except sqlite3.OperationalError:
            # In a folder that cannot be written there is no place for the files that readers share.
            if os.access(self.path.parent, os.W_OK) or not os.access(self.path, os.R_OK):
                raise
            return self._connected(sqlite3.connect(f"{url}?immutable=1", uri=True, isolation_level=None))

    def _connected(self, db: sqlite3.Connection) -> sqlite3.Connection:
        try:
            self.version = int(db.execute("PRAGMA user_version").fetchone()[0])
            db.execute("SELECT count(*) FROM sqlite_master").fetchone()
        except sqlite3.Error:
            db.close()
            raise
        return db

    def _make(self, db: sqlite3.Connection) -> None:
        for statement in TABLES.split(";"):
            if statement.strip():
                db.execute(statement)
        db.execute("INSERT INTO meta VALUES ('key', ?)", (os.urandom(32),))
        db.execute(f"PRAGMA user_version={VERSION}")
        self.version = VERSION

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

    # Writing.

    @contextmanager
    def batch(self) -> Iterator[None]:
        """One transaction: what is done meanwhile is committed together at its end; LedgerError when it
        cannot be.
        """
        with self._guarded():
            self.db.execute("BEGIN IMMEDIATE")
            try:
                yield
                self.db.execute("COMMIT")
            except BaseException:
                if self.db.in_transaction:
                    self.db.execute("ROLLBACK")
                raise

    def begin(
        self,
        kind: str,
        target: str,
        what: str,
        *,
        token: str = "",
        labels: Iterable[tuple[str, str]] = (),
    ) -> int:
        query = "INSERT INTO main.run (started, kind, target, what, token) VALUES (?, ?, ?, ?, ?)"
        with self.batch():
            number = int(self.db.execute(query, (time.time(), kind, target, what, token)).lastrowid or 0)
            self.db.executemany(
                "INSERT OR IGNORE INTO run_label VALUES (?, ?)",
                [(number, storable(" ".join(f"{name}={value}".split()))) for name, value in labels],
            )
        return number

    def end(self, run: int, verdict: str, *, interrupted: bool = False) -> None:
        query = "UPDATE main.run SET ended = ?, verdict = ?, interrupted = ? WHERE id = ?"
        with self.batch():
            self.db.execute(query, (time.time(), verdict, interrupted, run))

    def note_state(self, run: int, state: str) -> None:
        with self.batch():
            self.db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (f"state {run}", storable(state)))

    def state(self, run: int) -> str:
        if self.version < VERSION:
            return ""
        rows = self._rows("SELECT value FROM meta WHERE name = ?", (f"state {run}",))
        return str(rows[0][0]) if rows else ""

    def add(
        self, run: int, exchanges: Sequence[ExchangeRecord], cases: Sequence[CaseRecord] = ()
    ) -> list[int]:
        with self.batch():
            return self._put(run, exchanges, cases)

    def try_add(self, run: int, records: Sequence[ExchangeRecord | CaseRecord | UndoRecord]) -> bool:
        exchanges = [record for record in records if isinstance(record, ExchangeRecord)]
        cases = [record for record in records if isinstance(record, CaseRecord)]
        undoing = [record for record in records if isinstance(record, UndoRecord)]
        self.db.execute("PRAGMA busy_timeout=0")
        try:
            self.db.execute("BEGIN IMMEDIATE")
        except sqlite3.OperationalError as error:
            if "locked" in str(error) or "busy" in str(error):
                return False
            raise self._unusable(error) from None
        finally:
            self.db.execute(f"PRAGMA busy_timeout={int(WAIT * 1000)}")
        try:
            self.db.execute("SAVEPOINT all_at_once")
            try:
                self._put(run, exchanges, cases)
            except (ValueError, OverflowError, TypeError, sqlite3.InterfaceError, sqlite3.ProgrammingError):
                self.db.execute("ROLLBACK TO all_at_once")
                self._put_each(run, exchanges, cases)
            self._put_undoing(run, undoing)
            self.db.execute("COMMIT")
        except sqlite3.Error as error:
            if self.db.in_transaction:
                self.db.execute("ROLLBACK")
            raise self._unusable(error) from None
        return True

    def _put_each(self, run: int, exchanges: Sequence[ExchangeRecord], cases: Sequence[CaseRecord]) -> None:
        """One by one: a record with something that cannot be stored is kept without it, and says so."""
        for record in exchanges:
            self.db.execute("SAVEPOINT one")
            try:
                self._put(run, [record], ())
            except (
                ValueError,
                OverflowError,
                TypeError,
                sqlite3.InterfaceError,
                sqlite3.ProgrammingError,
            ) as error:
                self.db.execute("ROLLBACK TO one")
                reason = f"the exchange cannot be stored ({type(error).__name__})"
                bare = replace(record.bare(), verdict=Verdict.ERROR, reason=reason)
                self._put(run, [bare], ())
            self.db.execute("RELEASE one")
        self._put(run, (), cases)

    @cached_property
    def _key(self) -> bytes:
        return bytes(self.db.execute("SELECT value FROM meta WHERE name = 'key'").fetchone()[0])

    def _put(self, run: int, exchanges: Sequence[ExchangeRecord], cases: Sequence[CaseRecord]) -> list[int]:
        first = (
            int(self.db.execute("SELECT coalesce(max(id), 0) + 1 FROM main.exchange").fetchone()[0])
            if exchanges
            else 1
        )
        batch = Batch(run, self._key, first)
        for record in exchanges:
            batch.add(record)
        store_batch(self.db, batch)
        self.db.executemany(
            "INSERT INTO suite_case VALUES (?, ?, ?, ?, ?, ?)",
            [
                (run, *map(storable, (case.suite, case.case, case.verdict, case.reason)), case.seconds)
                for case in cases
            ],
        )
        return batch.ids

    def _put_undoing(self, run: int, records: Sequence[UndoRecord]) -> None:
        for entry in records:
            if entry.done:
                self.db.execute(
                    "UPDATE created SET removed = 1 WHERE run = ? AND key = ?",
                    (entry.run or run, storable(entry.sent)),
                )
            else:
                query = (
                    "INSERT INTO created (run, exchange, contract, resource, key, target) VALUES (?, 0, ?, ?,"
                    " ?, ?)"
                )
                told = map(storable, (entry.contract, entry.operation, entry.sent, entry.target))
                self.db.execute(query, (run, *told))

    def mark_undone(self, number: int) -> None:
        with self.batch():
            self.db.execute("UPDATE created SET removed = 1 WHERE id = ?", (number,))

    def undone(self, run: int | None = None) -> list[UndoRecord]:
        if not self.db.execute("SELECT 1 FROM sqlite_master WHERE name = 'created'").fetchone():
            return []  # a ledger of an older form
        rows = self._rows(
            "SELECT contract, resource, key, target, removed, id FROM created"
            f" WHERE {'run = ? AND ' if run is not None else ''}NOT removed ORDER BY id DESC",
            (run,) if run is not None else (),
        )
        return [
            UndoRecord(contract, operation, sent, target, bool(done), number)
            for contract, operation, sent, target, done, number in rows
        ]

    def assign(self, exchange: int, suite: str, case: str, step: str) -> None:
        query = "UPDATE main.exchange SET suite = ?, suite_case = ?, step = ? WHERE id = ?"
        with self.batch():
            self.db.execute(query, (suite, case, step, exchange))

    # Reading.

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
        if query.labels and not self._labelled:
            return []
        which, values = run_condition(query)
        found = self._rows(f"{self._run_query} WHERE {which} ORDER BY id DESC LIMIT ?", (*values, limit))
        return [*self._made(run_record, found)]

    @property
    def _labelled(self) -> bool:
        """Whether the form of the ledger has labels; the first ones had none."""
        return bool(self._rows("SELECT 1 FROM sqlite_master WHERE name = 'run_label'"))

    @property
    def _run_query(self) -> str:
        return RUN_QUERY.format(labels=LABELS if self._labelled else "''")

    def case_history(self, suite: str, case: str, limit: int) -> list[PastRun]:
        values = case_values(suite, case, limit)
        return [*self._made(seen_case, rows_by_run(self._rows(CASE_HISTORY, values)))]

    def operation_history(self, contract: str, operation: str, limit: int) -> list[PastRun]:
        return [*self._made(seen_operation, self._rows(OPERATION_HISTORY, (contract, operation, limit)))]

    def finding_history(self, wanted: str) -> list[PastFinding]:
        if self.version < VERSION:
            return []
        return [*self._made(seen_finding, self._rows(FINDING_HISTORY, (wanted, len(wanted), wanted)))]

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
