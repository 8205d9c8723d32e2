"""Judging recorded exchanges: each matched to its operation and checked as a live one is."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from juxtalogos.exchange.har import HarEntry
from juxtalogos.formats import wire_of
from juxtalogos.ledger import ExchangeRecord
from juxtalogos.model.contract import Contract
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.judging.judge import judge, judged_parts, with_parts
from juxtalogos.run.judging.rules import Rules
from juxtalogos.suite.language.expressions import Scope

SUITE = "recorded"
"""What recorded exchanges are filed under, in place of a suite."""


@dataclass(frozen=True, slots=True)
class ServedAt:
    """Where a contract was served when the exchanges were recorded."""

    contract: Contract
    base_url: str


def audit(
    entries: Iterable[HarEntry], places: Sequence[ServedAt], rules: Rules | None = None
) -> Iterator[ExchangeRecord]:
    """A record for each entry, in their order; its step is the entry's index in the file."""
    for entry in entries:
        if entry.exchange is None:
            yield _record(entry.index, None, Verdict.ERROR, entry.problem)
        else:
            yield _judged(entry.index, entry.exchange, places, rules or Rules())


def _record(
    index: int,
    exchange: Exchange | None,
    verdict: Verdict,
    reason: str,
    contract: str = "",
    *results: CheckResult,
) -> ExchangeRecord:
    return ExchangeRecord(
        str(index), str(index), contract, "", exchange, verdict, reason, results, suite=SUITE
    )


def _judged(index: int, exchange: Exchange, places: Sequence[ServedAt], rules: Rules) -> ExchangeRecord:
    for contract, base_url in ((place.contract, place.base_url) for place in places):
        wire = wire_of(contract)
        operations = wire.match(exchange.request, base_url)
        if operations:
            found = judge(wire, operations[0], exchange, base_url)
            scope = Scope(
                {}, exchange=exchange, response_value=found.answer.value if found.answer else ABSENT
            )
            found = rules.apply(contract, operations[0], found, scope)
            parts = judged_parts(wire, exchange, base_url)
            found = with_parts(found, (part for _, _, part in parts))
            return ExchangeRecord(
                str(index),
                str(index),
                contract.name,
                operations[0].id,
                exchange,
                found.verdict,
                found.reason,
                found.results,
                found.hits,
                SUITE,
                parts=tuple(
                    ExchangeRecord(
                        str(index),
                        f"{index}/{number}",
                        contract.name,
                        operation.id,
                        part,
                        one.verdict,
                        one.reason,
                        one.results,
                        one.hits,
                        SUITE,
                    )
                    for number, (operation, part, one) in enumerate(parts, 1)
                ),
            )
    reason = "outside the base URL"
    for place in places:
        unmatched = wire_of(place.contract).unmatched(exchange.request, place.base_url)
        if isinstance(unmatched, CheckResult):
            why = f"{unmatched.kind} at {unmatched.at}"
            return _record(index, exchange, Verdict.FAILED, why, place.contract.name, unmatched)
        reason = unmatched or reason
    return _record(index, exchange, Verdict.SKIPPED, reason)
