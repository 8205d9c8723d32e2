"""`compare`: two runs side by side."""

from __future__ import annotations

import argparse
from typing import Any

from juxtalogos.cli.options import EXIT_FAILED, EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.ledger import ExchangeQuery, ExchangeRecord, open_ledger
from juxtalogos.model.errors import UsageError
from juxtalogos.report.compare import Pair, pairs

DESCRIPTION = """\
Lay two runs side by side, such as the same suite on two targets: each step with its statuses, verdicts and where
the answers differ. Without numbers the two latest runs are compared.

exit status: 0 all the same; 1 something differs."""
EXAMPLE = """\
  juxtalogos run berths --target quayside && juxtalogos run berths --target harbour
  juxtalogos compare
  juxtalogos compare 4 9 --all
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("runs", nargs="*", type=int, metavar="RUN", help="two runs; the two latest when left out")
    parser.add_argument("--all", action="store_true", help="show steps that are the same too")
    add_common(parser)


class _CompareArguments(Arguments):
    runs: list[int]
    all: bool


def run(args: _CompareArguments) -> int:
    home, out = workspace(args), terminal(args)
    with open_ledger(home.ledger_path) as ledger:
        if len(args.runs) not in (0, 2):
            raise UsageError("two runs are compared", mend="name both, or neither for the two latest")
        numbers = args.runs or [one.id for one in ledger.runs(2, calls=False)][::-1]
        if len(numbers) < 2:
            raise UsageError(
                "there are not two runs yet", mend="run the same suite twice: juxtalogos run SUITE --target NAME"
            )
        first, second = (ledger.run(number) for number in numbers)
        found = pairs(*(ledger.exchanges(ExchangeQuery(run=one.id)) for one in (first, second)))
    differing = [pair for pair in found if not pair.same]
    if args.json:
        out.json({"version": 1, "runs": [first.id, second.id], "targets": [first.target, second.target], "steps": [_data(one) for one in (found if args.all else differing)], "same": len(found) - len(differing)})  # fmt: skip
        return EXIT_FAILED if differing else EXIT_HELD
    shown = found if args.all else differing
    if shown:
        out.table(
            ("step", f"run {first.id} ({first.target})", f"run {second.id} ({second.target})", "answers"),
            [(f"{one.suite}#{one.case}#{one.step}", _side(one.first), _side(one.second), _words(one)) for one in shown],
            styles=("name",),
        )
    for one in differing:
        for text in one.differences[:20]:
            out.line((f"{one.case}#{one.step}  ", "name"), (text, "deviation"), indent=2)
    out.line(f"{len(found)} steps, {len(found) - len(differing)} the same, {len(differing)} not")
    return EXIT_FAILED if differing else EXIT_HELD


def _side(record: ExchangeRecord | None) -> str:
    return f"{record.status or 'no answer'} {record.verdict}" if record else "not there"


def _words(pair: Pair) -> str:
    if pair.first is None or pair.second is None:
        return ""
    return f"{len(pair.differences)} differences" if pair.differences else "the same"


def _data(pair: Pair) -> dict[str, Any]:
    def side(record: ExchangeRecord | None) -> Any:
        return {"exchange": record.id, "status": record.status or None, "verdict": record.verdict} if record else None

    return {
        "suite": pair.suite,
        "case": pair.case,
        "step": pair.step,
        "first": side(pair.first),
        "second": side(pair.second),
        "differences": list(pair.differences),
    }
