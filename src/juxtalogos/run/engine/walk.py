"""One case walked: its steps in order, actions after each, other cases called, clean-up at the end (Arazzo
1.0.1).

Whatever happens in a step is that step's: an error that nobody foresaw becomes its record, and clean-up runs
all the same.
"""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import aiohttp

from juxtalogos.exchange.waiting import retry_after
from juxtalogos.formats import outcome_of
from juxtalogos.ledger import ExchangeRecord
from juxtalogos.model.errors import LedgerError
from juxtalogos.model.findings import Severity
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.engine import unforeseen
from juxtalogos.run.engine.step import (
    CaseState,
    RunContext,
    criterion_result,
    outputs_of,
    run_step,
    skipped,
    without_values,
)
from juxtalogos.run.engine.stop import Interrupted
from juxtalogos.run.gate.inventory import CASE
from juxtalogos.run.judging.judge import verdict_of
from juxtalogos.run.undo.created import PutUndo
from juxtalogos.run.undo.undoing import Undoing, needless, nowhere
from juxtalogos.suite.inputs import wrong_inputs
from juxtalogos.suite.language.expressions import Scope, evaluate, fill, parse_expression
from juxtalogos.suite.language.formulas import is_unique, settled
from juxtalogos.suite.model import Action, Case, CaseKey, Step, Suite

MAX_STEPS = 1_000
"""Steps of one case; a goto that leads round ends there. Clean-up steps come on top."""
MAX_CALLS = 10
"""Cases that call one another, deep."""
MAX_WAIT = 300.0
"""Seconds before a retry, whatever is asked for."""
MAX_CLEANUP = 60.0
"""Seconds that the clean-up of an interrupted case may take."""

Cases = Mapping[CaseKey, tuple[Suite, Case]]
Put = Callable[[ExchangeRecord], Awaitable[ExchangeRecord]]
"""Keeps a record; gives it as it was kept."""


@dataclass(slots=True)
class CasePosition:
    """A case being walked: where it is, and how it went so far."""

    state: CaseState
    case: Case
    steps: tuple[Step, ...]
    prefix: str = ""
    """Before the names of its steps: those that led here from the case that is run."""
    depth: int = 0
    at: int = 0
    ended: str = ""
    """The step that ended it."""
    succeeded: bool = True
    done: set[str] = field(default_factory=set)
    attempts: dict[tuple[str, str], int] = field(default_factory=dict)
    """Retries by step and action."""

    def name(self, step: Step) -> str:
        return self.prefix + step.id

    def end(self, step: Step, succeeded: bool) -> None:
        """Ends the walk at a step."""
        self.ended, self.succeeded = step.id, self.succeeded and succeeded

    def go(self, step_id: str) -> bool:
        """Whether the step is one of those that are walked."""
        found = next((index for index, one in enumerate(self.steps) if one.id == step_id), None)
        self.at = self.at if found is None else found
        return found is not None


@dataclass(slots=True)
class Walk:
    """A case with those it calls; all records go to one place."""

    context: RunContext
    cases: Cases
    put: Put
    records: list[ExchangeRecord] = field(default_factory=list)
    taken: int = 0
    put_undo: PutUndo = nowhere
    """Keeps what is to be undone."""
    undoing: Undoing = field(init=False)
    aside: set[str] = field(default_factory=set)
    """Names of the steps that only prepare or clean up."""
    retried: Counter[str] = field(default_factory=Counter)
    """By the name of a step, how often it was tried again."""

    def __post_init__(self) -> None:
        carried = self.context.gate.inventory.carried
        self.undoing = Undoing(self.context.session.target.reference, self.put_undo, carried)

    async def case(
        self, state: CaseState, case: Case, steps: tuple[Step, ...], prefix: str = "", depth: int = 0
    ) -> bool:
        """Whether it ended without a failure; its outputs are in the scope then."""
        position = CasePosition(state, case, steps, prefix, depth)
        state.composed = case.composed
        CASE.set((state.suite.name, state.case))
        self.context.gate.inventory.marks += [
            str(state.scope.inputs.get(name, ""))
            for name, formula in case.formulas.items()
            if is_unique(formula, self.context.session.known)
        ]
        try:
            await self.walk(position)
        finally:
            await self.clean_up(position)
            if not depth:
                await self.context.gate.settle(self.context.session, self.context.transport)
        scope = state.scope
        scope.outputs = {}
        for name, text in case.outputs:
            value = evaluate(parse_expression(text), scope)
            if value is not ABSENT:
                scope.outputs[name] = value
        return position.succeeded

    async def walk(self, position: CasePosition) -> None:
        """Takes steps until the last, or until one ends it."""
        while position.at < len(position.steps) and not position.ended:
            if self.context.stop.asked:
                raise Interrupted
            step = position.steps[position.at]
            if needless(position.state, step):
                position.done.add(step.id)
                position.at += 1
                continue
            if all(
                earlier.always and not earlier.on_success and not earlier.on_failure
                for earlier in position.steps[position.at :]
            ):
                return  # nothing is left but to clean up
            self.taken += 1
            if self.taken > MAX_STEPS:
                reason = f"more than {MAX_STEPS:,} steps ran: a goto leads in a circle"
                await self.refuse(position, position.name(step), reason)
                position.end(step, False)
                return
            position.done.add(step.id)
            try:
                records, held = await self.step(position, step)
                action = None
                try:
                    action = next_action(position, step, held)
                    if action is not None and not held and action.type != "end":
                        records = [_handled(record, action) for record in records]
                except Exception as error:
                    broken = self.broken(position, step, error)
                    last = (
                        replace(records[-1], verdict=broken.verdict, reason=broken.reason)
                        if records
                        else broken
                    )
                    records, held = [*records[:-1], last], False
                await self.keep(*records)
                await self.follow(position, step, action, held)
            except (LedgerError, Interrupted):
                position.end(step, True)
                raise
            except Exception as error:
                await self.keep(self.broken(position, step, error))
                position.end(step, False)

    async def clean_up(self, position: CasePosition) -> None:
        """Clean-up steps run whatever happened; those that were not reached after a failure are told."""
        fault: LedgerError | None = None
        refused: list[tuple[Step, ExchangeRecord]] = []
        for step in position.steps:
            if step.id in position.done:
                continue
            position.done.add(step.id)
            try:
                if needless(position.state, step):
                    continue
                if step.always:
                    async with asyncio.timeout(MAX_CLEANUP):
                        records, held = await self.step(position, step)
                    if not held and _refused(step, records[-1]):
                        refused.append((step, records[-1]))  # perhaps something else must be undone first
                        continue
                elif not position.succeeded:
                    reason = f"the step {position.ended} did not succeed"
                    if step.needed:
                        self.aside.add(position.name(step))
                    records = [
                        skipped(position.state, step.contract, step.operation, position.name(step), reason)
                    ]
                else:
                    continue
                await self.keep(*records)
            except LedgerError as error:  # what is to be undone is undone, whether or not it can be told
                fault = error
            except Exception as error:
                await self.keep(self.broken(position, step, error))
        try:
            await self.undo_again(position, refused)
        except LedgerError as error:
            fault = error
        if fault is not None:
            raise fault

    async def undo_again(self, position: CasePosition, refused: list[tuple[Step, ExchangeRecord]]) -> None:
        """What could not be undone is tried again while that helps; of each the last attempt is told as it
        is.
        """
        while refused:
            left: list[tuple[Step, ExchangeRecord]] = []
            for step, before in refused if len(refused) > 1 else ():
                try:
                    async with asyncio.timeout(MAX_CLEANUP):
                        records, held = await self.step(position, step)
                except LedgerError:
                    raise
                except Exception as error:
                    records, held = [self.broken(position, step, error)], False
                if held:
                    await self.keep(
                        replace(
                            before,
                            verdict=Verdict.SKIPPED,
                            results=(),
                            reason="something else had to be undone first",
                        ),
                        *records,
                    )
                else:
                    left.append((step, before))
            if len(left) == len(refused) or len(refused) == 1:
                await self.keep(*(record for _, record in refused))
                return
            refused = left

    async def keep(self, *records: ExchangeRecord) -> None:
        """Keeps records, in their order."""
        for record in records:
            self.records.append(await self.put(record))

    def broken(self, position: CasePosition, step: Step, error: Exception) -> ExchangeRecord:
        """The record of a step in which something happened that nobody foresaw."""
        told = "clean-up took too long" if isinstance(error, TimeoutError) else unforeseen.told(error)
        record = skipped(position.state, step.contract, step.operation, position.name(step), told)
        return replace(record, verdict=Verdict.ERROR)

    async def refuse(self, position: CasePosition, name: str, reason: str) -> None:
        """An error of the suite itself, met while it runs."""
        await self.keep(replace(skipped(position.state, None, None, name, reason), verdict=Verdict.ERROR))

    async def follow(self, position: CasePosition, step: Step, action: Action | None, held: bool) -> None:
        """Goes where an action leads; without one on to the next step, or to the end after a failure."""
        if action is None:
            if held:
                position.at += 1
            else:
                position.end(step, False)
        elif action.type == "end":
            position.end(step, held)
        elif action.type == "retry":
            self.retried[position.name(step)] += 1
            await self.before_retry(position, step, action)
        elif action.case is not None:
            position.end(step, await self.call(position, action.case, {}, f"{step.id}.{action.name}/"))
        elif not position.go(action.step):
            await self.refuse(position, f"{position.name(step)}.{action.name}", _out_of_reach(action))
            position.end(step, False)

    async def before_retry(self, position: CasePosition, step: Step, action: Action) -> None:
        """Waits, and takes the step or workflow that the action names; then the same step comes again."""
        await (self.context.sleep or self.context.stop.sleep)(_wait(action, position.state))
        name = f"{step.id}.{action.name}/"
        if action.case is not None:
            await self.call(position, action.case, {}, name)
        elif action.step:
            helper = next((earlier for earlier in position.steps if earlier.id == action.step), None)
            if helper is None:
                await self.refuse(position, position.prefix + name.rstrip("/"), _out_of_reach(action))
                position.end(step, False)
                return
            inner = replace(position, prefix=f"{position.prefix}{name}")
            await self.keep(*(await self.step(inner, helper))[0])

    async def step(self, position: CasePosition, step: Step) -> tuple[list[ExchangeRecord], bool]:
        """(what is to be told of it, whether it succeeded)."""
        state, name = position.state, position.name(step)
        if step.case is None:
            intents = (
                []
                if state.composed  # the gate keeps what is to be undone
                else await self.undoing.intended(position.state, position.case, position.steps, step)
            )
            record, held = await run_step(self.context, state, step, name)
            if step.needed or step.always:
                self.aside.add(name)
            if not state.composed:
                await self.undoing.noted(position.state, position.case, position.steps, step, position.done)
            if (
                record.exchange is None or record.exchange.response is not None
            ):  # else nobody knows what came of it
                await self.undoing.answered(intents)
            return [record], held
        missing: list[str] = []
        inputs = {name: fill(value, state.scope, missing) for name, value in step.parameters}
        if missing:
            verdict, reason = without_values(missing)
            return [replace(skipped(state, None, None, name, reason), verdict=verdict)], False
        held = await self.call(position, step.case, inputs, f"{step.id}/")
        state.scope.steps[step.id] = outputs_of(state, step)
        criteria = [criterion_result(criterion, state) for criterion in step.criteria]
        if all(criterion.held for criterion in criteria):
            return [], held
        verdict, reason = verdict_of(tuple(criteria))
        told = replace(skipped(state, None, None, name, reason), verdict=verdict, results=tuple(criteria))
        return [told], False

    async def call(self, position: CasePosition, key: CaseKey, inputs: Mapping[str, Any], name: str) -> bool:
        """Another case within this one: its own values, the same cookies; what came out is left in the
        caller's scope.
        """
        suite, case = self.cases[key]
        prefix = position.prefix + name
        given = {**settled(suite.variables, position.state.ground, str(suite.path)), **case.inputs, **inputs}
        deep = f"workflows call one another more than {MAX_CALLS} deep" if position.depth >= MAX_CALLS else ""
        wrong = deep or wrong_inputs(case, given)
        if wrong:
            await self.refuse(position, prefix.rstrip("/"), wrong)
            return False
        caller = position.state
        scope = Scope(
            given, workflows=caller.scope.workflows, sources=suite.sources, components=suite.components
        )
        inner = CaseState(
            replace(suite, name=caller.suite.name),
            caller.case,
            scope,
            caller.ground,
            caller.cookies,
            caller.conversations,
        )
        held = await self.case(inner, case, case.steps, prefix, position.depth + 1)
        caller.scope.outputs = scope.outputs
        caller.scope.workflows[case.id] = {"inputs": given, "outputs": scope.outputs}
        return held


def next_action(position: CasePosition, step: Step, held: bool) -> Action | None:
    """The first action whose criteria hold; a step's own come before, and instead of, the workflow's of the
    same name.
    """
    case = position.case
    own, shared = (step.on_success, case.success) if held else (step.on_failure, case.failure)
    names = {action.name for action in own}
    for action in (*own, *(one for one in shared if one.name not in names)):
        if not all(criterion_result(criterion, position.state).held for criterion in action.criteria):
            continue
        if action.type == "retry":
            tried = position.attempts.get((step.id, action.name), 0)
            if tried >= action.limit:
                continue
            position.attempts[step.id, action.name] = tried + 1
        return action
    return None


def _refused(step: Step, record: ExchangeRecord) -> bool:
    """Whether the service declined what a step asked for."""
    if step.contract is None or step.operation is None:
        return False
    return outcome_of(step.contract, step.operation, record.exchange).refused


def _out_of_reach(action: Action) -> str:
    return (
        f"the action {action.name} leads to the step {action.step}, which is not among those that are run now"
        " (a set-up step runs once)"
    )


def _wait(action: Action, state: CaseState) -> float:
    """A Retry-After of the answer overrules what the action says (Arazzo 1.0.1, failure action object; RFC
    9110, section 10.2.3).
    """
    exchange = state.scope.exchange
    told = (
        retry_after(exchange.response, exchange.timings.sent_at) if exchange and exchange.response else None
    )
    return min(max(action.after if told is None else told, 0.0), MAX_WAIT)


def _handled(record: ExchangeRecord, action: Action) -> ExchangeRecord:
    """A failed criterion that an action of the suite answers is told, and fails nothing."""
    results = tuple(
        (
            replace(result, severity=Severity.REMARK, detail=f"handled by the action {action.name}")
            if result.kind == "criterion.unmet" and not result.held
            else result
        )
        for result in record.results
    )
    if record.exchange is None or record.exchange.response is None:
        return record
    verdict, reason = verdict_of(results)
    return replace(record, results=results, verdict=verdict, reason=reason)


def new_state(suite: Suite, case: str, scope: Scope, ground: Any) -> CaseState:
    """A case that begins: no cookies yet."""
    return CaseState(suite, case, scope, ground, aiohttp.CookieJar(unsafe=True))
