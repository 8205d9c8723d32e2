"""`suite list`, `check` and `show`: suites and cases as they stand."""

from __future__ import annotations

import argparse

from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import EXIT_FAILED, EXIT_HELD, terminal, workspace
from juxtalogos.cli.suite.verbs import SUITE, SuiteArguments, Verb, add_place
from juxtalogos.ledger import ExchangeQuery, open_ledger
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.exchange import Exchange
from juxtalogos.suite.advice import Advice, lacking, linkable, missing_files, near_copies
from juxtalogos.suite.document.managing import SuitePlace
from juxtalogos.suite.document.reader import find_suite, read_suites, suite_paths
from juxtalogos.suite.model import Suite
from juxtalogos.workspace.workspace import Workspace


class _ListArguments(SuiteArguments):
    tag: str


def _list_arguments(parser: argparse.ArgumentParser) -> None:
    add_place(parser, SUITE, optional=True)
    parser.add_argument("--tag", default="", metavar="TAG", help="cases with this tag only")


def _check_arguments(parser: argparse.ArgumentParser) -> None:
    add_place(parser, SUITE, optional=True)


def _suites(home: Workspace, name: str) -> list[Suite]:
    return read_suites(home, [find_suite(home, name.partition("#")[0])] if name else suite_paths(home))[0]


def _list(args: _ListArguments) -> int:
    home, out = workspace(args), terminal(args)
    suites = _suites(home, args.place)
    cases = [
        (suite, case) for suite in suites for case in suite.cases if not args.tag or args.tag in case.tags
    ]
    if args.json:
        rows = [
            {
                "suite": suite.name,
                "case": case.id,
                "steps": [step.id for step in case.steps],
                "tags": list(case.tags),
                "summary": case.summary,
                "operations": [step.operation.full_id if step.operation else None for step in case.steps],
                "table": case.table.name if case.table else None,
            }
            for suite, case in cases
        ]
        out.json({"version": 1, "cases": rows})
    elif args.place or args.tag:
        listed = [
            (
                f"{suite.name}#{case.id}",
                len(case.steps),
                ", ".join(case.tags),
                case.table.name if case.table else "",
                case.summary or case.description,
            )
            for suite, case in cases
        ]
        out.table(("case", "steps", "tags", "table", "summary"), listed, styles=("name",), right=(1,))
    else:
        out.table(
            ("suite", "cases", "title"),
            [(suite.name, len(suite.cases), suite.title) for suite in suites],
            styles=("name",),
            right=(1,),
        )
    return EXIT_HELD


def _check(args: SuiteArguments) -> int:
    """Every suite by itself, so that one that cannot be read hides none of the others."""
    home, out, faults, suites = workspace(args), terminal(args), [], []
    for path in [find_suite(home, args.place.partition("#")[0])] if args.place else suite_paths(home):
        try:
            suites += read_suites(home, [path])[0]
        except JuxtalogosError as error:
            faults.append(str(error))
    lacks = [*lacking(suites), *missing_files(suites, home.root)]
    advice: list[Advice] = [*lacks, *linkable(suites, _latest(home)), *near_copies(suites)]
    if args.json:
        keys = ("suite", "case", "step", "what", "offer")
        data = [{key: getattr(one, key) for key in keys} for one in advice]
        out.json({"version": 1, "faults": faults, "advice": data, "lacking": len(lacks)})
        return EXIT_FAILED if faults or lacks else EXIT_HELD
    for text in faults:
        out.block(text, indent=0)
    for one in advice:
        style = "deviation" if one in lacks else "remark"
        out.line((str(SuitePlace(one.suite, one.case, one.step)), "name"), "  ", (one.what, style))
        out.line((one.offer, "note"), indent=2)
    wanting = {(one.suite, one.case) for one in lacks}
    cases = sum(len(suite.cases) for suite in suites) - len(wanting)
    told = f", {len(wanting)} lack required inputs" if wanting else ""
    out.line(
        f"valid: {counted(len(suites), 'suite')} with {counted(cases, 'case')}{told}",
        f", {len(faults)} cannot be used" if faults else "",
    )
    return EXIT_FAILED if faults or lacks else EXIT_HELD


def _latest(home: Workspace) -> dict[tuple[str, str, str], Exchange]:
    """The latest exchange of each step."""
    if not home.ledger_path.exists():
        return {}
    with open_ledger(home.ledger_path) as ledger:
        found = ledger.exchanges(ExchangeQuery(latest_runs=20, of_a_suite=True))
        return {
            (record.suite, record.case.partition("[")[0], record.step): record.exchange
            for record in found
            if record.exchange is not None
        }


LIST = Verb(_list_arguments, _list, "juxtalogos suite list berths --tag nightly", json=True)
CHECK = Verb(_check_arguments, _check, "juxtalogos suite check", json=True)
