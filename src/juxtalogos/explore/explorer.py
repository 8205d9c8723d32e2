"""An exploration: techniques in their order, block by block; what a block doubts is told when it was seen
twice.
"""

from __future__ import annotations

import time
from collections.abc import Awaitable, Callable, Iterator
from dataclasses import dataclass, field, replace
from functools import partial

from juxtalogos.compose.composer import WITHHELD
from juxtalogos.explore.laws.agreeing import disagreements
from juxtalogos.explore.prober.budget import Budget, Spent
from juxtalogos.explore.prober.prober import Purpose, Trial, broken_law, tell
from juxtalogos.explore.prober.requests import Unfillable
from juxtalogos.explore.reporting.saving import Kept
from juxtalogos.explore.resources.kinds import ResourceKind
from juxtalogos.explore.resources.removal import clear
from juxtalogos.explore.resources.sandbox import Claim, Sandbox, settle
from juxtalogos.explore.techniques import KIND_TECHNIQUES, OPERATION_TECHNIQUES
from juxtalogos.ledger import CaseRecord, ExchangeRecord
from juxtalogos.model.contract import Contract, Intent, Operation
from juxtalogos.model.danger import Danger
from juxtalogos.model.findings import ResultClass
from juxtalogos.model.verdict import Verdict, worst
from juxtalogos.run.engine import unforeseen
from juxtalogos.run.gate.inventory import CASE
from juxtalogos.run.target.recording import Recording


@dataclass(slots=True)
class Explored:
    """What came of it, beside what the ledger holds."""

    operations: list[Operation]
    worked: set[str]
    notes: dict[str, str]
    left: list[str]
    requests: int
    spent: str = ""
    """Why it ended before it was through."""
    rules: dict[tuple[str, str], list[int]] = field(default_factory=dict)
    """(place, rule) -> [sent, refused, accepted] of broken requests."""
    kept: Kept | None = None


COUNTED = (ResultClass.FINDING, ResultClass.EXPECTATION, ResultClass.LENIENT, ResultClass.DOUBT)


@dataclass(frozen=True, slots=True)
class Progress:
    """How far an exploration has come."""

    block: str
    requests: int
    reached: int
    operations: int
    elements: int
    """Elements of the contract that were covered."""
    failed: int

    def __str__(self) -> str:
        return (
            f"{self.reached} of {self.operations} operations, {self.elements} elements, {self.failed} found"
        )


@dataclass(slots=True)
class Explorer:
    """Explores one contract. Each instance explores once."""

    contract: Contract
    sandbox: Sandbox
    budget: Budget
    door: Recording
    chosen: frozenset[str]
    """Ids of the operations that are explored; others are called where these need them."""
    left_out: dict[str, str] = field(default_factory=dict)
    """By operation, the reason why it is left out."""
    told: Callable[[Progress], None] = lambda progress: None
    covered: set[str] = field(default_factory=set)
    spent: str = ""
    rules: dict[tuple[str, str], list[int]] = field(default_factory=dict)
    kept: Kept | None = None
    """Where cases are kept, when a suite is wanted."""

    async def explore(self) -> Explored:
        """All blocks in their order, until the budget is used up."""
        self.budget.begin(self.contract.name)
        try:
            for name, what, subject in self.blocks():
                await self.block(name, what, subject)
        except Spent as spent:
            self.spent = spent.why
        await self.agree()
        for candidate in self.contract.operations:
            why = _withheld(candidate)
            if why and candidate.id in self.chosen:
                self.sandbox.notes.setdefault(candidate.id, f"not sent: {why}")
        operations = [
            operation
            for operation in self.contract.operations
            if operation.id in self.chosen or operation.id in self.left_out
        ]
        return Explored(
            operations,
            set(self.sandbox.worked),
            {**self.sandbox.notes, **self.left_out},
            self.sandbox.left,
            self.budget.mine,
            self.spent,
            self.rules,
            self.kept,
        )

    def blocks(self) -> Iterator[tuple[str, Callable[[], Awaitable[None]], str]]:
        """(technique, what it does, about what)."""
        sandbox = self.sandbox
        for technique, of_kind in KIND_TECHNIQUES.items():
            for kind in sandbox.kinds:
                if self.concerns(kind):
                    yield technique, partial(of_kind, sandbox, kind), kind.name
        owners = {name: kind for kind in sandbox.kinds for name in kind.keys}
        for name, of_operation in OPERATION_TECHNIQUES.items():
            for operation in self.contract.operations:
                if operation.id in self.chosen and self.may(operation):
                    owner = owners.get(operation.id) or sandbox.kind_made_by(operation)
                    yield name, partial(of_operation, sandbox, operation, owner), operation.id

    def concerns(self, kind: ResourceKind) -> bool:
        """Whether any of a kind's operations is explored."""
        return any(
            one.id in self.chosen
            for one in (*kind.on_item, *kind.creators, *kind.lists, *kind.resource.operations)
        )

    def may(self, operation: Operation) -> bool:
        return not operation.not_callable and not _withheld(operation)

    async def block(self, name: str, what: Callable[[], Awaitable[None]], subject: str) -> None:
        """Goes through a block; again where it doubted something, and only what both times were doubted is
        told.
        """
        prober = self.sandbox.prober
        prober.case = f"{name}: {subject}"
        CASE.set((prober.suite, prober.case))
        started = time.perf_counter()
        first, spent, reason = await self.once(what)
        if first and not spent:
            second, spent, _ = await self.once(what)
            keys = {one.key for one in second}
            first = [one for one in first if one.key in keys]
        elif first:
            first = []  # not confirmed
        settle(_each_once(first))
        held, prober.held = prober.held, []
        if self.kept is not None:
            self.kept.take(self.sandbox, held)
        for seen in held:
            self.count(seen)
            self.covered.update(seen.record.hits)
            await self.door.put(seen.record)
        if held or reason:
            judged = [trial.record.verdict for trial in held if trial.purpose is not Purpose.CLEANUP] or [
                Verdict.SKIPPED
            ]
            verdict = worst(judged) if not reason else Verdict.ERROR
            failing = next(
                (trial.record for trial in held if trial.record.verdict is verdict and trial.record.reason),
                None,
            )
            await self.door.finish(
                CaseRecord(
                    prober.suite,
                    prober.case,
                    verdict,
                    reason or (f"{failing.step}: {failing.reason}" if failing else ""),
                    time.perf_counter() - started,
                )
            )
        self.told(
            Progress(
                prober.case,
                self.budget.used,
                len(self.chosen & self.sandbox.worked.keys()),
                len(self.chosen),
                len(self.covered),
                self.budget.failed,
            )
        )
        if spent is not None and spent.operation:
            self.sandbox.notes.setdefault(spent.operation, spent.why)
        self.budget.found(
            len(
                {
                    finding.fingerprint
                    for seen in held
                    for finding in seen.record.findings()
                    if finding.result.result_class in COUNTED
                }
            )
        )
        if spent is not None and spent.all_of_it:
            raise spent

    async def once(self, what: Callable[[], Awaitable[None]]) -> tuple[list[Claim], Spent | None, str]:
        """(what it doubted, whether the budget ended it, what went wrong in it that nobody foresaw)."""
        sandbox, spent, reason = self.sandbox, None, ""
        sandbox.claims, sandbox.things, sandbox.shared = [], [], {}
        try:
            await what()
        except Unfillable:
            pass  # what it needs is not to be had: it is noted where that is known
        except Spent as error:
            spent = error
        except Exception as error:
            reason = unforeseen.told(error)
        claims = sandbox.claims
        try:
            await clear(sandbox)
        except (Unfillable, Spent):
            pass
        except Exception as error:
            reason = reason or unforeseen.told(error)
        prober = sandbox.prober
        if prober.session.gate is not None:
            await prober.session.gate.settle(prober.session, prober.sender)
        return claims, spent, reason

    def count(self, seen: Trial) -> None:
        """Counts a broken request by place and rule."""
        if seen.broken is None:
            return
        place, rule, _ = seen.broken
        row = self.rules.setdefault(
            (place.partition("/")[0].partition(".")[0], rule.partition(":")[0]), [0, 0, 0]
        )
        row[0] += 1
        row[1] += seen.refused
        row[2] += seen.ok

    async def agree(self) -> None:
        """What all refusals together say, as a block of its own: each told with a request that shows it."""
        operations = {
            candidate.id: candidate for candidate in self.contract.operations if candidate.id in self.chosen
        }
        prober = self.sandbox.prober
        prober.case = "declared refusals"
        told: list[ExchangeRecord] = []
        for one in disagreements(self.sandbox.wire, operations, self.sandbox.outcomes):
            adopted = self.sandbox.adopted(one.law, one.seen.operation.id)
            if adopted is False:
                continue
            seen = replace_record(one.seen, prober.case)
            tell(seen, broken_law(one.law, one.at, one.declared, one.observed, one.location, must=adopted))
            told.append(seen.record)
        for record in told:
            await self.door.put(record)
        if told and self.kept is not None:
            self.kept.unsaved += len(told)
        if told:
            await self.door.finish(
                CaseRecord(prober.suite, prober.case, worst(entry.verdict for entry in told), "", 0.0)
            )


def replace_record(seen: Trial, case: str) -> Trial:
    """The same exchange once more, to be told with what all of its like say."""
    record = replace(
        seen.record,
        case=case,
        step=f"{seen.record.step} {len(seen.record.results)}",
        results=(),
        hits=(),
        verdict=Verdict.PASSED,
        reason="",
    )
    return Trial(seen.operation, seen.inputs, seen.purpose, record, seen.exchange, seen.answer)


def _each_once(claims: list[Claim]) -> list[Claim]:
    found: dict[tuple[str, ...], Claim] = {}
    for claim in claims:
        found.setdefault(claim.key, claim)
    return list(found.values())


def _withheld(operation: Operation) -> str:
    """Why an operation is not sent, since it reaches what the exploration did not make; empty where it is."""
    if operation.danger.withheld:
        return WITHHELD[operation.danger]
    return WITHHELD[Danger.DESTROYS] if operation.intent is Intent.EMPTY else ""
