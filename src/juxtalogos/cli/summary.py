"""A finished run or audit as it is told: cases, findings, exit status."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from typing import Any

from juxtalogos.cli.calling import result_data
from juxtalogos.cli.options import EXIT_FAILED, EXIT_HELD, EXIT_INTERRUPTED, EXIT_NO_ANSWER
from juxtalogos.cli.terminal import Terminal
from juxtalogos.documents.positions import describe
from juxtalogos.ledger import CaseRecord, ExchangeRecord
from juxtalogos.model.contract import Contract
from juxtalogos.model.findings import Severity
from juxtalogos.model.verdict import Verdict


class RunSummary:
    """A finished run as `run` shows it."""

    def __init__(
        self,
        number: int,
        cases: list[CaseRecord],
        records: list[ExchangeRecord],
        contracts: Mapping[str, Contract],
        *,
        remarks: bool = True,
    ) -> None:
        self.number = number
        self.cases = cases
        self.records = records
        self.contracts = contracts
        self.remarks = remarks
        """Whether what is only doubtful is told."""

    def findings(self) -> dict[str, tuple[int, ExchangeRecord, Any]]:
        """By fingerprint: (how often, the first exchange, the result)."""
        found: dict[str, tuple[int, ExchangeRecord, Any]] = {}
        for record in self.records:
            for finding in record.findings():
                if finding.result.severity is Severity.REMARK and not self.remarks:
                    continue
                count, first, result = found.get(finding.fingerprint, (0, record, finding.result))
                found[finding.fingerprint] = (count + 1, first, result)
        return found

    def show(self, out: Terminal, verdict: Verdict, interrupted: bool) -> None:
        rows = []
        for case in self.cases:
            steps = [record for record in self.records if record.case == case.case and record.suite == case.suite]
            codes = " ".join(str(record.status or "-") for record in steps)
            rows.append(
                (
                    f"{case.suite}#{case.case}",
                    (case.verdict, case.verdict),
                    codes,
                    f"{case.seconds * 1000:.0f}",
                    (case.reason, "note"),
                )
            )
        out.table(("case", "verdict", "status codes", "ms", "why"), rows, styles=("name",), right=(3,))
        if out.verbose:
            self._show_steps(out)
        statuses = Counter(record.status for record in self.records if record.exchange)
        out.line()
        out.line("answers: ", "  ".join(f"{status or 'none'} × {count}" for status, count in sorted(statuses.items())))
        self.show_findings(out)
        verdicts = Counter(case.verdict for case in self.cases)
        out.line()
        out.line(
            (verdict, verdict) if not interrupted else ("interrupted", "error"),
            f"  run {self.number}: {len(self.cases)} case{'s' if len(self.cases) != 1 else ''}, ",
            ", ".join(f"{count} {name}" for name, count in verdicts.items()),
        )
        out.note((f"next: juxtalogos report {self.number}  or  juxtalogos coverage", "note"))

    def _show_steps(self, out: Terminal) -> None:
        """Every step, for who asked for more."""
        rows = []
        for record in self.records:
            request = record.exchange.request if record.exchange else None
            sent = f"{request.method} {request.url}" if request else ""
            verdict = (record.verdict, record.verdict)
            rows.append(
                (record.id, f"{record.case}#{record.step}", sent, record.status or "", verdict, (record.reason, "note"))
            )
        out.line()
        out.table(("exchange", "step", "sent", "status", "verdict", "why"), rows, right=(0, 3))

    def show_findings(self, out: Terminal) -> None:
        found = self.findings()
        out.line()
        if not found:
            out.line(("no findings", "held"))
            return
        rows = []
        for count, record, result in sorted(found.values(), key=lambda one: (one[1].operation, one[2].kind)):
            contract = self.contracts.get(record.contract)
            where = describe(contract.documents, result.location) if contract and result.location else ""
            mark = str(result.severity) if result.severity is Severity.REMARK else result.kind.partition(".")[0]
            rows.append(
                (
                    record.operation,
                    (result.kind, mark if mark == "remark" else "deviation"),
                    result.at,
                    result.declared,
                    result.observed,
                    (where, "note"),
                    count,
                    record.id,
                )
            )
        out.line((f"findings: {len(found)}", "head"))
        out.table(
            ("operation", "kind", "at", "declared", "observed", "definition", "times", "exchange"),
            rows,
            styles=("name",),
            right=(6, 7),
        )

    def data(self, verdict: Verdict, interrupted: bool) -> dict[str, Any]:
        findings = []
        for fingerprint, (count, record, result) in self.findings().items():
            contract = self.contracts.get(record.contract)
            data = result_data(result, contract.documents if contract else {})
            findings.append(
                {
                    "fingerprint": fingerprint,
                    "operation": record.operation,
                    "status": record.status,
                    "times": count,
                    "exchange": record.id,
                    **data,
                }
            )
        cases = [
            {
                "suite": case.suite,
                "case": case.case,
                "verdict": case.verdict,
                "reason": case.reason,
                "seconds": round(case.seconds, 6),
            }
            for case in self.cases
        ]
        return {
            "version": 1,
            "run": self.number,
            "verdict": verdict,
            "interrupted": interrupted,
            "cases": cases,
            "findings": findings,
        }

    def exit_status(self, strict: bool, interrupted: bool) -> int:
        if interrupted:
            return EXIT_INTERRUPTED
        verdicts = {case.verdict for case in self.cases}
        if (
            Verdict.FAILED in verdicts
            or (strict and Verdict.UNPROVEN in verdicts)
            or any(result.fails for record in self.records for result in record.results)
        ):
            return EXIT_FAILED
        if Verdict.ERROR in verdicts:
            return EXIT_NO_ANSWER if verdicts <= {Verdict.ERROR, Verdict.SKIPPED} else EXIT_FAILED
        return EXIT_HELD
