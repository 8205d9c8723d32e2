"""`suite table`: a case runs once per row of a file."""

from __future__ import annotations

import argparse
import shutil
from pathlib import Path

from juxtalogos.cli.shared.options import EXIT_HELD, terminal, workspace
from juxtalogos.cli.suite.verbs import CASE, SuiteArguments, Verb, add_place, case_place
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.suite.document.managing import SuitePlace
from juxtalogos.suite.document.reader import find_suite
from juxtalogos.suite.document.setting import attach_table, run_once, step_at
from juxtalogos.suite.tables import rows_of, table_path
from juxtalogos.workspace.workspace import Workspace

_FORM = "table SUITE#CASE FILE"


class _TableArguments(SuiteArguments):
    file: str
    links: list[str]
    once: str


def _arguments(parser: argparse.ArgumentParser) -> None:
    add_place(parser, CASE)
    parser.add_argument("file", nargs="?", default="", metavar="FILE", help="CSV, JSON lines, Excel, Parquet")
    parser.add_argument(
        "--link",
        dest="links",
        action="append",
        default=[],
        metavar="COLUMN=ADDRESS",
        help="what a column feeds, also as STEP#ADDRESS",
    )
    parser.add_argument(
        "--once", default="", metavar="STEP", help="run the steps up to this one once, not for each row"
    )


def _run(args: _TableArguments) -> int:
    home, out, place = workspace(args), terminal(args), case_place(args.place, _FORM)
    if not (args.file or args.once):
        raise UsageError("name a file", mend=f"juxtalogos suite {_FORM}")
    if args.links and not args.file:
        raise UsageError("--link goes with a file", mend=f"juxtalogos suite {_FORM} --link COLUMN=ADDRESS")
    if args.once:  # what is mistyped is told before anything is written
        step_at(home, SuitePlace(place.suite, place.case, args.once))
    if args.file:
        _attach(args, home, place)
    if args.once:
        out.line("runs once, before the rows: ", (", ".join(run_once(home, place, args.once)), "name"))
    return EXIT_HELD


def _attach(args: _TableArguments, home: Workspace, place: SuitePlace) -> None:
    out = terminal(args)
    given = Path(args.file)
    path: Path | None
    if given.is_file() and not given.resolve().is_relative_to(home.root.resolve()):
        path = home.root / "tables" / given.name
        if path.exists():
            raise UsageError(f"tables/ already has {given.name}", mend="give this one another name")
        path.parent.mkdir(exist_ok=True)
        shutil.copyfile(given, path)
        out.note((f"copied into tables/: {given.name}", "note"))
    else:
        path = table_path(home, find_suite(home, place.suite), args.file)
    if path is None:
        raise UsageError(
            f"there is no table {quoted(args.file)}", mend="give a CSV, JSON lines, Excel or Parquet file"
        )
    links = {}
    for link in args.links:
        column, equals, address = link.partition("=")
        if not equals:
            raise UsageError(f"{quoted(link)} has no '='", mend="write --link COLUMN=ADDRESS")
        links[column] = address
    rows = rows_of(path)
    fed = attach_table(home, place, path.name if path.parent.name == "tables" else args.file, rows, links)
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


TABLE = Verb(
    _arguments,
    _run,
    "juxtalogos suite table fleet#vessel vessels.csv --link length=read#query.length",
    True,
)
