"""One step that calls an operation: filled, sent, judged, its criteria and written checks made, its outputs
taken.
"""

from __future__ import annotations

import re
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any
from urllib.parse import unquote, urlsplit

import aiohttp

from juxtalogos.documents.jsontext import dump_json, parse_json
from juxtalogos.exchange.cookies import take_cookies, with_cookies
from juxtalogos.exchange.transport import Sender
from juxtalogos.formats import wire_of
from juxtalogos.ledger import ExchangeRecord
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import JuxtalogosError, UsageError, Withheld
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.location import split_pointer
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.verdict import Verdict
from juxtalogos.model.wire import Inputs
from juxtalogos.run.engine import unforeseen
from juxtalogos.run.engine.conversing import Conversations, conversed
from juxtalogos.run.engine.crowd import Crowd, asked_alone
from juxtalogos.run.engine.stop import Stop
from juxtalogos.run.gate.gate import Gate
from juxtalogos.run.judging.judge import Judgement, judge, judged_parts, unsigned, with_parts, with_written
from juxtalogos.run.judging.known import values_made
from juxtalogos.run.judging.refusals import PRESUMED, refusal
from juxtalogos.run.learning.reading import mended
from juxtalogos.run.target.session import Session
from juxtalogos.schema.patterns import PatternTimeout, compile_pattern
from juxtalogos.suite.checks.reported import reported_values
from juxtalogos.suite.checks.written import run_check, value_at
from juxtalogos.suite.inputs import put
from juxtalogos.suite.kept_answers import run_values
from juxtalogos.suite.language.conditions import holds, in_words, parse_condition
from juxtalogos.suite.language.expressions import Scope, evaluate, fill, parse_expression
from juxtalogos.suite.language.formulas import FormulaContext
from juxtalogos.suite.language.selectors import NoSelection, replace_xml, select_json, select_xml, xml_holds
from juxtalogos.suite.model import Criterion, Output, Step, Suite

MAX_KNOWN = 60
"""Values of a case that are noted with one exchange."""


Sleep = Callable[[float], Awaitable[None]]


@dataclass(frozen=True, slots=True)
class RunContext:
    """What all steps of a run share."""

    session: Session
    transport: Sender
    stop: Stop = field(default_factory=Stop)
    sleep: Sleep | None = None
    """Waits before a retry; None: by the clock, until the run is stopped."""
    gate: Gate = field(default_factory=Gate)
    crowd: Crowd = field(default_factory=Crowd)


@dataclass(slots=True)
class CaseState:
    """One case under way: its own cookies, values and seed."""

    suite: Suite
    case: str
    scope: Scope
    ground: FormulaContext
    cookies: aiohttp.CookieJar
    conversations: Conversations = field(default_factory=Conversations)
    created: dict[str, bool] = field(default_factory=dict)
    """Steps that created something, and whether it was not there before."""
    succeeded: set[str] = field(default_factory=set)
    """Steps whose criteria held."""
    composed: bool = False
    """Whether its requests are compose's, and no person's."""


async def run_step(
    context: RunContext, state: CaseState, step: Step, name: str
) -> tuple[ExchangeRecord, bool]:
    """(record, whether it succeeded): an answer came and every criterion held. `name` is the step's within
    the whole case.

    Raises nothing: an error that nobody foresaw is the record's, with the exchange as far as there is one.
    """
    attempt = _Attempt(context, state, step, name)
    try:
        request = attempt.request()
        if isinstance(request, ExchangeRecord):
            return request, False
        await attempt.send(request)
        return await attempt.judged()
    except Withheld as refusal:
        return attempt.ended(Verdict.SKIPPED, f"not sent: {refusal.what}"), False
    except JuxtalogosError as error:
        return attempt.ended(Verdict.ERROR, error.what), False
    except Exception as error:
        attempt.rescue()
        return attempt.ended(Verdict.ERROR, unforeseen.told(error)), False


@dataclass(slots=True)
class _Attempt:
    """One step under way: how far it came."""

    context: RunContext
    state: CaseState
    step: Step
    name: str
    inputs: Inputs = field(default_factory=lambda: Inputs({}))
    exchange: Exchange | None = None
    busy: CheckResult | None = None
    """That the service failed under several requests at once."""

    @property
    def called(self) -> tuple[Contract, Operation]:
        assert self.step.contract is not None and self.step.operation is not None
        return self.step.contract, self.step.operation

    @property
    def own(self) -> bool:
        """Whether it asks for what a step of this case has created."""
        return any(
            text.startswith(f"$steps.{name}.") for _, text in self.step.flows for name in self.state.created
        )

    @property
    def session(self) -> Session:
        """Who sends. The gate is asked for what compose wrote; of what a person wrote it is only told."""
        session = self.context.session.acting(self.step.role)
        if self.state.composed:
            return replace(session, gate=self.context.gate)
        return replace(session, gate=self.context.gate if self.step.creates else None, watch=True)

    def ended(self, verdict: Verdict, reason: str) -> ExchangeRecord:
        record = skipped(self.state, self.step.contract, self.step.operation, self.name, reason)
        return replace(record, verdict=verdict, exchange=self.exchange)

    def request(self) -> Request | ExchangeRecord:
        """What is to be sent, or why nothing can be."""
        missing: list[str] = []
        self.inputs = inputs_of(self.step, self.state.scope, missing)
        if missing:
            return self.ended(*without_values(missing))
        request = self.context.session.encoded(*self.called, self.inputs)
        return with_cookies(request, self.state.cookies)

    async def send(self, request: Request) -> None:
        session, transport = self.session, self.context.transport
        if self.step.creates is not None:
            member = _member(self.step)
            if member:
                self.context.gate.inventory.members.setdefault(self.called[1].full_id, member)
        if not self.state.composed and self.step.creates is None:
            self.context.gate.note_unwatched(self.called[1])
        crowd = self.context.crowd
        async with crowd.sending() as beside:
            self.exchange = await session.send(*self.called, request, transport, seen=self.take)
        if beside > 1 and self.state.composed:
            sleep = self.context.sleep or self.context.stop.sleep
            self.exchange, self.busy = await asked_alone(
                crowd, session, transport, self.called, request, self.exchange, beside, sleep
            )
        if self.exchange.response:
            take_cookies(self.exchange, self.state.cookies)

    async def judged(self) -> tuple[ExchangeRecord, bool]:
        (contract, operation), session, state, step = self.called, self.session, self.state, self.step
        exchange = self.exchange
        assert exchange is not None
        judgement = judge(wire_of(contract), operation, exchange, session.base_url(contract))
        _note(state.scope, exchange, self.inputs, judgement.answer.value if judgement.answer else ABSENT)
        judgement = session.rules.apply(contract, operation, judgement, state.scope, state.ground)
        state.scope.steps[step.id] = outputs_of(state, step)
        value = judgement.answer.value if judgement.answer else ABSENT
        made = values_made(step.id, operation, exchange, value, state.scope.steps[step.id].values())
        state.scope.made |= made
        written, succeeded = _written(state, step, exchange)
        told = operation, exchange, judgement
        judgement, pages = await conversed(
            session, state.conversations, contract, operation, told, self.context.transport
        )
        remarks = (*([self.busy] if self.busy else []), *session.remarks_on(operation))
        judgement = with_written(judgement, (*written, *remarks))
        parts = [*judged_parts(wire_of(contract), exchange, session.base_url(contract)), *pages]
        judgement = with_parts(judgement, (part for _, _, part in parts))
        why = session.unsigned_words(contract, operation, exchange)
        judgement = unsigned(judgement, why) if why else refusal(judgement, exchange, self.own)
        if judgement.verdict is Verdict.REFUSED:
            judgement = mended(judgement, operation, exchange, self.inputs)
        if succeeded:
            state.succeeded.add(step.id)
            if step.creates is not None:
                key = evaluate(parse_expression(step.creates.key), state.scope)
                inventory = self.context.gate.inventory
                state.created[step.id] = (
                    inventory.is_ours(operation, key)
                    if state.composed
                    else not inventory.was_before(contract, operation, key)
                )
        record = ExchangeRecord(
            state.case,
            self.name,
            contract.name,
            operation.id,
            exchange,
            judgement.verdict,
            judgement.reason,
            judgement.results,
            judgement.hits,
            state.suite.name,
            known=tuple(run_values(state.scope).items())[:MAX_KNOWN],
            flows=step.flows,
            note=str(fill(step.description, state.scope, [])),
            reported=_reported(session, step, state),
            role=session.role,
            parts=(
                *(self.failed(number, one) for number, one in enumerate(exchange.tries, 1)),
                *(self.part(number, *part) for number, part in enumerate(parts, 1)),
            ),
        )
        return record, succeeded

    def failed(self, number: int, exchange: Exchange) -> ExchangeRecord:
        """What was sent in vain over a connection that was closed, kept beside what was sent again."""
        return ExchangeRecord(
            self.state.case,
            f"{self.name}/try-{number}",
            self.called[0].name,
            self.called[1].id,
            exchange,
            Verdict.SKIPPED,
            "the connection was closed; it was sent again"
            if exchange.response is None
            else f"{exchange.response.status}; it was sent again",
            suite=self.state.suite.name,
        )

    def part(self, number: int, operation: Operation, exchange: Exchange, found: Judgement) -> ExchangeRecord:
        return ExchangeRecord(
            self.state.case,
            f"{self.name}/{number}",
            operation.contract,
            operation.id,
            exchange,
            found.verdict,
            found.reason,
            found.results,
            found.hits,
            self.state.suite.name,
        )

    def take(self, exchange: Exchange) -> None:
        """Keeps what was sent and came, whatever goes wrong afterwards."""
        self.exchange = exchange

    def rescue(self) -> None:
        """What clean-up needs is taken out of an answer that could not be judged."""
        scope = self.state.scope
        if self.exchange is None or self.exchange.response is None or self.step.id in scope.steps:
            return
        try:
            _note(scope, self.exchange, self.inputs, parse_json(self.exchange.response.body))
            scope.steps[self.step.id] = outputs_of(self.state, self.step)
        except Exception:  # then there is nothing to be had: what depends on it is skipped, with that reason
            scope.steps.setdefault(self.step.id, {})


def _member(step: Step) -> str:
    """The member of a response that names what a step creates, as its suite says; empty where that is no
    member.
    """
    name = step.creates.key.rpartition(".")[2] if step.creates is not None else ""
    text = dict(step.outputs).get(name, "")
    if text.startswith("$response.body#/"):
        return text.rpartition("/")[2]
    selected = next((part for part in step.selected if part.name == name and part.type == "xpath"), None)
    return re.split(r"[/:]", selected.selector)[-1] if selected is not None else ""


def _reported(session: Session, step: Step, state: CaseState) -> tuple[tuple[str, str], ...]:
    """What the step puts into the report; what a secret field holds is masked here, where
    its place is known.
    """
    if not step.reported:
        return ()
    found = reported_values(step.reported, state.scope, state.suite.namespaces)
    return tuple(
        (name, session.redactor.result(CheckResult("", True, at, "", text)).observed)
        for name, at, text in found
    )


def _written(state: CaseState, step: Step, exchange: Exchange) -> tuple[tuple[CheckResult, ...], bool]:
    """(results of criteria and checks, whether the criteria held): checks are told, but
    only criteria steer.
    """
    if exchange.response is None:
        return (), False
    criteria = tuple(criterion_result(criterion, state) for criterion in step.criteria)
    checks = tuple(
        run_check(check, state.scope, state.ground, state.suite.namespaces) for check in step.checks
    )
    return criteria + checks, all(criterion.held for criterion in criteria)


def outputs_of(state: CaseState, step: Step) -> dict[str, Any]:
    """The outputs of a step, each ABSENT where it has no value."""
    found = {name: evaluate(parse_expression(text), state.scope) for name, text in step.outputs}
    chosen = {part.name: selected(part, state.scope, state.suite.namespaces) for part in step.selected}
    return {**found, **chosen}


def selected(output: Output, scope: Scope, namespaces: Mapping[str, str]) -> Any:
    """One node's value, several as a list; ABSENT when nothing is chosen."""
    try:
        if output.type == "xpath":
            response = scope.exchange.response if scope.exchange else None
            nodes = select_xml(output.selector, response.body if response else b"", namespaces=namespaces)
        elif output.type == "segment":
            nodes = _segment(evaluate(parse_expression(output.context), scope), int(output.selector))
        else:
            value = evaluate(parse_expression(output.context), scope)
            nodes = select_json(output.selector, value) if value is not ABSENT else []
    except (NoSelection, ValueError):
        return ABSENT
    return ABSENT if not nodes else nodes[0] if len(nodes) == 1 or output.first else nodes


def _segment(value: Any, place: int) -> list[str]:
    """A segment of the path of a URL or path, decoded, counted from 0 or, negative, from the end."""
    parts = urlsplit(value).path.strip("/").split("/") if isinstance(value, str) else []
    return [unquote(parts[place])] if -len(parts) <= place < len(parts) else []


def inputs_of(step: Step, scope: Scope, missing: list[str]) -> Inputs:
    """What a step sends, its expressions filled; `missing` gets those that have no value."""
    values = {address: fill(value, scope, missing) for address, value in step.parameters}
    if step.payload is None:
        return Inputs(values)
    body = fill(step.payload.payload, scope, missing) if step.payload.payload is not ABSENT else ABSENT
    for replacement in step.payload.replacements:
        if isinstance(body, str) and body.lstrip().startswith("<"):
            body = _xml_put(body, replacement.target, fill(replacement.value, scope, missing))
            continue
        body = put(
            body,
            split_pointer(replacement.target),
            fill(replacement.value, scope, missing),
            replacement.target,
        )
    return Inputs(values, body, step.payload.content_type)


def _xml_put(text: str, target: str, value: Any) -> str:
    try:
        return replace_xml(text, target, value if isinstance(value, str) else dump_json(value))
    except NoSelection as error:
        raise UsageError(str(error), mend="see the step's replacements") from None


def _note(scope: Scope, exchange: Exchange, inputs: Inputs, value: Any) -> None:
    scope.exchange = exchange
    scope.request_values = inputs.values
    scope.request_body = inputs.body
    scope.response_value = value


def criterion_result(criterion: Criterion, state: CaseState) -> CheckResult:
    """A criterion as a check result, expected beside actual whether it held or not."""
    kind, scope = "criterion.unmet", state.scope
    if criterion.type == "simple":
        condition = parse_condition(criterion.condition)
        return CheckResult(
            kind,
            holds(condition, scope),
            PRESUMED if criterion.presumed else "written",
            criterion.condition,
            in_words(condition, scope),
        )
    value = evaluate(parse_expression(criterion.context), scope)
    wanted = f"{'matches' if criterion.type == 'regex' else criterion.type} {criterion.condition}"
    if value is ABSENT and criterion.type != "xpath":
        return CheckResult(kind, False, criterion.context, wanted, "absent")
    try:
        if criterion.type == "regex":
            text = (
                value if isinstance(value, str) else dump_json(value)
            )  # a pattern is written for what was sent
            return CheckResult(
                kind,
                bool(compile_pattern(criterion.condition).search(text)),
                criterion.context,
                wanted,
                text[:200],
            )
        held, observed = _chosen(criterion, state, value)
    except (PatternTimeout, NoSelection) as error:
        observed = "the pattern took too long" if isinstance(error, PatternTimeout) else str(error)
        return CheckResult(kind, False, criterion.context, wanted, observed)
    return CheckResult(kind, held, criterion.context, wanted, observed)


def _chosen(criterion: Criterion, state: CaseState, value: Any) -> tuple[bool, str]:
    """(whether a JSONPath or XPath holds, what it chose): nodes were found, or what it computes is true."""
    if criterion.type == "jsonpath":
        nodes = select_json(criterion.condition, value)
        held = (
            bool(nodes[0])
            if len(nodes) == 1 and (isinstance(nodes[0], bool) or nodes[0] == 0)
            else bool(nodes)
        )
        return held, f"{len(nodes)} found" if nodes != [True] else "true"
    if isinstance(value, str):
        body = value.encode()
    else:
        body = (
            str(value_at("text", state.scope)).encode()
            if criterion.context.startswith("$response.body")
            else b""
        )
    return xml_holds(criterion.condition, body, criterion.version, state.suite.namespaces)


def without_values(missing: Sequence[str]) -> tuple[Verdict, str]:
    """What becomes of a step that has no value for some expressions: a parameter is a person's to give, what
    an earlier step did not give is no fault of this one.
    """
    told = f"no value for {', '.join(dict.fromkeys(missing))}"
    names = [text.removeprefix("$inputs.") for text in missing if text.startswith("$inputs.")]
    if not names:
        return Verdict.SKIPPED, told
    name = re.split(r"[.#]", names[0])[0]
    return Verdict.FAILED, f"{told}: juxtalogos parameters set {name}=VALUE, or run --set {name}=VALUE"


def skipped(
    state: CaseState, contract: Contract | None, operation: Operation | None, name: str, reason: str
) -> ExchangeRecord:
    return ExchangeRecord(
        state.case,
        name,
        contract.name if contract else "",
        operation.id if operation else "",
        None,
        Verdict.SKIPPED,
        reason,
        suite=state.suite.name,
    )
