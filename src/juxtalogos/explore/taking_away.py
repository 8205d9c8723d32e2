"""After a block: what it made is taken away again, and what there is one of is written back as it was."""

from __future__ import annotations

from typing import Any

from juxtalogos.explore.bench import Purpose
from juxtalogos.explore.comparing import item_in
from juxtalogos.explore.kinds import Kind
from juxtalogos.explore.values import Context, Unfillable
from juxtalogos.explore.yard import Single, Thing, Yard
from juxtalogos.model.contract import Intent
from juxtalogos.model.errors import JuxtalogosError, Unsampleable
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.inputs import with_values


async def clear(yard: Yard) -> None:
    """Takes away what the block made, the newest first; again where one thing hangs on another."""
    await restore(yard)
    made, yard.things, yard.shared = yard.things, [], {}
    waiting = [one for one in reversed(made) if not one.gone]
    for thing in made:
        if thing.gone:
            await yard.undone(thing)
    for _ in range(3):
        stuck = [thing for thing in waiting if not await yard.remove(thing)]
        if len(stuck) == len(waiting) and stuck:
            for thing in stuck:
                await _sweep(yard, thing)
        waiting = stuck
        if not waiting:
            return
    yard.left += [
        f"{entry.kind.name} {yard.key(entry)}" for entry in waiting if entry.kind.deleter is not None
    ]


async def note_singles(yard: Yard) -> None:
    """Reads what there is one of, so that it can be written back."""
    for kind in yard.kinds:
        resource = kind.resource
        writers = resource.of(Intent.REPLACE, Intent.UPDATE)
        reader = next(iter(resource.of(Intent.READ)), None)
        if not resource.is_singleton or reader is None or not writers or yard.bench.only_reading:
            continue
        if yard.maker.needs.get(reader.id):
            continue  # below what this exploration makes itself
        try:
            seen = await yard.ask(reader, {}, Purpose.CLEANUP)
            inputs = yard.maker.own(writers[0], full=True)
        except (Unfillable, Unsampleable):
            continue
        names = {row.name for row in yard.maker.rows.sent(writers[0]) if row.depth == 1 and not row.read_only}
        shown = item_in(seen.value, dict.fromkeys(names)) if seen.ok else None
        if shown is not None:
            body = {name: value for name, value in shown.items() if name in names}
            yard.singles.append(
                Single(
                    frozenset(one.id for one in writers),
                    writers[0],
                    Inputs(inputs.values, body, inputs.content_type),
                )
            )


async def restore(yard: Yard) -> None:
    """Writes back what there is one of, where the block has written it."""
    written = {trial.operation.id for trial in yard.bench.held[yard.restored :] if trial.ok}
    for single in yard.singles:
        if written & single.writers:
            await yard.bench.send(single.operation, single.inputs, Purpose.CLEANUP)
    yard.restored = len(yard.bench.held)


async def _sweep(yard: Yard, thing: Thing) -> None:
    """Takes away what lies below a thing, however it came there; and brings it into a state in which it may
    go.
    """
    for kind in yard.kinds:
        if kind.parent is not thing.kind or kind.deleter is None:
            continue
        for listing in kind.lists[:1]:
            try:
                _, items = await yard.whole(listing, thing.context)
            except Unfillable:
                continue
            for item in items[:50]:
                await _remove_listed(yard, kind, item, thing.context)
    for act in thing.kind.acts:
        try:
            await yard.ask(act, thing.context, Purpose.CLEANUP)
        except Unfillable:
            continue
        if await yard.remove(thing):
            return


async def _remove_listed(yard: Yard, kind: Kind, item: Any, context: Context) -> None:
    assert kind.deleter is not None
    need = kind.key_of(kind.deleter)
    if need is None or not isinstance(item, dict):
        return
    name = need.value.rpartition("/")[2].rpartition(":")[2]
    key = item.get(name)
    if key is None:
        return
    try:
        known = {name: one for name, one in context.items() if name != need.source}
        inputs = yard.maker.own(kind.deleter)
        inputs = yard.maker.referred(kind.deleter, inputs, known)
        inputs = with_values(inputs, {need.input: yard.maker.typed(kind.deleter, need.input, key)})
        await yard.bench.send(kind.deleter, inputs, Purpose.CLEANUP)
    except (Unfillable, JuxtalogosError):
        return
