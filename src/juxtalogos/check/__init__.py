"""Comparing an exchange with its contract: every check gives its results, whether they passed or not.

A check is one small function. Those of a protocol come from its wire form; packages add others to `CHECKS`.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Answer, WireCheck
from juxtalogos.plugins import Table

CHECKS: Table[WireCheck] = Table("juxtalogos.checks")
"""Checks beside those of the protocols; they see raw exchanges."""


def examined(answer: Answer) -> Answer:
    """Returns the answer with what its schema says of its value: one pass serves checks and coverage."""
    if answer.schema is None or answer.value is ABSENT or answer.examined is not None:
        return answer
    try:
        return replace(answer, examined=answer.schema.examine(answer.value))
    except ValueError as error:  # nested too deep to follow: nothing is proven
        return replace(answer, unread=str(error))


def check_exchange(
    contract: Contract,
    operation: Operation,
    answer: Answer,
    exchange: Exchange,
    checks: tuple[WireCheck, ...] = (),
) -> Iterator[CheckResult]:
    """Yields the results of every check on an exchange that has a response.

    `checks` are those of the contract's wire form; the answer is an examined one.
    """
    for check in (*checks, *CHECKS.values()):
        yield from check(contract, operation, answer, exchange)
