"""`ledger`: whether the store of runs is whole, and what can be saved of one that is not."""

from __future__ import annotations

import argparse
from pathlib import Path

from juxtalogos.cli.shared.options import EXIT_FAILED, EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.ledger import ledger_faults, rescue_ledger

DESCRIPTION = """\
Check the ledger for corruption (a failed disk, an incomplete copy) and report what is damaged.
--save writes everything that can be read to a new file, which can replace the damaged one
(.juxtalogos/ledger.sqlite).

exit status: 0 not damaged; 1 damaged."""
EXAMPLE = """\
  juxtalogos ledger check
  juxtalogos ledger check --save saved.sqlite
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("action", choices=("check",), help="what to do")
    parser.add_argument(
        "--save", type=Path, metavar="FILE", help="write everything that can be read to this new file"
    )
    add_common(parser)


class _LedgerArguments(Arguments):
    action: str
    save: Path | None


def run(args: _LedgerArguments) -> int:
    home, out = workspace(args), terminal(args)
    faults = ledger_faults(home.ledger_path)
    saved = rescue_ledger(home.ledger_path, args.save) if args.save else {}
    if args.json:
        counts = {name: {"rows": rows, "lost": lost} for name, (rows, lost) in saved.items()}
        out.json({"version": 1, "faults": faults, "saved": counts})
        return EXIT_FAILED if faults else EXIT_HELD
    for fault in faults:
        out.line((fault, "deviation"))
    if saved:
        rows = [(name, rows, lost or "") for name, (rows, lost) in saved.items()]
        out.table(("of", "rows saved", "cannot be read"), rows, right=(1, 2))
        out.note((f"put {args.save} in the place of {home.ledger_path}", "note"))
    elif faults:
        out.note(("save what can be read: juxtalogos ledger check --save FILE", "note"))
    else:
        out.line(("the ledger is whole", "held"))
    return EXIT_FAILED if faults else EXIT_HELD
