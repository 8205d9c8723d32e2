"""`run`: suites against a target."""

from __future__ import annotations

import argparse
import asyncio
import itertools
from collections.abc import Mapping
from typing import Any

from juxtalogos.cli.options import (
    Arguments,
    add_common,
    add_remarks,
    add_target,
    terminal,
    workspace,
)
from juxtalogos.cli.summary import RunSummary
from juxtalogos.ledger import Ledger
from juxtalogos.model.errors import SuiteError, UsageError, nearest, quoted
from juxtalogos.run.engine import Plan
from juxtalogos.run.execute import execute
from juxtalogos.run.session import open_session
from juxtalogos.suite.cut import reachable, select
from juxtalogos.suite.model import Case, CaseKey, Suite
from juxtalogos.suite.read import find_suite, read_suites, suite_paths
from juxtalogos.suite.tables import check_columns, needs_trust, read_table
from juxtalogos.workspace.workspace import Workspace

Cases = tuple[tuple[Suite, Case], ...]

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
    parser.add_argument("--jobs", type=int, metavar="N", help="cases run side by side (4)")
    parser.add_argument(
        "--repeat", type=int, default=1, metavar="N", help="run each case, or row of its table, so many times"
    )
    parser.add_argument(
        "--seed", type=int, default=0, metavar="N", help="for made-up values (0); the same seed gives the same values"
    )
    parser.add_argument("--strict", action="store_true", help="unproven counts as failed")
    parser.add_argument("--trust", default="", metavar="DIGEST", help="trust the workspace's commands of this digest")
    parser.add_argument(
        "--set", dest="settings", action="append", default=[], metavar="NAME=VALUE", help="an input of the cases"
    )
    add_remarks(parser)
    add_common(parser)


class _RunArguments(Arguments):
    what: str
    target: str | None
    no_credentials: bool
    jobs: int | None
    repeat: int
    seed: int
    strict: bool
    trust: str
    settings: list[str]
    no_remarks: bool


def run(args: _RunArguments) -> int:
    home = workspace(args)
    out = terminal(args)
    suite_id, _, rest = args.what.partition("#")
    suites, everything = read_suites(home, [find_suite(home, suite_id)] if suite_id else suite_paths(home))
    case_id, _, step_id = rest.partition("#")
    cases = _chosen(home, suites, case_id, step_id)
    reached = reachable(cases, everything)
    plan = _plan(args, home, cases, reached)
    total = sum(len(plan.rows.get(case.key, (None,))) for _, case in cases) * plan.repeat
    with Ledger(home.ledger_path) as ledger:
        with out.progress("cases", total) as moved:
            finished = itertools.count(1)
            number, verdict, interrupted = asyncio.run(
                execute(plan, home.root, ledger, args.what or "every suite", lambda _: moved(next(finished)))
            )
        home.remember_target(plan.session.target)
        records = list(ledger.exchanges(number))
        kept = ledger.cases(number)
    order = {(suite.name, case.id): index for index, (suite, case) in enumerate(cases)}
    kept.sort(key=lambda record: order.get((record.suite, record.case.partition("[")[0]), len(order)))
    summary = RunSummary(number, kept, records, plan.session.contracts, remarks=not args.no_remarks)
    if args.json:
        out.json(summary.data(verdict, interrupted))
    else:
        summary.show(out, verdict, interrupted)
    return summary.exit_status(args.strict, interrupted)


def _chosen(home: Workspace, suites: list[Suite], case_id: str, step_id: str) -> Cases:
    """The cases that were asked for; SuiteError when there are none."""
    if not suites:
        raise SuiteError("there are no suites", where=str(home.suites), mend="compose one: juxtalogos compose CONTRACT")
    cases = tuple(select(suites, case_id, step_id))
    if not cases:
        known = [case.id for suite in suites for case in suite.cases]
        raise SuiteError(f"there is no case {quoted(case_id)}", mend=nearest(case_id, known))
    return cases


def _plan(args: _RunArguments, home: Workspace, cases: Cases, reached: Mapping[CaseKey, tuple[Suite, Case]]) -> Plan:
    """What is run against which target with which rows; everything users can have wrong comes to light here, before anything is sent."""
    target = home.target(args.target)
    if target.system or needs_trust(home.config, [case for _, case in reached.values()]):
        from juxtalogos.workspace.trust import require_trust

        require_trust(home.config, args.trust)
    contracts = {
        step.contract.name: step.contract for _, case in reached.values() for step in case.steps if step.contract
    }
    session = open_session(
        contracts,
        target,
        home.root,
        with_credentials=not args.no_credentials,
        config=home.config,
        seed=args.seed,
        given=dict(map(_setting, args.settings)),
    )
    for contract in contracts.values():
        session.base_url(contract)
    rows = {key: read_table(home, suite, case) for key, (suite, case) in reached.items() if case.table}
    for key, found in rows.items():
        check_columns(reached[key][1], found, session.target.variables)
    jobs = max(1, args.jobs or home.config.jobs)
    return Plan(cases, session, jobs, everything=reached, rows=rows, seed=args.seed, repeat=max(1, args.repeat))


def _setting(text: str) -> tuple[str, Any]:
    from juxtalogos.documents.jsontext import NotJson, parse_json

    name, equals, value = text.partition("=")
    if not equals or not name:
        raise UsageError(f"{quoted(text)} has no '='", mend="write --set NAME=VALUE")
    try:
        return name, parse_json(value)
    except NotJson:
        return name, value
