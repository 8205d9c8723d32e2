"""Rounds of learning: each operation is called as compose would call it; what is refused is tried in the
other ways that make sense.

A round is a run of its own: recorded, and cleaned up. What is learned is where a value comes from, seldom the
value itself;
it is kept as hints (`workspace/known.py`), of which the same compose makes a suite.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field, replace
from typing import Any

from juxtalogos.compose.composer import Composed, ComposeScope, compose
from juxtalogos.compose.dependencies import LIMIT, Finder
from juxtalogos.compose.needs import Need, needs_of
from juxtalogos.compose.outlines import Rows
from juxtalogos.compose.resources import Resources
from juxtalogos.exchange.redact import MASK
from juxtalogos.formats import outcome_of, wire_of
from juxtalogos.ledger import ExchangeRecord, Ledger
from juxtalogos.model.contract import Contract, Intent, Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.verdict import Verdict
from juxtalogos.model.wire import Inputs
from juxtalogos.run.engine.stop import Stop, noticing
from juxtalogos.run.gate.gate import Gate
from juxtalogos.run.gate.state import ServiceState
from juxtalogos.run.judging.refusals import words_of
from juxtalogos.run.learning.progress import (
    PATIENCE,
    REFUSED,
    SKIPPED,
    WANTS,
    WORKED,
    OperationProgress,
)
from juxtalogos.run.learning.schedule import Schedule
from juxtalogos.run.learning.seen import SeenValues
from juxtalogos.run.learning.sending import LearningResult, RoundSender
from juxtalogos.run.learning.standing import StandingItems
from juxtalogos.run.learning.ways import Ways
from juxtalogos.suite.document.building import case_id, cases_in
from juxtalogos.suite.document.saving import source_url
from juxtalogos.suite.document.writer import slug
from juxtalogos.suite.inputs import values_of
from juxtalogos.workspace.config import Target
from juxtalogos.workspace.known import DependencyRule, Hints
from juxtalogos.workspace.workspace import Workspace

ROUNDS = 60
"""At most."""
_PERHAPS_GONE = (Outcome.ABSENT, Outcome.CONFLICT, Outcome.STALE, Outcome.FAILED)
"""What may come of an item that earlier rounds made, and that is not as it was."""


@dataclass(slots=True)
class Learner:
    """Learns one contract at one target. Each instance learns once."""

    home: Workspace
    ledger: Ledger
    contract: Contract
    target: Target
    written: Hints
    """What people wrote: it comes before all that is learned."""
    learned: Hints
    writing: bool = False
    destructive: bool = False
    budget: int = 2_000
    """Requests."""
    plan: dict[str, Any] = field(default_factory=dict)
    """Further parts of the plan of each round: credentials, pace."""
    told: Callable[[str], None] = lambda text: None
    seen: SeenValues = field(default_factory=SeenValues)
    learned_now: LearningResult = field(default_factory=lambda: LearningResult([]))
    resources: Resources = field(init=False)
    """Looked at once: the contract is the same in every round."""
    needs: dict[str, list[Need]] = field(init=False)
    """By the key of the resource of which they need an item."""
    ways: Ways = field(init=False)
    progresses: dict[str, OperationProgress] = field(default_factory=dict)
    schedule: Schedule = field(init=False)
    gate: Gate = field(default_factory=Gate)
    """One for all rounds: what one has made, another may use, and each removes what is left."""
    standing: StandingItems = field(init=False)
    sender: RoundSender = field(init=False)
    single: set[str] = field(default_factory=set)
    """Operations that create, and cannot again while what they created stands."""
    stop: Stop = field(default_factory=Stop)
    """For interrupts between two rounds; what is under way takes its own."""

    async def learn(self) -> LearningResult:
        """Rounds until nothing new is tried, or the budget is used up."""
        self.gate.inventory.target = self.target.reference
        if self.writing:
            self.plan["jobs"] = 1  # many services lose data, or answer wrongly, under several writers
        self.standing = StandingItems(self.contract)
        self.sender = RoundSender(self.home, self.ledger, self.contract, self.target, self.plan, self.gate)
        self.resources = Resources(self.contract, Rows(self.contract))
        self.needs = defaultdict(list)
        for need in (
            candidate
            for operation in self.contract.operations
            for candidate in needs_of(self.resources, operation)
        ):
            self.needs[need.resource].append(need)
        composed = self.composed(self.scope(self.written.and_then(self.learned), None))
        subjects = list(dict.fromkeys(subject.id for subject in composed.subjects))
        progresses = {
            name: OperationProgress(operation)
            for name in subjects
            if (operation := self.contract.operation(name)) is not None
        }
        self.learned_now = LearningResult(list(progresses.values()))
        self.progresses = progresses
        self.schedule = Schedule(self.ways, progresses)
        try:
            with noticing(self.stop):
                await self.rounds(progresses, full=False)
                again = {
                    name: OperationProgress(one.operation, full=True)
                    for name, one in progresses.items()
                    if one.outcome == WORKED and self.has_more(one.operation)
                }
                await self.rounds(again, full=True)
        except Exception:
            with suppress(Exception):  # what was kept for later rounds goes all the same
                await self.sender.leave(self.learned_now)
            raise
        self.learned_now.interrupted |= self.stop.asked
        self.learned_now.left_out = self.learned.left_out
        await self.sender.leave(self.learned_now)
        return self.learned_now

    def stopped(self) -> LearningResult:
        """What came of it where it was stopped before it could look at the service again."""
        result = self.learned_now
        unread = tuple(dict.fromkeys(creator.full_id for creator in self.gate.unread_creators()))
        result.state = ServiceState(
            unread=unread, changing=self.gate.changing, asked=self.gate.tally.requests
        )
        result.interrupted = True
        return result

    @property
    def ended(self) -> bool:
        """Whether no further round may begin."""
        return self.learned_now.interrupted or self.stop.asked or bool(self.gate.pulse.broken)

    async def rounds(self, progresses: dict[str, OperationProgress], *, full: bool) -> None:
        """Rounds until nothing is due any more."""
        for number in range(ROUNDS):
            chosen = self.schedule.next(progresses)
            if not chosen or self.learned_now.requests >= self.budget or self.ended:
                return
            many = f"{len(chosen)} operation{'' if len(chosen) == 1 else 's'}"
            self.told(
                f"round {number + 1}{' with optional inputs' if full else ''}: {many},"
                f" {self.learned_now.requests} requests so far"
            )
            before = self.learned.count
            await self.round(chosen, full=full)
            worked = sum(progress.outcome == WORKED for progress in progresses.values())
            if not number and not full and all(map(_nobody_there, chosen)):
                self.told("no request succeeded: check the base URL and the credentials")
                return
            for candidate in chosen:
                candidate.knowledge = before + worked if candidate.outcome == SKIPPED else -1
            self.schedule.knowledge = self.learned.count + worked

    async def round(self, chosen: list[OperationProgress], *, full: bool) -> None:
        """One run: a case for each of them, and what it said."""
        for one in chosen:
            one.now = one.waiting.pop(0) if one.waiting else Hints()
            one.tried.append(one.now)
        hints = self.written
        for one in chosen:
            hints = hints.and_then(one.now)
        hints = hints.and_then(self.learned)
        composed = self.composed(self.scope(hints, chosen, full=full))
        self.schedule.ways = self.ways
        self.gate.keeps |= self.full_ids(composed.kept)
        by_id = {candidate.operation.id: candidate for candidate in chosen}
        cases = {
            case_id(case): operation
            for case, operation in zip(cases_in(composed.document), composed.subjects)
        }
        own, in_the_way = [], set()
        for record in await self.sender.run(composed, hints, self.learned_now):
            self.note(record)
            operation = cases.get(record.case)
            if (
                operation is not None
                and record.operation == operation.id
                and record.step == slug(operation.id)
            ):
                own.append(record)
            elif self.is_in_the_way(record):
                in_the_way.add(record.operation)
        for record in own:  # what all have shown may serve each
            progress = by_id.pop(record.operation, None)
            if progress is not None:
                progress.stands_on = composed.stands_on.get(record.operation, frozenset())
                self.take(progress, record)
                self.keep(progress, record, made=record.operation in composed.kept)
        for progress in by_id.values():  # nothing could be sent
            progress.attempts, progress.outcome = progress.attempts + 1, SKIPPED
        if in_the_way:
            await self.clear(in_the_way, chosen)

    def full_ids(self, names: Iterable[str]) -> set[str]:
        """As the gate knows operations."""
        return {found.full_id for name in names if (found := self.contract.operation(name)) is not None}

    def is_in_the_way(self, record: ExchangeRecord) -> bool:
        """Whether an operation was refused that has created an item, and that item stands."""
        return (
            record.exchange is not None
            and record.operation in self.standing.scopes
            and self.full_ids([record.operation]) <= self.gate.keeps
            and outcome_of(self.contract, record.operation, record.exchange).refused
        )

    async def clear(self, names: set[str], chosen: list[OperationProgress]) -> None:
        """Where an operation succeeded once and is refused while its item stands, there is room for one: the
        item goes, none is kept again, and what needed another one has its turn anew.
        """
        self.single |= names
        self.standing.drop(frozenset(names))
        self.gate.keeps -= self.full_ids(names)
        await self.sender.remove_left(self.learned_now)
        for progress in chosen:
            if progress.outcome == SKIPPED and progress.blocked_by in names:
                progress.outcome = ""

    def scope(
        self, hints: Hints, chosen: list[OperationProgress] | None, *, full: bool = False
    ) -> ComposeScope:
        """What a round calls; without `chosen` all."""
        return ComposeScope(
            hints,
            self.destructive,
            not self.writing,
            None if chosen is None else frozenset(one.operation.id for one in chosen),
            only_bare=not full,
            only_full=full,
            standing=self.standing,
            keeping=frozenset(one.operation.id for one in chosen or () if self.may_keep(one)),
            anew=frozenset(one.operation.id for one in chosen or () if one.anew),
        )

    def may_keep(self, progress: OperationProgress) -> bool:
        """Whether what a case makes may serve later rounds: nothing of its kind stands yet."""
        return (
            progress.operation.intent is Intent.CREATE
            and not progress.full
            and progress.operation.id not in self.standing.scopes
            and progress.operation.id not in self.single
        )

    def keep(self, progress: OperationProgress, record: ExchangeRecord, *, made: bool) -> None:
        """Keeps a response for the rounds to come; what stood before, and does not help, is forgotten."""
        operation, worked = progress.operation, progress.outcome == WORKED
        if made and not worked:
            self.gate.keeps.discard(operation.full_id)
        if worked and progress.anew:
            self.standing.drop(progress.refused_on)
        if worked and record.exchange is not None and (made or (operation.safe and not progress.full)):
            self.standing.keep(operation, record.exchange, self.sent(record), progress.stands_on)

    def composed(self, scope: ComposeScope) -> Composed:
        """The cases of a round."""
        finder = Finder(
            self.contract, scope.hints.dependencies, resources=self.resources, only_reading=scope.only_reading
        )
        found = [item for item in finder.found() if item.sure >= LIMIT]
        linked: dict[str, set[str]] = {}
        for entry in found:
            linked.setdefault(entry.operation, set()).add(entry.input)
        self.ways = Ways(self.contract, finder, found, linked, self.seen, self.progresses, self.writing)
        return compose(
            self.contract,
            found,
            source_url(self.home.root, self.sender.path, self.contract),
            scope,
            finder.resources,
        )

    def note(self, record: ExchangeRecord) -> None:
        """Takes what an answer shows."""
        if record.exchange is not None:
            self.learned_now.requests += 1
            if outcome_of(self.contract, record.operation, record.exchange).succeeded:
                self.seen.note(record.operation, record.exchange)

    def take(self, progress: OperationProgress, record: ExchangeRecord) -> None:
        """What an attempt said: what worked is kept; a refusal puts what follows from it in front."""
        progress.attempts += 1
        progress.status = record.status
        if record.exchange is None or record.exchange.response is None:
            progress.outcome, progress.words = SKIPPED, record.reason
            progress.blocked_by = self.ways.blocking(progress.operation.id, record.reason)
            if record.reason.startswith(
                "no value for"
            ):  # what should have given it is there, and does not tell it so
                silent = set(self.ways.silent(progress.operation.id, record.reason))
                progress.silent |= silent
                ways = [
                    *self.ways.seen_sources(progress),
                    *self.ways.dropped(progress, {source for source, _ in silent}),
                    *self.ways.other_sources(progress, set()),
                    *progress.waiting,
                ]
                progress.waiting = progress.fresh(ways)
                progress.outcome = REFUSED if progress.waiting else SKIPPED
                return
            if not progress.now.dependencies:
                progress.attempts -= 1  # it was not its own turn
                progress.waiting = (
                    [progress.now, *progress.waiting] if progress.now != Hints() else progress.waiting
                )
            return  # else what was thought to give it does not: the next way
        progress.words, progress.blocked_by = words_of(record.exchange), ""
        progress.meaning = outcome_of(self.contract, progress.operation, record.exchange)
        if progress.meaning is Outcome.BUSY and progress.busy < PATIENCE:
            progress.busy, progress.attempts, progress.outcome = (
                progress.busy + 1,
                progress.attempts - 1,
                REFUSED,
            )
            progress.waiting = [progress.now, *progress.waiting]
            self.plan["jobs"] = 1  # it does not take so much at once
            return
        if progress.meaning.succeeded and record.verdict is not Verdict.ERROR:
            self.worked(progress)
        elif progress.meaning.about_caller:
            progress.outcome = WANTS
        elif progress.meaning in _PERHAPS_GONE and progress.stands_on and not progress.refused_on:
            progress.refused_on, progress.anew = progress.stands_on, True
            progress.attempts, progress.outcome = progress.attempts - 1, REFUSED
            progress.waiting = [progress.now, *progress.waiting]  # the same, with all that it needs made anew
        else:
            progress.outcome, progress.anew = REFUSED, False
            sent = self.sent(record)
            progress.note_sent(record.exchange.request)
            progress.note_words(value for _, value in values_of(sent))
            further = (one for one in self.ways.followers(progress, record, sent) if not _hides(one))
            progress.waiting = progress.fresh([*further, *progress.waiting])

    def worked(self, progress: OperationProgress) -> None:
        """Keeps what was tried; where an id was found in another place, all that needs one takes it from
        there.
        """
        progress.outcome = WORKED
        if progress.now == Hints():
            return
        alike = [
            other for rule in progress.now.dependencies for other in self.alike(progress.operation, rule)
        ]
        rules = tuple(dict.fromkeys((*progress.now.dependencies, *alike)))
        self.learned = replace(progress.now, dependencies=rules).and_then(self.learned)

    def alike(self, operation: Operation, rule: DependencyRule) -> Iterator[DependencyRule]:
        """Where a rule says how items of a resource are told apart: the same for all else that needs one,
        save what people wrote.
        """
        need, source = self.ways.need(operation, rule.input), self.contract.operation(rule.source)
        found = self.resources.by_key.get(need.resource) if need is not None and need.resource else None
        if source is None or found is None or self.resources.of(source) is not found:
            return
        if source.intent is Intent.ACT and source.id in found.items:
            return  # what was done to one item says nothing of how items are told apart
        written = {(dependency.operation, dependency.input) for dependency in self.written.dependencies}
        for other in self.needs[found.key]:
            if (
                other.operation.id != source.id
                and (other.operation.id, other.address) not in written
                and self.ways.may_take(other.operation, source.id)
            ):
                yield DependencyRule(other.operation.id, other.address, source.id, rule.value, learned=True)

    def sent(self, record: ExchangeRecord) -> Inputs:
        """The inputs that were sent; empty where they cannot be read back."""
        assert record.exchange is not None
        operation = self.contract.operation(record.operation)
        assert operation is not None
        try:
            return wire_of(self.contract).inputs_of(
                operation, record.exchange.request, self.target.base_url(self.contract)
            )
        except (JuxtalogosError, ValueError, LookupError):
            return Inputs({})

    def has_more(self, operation: Operation) -> bool:
        """Whether there is anything optional to send."""
        return any(not declared_input.required for declared_input in operation.inputs) or any(
            row.path and not row.required for row in self.ways.finder.rows.sent(operation)
        )


def _nobody_there(progress: OperationProgress) -> bool:
    """Whether an attempt shows that the address or the credential is wrong, whatever is sent."""
    return progress.outcome in (WANTS, SKIPPED) or progress.meaning is Outcome.ABSENT


def _hides(hints: Hints) -> bool:
    """Whether a value in them was a secret and is not known any more."""
    return any(MASK in str(entry.value) for entry in hints.known)
