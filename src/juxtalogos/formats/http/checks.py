"""Checks that HTTP makes of every response: status, media type, header fields, whether there is a body."""

from __future__ import annotations

from collections.abc import Iterator

from juxtalogos.exchange.media import content_type, parse_media_type
from juxtalogos.formats.http.outcomes import described
from juxtalogos.model.contract import Contract, DeclaredAnswer, Operation
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.findings import CheckResult, Severity
from juxtalogos.model.location import Location
from juxtalogos.model.wire import Answer


def check_status(
    contract: Contract, operation: Operation, answer: Answer, exchange: Exchange
) -> Iterator[CheckResult]:
    """The code is declared; a 5xx that is not is the service's failure."""
    assert exchange.response is not None
    declared = (
        ", ".join(dict.fromkeys(declared_answer.status for declared_answer in operation.answers))
        or "no status at all"
    )
    observed = described(exchange.response)
    place = answers_place(operation)
    location = answer.declared.location if answer.declared else place
    before = operation.location.child("responses").pointer
    former = "" if answer.declared or place.pointer == before else before
    failed = exchange.response.status >= 500
    kind = "status.server-error" if failed else "status.undeclared"
    if answer.fault is not None:
        return  # what a fault's status must be is the protocol's own rule
    if answer.allowed and not operation.answers and not failed:
        return  # nothing is declared of its answers at all
    if answer.declared is None:
        severity = Severity.REMARK if answer.allowed else Severity.DEVIATION
        yield CheckResult(
            kind,
            False,
            "status",
            declared,
            observed,
            location,
            severity,
            detail=answer.allowed,
            former=former,
        )
        return
    # Nothing forbids a declared 5xx, yet it is never what a caller hoped for.
    severity = Severity.REMARK if failed else Severity.DEVIATION
    yield CheckResult(
        kind, not failed, "status", declared, observed, location, severity, proving=answer.explicit
    )


def answers_place(operation: Operation) -> Location:
    """Where an operation's answers are declared: the node that holds them, else the operation."""
    place = operation.location.child("responses")
    holds = any(answer.location.pointer.startswith(f"{place.pointer}/") for answer in operation.answers)
    return place if holds else operation.location


def _media_place(answer: DeclaredAnswer) -> Location:
    """Where the media types of an answer are declared: the node that holds them, else the answer."""
    place = answer.location.child("content")
    holds = any(media.location.pointer.startswith(f"{place.pointer}/") for media in answer.media)
    return place if holds else answer.location


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
    location = _media_place(answer.declared)
    before = answer.declared.location.child("content").pointer
    former = "" if location.pointer == before else before
    actual = content_type(response)
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
            former=former,
        )
    elif answer.media is None:
        malformed = "" if parse_media_type(actual) else " (no media type)"
        yield CheckResult(
            "media.undeclared",
            False,
            "header.Content-Type",
            declared,
            actual + malformed,
            location,
            former=former,
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


def check_presence(
    contract: Contract, operation: Operation, answer: Answer, exchange: Exchange
) -> Iterator[CheckResult]:
    """A body came where one is declared, and none where none is."""
    response = exchange.response
    assert response is not None
    if answer.declared is None or not response.body_kept or exchange.bodiless:
        return
    location = answer.declared.location
    declared = answer.declared.media
    if not declared and response.body and not answer.declared.open_body:
        # A redirect SHOULD carry a short note for people (RFC 9110, section 15.4); with 205 no content may
        # come (15.3.6).
        unsaid = answer.declared.unsaid_body and response.status != 205
        severity = Severity.REMARK if unsaid or 300 <= response.status < 400 else Severity.DEVIATION
        observed = f"{len(response.body)} bytes"
        yield CheckResult("body.unexpected", False, "body", "no body", observed, location, severity)
    elif declared and not response.body:
        types = [parse_media_type(media.media_type) for media in declared]
        # No text is not JSON (RFC 8259, section 2); for other types an empty body may be a value.
        if all(parsed is not None and parsed.is_json for parsed in types):
            yield CheckResult(
                "body.missing",
                False,
                "body",
                " or ".join(media.media_type for media in declared),
                "no body",
                location,
            )
