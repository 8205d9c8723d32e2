"""What an exploration may spend: everything is counted."""

from __future__ import annotations

import time
from collections import Counter
from dataclasses import dataclass, field


class Spent(Exception):
    """There is nothing left to spend: for one operation, or for all."""

    def __init__(self, why: str, *, all_of_it: bool, operation: str = "") -> None:
        super().__init__(why)
        self.why, self.all_of_it, self.operation = why, all_of_it, operation


@dataclass(slots=True)
class Budget:
    requests: int = 20_000
    each: int = 500
    """Requests to one operation."""
    seconds: float = 600.0
    failures: int = 0
    """Results that did not hold, remarks and refusals not counted; 0 for any number."""
    patience: int = 25
    """Requests in a row that no answer came to."""
    patience_each: int = 5
    """The same for one operation: what answers nothing, or too late, ends itself and not the rest."""
    weights: dict[str, float] = field(default_factory=dict)
    """By operation, by how much more or less of `each` it may have."""
    started: float = field(default_factory=time.monotonic)
    used: int = 0
    by_operation: Counter[str] = field(default_factory=Counter)
    unanswered: int = 0
    silent: Counter[str] = field(default_factory=Counter)
    """By operation, how many in a row were not answered."""
    failed: int = 0

    def take(self, operation: str, *, needed: bool = False) -> None:
        """One request is to be sent; Spent when none may. What is `needed` (to clean up) is counted, and may always be sent."""
        if not needed:
            if self.unanswered >= self.patience:
                raise Spent(f"{self.patience} requests in a row were not answered", all_of_it=True)
            if self.used >= self.requests:
                raise Spent(f"the {self.requests} requests are used up", all_of_it=True)
            if time.monotonic() - self.started >= self.seconds:
                raise Spent(f"the {self.seconds:g} seconds are over", all_of_it=True)
            if self.silent[operation] >= self.patience_each:
                raise Spent(f"{self.patience_each} requests in a row to {operation} were not answered", all_of_it=False, operation=operation)  # fmt: skip
            most = self.each * self.weights.get(operation, 1.0)
            if self.by_operation[operation] >= most:
                raise Spent(f"the {most:g} requests for {operation} are used up", all_of_it=False, operation=operation)
        self.used += 1
        self.by_operation[operation] += 1

    def found(self, count: int) -> None:
        """So much more did not hold. Spent when that is enough."""
        self.failed += count
        if self.failures and self.failed >= self.failures:
            raise Spent(f"{self.failed} failures were found", all_of_it=True)

    def answered(self, operation: str, there: bool) -> None:
        """Notes whether an answer came."""
        self.unanswered = 0 if there else self.unanswered + 1
        self.silent[operation] = 0 if there else self.silent[operation] + 1
