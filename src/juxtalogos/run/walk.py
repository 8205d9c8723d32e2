"""One case walked: its steps in order, actions after each, other cases called, clean-up at the end (Arazzo 1.0.1)."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import aiohttp

from juxtalogos.ledger import ExchangeRecord
from juxtalogos.model.exchange import header
from juxtalogos.model.findings import Severity
from juxtalogos.model.seams import ABSENT
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.judge import verdict_of
from juxtalogos.run.step import Actor, Stage, criterion_result, outputs_of, run_step, skipped
from juxtalogos.suite.expressions import Scope, evaluate, fill, parse_expression
from juxtalogos.suite.inputs import wrong_inputs
from juxtalogos.suite.model import Action, Case, CaseKey, Step, Suite

MAX_STEPS = 1_000
"""Steps of one case; a goto that leads round ends there."""
MAX_CALLS = 10
"""Cases that call one another, deep."""
MAX_WAIT = 300.0
"""Seconds before a retry, whatever is asked for."""

Cases = Mapping[CaseKey, tuple[Suite, Case]]
Put = Callable[[ExchangeRecord], Awaitable[None]]


@dataclass(slots=True)
class Walk:
    """A case with those it calls; all records go to one place."""

    stage: Stage
    cases: Cases
    put: Put
    records: list[ExchangeRecord] = field(default_factory=list)
    taken: int = 0

    async def case(
        self, actor: Actor, case: Case, prefix: str = "", depth: int = 0, steps: tuple[Step, ...] | None = None
    ) -> bool:
        """Whether it ended without a failure; its outputs are in the scope then."""
        walked = case.steps if steps is None else steps
        position, attempts, ended, succeeded = 0, dict[tuple[str, str], int](), "", True
        done: set[str] = set()
        while position < len(walked) and not ended:
            step = walked[position]
            self.taken += 1
            if self.taken > MAX_STEPS:
                await self.keep(replace(skipped(actor, step.contract, step.operation, prefix + step.id, ""), verdict=Verdict.ERROR, reason=f"more than {MAX_STEPS:,} steps were taken: a goto leads round"))  # fmt: skip
                return False
            done.add(step.id)
            records, held = await self.step(actor, step, prefix, depth)
            action = self.action(actor, case, step, held, attempts)
            if action is not None and not held and action.type != "end":
                records = [_handled(record, action) for record in records]
            for record in records:
                await self.keep(record)
            position, ended, succeeded = await self.follow(
                actor, case, step, action, held, position, walked, prefix, depth, succeeded
            )
        for step in walked:
            if step.always and step.id not in done:
                for record in (await self.step(actor, step, prefix, depth))[0]:
                    await self.keep(record)
            elif step.id not in done and not succeeded:
                await self.keep(
                    skipped(actor, step.contract, step.operation, prefix + step.id, f"the step {ended} did not succeed")
                )
        actor.scope.outputs = {
            name: value
            for name, text in case.outputs
            if (value := evaluate(parse_expression(text), actor.scope)) is not ABSENT
        }
        return succeeded

    async def keep(self, record: ExchangeRecord) -> None:
        self.records.append(record)
        await self.put(record)

    async def follow(
        self, actor: Actor, case: Case, step: Step, action: Action | None, held: bool, position: int, walked: tuple[Step, ...], prefix: str, depth: int, succeeded: bool
    ) -> tuple[int, str, bool]:  # fmt: skip
        """(position of the next step, the step that ended the case, whether all is well)."""
        if action is None:
            return (position + 1, "", succeeded) if held else (position, step.id, False)
        if action.type == "end":
            return position, step.id, succeeded and held
        if action.type == "retry":
            await asyncio.sleep(_wait(action, actor))
        if action.case is not None:
            went = await self.call(actor, action.case, {}, f"{prefix}{step.id}.{action.name}/", depth)
            if action.type == "goto":
                return position, step.id, succeeded and went
        if action.type == "retry" and not action.step:
            return position, "", succeeded
        if action.type == "retry":
            helper = next(one for one in walked if one.id == action.step)
            for record in (await self.step(actor, helper, f"{prefix}{step.id}.{action.name}/", depth))[0]:
                await self.keep(record)
            return position, "", succeeded
        return next((index for index, one in enumerate(walked) if one.id == action.step), position + 1), "", succeeded

    def action(
        self, actor: Actor, case: Case, step: Step, held: bool, attempts: dict[tuple[str, str], int]
    ) -> Action | None:
        """The first action whose criteria hold; a step's own come before, and instead of, the workflow's of the same name."""
        own, shared = (step.on_success, case.success) if held else (step.on_failure, case.failure)
        names = {action.name for action in own}
        for action in (*own, *(one for one in shared if one.name not in names)):
            if not all(criterion_result(one, actor).held for one in action.criteria):
                continue
            if action.type == "retry":
                tried = attempts.get((step.id, action.name), 0)
                if tried >= action.limit:
                    continue
                attempts[step.id, action.name] = tried + 1
            return action
        return None

    async def step(self, actor: Actor, step: Step, prefix: str, depth: int) -> tuple[list[ExchangeRecord], bool]:
        if step.case is None:
            record, held = await run_step(self.stage, actor, step, prefix + step.id)
            return [record], held
        missing: list[str] = []
        inputs = {name: fill(value, actor.scope, missing) for name, value in step.parameters}
        if missing:
            reason = f"no value for {', '.join(dict.fromkeys(missing))}"
            return [skipped(actor, None, None, prefix + step.id, reason)], False
        held = await self.call(actor, step.case, inputs, f"{prefix}{step.id}/", depth)
        actor.scope.steps[step.id] = outputs_of(actor, step)
        criteria = [criterion_result(one, actor) for one in step.criteria]
        if all(one.held for one in criteria):
            return [], held
        verdict, reason = verdict_of(tuple(criteria))
        record = ExchangeRecord(
            actor.case, prefix + step.id, "", "", None, verdict, reason, tuple(criteria), suite=actor.suite.name
        )
        return [record], False

    async def call(self, actor: Actor, key: CaseKey, inputs: Mapping[str, Any], prefix: str, depth: int) -> bool:
        """Another case within this one: its own values, the same cookies; what came out is left in the caller's scope."""
        suite, case = self.cases[key]
        if depth >= MAX_CALLS:
            record = skipped(actor, None, None, prefix.rstrip("/"), "")
            await self.keep(
                replace(record, verdict=Verdict.ERROR, reason=f"workflows call one another more than {MAX_CALLS} deep")
            )
            return False
        given = {**suite.variables, **case.inputs, **inputs}
        wrong = wrong_inputs(case, given)
        if wrong:
            await self.keep(
                replace(skipped(actor, None, None, prefix.rstrip("/"), ""), verdict=Verdict.ERROR, reason=wrong)
            )
            return False
        scope = Scope(given, workflows=actor.scope.workflows, sources=suite.sources, components=suite.components)
        inner = Actor(suite, actor.case, scope, actor.ground, actor.cookies)
        inner_suite = replace(suite, name=actor.suite.name)
        inner.suite = inner_suite
        held = await self.case(inner, case, prefix, depth + 1)
        actor.scope.outputs = scope.outputs
        actor.scope.workflows[case.id] = {"inputs": given, "outputs": scope.outputs}
        return held


def _wait(action: Action, actor: Actor) -> float:
    """A Retry-After of the answer overrules what the action says (Arazzo 1.0.1, failure action object)."""
    response = actor.scope.exchange.response if actor.scope.exchange else None
    told = header(response.headers, "retry-after") if response else None
    seconds = float(told) if told is not None and told.strip().isdigit() else action.after
    return min(seconds, MAX_WAIT)


def _handled(record: ExchangeRecord, action: Action) -> ExchangeRecord:
    """A failed criterion that an action of the suite answers is told, and fails nothing."""
    results = tuple(
        replace(one, severity=Severity.REMARK, detail=f"answered by the action {action.name}")
        if one.kind == "criterion.unmet" and not one.held
        else one
        for one in record.results
    )
    if record.exchange is None or record.exchange.response is None:
        return record
    verdict, reason = verdict_of(results)
    return replace(record, results=results, verdict=verdict, reason=reason)


def new_actor(suite: Suite, case: str, scope: Scope, ground: Any) -> Actor:
    return Actor(suite, case, scope, ground, aiohttp.CookieJar(unsafe=True))
