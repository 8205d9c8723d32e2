"""The engine: cases side by side, those that others need first; each turn ends in exactly one record,
whatever happens in it.
"""

from __future__ import annotations

import asyncio
import contextlib
import random
import time
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Any

from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.ledger import AFTER_RETRIES, CaseRecord, ExchangeRecord
from juxtalogos.model.errors import ConfigError, JuxtalogosError, LedgerError
from juxtalogos.model.verdict import Verdict, worst
from juxtalogos.run.engine import unforeseen
from juxtalogos.run.engine.binding import BoundRun, Row, turns_of
from juxtalogos.run.engine.plan import CaseRef, Part, Turn, Unit, steps_of
from juxtalogos.run.engine.slots import Slots
from juxtalogos.run.engine.step import CaseState, RunContext
from juxtalogos.run.engine.stop import Interrupted
from juxtalogos.run.engine.walk import Walk, new_state
from juxtalogos.run.target.recording import Recording, RecordSink
from juxtalogos.suite.inputs import wrong_inputs
from juxtalogos.suite.language.expressions import Scope
from juxtalogos.suite.language.formulas import FormulaContext, NoValue, compute, settled
from juxtalogos.suite.model import Case, CaseKey, Suite

INTERRUPTED = "interrupted; its clean-up steps ran"
_HELD = (Verdict.PASSED, Verdict.UNPROVEN)
"""Verdicts of a case that others may build on."""


@dataclass(frozen=True, slots=True)
class CaseEnd:
    """How a case went, for those that need it."""

    verdict: Verdict
    inputs: Mapping[str, Any] = field(default_factory=dict)
    outputs: Mapping[str, Any] = field(default_factory=dict)


@dataclass(slots=True)
class _Shared:
    """What the turns of one set-up share."""

    steps: dict[str, dict[str, Any]] = field(default_factory=dict)
    cookies: Any = None
    failed: str = ""
    """The turn of the set-up, when it did not succeed."""


@dataclass(frozen=True, slots=True)
class Engine:
    """Runs units of a bound plan; may be asked for several at once."""

    run: BoundRun
    context: RunContext
    recorder: RecordSink
    slots: Slots
    reset: Callable[[], Awaitable[None]] | None = None
    """Awaited before each turn that begins anew."""
    done: Callable[[CaseRecord], None] = lambda record: None
    """Told of each record, for the eye only: what goes wrong in it changes nothing."""

    async def unit(self, unit: Unit) -> list[CaseRecord]:
        """Does all cases of a unit; gives their records. LedgerError when they cannot be kept."""
        under_way = _UnitUnderWay(self, unit.alone)
        try:
            async with asyncio.TaskGroup() as group:
                under_way.group = group
                for ref in unit.cases:
                    under_way.begin(self.run.key(ref), ref)
        except* LedgerError as errors:
            raise _first(errors) from None
        return under_way.records


def _first(errors: BaseExceptionGroup[LedgerError]) -> LedgerError:
    error: BaseException = errors
    while isinstance(error, BaseExceptionGroup):
        error = error.exceptions[0]
    assert isinstance(error, LedgerError)
    return error


class _UnitUnderWay:
    """The cases of one unit, and those that they need."""

    group: asyncio.TaskGroup

    def __init__(self, engine: Engine, alone: bool) -> None:
        self.engine = engine
        self.run = engine.run
        self.context = engine.context
        self.alone = alone
        self.door = Recording(engine.run.session, engine.recorder)
        self.tasks: dict[CaseKey, asyncio.Task[CaseEnd]] = {}
        self.in_turn: dict[str, asyncio.Lock] = {}
        """By word, held by the one case that has its turn; whoever shares a word is in this unit."""
        self.records: list[CaseRecord] = []

    def begin(self, key: CaseKey, ref: CaseRef | None = None) -> asyncio.Task[CaseEnd]:
        """A case runs once, however many need it."""
        if key not in self.tasks:
            self.tasks[key] = self.group.create_task(self.case(key, ref))
        return self.tasks[key]

    async def case(self, key: CaseKey, ref: CaseRef | None) -> CaseEnd:
        """All turns of a case; whatever goes wrong between them, none is left without its record."""
        suite, case = self.run.cases[key]
        waiting = turns_of(self.run, key, ref.rows if ref else None)[::-1]
        try:
            before = {needed: await self.begin(needed) for needed in case.needs}
            async with contextlib.AsyncExitStack() as held:
                for word in sorted(case.in_turn):  # one order, so that no two wait for each other
                    await held.enter_async_context(self.in_turn.setdefault(word, asyncio.Lock()))
                return await self.turns(suite, case, waiting, before)
        except LedgerError:
            raise
        except Exception as error:
            for turn in reversed(waiting):
                await self.finish(
                    CaseRecord(suite.name, turn.label, Verdict.ERROR, unforeseen.told(error), 0.0)
                )
            return CaseEnd(Verdict.ERROR)

    async def turns(
        self, suite: Suite, case: Case, waiting: list[Turn], before: Mapping[CaseKey, CaseEnd]
    ) -> CaseEnd:
        """`waiting` holds the turns that have no record yet, the next one last; `before`: how the cases that
        it needs ended.
        """
        failed = [needed.case for needed, outcome in before.items() if outcome.verdict not in _HELD]
        reason = f"{', '.join(failed)} did not succeed, which it needs" if failed else ""
        if not waiting:
            waiting.append(Turn(case.id))
            reason = reason or "its table has no rows"
        given = {
            needed.case: {"inputs": one.inputs, "outputs": one.outputs} for needed, one in before.items()
        }
        rows = self.run.rows.get(case.key, ())
        outcomes: list[CaseEnd] = []
        last = CaseEnd(Verdict.SKIPPED)
        shared = _Shared()
        while waiting:
            turn = waiting[-1]
            if reason:
                waiting.pop()
                outcomes.append(await self.skip(suite, turn, reason))
                continue
            async with self.engine.slots.taken(alone=self.alone):
                if self.context.stop.asked:
                    break
                waiting.pop()
                if self.context.stop.full and not (turn.part is Part.CLEANUP and shared.steps):
                    continue  # no record: it did not run; but what a set-up made is cleaned up
                shared = _Shared() if turn.fresh else shared
                row = {} if turn.row is None else rows[turn.row]
                outcomes.append(await self.turn(suite, case, turn, row, given, shared))
            last = last if turn.part is Part.CLEANUP else outcomes[-1]
            shared = _Shared() if turn.part is Part.CLEANUP else shared
        return replace(last, verdict=worst(one.verdict for one in outcomes))

    async def skip(self, suite: Suite, turn: Turn, reason: str) -> CaseEnd:
        await self.finish(CaseRecord(suite.name, turn.label, Verdict.SKIPPED, reason, 0.0))
        return CaseEnd(Verdict.SKIPPED)

    async def turn(
        self, suite: Suite, case: Case, turn: Turn, row: Row, given: Mapping[str, Any], shared: _Shared
    ) -> CaseEnd:
        """One turn, and its one record.

        Only an interrupt and a ledger that cannot be written go further up.
        """
        if shared.failed and turn.part is Part.ROW:
            await self.undo(suite, case, turn, shared)
            return await self.skip(suite, turn, f"{shared.failed} did not succeed")
        started = time.perf_counter()
        walk = Walk(self.context, self.run.cases, self.door.put, put_undo=self.door.put_undo)
        outcome, reason = CaseEnd(Verdict.ERROR), INTERRUPTED
        recordable = True
        try:
            outcome, reason = await self.walked(walk, suite, case, turn, row, given, shared)
        except LedgerError:
            recordable = False
            raise
        except Interrupted:
            reason = INTERRUPTED
        except JuxtalogosError as error:
            reason = str(error)
        except Exception as error:
            reason = unforeseen.told(error)
        finally:
            if turn.part is Part.SETUP and outcome.verdict not in _HELD:
                shared.failed = turn.label
            if recordable:
                seconds = time.perf_counter() - started
                await self.finish(CaseRecord(suite.name, turn.label, outcome.verdict, reason, seconds))
        return outcome

    async def walked(
        self,
        walk: Walk,
        suite: Suite,
        case: Case,
        turn: Turn,
        row: Row,
        given: Mapping[str, Any],
        shared: _Shared,
    ) -> tuple[CaseEnd, str]:
        """(how it went, why)."""
        if turn.fresh and self.engine.reset is not None:
            await self.engine.reset()
        state = self.new_state(suite, turn.label, given)
        wrong = self.fill_inputs(suite, case, row, state, checked=turn.part is not Part.SETUP)
        if wrong:
            return CaseEnd(Verdict.ERROR, state.scope.inputs), wrong
        if turn.part is Part.ROW or turn.part is Part.CLEANUP:
            state.scope.steps.update(shared.steps)
            state.cookies = shared.cookies or state.cookies
        try:
            await walk.case(state, case, steps_of(case, turn.part))
        finally:
            if turn.part is Part.SETUP:
                shared.steps, shared.cookies = dict(state.scope.steps), state.cookies
        counted = [record for record in walk.records if self.counts(walk, record)] or walk.records
        verdict = worst(record.verdict for record in counted)
        first = next((record for record in counted if record.verdict is verdict), None)
        reason = f"{first.step}: {first.reason}" if first and first.reason else ""
        if verdict is Verdict.PASSED and walk.retried:
            told = (f"{count} of {name}" for name, count in walk.retried.items())
            reason = f"{AFTER_RETRIES}{', '.join(told)}"
        return CaseEnd(verdict, state.scope.inputs, state.scope.outputs), reason

    def counts(self, walk: Walk, record: ExchangeRecord) -> bool:
        """Whether a step decides how the case went: its own do; one that only prepares or cleans up, where no
        case of the run is about it.
        """
        if record.step not in walk.aside:
            return True
        bad = record.verdict.fails and record.exchange is not None
        return bad and f"{record.contract}:{record.operation}" not in self.run.subjects

    async def undo(self, suite: Suite, case: Case, turn: Turn, shared: _Shared) -> None:
        """After a set-up that failed no row is run; what clean-up steps of the rows can undo of it is undone
        once.
        """
        steps = tuple(operation for operation in steps_of(case, Part.ROW) if operation.always)
        if not steps or not shared.steps:
            return
        state = self.new_state(suite, turn.label, {})
        state.scope.steps.update(shared.steps)
        state.cookies = shared.cookies or state.cookies
        shared.steps = {}
        await Walk(self.context, self.run.cases, self.door.put, put_undo=self.door.put_undo).case(
            state, case, steps
        )

    def new_state(self, suite: Suite, label: str, given: Mapping[str, Any]) -> CaseState:
        """The values of a turn: made up by its own seed, so that they do not depend on
        what runs beside it.
        """
        ground = FormulaContext(
            datetime.now(UTC),
            random.Random(f"{self.run.plan.seed}:{suite.name}:{label}"),
            self.run.plan.token,
            f"{suite.name}:{label}",
            self.run.session.known,
        )
        scope = Scope({}, workflows=dict(given), sources=suite.sources, components=suite.components)
        return new_state(suite, label, scope, ground)

    def fill_inputs(self, suite: Suite, case: Case, row: Row, state: CaseState, *, checked: bool) -> str:
        """The suite's variables, defaults, formulas, the workspace's and target's variables, the row: the
        later the stronger. Gives what is wrong with them.
        """
        values: dict[str, Any] = {}
        try:
            values |= {**settled(suite.variables, state.ground, str(suite.path)), **case.inputs}
            state.scope.inputs = values
            for name, formula in case.formulas.items():
                values[name] = compute(formula, state.scope, state.ground)
        except (NoValue, ConfigError) as error:
            return f"an input cannot be computed: {error}"
        for name, value in (*self.run.session.target.variables.items(), *row.items()):
            values[name] = _typed(value, case.kinds.get(name, ()))
        return wrong_inputs(case, values) if checked else ""

    async def finish(self, record: CaseRecord) -> None:
        """Keeps the one record of a turn."""
        record = await self.door.finish(record)
        self.records.append(record)
        with contextlib.suppress(Exception):
            self.engine.done(record)


def _typed(value: Any, kinds: Sequence[str]) -> Any:
    """A value from a table, a variable or the command line as the declared type it can be."""
    is_number = isinstance(value, int | float) and not isinstance(value, bool)
    if is_number and "string" in kinds and not {"integer", "number"} & set(kinds):
        return str(value)
    if isinstance(value, str) and kinds and "string" not in kinds:
        try:
            return parse_json(value)
        except NotJson:
            return value
    return value
