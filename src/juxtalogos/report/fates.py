"""What became of the findings of one run in another."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from juxtalogos.ledger import ExchangeRecord
from juxtalogos.model.findings import WRITTEN_KINDS, CheckResult, Finding, Severity
from juxtalogos.report.compare import Pair

_OF_NAMES = ("body.extra", "body.name")
"""Kinds that are about a member which is not there where they hold."""


class Fate(StrEnum):
    """What became of a finding, the worst first."""

    NEWLY = "newly failing"
    STILL = "still failing"
    MENDED = "mended"
    NOT_TRIED = "not tried again"


@dataclass(frozen=True, slots=True)
class FindingFate:
    finding: Finding
    fate: Fate
    step: str
    """SUITE#CASE#STEP where it was seen first."""
    exchange: int


def fates(found: Iterable[Pair], value: Callable[[ExchangeRecord], Any]) -> list[FindingFate]:
    """The fate of each finding that either run has, but for remarks, by fingerprint, the worst first.
    `value`: what the response of an exchange says.

    One that the second run lacks is mended only where the same check was made again and held.
    """
    earlier: dict[str, list[tuple[Pair, Finding]]] = {}
    later: dict[str, list[tuple[Pair, Finding]]] = {}
    for pair in found:
        for record, seen in ((pair.first, earlier), (pair.second, later)):
            for finding in record.findings() if record is not None else ():
                if finding.result.severity is not Severity.REMARK:
                    seen.setdefault(finding.fingerprint, []).append((pair, finding))
    told = []
    for name in dict.fromkeys([*later, *earlier]):
        places = later.get(name) or earlier[name]
        if name in later:
            fate = Fate.STILL if name in earlier else Fate.NEWLY
        else:
            again = any(_made_again(one.result, pair, value) for pair, one in places)
            fate = Fate.MENDED if again else Fate.NOT_TRIED
        pair, finding = places[0]
        record = pair.second if name in later else pair.first
        step = f"{pair.suite}#{pair.case}#{pair.step}"
        told.append(FindingFate(finding, fate, step, record.id if record is not None else 0))
    order = list(Fate)
    return sorted(told, key=lambda one: order.index(one.fate))


def _made_again(result: CheckResult, pair: Pair, value: Callable[[ExchangeRecord], Any]) -> bool:
    """Whether the second run made the check that the first one failed; it held then, for it is no finding."""
    record, before = pair.second, pair.first
    if record is None or before is None or record.exchange is None or record.exchange.response is None:
        return False
    family = result.kind.partition(".")[0]
    if family == "body":
        if record.status != before.status or not any(_is_of(one, family) for one in record.results):
            return False
        tokens = result.at.split("/")[1:]
        return _there(value(record), tokens[:-1] if result.kind in _OF_NAMES else tokens)
    held = [one for one in record.results if one.held and _is_of(one, family)]
    if result.kind in WRITTEN_KINDS:
        return any(
            (one.kind, one.at, one.declared) == (result.kind, result.at, result.declared) for one in held
        )
    return bool(held) if family in ("status", "media") else any(one.at == result.at for one in held)


def _is_of(result: CheckResult, family: str) -> bool:
    return result.kind.partition(".")[0] == family


def _there(value: Any, tokens: list[str]) -> bool:
    """Whether a place is in a value, whatever the index of an item."""
    if not tokens:
        return True
    return any(_there(inner, tokens[1:]) for inner in _inner(value, tokens[0]))


def _inner(value: Any, token: str) -> Iterator[Any]:
    name = token.replace("~1", "/").replace("~0", "~")
    if isinstance(value, list) and token.isdigit():
        yield from value
    elif isinstance(value, dict) and name in value:
        yield value[name]
