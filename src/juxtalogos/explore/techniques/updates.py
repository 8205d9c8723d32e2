"""What is changed reads as it was sent, and nothing else changes; revisions and entity tags tell it;
conditions are heeded.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from juxtalogos.conventions.words import word_set
from juxtalogos.explore.prober.comparing import Item, changes, differing, item_in, told
from juxtalogos.explore.prober.prober import Purpose, Trial
from juxtalogos.explore.prober.requests import Unfillable
from juxtalogos.explore.prober.states import is_conflict
from juxtalogos.explore.resources.kinds import ResourceKind
from juxtalogos.explore.resources.sandbox import Instance, Sandbox
from juxtalogos.explore.techniques.lifecycle import sent_members
from juxtalogos.model.contract import Intent, Operation
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.exchange import Request
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.wire import Inputs, Wire

CHANGES_EACH = 10
"""Members of a thing that are changed one at a time."""


@dataclass(slots=True)
class Watched:
    """A thing that is changed, with what it showed and how its marks moved."""

    thing: Instance
    other: Instance | None
    shown: Item
    seen: Trial
    other_shown: Item | None = None
    steps: dict[str, set[Any]] = field(default_factory=dict)
    """By member that only the service sets, by how much it moved in each change."""
    settable: set[str] = field(default_factory=set)


async def watched(sandbox: Sandbox, kind: ResourceKind) -> Watched:
    """A fresh thing with another beside it. Unfillable where it cannot be read."""
    thing = await sandbox.make(kind, full=True)
    around = {name: seen for name, seen in thing.context.items() if name != thing.made.operation.id}
    try:
        other: Instance | None = await sandbox.make(kind, around, full=True, seed=1)
    except Unfillable:
        other = None
    found = await sandbox.item(thing)
    if found is None:
        raise Unfillable(f"nothing reads {kind.name}")
    beside = await sandbox.item(other) if other is not None else None
    watch = Watched(thing, other, found[1], found[0], beside[1] if beside else None)
    for operation in (*kind.creators, *kind.updates):
        for row in sandbox.maker.rows.sent(operation):
            watch.settable |= {row.name}
    return watch


async def updates(sandbox: Sandbox, kind: ResourceKind) -> None:
    """Each member changed alone, then all; by each operation that changes."""
    if not kind.updates or sandbox.prober.only_reading:
        return
    try:
        watch = await watched(sandbox, kind)
    except Unfillable as error:
        sandbox.notes.setdefault(kind.updates[0].id, str(error))
        return
    for operation in kind.updates:
        came = [
            await change(sandbox, watch, operation, one)
            for one in itertools.islice(variants(sandbox, operation, watch), CHANGES_EACH + 1)
        ]
        if (
            len(came) > 2
            and all(one is not None and is_conflict(one) for one in came)
            and not sandbox.blanket(operation)
        ):
            await _same(sandbox, watch, operation)
        await again(sandbox, watch, operation)


async def _same(sandbox: Sandbox, watch: Watched, operation: Operation) -> None:
    """Where every change is refused as a conflict: the thing as it is must not be one with itself."""
    inputs, _ = await sandbox.fill(operation, watch.thing.context, full=True)
    if not isinstance(inputs.body, dict):
        return
    body = {name: watch.shown.get(name, value) for name, value in inputs.body.items()}
    same = Inputs(inputs.values, body, inputs.content_type)
    if not sandbox.maker.fits(operation, same):
        return
    seen = await sandbox.call(operation, same, Purpose.CONFLICT)
    if is_conflict(seen):
        sandbox.claim(seen, "law.same-taken", "answer", "a success: it is so already", seen.code)


def variants(sandbox: Sandbox, operation: Operation, watch: Watched) -> Iterator[Inputs]:
    """Requests that change members: one at a time where parts are taken, together where the whole is."""
    try:
        whole = sandbox.maker.own(operation, full=True, seed=1)
        bare = sandbox.maker.own(operation)
    except Unsampleable:
        return
    body = whole.body
    if operation.intent is Intent.REPLACE or not isinstance(body, dict):
        yield whole
    if not isinstance(body, dict):
        return
    required = bare.body if isinstance(bare.body, dict) else {}
    key = {need.input for need in sandbox.maker.needs.get(operation.id, ())}
    for name in body:
        if f"body/{name}" in key:
            continue
        for seed in (2, 3, 4, 5):
            try:
                other = sandbox.maker.own(operation, full=True, seed=seed).body
            except Unsampleable:
                break
            if (
                isinstance(other, dict)
                and name in other
                and any(True for _ in differing({name: other[name]}, {**body, **watch.shown}))
            ):
                if operation.intent is Intent.REPLACE:
                    yield Inputs(whole.values, {**body, name: other[name]}, whole.content_type)
                else:
                    kept = {
                        one: value
                        for one, value in required.items()
                        if f"body/{one}" in key or one not in body
                    }
                    yield Inputs(
                        bare.values,
                        {**kept, **_needed(required, body, name), name: other[name]},
                        whole.content_type,
                    )
                break
    if operation.intent is not Intent.REPLACE:
        yield whole


def _needed(required: Item, body: Item, name: str) -> dict[str, Any]:
    """What a change must hold beside the one member."""
    return {one: body.get(one, value) for one, value in required.items() if one != name}


async def change(sandbox: Sandbox, watch: Watched, operation: Operation, inputs: Inputs) -> Trial | None:
    """One change: told, kept, and nothing else; marks move."""
    thing, kind = watch.thing, watch.thing.kind
    try:
        inputs, _ = await sandbox.refer(operation, inputs, thing.context)
        seen = await sandbox.call(operation, inputs)
    except Unfillable as error:
        sandbox.notes.setdefault(operation.id, str(error))
        return None
    after = await sandbox.item(thing)
    if after is None:
        if seen.ok:
            sandbox.claim(seen, "law.changed-only", "answer", "the item remains", "it is not found any more")
        return None
    if not seen.ok:
        moved = changes(watch.shown, after[1]) - sandbox.volatile.get(kind.name, set())
        if moved and seen.refused:
            sandbox.claim(
                seen,
                "law.refusal-traceless",
                f"body{sorted(moved)[0]}",
                "no change after the refusal",
                "it changed",
            )
        watch.shown, watch.seen = after[1], after[0]
        return seen
    sent = sent_members(sandbox, seen)
    keys = {need.input.removeprefix("body/") for need in sandbox.maker.needs.get(operation.id, ())}
    sent = {name: value for name, value in sent.items() if name not in keys}
    for path, one, other in differing(sent, after[1]):
        sandbox.claim(
            after[0],
            "law.changed-kept",
            f"body{path}",
            f"{told(one)}, as {operation.id} was sent it",
            told(other),
        )
    answered = item_in(seen.value, after[1], sandbox.key(thing))
    if answered is not None:
        for path, one, other in differing(answered, after[1]):
            if f"/{path.split('/')[1]}" not in sandbox.volatile.get(kind.name, set()):
                sandbox.claim(
                    seen,
                    "law.answers-agree",
                    f"body{path}",
                    f"as it is read afterwards: {told(other)}",
                    told(one),
                )
    _only(sandbox, watch, seen, after, sent)
    await _other(sandbox, watch, seen)
    marks(sandbox, watch, seen, after)
    watch.shown, watch.seen = after[1], after[0]
    return seen


def _only(sandbox: Sandbox, watch: Watched, seen: Trial, after: tuple[Trial, Item], sent: Item) -> None:
    """Members that may be set and were not sent stay as they were; a replacement sends all."""
    if (
        seen.operation.intent is Intent.REPLACE
        or not sent
        or not sent.keys() <= watch.shown.keys() | after[1].keys()
    ):
        return  # what it sends is called otherwise in the thing
    for path in sorted(changes(watch.shown, after[1])):
        name = path.split("/")[1]
        if (
            name in sent
            or path.rpartition("/")[2] not in watch.settable
            or path in sandbox.volatile.get(watch.thing.kind.name, set())
        ):
            continue
        sandbox.claim(
            seen, "law.changed-only", f"body/{name}", told(watch.shown.get(name)), told(after[1].get(name))
        )


async def _other(sandbox: Sandbox, watch: Watched, seen: Trial) -> None:
    """Another thing of the kind is as it was."""
    if watch.other is None or watch.other_shown is None:
        return
    found = await sandbox.item(watch.other)
    moved = (
        changes(watch.other_shown, found[1]) - sandbox.volatile.get(watch.thing.kind.name, set())
        if found
        else {"/"}
    )
    if moved:
        sandbox.claim(
            seen,
            "law.others-untouched",
            f"body{sorted(moved)[0]}",
            "other items are unchanged",
            "it changed",
        )
    if found is not None:
        watch.other_shown = found[1]


def marks(sandbox: Sandbox, watch: Watched, seen: Trial, after: tuple[Trial, Item]) -> None:
    """Counters that the service keeps move by the same step with every change; an entity
    tag is another one.
    """
    before, now = watch.shown, after[1]
    moved = {path.split("/")[1] for path in changes(before, now)}
    substance = moved & watch.settable or {
        name for name in moved if isinstance(now.get(name), str | bool) and name[-2:].lower() != "at"
    }
    for name, value in now.items():
        if (
            name in watch.settable
            or isinstance(value, bool)
            or not isinstance(value, int)
            or not isinstance(before.get(name), int)
        ):
            continue
        if not _counter(name):
            continue
        step = value - before[name]
        known = watch.steps.setdefault(name, set())
        if substance and (step <= 0 or (known and step not in known)):
            wanted = f"a step of {min(known)}" if known else "a step forward"
            sandbox.claim(seen, "law.revision-counts", f"body/{name}", wanted, f"a step of {step}")
        elif substance:
            known.add(step)
    tags = sandbox.version(watch.seen), sandbox.version(after[0])
    if tags[0] and tags[1] and sandbox.wire.exact(tags[0]):
        if moved and tags[0] == tags[1]:
            sandbox.claim(
                after[0],
                "law.tag-changes",
                sandbox.wire.version_place,
                "another entity tag than before the change",
                str(tags[1]),
                must=False,
            )
        if not moved and tags[0] != tags[1] and seen.operation.safe:
            sandbox.claim(
                after[0],
                "law.tag-changes",
                sandbox.wire.version_place,
                "the entity tag of before",
                str(tags[1]),
            )
        own = sandbox.version(seen)
        if own is not None and own != tags[1] and sandbox.wire.exact(own):
            sandbox.claim(
                seen,
                "law.tag-changes",
                sandbox.wire.version_place,
                f"the entity tag that is read afterwards, {tags[1]}",
                own,
            )


_counters = word_set("names.counter")


def _counter(name: str) -> bool:
    word = name.lower()
    return any(part in word for part in _counters())


async def again(sandbox: Sandbox, watch: Watched, operation: Operation) -> None:
    """The same change once more does nothing more, where the method is idempotent (RFC
    9110, section 9.2.2).
    """
    if not operation.idempotent:
        return
    inputs = next(
        (
            trial.inputs
            for trial in reversed(sandbox.prober.held)
            if trial.operation is operation and trial.ok
        ),
        None,
    )
    if inputs is None:
        return
    seen = await sandbox.call(operation, inputs, Purpose.CONFLICT)
    after = await sandbox.item(watch.thing)
    if after is None or not seen.ok:
        if seen.refused and seen.outcome not in (Outcome.CONFLICT, Outcome.STALE):
            sandbox.claim(
                seen, "law.repeat-changes-nothing", "answer", "success, as the first time", seen.code
            )
        return
    moved = {path for path in changes(watch.shown, after[1]) if path.rpartition("/")[2] in watch.settable}
    for path in sorted(moved):
        sandbox.claim(
            seen,
            "law.repeat-changes-nothing",
            f"body{path}",
            told(watch.shown.get(path[1:])),
            told(after[1].get(path[1:])),
        )
    watch.shown, watch.seen = after[1], after[0]


async def conditions(sandbox: Sandbox, kind: ResourceKind) -> None:
    """Requests that depend on a version, where the definition mentions them; the same response without its
    body.
    """
    reader = next(iter(kind.reads), None)
    if reader is None or sandbox.prober.only_reading:
        return
    try:
        thing = await sandbox.make(kind, full=True)
        first = await sandbox.read(thing)
    except Unfillable:
        return
    if first is None or not first.ok:
        return
    tag = sandbox.version(first)
    if tag is not None:
        await _known_already(sandbox, thing, reader, tag)
        for operation in (*kind.updates, *([kind.deleter] if kind.deleter else [])):
            if sandbox.wire.conditional(operation):
                tag = await _conditional(sandbox, thing, operation, tag)
                if tag is None:
                    break
    await _head(sandbox, reader, first)


def with_version(
    wire: Wire, operation: Operation, inputs: Inputs, version: str, *, unless: bool = False
) -> Inputs:
    """Inputs that make a request depend on a version."""
    given = wire.precondition(operation, version, unless=unless)
    return Inputs({**inputs.values, **given}, inputs.body, inputs.content_type)


async def _known_already(sandbox: Sandbox, thing: Instance, reader: Operation, tag: str) -> None:
    wire = sandbox.wire
    if not wire.conditional(reader, unless=True):
        return
    inputs, _ = await sandbox.fill(reader, thing.context)
    for version, known in ((tag, True), (wire.other_version(tag), False)):
        asked = with_version(wire, reader, inputs, version, unless=True)
        seen = await sandbox.call(reader, asked, Purpose.CONFLICT)
        right = wire.unchanged(seen.exchange) if known and seen.exchange is not None else seen.ok
        if not right and not seen.crashed:
            wanted = (
                "that nothing has changed since this version" if known else "a success: it is another version"
            )
            sandbox.claim(seen, "law.not-modified", "status", wanted, seen.code)


async def _conditional(sandbox: Sandbox, thing: Instance, operation: Operation, tag: str) -> str | None:
    """The entity tag afterwards; None where the thing is gone or cannot be changed."""
    try:
        inputs, _ = await sandbox.fill(
            operation, thing.context, full=operation.intent is not Intent.DELETE, seed=3
        )
    except Unfillable:
        return tag
    before = await sandbox.item(thing)
    ends = operation is thing.kind.deleter
    stale = await sandbox.call(
        operation,
        with_version(sandbox.wire, operation, inputs, sandbox.wire.other_version(tag)),
        Purpose.CONFLICT,
    )
    after = await sandbox.item(thing)
    if stale.ok:
        sandbox.claim(
            stale, "law.condition-heeded", "status", "a refusal: another version is current", stale.code
        )
        if ends:
            thing.gone = True
            return None
    elif (
        stale.refused
        and stale.outcome is not Outcome.STALE
        and not stale.outcome.about_caller
        and any(answer.outcome is Outcome.STALE for answer in operation.answers)
    ):
        sandbox.claim(
            stale,
            "law.condition-heeded",
            "status",
            "a refusal as stale, as declared: another version is current",
            stale.code,
            must=False,
        )
    elif before is not None and (
        after is None or changes(before[1], after[1]) - sandbox.volatile.get(thing.kind.name, set())
    ):
        sandbox.claim(stale, "law.condition-heeded", "body", "no change", "it changed")
    right = await sandbox.call(
        operation, with_version(sandbox.wire, operation, inputs, tag), Purpose.CONFLICT
    )
    if right.outcome is Outcome.STALE:
        sandbox.claim(
            right,
            "law.condition-heeded",
            "status",
            "a success: it names the version that was read",
            right.code,
        )
    if ends:
        thing.gone = right.ok
        return None
    seen = await sandbox.read(thing)
    now = sandbox.version(seen) if seen is not None and seen.ok else None
    if right.ok and now is not None and now != tag:  # the tag of before is stale now
        older = await sandbox.call(
            operation, with_version(sandbox.wire, operation, inputs, tag), Purpose.CONFLICT
        )
        if older.ok:
            sandbox.claim(
                older,
                "law.condition-heeded",
                "status",
                "a refusal: the version of before is not current",
                older.code,
            )
            seen = await sandbox.read(thing)
            now = sandbox.version(seen) if seen is not None and seen.ok else None
    return now


async def _head(sandbox: Sandbox, reader: Operation, first: Trial) -> None:
    """The same response without its body has the same code (RFC 9110, section 9.3.2),
    where it is a success.
    """
    if first.exchange is None or sandbox.wire.head_of(reader, first.exchange.request) is None:
        return

    def headed(request: Request) -> Request:
        return sandbox.wire.head_of(reader, request) or request

    seen = await sandbox.call(
        reader, first.inputs, Purpose.CONFLICT, change=headed, step=f"{reader.id} without its body"
    )
    if seen.ok and seen.code != first.code:
        sandbox.claim(seen, "law.head-as-get", "status", first.code, seen.code)
