"""The ledger in SQLite: written in batches, read back as records."""

from __future__ import annotations

import os
import sqlite3
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from urllib.parse import quote

from juxtalogos.ledger.records import (
    CaseRecord,
    ExchangeRecord,
    UndoRecord,
)
from juxtalogos.ledger.sqlite.migrate import migrate
from juxtalogos.ledger.sqlite.reading import SqliteReading
from juxtalogos.ledger.sqlite.rows import Batch, storable, store_batch
from juxtalogos.ledger.sqlite.schema import STORED, TABLES, VERSION, stored_before
from juxtalogos.model.errors import LedgerError
from juxtalogos.model.verdict import Verdict
from juxtalogos.workspace.files import private_folder

WAIT = 30.0
"""Seconds that a command waits for whoever else writes."""


class SqliteLedger(SqliteReading):
    """One open file. For reading only, nothing of it is changed: an older form is read as it stands."""

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
