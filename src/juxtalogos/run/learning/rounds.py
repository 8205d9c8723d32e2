"""Rounds of learning: each operation is called as compose would call it; what is refused is tried in the
other ways that make sense.

A round is a run of its own: recorded, and cleaned up. What is learned is where a value comes from, seldom the
value itself;
it is kept as hints (`workspace/known.py`), of which the same compose makes a suite.
"""

from __future__ import annotations

import secrets
import time
from collections import defaultdict
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from typing import Any

from juxtalogos.compose.composer import Composed, ComposeScope, compose
from juxtalogos.compose.dependencies import LIMIT, Finder
from juxtalogos.compose.needs import Need, needs_of
from juxtalogos.compose.outlines import Rows
from juxtalogos.compose.resources import Resources
from juxtalogos.documents.jsontext import dump_json
from juxtalogos.exchange.redact import MASK
from juxtalogos.exchange.transport import Transport
from juxtalogos.formats import outcome_of, wire_of
from juxtalogos.ledger import ExchangeQuery, ExchangeRecord, Ledger
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.verdict import Verdict
from juxtalogos.model.wire import Inputs
from juxtalogos.run.engine.binding import bind, digest_of
from juxtalogos.run.engine.execute import execute
from juxtalogos.run.engine.plan import CaseRef, RunPlan
from juxtalogos.run.gate.gate import Gate
from juxtalogos.run.gate.state import ServiceState
from juxtalogos.run.gate.truth import compare
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
from juxtalogos.run.learning.ways import Ways
from juxtalogos.run.target.session import Session, known_values
from juxtalogos.suite.document.building import case_id, cases_in
from juxtalogos.suite.document.reader import read_suites
from juxtalogos.suite.document.saving import source_url
from juxtalogos.suite.document.writer import slug, to_yaml
from juxtalogos.workspace.config import Target
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.known import DependencyRule, Hints, LeftOut
from juxtalogos.workspace.workspace import Workspace

ROUNDS = 60
"""At most."""


@dataclass(slots=True)
class LearningResult:
    """What came of it."""

    progresses: list[OperationProgress]
    left_out: tuple[LeftOut, ...] = ()
    """Optional inputs that were refused."""
    requests: int = 0
    runs: list[int] = field(default_factory=list)
    interrupted: bool = False
    state: ServiceState = field(default_factory=ServiceState)
    """What is different at the service from before, as far as somebody looked."""


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
    token: str = field(default_factory=lambda: secrets.token_hex(4))
    gate: Gate = field(default_factory=Gate)
    """One for all rounds: what one has made, another may use, and each removes what is left."""
    session: Session | None = None

    async def learn(self) -> LearningResult:
        """Rounds until nothing new is tried, or the budget is used up."""
        self.gate.inventory.target = self.target.reference
        if self.writing:
            self.plan["jobs"] = 1  # many services lose data, or answer wrongly, under several writers
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
        await self.rounds(progresses, full=False)
        again = {
            name: OperationProgress(one.operation, full=True)
            for name, one in progresses.items()
            if one.outcome == WORKED and self.has_more(one.operation)
        }
        await self.rounds(again, full=True)
        self.learned_now.left_out = self.learned.left_out
        if self.session is not None:
            async with Transport(self.session.options) as transport:
                self.learned_now.state = await compare(self.gate, self.session, transport)
            self.ledger.note_state(self.learned_now.runs[-1], dump_json(self.learned_now.state.to_json()))
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
        return self.learned_now.interrupted or bool(self.gate.pulse.broken)

    async def rounds(self, progresses: dict[str, OperationProgress], *, full: bool) -> None:
        """Rounds until nothing is due any more."""
        for number in range(ROUNDS):
            chosen = self.schedule.next(progresses)
            if not chosen or self.learned_now.requests >= self.budget or self.ended:
                return
            self.told(
                f"round {number + 1}{' with optional inputs' if full else ''}: {len(chosen)} operations,"
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
        composed = self.composed(
            self.scope(hints, frozenset(candidate.operation.id for candidate in chosen), full=full)
        )
        self.schedule.ways = self.ways
        by_id = {candidate.operation.id: candidate for candidate in chosen}
        cases = {
            case_id(case): operation
            for case, operation in zip(cases_in(composed.document), composed.subjects)
        }
        own = []
        for record in await self.run(composed, hints):
            self.note(record)
            operation = cases.get(record.case)
            if (
                operation is not None
                and record.operation == operation.id
                and record.step == slug(operation.id)
            ):
                own.append(record)
        for record in own:  # what all have shown may serve each
            progress = by_id.pop(record.operation, None)
            if progress is not None:
                self.take(progress, record)
        for progress in by_id.values():  # nothing could be sent
            progress.attempts, progress.outcome = progress.attempts + 1, SKIPPED

    def scope(self, hints: Hints, operations: frozenset[str] | None, *, full: bool = False) -> ComposeScope:
        return ComposeScope(
            hints, self.destructive, not self.writing, operations, only_bare=not full, only_full=full
        )

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
            source_url(self.home.root, self.path, self.contract),
            scope,
            finder.resources,
        )

    @property
    def path(self) -> Any:
        return self.home.state / "learning.arazzo.yaml"

    async def run(self, composed: Composed, hints: Hints) -> Iterator[ExchangeRecord]:
        """Runs the cases; gives what was kept of each step, one by one: answers may be large."""
        if not composed.cases:
            return iter(())
        write_whole(self.path, to_yaml(composed.document).encode(), private=True)
        read = read_suites(self.home, [self.path])
        suite = read[0][0]
        refs = tuple(CaseRef(suite.name, case.id) for case in suite.cases)
        digest = ((self.contract.name, digest_of(self.contract)),)
        token = f"{self.token}{len(self.learned_now.runs)}"
        plan = RunPlan(refs, self.target.reference, digest, started=time.time(), token=token, **self.plan)
        bound = bind(self.home, plan, given=read)
        known = known_values(self.home.config, self.target, [self.contract.name], self.home.root)
        known |= {entry.name: entry.given for entry in reversed(hints.known)}
        if self.session is not None:  # who is signed in stays so
            bound.session.signer.take_over(self.session.signer)
        bound = replace(bound, session=replace(bound.session, known=known))
        ended = await execute(
            bound,
            self.home.root,
            self.ledger,
            f"learn {self.contract.name}",
            lambda record: None,
            kind="learn",
            gate=self.gate,
            look=False,
        )
        self.session = bound.session
        self.learned_now.runs.append(ended.number)
        if ended.interrupted:
            self.learned_now.interrupted = True
        return self.ledger.exchanges(ExchangeQuery(run=ended.number))

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
        else:
            progress.outcome = REFUSED
            sent = self.sent(record)
            progress.note_sent(record.exchange.request)
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
