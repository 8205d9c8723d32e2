"""A whole run: system up, cases executed here or in several processes, everything kept
also on an interrupt.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import signal
from collections import Counter
from collections.abc import Callable, Coroutine
from dataclasses import dataclass, field, replace
from pathlib import Path

from juxtalogos.documents.jsontext import dump_json
from juxtalogos.exchange.transport import Sender, Transport
from juxtalogos.interrupts import taken
from juxtalogos.ledger import CaseRecord, Ledger
from juxtalogos.ledger.recorder import Recorder
from juxtalogos.model.verdict import Verdict
from juxtalogos.model.wire import Inputs
from juxtalogos.run.engine.binding import BoundRun
from juxtalogos.run.engine.pacing import paced
from juxtalogos.run.engine.plan import units
from juxtalogos.run.engine.step import RunContext
from juxtalogos.run.engine.stop import Stop, stopping_at_first
from juxtalogos.run.executors import EXECUTORS, Dealer, RunSetting
from juxtalogos.run.gate.gate import Gate
from juxtalogos.run.gate.inventory import Inventory
from juxtalogos.run.gate.places import reads
from juxtalogos.run.gate.records import MOST_LISTS
from juxtalogos.run.gate.state import ServiceState, merged
from juxtalogos.run.gate.sweeping import sweep
from juxtalogos.run.gate.truth import compare
from juxtalogos.run.target.recording import Recording
from juxtalogos.run.target.system import resetting, running_system


@dataclass(frozen=True, slots=True)
class Executed:
    """How a run ended; everything else is in the ledger."""

    number: int
    verdict: Verdict
    interrupted: bool
    state: ServiceState = field(default_factory=ServiceState)
    """What is different at the service from before, as far as somebody looked."""


_LOG = logging.getLogger("juxtalogos.run")
GRACE = 10.0
"""Seconds that what is in flight has to end after an interrupt; a second interrupt does not wait for it."""


async def execute(
    run: BoundRun,
    workspace: Path,
    ledger: Ledger,
    what: str,
    done: Callable[[CaseRecord], None],
    *,
    processes: int = 1,
    kind: str = "run",
    gate: Gate | None = None,
    look: bool = True,
) -> Executed:
    """Runs all units of a plan.

    `gate`: that of earlier rounds, which goes on; without `look` the state is not compared at the end.
    ConfigError when the system does not come up, LedgerError when nothing can be kept.
    """
    async with running_system(run.session, workspace):
        number = ledger.begin(kind, run.session.target.name, what, token=run.plan.token, labels=_labels(run))
        _LOG.info("run %d: %s at %s", number, what, run.session.target.name)
        verdict, interrupted, stop = Verdict.ERROR, True, Stop()
        gate = gate if gate is not None else Gate(Inventory(run.session.target.name))
        gate.strict = run.plan.strict_clean
        states: list[ServiceState] = []
        try:
            interrupted = await until_interrupted(
                _work(run, workspace, ledger, number, done, processes, stop, gate, states if look else None),
                stop,
            )
            verdict = ledger.worst(number) if not interrupted else Verdict.ERROR
        finally:
            state = merged(iter(states))
            if states:
                ledger.note_state(number, dump_json(state.to_json()))
            ledger.end(number, verdict, interrupted=interrupted)
            _LOG.info("run %d ended: %s%s", number, verdict, ", interrupted" if interrupted else "")
    return Executed(number, verdict, interrupted, state)


async def _work(
    run: BoundRun,
    workspace: Path,
    ledger: Ledger,
    number: int,
    done: Callable[[CaseRecord], None],
    processes: int,
    stop: Stop,
    gate: Gate,
    states: list[ServiceState] | None,
) -> None:
    reset = resetting(run.session, workspace)
    refs = [(ref, run.key(ref)) for ref in run.plan.cases]
    source = Dealer(units(refs, run.cases, run.row_counts, alone=reset is not None))
    options = paced(replace(run.session.options, connections=max(run.plan.jobs, 1)), run.plan, processes)
    async with Recorder(ledger, number) as recorder, Transport(options) as transport:
        gate.inventory.put_undo = Recording(run.session, recorder, number).put_undo
        context = RunContext(run.session, transport, stop, gate=gate)
        await _look_at_records(gate, run, transport, more_to_come=states is None)
        if processes > 1:
            await _survey(gate, run, transport)
        told = stopping_at_first(done, stop) if run.plan.stop_at_first else done
        setting = RunSetting(run, workspace, ledger, number, recorder, context, reset, processes, told)
        await EXECUTORS["processes" if processes > 1 else "local"](setting).run(source)
        if stop.asked:
            gate.keeps.clear()  # no further round comes
        await sweep(gate, run.session, transport)
        if states is not None:
            states.append(await compare(gate, run.session, transport))


async def _look_at_records(gate: Gate, run: BoundRun, sender: Sender, *, more_to_come: bool) -> None:
    """Reads the lists that the service alone adds to: no more of them than the run has steps that change, but
    all where further rounds follow.
    """
    steps = [step for ref in run.plan.cases for step in run.cases[run.key(ref)][1].steps]
    changing = Counter(
        step.contract.name
        for step in steps
        if step.contract is not None and step.operation is not None and not reads(step.operation)
    )
    for name, count in changing.items():
        reader = gate.reader(run.session, sender, run.session.contracts[name])
        await gate.records.look(reader, MOST_LISTS if more_to_come else count)


async def _survey(gate: Gate, run: BoundRun, sender: Sender) -> None:
    """Reads the lists that a run may add to, where other processes will do the work: what they make is not
    taken for what was there before.
    """
    for ref in run.plan.cases:
        for step in run.cases[run.key(ref)][1].steps:
            if step.contract is None or step.operation is None or reads(step.operation):
                continue
            reader = gate.reader(run.session, sender, step.contract)
            nothing = Inputs({})
            aim = reader.places.aim(step.operation, nothing)
            if not aim.above and reader.places.creates(step.operation):
                await gate.inventory.look(reader, step.operation, nothing, replace(aim, key=()))


async def until_interrupted(work: Coroutine[None, None, None], stop: Stop) -> bool:
    """Whether SIGINT or SIGTERM ended it: then nothing new begins, what is under way cleans up, and what is
    finished is kept.
    """
    task = asyncio.ensure_future(work)
    loop = asyncio.get_running_loop()

    def interrupt(sign: int) -> None:
        taken.append(sign)
        if stop.asked:
            task.cancel()
        else:
            stop.ask()
            loop.call_later(GRACE, task.cancel)

    before = {sign: signal.getsignal(sign) for sign in (signal.SIGINT, signal.SIGTERM)}
    for sign in (signal.SIGINT, signal.SIGTERM):
        with contextlib.suppress(NotImplementedError, RuntimeError):
            loop.add_signal_handler(sign, interrupt, sign)
    try:
        await task
    except asyncio.CancelledError:
        return True
    finally:
        for sign in (signal.SIGINT, signal.SIGTERM):
            with contextlib.suppress(NotImplementedError, RuntimeError):
                loop.remove_signal_handler(sign)
                signal.signal(sign, before[sign] or signal.SIG_DFL)
    return stop.asked


def _labels(run: BoundRun) -> list[tuple[str, str]]:
    """The labels of a run, without secrets, with the digests of its definitions."""
    redacted = run.session.redactor.text
    digests = [(f"definition.{name}", digest[:16]) for name, digest in run.plan.contracts]
    return [*((name, redacted(value)) for name, value in run.plan.labels), *digests]
