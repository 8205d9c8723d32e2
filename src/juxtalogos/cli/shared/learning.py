"""`compose --learn`: the service is asked, what it showed is written down, and told."""

from __future__ import annotations

import re
from collections import Counter
from typing import Any

from juxtalogos.cli.shared.compose_arguments import ComposeArguments
from juxtalogos.cli.shared.options import header_field
from juxtalogos.cli.shared.state import show_state
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.ledger import open_ledger
from juxtalogos.model.contract import Contract
from juxtalogos.model.outcome import Outcome
from juxtalogos.run.engine.loop import run_loop
from juxtalogos.run.learning.progress import REFUSED, WANTS, WORKED, OperationProgress
from juxtalogos.run.learning.rounds import Learner, LearningResult
from juxtalogos.workspace.config import Target
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.known import Learned
from juxtalogos.workspace.workspace import Workspace

SHOWN = 20


def learn(
    args: ComposeArguments, home: Workspace, out: Terminal, contract: Contract, target: Target
) -> LearningResult:
    """Learns, and writes down what was learned."""
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
        except KeyboardInterrupt:  # between two rounds, or when it was about to look
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
        return "needs a credential or role"
    if progress.meaning is Outcome.CONFLICT or re.search(
        r"\b(state|status|already|not yet|must be (?:open|closed|active)|in progress|conflict)\b",
        progress.words,
        re.IGNORECASE,
    ):
        return "needs a state"
    if progress.meaning.failed:
        return "service fails"
    invalid = progress.outcome == REFUSED and progress.meaning is Outcome.INVALID
    return "needs a value" if invalid else "no working request found"


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
    rest = [progress for progress in learned_now.progresses if progress.outcome != WORKED]
    if rest:
        rows = [
            (entry.operation.id, kind_of(entry), f"{entry.status or '-'}: {entry.words}"[:90])
            for entry in rest[:SHOWN]
        ]
        out.table(("not reached", "class", "the server's message"), rows, styles=("name",))
        if len(rest) > SHOWN:
            out.line((f"and {len(rest) - SHOWN} more: --json lists all", "note"))
        first = next((entry for entry in rest if kind_of(entry) == "needs a value"), None)
        if first is not None:
            out.note(
                (
                    (
                        f"add a known value: [[contracts.{contract.name}.known]] operation = "
                        f'"{first.operation.id}", at = "ADDRESS", value = "…"'
                    ),
                    "note",
                )
            )
    show_state(out, learned_now.state, "juxtalogos clean --all")
    out.line()


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
            }
            for progress in learned_now.progresses
            if progress.outcome != WORKED
        ],
    }
