"""Conflicts: whether an operation is declared to be refused for the state of what it names, and whether it
was.
"""

from __future__ import annotations

from juxtalogos.explore.prober.prober import Trial
from juxtalogos.model.contract import Operation
from juxtalogos.model.outcome import Outcome, Wrong
from juxtalogos.model.wire import Wire


def declares_conflict(wire: Wire, operation: Operation) -> bool:
    """Whether an operation is declared to be refused for the state of what it names."""
    return any(wire.due(answer, Wrong.CONFLICT) for answer in operation.answers)


def is_conflict(seen: Trial) -> bool:
    """Whether a response says that the state of what was named does not allow it."""
    return seen.outcome is Outcome.CONFLICT
