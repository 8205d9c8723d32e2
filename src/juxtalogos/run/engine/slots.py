"""Slots for what runs side by side: so many at once, or one that is alone."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager


class Slots:
    """So many turns at once, those first that asked first; one that is alone takes all slots."""

    def __init__(self, count: int) -> None:
        self.count = count
        self._free = asyncio.Semaphore(count)
        self._collecting = asyncio.Lock()

    @asynccontextmanager
    async def taken(self, *, alone: bool = False) -> AsyncIterator[None]:
        """Waits for a slot, or with `alone` for all, and holds it."""
        held = 0
        try:
            if alone:
                # One at a time collects: two that wait for each other's slots would wait for ever.
                async with self._collecting:
                    while held < self.count:
                        await self._free.acquire()
                        held += 1
            else:
                await self._free.acquire()
                held = 1
            yield
        finally:
            for _ in range(held):
                self._free.release()
