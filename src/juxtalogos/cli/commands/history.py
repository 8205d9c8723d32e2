"""`history`: a case, an operation or a finding over the runs."""

from __future__ import annotations

import argparse
from collections import Counter
from collections.abc import Sequence
from dataclasses import asdict
from datetime import datetime
from typing import Any

from juxtalogos.cli.shared.labels import shown
from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.ledger import Ledger, PastFinding, PastRun, RunQuery, open_ledger
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.model.findings import KINDS
from juxtalogos.model.verdict import Verdict
from juxtalogos.suite.document.managing import place_of
from juxtalogos.suite.document.setting import case_at
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
Show what became of a case, an operation or a finding over the runs: since when it fails, when it was
last seen, how often, and at which targets. A finding is named by its kind or by the beginning of its
fingerprint, as `report` and --json outputs have it."""
EXAMPLE = """\
  juxtalogos history berths#getBerth
  juxtalogos history getBerth --last 50
  juxtalogos history body.enum --json
"""
_BAD = (Verdict.FAILED, Verdict.ERROR)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="SUITE#CASE, OPERATION or FINDING", help="what to look up")
    parser.add_argument("--last", type=int, default=20, metavar="N", help="number of runs to look at (20)")
    add_common(parser)


class _HistoryArguments(Arguments):
    name: str
    last: int


def run(args: _HistoryArguments) -> int:
    home, out = workspace(args), terminal(args)
    with open_ledger(home.ledger_path) as ledger:
        runs = _runs(home, ledger, args.name, max(args.last, 1))
        if runs is None:
            findings = ledger.finding_history(args.name)
            latest = next((one.id for one in ledger.runs(1, RunQuery(calls=False))), 0)
            if not findings and args.name not in KINDS:
                raise UsageError(
                    f"no case, operation or finding is known as {quoted(args.name)}",
                    mend="name SUITE#CASE, an operation, or a finding by its kind, such as body.enum",
                )
            _show_findings(out, args.name, findings, latest, as_json=args.json)
            return EXIT_HELD
        labels = {one.run: dict(ledger.run(one.run).labels) for one in runs}
    if args.json:
        rows = [{**named(asdict(one)), "labels": labels[one.run]} for one in runs]
        out.json({"version": 1, "of": args.name, "runs": rows, "findings": []})
    elif not runs:
        out.note((f"{args.name} is in no run yet: juxtalogos run", "note"))
    else:
        _show_runs(out, args.name, runs, labels)
    return EXIT_HELD


def _runs(home: Workspace, ledger: Ledger, name: str, limit: int) -> list[PastRun] | None:
    """The runs of a case or of an operation; None where the name is neither."""
    if "#" in name:
        place = place_of(name)
        found = ledger.case_history(place.suite, place.case, limit)
        if not found:  # a mistyped one is told with the nearest
            case_at(home, place)
        return found
    try:
        contract, operation = home.operation(name)
    except UsageError:
        return None
    return ledger.operation_history(contract.name, operation.id, limit)


def _show_runs(out: Terminal, name: str, runs: Sequence[PastRun], labels: dict[int, dict[str, str]]) -> None:
    counts = Counter(one.verdict for one in runs)
    told = ", ".join(f"{count} {verdict}" for verdict, count in counts.most_common())
    out.line((name, "head"), f"   {counted(len(runs), 'run')}: {told}")
    failing = []
    for one in runs:  # the latest first
        if one.verdict not in _BAD:
            break
        failing.append(one)
    before = runs[len(failing)] if len(failing) < len(runs) else None
    if failing:
        since = failing[-1]
        known = shown(sorted(labels[since.run].items()))
        first = f"since run {since.run}, {_moment(since.started)}" if before else "in all of these runs"
        out.line((f"failed {first}", "deviation"), (f"   {known}" if known and before else "", "note"))
    if before and failing:
        out.line((f"last {before.verdict} in run {before.run}, {_moment(before.started)}", "note"))
    out.line()
    rows = [
        (
            one.run,
            _moment(one.started),
            one.target,
            (one.verdict, one.verdict),
            one.count,
            one.failing or "",
            f"{one.seconds * 1000:.0f}",
            one.exchange or "",
            one.reason,
        )
        for one in runs
    ]
    headings = ("run", "started", "target", "verdict", "times", "failed", "ms", "exchange", "why")
    out.table(headings, rows, right=(0, 4, 5, 6, 7))


def _show_findings(
    out: Terminal, name: str, findings: Sequence[PastFinding], latest: int, *, as_json: bool
) -> None:
    if as_json:
        data: list[dict[str, Any]] = [
            {**named(asdict(one)), "inLatest": one.last_run == latest} for one in findings
        ]
        out.json({"version": 1, "of": name, "runs": [], "findings": data})
        return
    if not findings:
        out.note(f"{name} was found in no run")
        return
    rows = [
        (
            one.fingerprint[:12],
            one.kind,
            one.operation,
            f"run {one.first_run}, {_moment(one.first_seen)}",
            f"run {one.last_run}, {_moment(one.last_seen)}",
            ("yes", "deviation") if one.last_run == latest else ("no", "note"),
            one.runs,
            one.times,
            " ".join(one.targets),
            one.exchange,
        )
        for one in findings
    ]
    out.table(
        (
            *("finding", "kind", "operation", "first seen", "last seen", f"in run {latest}"),
            *("runs", "times", "targets", "exchange"),
        ),
        rows,
        styles=("name",),
        right=(6, 7, 9),
    )


def named(row: dict[str, Any]) -> dict[str, Any]:
    """A row with names as --json outputs have them."""
    words = {name: name.split("_") for name in row}
    return {first + "".join(map(str.title, more)): row[name] for name, (first, *more) in words.items()}


def _moment(started: float) -> str:
    return datetime.fromtimestamp(started).astimezone().strftime("%Y-%m-%d %H:%M")
