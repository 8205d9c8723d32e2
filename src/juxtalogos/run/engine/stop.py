"""Stopping a run: what is in flight ends, what it made is cleaned up, nothing new begins."""

from __future__ import annotations

import asyncio
import signal
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

from juxtalogos.ledger import CaseRecord


class Interrupted(Exception):
    """The run was asked to stop; the case under way cleans up and ends."""


@contextmanager
def noticing(stop: Stop) -> Iterator[None]:
    """Takes SIGINT and SIGTERM while nothing is under way that takes them itself: the first one asks for the
    stop, the second one ends the work at once (KeyboardInterrupt).
    """

    def interrupt(sign: int, frame: Any) -> None:
        if stop.asked:
            raise KeyboardInterrupt
        stop.ask()

    before = {sign: signal.getsignal(sign) for sign in (signal.SIGINT, signal.SIGTERM)}
    with suppress(ValueError):  # another thread than the main one gets no signals
        for sign in before:
            signal.signal(sign, interrupt)
    try:
        yield
    finally:
        with suppress(ValueError):
            for sign, handler in before.items():
                signal.signal(sign, handler or signal.SIG_DFL)


class Stop:
    """Asked once for a whole run.

    A request in flight is never cut off by it: what it creates must be known to be undone.
    """

    def __init__(self) -> None:
        self._event = asyncio.Event()
        self.full = False
        """Whether no further case begins; what is under way goes on to its end."""
        self._listeners: list[Callable[[], None]] = []

    @property
    def asked(self) -> bool:
        return self._event.is_set()

    def begin_no_more(self) -> None:
        """Lets what is under way end, and nothing else begin."""
        self.full = True
        for listener in self._listeners:
            listener()

    def ask(self) -> None:
        """Asks for the stop; whoever listens is told."""
        self._event.set()
        for listener in self._listeners:
            listener()

    def listen(self, listener: Callable[[], None]) -> None:
        """Calls it when the stop is asked for."""
        self._listeners.append(listener)

    async def sleep(self, seconds: float) -> None:
        """Waits, or until the stop is asked for."""
        try:
            async with asyncio.timeout(seconds):
                await self._event.wait()
        except TimeoutError:
            return


def stopping_at_first(done: Callable[[CaseRecord], None], stop: Stop) -> Callable[[CaseRecord], None]:
    """Tells of a case; after one that failed none begins any more."""

    def told(record: CaseRecord) -> None:
        if record.verdict.fails:
            stop.begin_no_more()
        done(record)

    return told
