"""The ledger: the store of runs."""

from juxtalogos.ledger.records import CaseRecord, ExchangeRecord, HitRow, RunRecord, StepRecord
from juxtalogos.ledger.store import Ledger

__all__ = ["CaseRecord", "ExchangeRecord", "HitRow", "Ledger", "RunRecord", "StepRecord"]
