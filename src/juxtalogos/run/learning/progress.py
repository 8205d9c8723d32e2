"""One operation that is learned, and how it went so far."""

from __future__ import annotations

from dataclasses import dataclass, field

from juxtalogos.model.contract import Operation
from juxtalogos.model.outcome import Outcome
from juxtalogos.workspace.known import Hints

ATTEMPTS = 12
"""Ways that one operation is tried in."""
PATIENCE = 3
"""How often the same request is tried again while the service is busy."""
WORKED, REFUSED, WANTS, SKIPPED = "worked", "refused", "wants", "skipped"


@dataclass(slots=True)
class OperationProgress:
    """One operation, and how it went so far."""

    operation: Operation
    full: bool = False
    """Whether it is tried with everything that there is a source for."""
    tried: list[Hints] = field(default_factory=list)
    waiting: list[Hints] = field(default_factory=list)
    now: Hints = field(default_factory=Hints)
    """What is tried in this round."""
    attempts: int = 0
    outcome: str = ""
    status: int = 0
    meaning: Outcome = Outcome.UNKNOWN
    """What its latest response means."""
    words: str = ""
    knowledge: int = -1
    """How much was known when it was tried last."""
    busy: int = 0
    """How often the service was busy."""
    stuck: bool = False
    """Whether what it needs was not reached, and other sources were thought of."""

    @property
    def open(self) -> bool:
        return self.outcome not in (WORKED, WANTS) and self.attempts < ATTEMPTS
