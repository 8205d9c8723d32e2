"""Recording: finished work is gathered and committed in batches, on the loop itself, which never waits for
somebody else's lock.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from types import TracebackType

from juxtalogos.ledger.interface import Ledger
from juxtalogos.ledger.records import CaseRecord, ExchangeRecord, UndoRecord
from juxtalogos.model.errors import LedgerError

BATCH = 200
INTERVAL = 0.5
"""Seconds after which a smaller batch is committed too."""
AGAIN = 0.05
"""Seconds until a batch that met a lock is tried again."""
MAX_KEPT = 5_000
"""Records kept while the ledger is locked; whoever has more waits, so that memory stays bounded."""
PATIENCE = 60.0
"""Seconds that a lock may last before the ledger is given up."""


class Recorder:
    """An asynchronous context; leaving it commits what is still waiting, also on an interrupt."""

    def __init__(self, ledger: Ledger, run: int, committed: Callable[[], None] = lambda: None) -> None:
        self.ledger = ledger
        self.run = run
        self.committed = committed
        """Called after each commit: everything that was put before is kept then."""
        self.waiting: list[ExchangeRecord | CaseRecord | UndoRecord] = []
        self.locked_since: float | None = None
        self.fault: LedgerError | None = None
        self._timer: asyncio.TimerHandle | None = None
        self._room = asyncio.Event()

    async def __aenter__(self) -> Recorder:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        while self.waiting and self.fault is None:
            self._commit()
            if self.waiting and self.fault is None:
                await asyncio.sleep(AGAIN)
        if self._timer:
            self._timer.cancel()
        if self.fault is not None and not isinstance(error, LedgerError):
            raise self.fault

    async def put(self, record: ExchangeRecord | CaseRecord | UndoRecord) -> None:
        """Takes a record. LedgerError when the ledger cannot be written: on a full disk, for example."""
        if self.fault is not None:
            raise self.fault
        self.waiting.append(record)
        now = (
            isinstance(record, UndoRecord) and not record.done
        )  # what was made is known before anything else happens
        if (now or len(self.waiting) >= BATCH) and self.locked_since is None:
            self._commit()
        elif self._timer is None:
            self._timer = asyncio.get_running_loop().call_later(INTERVAL, self._commit)
        while now and self.fault is None and any(entry is record for entry in self.waiting):
            await asyncio.sleep(AGAIN / 5)  # another writes just now
            if self.locked_since is None:
                self._commit()
        while len(self.waiting) >= MAX_KEPT and self.fault is None:
            self._room.clear()
            await self._room.wait()

    def _commit(self) -> None:
        """Commits what waits; while another writes it is kept, and tried again a little later."""
        if self._timer:
            self._timer.cancel()
        self._timer = None
        if not self.waiting or self.fault is not None:
            return
        loop = asyncio.get_running_loop()
        try:
            stored = self.ledger.try_add(self.run, self.waiting)
        except LedgerError as error:
            self.fault = error
        else:
            if stored:
                self.waiting.clear()
                self.locked_since = None
                self.committed()
            else:
                self.locked_since = self.locked_since or loop.time()
                if loop.time() - self.locked_since > PATIENCE:
                    self.fault = LedgerError(
                        f"another program has locked the ledger for {PATIENCE:g} s",
                        where=self.ledger.place,
                        mend="end it, and run again",
                    )
                else:
                    self._timer = loop.call_later(AGAIN, self._commit)
        self._room.set()
