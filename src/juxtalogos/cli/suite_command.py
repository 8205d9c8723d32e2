"""`suite`: list suites, check them, copy, rename, move and remove their cases and steps."""

from __future__ import annotations

import argparse
from pathlib import Path

from juxtalogos.cli.options import EXIT_FAILED, EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.ledger import ExchangeQuery, open_ledger
from juxtalogos.model.errors import JuxtalogosError, UsageError
from juxtalogos.model.exchange import Exchange
from juxtalogos.suite.advice import Advice, linkable, near_copies
from juxtalogos.suite.document.managing import SuitePlace, copy_place, place_of, remove, rename, tag
from juxtalogos.suite.document.reader import find_suite, read_suites, suite_paths
from juxtalogos.suite.model import Suite
from juxtalogos.workspace.workspace import Workspace, find_workspace

DESCRIPTION = """\
Manage suites. list shows suites, or the cases of one; check reads them against their definitions, and points at
literals that an earlier answer gives and at cases that differ in values only; copy, rename, move and remove work
on a suite, a case (SUITE#CASE) or a step (SUITE#CASE#STEP), and what refers to it follows; tag labels a case.
With --into a case goes to another workspace with the definitions, tables and kept answers that it needs."""
EXAMPLE = """\
  juxtalogos suite list berths
  juxtalogos suite check
  juxtalogos suite copy berths#listVessels mine#vessels
  juxtalogos suite rename mine#vessels fleet
  juxtalogos suite move mine#fleet shared#fleet --into ../team
  juxtalogos suite tag mine#fleet nightly slow --describe "every vessel of the fleet"
"""
_ACTIONS = ("list", "check", "copy", "rename", "move", "remove", "tag")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("action", choices=_ACTIONS, help="what to do")
    parser.add_argument("what", nargs="?", default="", metavar="SUITE[#CASE[#STEP]]", help="with what")
    parser.add_argument(
        "to", nargs="*", metavar="TO", help="copy and move: where to; rename: the new name; tag: the tags"
    )
    parser.add_argument("--into", type=Path, metavar="DIR", help="copy, move: into this other workspace")
    parser.add_argument("--tag", default="", metavar="TAG", help="list: cases with this tag only")
    parser.add_argument("--describe", default="", metavar="TEXT", help="tag: the case's description")
    add_common(parser)


class _SuiteArguments(Arguments):
    action: str
    what: str
    to: list[str]
    into: Path | None
    tag: str
    describe: str


def run(args: _SuiteArguments) -> int:
    home = workspace(args)
    if args.action == "list":
        return _list(args, home)
    if args.action == "check":
        return _check(args, home)
    if not args.what:
        raise UsageError(
            f"suite {args.action} needs to know with what", mend=f"juxtalogos suite {args.action} SUITE#CASE"
        )
    return _change(args, home, place_of(args.what))


def _change(args: _SuiteArguments, home: Workspace, place: SuitePlace) -> int:
    out = terminal(args)
    if args.action == "remove":
        hurt = remove(home, place)
        out.line("removed: ", (str(place), "name"))
        for name in hurt:
            out.line((f"{name} refers to it and has to be mended", "remark"))
        return EXIT_FAILED if hurt else EXIT_HELD
    if args.action == "tag":
        tag(home, place, args.to, args.describe)
        out.line("tagged: ", (str(place), "name"), f"  {', '.join(args.to)}")
        return EXIT_HELD
    if len(args.to) != 1:
        raise UsageError(f"suite {args.action} needs one target", mend=f"juxtalogos suite {args.action} {args.what} TO")
    if args.action == "rename":
        path = rename(home, place, args.to[0])
        out.line("renamed: ", (str(place), "name"), f" is {args.to[0]}   ", (str(path), "note"))
        return EXIT_HELD
    into = find_workspace(args.into) if args.into else None
    path = copy_place(home, place, place_of(args.to[0]), into=into)
    hurt = remove(home, place, last_too=True) if args.action == "move" else []
    out.line(
        "moved: " if args.action == "move" else "copied: ",
        (str(place), "name"),
        f" to {args.to[0]}   ",
        (str(path), "note"),
    )
    for name in hurt:
        out.line((f"{name} refers to it and has to be mended", "remark"))
    return EXIT_FAILED if hurt else EXIT_HELD


def _suites(home: Workspace, name: str) -> list[Suite]:
    return read_suites(home, [find_suite(home, name.partition("#")[0])] if name else suite_paths(home))[0]


def _list(args: _SuiteArguments, home: Workspace) -> int:
    suites, out = _suites(home, args.what), terminal(args)
    cases = [(suite, case) for suite in suites for case in suite.cases if not args.tag or args.tag in case.tags]
    if args.json:
        rows = [
            {
                "suite": suite.name, "case": case.id, "steps": [step.id for step in case.steps], "tags": list(case.tags), "summary": case.summary,
                "operations": [step.operation.full_id if step.operation else None for step in case.steps], "table": case.table.name if case.table else None,
            }
            for suite, case in cases
        ]  # fmt: skip
        out.json({"version": 1, "cases": rows})
    elif args.what or args.tag:
        listed = [(f"{suite.name}#{case.id}", len(case.steps), ", ".join(case.tags), case.table.name if case.table else "", case.summary or case.description) for suite, case in cases]  # fmt: skip
        out.table(("case", "steps", "tags", "table", "summary"), listed, styles=("name",), right=(1,))
    else:
        out.table(
            ("suite", "cases", "title"),
            [(suite.name, len(suite.cases), suite.title) for suite in suites],
            styles=("name",),
            right=(1,),
        )
    return EXIT_HELD


def _check(args: _SuiteArguments, home: Workspace) -> int:
    """Every suite by itself, so that one that cannot be read hides none of the others."""
    out, faults, suites = terminal(args), [], []
    for path in [find_suite(home, args.what.partition("#")[0])] if args.what else suite_paths(home):
        try:
            suites += read_suites(home, [path])[0]
        except JuxtalogosError as error:
            faults.append(str(error))
    advice: list[Advice] = [*linkable(suites, _latest(home)), *near_copies(suites)]
    if args.json:
        keys = ("suite", "case", "step", "what", "offer")
        out.json(
            {"version": 1, "faults": faults, "advice": [{key: getattr(one, key) for key in keys} for one in advice]}
        )
        return EXIT_FAILED if faults else EXIT_HELD
    for text in faults:
        out.block(text, indent=0)
    for one in advice:
        out.line((str(SuitePlace(one.suite, one.case, one.step)), "name"), "  ", (one.what, "remark"))
        out.line((one.offer, "note"), indent=2)
    cases = sum(len(suite.cases) for suite in suites)
    out.line(f"{len(suites)} suites with {cases} cases are sound", f", {len(faults)} cannot be used" if faults else "")
    return EXIT_FAILED if faults else EXIT_HELD


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
