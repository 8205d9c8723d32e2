"""What is different at a service after a command, for a person."""

from __future__ import annotations

from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.run.gate.truth import Change, ServiceState, StateVerdict

SHOWN = 5


def show_state(out: Terminal, state: ServiceState, clean: str) -> None:
    """Whether the service is as it was, each difference, and what was not sent. `clean`: the command that
    removes what is left.
    """
    verdict = state.verdict
    for text in state.broke:
        out.line(("the service has changed: ", "deviation"), text)
    if verdict is StateVerdict.AS_BEFORE:
        out.line(
            ("state as before", "held"),
            f"  {counted(state.looked, 'place')} read before and after",
        )
    elif verdict is StateVerdict.ONLY_READ:
        out.line(("state as before", "held"), "  nothing was sent that changes anything")
    elif verdict is StateVerdict.DIFFERENT:
        out.line(("state changed", "deviation"))
        for change in sorted(state.changes, key=lambda one: (one.ours, one.operation)):
            out.line(change.operation, "  ", (_told(change), "remark"), indent=2)
        if any(change.ours and change.what == "more" for change in state.changes):
            out.note((f"to remove what this run created: {clean}", "note"))
    if state.unread:
        out.line(
            ("state not known", "remark"),
            f"  nothing shows what these created or changed: {_few(state.unread)}",
        )
    by_reason: dict[str, list[str]] = {}
    for operation, why in state.withheld:
        by_reason.setdefault(_general(why), []).append(operation)
    for reason, operations in by_reason.items():
        out.line(("not sent: ", "remark"), _few(operations), f"  {reason}")


def _told(change: Change) -> str:
    if change.what == "changed":
        told = f"{_few(change.items)} changed"
    else:
        told = f"{len(change.items)} {change.what} ({_few(change.items)})"
    by = ", created by this run" if change.ours and change.what == "more" else ""
    return f"{told}{by}{': ' + change.why if change.why else ''}"


def _few(names: list[str] | tuple[str, ...]) -> str:
    more = f" and {len(names) - SHOWN} more" if len(names) > SHOWN else ""
    return ", ".join(names[:SHOWN]) + more


def _general(why: str) -> str:
    """A reason without the name of the single item, so that like is grouped with like."""
    for beginning in ("this run did not make", "it works on"):
        if why.startswith(beginning):
            return "it works on what this run did not make"
    return why
