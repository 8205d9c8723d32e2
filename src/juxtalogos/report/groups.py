"""What a person reads first: like told with like, the worst first. Of cases and of what did not hold."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from juxtalogos.ledger import CaseRecord
from juxtalogos.model.findings import FAILURES, ResultClass
from juxtalogos.model.verdict import Verdict
from juxtalogos.report.view import FoundDeviation, RunView

WORST_FIRST = tuple(Verdict)


@dataclass(frozen=True, slots=True)
class CaseGroup:
    """Cases that ended alike: same verdict, same answers, same reason but for its numbers."""

    cases: tuple[CaseRecord, ...]
    codes: str

    @property
    def first(self) -> CaseRecord:
        return self.cases[0]

    @property
    def milliseconds(self) -> float:
        return sum(case.seconds for case in self.cases) * 1000 / len(self.cases)


def case_groups(view: RunView) -> list[CaseGroup]:
    """All cases in groups, the worst verdict first, then by size, then in their order."""
    grouped: dict[tuple[Verdict, str, str], list[CaseRecord]] = {}
    for case in view.cases:
        codes = " ".join(str(step.status or "-") for step in view.steps_of(case))
        alike = codes if case.verdict is not Verdict.PASSED else ""
        grouped.setdefault((case.verdict, alike, _general(case.reason)), []).append(case)
    made = [CaseGroup(tuple(cases), key[1]) for key, cases in grouped.items()]
    return sorted(made, key=lambda group: (WORST_FIRST.index(group.first.verdict), -len(group.cases)))


def worst_first(cases: Iterable[CaseRecord]) -> list[CaseRecord]:
    return sorted(cases, key=lambda case: WORST_FIRST.index(case.verdict))


def _general(reason: str) -> str:
    return re.sub(r"\d+", "0", reason)


@dataclass(frozen=True, slots=True)
class FoundGroup:
    """One cause: what stands at one place of the definition, seen at one place of answers, of whichever
    operations.
    """

    found: tuple[FoundDeviation, ...]

    @property
    def first(self) -> FoundDeviation:
        return self.found[0]

    @property
    def operations(self) -> list[str]:
        """`operation STATUS`, each once."""
        told = (f"{item.operation} {item.found.finding.status or ''}".strip() for item in self.found)
        return list(dict.fromkeys(told))

    @property
    def times(self) -> int:
        return sum(item.count for item in self.found)

    @property
    def exchanges(self) -> list[int]:
        """Numbers of exchanges that it was seen in, the first ones of each finding."""
        return sorted({number for item in self.found for number in item.found.exchanges})

    @property
    def observed(self) -> list[str]:
        return list(dict.fromkeys(item.result.observed for item in self.found))


def found_groups(found: Sequence[FoundDeviation]) -> list[FoundGroup]:
    """In groups by cause: failures of the service first, then what concerns most operations, then what is met
    most often.
    """
    grouped: dict[tuple[str, ...], list[FoundDeviation]] = {}
    for one in found:
        grouped.setdefault(one.found.finding.cause, []).append(one)
    made = [FoundGroup(tuple(group)) for group in grouped.values()]
    return sorted(
        made,
        key=lambda one: (one.first.result.kind not in FAILURES, -len(one.operations), -one.times),
    )


CLASSES: dict[ResultClass, str] = {
    ResultClass.FINDING: "findings",
    ResultClass.EXPECTATION: "expectations",
    ResultClass.LENIENT: "lenient",
    ResultClass.DOUBT: "doubts",
    ResultClass.REFUSAL: "refusals",
    ResultClass.REMARK: "remarks",
}
"""What each class is called where many are told, in the order in which they are."""
CLASS_WORDS: dict[ResultClass, str] = {
    ResultClass.FINDING: "the contract or its protocol forbids it",
    ResultClass.EXPECTATION: "a written check or criterion failed",
    ResultClass.LENIENT: "the service accepted what the definition does not allow",
    ResultClass.DOUBT: "a law is violated that the definition does not state",
    ResultClass.REFUSAL: "a generated request met a declared refusal",
    ResultClass.REMARK: "doubtful, but not forbidden",
}


def by_class(found: Iterable[FoundDeviation]) -> dict[ResultClass, list[FoundDeviation]]:
    """What did not hold by class, each class there."""
    told: dict[ResultClass, list[FoundDeviation]] = {one: [] for one in CLASSES}
    for one in found:
        told[one.result.result_class].append(one)
    return told
