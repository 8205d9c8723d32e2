"""`run`: suites against a target."""

from __future__ import annotations

import argparse
import itertools
import secrets
import time
from typing import Any

from juxtalogos.cli.options import (
    Arguments,
    add_common,
    add_full,
    add_identity,
    add_remarks,
    add_strict,
    add_target,
    header_field,
    terminal,
    workspace,
)
from juxtalogos.cli.summary import exit_status, run_data, show_run
from juxtalogos.ledger import CaseRecord, open_ledger
from juxtalogos.model.errors import SuiteError, UsageError, nearest, quoted
from juxtalogos.report.view import run_view
from juxtalogos.run.binding import Cases, bind, contracts_of, digest_of, turns_of
from juxtalogos.run.execute import execute
from juxtalogos.run.loop import run_loop
from juxtalogos.run.plan import CaseRef, RunPlan
from juxtalogos.suite.document.reader import find_suite, read_suites, suite_paths
from juxtalogos.suite.document.selection import reachable, select
from juxtalogos.suite.model import Suite
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
Run every suite of the workspace, one suite, one case of it, or one step with the steps that give what it needs.
Everything is kept in the ledger; an interrupt keeps what was done."""
EXAMPLE = """\
  juxtalogos run --target local --jobs 8
  juxtalogos run berths#flow-port-calls
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "what", nargs="?", default="", metavar="SUITE[#CASE[#STEP]]", help="what to run; every suite when left out"
    )
    add_target(parser)
    add_identity(parser)
    parser.add_argument("--jobs", type=int, metavar="N", help="cases run side by side (4)")
    parser.add_argument(
        "--processes",
        type=int,
        default=1,
        metavar="N",
        help="deal the cases out to so many processes (1), which share the jobs",
    )
    parser.add_argument(
        "--repeat", type=int, default=1, metavar="N", help="run each case, or row of its table, so many times"
    )
    parser.add_argument(
        "--seed", type=int, default=0, metavar="N", help="for made-up values (0); the same seed gives the same values"
    )
    add_strict(parser)
    parser.add_argument("--trust", default="", metavar="DIGEST", help="trust the workspace's commands of this digest")
    parser.add_argument(
        "--set", dest="settings", action="append", default=[], metavar="NAME=VALUE", help="an input of the cases"
    )
    add_remarks(parser)
    add_full(parser)
    add_common(parser)


class _RunArguments(Arguments):
    what: str
    target: str | None
    role: str
    credential: list[str]
    header: list[str]
    no_credentials: bool
    jobs: int | None
    processes: int
    repeat: int
    seed: int
    strict: bool
    trust: str
    settings: list[str]
    no_remarks: bool
    full: bool


def run(args: _RunArguments) -> int:
    home = workspace(args)
    out = terminal(args)
    suite_id, _, rest = args.what.partition("#")
    case_id, _, step_id = rest.partition("#")
    read = read_suites(home, [find_suite(home, suite_id)] if suite_id else suite_paths(home))
    refs = _chosen(home, read[0], case_id, step_id)
    bound = bind(home, _plan(args, home, refs, read), given=read)
    total = sum(len(turns_of(bound, bound.key(ref))) for ref in refs)
    with open_ledger(home.ledger_path, write=True) as ledger:
        with out.progress("cases", total) as moved:
            finished = itertools.count(1)

            def done(record: CaseRecord) -> None:
                moved(next(finished))

            ended = run_loop(
                execute(bound, home.root, ledger, args.what or "every suite", done, processes=max(1, args.processes))
            )
        home.remember_target(bound.session.target, bound.session.contracts)
        order = [(ref.suite, ref.case) for ref in refs]
        view = run_view(ledger, ended.number, bound.session.contracts, remarks=not args.no_remarks, order=order)
    if args.json:
        out.json(run_data(view))
    else:
        show_run(out, view, full=args.full)
    return exit_status(view, strict=args.strict)


def _chosen(home: Workspace, suites: list[Suite], case_id: str, step_id: str) -> tuple[CaseRef, ...]:
    """The cases that were asked for; SuiteError when there are none."""
    if not suites:
        raise SuiteError("there are no suites", where=str(home.suites), mend="compose one: juxtalogos compose CONTRACT")
    chosen = select(suites, case_id, step_id)
    refs = tuple(CaseRef(suite.name, case.id, step_id) for suite, case in chosen)
    if not refs:
        known = [case.id for suite in suites for case in suite.cases]
        raise SuiteError(f"there is no case {quoted(case_id)}", mend=nearest(case_id, known))
    return refs


def _plan(args: _RunArguments, home: Workspace, refs: tuple[CaseRef, ...], read: tuple[list[Suite], Cases]) -> RunPlan:
    suites, everything = read
    by_name = {suite.name: suite for suite in suites}
    cases = [(by_name[ref.suite], case) for ref in refs if (case := by_name[ref.suite].case(ref.case)) is not None]
    contracts = contracts_of(reachable(cases, everything))
    return RunPlan(
        refs,
        args.target or home.target(None, contracts).name,
        tuple((name, digest_of(contract)) for name, contract in contracts.items()),
        tuple(map(_setting, args.settings)),
        time.time(),
        args.seed,
        secrets.token_hex(4),
        max(1, args.repeat),
        max(1, args.jobs or home.config.jobs),
        not args.no_credentials,
        args.trust,
        args.role,
        tuple(map(header_field, args.header)),
        tuple(args.credential),
    )


def _setting(text: str) -> tuple[str, Any]:
    from juxtalogos.documents.jsontext import NotJson, parse_json

    name, equals, value = text.partition("=")
    if not equals or not name:
        raise UsageError(f"{quoted(text)} has no '='", mend="write --set NAME=VALUE")
    try:
        return name, parse_json(value)
    except NotJson:
        return name, value
