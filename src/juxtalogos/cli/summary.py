"""A finished run or audit as it is told: cases, findings, exit status."""

from __future__ import annotations

from typing import Any

from juxtalogos.cli.calling import result_data
from juxtalogos.cli.options import EXIT_FAILED, EXIT_HELD, EXIT_INTERRUPTED, EXIT_NO_ANSWER
from juxtalogos.cli.terminal import Terminal
from juxtalogos.model.findings import Severity
from juxtalogos.model.verdict import Verdict
from juxtalogos.report.view import RunView


def show_run(out: Terminal, view: RunView) -> None:
    """A finished run as `run` shows it."""
    rows = [
        (
            f"{case.suite}#{case.case}",
            (case.verdict, case.verdict),
            " ".join(str(step.status or "-") for step in view.steps_of(case)),
            f"{case.seconds * 1000:.0f}",
            (case.reason, "note"),
        )
        for case in view.cases
    ]
    out.table(("case", "verdict", "status codes", "ms", "why"), rows, styles=("name",), right=(3,))
    if out.verbose:
        _show_steps(out, view)
    statuses = ((code.removesuffix(" answer").replace("no", "none"), count) for code, count in view.statuses)
    out.line()
    out.line("answers: ", "  ".join(f"{code} × {count}" for code, count in statuses))
    show_findings(out, view)
    number = view.run.id
    verdict = view.run.verdict
    out.line()
    out.line(
        (verdict, verdict) if not view.interrupted else ("interrupted", "error"),
        f"  run {number}: {len(view.cases)} case{'s' if len(view.cases) != 1 else ''}, ",
        ", ".join(f"{count} {name}" for name, count in view.verdicts.items()),
    )
    out.note((f"next: juxtalogos report {number}  or  juxtalogos coverage", "note"))


def _show_steps(out: Terminal, view: RunView) -> None:
    """Every step, for who asked for more."""
    rows = [
        (
            step.id,
            f"{step.case}#{step.step}",
            f"{step.method} {step.url}" if step.method else "",
            step.status or "",
            (step.verdict, step.verdict),
            (step.reason, "note"),
        )
        for step in view.steps
    ]
    out.line()
    out.table(("exchange", "step", "sent", "status", "verdict", "why"), rows, right=(0, 3))


def show_findings(out: Terminal, view: RunView) -> None:
    """What did not hold, a row a finding."""
    out.line()
    if not view.findings:
        out.line(("no findings", "held"))
        return
    rows = []
    for one in view.findings:
        result = one.result
        rows.append(
            (
                one.operation,
                (result.kind, "remark" if result.severity is Severity.REMARK else "deviation"),
                result.at,
                result.declared,
                result.observed,
                (one.where, "note"),
                one.count,
                one.found.first,
            )
        )
    out.line((f"findings: {len(view.findings)}", "head"))
    out.table(
        ("operation", "kind", "at", "declared", "observed", "definition", "times", "exchange"),
        rows,
        styles=("name",),
        right=(6, 7),
    )


def run_data(view: RunView) -> dict[str, Any]:
    """A finished run for `--json`."""
    findings = []
    for one in view.findings:
        contract = view.contracts.get(one.found.finding.contract)
        findings.append(
            {
                "fingerprint": one.found.fingerprint,
                "operation": one.operation,
                "status": one.found.finding.status,
                "times": one.count,
                "exchange": one.found.first,
                **result_data(one.result, contract.documents if contract else {}),
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
        for case in view.cases
    ]
    return {
        "version": 1,
        "run": view.run.id,
        "verdict": view.run.verdict,
        "interrupted": view.interrupted,
        "cases": cases,
        "findings": findings,
    }


def exit_status(view: RunView, *, strict: bool) -> int:
    """The exit status of a run; `strict` counts cases that prove nothing, and those that were skipped."""
    if view.interrupted:
        return EXIT_INTERRUPTED
    if view.fails or (strict and (view.has(Verdict.UNPROVEN) or view.has(Verdict.SKIPPED))):
        return EXIT_FAILED
    if view.has(Verdict.ERROR):
        return EXIT_NO_ANSWER if view.unanswered else EXIT_FAILED
    return EXIT_HELD
