"""`compose --learn`: the service is asked, what it showed is written down, and told."""

from __future__ import annotations

import shlex
from collections import Counter
from dataclasses import dataclass
from typing import Any

from juxtalogos.cli.shared.compose_arguments import ComposeArguments
from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import header_field
from juxtalogos.cli.shared.state import show_state
from juxtalogos.cli.shared.targeting import show_target
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.ledger import open_ledger
from juxtalogos.model.contract import Contract
from juxtalogos.report.causes import NEEDS_RIGHT, NEEDS_VALUE, NOT_FOUND, need_of
from juxtalogos.run.engine.loop import run_loop
from juxtalogos.run.learning.progress import REFUSED, WANTS, WORKED, OperationProgress
from juxtalogos.run.learning.rounds import Learner
from juxtalogos.run.learning.sending import LearningResult
from juxtalogos.workspace.config import Target
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.known import Learned
from juxtalogos.workspace.workspace import Workspace

SHOWN = 20


def learn(
    args: ComposeArguments, home: Workspace, out: Terminal, contract: Contract, target: Target
) -> LearningResult:
    """Learns, and writes down what was learned."""
    show_target(out, target, {contract.name: contract})
    kept = Learned.read(home.root, target.name, contract.name)
    plan = {
        "jobs": max(1, home.config.jobs),
        "with_credentials": not args.no_credentials,
        "trust": args.trust,
        "role": args.role,
        "headers": tuple(map(header_field, args.header)),
        "credentials": tuple(args.credential),
        "sends": tuple(args.sends),
        "pace": max(0.0, args.pace),
        "strict_clean": args.strict_clean,
        "agreed": not target.guarded,
        "patient": True,
    }
    with open_ledger(home.ledger_path, write=True) as ledger:
        learner = Learner(
            home,
            ledger,
            contract,
            target,
            home.written_hints(contract.name, target),
            kept.hints,
            args.learn == "writing",
            args.include_destructive,
            max(1, args.budget),
            plan,
            lambda text: out.note((text, "note")),
        )
        try:
            learned_now = run_loop(learner.learn())
        except KeyboardInterrupt:  # a second one: the first one ends the round and cleans up
            learned_now = learner.stopped()
        finally:  # an interrupt keeps what was learned
            kept.hints = learner.learned
            if kept.hints.count:
                kept.path.parent.mkdir(parents=True, exist_ok=True)
                write_whole(kept.path, kept.text().encode())
    return learned_now


def kind_of(progress: OperationProgress) -> str:
    """What one that was not reached needs: a credential, a state, a value, or something that was not found;
    or that the service fails.
    """
    if progress.outcome == WANTS:
        return NEEDS_RIGHT
    need = need_of(progress.meaning, progress.words)
    return NOT_FOUND if need == NEEDS_VALUE and progress.outcome != REFUSED else need


def show_learned(out: Terminal, learned_now: LearningResult, contract: Contract) -> None:
    """How far it came, and of each of the rest the server's words and what would mend it."""
    worked = sum(progress.outcome == WORKED for progress in learned_now.progresses)
    if learned_now.interrupted:
        out.line(("interrupted: ", "remark"), "what was learned until then is kept")
    out.line(
        ("learned: ", "head"),
        f"{worked} of {len(learned_now.progresses)} operations returned success, "
        f"{learned_now.requests} requests",
    )
    culprits = Counter(
        f"{candidate.input.partition('.')[0]} {candidate.input.partition('.')[2]}"
        if "." in candidate.input
        else candidate.input
        for candidate in learned_now.left_out
    )
    for name, count in culprits.most_common(5):
        reason = next(
            candidate.reason
            for candidate in learned_now.left_out
            if candidate.input in (name.replace(" ", "."), name)
        )
        out.line(
            ("left out: ", "remark"),
            f"{name}, in {count} operation{'s' if count > 1 else ''}",
            (f"  {reason}", "note"),
        )
    _show_causes(out, learned_now, contract)
    show_state(out, learned_now.state, "juxtalogos clean --all")
    out.line()


@dataclass(frozen=True, slots=True)
class Cause:
    """An operation without success, and those that wait for it."""

    root: OperationProgress
    waiting: tuple[OperationProgress, ...]

    @property
    def opens(self) -> int:
        """How many operations a success would open, itself among them."""
        return 1 + len(self.waiting)

    def command(self, contract: Contract) -> str:
        """What is worth typing first; empty where nothing is known that would help."""
        operation = shlex.quote(f"{contract.name}:{self.root.operation.id}")
        if kind_of(self.root) == NEEDS_VALUE:
            address = min(self.root.named, default="ADDRESS")
            return f"juxtalogos rules {shlex.quote(operation)} --known {address}=VALUE"
        return ""


def causes_of(learned_now: LearningResult) -> list[Cause]:
    """What was not reached, by the operation that all else waits for; the one that opens most first."""
    rest = {one.operation.id: one for one in learned_now.progresses if one.outcome != WORKED}

    def root(one: OperationProgress) -> str:
        seen = {one.operation.id}
        while one.blocked_by in rest and one.blocked_by not in seen:
            one = rest[one.blocked_by]
            seen.add(one.operation.id)
        return one.operation.id

    waiting: dict[str, list[OperationProgress]] = {name: [] for name in rest if root(rest[name]) == name}
    for name, one in rest.items():
        above = root(one)
        if above != name and above in waiting:
            waiting[above].append(one)
    found = [Cause(rest[name], tuple(behind)) for name, behind in waiting.items()]
    return sorted(found, key=lambda one: -one.opens)


def _show_causes(out: Terminal, learned_now: LearningResult, contract: Contract) -> None:
    """A row a cause: what it needs, how many operations wait for it, the server's message once."""
    causes = causes_of(learned_now)
    if not causes:
        return
    counts = any(one.waiting for one in causes)
    rows = [
        (
            one.root.operation.id,
            kind_of(one.root),
            *((str(one.opens) if one.waiting else "",) if counts else ()),
            f"{one.root.status or '-'}: {one.root.words}"[:90],
        )
        for one in causes[:SHOWN]
    ]
    headings = ("not reached", "class", *(("opens",) if counts else ()), "the server's message")
    out.table(headings, rows, styles=("name",), right=(2,) if counts else ())
    if len(causes) > SHOWN:
        out.line((f"and {len(causes) - SHOWN} more: --json lists all", "note"))
    first = next((one for one in causes if one.command(contract)), None)
    if first is not None:
        count = f"   opens {counted(first.opens, 'operation')}" if first.waiting else ""
        out.note((f"try first: {first.command(contract)}{count}", "note"))


def learned_data(learned_now: LearningResult) -> dict[str, Any]:
    """The same for `--json`."""
    return {
        "requests": learned_now.requests,
        "interrupted": learned_now.interrupted,
        "state": learned_now.state.to_json(),
        "runs": learned_now.runs,
        "worked": [
            progress.operation.id for progress in learned_now.progresses if progress.outcome == WORKED
        ],
        "notReached": [
            {
                "operation": progress.operation.id,
                "class": kind_of(progress),
                "status": progress.status,
                "words": progress.words,
                "attempts": progress.attempts,
                "waitsFor": progress.blocked_by,
            }
            for progress in learned_now.progresses
            if progress.outcome != WORKED
        ],
    }
