"""`report`: a run in a form for people or pipelines."""

from __future__ import annotations

import argparse
from pathlib import Path

from juxtalogos.cli.shared.earlier import exchange_named
from juxtalogos.cli.shared.options import EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.coverage import measure
from juxtalogos.formats import element_kinds, wire_of
from juxtalogos.ledger import open_ledger
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.report import REPORTERS, narrowed, run_view, with_coverage, write_report
from juxtalogos.suite.document.saving import place_of

DESCRIPTION = """\
Write a report of a run: `html` is one self-contained page with findings, cases, coverage and every
exchange; `junit` is JUnit XML for pipelines."""
EXAMPLE = """\
  juxtalogos report
  juxtalogos report 3 --form junit -o results.xml
  juxtalogos report --case berths#flow-vessels -o vessels.html
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("number", nargs="?", type=int, metavar="RUN", help="the run (default: the latest)")
    parser.add_argument(
        "--form",
        metavar="FORM",
        default="html",
        help=f"what to write: {', '.join(REPORTERS.registered)}, or one that a plug-in adds (html)",
    )
    parser.add_argument(
        "-o",
        "--output",
        type=Path,
        metavar="FILE",
        help="the file, - for stdout (default: reports/run-N in the workspace)",
    )
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--case", default="", metavar="SUITE#CASE", help="only this case")
    which.add_argument(
        "--exchange", default="", metavar="@EXCHANGE", help="only this exchange: @17, @last or @OPERATION"
    )
    add_common(parser)


class _ReportArguments(Arguments):
    number: int | None
    form: str
    case: str
    exchange: str
    output: Path | None


def run(args: _ReportArguments) -> int:
    home = workspace(args)
    if args.form not in REPORTERS:
        raise UsageError(f"there is no report form {quoted(args.form)}", mend=nearest(args.form, REPORTERS))
    chosen = exchange_named(home, args.exchange) if args.exchange else None
    suite, case = place_of(args.case) if args.case else ("", "")
    with open_ledger(home.ledger_path) as ledger:
        record = ledger.run(chosen.run if chosen and args.number is None else args.number)
        names = [name for name in ledger.contracts([record.id]) if name in home.contract_names()]
        contracts = {name: home.contract(name) for name in names}
        coverages = [
            (
                contract,
                measure(wire_of(contract), element_kinds(contract), ledger.hits([record.id], contract.name)),
            )
            for contract in contracts.values()
        ]
        view = run_view(ledger, record.id, contracts)
        if chosen or args.case:
            view, coverages = narrowed(view, suite=suite, case=case, exchange=chosen.id if chosen else 0), []
        view = with_coverage(view, coverages)
        path = write_report(args.form, view, args.output, home.root / "reports")
    if path is not None:
        if args.json:
            terminal(args).json({"version": 1, "run": record.id, "path": str(path)})
        else:
            terminal(args).line("written: ", (path, "name"))
    return EXIT_HELD
