"""What is made is there, as it was sent; it is changed as was asked and no further; what is deleted is gone,
and nothing else.
"""

from __future__ import annotations

import asyncio
from typing import Any
from urllib.parse import urlsplit

from juxtalogos.explore.prober.comparing import Item, changes, differing, has_key, item_in, told
from juxtalogos.explore.prober.prober import Purpose, Trial
from juxtalogos.explore.prober.requests import Unfillable
from juxtalogos.explore.prober.states import is_conflict
from juxtalogos.explore.resources.kinds import ResourceKind
from juxtalogos.explore.resources.sandbox import Instance, Sandbox
from juxtalogos.model.contract import Intent, Operation
from juxtalogos.model.exchange import Request
from juxtalogos.model.location import follow_pointer
from juxtalogos.model.outcome import Outcome, Wrong
from juxtalogos.model.schema import ABSENT, OutlineRow

PATIENCE = 1.5
"""Seconds that what was made may take until it is seen, where the target says nothing of it."""


async def made_and_read(sandbox: Sandbox, kind: ResourceKind) -> None:
    """Creation with what is required and with everything: told, read, listed, and led to."""
    for creator in kind.creators[:2]:
        for full in (True, False):
            try:
                thing = await sandbox.make_by(creator, {}, full=full)
            except Unfillable as error:
                sandbox.notes.setdefault(creator.id, str(error))
                continue
            await check_made(sandbox, thing, defaults=not full)


async def check_made(sandbox: Sandbox, thing: Instance, *, defaults: bool = False) -> None:
    """All laws of something that was just made."""
    made, key = thing.made, sandbox.key(thing)
    sent = sent_members(sandbox, made)
    answered = item_in(made.value, sent, key if key is not ABSENT else None)
    if answered is not None:
        _compare(sandbox, made, "law.created-told", sent, answered)
    shown = await _read_back(sandbox, thing, sent, answered)
    if shown is not None and defaults:
        _defaults(sandbox, thing, *shown)
    await _listed(sandbox, thing, shown[1] if shown else answered)
    await _located(sandbox, thing, shown)


def sent_members(sandbox: Sandbox, seen: Trial) -> dict[str, Any]:
    """What was sent of the item itself: the body's members, without a wrapper around all of them."""
    body = seen.body
    rows = sandbox.maker.rows.sent(seen.operation)
    inner = [row for row in rows if row.depth == 1]
    while len(body) == 1 and len(inner) == 1 and isinstance(next(iter(body.values())), dict):
        body = next(iter(body.values()))
        path = inner[0].path
        inner = [
            row
            for row in rows
            if row.path.startswith(f"{path}/") and row.path.count("/") == path.count("/") + 1
        ]
    return {name: value for name, value in body.items() if not name.startswith("@")}


def _compare(sandbox: Sandbox, seen: Trial, law: str, sent: Item, shown: Item) -> None:
    for path, one, other in differing(sent, shown):
        sandbox.claim(seen, law, f"body{path}", told(one), told(other))


def _all_there(sandbox: Sandbox, seen: Trial, sent: Item, shown: Item) -> None:
    """Members that were sent, that what is read declares too, and that are not there.

    What says nothing (null, empty, false, zero) may be left out, and what is itself a thing may be shown
    elsewhere.
    """
    if not sent.keys() & shown.keys():
        return
    declared = {row.name for row in sandbox.maker.rows.answered(seen.operation) if not row.write_only}
    for name, value in sent.items():
        plain_value = bool(value) and not any(
            isinstance(member, dict | list) for member in (value if isinstance(value, list) else [value])
        )
        if name not in shown and name in declared and plain_value:
            sandbox.claim(seen, "law.created-kept", f"body/{name}", told(value), "nothing of that name")


async def _read_back(
    sandbox: Sandbox, thing: Instance, sent: Item, answered: Item | None
) -> tuple[Trial, Item] | None:
    """Reads it twice: as it was sent, as the creation told it, and the same again."""
    shown: tuple[Trial, Item] | None = None
    for reader in thing.kind.reads[:2]:
        try:
            first = await sandbox.read(thing, reader)
            assert first is not None
            if not first.ok and (first.outcome is Outcome.ABSENT):
                first = await _later(sandbox, thing, reader) or first
            if not first.ok:
                if first.refused and not first.outcome.about_caller:
                    sandbox.claim(first, "law.created-kept", "answer", "what was created", first.code)
                continue
            item = item_in(first.value, {**sent, **(answered or {})}, sandbox.key(thing))
            if item is None:
                continue
            _compare(sandbox, first, "law.created-kept", sent, item)
            _all_there(sandbox, first, sent, item)
            again = await sandbox.read(thing, reader)
        except Unfillable as error:
            sandbox.notes.setdefault(reader.id, str(error))
            continue
        assert again is not None
        later = item_in(again.value, item, sandbox.key(thing)) if again.ok else None
        moved = changes(item, later) if later is not None else set()
        sandbox.volatile.setdefault(thing.kind.name, set()).update(moved)
        if again.ok and later is not None and moved:
            settable = moved & {f"/{name}" for name in sent}
            for path in sorted(settable):
                sandbox.claim(
                    again,
                    "law.reading-changes-nothing",
                    f"body{path}",
                    told(item.get(path[1:])),
                    told(later.get(path[1:])),
                )
        elif not again.ok:
            sandbox.claim(again, "law.reading-changes-nothing", "answer", first.code, again.code)
        if answered is not None:
            same_named = {name: value for name, value in answered.items() if f"/{name}" not in moved}
            for path, one, other in differing(same_named, item):
                if path.split("/")[1] not in sent:
                    sandbox.claim(
                        first,
                        "law.answers-agree",
                        f"body{path}",
                        f"as {thing.made.operation.id} returned it: {told(one)}",
                        told(other),
                    )
        shown = shown or (first, item)
    return shown


async def _later(sandbox: Sandbox, thing: Instance, reader: Operation) -> Trial | None:
    """What was made, when it is seen after a while only: from then on every change is given that time."""
    if sandbox.prober.settle >= PATIENCE:
        return None
    waited = 0.0
    while waited < PATIENCE:
        pause = max(0.2, waited)
        await asyncio.sleep(pause)
        waited += pause
        seen = await sandbox.read(thing, reader)
        if seen is not None and seen.ok:
            sandbox.prober.settle = max(sandbox.prober.settle, waited)
            sandbox.notes.setdefault(
                f"settle {thing.kind.name}",
                f"what is made is seen after {waited:.1f} s only: each change is given that time",
            )
            return seen
    return None


def _defaults(sandbox: Sandbox, thing: Instance, seen: Trial, item: Item) -> None:
    """What was left out and has a declared default reads as that."""
    sent = sent_members(sandbox, thing.made)
    for name, value in declared_defaults(sandbox, thing.made.operation).items():
        if name not in sent and name in item and any(True for _ in differing({name: value}, item)):
            sandbox.claim(seen, "law.default-kept", f"body/{name}", told(value), told(item[name]))


def declared_defaults(sandbox: Sandbox, operation: Operation) -> dict[str, Any]:
    """By member of a JSON body, its declared default."""
    media = operation.body.media[0] if operation.body and operation.body.media else None
    if media is None or media.schema is None:
        return {}
    found = {}
    for row in sandbox.maker.rows.sent(operation):
        if row.depth == 1 and row.place is not None:
            document = sandbox.maker.contract.documents.get(row.place.document)
            if document is None or document.syntax == "xml":
                continue
            try:
                node = follow_pointer(document.value, row.place.pointer)
            except (LookupError, ValueError):
                continue
            if isinstance(node, dict) and "default" in node:
                found[row.name] = node["default"]
    return found


async def _listed(sandbox: Sandbox, thing: Instance, item: Item | None) -> None:
    """It is in every list of its kind, and told there as elsewhere."""
    key = sandbox.key(thing)
    if key is ABSENT:
        return
    for listing in thing.kind.lists:
        try:
            seen, items = await sandbox.whole(listing, thing.context)
        except Unfillable as error:
            sandbox.notes.setdefault(listing.id, str(error))
            continue
        if not items and item is None:
            continue
        found = next((entry for entry in items if has_key(entry, key)), None)
        if found is None:
            if not shows_keys(sandbox, thing.kind, listing):
                continue
            sandbox.claim(seen, "law.created-listed", "body", "what was created", f"{len(items)} others")
        elif item is not None and isinstance(found, dict):
            volatile = sandbox.volatile.get(thing.kind.name, set())
            for path, one, other in differing(item, found):
                if f"/{path.split('/')[1]}" not in volatile:
                    sandbox.claim(
                        seen, "law.answers-agree", f"body/*{path}", f"as it is read: {told(one)}", told(other)
                    )


def shows_keys(sandbox: Sandbox, kind: ResourceKind, listing: Operation) -> bool:
    """Whether a list's items are declared to tell what names them."""
    names = {
        need.value.rpartition("/")[2].rpartition(":")[2] for need in kind.keys.values() if need is not None
    }
    rows: list[OutlineRow] = list(sandbox.maker.rows.answered(listing))
    return any(row.name in names for row in rows) or any(
        row.path.endswith("/0") and row.scalar for row in rows
    )


async def _located(sandbox: Sandbox, thing: Instance, shown: tuple[Trial, Item] | None) -> None:
    """`Location` of a creation leads to the thing."""
    made = thing.made
    reader = next(iter(thing.kind.reads), None)
    leads = sandbox.wire.follow(made.exchange) if made.exchange is not None else None
    if made.outcome is not Outcome.SUCCEEDED or leads is None or reader is None or shown is None:
        return
    url = leads.url
    target = urlsplit(url)
    inputs, _ = await sandbox.fill(reader, thing.context)

    def led(request: Request) -> Request:
        return Request(request.method, url, request.headers, request.body)

    ours = sandbox.prober.session.encoded(sandbox.maker.contract, reader, inputs).url
    if urlsplit(ours).path == target.path or urlsplit(ours).path.endswith(target.path):
        return
    seen = await sandbox.call(reader, inputs, Purpose.CONFLICT, change=led, step=f"{reader.id} by Location")
    item = item_in(seen.value, shown[1], sandbox.key(thing)) if seen.ok else None
    if item is None or any(
        True
        for _ in differing(
            {key: value for key, value in shown[1].items() if not isinstance(value, dict | list)}, item
        )
    ):
        sandbox.claim(
            made,
            "law.location-leads",
            sandbox.wire.address_place,
            "a way to what was created",
            f"{url}: {seen.code}",
        )


async def deleted(sandbox: Sandbox, kind: ResourceKind) -> None:
    """One of two things is deleted: it is gone for every operation and from lists, the other is as it was."""
    deleter = kind.deleter
    if deleter is None or sandbox.prober.only_reading:
        return
    try:
        kept = await sandbox.make(kind, full=True)
        around = {name: seen for name, seen in kept.context.items() if name != kept.made.operation.id}
        thing = await sandbox.make(kind, around)
        before = await sandbox.item(kept)
        lists = {listing.id: await sandbox.whole(listing, kept.context) for listing in kind.lists}
        seen = await sandbox.ask(deleter, thing.context)
    except Unfillable as error:
        sandbox.notes.setdefault(deleter.id, str(error))
        return
    sandbox.note("fresh", seen)
    if not seen.ok:
        return
    thing.gone = seen.outcome is not Outcome.BEGUN
    await _lists_after(sandbox, thing, kept, lists)
    await _only(sandbox, kept, seen, before)
    await _gone(sandbox, thing, seen)


async def _gone(sandbox: Sandbox, thing: Instance, deletion: Trial) -> None:
    """Nothing works on it any more; of one that is only marked as deleted, and says so, nothing more is
    expected.
    """
    if await still_marked(sandbox, thing):
        return
    for operation in [
        *thing.kind.reads,
        *thing.kind.others,
        *thing.kind.updates,
        *thing.kind.acts,
        thing.kind.deleter,
    ]:
        if operation is None:
            continue
        try:
            seen = await sandbox.ask(operation, thing.context, Purpose.ABSENT)
        except Unfillable:
            continue
        sandbox.note(Wrong.GONE, seen)
        if seen.ok and operation in thing.kind.updates and await _back_again(sandbox, thing):
            return  # what changes it makes it, where it is not there
        if seen.ok and not (operation is thing.kind.deleter or operation.intent is Intent.REPLACE):
            item = item_in(seen.value, thing.made.body, sandbox.key(thing))
            if operation in thing.kind.reads and item is not None and told_deleted(item):
                continue  # a soft deletion, and it says so
            sandbox.claim(
                seen,
                "law.deleted-gone",
                "answer",
                f"that it is gone, after {deletion.operation.id}",
                seen.code,
            )


async def _back_again(sandbox: Sandbox, thing: Instance) -> bool:
    """Whether a deleted thing is read again: then it is to be taken away once more."""
    shown = await sandbox.read(thing)
    if shown is None or not shown.ok:
        return False
    thing.gone = False
    return True


async def still_marked(sandbox: Sandbox, thing: Instance) -> bool:
    """Whether what was deleted is read still, as deleted (a soft deletion)."""
    try:
        shown = await sandbox.read(thing)
    except Unfillable:
        return False
    item = (
        item_in(shown.value, thing.made.body, sandbox.key(thing)) if shown is not None and shown.ok else None
    )
    return item is not None and told_deleted(item)


def told_deleted(item: Item) -> bool:
    """Whether an item itself says that it was deleted."""
    words = (
        "gone",
        "deleted",
        "archived",
        "removed",
        "inactive",
        "cancelled",
        "withdrawn",
        "retired",
        "scrapped",
    )
    return any(
        (any(word in name.lower() for word in words) and value not in (None, False, ""))
        or (isinstance(value, str) and value.lower() in words)
        or (name.lower() in ("active", "enabled") and value is False)
        for name, value in item.items()
    )


async def _only(sandbox: Sandbox, kept: Instance, deletion: Trial, before: tuple[Trial, Item] | None) -> None:
    if before is None:
        return
    after = await sandbox.item(kept)
    if after is None:
        sandbox.claim(deletion, "law.deleted-only", "answer", "other items remain", "it is gone too")
        return
    moved = changes(before[1], after[1]) - sandbox.volatile.get(kept.kind.name, set())
    if moved:
        sandbox.claim(
            deletion,
            "law.deleted-only",
            f"body{sorted(moved)[0]}",
            "other items are unchanged",
            "it changed",
        )


async def _lists_after(
    sandbox: Sandbox, thing: Instance, kept: Instance, before: dict[str, tuple[Trial, list[Any]]]
) -> None:
    """The lists hold what they held, without the one."""
    deleter = thing.kind.deleter.id if thing.kind.deleter else ""
    key, other = sandbox.key(thing), sandbox.key(kept)
    for listing in thing.kind.lists:
        _, items = before[listing.id]
        seen, now = await sandbox.whole(listing, kept.context)
        was = any(has_key(item, key) for item in items)
        found = next((item for item in now if has_key(item, key)), None)
        if was and found is not None and not (isinstance(found, dict) and told_deleted(found)):
            sandbox.claim(
                seen,
                "law.deleted-gone",
                "body",
                f"a list without what {deleter} deleted",
                "it is still in it",
            )
        if any(has_key(item, other) for item in items) and not any(has_key(item, other) for item in now):
            sandbox.claim(
                seen,
                "law.deleted-only",
                "body",
                "a list with what was not deleted",
                "it is not in it any more",
            )


async def deleted_twice(sandbox: Sandbox, kind: ResourceKind) -> None:
    """A second DELETE does no more; and where a thing has others below it, it is refused, or they go too."""
    deleter = kind.deleter
    if deleter is None or sandbox.prober.only_reading:
        return
    for child in [other for other in sandbox.kinds if other.parent is kind and other.creators]:
        found = await occupied(sandbox, kind, child, deleter)
        if found is None:
            continue
        thing, below, seen = found
        if seen.ok:
            thing.gone = True
            fresh = [
                one for seens in sandbox.outcomes.get((deleter.id, "fresh"), {}).values() for one in seens
            ]
            if fresh and all(is_conflict(one) for one in fresh):
                sandbox.claim(
                    seen,
                    "law.conflict-refused",
                    "status conflict",
                    "a conflict, as with what has nothing below it",
                    seen.code,
                )
            await _orphan(sandbox, below)
        elif seen.refused:
            await _still_there(sandbox, thing, below, seen)


async def occupied(
    sandbox: Sandbox, kind: ResourceKind, other: ResourceKind, operation: Operation
) -> tuple[Instance, Instance, Trial] | None:
    """(a thing, another one that refers to it, an operation on the first); None where
    there are no such two.
    """
    try:
        thing = await sandbox.make(kind)
        below = await sandbox.make(other, thing.context)
        if not any(one is thing.made for one in below.context.values()):
            return None
        seen = await sandbox.ask(operation, thing.context, Purpose.CONFLICT)
    except Unfillable:
        return None
    sandbox.note(Wrong.CONFLICT, seen)
    return thing, below, seen


async def _orphan(sandbox: Sandbox, below: Instance) -> None:
    reader = next(iter(below.kind.reads), None)
    if reader is None:
        return
    try:
        seen = await sandbox.ask(reader, below.context, Purpose.CONFLICT)
    except Unfillable:
        return
    if not seen.ok:
        below.gone = True


async def _still_there(sandbox: Sandbox, thing: Instance, below: Instance, refusal: Trial) -> None:
    for one in (thing, below):
        shown = await sandbox.read(one)
        if shown is not None and not shown.ok and (shown.outcome is Outcome.ABSENT):
            sandbox.claim(
                refusal,
                "law.refusal-traceless",
                "answer",
                "no change after the refusal",
                f"{one.kind.name} is gone",
            )
