"""One view of a finished run, worked out once and linear in its size: terminal, JSON, JUnit and HTML are made
from it.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

from juxtalogos.coverage import Coverage
from juxtalogos.documents.positions import describe, excerpt, position
from juxtalogos.formats.http.outcomes import status_outcome
from juxtalogos.ledger import (
    AFTER_RETRIES,
    CaseRecord,
    ExchangeQuery,
    ExchangeRecord,
    FoundResult,
    Ledger,
    ReportedValue,
    RunRecord,
    StepRow,
)
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import UsageError, nearest
from juxtalogos.model.findings import CheckResult, ResultClass
from juxtalogos.model.location import Location
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.gate.state import ServiceState

Contracts = Mapping[str, Contract]


@dataclass(frozen=True, slots=True)
class FoundDeviation:
    """One finding by fingerprint: how often, the exchanges it was seen in, and the definition's line."""

    found: FoundResult
    where: str
    """`file:line`, with the column where the line is long."""
    line: int | None
    excerpt: str
    """What stands there in the definition."""

    @property
    def result(self) -> CheckResult:
        return self.found.finding.result

    @property
    def operation(self) -> str:
        return self.found.finding.operation

    @property
    def count(self) -> int:
        return self.found.count


@dataclass(frozen=True)
class RunView:
    """A run with its cases, steps and findings, indexed; exchanges in full come from the ledger as they are
    asked for.
    """

    run: RunRecord
    cases: tuple[CaseRecord, ...]
    steps: tuple[StepRow, ...]
    findings: tuple[FoundDeviation, ...]
    contracts: Contracts
    exchanges: Callable[[], Iterator[ExchangeRecord]]
    """All of the run, read from the ledger."""
    reported: tuple[ReportedValue, ...] = ()
    coverages: tuple[tuple[Contract, Coverage], ...] = ()
    remarks: bool = True
    """Whether what is only doubtful is told."""
    interrupted: bool = field(default=False)
    state: ServiceState | None = None
    """What is different at the service from before; None where nobody looked."""
    part: str = ""
    """What of the run it is, as a file's name says it; empty for all of it."""

    @property
    def verdicts(self) -> Counter[str]:
        """Cases by verdict."""
        return Counter(str(case.verdict) for case in self.cases)

    @property
    def retried(self) -> int:
        """Cases that passed, but not at once."""
        passed = (case for case in self.cases if case.verdict is Verdict.PASSED)
        return sum(case.reason.startswith(AFTER_RETRIES) for case in passed)

    @property
    def step_verdicts(self) -> Counter[str]:
        return Counter(str(step.verdict) for step in self.steps)

    @property
    def statuses(self) -> list[tuple[str, int]]:
        """(status code or `no answer`, how often) of what was sent."""
        counts = Counter(step.status for step in self.steps if step.method)
        return [(str(status) if status else "no response", count) for status, count in sorted(counts.items())]

    @property
    def methods(self) -> list[str]:
        return sorted({step.method for step in self.steps if step.method})

    @cached_property
    def by_case(self) -> Mapping[tuple[str, str], Sequence[StepRow]]:
        """Steps by (suite, case)."""
        found: dict[tuple[str, str], list[StepRow]] = {}
        for step in self.steps:
            found.setdefault((step.suite, step.case), []).append(step)
        return found

    def steps_of(self, case: CaseRecord) -> Sequence[StepRow]:
        return self.by_case.get((case.suite, case.case), ())

    @cached_property
    def _places(self) -> dict[tuple[str, Location], str]:
        return {}

    def where(self, record: ExchangeRecord, result: CheckResult) -> str:
        """`file:line` of what a result rests on; many exchanges rest on the same."""
        if result.location is None:
            return ""
        key = record.contract, result.location
        if key not in self._places:
            self._places[key] = place_of(self.contracts, *key)[0]
        return self._places[key]

    @property
    def fails(self) -> bool:
        """Whether any case failed, or any check that fails a step did not hold."""
        failing = any(finding.result.fails for finding in self.findings) or any(
            step.failing for step in self.steps
        )
        return failing or any(case.verdict is Verdict.FAILED for case in self.cases)

    @property
    def unanswered(self) -> bool:
        """Whether there are only errors, and what they skipped."""
        verdicts = {case.verdict for case in self.cases}
        return Verdict.ERROR in verdicts and verdicts <= {Verdict.ERROR, Verdict.SKIPPED}

    @property
    def nothing_succeeded(self) -> bool:
        """Whether requests that were made up met refusals only: then nothing was shown, whatever was
        declared.
        """
        return (
            self.has(Verdict.REFUSED)
            and not self.has(Verdict.PASSED)
            and not any(status_outcome(step.status).succeeded for step in self.steps)
        )

    def has(self, verdict: Verdict) -> bool:
        return any(case.verdict is verdict for case in self.cases)


def run_view(
    ledger: Ledger,
    number: int | None,
    contracts: Contracts,
    *,
    remarks: bool = True,
    order: Sequence[tuple[str, str]] = (),
) -> RunView:
    """The view of a run. `order`: (suite, case) in the order in which cases are to be told."""
    run = ledger.run(number)
    cases = ledger.cases(run.id)
    places = {key: index for index, key in enumerate(order)}
    if places:
        cases.sort(key=lambda one: places.get((one.suite, one.case.partition("[")[0]), len(places)))
    found = [_placed(contracts, finding) for finding in ledger.findings(run.id)]
    if not remarks:
        found = [item for item in found if item.result.result_class is not ResultClass.REMARK]
    found.sort(key=lambda one: (one.operation, one.result.kind))
    query = ExchangeQuery(run=run.id)
    state = ledger.state(run.id)
    return RunView(
        run,
        tuple(cases),
        tuple(ledger.steps(run.id)),
        tuple(found),
        contracts,
        lambda: ledger.exchanges(query),
        tuple(ledger.reported(run.id)),
        remarks=remarks,
        interrupted=run.interrupted,
        state=ServiceState.of_json(json.loads(state)) if state else None,
    )


def narrowed(view: RunView, *, suite: str = "", case: str = "", exchange: int = 0) -> RunView:
    """The view of one case (all rows of its table), or of one exchange, with what was found there.

    UsageError when there is none.
    """
    records = [call for call in view.exchanges() if _meant(call, suite, case, exchange)]
    if not records:
        what = f"exchange {exchange}" if exchange else f"case {suite}#{case}"
        known = sorted(
            {f"{other_case.suite}#{other_case.case.partition('[')[0]}" for other_case in view.cases}
        )
        raise UsageError(
            f"run {view.run.id} has no {what}", mend="" if exchange else nearest(f"{suite}#{case}", known)
        )
    ids = {entry.id for entry in records}
    keys = {(entry.suite, entry.case) for entry in records}
    seen: dict[str, list[int]] = {}
    for record in records:
        for finding in record.findings():
            seen.setdefault(finding.fingerprint, []).append(record.id)
    findings = tuple(
        replace(told, found=replace(told.found, count=len(numbers), exchanges=tuple(dict.fromkeys(numbers))))
        for told in view.findings
        if (numbers := seen.get(told.found.fingerprint))
    )
    return replace(
        view,
        cases=tuple(other_case for other_case in view.cases if (other_case.suite, other_case.case) in keys),
        steps=tuple(step for step in view.steps if step.id in ids),
        findings=findings,
        reported=tuple(entry for entry in view.reported if entry.exchange in ids),
        exchanges=lambda: iter(records),
        part=(
            f"-exchange-{exchange}" if exchange else "-" + re.sub(r"[^A-Za-z0-9_-]+", "-", f"{suite}-{case}")
        ),
    )


def _meant(record: ExchangeRecord, suite: str, case: str, exchange: int) -> bool:
    if exchange:
        return exchange in (record.id, record.whole)
    return record.suite == suite and case in (record.case, record.case.partition("[")[0])


def with_coverage(view: RunView, coverages: Sequence[tuple[Contract, Coverage]]) -> RunView:
    return replace(view, coverages=tuple(coverages))


def place_of(contracts: Contracts, name: str, location: Location | None) -> tuple[str, int | None, str]:
    """(`file:line`, line, the text there) of a place in a contract's definition; empty
    where it is not known.
    """
    contract = contracts.get(name)
    document = contract.documents.get(location.document) if contract and location else None
    if document is None or location is None:
        return "", None, ""
    line = position(document, location.pointer).line
    return (
        describe(contract.documents if contract else {}, location),
        line,
        excerpt(document, location.pointer),
    )


def _placed(contracts: Contracts, found: FoundResult) -> FoundDeviation:
    where, line, excerpt = place_of(contracts, found.finding.contract, found.finding.result.location)
    return FoundDeviation(found, where, line, excerpt)
