"""After a block: what it made is taken away again. The gate writes back what exists once (`run/gate`)."""

from __future__ import annotations

from typing import Any

from juxtalogos.explore.prober.prober import Purpose
from juxtalogos.explore.prober.requests import Context, Unfillable
from juxtalogos.explore.resources.kinds import ResourceKind
from juxtalogos.explore.resources.sandbox import Instance, Sandbox
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.suite.inputs import with_values


async def clear(sandbox: Sandbox) -> None:
    """Takes away what the block made, the newest first; again where one thing hangs on another."""
    made, sandbox.things, sandbox.shared = sandbox.things, [], {}
    waiting = [one for one in reversed(made) if not one.gone]
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
