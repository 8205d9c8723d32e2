"""Rounds of learning: each operation is called as compose would call it; what is refused is tried in the other ways that make sense.

A round is a run of its own: recorded, and cleaned up. What is learned is where a value comes from, seldom the value itself;
it is kept as hints (`workspace/known.py`), of which the same compose makes a suite.
"""

from __future__ import annotations

import itertools
import secrets
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from typing import Any

from juxtalogos.compose.composer import Composed, ComposeScope, compose
from juxtalogos.compose.dependencies import LIMIT, Finder, Need, field_rank
from juxtalogos.compose.drafting import has_place
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.formats import wire_of
from juxtalogos.ledger import ExchangeQuery, ExchangeRecord, Ledger
from juxtalogos.model.contract import Contract, Intent, Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.location import follow_pointer
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.run.binding import bind, digest_of
from juxtalogos.run.execute import execute
from juxtalogos.run.learning.reading import Named, named_inputs, values_of, wanted_values
from juxtalogos.run.learning.seen import SeenValues
from juxtalogos.run.plan import CaseRef, RunPlan
from juxtalogos.run.refusals import SIGN_IN, words_of
from juxtalogos.run.session import known_values
from juxtalogos.suite.document.reader import read_suites
from juxtalogos.suite.document.saving import source_url
from juxtalogos.suite.document.writer import slug, to_yaml
from juxtalogos.workspace.config import Target
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.known import DependencyRule, Hints, KnownValue, LeftOut
from juxtalogos.workspace.workspace import Workspace

ATTEMPTS, ROUNDS = 12, 16
"""Ways that one operation is tried in, and rounds at most."""
BUSY, PATIENCE = (502, 503, 504), 3
"""Statuses of a service that is busy, and how often the same is tried again then."""
WORKED, REFUSED, WANTS, SKIPPED = "worked", "refused", "wants", "skipped"


@dataclass(slots=True)
class Pupil:
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


@dataclass(slots=True)
class Lessons:
    """What came of it."""

    hints: Hints
    pupils: list[Pupil]
    withheld: list[tuple[str, str]]
    left_out: list[tuple[str, str]]
    requests: int = 0
    runs: list[int] = field(default_factory=list)


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
    lessons: Lessons = field(init=False)
    token: str = field(default_factory=lambda: secrets.token_hex(4))

    @property
    def hints(self) -> Hints:
        return self.written.and_then(self.learned)

    async def learn(self) -> Lessons:
        """Rounds until nothing new is tried, or the budget is used up."""
        scope = self.scope(self.hints, None)
        composed = self.composed(scope)
        subjects = list(dict.fromkeys(one.id for one in composed.subjects))
        pupils = {
            name: Pupil(operation) for name in subjects if (operation := self.contract.operation(name)) is not None
        }
        self.lessons = Lessons(Hints(), list(pupils.values()), composed.withheld, composed.left_out)
        self.pupils = pupils
        await self.rounds(pupils, full=False)
        again = {
            name: Pupil(one.operation, full=True)
            for name, one in pupils.items()
            if one.outcome == WORKED and self.has_more(one.operation)
        }
        await self.rounds(again, full=True)
        self.lessons.hints = self.learned
        return self.lessons

    async def rounds(self, pupils: dict[str, Pupil], *, full: bool) -> None:
        """Rounds until nothing is due any more."""
        for number in range(ROUNDS):
            chosen = [one for one in pupils.values() if self.is_due(one)]
            if not chosen or self.lessons.requests >= self.budget:
                return
            self.told(f"round {number + 1}{' with optional inputs' if full else ''}: {len(chosen)} operations, {self.lessons.requests} requests so far")  # fmt: skip
            before = len(self.learned.known) + len(self.learned.dependencies) + len(self.learned.left_out)
            await self.round(chosen, full=full)
            worked = sum(one.outcome == WORKED for one in pupils.values())
            if not number and not full and not worked:
                self.told("nothing was answered with success: is the base URL right, and is a credential wanted?")
                return
            for one in chosen:
                one.knowledge = before + worked if one.outcome == SKIPPED else -1
            self.known_now = (
                len(self.learned.known) + len(self.learned.dependencies) + len(self.learned.left_out) + worked
            )

    known_now: int = 0
    pupils: dict[str, Pupil] = field(default_factory=dict)

    def is_due(self, pupil: Pupil) -> bool:
        """Whether it is to be tried: at first, in another way, or again where what it needed is there now."""
        if not pupil.open:
            return False
        if pupil.outcome == SKIPPED and not pupil.waiting:
            if pupil.knowledge < self.known_now:
                return True
            if pupil.stuck or any(one.open and one.outcome != SKIPPED for one in self.pupils.values()):
                return False  # what it needs may yet be found
            pupil.stuck = True  # what should give it was not reached: perhaps something else does
            pupil.waiting = [one for one in self.other_sources(pupil, set()) if one not in pupil.tried]
            return bool(pupil.waiting)
        return not pupil.attempts or bool(pupil.waiting)

    async def round(self, chosen: list[Pupil], *, full: bool) -> None:
        """One run: a case for each of them, and what it said."""
        for one in chosen:
            one.now = one.waiting.pop(0) if one.waiting else Hints()
            one.tried.append(one.now)
        hints = self.written
        for one in chosen:
            hints = hints.and_then(one.now)
        hints = hints.and_then(self.learned)
        composed = self.composed(self.scope(hints, frozenset(one.operation.id for one in chosen), full=full))
        records = await self.run(composed, hints)
        by_id = {one.operation.id: one for one in chosen}
        cases = {case["workflowId"]: operation for case, operation in zip(composed.document["workflows"], composed.subjects)}  # fmt: skip
        for record in records:
            self.note(record)
        for record in records:
            operation = cases.get(record.case)
            if operation is None or record.operation != operation.id or record.step != slug(operation.id):
                continue
            pupil = by_id.pop(operation.id, None)
            if pupil is not None:
                self.take(pupil, record)
        for pupil in by_id.values():  # nothing could be sent
            pupil.attempts, pupil.outcome = pupil.attempts + 1, SKIPPED

    def scope(self, hints: Hints, operations: frozenset[str] | None, *, full: bool = False) -> ComposeScope:
        return ComposeScope(hints, self.destructive, not self.writing, operations, only_bare=not full, only_full=full)

    def composed(self, scope: ComposeScope) -> Composed:
        """The cases of a round."""
        finder = Finder(self.contract, scope.hints.dependencies, only_reading=scope.only_reading)
        found = [one for one in finder.found() if one.sure >= LIMIT]
        self.finder, self.linked = finder, {}
        for one in found:
            self.linked.setdefault(one.operation, set()).add(one.input)
        return compose(self.contract, found, source_url(self.home.root, self.path, self.contract), scope, finder.rows)

    finder: Finder = field(init=False)
    linked: dict[str, set[str]] = field(default_factory=dict)
    """By operation the inputs that come from other steps in this round."""

    @property
    def path(self) -> Any:
        return self.home.state / "learning.arazzo.yaml"

    async def run(self, composed: Composed, hints: Hints) -> list[ExchangeRecord]:
        """Runs the cases; gives what was kept of each step."""
        if not composed.cases:
            return []
        write_whole(self.path, to_yaml(composed.document).encode())
        read = read_suites(self.home, [self.path])
        suite = read[0][0]
        refs = tuple(CaseRef(suite.name, case.id) for case in suite.cases)
        plan = RunPlan(refs, self.target.name if self.target.name in self.home.config.targets else self.target.url, ((self.contract.name, digest_of(self.contract)),), started=time.time(), token=f"{self.token}{len(self.lessons.runs)}", **self.plan)  # fmt: skip
        bound = bind(self.home, plan, given=read)
        known = {**known_values(self.home.config, self.target, [self.contract.name], self.home.root), **{one.name: {"formula": one.formula} if one.formula else one.value for one in reversed(hints.known)}}  # fmt: skip
        bound = replace(bound, session=replace(bound.session, known=known))
        ended = await execute(bound, self.home.root, self.ledger, f"learn {self.contract.name}", lambda record: None, kind="learn")  # fmt: skip
        self.lessons.runs.append(ended.number)
        if ended.interrupted:
            raise KeyboardInterrupt
        records = list(self.ledger.exchanges(ExchangeQuery(run=ended.number)))
        self.lessons.requests += sum(one.exchange is not None for one in records)
        return records

    def note(self, record: ExchangeRecord) -> None:
        """Takes what an answer shows."""
        if record.exchange is not None:
            self.seen.note(record.operation, record.exchange)

    def take(self, pupil: Pupil, record: ExchangeRecord) -> None:
        """What an attempt said: what worked is kept; a refusal puts what follows from it in front."""
        pupil.attempts += 1
        pupil.status = record.status
        if record.exchange is None or record.exchange.response is None:
            pupil.outcome, pupil.words = SKIPPED, record.reason
            if record.reason.startswith("no value for"):  # what should have given it is there, and does not tell it so
                further = [one for one in self.seen_sources(pupil) if one not in pupil.tried]
                pupil.waiting = [*further[:ATTEMPTS], *pupil.waiting]
                pupil.outcome = REFUSED if pupil.waiting else SKIPPED
                return
            if not pupil.now.dependencies:
                pupil.attempts -= 1  # it was not its own turn
                pupil.waiting = [pupil.now, *pupil.waiting] if pupil.now != Hints() else pupil.waiting
            return  # else what was thought to give it does not: the next way
        pupil.words = words_of(record.exchange)
        if record.status in BUSY and pupil.busy < PATIENCE:
            pupil.busy, pupil.attempts, pupil.outcome = pupil.busy + 1, pupil.attempts - 1, REFUSED
            pupil.waiting = [pupil.now, *pupil.waiting]
            self.plan["jobs"] = 1  # it does not take so much at once
            return
        if 200 <= record.status < 300 and record.verdict not in ("error",):
            self.worked(pupil)
        elif record.status in SIGN_IN:
            pupil.outcome = WANTS
        else:
            pupil.outcome = REFUSED
            sent = self.sent(record)
            further = [
                one
                for one in self.followers(pupil, record, sent)
                if one not in pupil.tried and one not in pupil.waiting
            ]
            pupil.waiting = [*further[:ATTEMPTS], *pupil.waiting]

    def worked(self, pupil: Pupil) -> None:
        """Keeps what was tried; where an id was found in another place, all that needs one takes it from there."""
        pupil.outcome = WORKED
        if pupil.now == Hints():
            return
        rules = list(pupil.now.dependencies)
        for rule in pupil.now.dependencies:
            need = self.need(pupil.operation, rule.input)
            source = self.contract.operation(rule.source)
            if need is None or not need.resource or source is None or self.finder.resources.of(source) is not self.finder.resources.by_key.get(need.resource):  # fmt: skip
                continue
            for operation in self.contract.operations:
                for other in self.finder.needs(operation):
                    if other.resource == need.resource and operation.id != rule.source and self.may_take(operation, rule.source):  # fmt: skip
                        alike = DependencyRule(operation.id, other.address, rule.source, rule.value, learned=True)
                        if alike not in rules and not any(one.operation == operation.id and one.input == other.address for one in self.written.dependencies):  # fmt: skip
                            rules.append(alike)
        self.learned = replace(pupil.now, dependencies=tuple(rules)).and_then(self.learned)

    def sent(self, record: ExchangeRecord) -> Inputs:
        """The inputs that were sent; empty where they cannot be read back."""
        assert record.exchange is not None
        operation = self.contract.operation(record.operation)
        assert operation is not None
        try:
            return wire_of(self.contract).taken(operation, record.exchange.request, self.target.base_url(self.contract))
        except (JuxtalogosError, ValueError, LookupError):
            return Inputs({})

    def need(self, operation: Operation, address: str) -> Need | None:
        return next((one for one in self.finder.needs(operation) if one.address == address), None)

    # What follows from a refusal.

    def followers(self, pupil: Pupil, record: ExchangeRecord, sent: Inputs) -> Iterator[Hints]:
        """The ways to try next, the likeliest first; each builds on what was tried now."""
        operation, exchange = pupil.operation, record.exchange
        assert exchange is not None
        rows = {f"body{row.path}": row for row in self.finder.rows.sent(operation) if row.path}
        required = {one.address for one in operation.inputs if one.required} | {
            at for at, row in rows.items() if row.required
        }
        present = dict(values_of(sent))
        named = named_inputs(exchange, sent, self.finder.addresses(operation))
        linked = self.linked.get(operation.id, set())
        for one in named[:6]:
            if one.address in present and one.address not in required:
                yield self.more(pupil, left_out=LeftOut(operation.id, one.address, pupil.words[:120]))
        if record.status in (404, 410) or (record.status >= 500 and linked):
            yield from self.other_sources(pupil, {one.address for one in named})
        for one in named[:6]:
            if one.address in required and one.address not in linked:
                yield from self.other_values(pupil, one, present.get(one.address))
            elif one.address not in present and one.address not in required:
                yield from self.added(pupil, one, sent)
        if pupil.full and not named:
            yield from self.halves(pupil, present, required)
        if record.status not in (404, 410):
            yield from self.other_sources(pupil, {one.address for one in named})
        if not pupil.full:
            yield from self.unnamed(pupil, present, required, linked)

    def more(
        self,
        pupil: Pupil,
        *,
        left_out: LeftOut | None = None,
        known: KnownValue | None = None,
        rule: DependencyRule | None = None,
    ) -> Hints:
        """What is tried now, and one thing more, in front."""
        now = pupil.now
        if known is not None:
            now = replace(now, known=tuple(one for one in now.known if one.at != known.at))
        if rule is not None:
            now = replace(now, dependencies=tuple(one for one in now.dependencies if one.input != rule.input))
        return Hints((rule,) if rule else (), (known,) if known else (), (left_out,) if left_out else ()).and_then(now)

    def other_values(self, pupil: Pupil, named: Named, value: Any) -> Iterator[Hints]:
        """Values that the refusal lets expect to be taken."""
        for kind, other in itertools.islice(wanted_values(named, value), 6):
            formula = other if kind == "formula" else ""
            yield self.more(pupil, known=KnownValue(named.address, pupil.operation.id, None if formula else other, formula, learned=True))  # fmt: skip

    def added(self, pupil: Pupil, named: Named, sent: Inputs) -> Iterator[Hints]:
        """An input that is not required, and that the refusal wants: as it was seen, then as compose would make it up."""
        operation, address = pupil.operation, named.address
        if address.startswith("body") and sent.body in (ABSENT, {}):
            address = "body"  # nothing of it was sent
        elif address in sent.values or (address.startswith("body") and not has_place(sent.body, address)):
            return
        for _, _, value in self.seen.places(address.rpartition("/")[2].rpartition(".")[2])[:1]:
            yield self.more(pupil, known=KnownValue(address, operation.id, value, learned=True))
        try:
            full = sample_inputs(self.contract, operation, full=True)
            value = follow_pointer(full.body, address[4:]) if address.startswith("body") else full.values[address]
        except (JuxtalogosError, LookupError, ValueError):
            return
        yield self.more(pupil, known=KnownValue(address, operation.id, value, learned=True))

    def other_sources(self, pupil: Pupil, named: set[str]) -> Iterator[Hints]:
        """Other places that an id may come from: further fields of the creator, lists, what was seen in answers."""
        for need in self.finder.needs(pupil.operation):
            if need.name.lower() == "if-match":
                continue  # a version, and no id
            if named and need.address not in named and not need.resource:
                continue
            for one in self.finder.candidates(need)[:8]:
                if not self.may_take(pupil.operation, one.source) or not self.worked_before(one.source):
                    continue
                yield self.more(
                    pupil, rule=DependencyRule(pupil.operation.id, need.address, one.source, one.value, learned=True)
                )
            yield from self.seen_sources(pupil, need)
            for source, pointer, _ in self.seen.places(need.name)[:4]:
                if source != pupil.operation.id and self.may_give(source) and self.may_take(pupil.operation, source):
                    yield self.more(pupil, rule=DependencyRule(pupil.operation.id, need.address, source, f"$response.body#{pointer}", learned=True))  # fmt: skip

    def seen_sources(self, pupil: Pupil, need: Need | None = None) -> Iterator[Hints]:
        """Fields that were seen in the answers of what creates or lists such an item, whatever is declared of them."""
        resources, operation = self.finder.resources, pupil.operation
        for one in [need] if need is not None else list(self.finder.needs(operation)):
            found = [resources.by_key[one.resource]] if one.resource in resources.by_key else resources.named(one.noun)
            for resource in found:
                sources = [*resources.creators(resource), *resource.of(Intent.LIST)]
                for source in sources:
                    if (
                        not (self.may_give(source.id) and self.may_take(operation, source.id))
                        or source.id == operation.id
                    ):
                        continue
                    ranked = []
                    for pointer in self.seen.by_operation.get(source.id, {}):
                        rank = field_rank(one.name, resource.noun, pointer.rpartition("/")[2])
                        if rank is not None:
                            ranked.append((rank + pointer.count("/"), pointer))
                    for _, pointer in sorted(ranked)[:3]:
                        yield self.more(pupil, rule=DependencyRule(operation.id, one.address, source.id, f"$response.body#{pointer}", learned=True))  # fmt: skip

    def may_give(self, source: str) -> bool:
        """Whether an operation may be called to learn from it."""
        operation = self.contract.operation(source)
        return operation is not None and (operation.safe or self.writing)

    def worked_before(self, source: str) -> bool:
        """Whether an operation was answered with success, so that something can be had from it."""
        pupil = self.pupils.get(source)
        return pupil is None or pupil.outcome == WORKED

    def may_take(self, operation: Operation, source: str) -> bool:
        """Whether an operation may be tried on what a source gives: what changes or removes, on what the run created only."""
        given = self.contract.operation(source)
        return (
            operation.safe
            or operation.intent is Intent.CREATE
            or (given is not None and self.finder.resources.creates(given))
        )

    def unnamed(self, pupil: Pupil, present: dict[str, Any], required: set[str], linked: set[str]) -> Iterator[Hints]:
        """Where nothing is named: a whole body, then values that answers showed under the same name."""
        yield from self.whole_body(pupil, present)
        for address in present:
            if address in linked or address not in required:
                continue
            name = address.rpartition("/")[2].rpartition(".")[2]
            for source, pointer, value in self.seen.places(name)[:2]:
                if self.may_give(source) and source != pupil.operation.id and type(value) is type(present[address]):
                    yield self.more(pupil, rule=DependencyRule(pupil.operation.id, address, source, f"$response.body#{pointer}", learned=True))  # fmt: skip

    def whole_body(self, pupil: Pupil, present: dict[str, Any]) -> Iterator[Hints]:
        """Everything that the body may hold, where less was sent."""
        operation = pupil.operation
        try:
            full = sample_inputs(self.contract, operation, full=True)
        except JuxtalogosError:
            return
        if full.body is not ABSENT and len(list(values_of(full))) > len(present):
            yield self.more(pupil, known=KnownValue("body", operation.id, full.body, learned=True))

    def halves(self, pupil: Pupil, present: dict[str, Any], required: set[str]) -> Iterator[Hints]:
        """Without half of the optional inputs: which half is refused is where the culprit stands."""
        optional = [at for at in self.tops(present) if at not in required]
        if len(optional) <= 1:
            suspects = optional
        else:
            suspects = optional[: len(optional) // 2]
        if suspects:
            now = pupil.now
            for one in suspects:
                now = Hints(left_out=(LeftOut(pupil.operation.id, one, pupil.words[:120]),)).and_then(now)
            yield now
            rest = [one for one in optional if one not in suspects]
            if rest:
                now = pupil.now
                for one in rest:
                    now = Hints(left_out=(LeftOut(pupil.operation.id, one, pupil.words[:120]),)).and_then(now)
                yield now

    @staticmethod
    def tops(present: dict[str, Any]) -> list[str]:
        """Addresses that can be left out by themselves: of the body its own properties."""
        return list(dict.fromkeys("/".join(at.split("/")[:2]) if at.startswith("body/") else at for at in present))

    def has_more(self, operation: Operation) -> bool:
        """Whether there is anything optional to send."""
        return any(not one.required for one in operation.inputs) or any(row.path and not row.required for row in self.finder.rows.sent(operation))  # fmt: skip
