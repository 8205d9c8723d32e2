"""What may not be: the same twice, references to what is not there, a thing below another than its own, what
does not exist.
"""

from __future__ import annotations

from typing import Any

from juxtalogos.conventions.naming import plain
from juxtalogos.explore.bench import Purpose, Trial
from juxtalogos.explore.comparing import has_key, item_in, told
from juxtalogos.explore.kinds import Kind
from juxtalogos.explore.states import declares_conflict, is_conflict
from juxtalogos.explore.techniques.lifecycle import occupied, still_marked, told_deleted
from juxtalogos.explore.values import Unfillable
from juxtalogos.explore.yard import Thing, Yard
from juxtalogos.model.contract import Intent, Operation
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.outcome import Outcome, Wrong
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.inputs import with_values

_UNLIKELY = (987_654_321, 98_765, 9_876)


async def doubles(yard: Yard, kind: Kind) -> None:
    """The same creation twice is refused as declared, or gives a second; a refusal leaves the first, and no
    second, there.
    """
    if yard.bench.only_reading:
        return
    for creator in kind.creators[:1]:
        try:
            thing = await yard.make_by(creator, {}, full=True)
        except Unfillable as error:
            yard.notes.setdefault(creator.id, str(error))
            await _taken_instead(yard, kind, creator)
            continue
        before = await _count(yard, thing)
        seen = await yard.call(creator, thing.made.inputs, Purpose.CONFLICT)
        yard.note(Wrong.CONFLICT, seen)
        if seen.ok:
            second = await yard.keep(
                creator, seen, {name: one for name, one in thing.context.items() if name != creator.id}
            )
            if not creator.idempotent and creator.intent is Intent.CREATE and same_key(yard, thing, second):
                second.gone = True
            continue
        after = await _count(yard, thing)
        if seen.refused and before is not None and after is not None and after != before:
            yard.claim(
                seen, "law.refusal-traceless", "answer", f"{before} in the list, as before", str(after)
            )
        if seen.refused:
            await _changed_into(yard, kind, thing)


async def _taken_instead(yard: Yard, kind: Kind, creator: Operation) -> None:
    """Where what is new is always refused as a conflict: what is there already must not be taken."""
    refusals = [trial for trial in yard.bench.held if trial.operation is creator and trial.refused]
    if not refusals or not all(is_conflict(one) for one in refusals):
        return
    for listing in kind.lists[:1]:
        _, items = await yard.whole(listing, yard.shared)
        inputs, known = await yard.fill(creator, {}, full=True)
        for item in [entry for entry in items if isinstance(entry, dict)][:2]:
            names = (
                {name: item[name] for name in inputs.body if isinstance(item.get(name), str)}
                if isinstance(inputs.body, dict)
                else {}
            )
            changed = with_values(inputs, {f"body/{name}": value for name, value in names.items()})
            if not names or not yard.maker.fits(creator, changed):
                continue
            seen = await yard.call(creator, changed, Purpose.CONFLICT)
            if seen.ok:
                yard.claim(
                    seen,
                    "law.conflict-refused",
                    "status conflict",
                    "a conflict, as with what is new",
                    seen.code,
                )
                await yard.keep(creator, seen, known)
                return


def same_key(yard: Yard, one: Thing, other: Thing) -> bool:
    """Whether two things are named alike: the service gave the first again."""
    key = yard.key(one)
    return key is not ABSENT and str(key) == str(yard.key(other))


async def _count(yard: Yard, thing: Thing) -> int | None:
    for listing in thing.kind.lists[:1]:
        try:
            return len((await yard.whole(listing, thing.context))[1])
        except Unfillable:
            return None
    return None


async def _changed_into(yard: Yard, kind: Kind, taken: Thing) -> None:
    """What is refused twice may not be brought about by a change either."""
    around = {name: one for name, one in taken.context.items() if name != taken.made.operation.id}
    for operation in kind.updates:
        if not declares_conflict(yard.wire, operation):
            continue
        try:
            other = await yard.make(kind, around, full=True, seed=1)
            inputs, _ = await yard.fill(operation, other.context, full=True)
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
        before = await yard.item(other)
        changed = with_values(inputs, {f"body/{one}": value for one, value in names.items()})
        seen = await yard.call(operation, changed, Purpose.CONFLICT)
        yard.note(Wrong.CONFLICT, seen)
        after = await yard.item(other)
        if seen.refused and before is not None and after is not None and before[1] != after[1]:
            yard.claim(seen, "law.refusal-traceless", "body", "that all stays as it was", "it changed")


async def references(yard: Yard, kind: Kind) -> None:
    """A reference in a body to what does not exist is refused."""
    if yard.bench.only_reading:
        return
    for creator in [*kind.creators[:1], *kind.acts]:
        for need in yard.maker.needs.get(creator.id, ()):
            if not need.input.startswith("body/") or need.input in yard.maker.own_keys(creator):
                continue
            gone = await gone_value(yard, need.source, need.value, creator, need.input)
            if gone is ABSENT:
                continue
            try:
                context = {} if creator in kind.creators else (await yard.make(kind)).context
                own = kind.key_of(creator)
                if own is not None and own.input == need.input:
                    continue
                inputs, known = await yard.fill(creator, context, full=False)
            except Unfillable:
                continue
            broken = with_values(inputs, {need.input: gone})
            if not yard.maker.fits(creator, broken):
                continue
            seen = await yard.call(creator, broken, Purpose.ABSENT)
            yard.note(Wrong.REFERENCE, seen)
            if seen.ok:
                yard.claim(
                    seen,
                    "law.reference-refused",
                    need.input,
                    "a refusal: there is no such thing",
                    seen.code,
                )
                if creator in kind.creators:
                    await yard.keep(creator, seen, known)
            _fault_truly(yard, seen, need.input, gone)


async def gone_value(yard: Yard, source: str, value: str, operation: Operation, address: str) -> Any:
    """What names a thing that is no more, or never was; ABSENT where none can be had."""
    maker = yard.maker.contract.operation(source)
    kind = yard.kind_made_by(maker) if maker is not None else None
    if kind is not None and kind.deleter is not None:
        try:
            thing = await yard.make(kind)
            found = yard.maker.taken(value, thing.made)
            if (
                found is not ABSENT
                and found is not None
                and await yard.remove(thing)
                and thing.gone
                and not await still_marked(yard, thing)
            ):
                return yard.maker.typed(operation, address, found)
        except Unfillable:
            pass
    return unlikely(yard, operation, address)


def unlikely(yard: Yard, operation: Operation, address: str) -> Any:
    """A value that the definition allows and that names nothing, as far as one can tell."""
    try:
        inputs = yard.maker.own(operation)
    except Unsampleable:
        return ABSENT
    row = yard.maker.row(operation, address)
    kind = row.type.partition(" ")[0] if row else "string"
    texts: list[Any] = list(_UNLIKELY) if kind in ("integer", "int", "long", "number") else []
    if not texts:
        sample = next(
            (
                one
                for pool in yard.shared.values()
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
        if text and yard.maker.fits(operation, with_values(inputs, {address: text})):
            return text
    return ABSENT


def _other_digits(text: str) -> str:
    return "".join("9" if char.isdigit() else char for char in text) if any(map(str.isdigit, text)) else ""


async def unknown(yard: Yard, kind: Kind) -> None:
    """What never was is not found, by any operation on an item; nor what is malformed, or of another kind."""
    for operation in kind.on_item:
        need = kind.key_of(operation)
        if need is None or (yard.bench.only_reading and not operation.safe):
            continue
        if (
            operation.intent in (Intent.REPLACE,)
            and kind.creator is not None
            and kind.creator.id == operation.id
        ):
            continue
        try:
            inputs, _ = await yard.fill(operation, {})
        except Unfillable:
            continue
        value = unlikely_like(yard, kind, operation, need.input, inputs)
        if value is ABSENT:
            continue
        seen = await yard.call(operation, with_values(inputs, {need.input: value}), Purpose.ABSENT)
        yard.note(Wrong.UNKNOWN, seen)
        if (
            seen.ok
            and operation.intent is not Intent.REPLACE
            and not (operation is kind.deleter or operation in kind.others or operation in kind.updates)
        ):
            yard.claim(seen, "law.unknown-refused", need.input, "that there is no such thing", seen.code)
        _fault_truly(yard, seen, need.input, value)
        if operation.intent is Intent.READ and need.input.startswith("path."):
            await _strange_keys(yard, kind, operation, need.input, inputs)


async def _strange_keys(yard: Yard, kind: Kind, operation: Operation, address: str, inputs: Inputs) -> None:
    """Keys that are malformed, or another kind's: not found either, whatever the code.

    Another kind's may be somebody's here too (numbers, names that go together): it is only read, and success
    is no doubt.
    """
    others = [
        str(key) for thing in yard.things if thing.kind is not kind and (key := yard.key(thing)) is not ABSENT
    ]
    for text in ("~", *others[-1:]):
        seen = await yard.call(operation, with_values(inputs, {address: text}), Purpose.ABSENT)
        if seen.ok and text == "~" and operation in kind.reads:
            yard.claim(seen, "law.unknown-refused", address, "that there is no such thing", seen.code)


def unlikely_like(yard: Yard, kind: Kind, operation: Operation, address: str, inputs: Any) -> Any:
    """As a key that is there, with other digits; else what is unlikely."""
    keys = [str(yard.key(thing)) for thing in yard.things if thing.kind is kind]
    for key in keys[-1:]:
        other = yard.maker.typed(operation, address, _other_digits(key) or f"{key}x")
        if str(other) not in keys and yard.maker.fits(operation, with_values(inputs, {address: other})):
            return other
    return unlikely(yard, operation, address)


def _fault_truly(yard: Yard, seen: Trial, address: str, value: Any) -> None:
    """A fault's detail that is called as the input tells the value that was sent."""
    if not seen.fault or seen.outcome is not Outcome.ABSENT or not isinstance(seen.value, dict):
        return
    name = plain(address.rpartition("/")[2].rpartition(".")[2])
    for member, one in seen.value.items():
        if plain(member) == name and isinstance(one, str | int) and str(one) != str(value):
            yard.claim(seen, "law.fault-told-truly", f"body/{member}", told(value), told(one))


async def owners(yard: Yard, kind: Kind) -> None:
    """A thing is found below its own parent only."""
    if kind.parent is None or yard.bench.only_reading or "/{}/" not in kind.name:
        return
    try:
        thing = await yard.make(kind, full=True)
        parent = next(
            (
                one
                for one in yard.things
                if one.kind is kind.parent and any(seen is one.made for seen in thing.context.values())
            ),
            None,
        )
        if parent is None:
            return
        above = {name: one for name, one in parent.context.items() if name != parent.made.operation.id}
        other = await yard.make(kind.parent, above, full=True, seed=1)
    except Unfillable:
        return
    strange = {**thing.context, other.made.operation.id: other.made}
    for operation in [*kind.reads, *kind.updates, *([kind.deleter] if kind.deleter else [])]:
        if (
            len([need for need in yard.maker.needs.get(operation.id, ()) if need.input.startswith("path.")])
            < 2
        ):
            continue
        try:
            seen = await yard.ask(operation, strange, Purpose.ABSENT)
        except Unfillable:
            continue
        yard.note(Wrong.UNKNOWN, seen)
        if seen.ok and operation.intent is Intent.REPLACE:
            return  # it may create it there
        if seen.ok:
            yard.claim(
                seen,
                "law.owner-checked",
                kind.parent.name,
                "that there is no such thing below another",
                seen.code,
            )
            thing.gone |= operation is kind.deleter
            return
    key = yard.key(thing)
    for listing in kind.lists:
        try:
            seen, items = await yard.whole(listing, {**other.context, other.made.operation.id: other.made})
        except Unfillable:
            continue
        if any(has_key(item, key) for item in items):
            yard.claim(
                seen, "law.owner-checked", "body", "a list without what lies below another", "it is in it"
            )


async def ended_reference(yard: Yard, kind: Kind) -> None:
    """Creations that need another thing, after each thing that can be done to that: where conflicts are
    declared they may come.
    """
    creator = kind.creator
    if creator is None or not declares_conflict(yard.wire, creator) or yard.bench.only_reading:
        return
    for need in yard.maker.needs.get(creator.id, ()):
        source = yard.maker.contract.operation(need.source)
        other = yard.kind_made_by(source) if source is not None else None
        if other is None or other is kind:
            continue
        for operation in other.acts:
            try:
                thing = await yard.make(other)
                acted = await yard.ask(operation, thing.context, Purpose.CONFLICT)
                if not acted.ok:
                    continue
                inputs, known = await yard.fill(creator, thing.context)
                seen = await yard.call(creator, inputs, Purpose.CONFLICT)
            except Unfillable:
                continue
            yard.note(Wrong.CONFLICT, seen)
            if seen.ok:
                await yard.keep(creator, seen, known)
        await _taken_reference(yard, creator, other)


async def _taken_reference(yard: Yard, creator: Operation, other: Kind) -> None:
    """Two creations that need the same thing, with values of their own each."""
    try:
        thing = await yard.make(other)
        for _ in range(2):
            inputs, known = await yard.fill(creator, thing.context)
            seen = await yard.call(creator, inputs, Purpose.CONFLICT)
            yard.note(Wrong.CONFLICT, seen)
            if not seen.ok:
                return
            await yard.keep(creator, seen, known)
    except Unfillable:
        return


async def used_things(yard: Yard, kind: Kind) -> None:
    """Deletion and actions of a thing that others refer to, where conflicts are declared."""
    ending = [
        one for one in (kind.deleter, *kind.acts) if one is not None and declares_conflict(yard.wire, one)
    ]
    if not ending or yard.bench.only_reading:
        return
    for other in yard.kinds:
        user = other.creator
        if (
            user is None
            or other is kind
            or not any(
                need.source in {one.id for one in kind.creators} for need in yard.maker.needs.get(user.id, ())
            )
        ):
            continue
        for operation in ending:
            found = await occupied(yard, kind, other, operation)
            if found is None:
                continue
            thing, below, seen = found
            thing.gone |= seen.ok and operation is kind.deleter
            if seen.refused and not thing.gone:
                shown = await yard.read(thing)
                if shown is not None and not shown.ok and shown.refused:
                    yard.claim(seen, "law.refusal-traceless", "answer", "that the thing stays", shown.code)
                await _after_release(yard, thing, below, operation)


async def _after_release(yard: Yard, thing: Thing, below: Thing, operation: Operation) -> None:
    """What was refused because something else refers to it works when that is over."""
    for act in below.kind.acts:
        try:
            released = await yard.ask(act, below.context, Purpose.CONFLICT)
            if not released.ok:
                continue
            seen = await yard.ask(operation, thing.context, Purpose.CONFLICT)
        except Unfillable:
            return
        yard.note(Wrong.CONFLICT, seen)
        if seen.ok and operation is thing.kind.deleter:
            thing.gone = True
            return


async def states_of_deletion(yard: Yard, kind: Kind) -> None:
    """Deletion after each action: it works as declared, or is refused as a conflict and leaves no trace."""
    if kind.deleter is None or not kind.acts or yard.bench.only_reading:
        return
    for operation in (*kind.acts,):
        try:
            thing = await yard.make(kind)
            acted = await yard.ask(operation, thing.context, Purpose.CONFLICT)
            if not acted.ok:
                continue
            seen = await yard.ask(kind.deleter, thing.context, Purpose.CONFLICT)
        except Unfillable:
            continue
        yard.note(Wrong.CONFLICT, seen)
        thing.gone = seen.ok
        shown = await yard.read(thing)
        if shown is None:
            continue
        if seen.refused and not shown.ok and shown.refused:
            yard.claim(seen, "law.refusal-traceless", "answer", "that the thing stays", shown.code)
        if seen.ok and shown.ok:
            await check_gone(yard, seen, shown, thing)


async def check_gone(yard: Yard, seen: Trial, shown: Trial, thing: Thing) -> None:
    """Claims that what was deleted is shown still, unless it is shown as deleted."""
    item = item_in(shown.value, thing.made.body, yard.key(thing))
    if item is None or not told_deleted(item):
        yard.claim(
            shown, "law.deleted-gone", "answer", f"that it is gone, after {seen.operation.id}", shown.code
        )
