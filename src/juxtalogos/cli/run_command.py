"""`run`: suites against a target."""

from __future__ import annotations

import argparse
import asyncio
from collections import Counter
from collections.abc import Mapping
from typing import Any

from juxtalogos.cli.options import (
    EXIT_FAILED,
    EXIT_HELD,
    EXIT_INTERRUPTED,
    EXIT_NO_ANSWER,
    Arguments,
    add_common,
    add_target,
    terminal,
    workspace,
)
from juxtalogos.cli.terminal import Terminal
from juxtalogos.documents.positions import describe
from juxtalogos.ledger import CaseRecord, ExchangeRecord, Ledger
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import SuiteError
from juxtalogos.model.findings import Severity
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.engine import Plan
from juxtalogos.run.execute import execute
from juxtalogos.run.session import open_session
from juxtalogos.suite.read import find_suite, read_suite, select, suite_paths

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
    parser.add_argument("--strict", action="store_true", help="unproven counts as failed")
    parser.add_argument("--trust", default="", metavar="DIGEST", help="trust the workspace's commands of this digest")
    parser.add_argument(
        "--set", dest="settings", action="append", default=[], metavar="NAME=VALUE", help="an input of the cases"
    )
    add_common(parser)


class _RunArguments(Arguments):
    what: str
    target: str | None
    no_credentials: bool
    jobs: int | None
    strict: bool
    trust: str
    settings: list[str]


def run(args: _RunArguments) -> int:
    home = workspace(args)
    out = terminal(args)
    suite_id, _, rest = args.what.partition("#")
    case_id, _, step_id = rest.partition("#")
    suites = [read_suite(home, path) for path in ([find_suite(home, suite_id)] if suite_id else suite_paths(home))]
    if not suites:
        raise SuiteError("there are no suites", where=str(home.suites), mend="compose one: juxtalogos compose CONTRACT")
    cases = tuple(select(suites, case_id, step_id))
    if not cases:
        from juxtalogos.model.errors import nearest, quoted

        raise SuiteError(
            f"there is no case {quoted(case_id)}",
            mend=nearest(case_id, [case.id for suite in suites for case in suite.cases]),
        )
    target = home.target(args.target)
    if target.system:
        from juxtalogos.workspace.trust import require_trust

        require_trust(home.config, args.trust)
    contracts = {step.contract.name: step.contract for _, case in cases for step in case.steps}
    if args.settings:
        from dataclasses import replace

        pairs = dict(_setting(text) for text in args.settings)
        target = replace(target, variables={**target.variables, **pairs})
    session = open_session(contracts, target, home.root, with_credentials=not args.no_credentials)
    for contract in contracts.values():
        session.base_url(contract)
    plan = Plan(cases, session, max(1, args.jobs or home.config.jobs))
    with Ledger(home.ledger_path) as ledger:
        with out.progress("cases", len(cases)) as moved:
            finished: list[CaseRecord] = []

            def done(record: CaseRecord) -> None:
                finished.append(record)
                moved(len(finished))

            number, verdict, interrupted = asyncio.run(
                execute(plan, home.root, ledger, args.what or "every suite", done)
            )
        home.remember_target(target)
        records = list(ledger.exchanges(number))
        kept = ledger.cases(number)
    order = {(suite.name, case.id): index for index, (suite, case) in enumerate(cases)}
    kept.sort(key=lambda record: order.get((record.suite, record.case), 0))
    summary = RunSummary(number, kept, records, contracts)
    if args.json:
        out.json(summary.data(verdict, interrupted))
    else:
        summary.show(out, verdict, interrupted)
    return summary.exit_status(args.strict, interrupted)


def _setting(text: str) -> tuple[str, Any]:
    from juxtalogos.documents.jsontext import NotJson, parse_json
    from juxtalogos.model.errors import UsageError, quoted

    name, equals, value = text.partition("=")
    if not equals or not name:
        raise UsageError(f"{quoted(text)} has no '='", mend="write --set NAME=VALUE")
    try:
        return name, parse_json(value)
    except NotJson:
        return name, value


class RunSummary:
    """A finished run as `run` shows it."""

    def __init__(
        self, number: int, cases: list[CaseRecord], records: list[ExchangeRecord], contracts: Mapping[str, Contract]
    ) -> None:
        self.number = number
        self.cases = cases
        self.records = records
        self.contracts = contracts

    def findings(self) -> dict[str, tuple[int, ExchangeRecord, Any]]:
        """By fingerprint: (how often, the first exchange, the result)."""
        found: dict[str, tuple[int, ExchangeRecord, Any]] = {}
        for record in self.records:
            for finding in record.findings():
                count, first, result = found.get(finding.fingerprint, (0, record, finding.result))
                found[finding.fingerprint] = (count + 1, first, result)
        return found

    def show(self, out: Terminal, verdict: Verdict, interrupted: bool) -> None:
        rows = []
        for case in self.cases:
            steps = [record for record in self.records if record.case == case.case and record.suite == case.suite]
            codes = " ".join(str(record.status or "-") for record in steps)
            rows.append(
                (
                    f"{case.suite}#{case.case}",
                    (case.verdict, case.verdict),
                    codes,
                    f"{case.seconds * 1000:.0f}",
                    (case.reason, "note"),
                )
            )
        out.table(("case", "verdict", "status codes", "ms", "why"), rows, styles=("name",), right=(3,))
        if out.verbose:
            self._show_steps(out)
        statuses = Counter(record.status for record in self.records if record.exchange)
        out.line()
        out.line("answers: ", "  ".join(f"{status or 'none'} × {count}" for status, count in sorted(statuses.items())))
        self._show_findings(out)
        verdicts = Counter(case.verdict for case in self.cases)
        out.line()
        out.line(
            (verdict, verdict) if not interrupted else ("interrupted", "error"),
            f"  run {self.number}: {len(self.cases)} case{'s' if len(self.cases) != 1 else ''}, ",
            ", ".join(f"{count} {name}" for name, count in verdicts.items()),
        )
        out.note((f"next: juxtalogos report {self.number}  or  juxtalogos coverage", "note"))

    def _show_steps(self, out: Terminal) -> None:
        """Every step, for who asked for more."""
        rows = []
        for record in self.records:
            request = record.exchange.request if record.exchange else None
            sent = f"{request.method} {request.url}" if request else ""
            verdict = (record.verdict, record.verdict)
            rows.append(
                (record.id, f"{record.case}#{record.step}", sent, record.status or "", verdict, (record.reason, "note"))
            )
        out.line()
        out.table(("exchange", "step", "sent", "status", "verdict", "why"), rows, right=(0, 3))

    def _show_findings(self, out: Terminal) -> None:
        found = self.findings()
        out.line()
        if not found:
            out.line(("no findings", "held"))
            return
        rows = []
        for count, record, result in sorted(found.values(), key=lambda one: (one[1].operation, one[2].kind)):
            contract = self.contracts.get(record.contract)
            where = describe(contract.documents, result.location) if contract and result.location else ""
            mark = str(result.severity) if result.severity is Severity.REMARK else result.kind.partition(".")[0]
            rows.append(
                (
                    record.operation,
                    (result.kind, mark if mark == "remark" else "deviation"),
                    result.at,
                    result.declared,
                    result.observed,
                    (where, "note"),
                    count,
                    record.id,
                )
            )
        out.line((f"findings: {len(found)}", "head"))
        out.table(
            ("operation", "kind", "at", "declared", "observed", "definition", "times", "exchange"),
            rows,
            styles=("name",),
            right=(6, 7),
        )

    def data(self, verdict: Verdict, interrupted: bool) -> dict[str, Any]:
        from juxtalogos.cli.calling import result_data

        findings = []
        for fingerprint, (count, record, result) in self.findings().items():
            contract = self.contracts.get(record.contract)
            data = result_data(result, contract.documents if contract else {})
            findings.append(
                {
                    "fingerprint": fingerprint,
                    "operation": record.operation,
                    "status": record.status,
                    "times": count,
                    "exchange": record.id,
                    **data,
                }
            )
        cases = [
            {
                "suite": case.suite,
                "case": case.case,
                "verdict": case.verdict,
                "reason": case.reason,
                "seconds": round(case.seconds, 6),
            }
            for case in self.cases
        ]
        return {
            "version": 1,
            "run": self.number,
            "verdict": verdict,
            "interrupted": interrupted,
            "cases": cases,
            "findings": findings,
        }

    def exit_status(self, strict: bool, interrupted: bool) -> int:
        if interrupted:
            return EXIT_INTERRUPTED
        verdicts = {case.verdict for case in self.cases}
        if (
            Verdict.FAILED in verdicts
            or (strict and Verdict.UNPROVEN in verdicts)
            or any(result.fails for record in self.records for result in record.results)
        ):
            return EXIT_FAILED
        if Verdict.ERROR in verdicts:
            return EXIT_NO_ANSWER if verdicts <= {Verdict.ERROR, Verdict.SKIPPED} else EXIT_FAILED
        return EXIT_HELD
