"""Sequences along a resource: what is done to a thing, in which order, and what that makes of it.

A search over the states that things come into, as their enumerations and truth values tell; what leads to a
new state, or
to a new answer in a state, is gone on from.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field

from juxtalogos.explore.prober.comparing import Item, changes, differing, item_in, told
from juxtalogos.explore.prober.prober import Purpose, Trial
from juxtalogos.explore.prober.requests import Unfillable
from juxtalogos.explore.prober.states import declares_conflict
from juxtalogos.explore.resources.kinds import ResourceKind
from juxtalogos.explore.resources.sandbox import Instance, Sandbox
from juxtalogos.explore.techniques.updates import Watched, marks
from juxtalogos.model.contract import Operation
from juxtalogos.model.outcome import Wrong
from juxtalogos.model.wire import Inputs

DEEPEST, MOST_STATES = 3, 12
State = tuple[tuple[str, object], ...]


@dataclass(slots=True)
class Search:
    """What was found out of the states of one kind."""

    kind: ResourceKind
    ways: dict[State, tuple[Operation, ...]] = field(default_factory=dict)
    """By state, the shortest sequence that leads there."""
    outcomes: dict[tuple[State, str], str] = field(default_factory=dict)
    """(state, operation) -> what came back."""
    idle: dict[tuple[State, str], Trial] = field(default_factory=dict)
    """(state, operation) -> a success that changed nothing."""
    leads: dict[tuple[State, str], State] = field(default_factory=dict)


def state_of(item: Item, settable: set[str]) -> State:
    """A thing's state: members that only the service sets and that are words or truth values; of others
    whether there is one.
    """
    found: list[tuple[str, object]] = []
    for name in sorted(item):
        value = item[name]
        if name in settable:
            continue
        if isinstance(value, bool) or (
            isinstance(value, str) and len(value) <= 24 and value.replace("_", "").replace("-", "").isalpha()
        ):
            found.append((name, value))
        elif value is None:
            found.append((name, None))
    return tuple(found)


async def actions(sandbox: Sandbox, kind: ResourceKind) -> None:
    """The search, breadth first; each way on a fresh thing."""
    if not kind.acts or sandbox.prober.only_reading:
        return
    search = Search(kind)
    sandbox.searches[kind.name] = search
    waiting: deque[tuple[Operation, ...]] = deque([()])
    for _ in range(MOST_STATES):
        if not waiting:
            break
        await _from(sandbox, search, waiting.popleft(), waiting)
    for operation in kind.acts:
        came = {outcome for (_, name), outcome in search.outcomes.items() if name == operation.id}
        idle = [seen for (_, name), seen in search.idle.items() if name == operation.id]
        worked = [one for (_, name), one in search.outcomes.items() if name == operation.id and one == "ok"]
        if (
            idle
            and len(idle) == len(worked)
            and declares_conflict(sandbox.wire, operation)
            and not sandbox.blanket(operation)
        ):
            sandbox.claim(
                idle[0],
                "law.acting-does",
                "answer",
                "that something changes in some state, where others refuse it",
                "nothing changes",
            )
        if "ok" not in came and came:
            sandbox.notes.setdefault(
                operation.id, f"returned {', '.join(sorted(came))} in every state that was reached"
            )


async def _from(
    sandbox: Sandbox, search: Search, way: tuple[Operation, ...], waiting: deque[tuple[Operation, ...]]
) -> None:
    """Every action from the state that a way leads to."""
    kind = search.kind
    for number, operation in enumerate(kind.acts):
        try:
            thing = await led(sandbox, kind, way)
            before = await sandbox.item(thing)
        except Unfillable as error:
            sandbox.notes.setdefault(operation.id, str(error))
            return
        if before is None:
            await _blind(sandbox, thing, operation)
            continue
        settable = {
            row.name for one in (*kind.creators, *kind.updates) for row in sandbox.maker.rows.sent(one)
        }
        state = state_of(before[1], settable)
        if not number:
            if state in search.ways and search.ways[state] != way:
                return
            search.ways.setdefault(state, way)
        watch = Watched(thing, None, before[1], before[0], settable=settable)
        seen = await act(sandbox, watch, operation)
        if seen is None:
            continue
        outcome = "ok" if seen.ok else seen.code
        _consistent(sandbox, search, state, operation, outcome, seen)
        after = await sandbox.item(thing)
        if seen.ok and after is not None:
            reached = state_of(after[1], settable)
            search.leads[state, operation.id] = reached
            if not changes(before[1], after[1]):
                search.idle[state, operation.id] = seen
            if reached not in search.ways and len(way) < DEEPEST:
                search.ways[reached] = (*way, operation)
                waiting.append((*way, operation))
            await _twice(sandbox, watch, operation)


async def led(sandbox: Sandbox, kind: ResourceKind, way: tuple[Operation, ...]) -> Instance:
    """A fresh thing in the state that a way leads to. Unfillable where it does not go so any more."""
    thing = await sandbox.make(kind)
    for operation in way:
        seen = await sandbox.ask(operation, thing.context, Purpose.CONFLICT)
        if not seen.ok:
            raise Unfillable(f"{operation.id} returned {seen.code}")
    return thing


async def act(
    sandbox: Sandbox, watch: Watched, operation: Operation, *, inputs: Inputs | None = None
) -> Trial | None:
    """One action: a refusal leaves no trace, a success tells what is read afterwards."""
    try:
        if inputs is None:
            inputs, _ = await sandbox.fill(operation, watch.thing.context)
        seen = await sandbox.call(operation, inputs, Purpose.CONFLICT)
    except Unfillable as error:
        sandbox.notes.setdefault(operation.id, str(error))
        return None
    if seen.ok:
        sandbox.worked.setdefault(operation.id, seen.inputs)
    sandbox.note(Wrong.CONFLICT, seen)
    after = await sandbox.item(watch.thing)
    if after is None:
        return seen
    moved = changes(watch.shown, after[1]) - sandbox.volatile.get(watch.thing.kind.name, set())
    if seen.refused and moved:
        sandbox.claim(
            seen,
            "law.refusal-traceless",
            f"body{sorted(moved)[0]}",
            "no change after the refusal",
            "it changed",
        )
    if seen.ok:
        answered = item_in(seen.value, after[1], sandbox.key(watch.thing))
        if answered is not None and len(answered.keys() & after[1].keys()) > 1:
            for path, one, other in differing(answered, after[1]):
                sandbox.claim(
                    seen,
                    "law.answers-agree",
                    f"body{path}",
                    f"as it is read afterwards: {told(other)}",
                    told(one),
                )
        _sent_kept(sandbox, seen, after)
        marks(sandbox, watch, seen, after)
    return seen


def _sent_kept(sandbox: Sandbox, seen: Trial, after: tuple[Trial, Item]) -> None:
    """Members that an action sends and the thing has read as sent."""
    keys = {need.input.removeprefix("body/") for need in sandbox.maker.needs.get(seen.operation.id, ())}
    sent = {name: value for name, value in seen.body.items() if name not in keys}
    for path, one, other in differing(sent, after[1]):
        sandbox.claim(
            after[0],
            "law.changed-kept",
            f"body{path}",
            f"{told(one)}, as {seen.operation.id} was sent it",
            told(other),
        )


async def _twice(sandbox: Sandbox, watch: Watched, operation: Operation) -> None:
    """At once again: it may be refused as a conflict, and leaves no trace then."""
    before = await sandbox.item(watch.thing)
    if before is None:
        return
    again = Watched(watch.thing, None, before[1], before[0], watch.steps, settable=watch.settable)
    await act(sandbox, again, operation)


def _consistent(
    sandbox: Sandbox, search: Search, state: State, operation: Operation, outcome: str, seen: Trial
) -> None:
    known = search.outcomes.setdefault((state, operation.id), outcome)
    if known != outcome and "ok" in (known, outcome) and state:
        sandbox.claim(
            seen,
            "law.state-consistent",
            "answer",
            f"{known}, as before in this state ({_words(state)})",
            outcome,
        )


def _words(state: State) -> str:
    return ", ".join(f"{name} {told(value)}" for name, value in state[:3])


async def _blind(sandbox: Sandbox, thing: Instance, operation: Operation) -> None:
    """An action on what nothing reads."""
    try:
        seen = await sandbox.ask(operation, thing.context, Purpose.CONFLICT)
    except Unfillable as error:
        sandbox.notes.setdefault(operation.id, str(error))
        return
    if seen.ok:
        sandbox.worked.setdefault(operation.id, seen.inputs)
    sandbox.note(Wrong.CONFLICT, seen)
