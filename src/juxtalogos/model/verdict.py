"""Verdicts of a step, a case and a run (design: verdicts and exit status)."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum


class Verdict(StrEnum):
    """Worst first, the order in which a case takes its verdict from its steps."""

    ERROR = "error"
    FAILED = "failed"
    UNPROVEN = "unproven"
    SKIPPED = "skipped"
    PASSED = "passed"


_ORDER = list(Verdict)


def worst(verdicts: Iterable[Verdict]) -> Verdict:
    """The worst of some verdicts; `skipped` when there are none."""
    found = set(verdicts)
    return next((verdict for verdict in _ORDER if verdict in found), Verdict.SKIPPED)
