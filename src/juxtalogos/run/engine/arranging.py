"""Which cases of a selection run here, and in which order: parts of a run for several machines, and cases
before those that prepare with the same operations.
"""

from __future__ import annotations

import heapq
import json
import re
import statistics
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

from juxtalogos.documents.jsontext import dump_json
from juxtalogos.ledger import Ledger, RunQuery
from juxtalogos.model.errors import ConfigError, UsageError, quoted
from juxtalogos.run.engine.plan import CaseRef
from juxtalogos.suite.model import Case, CaseKey
from juxtalogos.workspace.files import write_whole

DURATIONS = "durations.json"
"""Beside `juxtalogos.toml`, and kept with it: every machine must divide by the same numbers."""
MOST_RUNS, MOST_PARTS = 50, 1_000


def part_named(text: str) -> tuple[int, int]:
    """(which, of how many) of `K/N`. UsageError."""
    found = re.fullmatch(r"(\d{1,4})/(\d{1,4})", text.strip())
    if found is None or not 1 <= int(found[1]) <= int(found[2]) <= MOST_PARTS:
        raise UsageError(f"{quoted(text)} is no part", mend="write --part 1/3, 2/3 and 3/3")
    return int(found[1]), int(found[2])


def part_of(
    refs: Sequence[CaseRef], seconds: Mapping[CaseRef, float], number: int, count: int
) -> tuple[CaseRef, ...]:
    """One of so many parts of about the same length, in the order of the cases. All parts together are every
    case once, wherever each is made: the longest case first, always to the shortest part.
    """
    lengths = [(0.0, part) for part in range(count)]
    parts: dict[CaseRef, int] = {}
    for ref in sorted(refs, key=lambda one: (-seconds[one], one.suite, one.case, one.step)):
        length, part = heapq.heappop(lengths)
        parts[ref] = part
        heapq.heappush(lengths, (length + seconds[ref], part))
    return tuple(ref for ref in refs if parts[ref] == number - 1)


def expected(root: Path, cases: Iterable[tuple[CaseRef, Case, int]]) -> dict[CaseRef, float]:
    """Seconds that each case is expected to take: as it took, else by its steps and the rows of its table."""
    known = _durations(root)
    found: dict[CaseRef, float] = {}
    guessed: dict[CaseRef, int] = {}
    steps = took = 0.0
    for ref, case, rows in cases:
        before = known.get(f"{ref.suite}#{ref.case}")
        count = max(1, len(case.steps)) * max(1, rows)
        if before is None or ref.step:
            guessed[ref] = count
        else:
            found[ref] = before
            steps, took = steps + count, took + before
    each = took / steps if steps else 1.0
    return found | {ref: count * each for ref, count in guessed.items()}


def _durations(root: Path) -> dict[str, float]:
    path = root / DURATIONS
    if not path.exists():
        return {}
    try:
        cases = json.loads(path.read_text("utf-8"))["cases"]
        return {str(name): max(0.0, float(value)) for name, value in cases.items()}
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        mend = "write it anew: juxtalogos plans durations"
        raise ConfigError(f"it cannot be used: {error}", where=str(path), mend=mend) from None


def note_durations(root: Path, ledger: Ledger) -> tuple[Path, int]:
    """Writes how long each case took, the median of its last runs; gives the file and the number of cases.
    Where none ran, the file stays as it is.
    """
    took: dict[str, dict[int, float]] = {}
    for run in ledger.runs(MOST_RUNS, RunQuery(calls=False)):
        for case in ledger.cases(run.id) if run.kind == "run" else ():
            by_run = took.setdefault(f"{case.suite}#{case.case.partition('[')[0]}", {})
            by_run[run.id] = by_run.get(run.id, 0.0) + case.seconds  # all rows of its table
    cases = {name: round(statistics.median(by_run.values()), 3) for name, by_run in sorted(took.items())}
    path = root / DURATIONS
    if cases:
        write_whole(path, (dump_json({"version": 1, "cases": cases}, indent=2) + "\n").encode())
    return path, len(cases)


def needed_first(refs: Sequence[CaseRef], cases: Mapping[CaseRef, Case]) -> tuple[CaseRef, ...]:
    """Before each case those that test an operation with which it prepares, and those that it depends on;
    else in the order that is given. A circle is broken where the given order has it.
    """
    tested: dict[str, list[CaseRef]] = {}
    by_key = {cases[ref].key: ref for ref in refs}
    for ref in refs:
        for step in cases[ref].steps:
            if step.operation is not None and not step.needed and not step.always:
                tested.setdefault(step.operation.full_id, []).append(ref)
    found: dict[CaseRef, None] = {}
    under_way: set[CaseRef] = set()
    waiting = list(reversed(refs))
    while waiting:
        ref = waiting[-1]
        if ref in found:
            waiting.pop()
            continue
        before = _before(cases[ref], tested, by_key) if ref not in under_way else []
        under_way.add(ref)
        open_ones = [one for one in before if one not in found and one not in under_way]
        if open_ones:
            waiting += reversed(open_ones)
        else:
            found[ref] = None
            waiting.pop()
    return tuple(found)


def _before(
    case: Case, tested: Mapping[str, list[CaseRef]], by_key: Mapping[CaseKey, CaseRef]
) -> list[CaseRef]:
    needed = [by_key[key] for key in case.needs if key in by_key]
    for step in case.steps:
        if step.needed and step.operation is not None:
            needed += tested.get(step.operation.full_id, [])
    return list(dict.fromkeys(needed))
