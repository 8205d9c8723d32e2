"""The public face for programs: load a contract, make requests, send them, judge exchanges, measure coverage.

Nothing is kept and nothing is configured: no workspace, ledger or credentials. An example: docs/programs.md.
"""

from juxtalogos._api import coverage, judge, load, request, send
from juxtalogos.coverage import Coverage
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.exchange import Exchange, Request, Response
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.judging.judge import Judgement

__all__ = [
    "CheckResult",
    "Contract",
    "Coverage",
    "Exchange",
    "Judgement",
    "JuxtalogosError",
    "Operation",
    "Outcome",
    "Request",
    "Response",
    "Verdict",
    "coverage",
    "judge",
    "load",
    "request",
    "send",
]
