"""`suite`: list suites, check them, copy, rename, move and remove their cases and steps."""

from __future__ import annotations

import argparse
import shutil
from pathlib import Path

from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import EXIT_FAILED, EXIT_HELD, Arguments, add_common, terminal, workspace
from juxtalogos.documents.jsontext import dump_json
from juxtalogos.ledger import ExchangeQuery, open_ledger
from juxtalogos.model.errors import JuxtalogosError, UsageError, quoted
from juxtalogos.model.exchange import Exchange
from juxtalogos.suite.advice import Advice, lacking, linkable, missing_files, near_copies
from juxtalogos.suite.document.managing import SuitePlace, copy_place, place_of, remove, rename, tag
from juxtalogos.suite.document.reader import find_suite, read_suites, suite_paths
from juxtalogos.suite.document.setting import add_check, attach_table, run_once, set_input, step_at
from juxtalogos.suite.model import Suite
from juxtalogos.suite.tables import rows_of, table_path
from juxtalogos.workspace.workspace import Workspace, find_workspace

DESCRIPTION = """\
List, check and edit suites. Comments and the order of the file are kept; a change that would make the
suite invalid is refused.

  list    list suites, or the cases of one
  check   validate suites against their definitions, and suggest links and tables
  copy, rename, move, remove
          edit a suite, a case (SUITE#CASE) or a step (SUITE#CASE#STEP); references follow; --into
          copies a case to another workspace with all that it needs
  tag     label a case
  set     set inputs of a step: ADDRESS=VALUE; =@STEP#/path for a value of an earlier response, by
          JSONPath too (=@STEP#$.items[?@.free].id takes the first match), or of another case
          (=@CASE#STEP/path); =$inputs.NAME; ==FORMULA. --check adds a written check
  table   run a case once per row of a file; columns feed the inputs of the same name, or those that
          --link names; --once names the last of the first steps that run only once"""
EXAMPLE = """\
  juxtalogos suite list berths
  juxtalogos suite check
  juxtalogos suite set fleet#vessel#register body/kind=tanker body/built==format(today(),'YYYY-MM-DD')
  juxtalogos suite set fleet#vessel#read path.vesselId=@register#/vesselId --check 'body/kind equals tanker'
  juxtalogos suite table fleet#vessel vessels.csv --link length=register#body/lengthMetres --once signOn
  juxtalogos suite copy berths#listVessels mine#vessels
  juxtalogos suite rename mine#vessels fleet
  juxtalogos suite move mine#fleet shared#fleet --into ../team
  juxtalogos suite tag mine#fleet nightly slow --describe "every vessel of the fleet"
"""
_ACTIONS = ("list", "check", "set", "table", "copy", "rename", "move", "remove", "tag")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("action", choices=_ACTIONS, help="what to do")
    parser.add_argument("what", nargs="?", default="", metavar="SUITE[#CASE[#STEP]]", help="with what")
    parser.add_argument(
        "to",
        nargs="*",
        metavar="TO",
        help="set: ADDRESS=VALUE; table: FILE; copy and move: where to; rename: the new name; tag: the tags",
    )
    parser.add_argument(
        "--check",
        dest="checks",
        action="append",
        default=[],
        metavar="'ADDRESS TEST OPERAND'",
        help="set: add a written check to the step, such as 'body/state equals moored'",
    )
    parser.add_argument(
        "--link",
        dest="links",
        action="append",
        default=[],
        metavar="COLUMN=ADDRESS",
        help="table: what a column feeds, also as STEP#ADDRESS",
    )
    parser.add_argument(
        "--once",
        default="",
        metavar="STEP",
        help="table: run the steps up to this one once, not for each row",
    )
    parser.add_argument("--into", type=Path, metavar="DIR", help="copy, move: into this other workspace")
    parser.add_argument("--tag", default="", metavar="TAG", help="list: cases with this tag only")
    parser.add_argument("--describe", default="", metavar="TEXT", help="tag: the description of the case")
    add_common(parser)


class _SuiteArguments(Arguments):
    action: str
    what: str
    to: list[str]
    into: Path | None
    tag: str
    describe: str
    checks: list[str]
    links: list[str]
    once: str


def run(args: _SuiteArguments) -> int:
    home = workspace(args)
    if args.action == "list":
        return _list(args, home)
    if args.action == "check":
        return _check(args, home)
    if not args.what:
        raise UsageError(
            f"suite {args.action} needs a second argument", mend=f"juxtalogos suite {args.action} SUITE#CASE"
        )
    if args.action == "set":
        return _set(args, home, place_of(args.what))
    if args.action == "table":
        return _table(args, home, place_of(args.what))
    return _change(args, home, place_of(args.what))


def _set(args: _SuiteArguments, home: Workspace, place: SuitePlace) -> int:
    out = terminal(args)
    if not place.case or not (args.to or args.checks):
        raise UsageError(
            "name a step and what to set", mend="juxtalogos suite set SUITE#CASE#STEP ADDRESS=VALUE"
        )
    for setting in args.to:
        address, equals, text = setting.partition("=")
        if not equals or not address.strip():
            raise UsageError(
                f"{quoted(setting)} has no '='", mend="write ADDRESS=VALUE, such as body/kind=tanker"
            )
        value = set_input(home, place, address.strip(), text)
        out.line("set: ", (f"{place} {address.strip()}", "name"), f" = {value}")
    for text in args.checks:
        out.line(("check: ", "note"), dump_json(add_check(home, place, text)))
    return EXIT_HELD


def _table(args: _SuiteArguments, home: Workspace, place: SuitePlace) -> int:
    out = terminal(args)
    if not place.case or place.step or len(args.to) > 1 or not (args.to or args.once):
        raise UsageError("name a case and a file", mend="juxtalogos suite table SUITE#CASE FILE")
    if args.once:
        step_at(
            home, SuitePlace(place.suite, place.case, args.once)
        )  # what is mistyped is told before anything is written
    if args.to:
        _attach(args, home, place)
    if args.once:
        out.line("runs once, before the rows: ", (", ".join(run_once(home, place, args.once)), "name"))
    return EXIT_HELD


def _attach(args: _SuiteArguments, home: Workspace, place: SuitePlace) -> None:
    out = terminal(args)
    given = Path(args.to[0])
    path: Path | None
    if given.is_file() and not given.resolve().is_relative_to(home.root.resolve()):
        path = home.root / "tables" / given.name
        if path.exists():
            raise UsageError(f"tables/ already has {given.name}", mend="give this one another name")
        path.parent.mkdir(exist_ok=True)
        shutil.copyfile(given, path)
        out.note((f"copied into tables/: {given.name}", "note"))
    else:
        path = table_path(home, find_suite(home, place.suite), args.to[0])
    if path is None:
        raise UsageError(
            f"there is no table {quoted(args.to[0])}", mend="give a CSV, JSON lines, Excel or Parquet file"
        )
    links = {}
    for link in args.links:
        column, equals, address = link.partition("=")
        if not equals:
            raise UsageError(f"{quoted(link)} has no '='", mend="write --link COLUMN=ADDRESS")
        links[column] = address
    rows = rows_of(path)
    fed = attach_table(home, place, path.name if path.parent.name == "tables" else args.to[0], rows, links)
    for column, step, address in fed:
        out.line("column ", (column, "name"), f" feeds {step} {address}")
    for column in dict.fromkeys(column for row in rows for column in row):
        if column not in {one for one, _, _ in fed}:
            out.line(
                (
                    (
                        f"column {column} feeds no input: link it with --link {column}=ADDRESS, or use"
                        f" $inputs.{column}"
                    ),
                    "remark",
                )
            )


def _change(args: _SuiteArguments, home: Workspace, place: SuitePlace) -> int:
    out = terminal(args)
    if args.action == "remove":
        hurt = remove(home, place)
        out.line("removed: ", (str(place), "name"))
        for name in hurt:
            out.line((f"{name} refers to it and must be corrected", "remark"))
        return EXIT_FAILED if hurt else EXIT_HELD
    if args.action == "tag":
        tag(home, place, args.to, args.describe)
        out.line("tagged: ", (str(place), "name"), f"  {', '.join(args.to)}")
        return EXIT_HELD
    if len(args.to) != 1:
        raise UsageError(
            f"suite {args.action} needs a destination", mend=f"juxtalogos suite {args.action} {args.what} TO"
        )
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
        out.line((f"{name} refers to it and must be corrected", "remark"))
    return EXIT_FAILED if hurt else EXIT_HELD


def _suites(home: Workspace, name: str) -> list[Suite]:
    return read_suites(home, [find_suite(home, name.partition("#")[0])] if name else suite_paths(home))[0]


def _list(args: _SuiteArguments, home: Workspace) -> int:
    suites, out = _suites(home, args.what), terminal(args)
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
    elif args.what or args.tag:
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


def _check(args: _SuiteArguments, home: Workspace) -> int:
    """Every suite by itself, so that one that cannot be read hides none of the others."""
    out, faults, suites = terminal(args), [], []
    for path in [find_suite(home, args.what.partition("#")[0])] if args.what else suite_paths(home):
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
