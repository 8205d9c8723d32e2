"""`run`: suites against a target."""

from __future__ import annotations

import argparse
import itertools
import secrets
import time
from dataclasses import replace

from juxtalogos.cli.shared.dry_run import show_dry_run
from juxtalogos.cli.shared.labels import labels_of_run
from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import (
    EXIT_HELD,
    Arguments,
    add_common,
    add_full,
    add_grant,
    add_identity,
    add_remarks,
    add_target,
    header_field,
    terminal,
    workspace,
)
from juxtalogos.cli.shared.parameters import given_values
from juxtalogos.cli.shared.run_options import add_run_options, numbers_fit, over, stored_plan, typed_plan
from juxtalogos.cli.shared.state import show_state
from juxtalogos.cli.shared.summary import exit_status, formats_said, run_data, show_run
from juxtalogos.cli.shared.targeting import add_agreement, agreed, show_target
from juxtalogos.ledger import CaseRecord, open_ledger
from juxtalogos.model.errors import UsageError
from juxtalogos.report.view import run_view
from juxtalogos.run.engine.arranging import expected, needed_first, part_named, part_of
from juxtalogos.run.engine.binding import Cases, bind, contracts_of, digest_of, operations_of, turns_of
from juxtalogos.run.engine.execute import execute
from juxtalogos.run.engine.loop import run_loop
from juxtalogos.run.engine.plan import CaseRef, RunPlan
from juxtalogos.run.engine.selecting import Selection, choose, paths_of
from juxtalogos.suite.document.reader import read_suites
from juxtalogos.suite.document.selection import reachable
from juxtalogos.suite.model import Suite
from juxtalogos.suite.tables import read_table
from juxtalogos.workspace.plans import StoredPlan
from juxtalogos.workspace.workspace import Workspace

_Read = tuple[list[Suite], Cases]

DESCRIPTION = """\
Run suites against a target: all of them, or chosen suites, folders, cases or steps (a step runs with
the steps that provide its inputs). Select further by tag, by operation, or by what failed before.
Every exchange is stored in the ledger; an interrupt keeps what was done."""
EXAMPLE = """\
  juxtalogos run --target local --jobs 8
  juxtalogos run berths#flow-port-calls
  juxtalogos run team/ fleet --tag nightly --still-failing
  juxtalogos run --plan nightly --part 1/3
  juxtalogos run visit --dry-run
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "what",
        nargs="*",
        metavar="SUITE[#CASE[#STEP]]",
        help="what to run: suites, folders of suites, cases, steps (default: every suite)",
    )
    parser.add_argument(
        "--still-failing", action="store_true", help="only cases that failed in their last run"
    )
    add_target(parser)
    add_agreement(parser)
    add_identity(parser)
    add_run_options(parser)
    parser.add_argument(
        "--plan", default="", metavar="NAME", help="a stored plan; options typed here stand over its own"
    )
    parser.add_argument(
        "--part",
        default="",
        metavar="K/N",
        help="only this part of the cases, of about the same length as the others (see `plans durations`)",
    )
    parser.add_argument(
        "--dry-run", action="store_true", help="show the requests that would be sent, and send nothing"
    )
    parser.add_argument(
        "--token",
        default="",
        metavar="TEXT",
        help="base of the unique names of this run (default: random)",
    )
    parser.add_argument(
        "--label",
        dest="labels",
        action="append",
        default=[],
        metavar="NAME=TEXT",
        help="a label to find the run by; branch, commit and build come from the pipeline's variables",
    )
    add_grant(parser)
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
    processes: int | None
    repeat: int | None
    seed: int | None
    token: str
    labels: list[str]
    pace: float | None
    order: str
    stop_at_first: bool
    strict_clean: bool
    strict: bool
    plan: str
    part: str
    dry_run: bool
    trust: str
    sends: list[str]
    settings: list[str]
    no_remarks: bool
    full: bool


def run(args: _RunArguments) -> int:
    home = workspace(args)
    out = terminal(args)
    plan = over(typed_plan(args), stored_plan(home, args.plan) if args.plan else StoredPlan())
    numbers_fit(plan)
    labels = labels_of_run(args.labels, args.plan)
    if args.part and args.still_failing:
        what = "--part divides alike on every machine, and what still fails is known to this one only"
        raise UsageError(what, mend="leave one of the two out")
    selection = Selection(plan.what, plan.tag, plan.operation, args.still_failing)
    read = read_suites(home, paths_of(home, selection))
    refs = _arranged(args, home, plan, choose(home, read[0], selection), read)
    bound = bind(home, replace(_plan(args, home, plan, refs, read), labels=labels), given=read)
    if args.dry_run:
        show_dry_run(out, bound, full=args.full, as_json=args.json)
        return EXIT_HELD
    show_target(out, bound.session.target, bound.session.contracts)
    total = sum(len(turns_of(bound, bound.key(ref))) for ref in refs)
    with open_ledger(home.ledger_path, write=True) as ledger:
        with out.progress("cases", total) as moved:
            finished = itertools.count(1)

            def done(record: CaseRecord) -> None:
                moved(next(finished))

            ended = run_loop(
                execute(bound, home.root, ledger, _what(args, selection), done, processes=plan.processes or 1)
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
    if plan.stop_at_first and len(view.cases) < total:
        left_out = total - len(view.cases)
        told = f"stopped after the first failure: {left_out} of {counted(total, 'turn')} not run"
        out.note((told, "remark"))
    return exit_status(view, strict=plan.strict)


def _what(args: _RunArguments, selection: Selection) -> str:
    """What the run is of, as the ledger keeps it."""
    told = [
        str(selection),
        *([f"plan {args.plan}"] if args.plan else []),
        *([f"part {args.part}"] if args.part else []),
    ]
    return ", ".join(told)


def _arranged(
    args: _RunArguments, home: Workspace, plan: StoredPlan, refs: tuple[CaseRef, ...], read: _Read
) -> tuple[CaseRef, ...]:
    """The cases of this part, in their order. UsageError where the part has none."""
    by_name = {suite.name: suite for suite in read[0]}
    cases = {ref: (by_name[ref.suite], case) for ref in refs if (case := by_name[ref.suite].case(ref.case))}
    if args.part:
        number, count = part_named(args.part)
        told = [
            (ref, case, len(read_table(home, suite, case)) if case.table and case.table.kind == "file" else 1)
            for ref, (suite, case) in cases.items()
        ]
        seconds = expected(home.root, told)
        chosen = part_of(refs, seconds, number, count)
        if not chosen:
            raise UsageError(f"part {args.part} has no case: there are {len(refs)}", mend="use fewer parts")
        terminal(args).note(
            (f"part {number} of {count}: {len(chosen)} of {counted(len(refs), 'case')}", "note")
        )
        refs = chosen
    if plan.order == "needed-first":
        refs = needed_first(refs, {ref: cases[ref][1] for ref in refs})
    return refs


def _plan(
    args: _RunArguments, home: Workspace, plan: StoredPlan, refs: tuple[CaseRef, ...], read: _Read
) -> RunPlan:
    suites, everything = read
    by_name = {suite.name: suite for suite in suites}
    cases = [
        (by_name[ref.suite], case) for ref in refs if (case := by_name[ref.suite].case(ref.case)) is not None
    ]
    called = reachable(cases, everything)
    called_suites = list({suite.name: suite for suite, _ in everything.values()}.values())
    contracts = contracts_of(called)
    target = home.target(plan.target or None, contracts)
    writes = not args.dry_run and any(not operation.safe for operation in operations_of(called))
    guarded = bool(target.guarded)
    return RunPlan(
        refs,
        target.reference,
        tuple((name, digest_of(contract)) for name, contract in contracts.items()),
        tuple({**plan.inputs, **dict(given_values(home, called_suites, args.settings))}.items()),
        time.time(),
        plan.seed or 0,
        args.token or secrets.token_hex(4),
        plan.repeat or 1,
        plan.jobs or home.config.jobs,
        not args.no_credentials,
        args.trust,
        plan.role,
        tuple(map(header_field, args.header)),
        tuple(args.credential),
        plan.pace or 0.0,
        sends=tuple(args.sends),
        strict_clean=plan.strict_clean,
        stop_at_first=plan.stop_at_first,
        agreed=guarded and not agreed(target, args.yes_to, writes=writes).guarded,
    )
