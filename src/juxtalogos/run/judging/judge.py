"""Judging one exchange: checks made by themselves and written ones -> a verdict, with hits."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import partial

from juxtalogos.check import check_exchange, examined
from juxtalogos.documents.anchors import anchor
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.findings import CheckResult, ResultClass, Severity
from juxtalogos.model.verdict import Verdict, worst
from juxtalogos.model.wire import Answer, Wire


@dataclass(frozen=True, slots=True)
class Judgement:
    verdict: Verdict
    reason: str
    results: tuple[CheckResult, ...] = ()
    hits: tuple[str, ...] = ()
    """Ids of the elements exercised."""
    answer: Answer | None = None

    @property
    def findings(self) -> tuple[CheckResult, ...]:
        return tuple(result for result in self.results if result.is_finding)


def judge(wire: Wire, operation: Operation, exchange: Exchange, base_url: str) -> Judgement:
    """The checks made by themselves; a written check is added with `with_written`."""
    if exchange.response is None:
        return Judgement(Verdict.ERROR, exchange.error)
    answer = examined(wire.decode(operation, exchange))
    results = tuple(check_exchange(wire.contract, operation, answer, exchange, wire.checks))
    hits = tuple(wire.hits(operation, exchange, answer, base_url))
    verdict, reason = verdict_of(results)
    return Judgement(verdict, reason, anchored(wire.contract, results), hits, answer)


def anchored(contract: Contract, results: tuple[CheckResult, ...]) -> tuple[CheckResult, ...]:
    """What did not hold, with a name for its place in the definition that survives a reordering."""
    if all(result.held for result in results):
        return results
    return tuple(map(partial(_anchored, contract), results))


def _anchored(contract: Contract, result: CheckResult) -> CheckResult:
    document = (
        contract.documents.get(result.location.document) if result.location and not result.held else None
    )
    if document is None or result.location is None or not any(map(str.isdigit, result.location.pointer)):
        return result
    former = anchor(document, result.former) if result.former else ""
    return replace(result, anchor=anchor(document, result.location.pointer), former=former)


def judged_parts(
    wire: Wire, exchange: Exchange, base_url: str
) -> list[tuple[Operation, Exchange, Judgement]]:
    """The exchanges that one consists of (a batch), each judged as what it is; those of no declared operation
    are left out.
    """
    found = []
    for part in wire.parts(exchange):
        operations = wire.match(part.request, base_url)
        if operations:
            found.append((operations[0], part, judge(wire, operations[0], part, base_url)))
    return found


def with_parts(judgement: Judgement, parts: Iterable[Judgement]) -> Judgement:
    """The judgement of a whole: no better than the worst of its parts."""
    for number, part in enumerate(parts, 1):
        if part.verdict is not judgement.verdict and worst((part.verdict, judgement.verdict)) is part.verdict:
            judgement = replace(judgement, verdict=part.verdict, reason=f"part {number}: {part.reason}")
    return judgement


def with_written(judgement: Judgement, written: tuple[CheckResult, ...]) -> Judgement:
    """The judgement with the results of written checks counted in."""
    if judgement.verdict is Verdict.ERROR or not written:
        return judgement
    results = judgement.results + written
    verdict, reason = verdict_of(results)
    return Judgement(verdict, reason, results, judgement.hits, judgement.answer)


def unsigned(judgement: Judgement, reason: str) -> Judgement:
    """The judgement of a 401 or 403 to what was sent without a credential of ours: what is missing is told,
    and the service blamed for nothing.

    A written criterion that holds says that it was wanted so.
    """
    results = tuple(
        (
            replace(result, severity=Severity.REMARK)
            if result.fails and result.result_class is ResultClass.FINDING
            else result
        )
        for result in judgement.results
    )
    criteria = [result for result in results if result.kind == "criterion.unmet"]
    verdict, why = verdict_of(results)
    if not criteria or not all(criterion.held for criterion in criteria):
        verdict, why = Verdict.FAILED, reason
    return replace(judgement, verdict=verdict, reason=why, results=results)


def verdict_of(results: tuple[CheckResult, ...]) -> tuple[Verdict, str]:
    """(verdict, why) of a step that got an answer."""
    failing = [result for result in results if result.fails]
    if failing:
        more = f" and {len(failing) - 1} more" if len(failing) > 1 else ""
        return Verdict.FAILED, f"{failing[0].kind} at {failing[0].at}{more}"
    unread = next((result for result in results if result.held and result.kind == "body.incomplete"), None)
    if unread:
        what = f"the {unread.at}" if unread.at in ("body", "request body") else unread.at
        return Verdict.UNPROVEN, f"{what} was not compared: {unread.observed}"
    if not any(result.held and result.proving for result in results):
        return Verdict.UNPROVEN, "no check that passed could have failed on this response"
    return Verdict.PASSED, ""
