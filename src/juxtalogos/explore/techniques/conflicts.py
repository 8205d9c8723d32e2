"""What may not be: the same twice, references to what is not there, a thing below another than its own, what
does not exist.
"""

from __future__ import annotations

from typing import Any

from juxtalogos.conventions.naming import plain
from juxtalogos.explore.prober.comparing import has_key, item_in, told
from juxtalogos.explore.prober.prober import Purpose, Trial
from juxtalogos.explore.prober.requests import Unfillable
from juxtalogos.explore.prober.states import declares_conflict, is_conflict
from juxtalogos.explore.resources.kinds import ResourceKind
from juxtalogos.explore.resources.sandbox import Instance, Sandbox
from juxtalogos.explore.techniques.lifecycle import occupied, still_marked, told_deleted
from juxtalogos.model.contract import Intent, Operation
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.outcome import Outcome, Wrong
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.inputs import with_values

_UNLIKELY = (987_654_321, 98_765, 9_876)


async def doubles(sandbox: Sandbox, kind: ResourceKind) -> None:
    """The same creation twice is refused as declared, or gives a second; a refusal leaves the first, and no
    second, there.
    """
    if sandbox.prober.only_reading:
        return
    for creator in kind.creators[:1]:
        try:
            thing = await sandbox.make_by(creator, {}, full=True)
        except Unfillable as error:
            sandbox.notes.setdefault(creator.id, str(error))
            await _taken_instead(sandbox, kind, creator)
            continue
        before = await _count(sandbox, thing)
        seen = await sandbox.call(creator, thing.made.inputs, Purpose.CONFLICT)
        sandbox.note(Wrong.CONFLICT, seen)
        if seen.ok:
            second = await sandbox.keep(
                creator, seen, {name: one for name, one in thing.context.items() if name != creator.id}
            )
            if (
                not creator.idempotent
                and creator.intent is Intent.CREATE
                and same_key(sandbox, thing, second)
            ):
                second.gone = True
            continue
        after = await _count(sandbox, thing)
        if seen.refused and before is not None and after is not None and after != before:
            sandbox.claim(
                seen, "law.refusal-traceless", "answer", f"{before} in the list, as before", str(after)
            )
        if seen.refused:
            await _changed_into(sandbox, kind, thing)


async def _taken_instead(sandbox: Sandbox, kind: ResourceKind, creator: Operation) -> None:
    """Where what is new is always refused as a conflict: what is there already must not be taken."""
    refusals = [trial for trial in sandbox.prober.held if trial.operation is creator and trial.refused]
    if not refusals or not all(is_conflict(one) for one in refusals):
        return
    for listing in kind.lists[:1]:
        _, items = await sandbox.whole(listing, sandbox.shared)
        inputs, known = await sandbox.fill(creator, {}, full=True)
        for item in [entry for entry in items if isinstance(entry, dict)][:2]:
            names = (
                {name: item[name] for name in inputs.body if isinstance(item.get(name), str)}
                if isinstance(inputs.body, dict)
                else {}
            )
            changed = with_values(inputs, {f"body/{name}": value for name, value in names.items()})
            if not names or not sandbox.maker.fits(creator, changed):
                continue
            seen = await sandbox.call(creator, changed, Purpose.CONFLICT)
            if seen.ok:
                sandbox.claim(
                    seen,
                    "law.conflict-refused",
                    "status conflict",
                    "a conflict, as with what is new",
                    seen.code,
                )
                await sandbox.keep(creator, seen, known)
                return


def same_key(sandbox: Sandbox, one: Instance, other: Instance) -> bool:
    """Whether two things are named alike: the service gave the first again."""
    key = sandbox.key(one)
    return key is not ABSENT and str(key) == str(sandbox.key(other))


async def _count(sandbox: Sandbox, thing: Instance) -> int | None:
    for listing in thing.kind.lists[:1]:
        try:
            return len((await sandbox.whole(listing, thing.context))[1])
        except Unfillable:
            return None
    return None


async def _changed_into(sandbox: Sandbox, kind: ResourceKind, taken: Instance) -> None:
    """What is refused twice may not be brought about by a change either."""
    around = {name: one for name, one in taken.context.items() if name != taken.made.operation.id}
    for operation in kind.updates:
        if not declares_conflict(sandbox.wire, operation):
            continue
        try:
            other = await sandbox.make(kind, around, full=True, seed=1)
            inputs, _ = await sandbox.fill(operation, other.context, full=True)
        except Unfillable:
            continue
        names = {
            one: value
            for one, value in taken.made.body.items()
            if isinstance(inputs.body, dict)
            and one in inputs.body
            and isinstance(value, str)
            and value != inputs.body[one]
        }
        if not names:
            continue
        before = await sandbox.item(other)
        changed = with_values(inputs, {f"body/{one}": value for one, value in names.items()})
        seen = await sandbox.call(operation, changed, Purpose.CONFLICT)
        sandbox.note(Wrong.CONFLICT, seen)
        after = await sandbox.item(other)
        if seen.refused and before is not None and after is not None and before[1] != after[1]:
            sandbox.claim(seen, "law.refusal-traceless", "body", "no change after the refusal", "it changed")


async def references(sandbox: Sandbox, kind: ResourceKind) -> None:
    """A reference in a body to what does not exist is refused."""
    if sandbox.prober.only_reading:
        return
    for creator in [*kind.creators[:1], *kind.acts]:
        for need in sandbox.maker.needs.get(creator.id, ()):
            if not need.input.startswith("body/") or need.input in sandbox.maker.own_keys(creator):
                continue
            gone = await gone_value(sandbox, need.source, need.value, creator, need.input)
            if gone is ABSENT:
                continue
            try:
                context = {} if creator in kind.creators else (await sandbox.make(kind)).context
                own = kind.key_of(creator)
                if own is not None and own.input == need.input:
                    continue
                inputs, known = await sandbox.fill(creator, context, full=False)
            except Unfillable:
                continue
            broken = with_values(inputs, {need.input: gone})
            if not sandbox.maker.fits(creator, broken):
                continue
            seen = await sandbox.call(creator, broken, Purpose.ABSENT)
            sandbox.note(Wrong.REFERENCE, seen)
            if seen.ok:
                sandbox.claim(
                    seen,
                    "law.reference-refused",
                    need.input,
                    "a refusal: it does not exist",
                    seen.code,
                )
                if creator in kind.creators:
                    await sandbox.keep(creator, seen, known)
            _fault_truly(sandbox, seen, need.input, gone)


async def gone_value(sandbox: Sandbox, source: str, value: str, operation: Operation, address: str) -> Any:
    """What names a thing that is no more, or never was; ABSENT where none can be had."""
    maker = sandbox.maker.contract.operation(source)
    kind = sandbox.kind_made_by(maker) if maker is not None else None
    if kind is not None and kind.deleter is not None:
        try:
            thing = await sandbox.make(kind)
            found = sandbox.maker.taken(value, thing.made)
            if (
                found is not ABSENT
                and found is not None
                and await sandbox.remove(thing)
                and thing.gone
                and not await still_marked(sandbox, thing)
            ):
                return sandbox.maker.typed(operation, address, found)
        except Unfillable:
            pass
    return unlikely(sandbox, operation, address)


def unlikely(sandbox: Sandbox, operation: Operation, address: str) -> Any:
    """A value that the definition allows and that names nothing, as far as one can tell."""
    try:
        inputs = sandbox.maker.own(operation)
    except Unsampleable:
        return ABSENT
    row = sandbox.maker.row(operation, address)
    kind = row.type.partition(" ")[0] if row else "string"
    texts: list[Any] = list(_UNLIKELY) if kind in ("integer", "int", "long", "number") else []
    if not texts:
        sample = next(
            (
                one
                for pool in sandbox.shared.values()
                for one in [pool.inputs.values.get(address)]
                if isinstance(one, str)
            ),
            "",
        )
        texts = [
            _other_digits(sample),
            "3f2b8c1e-5a64-4d1f-9c0a-7e5d2b1a6f30",
            "no-such-thing-98765",
            "987654321",
            "98765",
        ]
    for text in texts:
        if text and sandbox.maker.fits(operation, with_values(inputs, {address: text})):
            return text
    return ABSENT


def _other_digits(text: str) -> str:
    return "".join("9" if char.isdigit() else char for char in text) if any(map(str.isdigit, text)) else ""


async def unknown(sandbox: Sandbox, kind: ResourceKind) -> None:
    """What never was is not found, by any operation on an item; nor what is malformed, or of another kind."""
    for operation in kind.on_item:
        need = kind.key_of(operation)
        if need is None or (sandbox.prober.only_reading and not operation.safe):
            continue
        if (
            operation.intent in (Intent.REPLACE,)
            and kind.creator is not None
            and kind.creator.id == operation.id
        ):
            continue
        try:
            inputs, _ = await sandbox.fill(operation, {})
        except Unfillable:
            continue
        value = unlikely_like(sandbox, kind, operation, need.input, inputs)
        if value is ABSENT:
            continue
        seen = await sandbox.call(operation, with_values(inputs, {need.input: value}), Purpose.ABSENT)
        sandbox.note(Wrong.UNKNOWN, seen)
        if (
            seen.ok
            and operation.intent is not Intent.REPLACE
            and not (operation is kind.deleter or operation in kind.others or operation in kind.updates)
        ):
            sandbox.claim(seen, "law.unknown-refused", need.input, "a refusal: it does not exist", seen.code)
        _fault_truly(sandbox, seen, need.input, value)
        if operation.intent is Intent.READ and need.input.startswith("path."):
            await _strange_keys(sandbox, kind, operation, need.input, inputs)


async def _strange_keys(
    sandbox: Sandbox, kind: ResourceKind, operation: Operation, address: str, inputs: Inputs
) -> None:
    """Keys that are malformed, or another kind's: not found either, whatever the code.

    Another kind's may be somebody's here too (numbers, names that go together): it is only read, and success
    is no doubt.
    """
    others = [
        str(key)
        for thing in sandbox.things
        if thing.kind is not kind and (key := sandbox.key(thing)) is not ABSENT
    ]
    for text in ("~", *others[-1:]):
        seen = await sandbox.call(operation, with_values(inputs, {address: text}), Purpose.ABSENT)
        if seen.ok and text == "~" and operation in kind.reads:
            sandbox.claim(seen, "law.unknown-refused", address, "a refusal: it does not exist", seen.code)


def unlikely_like(
    sandbox: Sandbox, kind: ResourceKind, operation: Operation, address: str, inputs: Any
) -> Any:
    """As a key that is there, with other digits; else what is unlikely."""
    keys = [str(sandbox.key(thing)) for thing in sandbox.things if thing.kind is kind]
    for key in keys[-1:]:
        other = sandbox.maker.typed(operation, address, _other_digits(key) or f"{key}x")
        if str(other) not in keys and sandbox.maker.fits(operation, with_values(inputs, {address: other})):
            return other
    return unlikely(sandbox, operation, address)


def _fault_truly(sandbox: Sandbox, seen: Trial, address: str, value: Any) -> None:
    """A fault's detail that is called as the input tells the value that was sent."""
    if not seen.fault or seen.outcome is not Outcome.ABSENT or not isinstance(seen.value, dict):
        return
    name = plain(address.rpartition("/")[2].rpartition(".")[2])
    for member, one in seen.value.items():
        if plain(member) == name and isinstance(one, str | int) and str(one) != str(value):
            sandbox.claim(seen, "law.fault-told-truly", f"body/{member}", told(value), told(one))


async def owners(sandbox: Sandbox, kind: ResourceKind) -> None:
    """A thing is found below its own parent only."""
    if kind.parent is None or sandbox.prober.only_reading or "/{}/" not in kind.name:
        return
    try:
        thing = await sandbox.make(kind, full=True)
        parent = next(
            (
                one
                for one in sandbox.things
                if one.kind is kind.parent and any(seen is one.made for seen in thing.context.values())
            ),
            None,
        )
        if parent is None:
            return
        above = {name: one for name, one in parent.context.items() if name != parent.made.operation.id}
        other = await sandbox.make(kind.parent, above, full=True, seed=1)
    except Unfillable:
        return
    strange = {**thing.context, other.made.operation.id: other.made}
    for operation in [*kind.reads, *kind.updates, *([kind.deleter] if kind.deleter else [])]:
        if (
            len(
                [need for need in sandbox.maker.needs.get(operation.id, ()) if need.input.startswith("path.")]
            )
            < 2
        ):
            continue
        try:
            seen = await sandbox.ask(operation, strange, Purpose.ABSENT)
        except Unfillable:
            continue
        sandbox.note(Wrong.UNKNOWN, seen)
        if seen.ok and operation.intent is Intent.REPLACE:
            return  # it may create it there
        if seen.ok:
            sandbox.claim(
                seen,
                "law.owner-checked",
                kind.parent.name,
                "a refusal: it does not exist below another parent",
                seen.code,
            )
            thing.gone |= operation is kind.deleter
            return
    key = sandbox.key(thing)
    for listing in kind.lists:
        try:
            seen, items = await sandbox.whole(listing, {**other.context, other.made.operation.id: other.made})
        except Unfillable:
            continue
        if any(has_key(item, key) for item in items):
            sandbox.claim(
                seen, "law.owner-checked", "body", "a list without the items of another parent", "it is in it"
            )


async def ended_reference(sandbox: Sandbox, kind: ResourceKind) -> None:
    """Creations that need another thing, after each thing that can be done to that: where conflicts are
    declared they may come.
    """
    creator = kind.creator
    if creator is None or not declares_conflict(sandbox.wire, creator) or sandbox.prober.only_reading:
        return
    for need in sandbox.maker.needs.get(creator.id, ()):
        source = sandbox.maker.contract.operation(need.source)
        other = sandbox.kind_made_by(source) if source is not None else None
        if other is None or other is kind:
            continue
        for operation in other.acts:
            try:
                thing = await sandbox.make(other)
                acted = await sandbox.ask(operation, thing.context, Purpose.CONFLICT)
                if not acted.ok:
                    continue
                inputs, known = await sandbox.fill(creator, thing.context)
                seen = await sandbox.call(creator, inputs, Purpose.CONFLICT)
            except Unfillable:
                continue
            sandbox.note(Wrong.CONFLICT, seen)
            if seen.ok:
                await sandbox.keep(creator, seen, known)
        await _taken_reference(sandbox, creator, other)


async def _taken_reference(sandbox: Sandbox, creator: Operation, other: ResourceKind) -> None:
    """Two creations that need the same thing, with values of their own each."""
    try:
        thing = await sandbox.make(other)
        for _ in range(2):
            inputs, known = await sandbox.fill(creator, thing.context)
            seen = await sandbox.call(creator, inputs, Purpose.CONFLICT)
            sandbox.note(Wrong.CONFLICT, seen)
            if not seen.ok:
                return
            await sandbox.keep(creator, seen, known)
    except Unfillable:
        return


async def used_things(sandbox: Sandbox, kind: ResourceKind) -> None:
    """Deletion and actions of a thing that others refer to, where conflicts are declared."""
    ending = [
        one for one in (kind.deleter, *kind.acts) if one is not None and declares_conflict(sandbox.wire, one)
    ]
    if not ending or sandbox.prober.only_reading:
        return
    for other in sandbox.kinds:
        user = other.creator
        if (
            user is None
            or other is kind
            or not any(
                need.source in {one.id for one in kind.creators}
                for need in sandbox.maker.needs.get(user.id, ())
            )
        ):
            continue
        for operation in ending:
            found = await occupied(sandbox, kind, other, operation)
            if found is None:
                continue
            thing, below, seen = found
            thing.gone |= seen.ok and operation is kind.deleter
            if seen.refused and not thing.gone:
                shown = await sandbox.read(thing)
                if shown is not None and not shown.ok and shown.refused:
                    sandbox.claim(
                        seen, "law.refusal-traceless", "answer", "the item is unchanged", shown.code
                    )
                await _after_release(sandbox, thing, below, operation)


async def _after_release(sandbox: Sandbox, thing: Instance, below: Instance, operation: Operation) -> None:
    """What was refused because something else refers to it works when that is over."""
    for act in below.kind.acts:
        try:
            released = await sandbox.ask(act, below.context, Purpose.CONFLICT)
            if not released.ok:
                continue
            seen = await sandbox.ask(operation, thing.context, Purpose.CONFLICT)
        except Unfillable:
            return
        sandbox.note(Wrong.CONFLICT, seen)
        if seen.ok and operation is thing.kind.deleter:
            thing.gone = True
            return


async def states_of_deletion(sandbox: Sandbox, kind: ResourceKind) -> None:
    """Deletion after each action: it works as declared, or is refused as a conflict and leaves no trace."""
    if kind.deleter is None or not kind.acts or sandbox.prober.only_reading:
        return
    for operation in (*kind.acts,):
        try:
            thing = await sandbox.make(kind)
            acted = await sandbox.ask(operation, thing.context, Purpose.CONFLICT)
            if not acted.ok:
                continue
            seen = await sandbox.ask(kind.deleter, thing.context, Purpose.CONFLICT)
        except Unfillable:
            continue
        sandbox.note(Wrong.CONFLICT, seen)
        thing.gone = seen.ok
        shown = await sandbox.read(thing)
        if shown is None:
            continue
        if seen.refused and not shown.ok and shown.refused:
            sandbox.claim(seen, "law.refusal-traceless", "answer", "the item is unchanged", shown.code)
        if seen.ok and shown.ok:
            await check_gone(sandbox, seen, shown, thing)


async def check_gone(sandbox: Sandbox, seen: Trial, shown: Trial, thing: Instance) -> None:
    """Claims that what was deleted is shown still, unless it is shown as deleted."""
    item = item_in(shown.value, thing.made.body, sandbox.key(thing))
    if item is None or not told_deleted(item):
        sandbox.claim(
            shown, "law.deleted-gone", "answer", f"that it is gone, after {seen.operation.id}", shown.code
        )
