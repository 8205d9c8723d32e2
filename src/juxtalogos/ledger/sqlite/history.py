"""What became of a case, an operation or a finding over the runs: queries, and what their rows say.

A run's number grows with time, so the least is the first. `stored` has the same columns in every form.
"""

from __future__ import annotations

from typing import Any

from juxtalogos.ledger.records import PastFinding, PastRun
from juxtalogos.ledger.sqlite.queries import label_pairs
from juxtalogos.model.verdict import Verdict, worst

TRIED_KINDS = ("run", "call", "audit", "explore")
"""Kinds of run whose requests were meant to be judged."""
LEAST_PREFIX = 8
"""Characters of a fingerprint that name a finding."""
_OF_CASE = "suite = ? AND (name = ? OR substr(name, 1, ?) = ?)"
CASES = f"""SELECT run.id, run.started, run.target, run.kind, {{labels}}, verdict_of.verdict, seconds, reason
    FROM suite_case AS verdict_of JOIN run ON run.id = verdict_of.run
    WHERE run.id IN (SELECT DISTINCT run FROM suite_case WHERE {_OF_CASE} ORDER BY run DESC LIMIT ?)
    AND {_OF_CASE} ORDER BY run.id DESC, verdict_of.rowid"""
CASE_EXCHANGES = f"""SELECT run, min(CASE WHEN verdict IN ('failed', 'error') THEN id END) FROM stored
    WHERE run IN (SELECT DISTINCT run FROM suite_case WHERE {_OF_CASE} ORDER BY run DESC LIMIT ?)
    AND suite = ? AND (suite_case = ? OR substr(suite_case, 1, ?) = ?) GROUP BY run"""
OPERATIONS = """SELECT run.id, run.started, run.target, run.kind, {labels}, group_concat(DISTINCT e.verdict),
    count(*), sum(e.verdict IN ('failed', 'error')), avg(CASE WHEN e.status > 0 THEN e.total END),
    min(CASE WHEN e.verdict IN ('failed', 'error') THEN e.id END)
    FROM stored e JOIN run ON run.id = e.run
    WHERE e.contract = ? AND e.operation = ? AND run.kind IN ({kinds})
    GROUP BY run.id ORDER BY run.id DESC LIMIT ?"""
FINDINGS = """SELECT f.fingerprint, f.kind, min(run.id), min(run.started), max(run.id), max(run.started),
    count(DISTINCT run.id), count(*), group_concat(DISTINCT run.target), max(f.exchange),
    min(e.contract || ':' || e.operation)
    FROM finding f JOIN run ON run.id = f.run LEFT JOIN main.exchange e ON e.id = f.exchange
    WHERE f.kind = ? OR substr(f.fingerprint, 1, ?) = ?
    GROUP BY f.fingerprint, f.kind ORDER BY max(run.id) DESC, count(*) DESC LIMIT ?"""


def past_case(rows: list[Any], exchange: int) -> PastRun:
    """What became of a case in one run, of its rows of `CASES`, a row for each turn."""
    verdicts = [Verdict(row[5]) for row in rows]
    failing = [row for row, verdict in zip(rows, verdicts) if verdict.fails]
    run, started, target, kind, labels, *_ = rows[0]
    return PastRun(
        *(run, started, target, kind, label_pairs(labels)),
        verdict=worst(verdicts),
        count=len(rows),
        failing=len(failing),
        seconds=sum(float(row[6]) for row in rows),
        reason=str((failing or rows)[0][7]),
        exchange=exchange,
    )


def past_operation(row: Any) -> PastRun:
    """What became of an operation in one run, of a row of `OPERATIONS`."""
    run, started, target, kind, labels, verdicts, count, failing, mean, failed = row
    return PastRun(
        *(run, started, target, kind, label_pairs(labels)),
        verdict=worst(map(Verdict, str(verdicts).split(","))),
        count=count,
        failing=failing,
        seconds=float(mean or 0),
        exchange=failed or 0,
    )


def past_finding(row: Any) -> PastFinding:
    """A finding over all runs, of a row of `FINDINGS`."""
    *seen, names, exchange, operation = row
    targets = tuple(sorted(str(names or "").split(",")))
    values: list[Any] = [*seen, targets, str(operation or ""), exchange]
    return PastFinding(*values)
