"""Checks made by themselves: contract and exchange -> results, kept whether they held or not.

One check is one small function in `CHECKS`; none asks which format it is.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from juxtalogos.check.body import check_body, check_presence
from juxtalogos.check.head import check_headers, check_media, check_status
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Answer, WireCheck

CHECKS: dict[str, WireCheck] = {
    "status": check_status,
    "media": check_media,
    "presence": check_presence,
    "body": check_body,
    "headers": check_headers,
}


def examined(answer: Answer) -> Answer:
    """The answer with what its schema says of its value: one pass serves checks and coverage."""
    if answer.schema is None or answer.value is ABSENT or answer.examined is not None:
        return answer
    try:
        seen = answer.schema.examine(answer.value)
        return Answer(
            answer.declared,
            answer.media,
            answer.value,
            answer.schema,
            answer.problems,
            answer.headers,
            answer.unread,
            seen,
            answer.fault,
            answer.allowed,
        )
    except ValueError as error:  # nested too deep to follow: nothing is proven
        return replace(answer, unread=str(error))


def check_exchange(
    contract: Contract,
    operation: Operation,
    answer: Answer,
    exchange: Exchange,
    extra: tuple[WireCheck, ...] = (),
) -> Iterator[CheckResult]:
    """The results of every check on an exchange that has a response; `extra` are the protocol's own. The
    answer is an examined one.
    """
    for check in (*CHECKS.values(), *extra):
        yield from check(contract, operation, answer, exchange)
