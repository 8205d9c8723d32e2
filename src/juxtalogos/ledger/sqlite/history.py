"""What became of a case, an operation or a finding over the runs: queries, and what their rows say.

A run's number grows with time, so the least is the first.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Any

from juxtalogos.ledger.records import PastFinding, PastRun
from juxtalogos.model.verdict import Verdict, worst

CASE_HISTORY = """SELECT run.id, run.started, run.target, suite_case.verdict, suite_case.seconds,
    suite_case.reason, run.interrupted,
    (SELECT min(id) FROM main.exchange WHERE run = run.id AND suite = suite_case.suite
     AND suite_case = suite_case.name AND verdict <> 'passed')
    FROM suite_case JOIN run ON run.id = suite_case.run
    WHERE suite_case.suite = ? AND (suite_case.name = ? OR substr(suite_case.name, 1, ?) = ?)
    AND run.id IN (SELECT DISTINCT run FROM suite_case WHERE suite = ? ORDER BY run DESC LIMIT ?)
    ORDER BY run.id DESC, suite_case.rowid"""
OPERATION_HISTORY = """SELECT run.id, run.started, run.target, count(*), sum(failing > 0), avg(total),
    min(CASE WHEN failing > 0 THEN e.id END), min(e.id)
    FROM main.exchange e JOIN run ON run.id = e.run WHERE contract = ? AND operation = ?
    GROUP BY run.id ORDER BY run.id DESC LIMIT ?"""
FINDING_HISTORY = """SELECT f.fingerprint, f.kind, min(run.id), min(run.started), max(run.id),
    max(run.started), count(DISTINCT run.id), count(*), group_concat(DISTINCT run.target), max(f.exchange),
    min(e.contract || ':' || e.operation)
    FROM finding f JOIN run ON run.id = f.run
    LEFT JOIN main.exchange e ON e.id = f.exchange
    WHERE f.kind = ? OR substr(f.fingerprint, 1, ?) = ?
    GROUP BY f.fingerprint, f.kind ORDER BY max(run.id) DESC, count(*) DESC LIMIT 200"""


def case_values(suite: str, case: str, limit: int) -> tuple[Any, ...]:
    """What `CASE_HISTORY` is asked with: a case and all its turns, in so many runs of its suite."""
    turns = f"{case}["
    return suite, case, len(turns), turns, suite, limit


def rows_by_run(rows: Iterable[Any]) -> Collection[list[Any]]:
    """The rows of `CASE_HISTORY`, those of one run together."""
    found: dict[int, list[Any]] = {}
    for row in rows:
        found.setdefault(int(row[0]), []).append(row)
    return found.values()


def seen_case(rows: list[Any]) -> PastRun:
    """What became of a case in one run, of its turns' rows."""
    verdicts = [Verdict(row[3]) for row in rows]
    failing = [row for row, verdict in zip(rows, verdicts) if verdict in (Verdict.FAILED, Verdict.ERROR)]
    first = failing[0] if failing else rows[0]
    return PastRun(
        *(first[0], first[1], first[2], worst(verdicts)),
        count=len(rows),
        failing=len(failing),
        seconds=sum(float(row[4]) for row in rows),
        reason=str(first[5]),
        exchange=first[7] or 0,
    )


def seen_operation(row: Any) -> PastRun:
    """What became of an operation in one run, of a row of `OPERATION_HISTORY`."""
    number, started, target, count, failing, mean, failed, first = row
    verdict = Verdict.FAILED if failing else Verdict.PASSED
    return PastRun(
        number, started, target, verdict, count, failing or 0, float(mean or 0), exchange=failed or first
    )


def seen_finding(row: Any) -> PastFinding:
    """A finding over all runs, of a row of `FINDING_HISTORY`."""
    values: list[Any] = list(row[:8])
    names, exchange, operation = row[8:]
    values += [tuple(sorted(str(names or "").split(","))), str(operation or ""), exchange]
    return PastFinding(*values)
