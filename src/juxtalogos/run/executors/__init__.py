"""Executors: where the units of a run are done. Each takes work from a source and reports what came of it."""

from collections.abc import Callable

from juxtalogos.plugins import Table
from juxtalogos.run.executors.interface import Dealer, Executor, RunSetting, WorkSource

EXECUTORS: Table[Callable[[RunSetting], Executor]] = Table("juxtalogos.executors")
"""By name, what makes an executor for a run."""
EXECUTORS.register("local", "juxtalogos.run.executors.local:local_executor")
EXECUTORS.register("processes", "juxtalogos.run.executors.processes:ProcessExecutor")

__all__ = ["EXECUTORS", "Dealer", "Executor", "RunSetting", "WorkSource"]
