"""The state of a service after a command, compared with before: plain data."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum
from typing import Any


class StateVerdict(StrEnum):
    """What is known of the state of a service after a command."""

    AS_BEFORE = "as before"
    DIFFERENT = "different"
    NOT_KNOWN = "not known"
    ONLY_READ = "only read"
    """Nothing was sent that changes anything."""


@dataclass(frozen=True, slots=True)
class Change:
    """One place that is not as it was."""

    operation: str
    """What shows it."""
    what: str
    """`more`, `gone` or `changed`."""
    items: tuple[str, ...]
    ours: bool
    """Whether this run made it, as far as that is known."""
    why: str = ""
    """Why it is still there, where it is ours."""
    by_service: bool = False
    """Whether it is an entry of a list to which only the service itself adds."""


@dataclass(frozen=True, slots=True)
class ServiceState:
    """The state of a service, compared with before."""

    looked: int = 0
    """Lists and single things that were read before and after."""
    changes: tuple[Change, ...] = ()
    unread: tuple[str, ...] = ()
    """Operations that changed something where nothing could be read."""
    changing: int = 0
    """Requests that may have changed something."""
    withheld: tuple[tuple[str, str], ...] = ()
    """(operation, why a request of it was not sent)."""
    asked: int = 0
    """Requests that were sent only to look."""
    broke: tuple[str, ...] = ()
    """What made the service answer otherwise than before, and what became of it."""

    @property
    def verdict(self) -> StateVerdict:
        """The state in a word: what differs outweighs what is not known. What the service itself keeps of
        what happened (`by_service`) is no difference of its state, and is told beside it.
        """
        if any(not change.by_service for change in self.changes):
            return StateVerdict.DIFFERENT
        if self.unread:
            return StateVerdict.NOT_KNOWN
        if not self.changing:
            return StateVerdict.ONLY_READ
        return StateVerdict.AS_BEFORE if self.looked else StateVerdict.NOT_KNOWN

    @classmethod
    def of_json(cls, told: dict[str, Any]) -> ServiceState:
        """Of what `to_json` gave."""
        changes = (
            Change(
                one["operation"],
                one["what"],
                tuple(one["items"]),
                one["ours"],
                one["why"],
                one.get("byService", False),
            )
            for one in told["changes"]
        )
        withheld = tuple((one["operation"], one["why"]) for one in told["withheld"])
        broke = tuple(told.get("broke", ()))
        return cls(
            told["looked"],
            tuple(changes),
            tuple(told["unread"]),
            0 if told["verdict"] == StateVerdict.ONLY_READ else 1,
            withheld,
            told["requests"],
            broke,
        )

    def to_json(self) -> dict[str, Any]:
        return {
            "verdict": str(self.verdict),
            "looked": self.looked,
            "requests": self.asked,
            "changes": [
                {
                    "operation": one.operation,
                    "what": one.what,
                    "items": list(one.items),
                    "ours": one.ours,
                    "why": one.why,
                    "byService": one.by_service,
                }
                for one in self.changes
            ],
            "unread": list(self.unread),
            "broke": list(self.broke),
            "withheld": [{"operation": operation, "why": why} for operation, why in self.withheld],
        }


def merged(states: Iterator[ServiceState]) -> ServiceState:
    """Several states as one: of processes that worked side by side."""
    found = list(states)
    return ServiceState(
        sum(one.looked for one in found),
        tuple(change for one in found for change in one.changes),
        tuple(dict.fromkeys(text for one in found for text in one.unread)),
        sum(one.changing for one in found),
        tuple(dict.fromkeys(pair for one in found for pair in one.withheld)),
        sum(one.asked for one in found),
        tuple(dict.fromkeys(text for one in found for text in one.broke)),
    )
