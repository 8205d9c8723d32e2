"""Queries as SQL: conditions of ours, with a person's texts as bound values only."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from juxtalogos.ledger.interface import JUDGED_KINDS, ExchangeQuery, RunQuery
from juxtalogos.ledger.records import RunRecord, StepRow
from juxtalogos.model.verdict import Verdict

RUN_QUERY = """SELECT id, started, ended, kind, target, what, verdict,
    (SELECT count(*) FROM suite_case WHERE run = run.id),
    (SELECT count(*) FROM main.exchange WHERE run = run.id),
    (SELECT coalesce(sum(failing), 0) FROM stored WHERE stored.run = run.id), interrupted, token,
    {labels} FROM run"""
LABELS = "(SELECT group_concat(label, char(10)) FROM run_label WHERE run_label.run = run.id)"
"""Labels lie as `NAME=VALUE`."""

STEP_COLUMNS = (
    "id, suite, suite_case, step, contract, operation, verdict, reason, method, url, status, failing"
)


def run_record(row: Sequence[Any]) -> RunRecord:
    """A run, of a row of `RUN_QUERY`."""
    values: list[Any] = [*row[:10], bool(row[10]), row[11], label_pairs(row[12])]
    return RunRecord(*values)


def label_pairs(text: str | None) -> tuple[tuple[str, str], ...]:
    """(name, value) of the labels that `LABELS` gives, sorted."""
    pairs = (label.partition("=") for label in (text or "").split("\n") if label)
    return tuple(sorted((name, value) for name, _, value in pairs))


def run_condition(query: RunQuery) -> tuple[str, list[Any]]:
    """(what follows WHERE, the values bound in it) for runs."""
    found: list[tuple[str, Sequence[Any]]] = []
    if not query.calls:
        found.append((f"kind IN ({', '.join('?' * len(JUDGED_KINDS))})", JUDGED_KINDS))
    for column, value in (("target", query.target), ("verdict", query.verdict)):
        if value:
            found.append((f"{column} = ?", (value,)))
    if query.suite:
        found.append(("id IN (SELECT run FROM suite_case WHERE suite = ?)", (query.suite,)))
    found += [
        ("id IN (SELECT run FROM run_label WHERE label = ?)", (f"{name}={value}",))
        for name, value in query.labels
    ]
    return " AND ".join(text for text, _ in found) or "1", [one for _, values in found for one in values]


def step_row(row: Sequence[Any]) -> StepRow:
    """A step, of a row of `STEP_COLUMNS`."""
    values: list[Any] = [*row[:6], Verdict(row[6]), *row[7:]]
    return StepRow(*values)


def condition(query: ExchangeQuery, after: int) -> tuple[str, list[Any]]:
    """(what follows WHERE, the values bound in it); `after` is where the next page begins."""
    found: list[tuple[str, Any]] = []
    if after:
        found.append(("id < ?" if query.newest_first else "id > ?", after))
    if query.run is not None:
        found.append(("run = ?", query.run))
    if query.latest_runs:
        found.append(("run IN (SELECT id FROM main.run ORDER BY id DESC LIMIT ?)", query.latest_runs))
    if query.number is not None:
        found.append(("id = ?", query.number))
    if query.url_part:
        found.append(("instr(url, ?) > 0", query.url_part))
    for column, value in (
        ("method", query.method.upper()),
        ("verdict", query.verdict),
        ("operation", query.operation),
        ("contract", query.contract),
    ):
        if value:
            found.append((f"{column} = ?", value))
    if query.status:
        found.append(_status(query.status))
    if query.finding == "any":
        found.append(("id IN (SELECT exchange FROM finding) AND 1 = ?", 1))
    elif query.finding:
        found.append(("id IN (SELECT exchange FROM finding WHERE kind = ?)", query.finding))
    parts = [text for text, _ in found]
    if query.of_a_suite:
        parts.append("suite <> ''")
    if query.answered:
        parts.append("status > 0")
    if query.whole_only:
        parts.append("whole = 0")
    return " AND ".join(parts) or "1", [value for _, value in found]


def _status(text: str) -> tuple[str, Any]:
    wanted = text.upper()
    return (
        ("status / 100 = ?", int(wanted[0]))
        if wanted[1:] == "XX" and wanted[:1].isdigit()
        else ("CAST(status AS TEXT) = ?", wanted)
    )
