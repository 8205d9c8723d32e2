"""A whole run: system up, ledger open, cases executed, everything kept also on an interrupt."""

from __future__ import annotations

import asyncio
import contextlib
import signal
from collections.abc import Callable, Coroutine
from dataclasses import replace
from pathlib import Path

from juxtalogos.ledger import CaseRecord, Ledger
from juxtalogos.ledger.writer import Writer
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.engine import Plan, run_plan
from juxtalogos.run.system import run_command, running_system


async def execute(
    plan: Plan, workspace: Path, ledger: Ledger, what: str, done: Callable[[CaseRecord], None]
) -> tuple[int, Verdict, bool]:
    """(number of the run, worst verdict, whether it was interrupted)."""
    target = plan.session.target
    async with running_system(target, workspace):
        if target.system and target.system.reset:
            command = target.system.reset
            plan = replace(plan, reset=lambda: run_command(command, workspace, "reset"))
        number = ledger.begin("run", target.name, what)
        verdict, interrupted = Verdict.ERROR, False
        try:
            async with Writer(ledger, number) as writer:
                verdict, interrupted = await _until_interrupted(run_plan(plan, writer, done))
        finally:
            ledger.end(number, verdict, interrupted=interrupted)
    return number, verdict, interrupted


async def _until_interrupted(work: Coroutine[None, None, Verdict]) -> tuple[Verdict, bool]:
    """Runs to the end, or until SIGINT or SIGTERM: then the work is cancelled, what is finished is kept."""
    task = asyncio.ensure_future(work)
    loop = asyncio.get_running_loop()
    for sign in (signal.SIGINT, signal.SIGTERM):
        with contextlib.suppress(NotImplementedError, RuntimeError):
            loop.add_signal_handler(sign, task.cancel)
    try:
        return await task, False
    except asyncio.CancelledError:
        return Verdict.ERROR, True
    finally:
        for sign in (signal.SIGINT, signal.SIGTERM):
            with contextlib.suppress(NotImplementedError, RuntimeError):
                loop.remove_signal_handler(sign)
