"""One operation that is learned, and how it went so far."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from juxtalogos.model.contract import Operation
from juxtalogos.model.exchange import Request
from juxtalogos.model.outcome import Outcome
from juxtalogos.workspace.known import Hints

ATTEMPTS = 12
"""Ways that one operation is tried in."""
FURTHER, MOST_STEPS = 4, 4
"""Attempts more for each refusal that was met, and for how many."""
SAME_WORDS = 5
"""How often a refusal may say the same of other values of the same inputs."""
MOST_ALIKE = 3
"""How often a request that was refused is sent again because its values come from elsewhere."""
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
    steps: int = 0
    """How often a refusal was met, so that the next one was about something else."""
    blocked_by: str = ""
    """The operation that it needs, and that did not succeed."""
    named: set[str] = field(default_factory=set)
    """The inputs that the latest refusal named."""
    sent: dict[str, int] = field(default_factory=dict)
    """How often a request of exactly this form was refused."""
    repeats: bool = False
    """Whether the latest refusal says what an earlier one said: the attempt has led no further."""
    heard: dict[str, int] = field(default_factory=dict)
    """By its words without the values that were sent, how often it was refused."""
    silent: set[tuple[str, str]] = field(default_factory=set)
    """(operation, place) that gave no value for it; an empty place for a list that shows no items."""
    stands_on: frozenset[str] = frozenset()
    """Operations of earlier rounds whose values the latest attempt used."""
    refused_on: frozenset[str] = frozenset()
    """The same for an attempt that was refused and made again with everything anew."""
    anew: bool = False
    """Whether the next attempt makes all that it needs."""
    stuck: bool = False
    """Whether what it needs was not reached, and other sources were thought of."""

    def note_named(self, named: set[str]) -> None:
        """Where a refusal names other inputs than the one before, what that one wanted is met: its other ways
        are no use, and there is room for more attempts.
        """
        if named and self.named and named.isdisjoint(self.named):
            self.waiting = []
            self.steps += 1
        self.named = named or self.named

    def note_sent(self, request: Request) -> None:
        """The same request refused again tells nothing: after that only other values are tried."""
        key = f"{request.method} {request.url} {hashlib.sha256(request.body or b'').hexdigest()}"
        self.sent[key] = self.sent.get(key, 0) + 1
        if self.sent[key] >= MOST_ALIKE:
            self.waiting = [one for one in self.waiting if one.known != self.now.known]

    def note_words(self, sent: Iterable[Any]) -> None:
        """The same words to one value after another: further values for the same inputs are not tried."""
        text = self.words
        for value in sorted({str(one) for one in sent}, key=len, reverse=True):
            text = re.sub(rf"(?<!\w){re.escape(value)}(?!\w)", "…", text) if value else text
        self.heard[text] = self.heard.get(text, 0) + 1
        self.repeats = bool(text) and self.heard[text] > 1
        if text and self.heard[text] >= SAME_WORDS:
            self.waiting = [one for one in self.waiting if not _but_for_values(one, self.now)]

    def fresh(self, ways: Iterable[Hints]) -> list[Hints]:
        """Those ways that were not tried, each once, without what takes a value from what gave none."""
        found: list[Hints] = []
        seen = {one.means_the_same for one in self.tried}
        for way in ways:
            silent = any(
                not self.silent.isdisjoint(((rule.source, ""), (rule.source, rule.value)))
                for rule in way.dependencies
            )
            if not silent and way.means_the_same not in seen:
                seen.add(way.means_the_same)
                found.append(way)
        return found[:ATTEMPTS]

    @property
    def open(self) -> bool:
        """Whether anything more is tried of it."""
        if self.outcome == REFUSED and self.attempts and not self.waiting:
            return False
        most = ATTEMPTS + (0 if self.full else FURTHER * min(self.steps, MOST_STEPS))
        return self.outcome not in (WORKED, WANTS) and self.attempts < most


def _but_for_values(one: Hints, other: Hints) -> bool:
    """Whether two ways differ in nothing but the values that they know for the same inputs."""
    kept = (one.dependencies, one.left_out, one.sent) == (other.dependencies, other.left_out, other.sent)
    return kept and {entry.at for entry in one.known} == {entry.at for entry in other.known}
