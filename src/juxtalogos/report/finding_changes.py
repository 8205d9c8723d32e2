"""How the findings of two runs differ: newly failing, still failing, mended, or not tried in one of them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from juxtalogos.ledger import ExchangeRecord
from juxtalogos.model.findings import WRITTEN_KINDS, CheckResult, Finding, Severity
from juxtalogos.model.location import split_pointer
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.verdict import Verdict
from juxtalogos.report.compare import Pair

MOST_STEPS = 50
"""Steps of one finding that are looked at in the other run."""
_OF_NAMES = ("body.extra", "body.name")
"""Kinds about a member that is not there where they hold."""
_NOT_JUDGED = (Verdict.REFUSED, Verdict.ERROR, Verdict.SKIPPED)


class FindingChange(StrEnum):
    """The worst first."""

    NEWLY = "newly failing"
    NEVER_TRIED = "failing, not tried before"
    STILL = "still failing"
    MENDED = "mended"
    NOT_TRIED = "not tried again"


@dataclass(frozen=True, slots=True)
class ChangedFinding:
    finding: Finding
    change: FindingChange
    step: str
    """SUITE#CASE#STEP where it was seen first."""
    exchange: int


def finding_changes(found: Iterable[Pair], value: Callable[[ExchangeRecord], Any]) -> list[ChangedFinding]:
    """Each finding that either run has, but for remarks, by fingerprint, the worst first. `value`: what the
    response of an exchange says.

    A finding that one run lacks is newly failing, or mended, only where that run made the same check and it
    held.
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
        change = FindingChange.STILL
        if name not in earlier:
            held = any(_held(one.result, pair.second, pair.first, value) for pair, one in places[:MOST_STEPS])
            change = FindingChange.NEWLY if held else FindingChange.NEVER_TRIED
        elif name not in later:
            held = any(_held(one.result, pair.first, pair.second, value) for pair, one in places[:MOST_STEPS])
            change = FindingChange.MENDED if held else FindingChange.NOT_TRIED
        pair, finding = places[0]
        record = pair.second if name in later else pair.first
        step = f"{pair.suite}#{pair.case}#{pair.step}"
        told.append(ChangedFinding(finding, change, step, record.id if record is not None else 0))
    order = list(FindingChange)
    return sorted(told, key=lambda one: order.index(one.change))


def _held(
    result: CheckResult,
    failed: ExchangeRecord | None,
    other: ExchangeRecord | None,
    value: Callable[[ExchangeRecord], Any],
) -> bool:
    """Whether the run without a finding made its check in this step: it held then."""
    if failed is None or other is None or other.exchange is None or other.exchange.response is None:
        return False
    family = _family(result)
    made = [one for one in other.results if _family(one) == family]
    if result.kind in WRITTEN_KINDS:
        same = result.kind, result.at, result.declared
        return any(one.held and (one.kind, one.at, one.declared) == same for one in made)
    if family == "status":
        unmet = any(one.kind in WRITTEN_KINDS and not one.held for one in other.results)
        return any(one.held for one in made) and not unmet and other.verdict not in _NOT_JUDGED
    if other.status != failed.status:
        return False
    if family == "body":
        if not re.match(r"body(/|$)", result.at):
            return False
        tokens = split_pointer(result.at.removeprefix("body"))
        tokens = tokens[:-1] if result.kind in _OF_NAMES else tokens
        return bool(made) and _there(value(other), tokens)
    if family == "media":
        return any(one.held for one in made)
    if family == "header":
        return any(one.held and one.at == result.at for one in made)
    return any(one.held and (one.at, one.declared) == (result.at, result.declared) for one in made)


def _family(result: CheckResult) -> str:
    return result.kind.partition(".")[0]


def _there(value: Any, tokens: list[str]) -> bool:
    """Whether a place is in a value, whatever the index of an item."""
    return not tokens or any(_there(inner, tokens[1:]) for inner in _inner(value, tokens[0]))


def _inner(value: Any, name: str) -> Iterator[Any]:
    """What a step of a place leads to: every item for `/3`, and for `tug[3]` every one of that name."""
    if isinstance(value, list):
        yield from value if name.isdigit() else ()
    elif isinstance(value, dict):
        bare = re.sub(r"\[\d+\]$", "", name)
        inner = value.get(name, value.get(bare, ABSENT) if bare != name else ABSENT)
        if bare != name and isinstance(inner, list):
            yield from inner
        elif inner is not ABSENT:
            yield inner
