"""Which operations are tried in the next round: what others need first, and nothing in vain."""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field

from juxtalogos.run.learning.progress import ATTEMPTS, SKIPPED, WORKED, OperationProgress
from juxtalogos.run.learning.ways import Ways
from juxtalogos.workspace.known import Hints


@dataclass(slots=True)
class Schedule:
    """Of all rounds of learning."""

    ways: Ways
    """Of the round before."""
    progresses: dict[str, OperationProgress] = field(default_factory=dict)
    """Of all operations, as they went without optional inputs."""
    knowledge: int = 0
    """How much is known, to tell whether there is any use in trying again."""

    def next(self, progresses: dict[str, OperationProgress]) -> list[OperationProgress]:
        """What of some operations is tried now."""
        self.without_failed(progresses)
        return [one for one in progresses.values() if self.is_due(one) and not self.awaits(one)]

    def without_failed(self, progresses: dict[str, OperationProgress]) -> None:
        """What needs an operation that nothing more is tried of is tried with another source, or without; it
        is not called again for each that needs it.
        """
        for progress in progresses.values():
            if progress.attempts or progress.waiting or progress.outcome or progress.full:
                continue
            failed = {
                name
                for name in self.ways.sources(progress.operation.id)
                if (source := self.progresses.get(name)) is not None
                and source is not progress
                and source.outcome != WORKED
                and not source.open
            }
            if failed:
                progress.outcome, progress.words = SKIPPED, f"{', '.join(sorted(failed))} did not succeed"
                progress.blocked_by = min(failed)
                progress.waiting = self.around(progress, failed)
                if not progress.waiting:
                    progress.attempts = ATTEMPTS

    def around(self, progress: OperationProgress, failed: set[str]) -> list[Hints]:
        """Ways without operations that did not succeed: none that would call one of them again."""
        ways = (
            way
            for way in (*self.ways.other_sources(progress, set()), *self.ways.dropped(progress, failed))
            if self.ways.frees(progress.operation.id, way, failed)
        )
        return list(itertools.islice(ways, ATTEMPTS))

    def awaits(self, progress: OperationProgress) -> bool:
        """Whether an operation that it needs is still to be learned: then it is not called in vain for it."""
        waiting, seen = [progress.operation.id], {progress.operation.id}
        while waiting:
            for name in self.ways.sources(waiting.pop()) - seen:
                seen.add(name)
                source = self.progresses.get(name)
                if source is None or source.outcome == WORKED or not source.open:
                    continue
                if self.is_due(source):
                    return True
                waiting.append(name)
        return False

    def is_due(self, progress: OperationProgress) -> bool:
        """Whether it is to be tried: at first, in another way, or again where what it needed is there now."""
        if not progress.open:
            return False
        if progress.outcome == SKIPPED and not progress.waiting:
            if progress.knowledge < self.knowledge:
                return True
            if progress.stuck or any(one.open and one.outcome != SKIPPED for one in self.progresses.values()):
                return False  # what it needs may yet be found
            progress.stuck = True  # what should give it was not reached: perhaps something else does
            lost = {
                name
                for name in self.ways.sources(progress.operation.id)
                if (source := self.progresses.get(name)) is not None and source.outcome != WORKED
            }
            progress.waiting = progress.fresh(self.around(progress, lost))
            return bool(progress.waiting)
        return not progress.attempts or bool(progress.waiting)
