"""The one writer: takes finished work from a bounded queue and commits it in batches."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, field
from types import TracebackType

from juxtalogos.ledger.records import CaseRecord, ExchangeRecord
from juxtalogos.ledger.store import Ledger

BATCH = 200
SLICE = 25
"""Records stored at a stretch, on the loop itself: two milliseconds. A thread of its own would fight for the interpreter's lock
at each row, which costs four times as much."""
INTERVAL = 0.5
"""Seconds after which a smaller batch is committed too."""


@dataclass
class Writer:
    """An asynchronous context; leaving it commits what is still waiting, also on an interrupt."""

    ledger: Ledger
    run: int
    queue: asyncio.Queue[ExchangeRecord | CaseRecord | None] = field(default_factory=lambda: asyncio.Queue(2 * BATCH))
    _task: asyncio.Task[None] | None = None

    async def __aenter__(self) -> Writer:
        self._task = asyncio.create_task(self._work())
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._task:
            await self._wait_in(None)
            await asyncio.shield(self._task)

    async def put(self, record: ExchangeRecord | CaseRecord) -> None:
        """Waits while the queue is full, so that memory stays bounded. Fails as the writer failed: on a full disk, for example."""
        if self._task and self._task.done():
            self._task.result()
        try:
            self.queue.put_nowait(record)
        except asyncio.QueueFull:
            await self._wait_in(record)

    async def _wait_in(self, record: ExchangeRecord | CaseRecord | None) -> None:
        """A writer that has failed takes nothing more: nobody may wait for it."""
        putting = asyncio.ensure_future(self.queue.put(record))
        try:
            await asyncio.wait([putting, self._task] if self._task else [putting], return_when=asyncio.FIRST_COMPLETED)
        finally:
            if not putting.done():
                putting.cancel()
        if not putting.done() and self._task:
            self._task.result()

    async def _work(self) -> None:
        ended = False
        while not ended:
            batch: list[ExchangeRecord | CaseRecord] = []
            first = await self.queue.get()
            ended = first is None
            if first is not None:
                batch.append(first)
            deadline = asyncio.get_running_loop().time() + INTERVAL
            while not ended and len(batch) < BATCH:
                try:
                    record = self.queue.get_nowait()
                except asyncio.QueueEmpty:
                    try:
                        async with asyncio.timeout_at(deadline):
                            record = await self.queue.get()
                    except TimeoutError:
                        break
                ended = record is None
                if record is not None:
                    batch.append(record)
            if batch:
                exchanges = [record for record in batch if isinstance(record, ExchangeRecord)]
                cases = [record for record in batch if isinstance(record, CaseRecord)]
                with self.ledger.batch():
                    for start in range(0, max(len(exchanges), 1), SLICE):
                        last = start + SLICE >= len(exchanges)
                        self.ledger.put(self.run, exchanges[start : start + SLICE], cases if last else ())
                        await asyncio.sleep(0)
