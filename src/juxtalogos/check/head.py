"""Checks of what stands before the body: status, media type, headers."""

from __future__ import annotations

from collections.abc import Iterator
from http import HTTPStatus

from juxtalogos.exchange.media import parse_media_type
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Exchange, header
from juxtalogos.model.findings import CheckResult, Severity
from juxtalogos.model.wire import Answer


def check_status(
    contract: Contract, operation: Operation, answer: Answer, exchange: Exchange
) -> Iterator[CheckResult]:
    """The code is declared; a 5xx that is not is the service's failure."""
    assert exchange.response is not None
    status = exchange.response.status
    declared = (
        ", ".join(dict.fromkeys(declared_answer.status for declared_answer in operation.answers))
        or "no status at all"
    )
    observed = f"{status} {_phrase(status)}".strip()
    location = answer.declared.location if answer.declared else operation.location.child("responses")
    failed = status >= 500
    kind = "status.server-error" if failed else "status.undeclared"
    if answer.fault is not None:
        return  # what a fault's status must be is the protocol's own rule
    if answer.allowed and not operation.answers and not failed:
        return  # nothing is declared of its answers at all
    if answer.declared is None:
        severity = Severity.REMARK if answer.allowed else Severity.DEVIATION
        yield CheckResult(
            kind, False, "status", declared, observed, location, severity, detail=answer.allowed
        )
        return
    # Nothing forbids a declared 5xx, yet it is never what a caller hoped for.
    severity = Severity.REMARK if failed else Severity.DEVIATION
    yield CheckResult(
        kind, not failed, "status", declared, observed, location, severity, proving=answer.explicit
    )


def _phrase(status: int) -> str:
    try:
        return HTTPStatus(status).phrase
    except ValueError:
        return ""


def check_media(
    contract: Contract, operation: Operation, answer: Answer, exchange: Exchange
) -> Iterator[CheckResult]:
    """The Content-Type is one of those declared for this status."""
    response = exchange.response
    assert response is not None
    if answer.declared is None or not answer.declared.media or exchange.bodiless:
        return
    if response.body_kept and not response.body:
        return
    declared = " or ".join(media.media_type for media in answer.declared.media)
    location = answer.declared.location.child("content")
    actual = header(response.headers, "content-type")
    if actual is None and not response.body_kept:
        return
    if actual is None:
        # A sender SHOULD say what it sends (RFC 9110, section 8.3): doubtful, not forbidden.
        yield CheckResult(
            "media.missing",
            False,
            "header.Content-Type",
            declared,
            "no Content-Type",
            location,
            Severity.REMARK,
        )
    elif answer.media is None:
        malformed = "" if parse_media_type(actual) else " (no media type)"
        yield CheckResult(
            "media.undeclared", False, "header.Content-Type", declared, actual + malformed, location
        )
    else:
        yield CheckResult(
            "media.undeclared", True, "header.Content-Type", declared, actual, location, proving=False
        )


def check_headers(
    contract: Contract, operation: Operation, answer: Answer, exchange: Exchange
) -> Iterator[CheckResult]:
    """Declared headers are there when required, and well-formed when there."""
    for head in answer.headers:
        at, location = f"header.{head.declared.name}", head.declared.location
        if head.text is None:
            if head.declared.required:
                yield CheckResult("header.missing", False, at, "required", "missing", location)
            continue
        deviations = head.schema.check(head.value) if head.schema else ()
        for deviation in deviations:
            severity = Severity.REMARK if deviation.advisory else Severity.DEVIATION
            yield CheckResult(
                "header.malformed",
                False,
                at + deviation.path,
                deviation.declared,
                deviation.observed,
                deviation.location,
                severity,
            )
        if not deviations:
            proving = not head.declared.unreadable and (head.schema is not None or head.declared.required)
            yield CheckResult(
                "header.malformed",
                True,
                at,
                "as its schema says" if head.schema else "any value",
                head.text,
                location,
                proving=proving,
            )
