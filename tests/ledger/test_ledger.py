"""The ledger: given back as given, older forms read in place and migrated, locked, full, damaged and
read-only files told apart.
"""

from __future__ import annotations

import asyncio
import hashlib
import json
import os
import shutil
import sqlite3
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import TESTS, Result
from juxtalogos.ledger import BodyForm, CaseRecord, ExchangeQuery, ExchangeRecord, open_ledger
from juxtalogos.ledger import recorder as recording
from juxtalogos.ledger.recorder import Recorder
from juxtalogos.ledger.sqlite.store import SqliteLedger
from juxtalogos.model.errors import LedgerError, UsageError
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.model.findings import CheckResult, ResultClass, Severity
from juxtalogos.model.location import Location
from juxtalogos.model.verdict import Verdict
from juxtalogos.report import run_view

Jux = Callable[..., Result]
DATA = TESTS / "data"
HELD = CheckResult("status.undeclared", True, "status", "200", "200 OK")
WRONG = CheckResult("body.type", False, "body/a", "integer", "string", Location("q.yaml", "/x"))
DOUBTFUL = replace(WRONG, kind="media.missing", severity=Severity.REMARK)
WRITTEN = CheckResult("check.unmet", False, "body/b", "1", "2")


def record(
    case: str = "c", body: bytes = b"{}", *results: CheckResult, status: int = 200, **more: Any
) -> ExchangeRecord:
    response = Response(status, "OK", (("Content-Type", "application/json"),), body) if status else None
    exchange = Exchange(
        Request("POST", "http://h/q", (("A", "1"),), body),
        response,
        Timings(1, 0.1, 0.2),
        "" if status else "no response",
    )
    return ExchangeRecord(
        case, "s", "quay", "x", exchange, Verdict.FAILED, "why", results, suite="suite", **more
    )


def test_it_gives_back_what_it_was_given(tmp_path: Path) -> None:
    given = [
        record("a", b"\x00\xff" * 400, HELD, WRONG, DOUBTFUL, hits=("one|q", "two|q")),
        record(
            "b",
            b"",
            HELD,
            WRITTEN,
            known=(("make.id", 7),),
            flows=(("path.id", "$steps.make.outputs.id"),),
            note="n",
            role="pilot",
        ),
        record("c", b"\x00\xff" * 400, HELD, WRONG, hits=("one|q",), response_form=BodyForm.MASKED),
        record("d", b"", status=0),
        replace(record("e"), exchange=None, verdict=Verdict.SKIPPED),
    ]
    path = tmp_path / "l.sqlite"
    with open_ledger(path, write=True) as ledger:
        run = ledger.begin("run", "local", "suite", token="5e2a")
        numbers = ledger.add(run, given, [CaseRecord("suite", "c", Verdict.FAILED, "why", 0.5)])
        ledger.assign(numbers[3], "kept", "call", "first")
        ledger.end(run, "failed")
    with open_ledger(path) as ledger:
        found = list(ledger.exchanges(ExchangeQuery(run=run)))
        expected = [replace(one, id=number, run=run, hits=()) for one, number in zip(given, numbers)]
        expected[3] = replace(expected[3], suite="kept", case="call", step="first")
        assert found == expected
        assert (
            ledger.cases(run) == [CaseRecord("suite", "c", Verdict.FAILED, "why", 0.5)]
            and ledger.worst(run) is Verdict.FAILED
        )
        told = ledger.run()
        assert (told.exchanges, told.findings, told.verdict, told.token) == (5, 3, "failed", "5e2a")
        assert [(one.count, one.exchanges) for one in ledger.findings(run)] == [
            (2, (1, 3)),
            (1, (1,)),
            (1, (2,)),
        ]
        assert [one.finding.result for one in ledger.findings(run)] == [WRONG, DOUBTFUL, WRITTEN]
        assert {(row.element, row.count, row.exchange) for row in ledger.hits([run], "quay")} == {
            ("one|q", 2, 1),
            ("two|q", 1, 1),
        }
        assert [one.case for one in ledger.steps(run)] == ["a", "b", "c", "call", "e"]
        with pytest.raises(LedgerError, match="readonly"):
            ledger.begin("run", "t", "w")
    database = sqlite3.connect(path)
    assert database.execute("SELECT count(*) FROM body").fetchone()[0] == 2, "each content once"
    classes = [row[0] for row in database.execute("SELECT class FROM finding ORDER BY rowid")]
    assert classes == [ResultClass.FINDING, ResultClass.REMARK, ResultClass.EXPECTATION, ResultClass.FINDING]
    assert database.execute("SELECT sum(length(data)) FROM body").fetchone()[0] < 100, "compressed"


QUERIES: list[tuple[dict[str, Any], list[str]]] = [
    ({}, ["a", "b", "c"]),
    ({"newest_first": True, "limit": 2}, ["c", "b"]),
    ({"after": 1}, ["b", "c"]),
    ({"status": "404"}, ["b"]),
    ({"status": "4XX"}, ["b"]),
    ({"status": "4xx' OR '1'='1"}, []),
    ({"method": "post"}, ["a", "b", "c"]),
    ({"method": "get"}, []),
    ({"url_part": "/q"}, ["a", "b", "c"]),
    ({"url_part": "%"}, []),
    ({"verdict": "failed", "operation": "x", "contract": "quay"}, ["a", "b", "c"]),
    ({"operation": "y"}, []),
    ({"finding": "any"}, ["a"]),
    ({"finding": "body.type"}, ["a"]),
    ({"finding": "body.enum"}, []),
    ({"answered": True}, ["a", "b"]),
    ({"of_a_suite": True, "latest_runs": 1}, ["a", "b", "c"]),
    ({"number": 2}, ["b"]),
    ({"run": 9}, []),
]


@pytest.mark.parametrize(("query", "cases"), QUERIES, ids=str)
def test_queries_are_answered_in_the_database(
    tmp_path: Path, query: dict[str, Any], cases: list[str]
) -> None:
    with open_ledger(tmp_path / "l.sqlite", write=True) as ledger:
        ledger.add(
            ledger.begin("run", "t", "w"),
            [record("a", b"{}", WRONG), record("b", status=404), record("c", status=0)],
        )
        assert [one.case for one in ledger.exchanges(ExchangeQuery(**query))] == cases


@given(st.integers(0, 1_300), st.integers(-1, 700), st.booleans())
def test_pages_together_are_the_whole(count: int, limit: int, newest: bool) -> None:
    with SqliteLedger(Path("never-made.sqlite"), write=False) as ledger:
        ledger.db.execute("INSERT INTO run VALUES (1, 0, 0, 'run', 't', 'w', '', 0, '')")
        ledger._put(1, [replace(record(), exchange=None, step=str(number)) for number in range(count)], ())
        found = [
            int(one.step) for one in ledger.exchanges(ExchangeQuery(run=1, limit=limit, newest_first=newest))
        ]
    order = list(range(count))[:: -1 if newest else 1]
    assert found == (order if limit < 0 else order[:limit])


def _told(path: Path) -> dict[str, Any]:
    with open_ledger(path) as ledger:
        rows = []
        for one in ledger.exchanges(ExchangeQuery()):
            exchange = one.exchange
            bodies = (
                (exchange.request.body or b"") + b"|" + (exchange.response.body if exchange.response else b"")
                if exchange
                else b"|"
            )
            digest = hashlib.sha256(bodies).hexdigest()[:16]
            prints = [finding.former_fingerprint for finding in one.findings()]  # as version 1 wrote them
            rows.append(
                [
                    one.id,
                    one.run,
                    one.suite,
                    one.case,
                    one.step,
                    one.operation,
                    one.status,
                    str(one.verdict),
                    one.reason,
                    digest,
                    len(one.results),
                    prints,
                    [list(pair) for pair in one.flows],
                ]
            )
        cases = [[one.suite, one.case, str(one.verdict)] for one in ledger.cases(4)]
        view = run_view(ledger, 4, {})
        assert sum(one.count for one in view.findings) == sum(len(row[11]) for row in rows if row[1] == 4)
        return {"exchanges": rows, "cases": cases, "hits": len(list(ledger.hits([4], "pilotage")))}


@pytest.mark.parametrize("version", [1, 2])
def test_an_older_form_is_read_in_place_and_migrated_when_it_is_written(tmp_path: Path, version: int) -> None:
    expected = json.loads((DATA / "ledger-2.json").read_text("utf-8"))
    path = tmp_path / "ledger.sqlite"
    shutil.copy(DATA / "ledger-2.sqlite", path)
    if version == 1:
        database = sqlite3.connect(path)
        database.execute("ALTER TABLE exchange DROP COLUMN notes")
        database.execute("PRAGMA user_version=1")
        first = expected["exchanges"][0][0]
        for table, column in (("exchange", "id"), ("check_result", "exchange"), ("hit", "exchange")):
            database.execute(f"UPDATE {table} SET {column} = {column} - {first - 1}")
        database.commit()
        database.close()
        for number, row in enumerate(expected["exchanges"], 1):
            row[0], row[12] = number, []  # the first one of all is read too
    before = path.read_bytes()
    assert _told(path) == expected and path.read_bytes() == before
    with open_ledger(path, write=True) as ledger:
        run = ledger.begin("run", "t", "w")
        assert run == 5 and ledger.add(run, [record("new", b"{}", WRONG)]) == [
            expected["exchanges"][-1][0] + 1
        ]
        assert ledger.version == 3 and len(ledger.findings(run)) == 1
    with sqlite3.connect(path) as database:
        database.execute("DELETE FROM exchange WHERE run = 5")
        database.execute("DELETE FROM finding WHERE run = 5")
    assert _told(path) == expected
    database.close()


def test_a_migration_that_fails_leaves_the_old_form(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "ledger.sqlite"
    shutil.copy(DATA / "ledger-2.sqlite", path)
    expected = _told(path)

    def broken(*_: object) -> None:
        raise sqlite3.OperationalError("database or disk is full")

    monkeypatch.setattr("juxtalogos.ledger.sqlite.migrate.store_batch", broken)
    with pytest.raises(LedgerError, match="disk is full"):
        open_ledger(path, write=True)
    assert _told(path) == expected


def test_what_is_wrong_with_a_file_is_told_apart(tmp_path: Path) -> None:
    (tmp_path / "bad.sqlite").write_bytes(b"not a database at all, but long enough to be read as one" * 20)
    for write in (True, False):
        with pytest.raises(LedgerError, match="damaged") as caught:
            open_ledger(tmp_path / "bad.sqlite", write=write)
        assert caught.value.where == str(tmp_path / "bad.sqlite") and caught.value.mend
    database = sqlite3.connect(tmp_path / "new.sqlite")
    database.execute("PRAGMA user_version = 99")
    database.close()
    with pytest.raises(LedgerError, match="version 99"):
        open_ledger(tmp_path / "new.sqlite")
    with open_ledger(tmp_path / "none.sqlite") as ledger, pytest.raises(UsageError, match="no run yet"):
        ledger.run()
    assert not (tmp_path / "none.sqlite").exists(), "reading makes nothing"


def test_a_locked_ledger_is_not_called_damaged(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("juxtalogos.ledger.sqlite.store.WAIT", 0.05)
    path = tmp_path / "l.sqlite"
    with open_ledger(path, write=True) as ledger:
        run = ledger.begin("run", "t", "w")
        other = sqlite3.connect(path, isolation_level=None)
        other.execute("BEGIN IMMEDIATE")
        assert ledger.try_add(run, [record()]) is False
        with pytest.raises(LedgerError, match="another program has locked the ledger") as caught:
            ledger.add(run, [record()])
        assert "damaged" not in str(caught.value)
        other.execute("ROLLBACK")
        assert ledger.try_add(run, [record()]) is True
        other.close()


@pytest.mark.skipif(os.geteuid() != 0, reason="needs another user to be refused")
def test_reading_in_a_folder_that_cannot_be_written(tmp_path: Path) -> None:
    folder = tmp_path / "kept"
    with open_ledger(folder / "l.sqlite", write=True) as ledger:
        ledger.add(ledger.begin("run", "t", "w"), [record("a")])
    (folder / "l.sqlite").chmod(0o444)
    folder.chmod(0o555)
    tmp_path.chmod(0o755)
    for parent in tmp_path.parents[:3]:
        parent.chmod(parent.stat().st_mode | 0o055)
    child = os.fork()
    if child == 0:
        status = 1
        try:
            os.setuid(65534)
            with open_ledger(folder / "l.sqlite") as ledger:
                status = 0 if [one.case for one in ledger.exchanges(ExchangeQuery())] == ["a"] else 2
            try:
                open_ledger(folder / "l.sqlite", write=True)
            except LedgerError as error:
                status = status if "cannot be written" in str(error) else 3
        finally:
            os._exit(status)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0
    folder.chmod(0o755)


class Watched(SqliteLedger):
    """Counts its transactions; locked for the first `locked` of them, full from the `full`th on."""

    locked = 0
    full = 10**9
    batches: list[int]

    def try_add(self, run: int, records: Any) -> bool:
        self.batches = [*getattr(self, "batches", []), len(records)]
        if len(self.batches) <= self.locked:
            return False
        if len(self.batches) >= self.full:
            raise self._unusable(sqlite3.OperationalError("database or disk is full"))
        return super().try_add(run, records)


async def _write(ledger: Watched, count: int) -> None:
    async with Recorder(ledger, 1) as recorder:
        for number in range(count):
            await recorder.put(record(f"c{number}"))


@pytest.mark.parametrize("locked", [0, 3])
def test_records_are_committed_in_batches_and_a_lock_stops_nobody(
    tmp_path: Path, locked: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(recording, "AGAIN", 0.005)
    with Watched(tmp_path / "l.sqlite", write=True) as ledger:
        ledger.locked = locked
        run = ledger.begin("run", "t", "w")
        asyncio.run(_write(ledger, 1_000))
        assert [one.case for one in ledger.exchanges(ExchangeQuery(run=run))] == [
            f"c{number}" for number in range(1_000)
        ]
        assert len(ledger.batches) <= 6 + locked


def test_a_full_disk_and_a_lock_without_end_stop_whoever_writes(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with Watched(tmp_path / "l.sqlite", write=True) as ledger:
        ledger.full = 4
        with pytest.raises(LedgerError, match="cannot be written: database or disk is full"):
            asyncio.run(asyncio.wait_for(_write(ledger, 20_000), 20))
        assert sum(1 for _ in ledger.exchanges(ExchangeQuery())) == 600
    monkeypatch.setattr(recording, "PATIENCE", 0.05)
    monkeypatch.setattr(recording, "MAX_KEPT", 300)
    with Watched(tmp_path / "m.sqlite", write=True) as ledger:
        ledger.locked = 10**9
        with pytest.raises(LedgerError, match="another program has locked the ledger"):
            asyncio.run(asyncio.wait_for(_write(ledger, 5_000), 20))


def test_one_record_that_cannot_be_stored_takes_no_other_with_it(tmp_path: Path) -> None:
    bad = [
        replace(record("bad"), step="\ud800"),
        record("bad", b"", replace(WRONG, observed="\udc80")),
        replace(record("bad"), whole=2**70),
    ]
    cases = [CaseRecord("suite", "a", Verdict.FAILED, "why \ud800", 0.1)]
    with open_ledger(tmp_path / "l.sqlite", write=True) as ledger:
        run = ledger.begin("run", "t", "w")
        good = [replace(bad[0], step="s\\ud800"[:1])]
        assert ledger.try_add(run, [record("a"), *bad, *good, record("z"), *cases])
        kept = [(one.case, str(one.verdict)) for one in ledger.exchanges(ExchangeQuery(run=run))]
        assert kept[0] == ("a", "failed") and kept[-1] == ("z", "failed") and len(kept) == 6
        assert ledger.cases(run)[0].reason == "why \\ud800"


def test_reading_commands_change_nothing(berths: Path, jux: Jux) -> None:
    for words in (["runs"], ["suite", "check"]):
        jux(*words, "-C", berths)
    for words in (["report"], ["exchanges"], ["coverage"], ["compare"]):
        jux(*words, "-C", berths, status=2)
    assert not (berths / ".juxtalogos" / "ledger.sqlite").exists()
    (berths / ".juxtalogos").mkdir(exist_ok=True)
    shutil.copy(DATA / "ledger-2.sqlite", berths / ".juxtalogos" / "ledger.sqlite")
    before = (berths / ".juxtalogos" / "ledger.sqlite").read_bytes()
    assert "pilotage" in jux("runs", "-C", berths).out
    assert "failed" in jux("exchanges", "--finding", "any", "-C", berths).out
    jux("report", "-C", berths)
    assert (berths / ".juxtalogos" / "ledger.sqlite").read_bytes() == before
