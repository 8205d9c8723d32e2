"""What is different at a service after a run, in lines for a person: worst first, like grouped with like."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from juxtalogos.run.gate.state import Change, ServiceState, StateVerdict

SHOWN = 5


@dataclass(frozen=True, slots=True)
class StateLine:
    """One line: what it is about, what is told of it, and how much it weighs."""

    label: str
    text: str
    style: str
    """`deviation`, `remark`, `held` or `note`."""
    detail: bool = False
    """Whether it belongs to the line before."""


def state_lines(state: ServiceState) -> Iterator[StateLine]:
    """Whether the service is as it was, each difference, and what was not sent."""
    for text in state.broke:
        yield StateLine("the service has changed:", text, "deviation")
    verdict = state.verdict
    if verdict is StateVerdict.AS_BEFORE:
        places = f"{state.looked} place{'s' if state.looked != 1 else ''}"
        yield StateLine("state as before", f" {places} read before and after", "held")
    elif verdict is StateVerdict.ONLY_READ:
        yield StateLine("state as before", " nothing was sent that changes anything", "held")
    elif verdict is StateVerdict.DIFFERENT:
        yield StateLine("state changed", "", "deviation")
        for change in sorted(_differing(state), key=lambda one: (one.ours, one.operation)):
            yield StateLine(change.operation, f" {_told(change)}", "remark", detail=True)
    for change in state.changes:
        if change.by_service:
            told = f" {len(change.items)} more entries, which only the service adds ({_few(change.items)})"
            yield StateLine(change.operation, told, "note", detail=True)
    if state.unread:
        told = f" nothing shows what these created or changed: {_few(state.unread)}"
        yield StateLine("state not known", told, "remark")
    by_reason: dict[str, list[str]] = {}
    for operation, why in state.withheld:
        by_reason.setdefault(_general(why), []).append(operation)
    for reason, operations in by_reason.items():
        yield StateLine("not sent:", f"{_few(operations)}  {reason}", "remark")


def _differing(state: ServiceState) -> list[Change]:
    return [change for change in state.changes if not change.by_service]


def left_over(state: ServiceState) -> bool:
    """Whether anything is there that the run made, and that a clean-up may remove."""
    return any(change.ours and change.what == "more" for change in state.changes)


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
