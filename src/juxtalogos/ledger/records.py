"""What the ledger holds, as data."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from juxtalogos.exchange.media import parse_media_type
from juxtalogos.exchange.redact import Redactor
from juxtalogos.model.exchange import Exchange, header
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

    @property
    def status(self) -> int:
        return self.exchange.response.status if self.exchange and self.exchange.response else 0

    @property
    def media_type(self) -> str:
        """The answer's, without its parameters; empty when there is none."""
        response = self.exchange.response if self.exchange else None
        return str(parse_media_type(header(response.headers, "content-type") or "") or "") if response else ""

    def redacted(self, redactor: Redactor) -> ExchangeRecord:
        """As it may be kept and shown."""
        exchange = redactor.exchange(self.exchange) if self.exchange else None
        if redactor.is_idle:
            return self if exchange is self.exchange else replace(self, exchange=exchange)
        results = tuple(redactor.result(result) for result in self.results)
        known = tuple((name, redactor.text(value) if isinstance(value, str) else value) for name, value in self.known)
        return replace(
            self,
            exchange=exchange,
            results=results,
            reason=redactor.text(self.reason),
            known=known,
            note=redactor.text(self.note),
        )

    def findings(self) -> tuple[Finding, ...]:
        return tuple(
            Finding(result, self.contract, self.operation, self.status) for result in self.results if result.is_finding
        )


@dataclass(frozen=True, slots=True)
class StepRecord:
    """What a case says of one of its steps."""

    step: str
    operation: str
    verdict: Verdict
    reason: str


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


@dataclass(frozen=True, slots=True)
class HitRow:
    """An element hit, with how often and where first."""

    element: str
    operation: str
    status: int
    media_type: str
    count: int
    exchange: int
