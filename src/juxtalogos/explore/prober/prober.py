"""One request of an exploration: sent, judged by the contract and by what was asked, and held until its block
is through.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import Any

from juxtalogos.check.laws import LAWS
from juxtalogos.exchange.transport import Sender
from juxtalogos.explore.prober.budget import Budget, Spent
from juxtalogos.formats import wire_of
from juxtalogos.ledger import ExchangeRecord
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import JuxtalogosError, Withheld
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.model.findings import ACCEPTED, REFUSED, CheckResult, ResultClass, Severity
from juxtalogos.model.location import Location
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.verdict import Verdict
from juxtalogos.model.wire import Answer, Inputs, Wire
from juxtalogos.run.judging.judge import Judgement, judge, verdict_of
from juxtalogos.run.judging.refusals import general, words_of
from juxtalogos.run.target.session import Session
from juxtalogos.suite.language.expressions import Scope


class Purpose(StrEnum):
    """What a request is, and so what must come back."""

    VALID = "valid"
    BROKEN = "broken"
    """The definition does not allow it."""
    ABSENT = "absent"
    """It asks for what does not exist."""
    CONFLICT = "conflict"
    """It may be refused for the state that things are in."""
    UNSIGNED = "unsigned"
    """Without a right credential."""
    CLEANUP = "clean-up"


LOST = "answer.none"


@dataclass(slots=True, eq=False)
class Trial:
    """A request with what came of it."""

    operation: Operation
    inputs: Inputs
    purpose: Purpose
    record: ExchangeRecord
    exchange: Exchange | None
    answer: Answer | None = None
    altered: bool = False
    """Whether more was changed than inputs can say: the method, the bytes, or who signs."""
    withheld: str = ""
    """Why it was not sent."""
    broken: tuple[str, str, Location | None] | None = None
    """Of what the definition does not allow: (place, rule, where it is declared)."""

    @property
    def fault(self) -> str:
        """The name of the fault that it is; `undeclared` for one without a declared name, empty for none."""
        fault = self.answer.fault if self.answer else None
        return (fault.name or "undeclared") if fault is not None else ""

    @property
    def outcome(self) -> Outcome:
        """What the response means."""
        return self.answer.outcome if self.answer is not None else Outcome.NO_RESPONSE

    @property
    def ok(self) -> bool:
        return self.outcome.succeeded

    @property
    def refused(self) -> bool:
        """Whether the service declined, and did not fail."""
        return self.outcome.refused

    @property
    def crashed(self) -> bool:
        """Whether the service itself failed, and is not only busy."""
        return self.outcome is Outcome.FAILED

    @property
    def value(self) -> Any:
        """What the answer's body says; ABSENT where it cannot be read."""
        return self.answer.value if self.answer is not None else ABSENT

    @property
    def body(self) -> Any:
        """What was sent as the body, an empty object for none."""
        return self.inputs.body if isinstance(self.inputs.body, dict) else {}

    @property
    def code(self) -> str:
        """The response in a word: its status, or the fault."""
        return self.fault or str(self.record.status or "no response")


@dataclass(slots=True)
class Prober:
    """Sends for one contract. What is sent is held in `held`, in order, until somebody takes it."""

    contract: Contract
    session: Session
    sender: Sender
    budget: Budget
    suite: str
    case: str = ""
    held: list[Trial] = field(default_factory=list)
    only_reading: bool = False
    stopped: Callable[[], bool] = lambda: False
    """Whether a person wants an end: then only what cleans up is sent."""
    settle: float = 0.0
    """Seconds that a change may take until it is seen."""
    changed: bool = False
    """Whether something was changed and nothing read since."""
    heartbeat: tuple[Operation, Request] | None = None
    """A request that only reads and was answered: it tells a service that fell over from one that is gone."""
    tainted: bool = False
    """Whether the service has kept something that its definition does not allow: what it shows from then on
    may hold that."""
    enforced: bool = False
    """Whether what the definition does not allow must be refused."""

    async def send(
        self,
        operation: Operation,
        inputs: Inputs,
        asked: Purpose = Purpose.VALID,
        *,
        step: str = "",
        session: Session | None = None,
        change: Callable[[Request], Request] | None = None,
        broken: tuple[str, str, Location | None] | None = None,
    ) -> Trial:
        """`broken`: (place, rule, where it is declared) of what the definition does not allow.

        UsageError when it cannot be encoded; Spent.
        """
        session = session or self.session
        request = session.encoded(self.contract, operation, inputs, loose=asked is not Purpose.VALID)
        whole = request
        if change is not None:
            request = change(request)
        same_address = (request.method, request.url) == (whole.method, whole.url)
        if self.stopped() and asked is not Purpose.CLEANUP:
            raise Spent("interrupted", all_of_it=True)
        self.budget.take(operation.id, needed=asked is Purpose.CLEANUP)
        if self.settle and self.changed:
            await asyncio.sleep(self.settle)
        self.changed = not operation.safe
        try:
            exchange = await session.send(
                self.contract,
                operation,
                request,
                self.sender,
                made_with=inputs if same_address else None,
                usual=asked is Purpose.VALID and session.signing,
            )
        except Withheld as refusal:
            record = ExchangeRecord(
                self.case,
                step or operation.id,
                self.contract.name,
                operation.id,
                None,
                Verdict.SKIPPED,
                f"not sent: {refusal.what}",
                suite=self.suite,
            )
            return Trial(operation, inputs, asked, record, None, withheld=refusal.what)
        except JuxtalogosError as error:
            record = ExchangeRecord(
                self.case,
                step or operation.id,
                self.contract.name,
                operation.id,
                None,
                Verdict.ERROR,
                error.what,
                suite=self.suite,
            )
            seen = Trial(operation, inputs, asked, record, None)
            self.held.append(seen)
            self.budget.answered(operation.id, False)
            return seen
        lost = exchange.lost and asked is not Purpose.CLEANUP
        if lost:  # perhaps it had been closed before: once more
            exchange = await self.again(operation, request, session, exchange)
        self.budget.answered(operation.id, exchange.response is not None)
        if exchange.response is not None and operation.safe and not self.heartbeat:
            self.heartbeat = operation, request
        seen = self.judged(operation, inputs, asked, exchange, step or operation.id, session, broken)
        seen.altered = change is not None or (session is not self.session and not session.role)
        if lost and exchange.lost and await self.beats():
            place = operation.location
            seen.record = replace(
                seen.record,
                verdict=Verdict.FAILED,
                reason=f"{LOST} at response",
                results=(CheckResult(LOST, False, "answer", "a response", exchange.error, place),),
            )
        self.held.append(seen)
        return seen

    async def again(
        self, operation: Operation, request: Request, session: Session, before: Exchange
    ) -> Exchange:
        """What comes back from a second time."""
        self.budget.take(operation.id, needed=True)
        return replace(await session.send(self.contract, operation, request, self.sender), tries=(before,))

    async def beats(self) -> bool:
        """Whether the service answers what it answered before."""
        if self.heartbeat is None:
            return False
        operation, request = self.heartbeat
        self.budget.take(operation.id, needed=True)
        exchange = await self.session.send(self.contract, operation, request, self.sender)
        self.budget.answered(operation.id, exchange.response is not None)
        return exchange.response is not None

    def judged(
        self,
        operation: Operation,
        inputs: Inputs,
        asked: Purpose,
        exchange: Exchange,
        step: str,
        session: Session,
        broken: tuple[str, str, Location | None] | None,
    ) -> Trial:
        """The trial with its record: what the contract says of the answer, in the light of what was asked."""
        judgement = judge(wire_of(self.contract), operation, exchange, session.base_url(self.contract))
        answer = judgement.answer
        if answer is not None and exchange.response is not None and not exchange.bodiless:
            scope = Scope(
                {},
                exchange=exchange,
                request_values=inputs.values,
                request_body=inputs.body,
                response_value=answer.value,
            )
            judgement = session.rules.apply(self.contract, operation, judgement, scope)
        seen = Trial(
            operation,
            inputs,
            asked,
            ExchangeRecord("", "", "", "", exchange, Verdict.ERROR, ""),
            exchange,
            answer,
            broken=broken,
        )
        if exchange.response is not None:
            judgement = weighed(wire_of(self.contract), judgement, seen, broken, self.enforced, self.tainted)
            self.tainted |= seen.ok and asked is Purpose.BROKEN and not operation.safe
        seen.record = ExchangeRecord(
            self.case,
            step,
            self.contract.name,
            operation.id,
            exchange,
            judgement.verdict,
            judgement.reason,
            judgement.results,
            judgement.hits,
            self.suite,
            role=session.role,
            note=(
                f"{asked}: {broken[0]} {broken[1]}"
                if broken
                else ""
                if asked is Purpose.VALID
                else str(asked)
            ),
        )
        return seen


def tell(seen: Trial, result: CheckResult) -> None:
    """Adds a result to what a request came to."""
    results = (*seen.record.results, result)
    verdict, reason = verdict_of(results)
    if seen.record.verdict.fails or not result.fails:
        verdict, reason = seen.record.verdict, seen.record.reason
    seen.record = replace(seen.record, results=results, verdict=verdict, reason=reason)


def broken_law(
    name: str,
    at: str,
    declared: str,
    observed: str,
    location: Location | None,
    *,
    must: bool | None = None,
    detail: str = "",
) -> CheckResult:
    """A law that did not hold: a deviation where a standard obliges to it, else a doubt."""
    law = LAWS[name]
    forbidden = law.must if must is None else must
    return CheckResult(
        name,
        False,
        at,
        declared,
        observed,
        location,
        Severity.DEVIATION if forbidden else Severity.DOUBT,
        detail=detail or f"{law.told} ({law.why})",
    )


def weighed(
    wire: Wire,
    judgement: Judgement,
    seen: Trial,
    broken: tuple[str, str, Location | None] | None,
    enforced: bool,
    tainted: bool = False,
) -> Judgement:
    """The judgement in the light of what was asked for."""
    if seen.exchange is not None and not wire.answers_to(seen.operation, seen.exchange.request):
        judgement = replace(judgement, results=(), hits=())  # what is declared is declared of another method
    results = [_softened(result, seen) for result in judgement.results if not _echo(result, seen, tainted)]
    if seen.ok and seen.purpose is Purpose.BROKEN and broken is not None:
        at, rule, location = broken
        results = [
            result for result in results if result.held or not result.kind.startswith(("body.", "header."))
        ]
        severity = Severity.DEVIATION if enforced else Severity.LENIENT
        results.append(
            CheckResult(ACCEPTED, False, at, rule, f"returned {seen.record.status}", location, severity)
        )
    if seen.purpose in (Purpose.BROKEN, Purpose.ABSENT, Purpose.CONFLICT):
        results = [result for result in results if not _protocols_own(result, seen)]
    results += _protocol(wire, seen)
    if seen.crashed:
        results = _failed(results, seen)
    verdict, reason = verdict_of(tuple(results))
    if verdict is not Verdict.FAILED and seen.refused and seen.purpose in (Purpose.VALID, Purpose.CLEANUP):
        assert seen.exchange is not None
        words = words_of(seen.exchange)
        reason = f"{seen.record.status}: {words}"
        if seen.outcome.about_caller:
            verdict = Verdict.FAILED
        else:
            verdict = Verdict.REFUSED
            if seen.purpose is Purpose.VALID:
                place = seen.answer.declared.location if seen.answer and seen.answer.declared else None
                results.append(
                    CheckResult(
                        REFUSED,
                        False,
                        "answer",
                        "a success",
                        reason,
                        place,
                        Severity.REMARK,
                        anchor=general(words),
                    )
                )
    elif verdict is not Verdict.FAILED and seen.purpose is not Purpose.VALID:
        verdict, reason = Verdict.PASSED, ""
    return replace(judgement, verdict=verdict, reason=reason, results=tuple(results))


def _softened(one: CheckResult, seen: Trial) -> CheckResult:
    """An undeclared refusal is a remark: the answers of a definition need not cover all codes (OpenAPI 3.1,
    section 4.8.16).
    """
    if one.held or one.severity is not Severity.DEVIATION or one.result_class is not ResultClass.FINDING:
        return one
    softer = one.kind in ("status.undeclared", "status.server-error") and seen.outcome.refused
    softer |= one.kind == "fault.undeclared" and seen.purpose is not Purpose.VALID
    softer |= seen.outcome.about_caller and one.kind.startswith(("media.", "body."))
    return replace(one, severity=Severity.REMARK) if softer else one


def _echo(one: CheckResult, seen: Trial, tainted: bool) -> bool:
    """Whether what did not hold may be but the echo of what was sent against the
    definition, now or before.
    """
    if one.held or not one.kind.startswith(("body.", "media.untrue")):
        return False
    return tainted or (seen.purpose is Purpose.BROKEN and seen.refused and one.kind != "body.missing")


def _protocols_own(one: CheckResult, seen: Trial) -> bool:
    """Whether a refusal is one that every message may meet: a fault that blames the sender, or one of HTTP's
    own.
    """
    if one.held or one.severity is not Severity.REMARK or seen.answer is None:
        return False
    if one.kind == "fault.undeclared" and seen.answer.fault is not None:
        return not seen.answer.fault.of_service
    return one.kind == "status.undeclared" and bool(seen.answer.allowed)


def _protocol(wire: Wire, seen: Trial) -> list[CheckResult]:
    """What the protocol itself requires of such a response."""
    if seen.exchange is None:
        return []
    place = seen.operation.location
    return [
        broken_law(unmet.law, unmet.at, unmet.declared, unmet.observed, place)
        for unmet in wire.unmet(seen.exchange)
    ]


def _failed(results: list[CheckResult], seen: Trial) -> list[CheckResult]:
    """A failure of the service is a finding, whatever the definition says of it."""
    told = [result for result in results if result.kind == "status.server-error" and not result.held]
    if any(entry.fails for entry in told):
        return results
    kept = [result for result in results if result not in told]
    declared = ", ".join(dict.fromkeys(declared_answer.status for declared_answer in seen.operation.answers))
    location = (
        seen.answer.declared.location if seen.answer and seen.answer.declared else seen.operation.location
    )
    severe = seen.purpose is not Purpose.BROKEN or not seen.fault
    return [
        *kept,
        CheckResult(
            "status.server-error",
            False,
            "status",
            declared,
            seen.code,
            location,
            Severity.DEVIATION if severe else Severity.REMARK,
        ),
    ]
