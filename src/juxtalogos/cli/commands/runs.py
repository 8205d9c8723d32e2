"""`runs`: the history."""

from __future__ import annotations

import argparse
from datetime import datetime

from juxtalogos.cli.shared.options import EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.ledger import open_ledger

DESCRIPTION = "List the runs of this workspace, latest first: time, subject, target, verdict and counts."
EXAMPLE = """\
  juxtalogos runs
  juxtalogos runs --last 5 --json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--last", type=int, default=20, metavar="N", help="number of runs to list (20)")
    parser.add_argument("--calls", action="store_true", help="also list single calls")
    add_common(parser)


class _RunsArguments(Arguments):
    last: int
    calls: bool


def run(args: _RunsArguments) -> int:
    home = workspace(args)
    out = terminal(args)
    with open_ledger(home.ledger_path) as ledger:
        runs = ledger.runs(max(args.last, 0), calls=args.calls)
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
            }
            for record in runs
        ]
        out.json({"version": 1, "runs": rows})
    elif not runs:
        out.note(("no runs yet: juxtalogos run", "note"))
    else:
        table = []
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
                    state,
                    one.cases,
                    one.exchanges,
                    one.findings,
                )
            )
        out.table(
            ("run", "started", "s", "what", "target", "verdict", "cases", "exchanges", "failing checks"),
            table,
            right=(0, 2, 6, 7, 8),
        )
    return EXIT_HELD
