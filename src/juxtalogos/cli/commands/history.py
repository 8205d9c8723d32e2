"""`history`: a case, an operation or a finding over the runs."""

from __future__ import annotations

import argparse
import itertools
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
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.findings import KINDS
from juxtalogos.suite.document.managing import place_of
from juxtalogos.suite.document.setting import case_at
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
Show what became of a case, an operation or a finding over the runs: since when it fails, when it was
last seen, how often, and at which targets. A finding is named by its kind or by the beginning of its
fingerprint (8 characters or more), as --json outputs have it."""
EXAMPLE = """\
  juxtalogos history berths#getBerth
  juxtalogos history getBerth --last 50
  juxtalogos history body.enum --json
"""
MOST_FINDINGS = 200


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="SUITE#CASE, OPERATION or FINDING", help="what to look up")
    parser.add_argument("--last", type=int, default=20, metavar="N", help="number of runs to look at (20)")
    add_common(parser)


class _HistoryArguments(Arguments):
    name: str
    last: int


def run(args: _HistoryArguments) -> int:
    home, out = workspace(args), terminal(args)
    if args.last < 1:
        raise UsageError(f"--last {args.last}", mend="give a number from 1: --last 20")
    with open_ledger(home.ledger_path) as ledger:
        runs = _runs(home, ledger, args.name, args.last)
        if runs is None:
            findings = ledger.finding_history(args.name, MOST_FINDINGS + 1)
            latest = next((one.id for one in ledger.runs(1, RunQuery(calls=False))), 0)
            if not findings and args.name not in KINDS:
                near = nearest(args.name, KINDS, 1)
                if near.startswith("did"):
                    raise UsageError(f"there is no kind of finding {quoted(args.name)}", mend=near)
                home.operation(args.name)  # says what is wrong with the name, with the nearest
            _show_findings(out, args.name, findings, latest, as_json=args.json)
            return EXIT_HELD
    if args.json:
        rows = [{**_data(one), "labels": dict(one.labels)} for one in runs]
        out.json({"version": 1, "of": args.name, "runs": rows, "findings": []})
    elif not runs:
        out.note((f"{args.name} is in no run yet: juxtalogos run", "note"))
    else:
        _show_runs(out, args.name, runs)
    return EXIT_HELD


def _runs(home: Workspace, ledger: Ledger, name: str, limit: int) -> list[PastRun] | None:
    """The runs of a case or of an operation; None where the name is neither."""
    if "#" in name:
        place = place_of(name)
        if place.step:
            raise UsageError(
                f"{name} names a step", mend=f"name its case: juxtalogos history {place.suite}#{place.case}"
            )
        found = ledger.case_history(place.suite, place.case, limit)
        if not found:  # a mistyped one is told with the nearest
            case_at(home, place)
        return found
    try:
        contract, operation = home.operation(name)
    except UsageError:
        return None
    return ledger.operation_history(contract.name, operation.id, limit)


def _show_runs(out: Terminal, name: str, runs: Sequence[PastRun]) -> None:
    """Since when it fails at each target, then run by run; the latest first."""
    counts = Counter(one.verdict for one in runs)
    told = ", ".join(f"{count} {verdict}" for verdict, count in counts.most_common())
    out.line((name, "head"), f"   {counted(len(runs), 'run')}: {told}")
    for target in dict.fromkeys(one.target for one in runs):
        _show_since(out, target, [one for one in runs if one.target == target])
    out.line()
    rows = [
        (
            one.run,
            _moment(one.started),
            one.kind,
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
    headings = ("run", "started", "kind", "target", "verdict", "times", "failed", "ms", "exchange", "why")
    out.table(headings, rows, right=(0, 5, 6, 7, 8))


def _show_since(out: Terminal, target: str, runs: Sequence[PastRun]) -> None:
    failing = list(itertools.takewhile(lambda one: one.verdict.fails, runs))
    if not failing:
        return
    first = failing[-1]
    if len(failing) == len(runs):
        out.line((f"at {target} it failed in each of these runs", "deviation"))
        return
    before, known = runs[len(failing)], shown(first.labels)
    since = f"at {target} it fails since run {first.run}, {_moment(first.started)}"
    out.line((since, "deviation"), (f"   {known}" if known else "", "note"))
    out.line((f"{before.verdict} in run {before.run}, {_moment(before.started)}", "note"), indent=2)


def _show_findings(
    out: Terminal, name: str, findings: Sequence[PastFinding], latest: int, *, as_json: bool
) -> None:
    if as_json:
        data: list[dict[str, Any]] = [
            {**_data(one), "inLatest": one.last_run == latest} for one in findings[:MOST_FINDINGS]
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
        for one in findings[:MOST_FINDINGS]
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
    if len(findings) > MOST_FINDINGS:
        out.note((f"the {MOST_FINDINGS} that were seen last; name one by its fingerprint", "note"))


def _data(one: PastRun | PastFinding) -> dict[str, Any]:
    """Its fields with names as --json outputs have them."""
    words = {name: name.split("_") for name in asdict(one)}
    return {
        first + "".join(map(str.title, more)): getattr(one, name) for name, (first, *more) in words.items()
    }


def _moment(started: float) -> str:
    return datetime.fromtimestamp(started).astimezone().strftime("%Y-%m-%d %H:%M")
