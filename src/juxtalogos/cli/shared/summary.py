"""A finished run or audit as it is told: cases, findings, exit status."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import asdict
from typing import Any

from juxtalogos.cli.shared.calling import result_data
from juxtalogos.cli.shared.layout import counted, prose_lines
from juxtalogos.cli.shared.options import EXIT_FAILED, EXIT_HELD, EXIT_INTERRUPTED, EXIT_NO_ANSWER
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.model.findings import ResultClass
from juxtalogos.model.verdict import Verdict
from juxtalogos.report.causes import unreached
from juxtalogos.report.groups import (
    CLASS_WORDS,
    CLASSES,
    WORST_FIRST,
    CaseGroup,
    FoundGroup,
    by_class,
    case_groups,
    found_groups,
    worst_first,
)
from juxtalogos.report.view import FoundDeviation, RunView
from juxtalogos.schema.json import asserts_format
from juxtalogos.workspace.workspace import Workspace

FEW_CASES, GROUPS, UNREACHED = 20, 20, 10
"""So many cases are shown one by one; so many groups of what is alike, unless all is asked for."""


def show_run(
    out: Terminal, view: RunView, *, full: bool = False, formats_said: Collection[str] | None = None
) -> None:
    """A finished run as `run` shows it: the worst first, like with like; `full` shows every case.
    `formats_said`: contracts of which somebody said what formats are.
    """
    _show_cases(out, view, full)
    if out.verbose:
        _show_steps(out, view)
    statuses = (
        (code.removesuffix(" response").replace("no", "none"), count) for code, count in view.statuses
    )
    out.line()
    out.line("responses: ", "  ".join(f"{code} × {count}" for code, count in statuses))
    _show_reported(out, view, full)
    show_findings(out, view, full=full)
    _show_unreached(out, view, full)
    if formats_said is not None:
        show_formats(out, view, formats_said)
    number = view.run.id
    verdict = view.run.verdict
    out.line()
    out.line(
        (verdict, verdict) if not view.interrupted else ("interrupted", "error"),
        f"  run {number} at {view.run.target}: {counted(len(view.cases), 'case')}, ",
        ", ".join(f"{view.verdicts[one]} {one}" for one in WORST_FIRST if view.verdicts[one]),
        f" ({view.retried} of them after retries)" if view.retried else "",
    )


def _show_cases(out: Terminal, view: RunView, full: bool) -> None:
    if full or len(view.cases) <= FEW_CASES:
        rows = [
            (
                f"{case.suite}#{case.case}",
                (case.verdict, case.verdict),
                " ".join(str(step.status or "-") for step in view.steps_of(case)),
                f"{case.seconds * 1000:.0f}",
                (case.reason, "note"),
            )
            for case in worst_first(view.cases)
        ]
        out.table(("case", "verdict", "status codes", "ms", "why"), rows, styles=("name",), right=(3,))
        return
    groups = case_groups(view)
    listed = [group for group in groups if group.first.verdict is not Verdict.PASSED]
    passed = [group for group in groups if group.first.verdict is Verdict.PASSED]
    grouped = [_group_row(one) for one in [*listed[:GROUPS], *passed[:1]]]
    out.table(
        ("cases", "", "verdict", "status codes", "ms", "why"), grouped, styles=("", "name"), right=(0, 4)
    )
    if len(listed) > GROUPS:
        more = sum(len(item.cases) for item in listed[GROUPS:])
        out.line((f"and {more} more that did not pass: --full shows every case", "note"))


def _group_row(group: CaseGroup) -> tuple[object, ...]:
    case = group.first
    several = len(group.cases) > 1
    name = "" if case.verdict is Verdict.PASSED else f"{case.suite}#{case.case}{' …' if several else ''}"
    return (
        len(group.cases),
        name,
        (case.verdict, case.verdict),
        group.codes,
        f"{group.milliseconds:.0f}",
        (case.reason, "note"),
    )


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


def _show_reported(out: Terminal, view: RunView, full: bool) -> None:
    if not view.reported:
        return
    listed = view.reported if full else view.reported[:GROUPS]
    out.line()
    out.line(("reported values", "head"))
    rows = [
        (f"{item.suite}#{item.case}#{item.step}", item.name, item.value, item.exchange) for item in listed
    ]
    out.table(("step", "name", "value", "exchange"), rows, styles=("name",), right=(3,))
    if len(listed) < len(view.reported):
        out.line(
            (
                f"and {len(view.reported) - len(listed)} more: --full, or juxtalogos report {view.run.id}",
                "note",
            )
        )


def formats_said(home: Workspace) -> set[str]:
    """Contracts of which the configuration says whether formats are asserted."""
    return {name for name, one in home.config.contracts.items() if one.formats}


def show_formats(out: Terminal, view: RunView, said: Collection[str]) -> None:
    """Once, where the dialect of a contract only annotates formats and nobody said otherwise: a wrong date
    fails nothing then.
    """
    for name, contract in view.contracts.items():
        if (
            not asserts_format(contract.dialect)
            and name not in said
            and any(b"format" in document.text for document in contract.documents.values())
        ):
            out.line()
            out.line(
                ("formats are not checked: ", "remark"),
                f"in the dialect of {name} they are annotations",
                (
                    (f'   formats = "assert" under [contracts.{name}] makes a malformed date a finding'),
                    "note",
                ),
            )


def show_findings(out: Terminal, view: RunView, *, full: bool = False) -> None:
    """What did not hold: a table a class, in it a block for each cause."""
    out.line()
    told = by_class(view.findings)
    if not told[ResultClass.FINDING]:
        out.line(("no findings", "held"))
    for number, (kind, found) in enumerate((kind, found) for kind, found in told.items() if found):
        if number or not told[ResultClass.FINDING]:
            out.line()
        _show_class(out, view, kind, found_groups(found), full)


def _show_unreached(out: Terminal, view: RunView, full: bool) -> None:
    """A row a cause: which operation had no success, how many others wait for it, the service's message."""
    causes = unreached(view)
    if not causes:
        return
    count = sum(one.opens for one in causes)
    out.line()
    out.line((f"without a success: {counted(count, 'operation')}", "head"))
    counts = any(one.waiting for one in causes)
    shown = causes if full else causes[:UNREACHED]
    rows = [
        (
            one.operation,
            one.need,
            *((str(one.opens) if one.waiting else "",) if counts else ()),
            f"{one.status or '-'}: {one.words}"[:90],
        )
        for one in shown
    ]
    headings = ("operation", "class", *(("opens",) if counts else ()), "message")
    out.table(headings, rows, styles=("name",), right=(2,) if counts else ())
    if len(shown) < len(causes):
        out.line((f"and {len(causes) - len(shown)} more: --full", "note"))
    first = next((one for one in causes if one.command), None)
    if first is not None:
        opens = f"   opens {counted(first.opens, 'operation')}" if first.waiting else ""
        out.line(("try first: ", "note"), first.command, (opens, "note"))


def _show_class(
    out: Terminal, view: RunView, kind: ResultClass, groups: list[FoundGroup], full: bool
) -> None:
    count = sum(len(group.found) for group in groups)
    causes = f", {len(groups)} cause{'s' if len(groups) > 1 else ''}" if len(groups) != count else ""
    out.line((f"{CLASSES[kind]}: {count}", "head"), (f"{causes}   {CLASS_WORDS[kind]}", "note"))
    style = "remark" if kind in (ResultClass.REMARK, ResultClass.REFUSAL, ResultClass.DOUBT) else "deviation"
    for group in groups if full else groups[:GROUPS]:
        _show_group(out, view, group, style)
    if len(groups) > GROUPS and not full:
        out.line(
            (f"and {len(groups) - GROUPS} more causes: --full, or juxtalogos report {view.run.id}", "note")
        )


OPERATIONS, OBSERVED = 4, 2


def _show_group(out: Terminal, view: RunView, group: FoundGroup, style: str) -> None:
    first = group.first
    result = first.result
    out.line(
        (result.kind, style), "  ", (result.at, "name"), (f"  {first.where}" if first.where else "", "note")
    )
    if first.excerpt:
        out.line((first.excerpt[: max(40, out.width - 8)], "note"), indent=6)
    observed = "; ".join(group.observed[:OBSERVED])
    if len(group.observed) > OBSERVED:
        observed += f"; and {len(group.observed) - OBSERVED} others"
    expected = "expected" if result.result_class is ResultClass.EXPECTATION else "declared"
    told = ((expected, result.declared), ("observed", observed))
    if sum(len(text) for _, text in told) + 32 <= out.width:
        out.line((f"{expected}: ", "note"), result.declared, ("   observed: ", "note"), observed, indent=4)
    else:
        for word, text in told:
            for number, line in enumerate(prose_lines(text, out.width - 16)):
                out.line((f"{word}: " if not number else " " * (len(word) + 2), "note"), line, indent=4)
    for detail in dict.fromkeys(item.result.detail for item in group.found if item.result.detail):
        for number, line in enumerate(prose_lines(detail, out.width - 12)):
            out.line(("note: " if not number else "      ", "note"), line, indent=4)
    names = group.operations
    more = f" and {len(names) - OPERATIONS} more" if len(names) > OPERATIONS else ""
    times = f"{group.times} times, first in" if group.times > 1 else "in"
    for number, line in enumerate(
        prose_lines(
            f"{', '.join(names[:OPERATIONS])}{more}; {times} exchange {first.found.first}", out.width - 8
        )
    ):
        out.line(("in " if not number else "   ", "note"), line, indent=4)


def run_data(view: RunView) -> dict[str, Any]:
    """A finished run for `--json`: what did not hold by class."""
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
    told = by_class(view.findings)
    return {
        "version": 2,
        "run": view.run.id,
        "verdict": view.run.verdict,
        "interrupted": view.interrupted,
        "cases": cases,
        "notReached": [
            {
                "operation": one.operation,
                "class": one.need,
                "status": one.status,
                "words": one.words,
                "waiting": list(one.waiting),
            }
            for one in unreached(view)
        ],
        "reported": [asdict(entry) for entry in view.reported],
        "counts": {CLASSES[kind]: len(found) for kind, found in told.items()},
        **{CLASSES[kind]: [_found_data(view, item) for item in found] for kind, found in told.items()},
    }


def _found_data(view: RunView, one: FoundDeviation) -> dict[str, Any]:
    contract = view.contracts.get(one.found.finding.contract)
    return {
        "fingerprint": one.found.fingerprint,
        "formerly": one.found.finding.former_fingerprint,
        "class": one.result.result_class,
        "operation": one.operation,
        "status": one.found.finding.status,
        "times": one.count,
        "exchange": one.found.first,
        **result_data(one.result, contract.documents if contract else {}),
    }


def exit_status(view: RunView, *, strict: bool) -> int:
    """The exit status of a run; `strict` counts cases that prove nothing, and those that were skipped."""
    if view.interrupted:
        return EXIT_INTERRUPTED
    doubtful = (Verdict.UNPROVEN, Verdict.REFUSED, Verdict.SKIPPED)
    if view.fails or (strict and any(map(view.has, doubtful))):
        return EXIT_FAILED
    if view.has(Verdict.ERROR):
        return EXIT_NO_ANSWER if view.unanswered else EXIT_FAILED
    return EXIT_FAILED if view.nothing_succeeded else EXIT_HELD
