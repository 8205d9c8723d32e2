"""The engine: cases side by side, those that others need first, everything finished handed to the writer."""

from __future__ import annotations

import asyncio
import random
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Any, Protocol

from juxtalogos.exchange.transport import Transport
from juxtalogos.ledger import CaseRecord, ExchangeRecord
from juxtalogos.model.verdict import Verdict, worst
from juxtalogos.run.session import Session
from juxtalogos.run.step import Stage
from juxtalogos.run.walk import Walk, new_actor
from juxtalogos.suite.expressions import Scope
from juxtalogos.suite.formulas import Ground, NoValue, compute
from juxtalogos.suite.inputs import wrong_inputs
from juxtalogos.suite.model import Case, CaseKey, Step, Suite


class Sink(Protocol):
    async def put(self, record: ExchangeRecord | CaseRecord) -> None: ...


Row = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Plan:
    """What to run: cases with their suites, at one target."""

    cases: tuple[tuple[Suite, Case], ...]
    session: Session
    jobs: int = 4
    reset: Callable[[], Any] | None = None
    """Awaited before each case; then cases run one at a time."""
    everything: Mapping[CaseKey, tuple[Suite, Case]] = field(default_factory=dict)
    """Every case that these need or call."""
    rows: Mapping[CaseKey, tuple[Row, ...]] = field(default_factory=dict)
    """Rows of cases that have a table."""
    seed: int = 0
    repeat: int = 1

    def all_cases(self) -> Mapping[CaseKey, tuple[Suite, Case]]:
        return {**self.everything, **{case.key: (suite, case) for suite, case in self.cases}}


@dataclass(frozen=True, slots=True)
class Outcome:
    verdict: Verdict
    inputs: Mapping[str, Any]
    outputs: Mapping[str, Any]


async def run_plan(plan: Plan, sink: Sink, done: Callable[[CaseRecord], None]) -> Verdict:
    """Runs every case; gives the worst verdict. On cancellation what is finished is with the sink already."""
    async with Transport(replace(plan.session.options, connections=max(plan.jobs, 1))) as transport:
        runner = _Runner(plan, transport, sink, done)
        async with asyncio.TaskGroup() as group:
            runner.group = group
            for _, case in plan.cases:
                runner.begin(case.key)
    return worst(runner.verdicts)


class _Runner:
    def __init__(self, plan: Plan, transport: Transport, sink: Sink, done: Callable[[CaseRecord], None]) -> None:
        self.plan = plan
        self.stage = Stage(plan.session, transport)
        self.sink = sink
        self.done = done
        self.cases = plan.all_cases()
        self.slots = asyncio.Semaphore(1 if plan.reset else plan.jobs)
        self.tasks: dict[CaseKey, asyncio.Task[Outcome]] = {}
        self.verdicts: list[Verdict] = []
        self.group: asyncio.TaskGroup

    def begin(self, key: CaseKey) -> asyncio.Task[Outcome]:
        """A case runs once, however many need it."""
        if key not in self.tasks:
            self.tasks[key] = self.group.create_task(self.case(key))
        return self.tasks[key]

    async def case(self, key: CaseKey) -> Outcome:
        suite, case = self.cases[key]
        before = {needed: await self.begin(needed) for needed in case.needs}
        failed = [
            needed.case
            for needed, outcome in before.items()
            if outcome.verdict in (Verdict.FAILED, Verdict.ERROR, Verdict.SKIPPED)
        ]
        if failed:
            reason = f"{', '.join(failed)} did not succeed, which it needs"
            await self.finish(CaseRecord(suite.name, case.id, Verdict.SKIPPED, reason, 0.0))
            return Outcome(Verdict.SKIPPED, {}, {})
        workflows = {needed.case: {"inputs": one.inputs, "outputs": one.outputs} for needed, one in before.items()}
        rows: tuple[Row | None, ...] = self.plan.rows.get(key, (None,))
        outcomes: list[Outcome] = []
        if case.setup and key in self.plan.rows:
            return await self.with_setup(suite, case, rows, workflows)
        for turn in range(self.plan.repeat):
            for number, row in enumerate(rows):
                label = _label(case, number if row is not None else None, turn if self.plan.repeat > 1 else None)
                async with self.slots:
                    outcomes.append(await self.once(suite, case, row or {}, label, workflows, case.steps))
        if not outcomes:
            await self.finish(CaseRecord(suite.name, case.id, Verdict.SKIPPED, "its table has no rows", 0.0))
            return Outcome(Verdict.SKIPPED, {}, {})
        return replace(outcomes[-1], verdict=worst(one.verdict for one in outcomes))

    async def with_setup(self, suite: Suite, case: Case, rows: tuple[Row | None, ...], workflows: Any) -> Outcome:
        """Set-up steps once, then the other steps for each row, all with the set-up's values and cookies."""
        count = len(case.setup)
        keep: dict[str, Any] = {}
        async with self.slots:
            setup = await self.once(suite, case, {}, f"{case.id}[set-up]", workflows, case.steps[:count], keep)
            if setup.verdict in (Verdict.FAILED, Verdict.ERROR):
                return setup
            outcomes = [setup]
            for number, row in enumerate(rows):
                outcomes.append(
                    await self.once(
                        suite, case, row or {}, _label(case, number, None), workflows, case.steps[count:], keep
                    )
                )
        return replace(outcomes[-1], verdict=worst(one.verdict for one in outcomes))

    async def once(
        self, suite: Suite, case: Case, row: Row, label: str, workflows: Any, steps: tuple[Step, ...], kept: dict[str, Any] | None = None
    ) -> Outcome:  # fmt: skip
        if self.plan.reset and kept is None:
            await self.plan.reset()
        started = time.perf_counter()
        ground = Ground(datetime.now(UTC), random.Random(f"{self.plan.seed}:{suite.name}:{label}"))
        scope = Scope({}, workflows=dict(workflows), sources=suite.sources, components=suite.components)
        wrong = self.fill_inputs(
            suite, case, row, scope, ground, checked=steps is case.steps or kept is None or bool(kept)
        )
        if wrong:
            await self.finish(CaseRecord(suite.name, label, Verdict.ERROR, self.plan.session.redactor.text(wrong), 0.0))
            return Outcome(Verdict.ERROR, scope.inputs, {})
        actor = new_actor(suite, label, scope, ground)
        if kept:
            scope.steps.update(kept["steps"])
            actor.cookies = kept["cookies"]
        walk = Walk(self.stage, self.cases, self.put)
        await walk.case(actor, case, steps)
        if kept is not None and not kept:
            kept.update(steps=dict(scope.steps), cookies=actor.cookies)
        verdict = worst(record.verdict for record in walk.records)
        first = next((record for record in walk.records if record.verdict is verdict), None)
        reason = f"{first.step}: {first.reason}" if first and first.reason else ""
        await self.finish(
            CaseRecord(
                suite.name, label, verdict, self.plan.session.redactor.text(reason), time.perf_counter() - started
            )
        )
        return Outcome(verdict, scope.inputs, scope.outputs)

    def fill_inputs(self, suite: Suite, case: Case, row: Row, scope: Scope, ground: Ground, *, checked: bool) -> str:
        """The suite's variables, defaults, formulas, the workspace's and target's variables, the row: the later the stronger. Gives what is wrong with them."""
        target = self.plan.session.target
        values: dict[str, Any] = {**suite.variables, **case.inputs}
        scope.inputs = values
        try:
            values.update({name: compute(formula, scope, ground) for name, formula in case.formulas.items()})
        except NoValue as error:
            return f"an input cannot be computed: {error}"
        values.update(
            {name: _typed(value, case.kinds.get(name, ())) for name, value in (*target.variables.items(), *row.items())}
        )
        return wrong_inputs(case, values) if checked else ""

    async def put(self, record: ExchangeRecord) -> None:
        await self.sink.put(record.redacted(self.plan.session.redactor))

    async def finish(self, record: CaseRecord) -> None:
        self.verdicts.append(record.verdict)
        await self.sink.put(record)
        self.done(record)


def _typed(value: Any, kinds: tuple[str, ...]) -> Any:
    """A value from a table, a variable or the command line as the declared type it can be."""
    if (
        "string" in kinds
        and isinstance(value, int | float)
        and not isinstance(value, bool)
        and not {"integer", "number"} & set(kinds)
    ):
        return str(value)
    if isinstance(value, str) and kinds and "string" not in kinds:
        from juxtalogos.documents.jsontext import NotJson, parse_json

        try:
            return parse_json(value)
        except NotJson:
            return value
    return value


def _label(case: Case, row: int | None, turn: int | None) -> str:
    """A case's name with the row of its table, and the turn of a repetition, from 1."""
    parts = [f"row {row + 1}"] if row is not None else []
    parts += [f"turn {turn + 1}"] if turn is not None else []
    return f"{case.id}[{', '.join(parts)}]" if parts else case.id
