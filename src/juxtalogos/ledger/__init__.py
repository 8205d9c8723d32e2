"""The ledger: the store of runs."""

from juxtalogos.ledger.interface import ExchangeQuery, Ledger, RunQuery
from juxtalogos.ledger.opening import ledger_faults, open_ledger, rescue_ledger
from juxtalogos.ledger.records import (
    AFTER_RETRIES,
    CaseRecord,
    ExchangeRecord,
    FoundResult,
    HitRow,
    PastFinding,
    PastRun,
    ReportedValue,
    RunRecord,
    StepRow,
    UndoRecord,
)
from juxtalogos.model.exchange import BodyForm

__all__ = [
    "AFTER_RETRIES",
    "BodyForm",
    "CaseRecord",
    "ExchangeQuery",
    "ExchangeRecord",
    "FoundResult",
    "HitRow",
    "Ledger",
    "PastFinding",
    "PastRun",
    "ReportedValue",
    "RunQuery",
    "RunRecord",
    "StepRow",
    "UndoRecord",
    "ledger_faults",
    "open_ledger",
    "rescue_ledger",
]
