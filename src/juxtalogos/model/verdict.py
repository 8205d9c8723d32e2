"""Verdicts of a step, a case and a run (design: verdicts and exit status)."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum


class Verdict(StrEnum):
    """Worst first, the order in which a case takes its verdict from its steps."""

    ERROR = "error"
    FAILED = "failed"
    REFUSED = "refused"
    """A request of which we made up a part met a refusal that is declared: no deviation."""
    UNPROVEN = "unproven"
    SKIPPED = "skipped"
    PASSED = "passed"

    @property
    def fails(self) -> bool:
        """Whether something did not hold, or there was no response."""
        return self in (Verdict.FAILED, Verdict.ERROR)


_ORDER = list(Verdict)


def worst(verdicts: Iterable[Verdict]) -> Verdict:
    """The worst of some verdicts; `skipped` when there are none."""
    found = set(verdicts)
    return next((verdict for verdict in _ORDER if verdict in found), Verdict.SKIPPED)
