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
class Way:
    """A case being walked: where it is, and how it went so far."""

    actor: Actor
    case: Case
    steps: tuple[Step, ...]
    prefix: str = ""
    """Before the names of its steps: those that led here from the case that is run."""
    depth: int = 0
    position: int = 0
    ended: str = ""
    """The step that ended it."""
    succeeded: bool = True
    done: set[str] = field(default_factory=set)
    attempts: dict[tuple[str, str], int] = field(default_factory=dict)
    """Retries by step and action."""

    def name(self, step: Step) -> str:
        return self.prefix + step.id

    def end(self, step: Step, succeeded: bool) -> None:
        self.ended, self.succeeded = step.id, self.succeeded and succeeded

    def go(self, step_id: str) -> None:
        self.position = next(index for index, one in enumerate(self.steps) if one.id == step_id)


@dataclass(slots=True)
class Walk:
    """A case with those it calls; all records go to one place."""

    stage: Stage
    cases: Cases
    put: Put
    records: list[ExchangeRecord] = field(default_factory=list)
    taken: int = 0

    async def case(self, actor: Actor, case: Case, steps: tuple[Step, ...], prefix: str = "", depth: int = 0) -> bool:
        """Whether it ended without a failure; its outputs are in the scope then."""
        way = Way(actor, case, steps, prefix, depth)
        while way.position < len(steps) and not way.ended:
            step = steps[way.position]
            self.taken += 1
            if self.taken > MAX_STEPS:
                await self.refuse(way, way.name(step), f"more than {MAX_STEPS:,} steps were taken: a goto leads round")
                return False
            way.done.add(step.id)
            records, held = await self.step(way, step)
            action = next_action(way, step, held)
            if action is not None and not held and action.type != "end":
                records = [_handled(record, action) for record in records]
            await self.keep(*records)
            await self.follow(way, step, action, held)
        await self.finish(way)
        scope = actor.scope
        found = {name: evaluate(parse_expression(text), scope) for name, text in case.outputs}
        scope.outputs = {name: value for name, value in found.items() if value is not ABSENT}
        return way.succeeded

    async def finish(self, way: Way) -> None:
        """Clean-up steps run whatever happened; those that were not reached after a failure are told."""
        for step in way.steps:
            if step.always and step.id not in way.done:
                await self.keep(*(await self.step(way, step))[0])
            elif step.id not in way.done and not way.succeeded:
                reason = f"the step {way.ended} did not succeed"
                await self.keep(skipped(way.actor, step.contract, step.operation, way.name(step), reason))

    async def keep(self, *records: ExchangeRecord) -> None:
        for record in records:
            self.records.append(record)
            await self.put(record)

    async def refuse(self, way: Way, name: str, reason: str) -> None:
        """An error of the suite itself, met while it runs."""
        await self.keep(replace(skipped(way.actor, None, None, name, reason), verdict=Verdict.ERROR))

    async def follow(self, way: Way, step: Step, action: Action | None, held: bool) -> None:
        """Goes where an action leads; without one on to the next step, or to the end after a failure."""
        if action is None:
            if held:
                way.position += 1
            else:
                way.end(step, False)
        elif action.type == "end":
            way.end(step, held)
        elif action.type == "retry":
            await self.before_retry(way, step, action)
        elif action.case is not None:
            way.end(step, await self.call(way, action.case, {}, f"{step.id}.{action.name}/"))
        else:
            way.go(action.step)

    async def before_retry(self, way: Way, step: Step, action: Action) -> None:
        """Waits, and takes the step or workflow that the action names; then the same step comes again."""
        await asyncio.sleep(_wait(action, way.actor))
        if action.case is not None:
            await self.call(way, action.case, {}, f"{step.id}.{action.name}/")
        elif action.step:
            helper = next(one for one in way.steps if one.id == action.step)
            inner = replace(way, prefix=f"{way.prefix}{step.id}.{action.name}/")
            await self.keep(*(await self.step(inner, helper))[0])

    async def step(self, way: Way, step: Step) -> tuple[list[ExchangeRecord], bool]:
        """(what is to be told of it, whether it succeeded)."""
        actor, name = way.actor, way.name(step)
        if step.case is None:
            record, held = await run_step(self.stage, actor, step, name)
            return [record], held
        missing: list[str] = []
        inputs = {name: fill(value, actor.scope, missing) for name, value in step.parameters}
        if missing:
            reason = f"no value for {', '.join(dict.fromkeys(missing))}"
            return [skipped(actor, None, None, name, reason)], False
        held = await self.call(way, step.case, inputs, f"{step.id}/")
        actor.scope.steps[step.id] = outputs_of(actor, step)
        criteria = [criterion_result(one, actor) for one in step.criteria]
        if all(one.held for one in criteria):
            return [], held
        verdict, reason = verdict_of(tuple(criteria))
        told = replace(skipped(actor, None, None, name, reason), verdict=verdict, results=tuple(criteria))
        return [told], False

    async def call(self, way: Way, key: CaseKey, inputs: Mapping[str, Any], name: str) -> bool:
        """Another case within this one: its own values, the same cookies; what came out is left in the caller's scope."""
        suite, case = self.cases[key]
        prefix = way.prefix + name
        given = {**suite.variables, **case.inputs, **inputs}
        deep = f"workflows call one another more than {MAX_CALLS} deep" if way.depth >= MAX_CALLS else ""
        wrong = deep or wrong_inputs(case, given)
        if wrong:
            await self.refuse(way, prefix.rstrip("/"), wrong)
            return False
        caller = way.actor
        scope = Scope(given, workflows=caller.scope.workflows, sources=suite.sources, components=suite.components)
        inner = Actor(replace(suite, name=caller.suite.name), caller.case, scope, caller.ground, caller.cookies)
        held = await self.case(inner, case, case.steps, prefix, way.depth + 1)
        caller.scope.outputs = scope.outputs
        caller.scope.workflows[case.id] = {"inputs": given, "outputs": scope.outputs}
        return held


def next_action(way: Way, step: Step, held: bool) -> Action | None:
    """The first action whose criteria hold; a step's own come before, and instead of, the workflow's of the same name."""
    own, shared = (step.on_success, way.case.success) if held else (step.on_failure, way.case.failure)
    names = {action.name for action in own}
    for action in (*own, *(one for one in shared if one.name not in names)):
        if not all(criterion_result(one, way.actor).held for one in action.criteria):
            continue
        if action.type == "retry":
            tried = way.attempts.get((step.id, action.name), 0)
            if tried >= action.limit:
                continue
            way.attempts[step.id, action.name] = tried + 1
        return action
    return None


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
