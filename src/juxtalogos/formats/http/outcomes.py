"""What HTTP status codes mean, for every format that uses HTTP (RFC 9110, section 15; RFC 4918, 6585, 7725
and
8470).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from http import HTTPStatus
from typing import Any

from juxtalogos.conventions.faults import fault_outcome
from juxtalogos.model.contract import Contract, DeclaredAnswer, Input, Operation
from juxtalogos.model.exchange import Exchange, Request, Response
from juxtalogos.model.outcome import Outcome, Wrong
from juxtalogos.model.wire import Answer

_CODES: dict[Outcome, tuple[int, ...]] = {
    Outcome.BEGUN: (202,),
    Outcome.ABSENT: (404, 410),
    Outcome.CONFLICT: (409, 423, 424),
    Outcome.STALE: (412, 428),
    Outcome.UNAUTHENTICATED: (401, 407, 511),
    Outcome.FORBIDDEN: (402, 403, 451),
    Outcome.THROTTLED: (425, 429),
    Outcome.UNSUPPORTED: (405, 406, 415, 417, 426, 501, 505),
    Outcome.BUSY: (408, 502, 503, 504),
}
_OUTCOMES = {code: outcome for outcome, codes in _CODES.items() for code in codes}
_CLASSES = {2: Outcome.SUCCEEDED, 4: Outcome.INVALID, 5: Outcome.FAILED}
"""A code that is not listed means what the first code of its class means (RFC 9110, section 15)."""

_CALLER = frozenset((401, 403, 429))
REFUSALS: dict[Wrong, tuple[tuple[int, ...], frozenset[int]]] = {
    # what is wrong: (codes of which one must be declared, codes that may be returned then)
    Wrong.GONE: ((404, 410), _CALLER | {404, 410}),
    Wrong.UNKNOWN: ((404, 410), _CALLER | {404, 410, 400, 422}),
    Wrong.VALUE: ((400, 422), _CALLER | {400, 422, 413, 414, 415, 431, 501}),
    Wrong.SYNTAX: ((400, 422, 415), _CALLER | {400, 422, 415, 413, 411}),
    Wrong.MEDIA: ((415,), _CALLER | {415}),
    Wrong.UNSIGNED: ((401, 403), _CALLER | {404}),
    Wrong.CONFLICT: ((409,), _CALLER | {409, 404, 410, 412, 422, 423, 424, 428, 402, 425}),
    Wrong.REFERENCE: ((404, 409, 422, 400), _CALLER | {404, 409, 410, 422, 400, 424, 412}),
    Wrong.ROLE: ((403,), frozenset((401, 403, 404, 409, 429))),
}

_NONE: tuple[tuple[int, ...], frozenset[int]] = ((), frozenset())


def status_outcome(status: int) -> Outcome:
    """What a status code means."""
    return _OUTCOMES.get(status) or _CLASSES.get(status // 100, Outcome.UNKNOWN)


def declared_outcome(status: str) -> Outcome:
    """What a declared status means: a code, a range such as `4XX`, or `default`, which leaves it open."""
    if status.isdigit():
        return status_outcome(int(status))
    return _CLASSES.get(int(status[0]), Outcome.UNKNOWN) if status[:1].isdigit() else Outcome.UNKNOWN


def read_with_meaning(read: Callable[..., Contract]) -> Callable[..., Contract]:
    """The reader of a format that uses HTTP: what inputs, answers and verbs mean is set on each operation."""

    def reading(*given: Any) -> Contract:
        contract = read(*given)
        return replace(
            contract,
            operations=tuple(map(http_meaning, contract.operations)),
            _index={},
        )

    return reading


def http_meaning(operation: Operation) -> Operation:
    """The operation with what its inputs and answers mean in HTTP: outcomes, versions, addresses of what was
    created.
    """
    return replace(
        operation,
        inputs=tuple(map(_input_meaning, operation.inputs)),
        answers=tuple(map(_answer_meaning, operation.answers)),
    )


def _input_meaning(one: Input) -> Input:
    versions = one.place == "header" and one.name.lower() == "if-match"
    return replace(one, is_version=True) if versions else one


def _answer_meaning(answer: DeclaredAnswer) -> DeclaredAnswer:
    declared = {head.name.lower() for head in answer.headers}
    return replace(
        answer,
        outcome=fault_outcome(answer.fault) if answer.fault else declared_outcome(answer.status),
        version_at="$response.header.ETag" if "etag" in declared else "",
        address_at="$response.header.Location",
        address_declared="location" in declared,
    )


def base_request(base_url: str) -> Request:
    """A request that only shows whether something answers at a base URL."""
    return Request("GET", base_url.rstrip("/") + "/")


def reads_only(request: Request) -> bool:
    """Whether a request has a safe method (RFC 9110, section 9.2.1)."""
    return request.method in ("GET", "HEAD", "OPTIONS", "TRACE")


def codes_of(outcome: Outcome) -> tuple[int, ...]:
    """The status codes that mean an outcome, the usual first; empty for those that a whole class means."""
    return _CODES.get(outcome, ())


def described(response: Response) -> str:
    """A status code with its registered phrase: `404 Not Found`."""
    try:
        return f"{response.status} {HTTPStatus(response.status).phrase}"
    except ValueError:
        return str(response.status)


def with_outcome(answer: Answer, exchange: Exchange) -> Answer:
    """An answer with what its status code means, for formats whose refusals are told by
    status codes alone.
    """
    response = exchange.response
    assert response is not None
    return replace(answer, outcome=status_outcome(response.status), code=str(response.status))


def due(answer: DeclaredAnswer, wrong: Wrong) -> bool:
    """Whether a declared refusal is one that is meant for what is wrong."""
    codes, _ = REFUSALS.get(wrong, _NONE)
    return answer.status.isdigit() and int(answer.status) in codes


def fitting(operation: Operation, wrong: Wrong) -> tuple[DeclaredAnswer, ...]:
    """The declared refusals of which one is due for what is wrong.

    Empty where the definition leaves it open.
    """
    declared = {answer.status: answer for answer in operation.answers}
    if "default" in declared or "4XX" in declared:
        return ()
    codes, _ = REFUSALS.get(wrong, _NONE)
    if wrong in (Wrong.GONE, Wrong.UNKNOWN) and "409" in declared and "404" not in declared:
        return ()  # what is gone counts as a conflict there
    return tuple(declared[str(code)] for code in codes if str(code) in declared)


def may_refuse(status: int, wrong: Wrong) -> bool:
    """Whether a status code may answer what is wrong, although another one is declared for it."""
    return status in REFUSALS.get(wrong, _NONE)[1]
