"""The engine: cases side by side, the steps of a case in order, everything finished handed to the writer."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, Protocol

import aiohttp
from yarl import URL

from juxtalogos.exchange.transport import Transport
from juxtalogos.ledger import CaseRecord, ExchangeRecord
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.exchange import Exchange, Request, header
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.location import split_pointer
from juxtalogos.model.seams import ABSENT, Inputs
from juxtalogos.model.verdict import Verdict, worst
from juxtalogos.run.judge import Judgement, judge, with_written
from juxtalogos.run.session import Session
from juxtalogos.schema.patterns import PatternTimeout, compile_pattern
from juxtalogos.suite.conditions import holds, in_words, parse_condition
from juxtalogos.suite.expressions import Scope, evaluate, fill, parse_expression
from juxtalogos.suite.inputs import put
from juxtalogos.suite.model import Case, Criterion, Step, Suite


class Sink(Protocol):
    async def put(self, record: ExchangeRecord | CaseRecord) -> None: ...


@dataclass(frozen=True, slots=True)
class Plan:
    """What to run: cases with their suites, at one target."""

    cases: tuple[tuple[Suite, Case], ...]
    session: Session
    jobs: int = 4
    reset: Callable[[], Any] | None = None
    """Awaited before each case; then cases run one at a time."""


async def run_plan(plan: Plan, sink: Sink, done: Callable[[CaseRecord], None]) -> Verdict:
    """Runs every case; gives the worst verdict. On cancellation what is finished is with the sink already."""
    slots = asyncio.Semaphore(1 if plan.reset else plan.jobs)
    verdicts: list[Verdict] = []

    async with Transport(replace(plan.session.options, connections=max(plan.jobs, 1))) as transport:

        async def one(suite: Suite, case: Case) -> None:
            async with slots:
                if plan.reset:
                    await plan.reset()
                record = await run_case(plan.session, transport, suite, case, sink)
                verdicts.append(record.verdict)
                await sink.put(record)
                done(record)

        async with asyncio.TaskGroup() as group:
            for suite, case in plan.cases:
                group.create_task(one(suite, case))
    return worst(verdicts)


async def run_case(session: Session, transport: Transport, suite: Suite, case: Case, sink: Sink) -> CaseRecord:
    """One case: its own cookies and scope. A step that fails a criterion ends the case, clean-up steps apart."""
    started = time.perf_counter()
    cookies = aiohttp.CookieJar(unsafe=True)
    sources = {contract.name: contract.root for contract in session.contracts.values()}
    scope = Scope({**case.inputs, **session.target.variables}, sources=sources)
    records: list[ExchangeRecord] = []
    stopped = ""
    for step in case.steps:
        if stopped and not step.always:
            record = _skipped(suite, case, step, f"the step {stopped} did not succeed")
        else:
            record, went_on = await run_step(session, transport, suite, case, step, scope, cookies)
            if not went_on and not stopped:
                stopped = step.id
        records.append(record)
        await sink.put(record.redacted(session.redactor))
    verdict = worst(record.verdict for record in records)
    first = next((record for record in records if record.verdict is verdict), None)
    reason = f"{first.step}: {first.reason}" if first and first.reason else ""
    return CaseRecord(suite.name, case.id, verdict, session.redactor.text(reason), time.perf_counter() - started)


def _skipped(suite: Suite, case: Case, step: Step, reason: str) -> ExchangeRecord:
    return ExchangeRecord(
        case.id, step.id, step.contract.name, step.operation.id, None, Verdict.SKIPPED, reason, suite=suite.name
    )


async def run_step(
    session: Session,
    transport: Transport,
    suite: Suite,
    case: Case,
    step: Step,
    scope: Scope,
    cookies: aiohttp.CookieJar,
) -> tuple[ExchangeRecord, bool]:
    """(record, whether the case goes on)."""
    missing: list[str] = []
    inputs = _inputs(step, scope, missing)
    if missing:
        return _skipped(suite, case, step, f"no value for {', '.join(dict.fromkeys(missing))}"), False
    try:
        request, _ = session.request(step.contract, step.operation, inputs)
    except JuxtalogosError as error:
        return ExchangeRecord(
            case.id, step.id, step.contract.name, step.operation.id, None, Verdict.ERROR, error.what, suite=suite.name
        ), False
    exchange = await transport.send(_with_cookies(request, cookies))
    if exchange.response:
        _take_cookies(exchange, cookies)
    judgement = judge(
        session.form(step.contract), step.contract, step.operation, exchange, session.base_url(step.contract)
    )
    _note(scope, exchange, inputs, judgement)
    written = tuple(_criterion(criterion, scope) for criterion in step.criteria) if exchange.response else ()
    judgement = with_written(judgement, written)
    scope.steps[step.id] = {name: evaluate(parse_expression(text), scope) for name, text in step.outputs}
    record = ExchangeRecord(
        case.id,
        step.id,
        step.contract.name,
        step.operation.id,
        exchange,
        judgement.verdict,
        judgement.reason,
        judgement.results,
        judgement.hits,
        suite.name,
    )
    return record, exchange.response is not None and all(result.held for result in written)


def _inputs(step: Step, scope: Scope, missing: list[str]) -> Inputs:
    values = {address: fill(value, scope, missing) for address, value in step.parameters}
    if step.payload is None:
        return Inputs(values)
    body = fill(step.payload.payload, scope, missing) if step.payload.payload is not ABSENT else ABSENT
    for replacement in step.payload.replacements:
        body = put(body, split_pointer(replacement.target), fill(replacement.value, scope, missing), replacement.target)
    return Inputs(values, body, step.payload.content_type)


def _note(scope: Scope, exchange: Exchange, inputs: Inputs, judgement: Judgement) -> None:
    scope.exchange = exchange
    scope.request_values = inputs.values
    scope.request_body = inputs.body
    scope.response_value = judgement.answer.value if judgement.answer else ABSENT


def _criterion(criterion: Criterion, scope: Scope) -> CheckResult:
    """A written criterion as a check result, expected beside actual whether it held or not."""
    if criterion.type == "regex":
        value = evaluate(parse_expression(criterion.context), scope)
        text = value if isinstance(value, str) else "" if value is ABSENT else str(value)
        try:
            held = value is not ABSENT and compile_pattern(criterion.condition).search(text)
        except PatternTimeout:
            return CheckResult(
                "criterion.unmet", False, criterion.context, criterion.condition, "the pattern took too long"
            )
        return CheckResult(
            "criterion.unmet",
            held,
            criterion.context,
            f"matches {criterion.condition}",
            text[:200] if value is not ABSENT else "absent",
        )
    condition = parse_condition(criterion.condition)
    return CheckResult(
        "criterion.unmet", holds(condition, scope), "written", criterion.condition, in_words(condition, scope)
    )


def _with_cookies(request: Request, cookies: aiohttp.CookieJar) -> Request:
    found = cookies.filter_cookies(URL(request.url, encoded=True))
    if not found:
        return request
    own = header(request.headers, "cookie")
    text = "; ".join(filter(None, (own, *(f"{cookie.key}={cookie.value}" for cookie in found.values()))))
    return replace(
        request, headers=(*(pair for pair in request.headers if pair[0].lower() != "cookie"), ("Cookie", text))
    )


def _take_cookies(exchange: Exchange, cookies: aiohttp.CookieJar) -> None:
    assert exchange.response is not None
    lines = [value for name, value in exchange.response.headers if name.lower() == "set-cookie"]
    if lines:
        cookies.update_cookies_from_headers(lines, URL(exchange.request.url, encoded=True))
