"""`audit`: judge exchanges that were recorded elsewhere."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from juxtalogos.cli.shared.calling import result_data
from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.made_call import keep_values, worth_keeping
from juxtalogos.cli.shared.options import (
    Arguments,
    add_common,
    add_full,
    add_remarks,
    add_strict,
    terminal,
    workspace,
)
from juxtalogos.cli.shared.summary import FEW_CASES, exit_status, show_findings
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.exchange.har import HarEntry, read_har
from juxtalogos.exchange.redact import Redactor, carried_secrets
from juxtalogos.formats import wire_of
from juxtalogos.ledger import CaseRecord, ExchangeRecord, open_ledger
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import JuxtalogosError, UsageError
from juxtalogos.model.findings import CheckResult, ResultClass
from juxtalogos.model.verdict import Verdict, worst
from juxtalogos.report.view import RunView, run_view
from juxtalogos.run.judging.audit import SUITE, ServedAt, audit
from juxtalogos.run.judging.rules import rules_of
from juxtalogos.suite.document.saving import secret_inputs
from juxtalogos.suite.inputs import values_of
from juxtalogos.workspace.config import check_url
from juxtalogos.workspace.known import KnownValue, learned_path
from juxtalogos.workspace.workspace import Workspace

DESCRIPTION = """\
Judge recorded exchanges (HAR 1.2, as browsers and proxies write it). Each entry is matched to its
operation and checked like a response of a live run. All exchanges are stored in the ledger, so that
coverage and report work on them too.

Entries outside the base URL are skipped. An entry below it that no operation declares is a finding.
If the recording left a body out, the exchange is unproven.

exit status: 0 all checks passed; 1 a finding; 2 the file cannot be used; 3 no entry has a response."""
EXAMPLE = """\
  juxtalogos audit morning.har --contract berths --base-url https://merrow.example/v1
  juxtalogos audit morning.har --no-remarks --json
"""
_BATCH = 200


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", type=Path, metavar="FILE", help="a HAR file")
    parser.add_argument(
        "--contract",
        action="append",
        default=[],
        metavar="NAME",
        help="judge by this contract (default: all contracts)",
    )
    parser.add_argument(
        "--base-url", metavar="URL", help="base URL of the contract in the recording (default: from --target)"
    )
    parser.add_argument(
        "--target", metavar="NAME", help="take the base URLs from a target of juxtalogos.toml"
    )
    parser.add_argument(
        "--keep-values",
        action="store_true",
        help="keep the values of requests that succeeded, for compose at the target of --target",
    )
    add_strict(parser)
    add_remarks(parser)
    add_full(parser)
    add_common(parser)


class _AuditArguments(Arguments):
    file: Path
    contract: list[str]
    base_url: str | None
    target: str | None
    keep_values: bool
    strict: bool
    no_remarks: bool
    full: bool


def run(args: _AuditArguments) -> int:
    home, out = workspace(args), terminal(args)
    if args.keep_values and not args.target:
        raise UsageError("--keep-values needs a target", mend="say where they are valid: --target NAME")
    places = _places(args, home)
    try:
        entries = read_har(args.file.read_bytes(), str(args.file))
    except OSError as error:
        raise UsageError(
            f"cannot be read: {error.strerror}", where=str(args.file), mend="check the path"
        ) from None
    contracts = {place.contract.name: place.contract for place in places}
    redactor = _redactor(entries, contracts)
    values = _RecordedValues(places, redactor)
    with open_ledger(home.ledger_path, write=True) as ledger:
        number = ledger.begin("audit", "recorded", str(args.file))
        rules, count, verdicts = rules_of(home.config, contracts), 0, set()
        with out.progress("exchanges", len(entries)) as moved:
            judged = audit(entries, places, rules)
            for batch in _batches(values.noted(record).redacted(redactor) for record in judged):
                ledger.add(number, batch, [_as_case(record) for record in batch])
                verdicts |= {record.verdict for record in batch}
                count += len(batch)
                moved(count)
        ledger.end(number, worst(verdicts))
        view = run_view(ledger, number, contracts, remarks=not args.no_remarks)
        if args.json:
            out.json(_as_data(view))
        else:
            _tell(out, view, args.full)
    if args.keep_values and args.target:
        values.keep(home, out, args.target)
    return exit_status(view, strict=args.strict)


def _places(args: _AuditArguments, home: Workspace) -> list[ServedAt]:
    names = args.contract or home.contract_names()
    if not names:
        raise UsageError("there is no contract", mend="import a definition: juxtalogos import SOURCE")
    contracts = [home.contract(name) for name in names]
    if args.base_url:
        return [ServedAt(contract, check_url(args.base_url)) for contract in contracts]
    if args.target:
        target = home.target(args.target)
        served = [contract for contract in contracts if args.contract or target.serves(contract.name)]
        return [ServedAt(contract, target.base_url(contract)) for contract in served or contracts]
    places = [
        ServedAt(contract, server) for contract in contracts for server in contract.servers if "://" in server
    ]
    if not places:
        raise UsageError("no base URL is known", mend="give the base URL: --base-url URL or --target NAME")
    return places


def _redactor(entries: list[HarEntry], contracts: Mapping[str, Contract]) -> Redactor:
    """What the recorded requests carried as credentials is hidden wherever it occurs."""
    secrets = {secret for entry in entries if entry.exchange for secret in carried_secrets(entry.exchange)}
    return Redactor.of(secrets, {name for contract in contracts.values() for name in contract.secret_fields})


@dataclass(slots=True)
class _RecordedValues:
    """Values that recorded requests succeeded with."""

    places: list[ServedAt]
    redactor: Redactor
    by_contract: dict[str, dict[tuple[str, str], KnownValue]] = field(default_factory=dict)

    def noted(self, record: ExchangeRecord) -> ExchangeRecord:
        """The record, after its values were taken: of each input the first."""
        place = next((one for one in self.places if one.contract.name == record.contract), None)
        operation = place.contract.operation(record.operation) if place is not None else None
        if place is None or operation is None or record.exchange is None:
            return record
        contract, wire = place.contract, wire_of(place.contract)
        try:
            succeeded = wire.outcome(operation, record.exchange).succeeded
            inputs = wire.inputs_of(operation, record.exchange.request, place.base_url)
        except (JuxtalogosError, ValueError, LookupError):
            return record
        hides = self.redactor.text
        hidden = secret_inputs(contract, operation, inputs, lambda value: hides(str(value)) != str(value))
        kept = self.by_contract.setdefault(contract.name, {})
        addresses = [address for address, _ in values_of(inputs)]
        for value in worth_keeping(operation, inputs, addresses, hidden) if succeeded else ():
            kept.setdefault((value.operation, value.at), value)
        return record

    def keep(self, home: Workspace, out: Terminal, target: str) -> None:
        """Adds them to what was learned at a target."""
        for place in self.places:
            fresh = list(self.by_contract.get(place.contract.name, {}).values())
            added = keep_values(home, target, place.contract, fresh)
            where = learned_path(Path(), target, place.contract.name)
            out.note((f"kept for compose: {counted(len(added), 'value')} ({where})", "note"))


def _batches(records: Iterator[ExchangeRecord]) -> Iterator[list[ExchangeRecord]]:
    batch: list[ExchangeRecord] = []
    for record in records:
        batch.append(record)
        if len(batch) == _BATCH:
            yield batch
            batch = []
    if batch:
        yield batch


def _as_case(record: ExchangeRecord) -> CaseRecord:
    seconds = record.exchange.timings.total if record.exchange else 0.0
    return CaseRecord(SUITE, record.case, record.verdict, record.reason, seconds)


def _as_data(view: RunView) -> dict[str, Any]:
    entries = []
    for index, record in enumerate(view.exchanges()):
        contract = view.contracts.get(record.contract)
        documents = contract.documents if contract else {}
        unmet = [result for result in record.results if not result.held]
        remarks = [result for result in unmet if result.result_class is ResultClass.REMARK]
        data: dict[str, Any] = {
            "index": index,
            "operation": record.operation or None,
            "contract": record.contract or None,
            "verdict": str(record.verdict),
            "reason": record.reason,
            "findings": [
                _finding_data(result, documents)
                for result in unmet
                if result.result_class is ResultClass.FINDING
            ],
            "expectations": [
                _finding_data(result, documents)
                for result in unmet
                if result.result_class is ResultClass.EXPECTATION
            ],
            "exchange": record.id,
        }
        if view.remarks:
            data["remarks"] = [_finding_data(remark, documents) for remark in remarks]
        entries.append(data)
    return {"version": 1, "run": view.run.id, "verdict": view.run.verdict, "entries": entries}


def _finding_data(result: CheckResult, documents: Any) -> dict[str, Any]:
    data = {"document": None, "line": None, **result_data(result, documents)}
    return {key: data[key] for key in ("kind", "at", "declared", "observed", "document", "line")}


def _tell(out: Terminal, view: RunView, full: bool) -> None:
    """Entries that did not pass; every one where more is asked for."""
    rows = [
        (
            index,
            f"{step.method} {step.url}" if step.method else "",
            step.status or "",
            step.operation or "-",
            (step.verdict, step.verdict),
            (step.reason, "note"),
        )
        for index, step in enumerate(view.steps)
        if out.verbose or step.verdict not in (Verdict.PASSED, Verdict.SKIPPED)
    ]
    shown = rows if full else rows[:FEW_CASES]
    if rows:
        out.table(("entry", "sent", "status", "operation", "verdict", "why"), shown, right=(0, 2))
    if len(shown) < len(rows):
        out.line((f"and {len(rows) - len(shown)} more: --full shows every one", "note"))
    show_findings(out, view, full=full)
    out.line()
    counts = view.step_verdicts
    told = ", ".join(f"{count} {name}" for name, count in counts.items()) or "no entry"
    if view.steps and counts.keys() <= {Verdict.SKIPPED}:
        out.note(("no entry is below the base URL, so nothing was judged; -v lists the URLs", "note"))
    number = view.run.id
    out.line(
        (view.run.verdict, view.run.verdict), f"  run {number}: {len(view.steps)} recorded exchanges: {told}"
    )
    out.note((f"next: juxtalogos report {number}  or  juxtalogos coverage {number}", "note"))
