"""After a block: what it made is taken away again, and what there is one of is written back as it was."""

from __future__ import annotations

from typing import Any

from juxtalogos.explore.prober.comparing import item_in
from juxtalogos.explore.prober.prober import Purpose
from juxtalogos.explore.prober.requests import Context, Unfillable
from juxtalogos.explore.resources.kinds import ResourceKind
from juxtalogos.explore.resources.sandbox import Instance, Sandbox, Single
from juxtalogos.model.contract import Intent
from juxtalogos.model.errors import JuxtalogosError, Unsampleable
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.inputs import with_values


async def clear(sandbox: Sandbox) -> None:
    """Takes away what the block made, the newest first; again where one thing hangs on another."""
    await restore(sandbox)
    made, sandbox.things, sandbox.shared = sandbox.things, [], {}
    waiting = [one for one in reversed(made) if not one.gone]
    for thing in made:
        if thing.gone:
            await sandbox.undone(thing)
    for _ in range(3):
        stuck = [thing for thing in waiting if not await sandbox.remove(thing)]
        if len(stuck) == len(waiting) and stuck:
            for thing in stuck:
                await _sweep(sandbox, thing)
        waiting = stuck
        if not waiting:
            return
    sandbox.left += [
        f"{entry.kind.name} {sandbox.key(entry)}" for entry in waiting if entry.kind.deleter is not None
    ]


async def note_singles(sandbox: Sandbox) -> None:
    """Reads what there is one of, so that it can be written back."""
    for kind in sandbox.kinds:
        resource = kind.resource
        writers = resource.of(Intent.REPLACE, Intent.UPDATE)
        reader = next(iter(resource.of(Intent.READ)), None)
        if not resource.is_singleton or reader is None or not writers or sandbox.prober.only_reading:
            continue
        if sandbox.maker.needs.get(reader.id):
            continue  # below what this exploration makes itself
        try:
            seen = await sandbox.ask(reader, {}, Purpose.CLEANUP)
            inputs = sandbox.maker.own(writers[0], full=True)
        except (Unfillable, Unsampleable):
            continue
        names = {
            row.name for row in sandbox.maker.rows.sent(writers[0]) if row.depth == 1 and not row.read_only
        }
        shown = item_in(seen.value, dict.fromkeys(names)) if seen.ok else None
        if shown is not None:
            body = {name: value for name, value in shown.items() if name in names}
            sandbox.singles.append(
                Single(
                    frozenset(one.id for one in writers),
                    writers[0],
                    Inputs(inputs.values, body, inputs.content_type),
                )
            )


async def restore(sandbox: Sandbox) -> None:
    """Writes back what there is one of, where the block has written it."""
    written = {trial.operation.id for trial in sandbox.prober.held[sandbox.restored :] if trial.ok}
    for single in sandbox.singles:
        if written & single.writers:
            await sandbox.prober.send(single.operation, single.inputs, Purpose.CLEANUP)
    sandbox.restored = len(sandbox.prober.held)


async def _sweep(sandbox: Sandbox, thing: Instance) -> None:
    """Takes away what lies below a thing, however it came there; and brings it into a state in which it may
    go.
    """
    for kind in sandbox.kinds:
        if kind.parent is not thing.kind or kind.deleter is None:
            continue
        for listing in kind.lists[:1]:
            try:
                _, items = await sandbox.whole(listing, thing.context)
            except Unfillable:
                continue
            for item in items[:50]:
                await _remove_listed(sandbox, kind, item, thing.context)
    for act in thing.kind.acts:
        try:
            await sandbox.ask(act, thing.context, Purpose.CLEANUP)
        except Unfillable:
            continue
        if await sandbox.remove(thing):
            return


async def _remove_listed(sandbox: Sandbox, kind: ResourceKind, item: Any, context: Context) -> None:
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
        inputs = sandbox.maker.own(kind.deleter)
        inputs = sandbox.maker.referred(kind.deleter, inputs, known)
        inputs = with_values(inputs, {need.input: sandbox.maker.typed(kind.deleter, need.input, key)})
        await sandbox.prober.send(kind.deleter, inputs, Purpose.CLEANUP)
    except (Unfillable, JuxtalogosError):
        return
