"""`run`: suites against a target."""

from __future__ import annotations

import argparse
import itertools
import secrets
import time

from juxtalogos.cli.shared.options import (
    Arguments,
    add_common,
    add_full,
    add_grant,
    add_identity,
    add_pace,
    add_remarks,
    add_strict,
    add_strict_clean,
    add_target,
    header_field,
    terminal,
    workspace,
)
from juxtalogos.cli.shared.parameters import given_values
from juxtalogos.cli.shared.state import show_state
from juxtalogos.cli.shared.summary import exit_status, formats_said, run_data, show_run
from juxtalogos.cli.shared.targeting import add_agreement, agreed, show_target
from juxtalogos.ledger import CaseRecord, open_ledger
from juxtalogos.report.view import run_view
from juxtalogos.run.engine.binding import Cases, bind, contracts_of, digest_of, operations_of, turns_of
from juxtalogos.run.engine.execute import execute
from juxtalogos.run.engine.loop import run_loop
from juxtalogos.run.engine.plan import CaseRef, RunPlan
from juxtalogos.run.engine.selecting import Selection, choose, paths_of
from juxtalogos.suite.document.reader import read_suites
from juxtalogos.suite.document.selection import reachable
from juxtalogos.suite.model import Suite
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
Run suites against a target: all of them, or chosen suites, folders, cases or steps (a step runs with
the steps that provide its inputs). Select further by tag, by operation, or by what failed before.
Every exchange is stored in the ledger; an interrupt keeps what was done."""
EXAMPLE = """\
  juxtalogos run --target local --jobs 8
  juxtalogos run berths#flow-port-calls
  juxtalogos run team/ fleet --tag nightly --still-failing
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "what",
        nargs="*",
        metavar="SUITE[#CASE[#STEP]]",
        help="what to run: suites, folders of suites, cases, steps (default: every suite)",
    )
    parser.add_argument("--tag", action="append", default=[], metavar="TAG", help="only cases with this tag")
    parser.add_argument(
        "--operation",
        action="append",
        default=[],
        metavar="OPERATION",
        help="only cases that call this operation",
    )
    parser.add_argument(
        "--still-failing", action="store_true", help="only cases that failed in their last run"
    )
    add_target(parser)
    add_agreement(parser)
    add_identity(parser)
    parser.add_argument("--jobs", type=int, metavar="N", help="cases run side by side (4)")
    parser.add_argument(
        "--processes",
        type=int,
        default=1,
        metavar="N",
        help="distribute the cases to this many processes (1), which share the jobs",
    )
    parser.add_argument(
        "--repeat",
        type=int,
        default=1,
        metavar="N",
        help="run each case, or each row of its table, this many times",
    )
    parser.add_argument(
        "--seed",
        type=int,
        default=0,
        metavar="N",
        help="seed of generated values (0); the same seed gives the same values",
    )
    parser.add_argument(
        "--token",
        default="",
        metavar="TEXT",
        help="base of the unique names of this run (default: random)",
    )
    add_pace(parser)
    add_strict_clean(parser)
    add_strict(parser)
    add_grant(parser)
    parser.add_argument(
        "--set",
        dest="settings",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="an input of the cases",
    )
    add_remarks(parser)
    add_full(parser)
    add_common(parser)


class _RunArguments(Arguments):
    what: list[str]
    tag: list[str]
    operation: list[str]
    still_failing: bool
    target: str | None
    yes_to: str
    role: str
    credential: list[str]
    header: list[str]
    no_credentials: bool
    jobs: int | None
    processes: int
    repeat: int
    seed: int
    token: str
    pace: float
    strict_clean: bool
    strict: bool
    trust: str
    sends: list[str]
    settings: list[str]
    no_remarks: bool
    full: bool


def run(args: _RunArguments) -> int:
    home = workspace(args)
    out = terminal(args)
    selection = Selection(tuple(args.what), tuple(args.tag), tuple(args.operation), args.still_failing)
    read = read_suites(home, paths_of(home, selection))
    refs = choose(home, read[0], selection)
    bound = bind(home, _plan(args, home, refs, read), given=read)
    show_target(out, bound.session)
    total = sum(len(turns_of(bound, bound.key(ref))) for ref in refs)
    with open_ledger(home.ledger_path, write=True) as ledger:
        with out.progress("cases", total) as moved:
            finished = itertools.count(1)

            def done(record: CaseRecord) -> None:
                moved(next(finished))

            ended = run_loop(
                execute(bound, home.root, ledger, str(selection), done, processes=max(1, args.processes))
            )
        order = [(ref.suite, ref.case) for ref in refs]
        left = len(ledger.undone(ended.number))
        view = run_view(
            ledger, ended.number, bound.session.contracts, remarks=not args.no_remarks, order=order
        )
    if args.json:
        out.json({**run_data(view), "leftBehind": left, "state": ended.state.to_json()})
    else:
        show_run(out, view, full=args.full, formats_said=formats_said(home))
        show_state(out, ended.state, f"juxtalogos clean {ended.number}")
        if left:
            out.line(
                (f"left behind: {left} that this run created", "remark"),
                (f"   juxtalogos clean {ended.number}", "note"),
            )
        out.note((f"next: juxtalogos report {ended.number}  or  juxtalogos coverage", "note"))
    return exit_status(view, strict=args.strict)


def _plan(
    args: _RunArguments, home: Workspace, refs: tuple[CaseRef, ...], read: tuple[list[Suite], Cases]
) -> RunPlan:
    suites, everything = read
    by_name = {suite.name: suite for suite in suites}
    cases = [
        (by_name[ref.suite], case) for ref in refs if (case := by_name[ref.suite].case(ref.case)) is not None
    ]
    called = reachable(cases, everything)
    called_suites = list({suite.name: suite for suite, _ in everything.values()}.values())
    contracts = contracts_of(called)
    target = home.target(args.target, contracts)
    writes = any(not operation.safe for operation in operations_of(called))
    guarded = bool(target.guarded)
    return RunPlan(
        refs,
        target.reference,
        tuple((name, digest_of(contract)) for name, contract in contracts.items()),
        tuple(given_values(home, called_suites, args.settings)),
        time.time(),
        args.seed,
        args.token or secrets.token_hex(4),
        max(1, args.repeat),
        max(1, args.jobs or home.config.jobs),
        not args.no_credentials,
        args.trust,
        args.role,
        tuple(map(header_field, args.header)),
        tuple(args.credential),
        max(0.0, args.pace),
        sends=tuple(args.sends),
        strict_clean=args.strict_clean,
        agreed=guarded and not agreed(target, args.yes_to, writes=writes).guarded,
    )
