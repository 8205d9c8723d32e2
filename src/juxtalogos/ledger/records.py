"""What the ledger holds, as data."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from juxtalogos.exchange.media import media_type_of
from juxtalogos.exchange.redact import Redactor
from juxtalogos.model.exchange import BodyForm, Exchange
from juxtalogos.model.findings import CheckResult, Finding
from juxtalogos.model.verdict import Verdict


@dataclass(frozen=True, slots=True)
class ExchangeRecord:
    """One exchange, redacted, as step `step` of a case; `id` is 0 until it is stored."""

    case: str
    step: str
    contract: str
    operation: str
    exchange: Exchange | None
    verdict: Verdict
    reason: str
    results: tuple[CheckResult, ...] = ()
    hits: tuple[str, ...] = ()
    """Ids of the elements exercised."""
    suite: str = ""
    id: int = 0
    run: int = 0
    known: tuple[tuple[str, Any], ...] = ()
    """Single values that the case knew when the answer came, by where they came from."""
    flows: tuple[tuple[str, str], ...] = ()
    """(input, expression): which values of the request came from where."""
    note: str = ""
    """The step's description, its expressions filled."""
    reported: tuple[tuple[str, str], ...] = ()
    """(name, value) of what its step puts into the report on purpose."""
    role: str = ""
    """The set of credentials it was sent with; empty for the target's own."""
    whole: int = 0
    """The number of the exchange that it is a part of; 0 for none."""
    request_form: BodyForm = BodyForm.RAW
    response_form: BodyForm = BodyForm.RAW
    parts: tuple[ExchangeRecord, ...] = ()
    """The exchanges that it consists of, each a record of its own once it is stored."""

    @property
    def status(self) -> int:
        return self.exchange.response.status if self.exchange and self.exchange.response else 0

    @property
    def media_type(self) -> str:
        """The answer's, without its parameters; empty when there is none."""
        response = self.exchange.response if self.exchange else None
        return str(media_type_of(response) or "") if response else ""

    def bare(self) -> ExchangeRecord:
        """Only which step it is: nothing of what was sent or came."""
        return ExchangeRecord(
            self.case, self.step, self.contract, self.operation, None, self.verdict, "", suite=self.suite
        )

    def redacted(self, redactor: Redactor) -> ExchangeRecord:
        """As it may be kept and shown."""
        if self.exchange is None:
            exchange, forms = None, (self.request_form, self.response_form)
        else:
            exchange, *found = redactor.exchange_with_forms(self.exchange)
            forms = (found[0], found[1])
        if redactor.is_idle:
            if exchange is self.exchange and not self.parts:
                return self
            return replace(
                self, exchange=exchange, parts=tuple(part.redacted(redactor) for part in self.parts)
            )
        results = tuple(redactor.result(result) for result in self.results)
        known = tuple(
            (name, redactor.text(value) if isinstance(value, str) else value) for name, value in self.known
        )
        return replace(
            self,
            exchange=exchange,
            results=results,
            reason=redactor.cut_text(self.reason),
            known=known,
            note=redactor.text(self.note),
            reported=tuple((name, redactor.cut_text(value)) for name, value in self.reported),
            request_form=forms[0],
            response_form=forms[1],
            parts=tuple(part.redacted(redactor) for part in self.parts),
        )

    def finding(self, result: CheckResult) -> Finding:
        return Finding(result, self.contract, self.operation, self.status)

    def findings(self) -> tuple[Finding, ...]:
        return tuple(self.finding(result) for result in self.results if result.is_finding)


@dataclass(frozen=True, slots=True)
class UndoRecord:
    """What is to be done to undo what a run created, or that it was done."""

    contract: str
    operation: str
    sent: str
    """JSON: suite, case, step, and the inputs to call the operation with, redacted."""
    target: str
    done: bool = False
    id: int = 0
    run: int = 0
    """The run that noted it first; 0 is the one under way."""


AFTER_RETRIES = "after retries: "
"""How the reason of a case begins that passed, but not at once."""


@dataclass(frozen=True, slots=True)
class StepRow:
    """What a step came to."""

    id: int
    """The number of its exchange."""
    suite: str
    case: str
    step: str
    contract: str
    operation: str
    verdict: Verdict
    reason: str
    method: str
    """Empty when nothing was sent."""
    url: str
    status: int
    """0 when no answer came."""
    failing: int
    """Checks that did not hold and fail the step."""


@dataclass(frozen=True, slots=True)
class ReportedValue:
    """A value that a step put into the report on purpose."""

    exchange: int
    suite: str
    case: str
    step: str
    name: str
    value: str


@dataclass(frozen=True, slots=True)
class FoundResult:
    """A result that did not hold, by fingerprint: how often, and the exchanges where it was seen first."""

    finding: Finding
    fingerprint: str
    count: int
    exchanges: tuple[int, ...]

    @property
    def first(self) -> int:
        return self.exchanges[0]


@dataclass(frozen=True, slots=True)
class CaseRecord:
    suite: str
    case: str
    verdict: Verdict
    reason: str
    seconds: float


@dataclass(frozen=True, slots=True)
class RunRecord:
    """One run. `ended` is 0 while it is under way or when it was interrupted."""

    id: int
    started: float
    ended: float
    kind: str
    """`run`, `call`, `trial` ..."""
    target: str
    what: str
    """What was run, as a person asked for it."""
    verdict: str
    cases: int = 0
    exchanges: int = 0
    findings: int = 0
    interrupted: bool = False
    token: str = ""
    """Random text of the run."""
    labels: tuple[tuple[str, str], ...] = ()
    """(name, value), such as the branch and the commit; sorted by name."""


@dataclass(frozen=True, slots=True)
class HitRow:
    """An element hit, with how often and where first."""

    element: str
    operation: str
    status: int
    media_type: str
    count: int
    exchange: int


@dataclass(frozen=True, slots=True)
class PastRun:
    """What happened in one run: to a case, or to an operation."""

    run: int
    started: float
    target: str
    kind: str
    """`run`, `call`, `audit` ..."""
    labels: tuple[tuple[str, str], ...]
    verdict: Verdict
    """The worst."""
    count: int
    """Turns of a case, or exchanges of an operation."""
    failing: int
    """Of them, those that failed or got no response."""
    seconds: float
    """Of a case the time of all its turns; of an operation the mean time of a response."""
    reason: str = ""
    exchange: int = 0
    """The first that failed; 0 where none did."""


@dataclass(frozen=True, slots=True)
class PastFinding:
    """A finding over all runs."""

    fingerprint: str
    kind: str
    first_run: int
    first_seen: float
    last_run: int
    last_seen: float
    runs: int
    """Runs that had it."""
    times: int
    targets: tuple[str, ...]
    operation: str
    exchange: int
    """The latest that has it."""
