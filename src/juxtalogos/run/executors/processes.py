"""Units dealt out to processes of this machine.

A process binds the plan itself and writes into the same ledger.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import sys
from dataclasses import asdict, dataclass, field
from typing import Any

from juxtalogos.ledger import CaseRecord
from juxtalogos.model.errors import ConfigError, LedgerError
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.engine.binding import turns_of
from juxtalogos.run.engine.plan import Unit
from juxtalogos.run.engine.walk import MAX_CLEANUP
from juxtalogos.run.executors.interface import RunSetting, WorkSource

WORKER = "juxtalogos.run.executors.worker"
MAX_LINE = 16 * 1024 * 1024


@dataclass(slots=True, eq=False)
class _Worker:
    process: asyncio.subprocess.Process
    room: int
    """Units that it can take at once."""
    units: dict[int, Unit] = field(default_factory=dict)
    records: dict[int, list[CaseRecord]] = field(default_factory=dict)
    unkept: dict[int, Unit] = field(default_factory=dict)
    """Units that ended, whose records are not committed yet."""
    alive: bool = True

    def say(self, message: dict[str, Any]) -> None:
        if self.process.stdin is not None:
            with contextlib.suppress(OSError):
                self.process.stdin.write(json.dumps(message, separators=(",", ":")).encode() + b"\n")


class ProcessExecutor:
    """`processes` of them share the run's jobs.

    One that dies takes only what it was doing with it, which is told as an error.
    """

    def __init__(self, setting: RunSetting) -> None:
        self.bound = setting.bound
        self.workspace = setting.workspace
        self.ledger = setting.ledger
        self.number = setting.number
        self.recorder = setting.recorder
        self.processes = setting.processes
        self.done = setting.done
        self.stop = setting.context.stop
        self.given = 0
        self.changed = asyncio.Event()
        self.stop.listen(self.changed.set)
        self.fault: Exception | None = None
        self.gate = setting.context.gate

    async def run(self, source: WorkSource) -> None:
        jobs = max(1, -(-self.bound.plan.jobs // self.processes))
        workers = [await self._start(jobs) for _ in range(self.processes)]
        listeners = [asyncio.create_task(self._listen(worker, source)) for worker in workers]
        try:
            await self._deal(workers, source)
        finally:
            for worker in workers:
                done = source.exhausted or self.stop.full
                worker.say({"end": self.fault is None and done and not worker.units})
            try:
                async with asyncio.timeout(MAX_CLEANUP + 10):
                    await asyncio.gather(*listeners, return_exceptions=True)
            except TimeoutError:
                for worker in workers:
                    with contextlib.suppress(ProcessLookupError):
                        worker.process.kill()
        if self.fault is not None:
            raise self.fault

    async def _deal(self, workers: list[_Worker], source: WorkSource) -> None:
        full = False
        while self.fault is None and not self.stop.asked:
            self.changed.clear()
            free = max(
                (worker for worker in workers if worker.alive),
                key=lambda one: one.room - len(one.units),
                default=None,
            )
            if self.stop.full and not full:
                full = True
                for worker in workers:
                    worker.say({"full": True})
            may_begin = not self.stop.full and (free is None or len(free.units) < free.room)
            unit = source.next() if may_begin else None
            if unit is None:
                if (source.exhausted or self.stop.full) and not any(worker.units for worker in workers):
                    return
                await self.changed.wait()
            elif free is None:
                source.ended(unit, await self._lost(unit, "no process is left to run it"))
            else:
                self.given += 1
                free.units[self.given] = unit
                free.records[self.given] = []
                free.say(
                    {"unit": self.given, "alone": unit.alone, "cases": [asdict(ref) for ref in unit.cases]}
                )

    async def _start(self, jobs: int) -> _Worker:
        process = await asyncio.create_subprocess_exec(
            sys.executable,
            "-m",
            WORKER,
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.DEVNULL,
            limit=MAX_LINE,
            start_new_session=True,
        )
        worker = _Worker(process, jobs)
        plan = self.bound.plan
        worker.say(
            {
                "workspace": str(self.workspace),
                "run": self.number,
                "jobs": jobs,
                "processes": self.processes,
                "plan": plan.to_json(),
            }
        )
        return worker

    async def _listen(self, worker: _Worker, source: WorkSource) -> None:
        """What a process tells, until it ends; then what it had not done is told as lost."""
        assert worker.process.stdout is not None
        try:
            while line := await worker.process.stdout.readline():
                self._heard(worker, source, json.loads(line))
        except ValueError:  # no line of ours
            with contextlib.suppress(ProcessLookupError):
                worker.process.kill()
        status = await worker.process.wait()
        worker.alive = False
        reason = f"the process that ran it ended with status {status}"
        for unit in worker.unkept.values():
            await self._lost(unit, reason)
        for number, unit in list(worker.units.items()):
            records = await self._lost(unit, reason)
            del worker.units[number]
            source.ended(unit, records)
        self.changed.set()

    def _heard(self, worker: _Worker, source: WorkSource, message: dict[str, Any]) -> None:
        if "case" in message:
            record = CaseRecord(**{**message["case"], "verdict": Verdict(message["case"]["verdict"])})
            worker.records.get(message["unit"], []).append(record)
            with contextlib.suppress(Exception):
                self.done(record)
        elif "ended" in message:
            unit = worker.unkept[message["ended"]] = worker.units.pop(message["ended"])
            source.ended(unit, worker.records.pop(message["ended"]))
            self.changed.set()
        elif "kept" in message:
            for number in message["kept"]:
                worker.unkept.pop(number, None)
        elif "gate" in message:
            self.gate.hear(message["gate"], self.bound.session.contracts)
        elif "fault" in message:
            kind = LedgerError if message["ledger"] else ConfigError
            self.fault = self.fault or kind(message["fault"], where=message["where"], mend=message["mend"])
            self.changed.set()

    async def _lost(self, unit: Unit, reason: str) -> list[CaseRecord]:
        """Records for the turns of a unit that have none yet."""
        have = {(other_case.suite, other_case.case) for other_case in self.ledger.cases(self.number)}
        records = []
        for ref in unit.cases:
            key = self.bound.key(ref)
            labels = [turn.label for turn in turns_of(self.bound, key, ref.rows)] or [ref.case]
            for label in labels:
                if (ref.suite, label) not in have:
                    record = CaseRecord(ref.suite, label, Verdict.ERROR, reason, 0.0)
                    records.append(record)
                    await self.recorder.put(record)
        return records
