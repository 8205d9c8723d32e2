"""Units done in this process, so many side by side."""

from __future__ import annotations

import asyncio

from juxtalogos.model.errors import LedgerError
from juxtalogos.run.engine.engine import Engine
from juxtalogos.run.engine.slots import Slots
from juxtalogos.run.executors.interface import RunSetting, WorkSource


class LocalExecutor:
    """As many units at once as the engine has slots."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine

    async def run(self, source: WorkSource) -> None:
        changed = asyncio.Event()
        self.engine.context.stop.listen(changed.set)
        try:
            async with asyncio.TaskGroup() as group:
                for _ in range(self.engine.slots.count):
                    group.create_task(self._worker(source, changed))
        except* LedgerError as errors:
            raise errors.exceptions[0] from None

    async def _worker(self, source: WorkSource, changed: asyncio.Event) -> None:
        stop = self.engine.context.stop
        while not (stop.asked or stop.full):
            unit = source.next()
            if unit is not None:
                source.ended(unit, await self.engine.unit(unit))
                changed.set()
            elif source.exhausted:
                return
            else:
                changed.clear()
                await changed.wait()


def local_executor(setting: RunSetting) -> LocalExecutor:
    """The executor of a run in this process."""
    slots = Slots(setting.bound.plan.jobs)
    return LocalExecutor(
        Engine(setting.bound, setting.context, setting.recorder, slots, setting.reset, setting.done)
    )
