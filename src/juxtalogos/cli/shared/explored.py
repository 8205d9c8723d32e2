"""A finished exploration as it is told: findings, lenient, doubts with the lines to adopt them, what was not
reached.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any

from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import EXIT_FAILED, EXIT_HELD, EXIT_INTERRUPTED, EXIT_NO_ANSWER
from juxtalogos.cli.shared.state import show_state
from juxtalogos.cli.shared.summary import run_data, show_findings, show_formats
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.explore.exploration import Exploration
from juxtalogos.formats import wire_of
from juxtalogos.ledger import Ledger
from juxtalogos.model.contract import Contract
from juxtalogos.model.findings import ResultClass
from juxtalogos.report.groups import by_class
from juxtalogos.report.view import RunView


@dataclass(frozen=True, slots=True)
class FirstCovered:
    """Elements of a contract that an exploration exercised, beside what earlier runs did."""

    all: int
    mine: int
    new: tuple[str, ...]
    """Those that no run before it has."""


def covered_by(ledger: Ledger, contract: Contract, run: int) -> FirstCovered:
    """What of a contract a run exercised."""
    wire = wire_of(contract)
    known = {part.id for operation in contract.operations for part in wire.elements(operation)}
    mine = {row.element for row in ledger.hits([run], contract.name)} & known
    earlier = {
        row.element
        for row in ledger.hits(
            [record.id for record in ledger.runs(100_000) if record.id < run], contract.name
        )
    }
    return FirstCovered(len(known), len(mine), tuple(sorted(mine - earlier)))


NOTES, RULES, ADOPTED = 12, 6, 6


def show_explored(
    out: Terminal,
    view: RunView,
    done: Exploration,
    left: int,
    covered: Mapping[str, FirstCovered],
    *,
    full: bool = False,
    formats_said: Collection[str] = (),
) -> None:
    """Worst first; what fails nothing last."""
    statuses = (
        (code.removesuffix(" response").replace("no", "none"), count) for code, count in view.statuses
    )
    out.line("responses: ", "  ".join(f"{code} × {count}" for code, count in statuses))
    show_findings(out, view, full=full)
    show_formats(out, view, formats_said)
    _show_adopting(out, view)
    _show_reach(out, done, covered, full)
    _show_rules(out, done, full)
    out.line()
    told = by_class(view.findings)
    counts = {
        "finding": len(told[ResultClass.FINDING]),
        "lenient": len(told[ResultClass.LENIENT]),
        "doubt": len(told[ResultClass.DOUBT]),
    }
    requests = sum(visit.requests for visit in done.explored.values())
    bad = counts["finding"] + counts["lenient"]
    out.line(
        (
            "interrupted" if done.interrupted else "explored",
            "deviation" if bad or done.interrupted else "held",
        ),
        f"  run {done.number}: {requests:,} requests, ",
        ", ".join(
            counted(count, word) if word != "lenient" else f"{count} lenient"
            for word, count in counts.items()
        ),
    )
    show_state(out, done.state, f"juxtalogos clean {done.number}")
    if left:
        out.line(
            (f"left behind: {left} that this run created", "remark"),
            (f"   juxtalogos clean {done.number}", "note"),
        )
    out.note((f"next: juxtalogos report {done.number}  or  juxtalogos coverage", "note"))


def _show_adopting(out: Terminal, view: RunView) -> None:
    """How a doubt is made binding, or left out: lines to paste."""
    found = by_class(view.findings)[ResultClass.DOUBT]
    lines = list(
        dict.fromkeys((item.found.finding.contract, item.result.kind, item.operation) for item in found)
    )
    if not lines:
        return
    for contract in dict.fromkeys(name for name, _, _ in lines):
        own = [(law, operation.rpartition(":")[2]) for name, law, operation in lines if name == contract]
        out.line()
        out.line(
            ("to adopt", "head"),
            (
                (
                    f"   under [contracts.{contract}]; violations are then findings, and `holds = "
                    "false` ignores the law"
                ),
                "note",
            ),
        )
        out.line("laws = [", indent=4)
        for law, operation in own[:ADOPTED]:
            out.line(f'{{law = "{law}", operation = "{operation}"}},', indent=6)
        out.line(
            "]",
            (f"   and {len(own) - ADOPTED} more: --json lists all" if len(own) > ADOPTED else "", "note"),
            indent=4,
        )


def _show_reach(out: Terminal, done: Exploration, covered: Mapping[str, FirstCovered], full: bool) -> None:
    for name, one in done.explored.items():
        reached = [operation for operation in one.operations if operation.id in one.worked]
        out.line()
        out.line(
            (f"{name}: ", "head"), f"{len(reached)} of {len(one.operations)} operations returned success"
        )
        out.line(
            (
                (
                    f"{covered[name].mine} of {covered[name].all} elements covered, "
                    f"{len(covered[name].new)} of them for the first time"
                ),
                "note",
            )
        )
        rest = [
            (operation.id, one.notes.get(operation.id, "not called"))
            for operation in one.operations
            if operation.id not in one.worked
        ]
        if rest:
            out.table(
                ("not reached", "why"),
                [(name_, (why, "note")) for name_, why in (rest if full else rest[:NOTES])],
                styles=("name",),
            )
        if len(rest) > NOTES and not full:
            out.line((f"and {len(rest) - NOTES} more: --full", "note"))
        for name_, why in one.notes.items():
            if name_.startswith("settle "):
                out.line(
                    ("delayed visibility: ", "remark"),
                    f"{name_.partition(' ')[2]}  {why}",
                    ("   set it with targets.NAME.settle", "note"),
                )
        if one.spent:
            out.line(("stopped early: ", "remark"), one.spent)
        if one.left:
            out.line(("not removed: ", "remark"), ", ".join(one.left[:5]))


def _show_rules(out: Terminal, done: Exploration, full: bool) -> None:
    """Rule by place: how many broken requests were sent, refused, taken."""
    rows: dict[tuple[str, str], list[int]] = {}
    for visit in done.explored.values():
        for key, counts in visit.rules.items():
            rows[key] = [a + b for a, b in zip(rows.get(key, [0, 0, 0]), counts)]
    if not rows:
        return
    listed = sorted(rows.items(), key=lambda row: (-row[1][2], row[0]))
    out.line()
    out.table(
        ("violated in", "rule", "sent", "refused", "accepted"),
        [(*key, *counts) for key, counts in (listed if full else listed[:RULES])],
        right=(2, 3, 4),
    )
    if len(listed) > RULES and not full:
        out.line(
            (
                (
                    f"and {len(listed) - RULES} more rules whose violations were all refused: --full"
                    if not listed[RULES][1][2]
                    else f"and {len(listed) - RULES} more: --full"
                ),
                "note",
            )
        )


def explored_data(
    view: RunView, done: Exploration, left: int, covered: Mapping[str, FirstCovered]
) -> dict[str, Any]:
    """The same for `--json`."""
    return {
        **run_data(view),
        "leftBehind": left,
        "state": done.state.to_json(),
        "explored": {
            name: {
                "requests": one.requests,
                "endedEarly": one.spent,
                "reached": sorted(operation.id for operation in one.operations if operation.id in one.worked),
                "notReached": {
                    operation.id: one.notes.get(operation.id, "not called")
                    for operation in one.operations
                    if operation.id not in one.worked
                },
                "broken": [
                    {"place": place, "rule": rule, "sent": sent, "refused": refused, "accepted": accepted}
                    for (place, rule), (sent, refused, accepted) in sorted(one.rules.items())
                ],
                "notTakenAway": one.left,
                "elements": covered[name].all,
                "covered": covered[name].mine,
                "coveredFirst": list(covered[name].new),
            }
            for name, one in done.explored.items()
        },
    }


def status_of(view: RunView, done: Exploration, tolerant: set[str]) -> int:
    """A finding, or what was taken though it is not allowed, is a failure; a doubt is none."""
    if done.interrupted:
        return EXIT_INTERRUPTED
    told = by_class(view.findings)
    lenient = [entry for entry in told[ResultClass.LENIENT] if entry.found.finding.contract not in tolerant]
    if told[ResultClass.FINDING] or told[ResultClass.EXPECTATION] or lenient:
        return EXIT_FAILED
    if not any(visit.worked for visit in done.explored.values()):
        answered = any(code[:1] in "12345" for code, _ in view.statuses)
        return EXIT_FAILED if answered else EXIT_NO_ANSWER
    return EXIT_HELD
