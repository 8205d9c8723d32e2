"""The check of a body against its schema, whatever the protocol."""

from __future__ import annotations

from collections.abc import Iterator

from juxtalogos.exchange.media import sent_media
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.findings import CheckResult, Severity
from juxtalogos.model.wire import Answer

MAX_RESULTS = 200
"""Deviations of one body that are kept; a note says how many more there were."""


def _not_checkable(operation: Operation, answer: Answer, exchange: Exchange) -> tuple[str, str, str] | None:
    """(place, what it would be compared with, why it is not) where the definition's own
    part cannot be read.
    """
    for part in (answer.media, answer.declared):
        if part is not None and part.unreadable:
            return "body", "as its schema says", part.unreadable
    if exchange.request.body and operation.body:
        sent = sent_media(operation, exchange.request)
        if sent is not None and sent.unreadable:
            return "request body", "as its schema says", sent.unreadable
    return None


def check_body(
    contract: Contract, operation: Operation, answer: Answer, exchange: Exchange
) -> Iterator[CheckResult]:
    """The body is what its media type says and has no deviation from its schema."""
    location = (
        answer.media.location if answer.media else answer.declared.location if answer.declared else None
    )
    for problem in answer.problems:
        yield CheckResult(problem.kind, False, problem.at, problem.declared, problem.observed, location)
    lost = _not_checkable(operation, answer, exchange)
    if lost:
        yield CheckResult("body.incomplete", True, *lost, location, proving=False)
        return
    unkept = exchange.response is not None and not exchange.response.body_kept
    if answer.schema is None and not (unkept and answer.media and answer.media.schema):
        return
    if answer.schema is None or answer.examined is None:
        yield CheckResult(
            "body.incomplete", True, "body", "as its schema says", answer.unread, location, proving=False
        )
        return
    deviations = answer.examined.deviations
    undecided = next((inner for inner in deviations if inner.undecided), None)
    deviations = tuple(inner for inner in deviations if not inner.undecided)
    for deviation in deviations[:MAX_RESULTS]:
        severity = Severity.REMARK if deviation.advisory else Severity.DEVIATION
        yield CheckResult(
            deviation.kind,
            False,
            "body" + deviation.path,
            deviation.declared,
            deviation.observed,
            deviation.location,
            severity,
        )
    if len(deviations) > MAX_RESULTS:
        yield CheckResult(
            "body.forbidden",
            False,
            "body",
            "as its schema says",
            f"{len(deviations) - MAX_RESULTS} further deviations",
            location,
        )
    if undecided and all(inner.advisory for inner in deviations):
        at, observed = f"body{undecided.path}", undecided.observed
        yield CheckResult(
            "body.incomplete", True, at, undecided.declared, observed, undecided.location, proving=False
        )
    elif all(deviation.advisory for deviation in deviations):
        proving = not answer.schema.accepts_anything
        yield CheckResult(
            "body.type",
            True,
            "body",
            "as its schema says",
            f"{len(exchange.response.body) if exchange.response else 0} bytes, no deviation",
            location,
            proving=proving,
        )
