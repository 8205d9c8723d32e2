"""The event loop of a process."""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine
from typing import Any, TypeVar

Result = TypeVar("Result")


def run_loop(work: Coroutine[Any, Any, Result]) -> Result:
    """Runs to the end; on uvloop where that is installed (the extra `uvloop`), which sends faster."""
    try:
        import uvloop
    except ImportError:
        return asyncio.run(work)
    with asyncio.Runner(loop_factory=uvloop.new_event_loop) as runner:
        return runner.run(work)
