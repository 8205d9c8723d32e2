"""`runs`: the history."""

from __future__ import annotations

import argparse
from datetime import datetime

from juxtalogos.cli.shared.labels import labels_typed, shown
from juxtalogos.cli.shared.options import EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.ledger import RunQuery, open_ledger
from juxtalogos.model.verdict import Verdict

DESCRIPTION = """\
List the runs of this workspace, latest first: time, subject, target, labels, verdict and counts."""
EXAMPLE = """\
  juxtalogos runs
  juxtalogos runs --last 5 --json
  juxtalogos runs --suite berths --verdict failed --label branch=main
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--last", type=int, default=20, metavar="N", help="number of runs to list (20)")
    parser.add_argument("--calls", action="store_true", help="also list single calls")
    parser.add_argument("--suite", default="", metavar="SUITE", help="only runs with cases of this suite")
    parser.add_argument("--target", default="", metavar="NAME", help="only runs at this target")
    parser.add_argument(
        "--verdict", default="", choices=tuple(Verdict), metavar="VERDICT", help="only runs that ended so"
    )
    parser.add_argument(
        "--label",
        dest="labels",
        action="append",
        default=[],
        metavar="NAME=TEXT",
        help="only runs with this label",
    )
    add_common(parser)


class _RunsArguments(Arguments):
    last: int
    calls: bool
    suite: str
    target: str
    verdict: str
    labels: list[str]


def run(args: _RunsArguments) -> int:
    home = workspace(args)
    out = terminal(args)
    query = RunQuery(args.calls, args.target, args.suite, args.verdict, labels_typed(args.labels))
    with open_ledger(home.ledger_path) as ledger:
        runs = ledger.runs(max(args.last, 0), query)
        some = bool(runs) or bool(ledger.runs(1))
    if args.json:
        rows = [
            {
                "run": record.id,
                "started": record.started,
                "seconds": round(record.ended - record.started, 3) if record.ended else None,
                "kind": record.kind,
                "target": record.target,
                "what": record.what,
                "verdict": record.verdict,
                "interrupted": record.interrupted,
                "cases": record.cases,
                "exchanges": record.exchanges,
                "findings": record.findings,
                "labels": dict(record.labels),
            }
            for record in runs
        ]
        out.json({"version": 1, "runs": rows})
    elif not runs:
        out.note(("no run is like that" if some else "no runs yet: juxtalogos run", "note"))
    else:
        table = []
        labelled = any(shown(one.labels) for one in runs)
        for one in runs:
            when = datetime.fromtimestamp(one.started).astimezone().strftime("%Y-%m-%d %H:%M:%S")
            state = (
                ("interrupted", "error") if one.interrupted or not one.ended else (one.verdict, one.verdict)
            )
            table.append(
                (
                    one.id,
                    when,
                    f"{one.ended - one.started:.1f}" if one.ended else "",
                    one.what,
                    one.target,
                    *([shown(one.labels)] if labelled else []),
                    state,
                    one.cases,
                    one.exchanges,
                    one.findings,
                )
            )
        out.table(
            (
                *("run", "started", "s", "what", "target"),
                *(["labels"] if labelled else []),
                *("verdict", "cases", "exchanges", "failing checks"),
            ),
            table,
            right=(0, 2, *(number + labelled for number in (6, 7, 8))),
        )
    return EXIT_HELD
