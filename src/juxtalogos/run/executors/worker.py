"""A process that does units of a run: it is told them on its standard input, and tells on its standard output
what came of them.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import signal
import sys
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from juxtalogos.exchange.transport import Transport
from juxtalogos.ledger import CaseRecord, open_ledger
from juxtalogos.ledger.recorder import Recorder
from juxtalogos.model.errors import JuxtalogosError, LedgerError
from juxtalogos.run.engine import unforeseen
from juxtalogos.run.engine.binding import bind
from juxtalogos.run.engine.engine import Engine
from juxtalogos.run.engine.loop import run_loop
from juxtalogos.run.engine.pacing import paced
from juxtalogos.run.engine.plan import CaseRef, RunPlan, Unit
from juxtalogos.run.engine.slots import Slots
from juxtalogos.run.engine.step import RunContext
from juxtalogos.run.engine.stop import stopping_at_first
from juxtalogos.run.gate.gate import Gate
from juxtalogos.run.gate.inventory import Inventory
from juxtalogos.run.gate.sweeping import sweep
from juxtalogos.run.target.recording import Recording
from juxtalogos.run.target.system import resetting
from juxtalogos.workspace.workspace import Workspace


def tell(message: dict[str, Any]) -> None:
    """One line on standard output. Who listens may be gone: then there is nobody to tell."""
    with contextlib.suppress(OSError, ValueError):
        sys.stdout.write(json.dumps(message, separators=(",", ":")) + "\n")
        sys.stdout.flush()


def tell_fault(error: Exception) -> None:
    """Tells of an error that ends the work."""
    if isinstance(error, JuxtalogosError):
        what, where, mend = error.what, error.where, error.mend
    else:
        what, where, mend = unforeseen.told(error), "", ""
    tell({"fault": what, "where": where, "mend": mend, "ledger": isinstance(error, LedgerError)})


async def work(start: dict[str, Any], lines: asyncio.StreamReader) -> None:
    """Until standard input ends.

    Where it ends without a word, whoever began this is gone: all is cancelled and cleaned up.
    """
    home = Workspace(Path(start["workspace"]))
    run = bind(home, RunPlan.from_json(start["plan"]))
    with open_ledger(home.ledger_path, write=True) as ledger:
        finished: list[int] = []

        def committed() -> None:
            tell({"kept": finished})
            finished.clear()

        async with (
            Recorder(ledger, start["run"], committed) as recorder,
            Transport(
                paced(replace(run.session.options, connections=start["jobs"]), run.plan, start["processes"])
            ) as transport,
        ):
            slots, reset = Slots(start["jobs"]), resetting(run.session, home.root)
            gate = Gate(Inventory(run.session.target.name), strict=run.plan.strict_clean)
            gate.inventory.put_undo = Recording(run.session, recorder).put_undo
            context = RunContext(run.session, transport, gate=gate)
            tasks: set[asyncio.Task[None]] = set()

            async def unit(message: dict[str, Any]) -> None:
                def done(record: CaseRecord) -> None:
                    tell({"unit": message["unit"], "case": asdict(record)})

                refs = tuple(map(CaseRef.of, message["cases"]))
                told = stopping_at_first(done, context.stop) if run.plan.stop_at_first else done
                engine = Engine(run, context, recorder, slots, reset, told)
                try:
                    await engine.unit(Unit(refs, message["alone"]))
                except Exception as error:
                    tell_fault(error)
                finished.append(message["unit"])
                tell({"ended": message["unit"]})

            ordered = False
            while line := await lines.readline():
                message = json.loads(line)
                if "end" in message:
                    ordered = bool(message["end"])
                    break
                if "full" in message:  # a case of another process failed
                    context.stop.begin_no_more()
                    continue
                task = asyncio.create_task(unit(message))
                tasks.add(task)
                task.add_done_callback(tasks.discard)
            if not ordered:
                context.stop.ask()
            await asyncio.gather(*tasks, return_exceptions=True)
            await sweep(gate, run.session, transport)
            tell({"gate": gate.told()})


async def main() -> None:
    """Reads how it is to begin, and works until standard input ends."""
    loop = asyncio.get_running_loop()
    lines = asyncio.StreamReader(limit=16 * 1024 * 1024)
    await loop.connect_read_pipe(lambda: asyncio.StreamReaderProtocol(lines), sys.stdin)
    try:
        await work(json.loads(await lines.readline()), lines)
    except Exception as error:
        tell_fault(error)


if __name__ == "__main__":
    # An interrupt at the terminal is the first process's affair: it says what is to be done.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    sys.setrecursionlimit(12_000)
    run_loop(main())
