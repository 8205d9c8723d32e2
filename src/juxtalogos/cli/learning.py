"""`compose --learn`: the service is asked, what it showed is written down, and told."""

from __future__ import annotations

import re
from collections import Counter
from typing import Any

from juxtalogos.cli.compose_arguments import ComposeArguments
from juxtalogos.cli.options import header_field
from juxtalogos.cli.terminal import Terminal
from juxtalogos.ledger import open_ledger
from juxtalogos.model.contract import Contract
from juxtalogos.run.learning.pupil import REFUSED, WANTS, WORKED, Pupil
from juxtalogos.run.learning.rounds import Learner, Lessons
from juxtalogos.run.loop import run_loop
from juxtalogos.workspace.config import Target
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.known import Hints, Learned
from juxtalogos.workspace.workspace import Workspace

SHOWN = 20


def learn(args: ComposeArguments, home: Workspace, out: Terminal, contract: Contract, target: Target) -> Lessons:
    """Learns, and writes down what was learned."""
    kept = Learned.read(home.root, target.name, contract.name)
    plan = {
        "jobs": max(1, home.config.jobs), "with_credentials": not args.no_credentials, "trust": args.trust, "role": args.role,
        "headers": tuple(map(header_field, args.header)), "credentials": tuple(args.credential), "sends": tuple(args.sends), "pace": max(0.0, args.pace), "patient": True,
    }  # fmt: skip
    with open_ledger(home.ledger_path, write=True) as ledger:
        learner = Learner(
            home, ledger, contract, target, home.written_hints(contract.name, target), kept.hints, args.learn == "writing", args.include_destructive,
            max(1, args.budget), plan, lambda text: out.note((text, "note")),
        )  # fmt: skip
        try:
            lessons = run_loop(learner.learn())
        finally:  # an interrupt keeps what was learned
            kept.tables = tables_of(learner.learned)
            if any(kept.tables.values()):
                kept.path.parent.mkdir(parents=True, exist_ok=True)
                write_whole(kept.path, kept.text().encode())
    return lessons


def tables_of(hints: Hints) -> dict[str, list[dict[str, Any]]]:
    """Hints as the tables of a file, each once."""
    found: dict[str, list[dict[str, Any]]] = {"known": [], "dependencies": [], "leave-out": [], "meanings": []}
    for one in hints.known:
        value = _without_null(one.value)
        if one.formula or value is not None:  # TOML knows no null
            found["known"].append({"at": one.at, "operation": one.operation, **({"formula": one.formula} if one.formula else {"value": value})})  # fmt: skip
    for rule in hints.dependencies:
        found["dependencies"].append({"operation": rule.operation, "input": rule.input, "from": rule.source, "value": rule.value})  # fmt: skip
    for left in hints.left_out:
        found["leave-out"].append({"operation": left.operation, "input": left.input, "reason": left.reason})
    for meant in hints.meanings:
        found["meanings"].append({"operation": meant.operation, "does": meant.does})
    for name, listed in found.items():
        unique: dict[tuple[str, str], dict[str, Any]] = {}
        for entry in listed:
            unique.setdefault((entry.get("operation", ""), entry.get("input") or entry.get("at", "")), entry)
        found[name] = sorted(unique.values(), key=lambda entry: (entry.get("operation", ""), entry.get("input") or entry.get("at", "")))  # fmt: skip
    return found


def _without_null(value: Any) -> Any:
    """A value without members and items that are null."""
    if isinstance(value, dict):
        return {name: _without_null(one) for name, one in value.items() if one is not None}
    return [_without_null(one) for one in value if one is not None] if isinstance(value, list) else value


def kind_of(pupil: Pupil) -> str:
    """What one that was not reached needs: a credential, a state, a value, or something that was not found; or that the service fails."""
    if pupil.outcome == WANTS:
        return "needs a credential or role"
    if pupil.status == 409 or re.search(r"\b(state|status|already|not yet|must be (?:open|closed|active)|in progress|conflict)\b", pupil.words, re.IGNORECASE):  # fmt: skip
        return "needs a state"
    if pupil.status >= 500:
        return "fails by itself"
    return "needs a value" if pupil.outcome == REFUSED and pupil.status in (400, 422) else "not found by us"


def show_learned(out: Terminal, lessons: Lessons, contract: Contract) -> None:
    """How far it came, and of each of the rest the server's words and what would mend it."""
    worked = sum(one.outcome == WORKED for one in lessons.pupils)
    out.line(
        ("learned: ", "head"),
        f"{worked} of {len(lessons.pupils)} operations answered with success, {lessons.requests} requests",
    )
    culprits = Counter(f"{one.input.partition('.')[0]} {one.input.partition('.')[2]}" if "." in one.input else one.input for one in lessons.hints.left_out)  # fmt: skip
    for name, count in culprits.most_common(5):
        reason = next(one.reason for one in lessons.hints.left_out if one.input in (name.replace(" ", "."), name))
        out.line(
            ("left out: ", "remark"), f"{name}, in {count} operation{'s' if count > 1 else ''}", (f"  {reason}", "note")
        )
    rest = [one for one in lessons.pupils if one.outcome != WORKED]
    if rest:
        rows = [(one.operation.id, kind_of(one), f"{one.status or '-'}: {one.words}"[:90]) for one in rest[:SHOWN]]
        out.table(("not reached", "class", "the server's words"), rows, styles=("name",))
        if len(rest) > SHOWN:
            out.line((f"and {len(rest) - SHOWN} more: --json lists all", "note"))
        first = next((one for one in rest if kind_of(one) == "needs a value"), None)
        if first is not None:
            out.note((f'write what you know: [[contracts.{contract.name}.known]] operation = "{first.operation.id}", at = "ADDRESS", value = "…"', "note"))  # fmt: skip
    out.line()


def learned_data(lessons: Lessons) -> dict[str, Any]:
    """The same for `--json`."""
    return {
        "requests": lessons.requests,
        "runs": lessons.runs,
        "worked": [one.operation.id for one in lessons.pupils if one.outcome == WORKED],
        "notReached": [
            {"operation": one.operation.id, "class": kind_of(one), "status": one.status, "words": one.words, "attempts": one.attempts}
            for one in lessons.pupils if one.outcome != WORKED
        ],
    }  # fmt: skip
