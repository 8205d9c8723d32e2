"""What a run is, as references only: it can be written down, sent elsewhere and bound there. No secrets,
closures or engines.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import asdict, dataclass, replace
from enum import StrEnum
from typing import Any

from juxtalogos.suite.model import Case, CaseKey, Suite
from juxtalogos.workspace.trust import Grant

PLAN_VERSION = 5
ROWS_AT_ONCE = 50
"""Rows of one table that are dealt out together; a case whose rows share nothing may be done in several
places."""


@dataclass(frozen=True, slots=True)
class CaseRef:
    """A case by name: of one step with what it needs where `step` is given, of some rows of its table where
    `rows` is.
    """

    suite: str
    case: str
    step: str = ""
    rows: tuple[int, int] | None = None
    """(first row, the row behind the last), counted from 0; None: all."""

    @classmethod
    def of(cls, value: Mapping[str, Any]) -> CaseRef:
        """From the mapping that `asdict` makes."""
        rows = value["rows"]
        return cls(value["suite"], value["case"], value["step"], (rows[0], rows[1]) if rows else None)


@dataclass(frozen=True, slots=True)
class RunPlan:
    """Everything that decides what a run does, beside the workspace's own files."""

    cases: tuple[CaseRef, ...]
    target: str
    """A target of the configuration, or a base URL."""
    contracts: tuple[tuple[str, str], ...] = ()
    """(name, digest of its documents): who binds the plan must find the same."""
    values: tuple[tuple[str, Any], ...] = ()
    """Inputs given for this run."""
    started: float = 0.0
    """Unix time that formulas of variables take for now."""
    seed: int = 0
    token: str = ""
    """Random text of this run, recorded with it."""
    repeat: int = 1
    jobs: int = 4
    with_credentials: bool = True
    trust: str = ""
    """A digest given for this run."""
    role: str = ""
    headers: tuple[tuple[str, str], ...] = ()
    """Fields given for this run; secrets in them by reference."""
    credentials: tuple[str, ...] = ()
    """Given for this run, by reference."""
    pace: float = 0.0
    """Seconds from one request to the next, at least; the target's own where it is 0."""
    patient: bool = False
    """Whether what is answered with 429 is sent again when the service allows it."""
    strict_clean: bool = False
    """Whether nothing is created that no operation removes."""
    sends: tuple[str, ...] = ()
    """`NAME=ORIGIN`: where secrets of the workspace may go in this run."""
    stop_at_first: bool = False
    """Whether no further case begins after one that failed."""
    agreed: bool = False
    """Whether somebody agreed that what changes something is sent to a guarded target."""
    labels: tuple[tuple[str, str], ...] = ()
    """(name, value) that the run is found by, such as its branch."""

    @property
    def grant(self) -> Grant:
        return Grant.of(self.trust, self.sends)

    def to_json(self) -> str:
        return json.dumps({"version": PLAN_VERSION, **asdict(self)}, separators=(",", ":"))

    @classmethod
    def from_json(cls, text: str) -> RunPlan:
        """ValueError when it is of another version."""
        found = json.loads(text)
        if found.pop("version", 0) != PLAN_VERSION:
            raise ValueError("the plan is of another version")
        cases = tuple(map(CaseRef.of, found.pop("cases")))
        contracts = tuple((name, digest) for name, digest in found.pop("contracts"))
        values = tuple((name, value) for name, value in found.pop("values"))
        headers = tuple((name, value) for name, value in found.pop("headers"))
        credentials = tuple(found.pop("credentials"))
        sends = tuple(found.pop("sends"))
        labels = tuple((name, value) for name, value in found.pop("labels"))
        return cls(
            cases=cases,
            contracts=contracts,
            values=values,
            headers=headers,
            credentials=credentials,
            sends=sends,
            labels=labels,
            **found,
        )


class Part(StrEnum):
    """What of a case a turn does."""

    WHOLE = "whole"
    SETUP = "set-up"
    ROW = "row"
    """What comes behind the set-up, for one row."""
    CLEANUP = "clean-up"
    """Clean-up steps that undo the set-up."""


@dataclass(frozen=True, slots=True)
class Turn:
    """One time that a case, or a part of it, is done. Each ends in exactly one case record."""

    label: str
    part: Part = Part.WHOLE
    row: int | None = None

    @property
    def fresh(self) -> bool:
        """Whether it begins anew: on a system that was reset, with values and cookies of its own."""
        return self.part in (Part.WHOLE, Part.SETUP)


def turns(
    case: Case, rows: int | None, repeat: int = 1, only: tuple[int, int] | None = None
) -> Iterator[Turn]:
    """The turns of a case in their order.

    `rows`: how many its table has, None without a table; `only`: some of them.
    """
    numbers = range(*only) if only else range(rows) if rows is not None else (None,)
    for turn in range(repeat):
        repeated = f"turn {turn + 1}" if repeat > 1 else ""
        if rows is not None and case.setup:
            yield Turn(_label(case, repeated, "set-up"), Part.SETUP)
            for number in numbers:
                yield Turn(_label(case, _row(number), repeated), Part.ROW, number)
            if steps_of(case, Part.CLEANUP):
                yield Turn(_label(case, repeated, "clean-up"), Part.CLEANUP)
        else:
            for number in numbers:
                yield Turn(_label(case, _row(number), repeated), Part.WHOLE, number)


def steps_of(case: Case, part: Part) -> tuple[Any, ...]:
    """The steps that a part of a case takes."""
    if part is Part.WHOLE:
        return case.steps
    count = len(case.setup)
    if part is Part.SETUP:
        return case.steps[:count]
    undoing = case.undoing
    return tuple(step for step in case.steps[count:] if (step.id in undoing) is (part is Part.CLEANUP))


def _row(number: int | None) -> str:
    return "" if number is None else f"row {number + 1}"


def _label(case: Case, *parts: str) -> str:
    """A case's name with the row of its table, and the turn of a repetition, from 1."""
    told = ", ".join(filter(None, parts))
    return f"{case.id}[{told}]" if told else case.id


@dataclass(frozen=True, slots=True)
class Unit:
    """Cases that are done in one place, one behind the other: one case, or those that `dependsOn` or a word
    of `x-juxtalogos-in-turn` joins.
    """

    cases: tuple[CaseRef, ...]
    alone: bool = False
    """Nothing else may run meanwhile."""


def units(
    refs: Iterable[tuple[CaseRef, CaseKey]],
    everything: Mapping[CaseKey, tuple[Suite, Case]],
    rows: Mapping[CaseKey, int],
    *,
    alone: bool,
) -> Iterator[Unit]:
    """What can be dealt out, in the order of the cases.

    `alone`: the target is reset before each case, so that none may run beside another.
    """
    chosen = {key: ref for ref, key in refs}
    home = _joined(chosen, everything)
    groups: dict[CaseKey, list[CaseKey]] = {}
    for key in chosen:
        groups.setdefault(home[key], []).append(key)
    joined = {key for _, case in everything.values() for key in case.needs}
    for members in groups.values():
        exclusive = alone or any(everything[key][1].alone for key in members)
        case = everything[members[0]][1]
        count = rows.get(members[0], 0)
        if (
            len(members) == 1
            and not case.setup
            and not case.needs
            and not case.in_turn
            and case.key not in joined
            and count > ROWS_AT_ONCE
        ):
            for first in range(0, count, ROWS_AT_ONCE):
                some = first, min(first + ROWS_AT_ONCE, count)
                yield Unit((replace(chosen[members[0]], rows=some),), exclusive)
        else:
            yield Unit(tuple(chosen[key] for key in members), exclusive)


def _joined(
    keys: Iterable[CaseKey], everything: Mapping[CaseKey, tuple[Suite, Case]]
) -> dict[CaseKey, CaseKey]:
    """Each case to one that stands for all that it is joined with by `dependsOn` or by a word of taking
    turns, directly or through others.
    """
    leader: dict[CaseKey, CaseKey] = {}

    def find(key: CaseKey) -> CaseKey:
        while leader.setdefault(key, key) != key:
            leader[key] = leader[leader[key]]
            key = leader[key]
        return key

    waiting = list(keys)
    seen = set(waiting)
    by_word: dict[str, CaseKey] = {}
    for key in waiting:
        for needed in everything[key][1].needs:
            leader[find(needed)] = find(key)
            if needed not in seen:
                seen.add(needed)
                waiting.append(needed)
        for word in everything[key][1].in_turn:
            leader[find(by_word.setdefault(word, key))] = find(key)
    return {key: find(key) for key in seen}
