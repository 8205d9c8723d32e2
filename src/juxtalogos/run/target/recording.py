"""The one door to the ledger: nothing goes through unredacted, not even when redaction itself fails."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Protocol

from juxtalogos.ledger import CaseRecord, ExchangeRecord, UndoRecord
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.engine import unforeseen
from juxtalogos.run.target.session import Session


class RecordSink(Protocol):
    """Where everything that is finished goes. LedgerError when it cannot be kept."""

    async def put(self, record: ExchangeRecord | CaseRecord | UndoRecord) -> None: ...


@dataclass(frozen=True, slots=True)
class Recording:
    """Gives each record as it was kept. LedgerError when it cannot be kept."""

    session: Session
    sink: RecordSink
    run: int = 0
    """Its number, where several runs undo what one has made."""

    async def put(self, record: ExchangeRecord) -> ExchangeRecord:
        """Keeps an exchange."""
        try:
            kept = record.redacted(self.session.redactor)
        except Exception as error:
            reason = f"it cannot be kept: {unforeseen.told(error, bare=True)}"
            kept = replace(record.bare(), verdict=Verdict.ERROR, reason=reason)
        await self.sink.put(kept)
        return kept

    async def put_undo(self, record: UndoRecord) -> UndoRecord:
        """Keeps what is to be undone later; what was kept is named as it was, whatever has become secret
        since.
        """
        if not record.done:
            record = replace(record, sent=self.session.redactor.text(record.sent), run=self.run)
        await self.sink.put(record)
        return record

    async def finish(self, record: CaseRecord) -> CaseRecord:
        """Keeps the one record of a turn."""
        try:
            record = replace(record, reason=self.session.redactor.text(record.reason))
        except Exception as error:
            reason = f"the reason cannot be kept ({type(error).__name__})"
            record = replace(record, verdict=Verdict.ERROR, reason=reason)
        await self.sink.put(record)
        return record
