"""What a report shows, worked out before anything is rendered."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from juxtalogos.coverage import Coverage
from juxtalogos.documents.positions import lines, position
from juxtalogos.ledger import CaseRecord, ExchangeRecord, RunRecord
from juxtalogos.model.contract import Contract
from juxtalogos.model.findings import CheckResult, Finding
from juxtalogos.model.location import Location


@dataclass(frozen=True, slots=True)
class FoundDeviation:
    """One finding by fingerprint: how often, and the exchanges it was seen in."""

    finding: Finding
    count: int
    exchanges: tuple[int, ...]
    where: str
    excerpt: str
    """The line of the definition."""


@dataclass(frozen=True, slots=True)
class ReportData:
    run: RunRecord
    cases: tuple[CaseRecord, ...]
    records: tuple[ExchangeRecord, ...]
    findings: tuple[FoundDeviation, ...]
    coverages: tuple[tuple[Contract, Coverage], ...]
    where: Callable[[ExchangeRecord, CheckResult], str]

    @property
    def verdicts(self) -> Counter[str]:
        return Counter(str(case.verdict) for case in self.cases)

    @property
    def statuses(self) -> list[tuple[str, int]]:
        counts = Counter(record.status for record in self.records if record.exchange)
        return [(str(status) if status else "no answer", count) for status, count in sorted(counts.items())]

    def steps_of(self, case: CaseRecord) -> list[ExchangeRecord]:
        return [record for record in self.records if (record.suite, record.case) == (case.suite, case.case)]


def report_data(
    run: RunRecord,
    cases: list[CaseRecord],
    records: list[ExchangeRecord],
    coverages: list[tuple[Contract, Coverage]],
    contracts: Mapping[str, Contract],
) -> ReportData:
    def place(contract_name: str, location: Location | None) -> tuple[str, str]:
        contract = contracts.get(contract_name)
        document = contract.documents.get(location.document) if contract and location else None
        if document is None or location is None:
            return "", ""
        found = position(document, location.pointer)
        text = lines(document)
        return f"{location.document}:{found.line}", text[found.line - 1].strip() if found.line <= len(text) else ""

    grouped: dict[str, tuple[Finding, list[int]]] = {}
    for record in records:
        for finding in record.findings():
            grouped.setdefault(finding.fingerprint, (finding, []))[1].append(record.id)
    found = []
    for finding, exchanges in grouped.values():
        where, excerpt = place(finding.contract, finding.result.location)
        found.append(FoundDeviation(finding, len(exchanges), tuple(dict.fromkeys(exchanges)), where, excerpt))
    found.sort(key=lambda one: (one.finding.result.severity, one.finding.operation, one.finding.result.kind))
    return ReportData(
        run,
        tuple(cases),
        tuple(records),
        tuple(found),
        tuple(coverages),
        lambda record, result: place(record.contract, result.location)[0],
    )
