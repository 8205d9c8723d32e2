"""Executors: where the units of a run are done.

Each takes work from a source and tells it what came of it.
"""

from juxtalogos.run.executors.interface import Dealer, Executor, WorkSource
from juxtalogos.run.executors.local import LocalExecutor
from juxtalogos.run.executors.processes import ProcessExecutor

__all__ = ["Dealer", "Executor", "LocalExecutor", "ProcessExecutor", "WorkSource"]
