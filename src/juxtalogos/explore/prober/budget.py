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
    """Of all contracts together; what is counted by operation is counted for each contract by itself."""

    requests: int = 20_000
    each: int = 500
    """Requests to one operation."""
    seconds: float = 600.0
    failures: int = 0
    """Results that did not hold, remarks and refusals not counted; 0 for any number."""
    patience: int = 25
    """Requests in a row that no answer came to, of one contract."""
    patience_each: int = 5
    """The same for one operation: what answers nothing, or too late, ends itself and not the rest."""
    weights: dict[tuple[str, str], float] = field(default_factory=dict)
    """By contract and operation, by how much more or less of `each` it may have."""
    started: float = field(default_factory=time.monotonic)
    used: int = 0
    failed: int = 0
    contract: str = ""
    begun_at: int = 0
    """How many requests had been used when the contract began."""
    by_operation: Counter[str] = field(default_factory=Counter)
    unanswered: int = 0
    silent: Counter[str] = field(default_factory=Counter)
    """By operation, how many in a row got no response."""

    def begin(self, contract: str) -> None:
        """Another contract: what its operations may have is not spent, and what another's service owes is not
        its own.
        """
        self.contract, self.begun_at, self.unanswered = contract, self.used, 0
        self.by_operation.clear()
        self.silent.clear()

    @property
    def mine(self) -> int:
        """Requests of the contract."""
        return self.used - self.begun_at

    def take(self, operation: str, *, needed: bool = False) -> None:
        """One request is to be sent; Spent when none may. What is `needed` (to clean up) is counted, and may
        always be sent.
        """
        if not needed:
            self._may(operation)
        self.used += 1
        self.by_operation[operation] += 1

    def _may(self, operation: str) -> None:
        if self.unanswered >= self.patience:
            raise Spent(f"{self.patience} requests in a row got no response", all_of_it=True)
        if self.used >= self.requests:
            raise Spent(f"the {self.requests} requests are used up", all_of_it=True)
        if time.monotonic() - self.started >= self.seconds:
            raise Spent(f"the {self.seconds:g} seconds are over", all_of_it=True)
        if self.silent[operation] >= self.patience_each:
            raise Spent(
                f"{self.patience_each} requests in a row to {operation} got no response",
                all_of_it=False,
                operation=operation,
            )
        most = self.each * self.weights.get((self.contract, operation), 1.0)
        if self.by_operation[operation] >= most:
            raise Spent(
                f"the {most:g} requests for {operation} are used up", all_of_it=False, operation=operation
            )

    def found(self, count: int) -> None:
        """So much more did not hold. Spent when that is enough."""
        self.failed += count
        if self.failures and self.failed >= self.failures:
            raise Spent(f"{self.failed} failures were found", all_of_it=True)

    def answered(self, operation: str, there: bool) -> None:
        """Notes whether an answer came."""
        self.unanswered = 0 if there else self.unanswered + 1
        self.silent[operation] = 0 if there else self.silent[operation] + 1
