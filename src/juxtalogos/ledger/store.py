"""The ledger in SQLite: written in batches, read back as records.

Schema version 2 (1 had no `notes` on an exchange). Times are Unix seconds. Everything that comes in is redacted already.
"""

from __future__ import annotations

import json
import sqlite3
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from juxtalogos.ledger.records import CaseRecord, ExchangeRecord, HitRow, RunRecord
from juxtalogos.model.errors import ConfigError, UsageError
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.model.findings import CheckResult, Severity
from juxtalogos.model.location import Location
from juxtalogos.model.verdict import Verdict

VERSION = 2

_SCHEMA = """
CREATE TABLE IF NOT EXISTS run (
    id INTEGER PRIMARY KEY, started REAL NOT NULL, ended REAL NOT NULL DEFAULT 0, kind TEXT NOT NULL, target TEXT NOT NULL,
    what TEXT NOT NULL, verdict TEXT NOT NULL DEFAULT '', interrupted INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE IF NOT EXISTS suite_case (
    run INTEGER NOT NULL, suite TEXT NOT NULL, name TEXT NOT NULL, verdict TEXT NOT NULL, reason TEXT NOT NULL, seconds REAL NOT NULL
);
CREATE INDEX IF NOT EXISTS case_run ON suite_case (run);
CREATE TABLE IF NOT EXISTS exchange (
    id INTEGER PRIMARY KEY, run INTEGER NOT NULL, suite TEXT NOT NULL, suite_case TEXT NOT NULL, step TEXT NOT NULL,
    contract TEXT NOT NULL, operation TEXT NOT NULL, verdict TEXT NOT NULL, reason TEXT NOT NULL,
    method TEXT NOT NULL, url TEXT NOT NULL, status INTEGER NOT NULL, sent_at REAL NOT NULL, first_byte REAL NOT NULL, total REAL NOT NULL,
    error TEXT NOT NULL, request_headers TEXT NOT NULL, request_body BLOB,
    response_head TEXT, response_body BLOB, findings INTEGER NOT NULL, notes TEXT NOT NULL DEFAULT ''
);
CREATE INDEX IF NOT EXISTS exchange_run ON exchange (run);
CREATE TABLE IF NOT EXISTS check_result (
    exchange INTEGER NOT NULL, kind TEXT NOT NULL, held INTEGER NOT NULL, place TEXT NOT NULL, declared TEXT NOT NULL, observed TEXT NOT NULL,
    document TEXT, pointer TEXT, severity TEXT NOT NULL, proving INTEGER NOT NULL, detail TEXT NOT NULL
);
CREATE INDEX IF NOT EXISTS check_exchange ON check_result (exchange);
CREATE TABLE IF NOT EXISTS hit (
    run INTEGER NOT NULL, contract TEXT NOT NULL, element TEXT NOT NULL, operation TEXT NOT NULL, status INTEGER NOT NULL, media_type TEXT NOT NULL,
    count INTEGER NOT NULL, exchange INTEGER NOT NULL,
    PRIMARY KEY (run, contract, element, operation, status, media_type)
) WITHOUT ROWID;
"""


class Ledger:
    """One open ledger. Used from one thread at a time; several processes may share the file."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            self.db = sqlite3.connect(path, timeout=30)
            self.db.execute("PRAGMA journal_mode=WAL")
            self.db.execute("PRAGMA synchronous=NORMAL")
            version = self.db.execute("PRAGMA user_version").fetchone()[0]
            if version == 0:
                # Another process may be making it too: whoever comes second finds all there.
                self.db.executescript(f"BEGIN IMMEDIATE;{_SCHEMA}PRAGMA user_version={VERSION};COMMIT;")
            elif version == 1:
                self._from_version_1()
        except (sqlite3.DatabaseError, OSError) as error:
            raise ConfigError(
                f"the ledger cannot be used: {error}", where=str(path), mend="move the file away; a new one is made"
            ) from None
        if version > VERSION:
            raise ConfigError(
                f"the ledger is of version {version}, this program knows {VERSION}",
                where=str(path),
                mend="use a newer juxtalogos",
            )

    def _from_version_1(self) -> None:
        """Adds what version 2 added; whoever comes second finds it done."""
        self.db.execute("BEGIN IMMEDIATE")
        columns = {row[1] for row in self.db.execute("PRAGMA table_info(exchange)")}
        if "notes" not in columns:
            self.db.execute("ALTER TABLE exchange ADD COLUMN notes TEXT NOT NULL DEFAULT ''")
        self.db.execute(f"PRAGMA user_version={VERSION}")
        self.db.execute("COMMIT")

    def __enter__(self) -> Ledger:
        return self

    def __exit__(self, *_: object) -> None:
        self.db.close()

    def begin(self, kind: str, target: str, what: str) -> int:
        with self.batch():
            cursor = self.db.execute(
                "INSERT INTO run (started, kind, target, what) VALUES (?, ?, ?, ?)", (time.time(), kind, target, what)
            )
        return int(cursor.lastrowid or 0)

    def end(self, run: int, verdict: str, *, interrupted: bool = False) -> None:
        with self.batch():
            self.db.execute(
                "UPDATE run SET ended = ?, verdict = ?, interrupted = ? WHERE id = ?",
                (time.time(), verdict, interrupted, run),
            )

    def add(self, run: int, exchanges: Sequence[ExchangeRecord], cases: Sequence[CaseRecord] = ()) -> list[int]:
        """Stores finished work in one transaction; gives the ids of the exchanges."""
        with self.batch():
            return self.put(run, exchanges, cases)

    @contextmanager
    def batch(self) -> Iterator[None]:
        """One transaction: what is put meanwhile is committed together at its end; ConfigError when it cannot be."""
        try:
            with self.db:
                yield
        except sqlite3.OperationalError as error:
            raise ConfigError(
                f"the ledger cannot be written: {error}",
                where=str(self.path),
                mend="make room on the disk, or wait for whoever else writes; what was kept before is still there",
            ) from None

    def put(self, run: int, exchanges: Sequence[ExchangeRecord], cases: Sequence[CaseRecord] = ()) -> list[int]:
        """Stores finished work within a batch; gives the ids of the exchanges."""
        ids: list[int] = []
        if exchanges or cases:
            for record in exchanges:
                cursor = self.db.execute(f"INSERT INTO exchange VALUES (NULL{', ?' * 21})", _exchange_row(run, record))
                ids.append(int(cursor.lastrowid or 0))
            self.db.executemany(
                f"INSERT INTO check_result VALUES (?{', ?' * 10})",
                (_result_row(number, result) for number, record in zip(ids, exchanges) for result in record.results),
            )
            self.db.executemany(
                "INSERT INTO hit VALUES (?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET count = count + excluded.count",
                _hit_rows(run, ids, exchanges),
            )
            self.db.executemany(
                "INSERT INTO suite_case VALUES (?, ?, ?, ?, ?, ?)",
                ((run, case.suite, case.case, case.verdict, case.reason, case.seconds) for case in cases),
            )
        return ids

    def runs(self, limit: int = 50) -> list[RunRecord]:
        """The latest first."""
        return [_run_record(row) for row in self.db.execute(f"{_RUN_QUERY} ORDER BY id DESC LIMIT ?", (limit,))]

    def run(self, number: int | None = None) -> RunRecord:
        """A run by number; without one the latest that is no single call. UsageError when there is none."""
        if number is None:
            row = self.db.execute(f"{_RUN_QUERY} ORDER BY kind IN ('run', 'audit') DESC, id DESC LIMIT 1").fetchone()
        else:
            row = self.db.execute(f"{_RUN_QUERY} WHERE id = ?", (number,)).fetchone()
        if row is None:
            latest = self.db.execute("SELECT max(id) FROM run").fetchone()[0]
            mend = f"the latest is {latest}; list them: juxtalogos runs" if latest else "make one: juxtalogos run"
            raise UsageError(f"there is no run {number}" if number is not None else "there is no run yet", mend=mend)
        return _run_record(row)

    def cases(self, run: int) -> list[CaseRecord]:
        query = "SELECT suite, name, verdict, reason, seconds FROM suite_case WHERE run = ? ORDER BY suite, rowid"
        return [
            CaseRecord(suite, name, Verdict(verdict), reason, seconds)
            for suite, name, verdict, reason, seconds in self.db.execute(query, (run,))
        ]

    def exchanges(
        self,
        run: int | None = None,
        *,
        number: int | None = None,
        where: str = "",
        values: Sequence[Any] = (),
        limit: int = -1,
    ) -> Iterator[ExchangeRecord]:
        """Exchanges in the order they were stored, with their checks. `where` is a condition of ours, never a user's text."""
        conditions, bound = ["1"], list(values)
        if where:
            conditions.append(where)
        if run is not None:
            conditions.append("run = ?")
            bound.append(run)
        if number is not None:
            conditions.append("id = ?")
            bound.append(number)
        for row in self.db.execute(
            f"SELECT * FROM exchange WHERE {' AND '.join(conditions)} ORDER BY id LIMIT ?", (*bound, limit)
        ).fetchall():
            yield _exchange_record(row, self.results(row[0]))

    def latest_answer(self) -> ExchangeRecord | None:
        """The latest exchange that has an answer."""
        row = self.db.execute("SELECT id FROM exchange WHERE status > 0 ORDER BY id DESC LIMIT 1").fetchone()
        return next(self.exchanges(number=row[0]), None) if row else None

    def assign(self, exchange: int, suite: str, case: str, step: str) -> None:
        """Notes which step of a suite a call was saved as."""
        with self.batch():
            self.db.execute(
                "UPDATE exchange SET suite = ?, suite_case = ?, step = ? WHERE id = ?", (suite, case, step, exchange)
            )

    def results(self, exchange: int) -> tuple[CheckResult, ...]:
        rows = self.db.execute("SELECT * FROM check_result WHERE exchange = ? ORDER BY rowid", (exchange,))
        return tuple(_check_result(row) for row in rows)

    def hits(self, runs: Iterable[int], contract: str) -> Iterator[HitRow]:
        for run in runs:
            query = (
                "SELECT element, operation, status, media_type, count, exchange FROM hit WHERE run = ? AND contract = ?"
            )
            for row in self.db.execute(query, (run, contract)):
                yield HitRow(*row)

    def contracts(self, runs: Iterable[int]) -> list[str]:
        """Names of the contracts that some runs had exchanges with."""
        found: dict[str, None] = {}
        for run in runs:
            for (name,) in self.db.execute(
                "SELECT DISTINCT contract FROM exchange WHERE run = ? AND contract <> '' ORDER BY 1", (run,)
            ):
                found[name] = None
        return list(found)


_RUN_QUERY = """SELECT id, started, ended, kind, target, what, verdict,
    (SELECT count(*) FROM suite_case WHERE run = run.id), (SELECT count(*) FROM exchange WHERE run = run.id),
    (SELECT coalesce(sum(findings), 0) FROM exchange WHERE run = run.id), interrupted FROM run"""


def _run_record(row: Sequence[Any]) -> RunRecord:
    values = (*row[:10], bool(row[10]))
    return RunRecord(*values)


def _exchange_row(run: int, record: ExchangeRecord) -> tuple[Any, ...]:
    exchange = record.exchange
    request = exchange.request if exchange else Request("", "")
    response = exchange.response if exchange else None
    timings = exchange.timings if exchange else Timings(time.time(), 0, 0)
    head = None
    if response:
        head = json.dumps(
            [
                response.reason,
                response.headers,
                response.http_version,
                response.truncated,
                response.problem,
                response.body_kept,
            ]
        )
    findings = sum(result.fails for result in record.results)
    return (
        run, record.suite, record.case, record.step, record.contract, record.operation, record.verdict, record.reason, request.method, request.url,
        response.status if response else 0, timings.sent_at, timings.first_byte, timings.total, exchange.error if exchange else "",
        json.dumps(request.headers), request.body, head, response.body if response else None, findings, _notes(record),
    )  # fmt: skip


def _exchange_record(row: Sequence[Any], results: tuple[CheckResult, ...]) -> ExchangeRecord:
    (
        number, run, suite, case, step, contract, operation, verdict, reason, method, url,
        status, sent_at, first_byte, total, error, headers, body, head, answer, _, notes,
    ) = row  # fmt: skip
    exchange = None
    if method:
        request = Request(method, url, _fields(json.loads(headers)), body)
        exchange = Exchange(request, _response(status, head, answer), Timings(sent_at, first_byte, total), error)
    told = json.loads(notes) if notes else {}
    known, flows = _fields(told.get("known", {}).items()), _fields(told.get("flows", ()))
    return ExchangeRecord(
        case, step, contract, operation, exchange, Verdict(verdict), reason, results, (), suite, number, run,
        known, flows, str(told.get("note", "")),
    )  # fmt: skip


def _response(status: int, head: str | None, body: bytes | None) -> Response | None:
    if head is None:
        return None
    phrase, fields, version, truncated, problem, *kept = json.loads(head)
    return Response(status, phrase, _fields(fields), body or b"", version, truncated, problem, *kept)


def _fields(pairs: Iterable[Sequence[str]]) -> tuple[tuple[str, str], ...]:
    return tuple((name, value) for name, value in pairs)


def _hit_rows(run: int, ids: Sequence[int], exchanges: Sequence[ExchangeRecord]) -> Iterator[tuple[Any, ...]]:
    """The hits of a batch, each element once with how often it was hit and where first."""
    by_answer: dict[tuple[str, str, int, str], dict[str, list[int]]] = {}
    for number, record in zip(ids, exchanges):
        if not record.hits:
            continue
        key = record.contract, record.operation, record.status, record.media_type
        counts = by_answer.setdefault(key, {})
        for element in record.hits:
            found = counts.get(element)
            if found is None:
                counts[element] = [1, number]
            else:
                found[0] += 1
    for (contract, operation, status, media_type), counts in by_answer.items():
        for element, (count, first) in counts.items():
            yield run, contract, element, operation, status, media_type, count, first


def _notes(record: ExchangeRecord) -> str:
    told = {"known": dict(record.known), "flows": record.flows, "note": record.note}
    return (
        json.dumps({key: value for key, value in told.items() if value}, separators=(",", ":"))
        if any(told.values())
        else ""
    )


def _result_row(exchange: int, result: CheckResult) -> tuple[Any, ...]:
    place = result.location
    return (
        exchange, result.kind, result.held, result.at, result.declared, result.observed, place.document if place else None, place.pointer if place else None,
        result.severity, result.proving, result.detail,
    )  # fmt: skip


def _check_result(row: Sequence[Any]) -> CheckResult:
    _, kind, held, at, declared, observed, document, pointer, severity, proving, detail = row
    location = Location(document, pointer) if document is not None else None
    return CheckResult(kind, bool(held), at, declared, observed, location, Severity(severity), bool(proving), detail)
