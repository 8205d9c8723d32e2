"""What there is one of, jobs that take their time, and many at once."""

from __future__ import annotations

from typing import Any

from juxtalogos.compose.listing import items_in
from juxtalogos.conventions.words import words
from juxtalogos.explore.prober.comparing import changes, differing, has_key, item_in, told
from juxtalogos.explore.prober.jobs import ended, followed, states_in
from juxtalogos.explore.prober.prober import Purpose, Trial
from juxtalogos.explore.prober.requests import Unfillable
from juxtalogos.explore.resources.kinds import ResourceKind
from juxtalogos.explore.resources.sandbox import Instance, Sandbox
from juxtalogos.explore.techniques.broken import breakings
from juxtalogos.model.contract import Intent, Operation
from juxtalogos.model.outcome import Outcome, Wrong
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs


async def singletons(sandbox: Sandbox, kind: ResourceKind) -> None:
    """What there is one of is changed, read, and written back as it was."""
    resource = kind.resource
    if not resource.is_singleton or sandbox.prober.only_reading:
        return
    reader = next(iter(resource.of(Intent.READ)), None)
    writers = resource.of(Intent.REPLACE, Intent.UPDATE)
    if reader is None or not writers:
        return
    first = await sandbox.ask(reader, {})
    if not first.ok or not isinstance(first.value, dict):
        return
    for operation in writers:
        for full, seed in ((True, 0), (True, 1), (False, 2)):
            await _written(sandbox, reader, operation, full, seed)


async def _written(sandbox: Sandbox, reader: Operation, operation: Operation, full: bool, seed: int) -> None:
    try:
        inputs, _ = await sandbox.fill(operation, {}, full=full, seed=seed)
        seen = await sandbox.call(operation, inputs)
        shown = await sandbox.ask(reader, {})
        again = await sandbox.ask(reader, {})
    except Unfillable as error:
        sandbox.notes.setdefault(operation.id, str(error))
        return
    if not seen.ok or not shown.ok:
        return
    item = item_in(shown.value, seen.body)
    for path, one, other in differing(seen.body, item or {}):
        sandbox.claim(
            shown,
            "law.changed-kept",
            f"body{path}",
            f"{told(one)}, as {operation.id} was sent it",
            told(other),
        )
    answered = item_in(seen.value, seen.body)
    for path, one, other in differing(answered or {}, item or {}):
        sandbox.claim(
            seen, "law.answers-agree", f"body{path}", f"as it is read afterwards: {told(other)}", told(one)
        )
    later = item_in(again.value, seen.body) if again.ok else None
    for path in sorted(changes(item, later)) if item and later else ():
        if path.split("/")[1] in seen.body:
            sandbox.claim(
                again,
                "law.reading-changes-nothing",
                f"body{path}",
                "the same values when read again",
                "it changed",
            )


async def jobs(sandbox: Sandbox, kind: ResourceKind) -> None:
    """What is begun (202) comes to an end, and gives what it was begun for."""
    if sandbox.prober.only_reading:
        return
    for creator in [*kind.creators, *kind.acts]:
        if not any(answer.outcome is Outcome.BEGUN for answer in creator.answers):
            continue
        try:
            context = {} if creator in kind.creators else (await sandbox.make(kind)).context
            inputs, known = await sandbox.fill(creator, context, full=True)
            seen = await sandbox.call(creator, inputs)
        except Unfillable as error:
            sandbox.notes.setdefault(creator.id, str(error))
            continue
        leads = sandbox.wire.follow(seen.exchange) if seen.exchange is not None else None
        if seen.outcome is not Outcome.BEGUN or leads is None:
            continue
        base = sandbox.prober.session.base_url(sandbox.maker.contract)
        last, lost = await followed(sandbox.call, sandbox.maker.contract, base, seen)
        if lost is not None and lost.refused:
            sandbox.claim(
                seen,
                "law.job-ends",
                sandbox.wire.address_place,
                "a way to the job",
                f"{leads.url}: {lost.code}",
            )
        if last is not None and not ended(last.value) and states_in(last.value):
            sandbox.claim(last, "law.job-ends", "body", "an end within a while", told(last.value))
        if last is not None:
            await _given(sandbox, kind, creator, seen, last, known)


async def _given(
    sandbox: Sandbox,
    kind: ResourceKind,
    creator: Operation,
    begun: Trial,
    last: Trial,
    known: dict[str, Trial],
) -> None:
    """What the job was begun for is there under the key that the job tells, as it was sent."""
    if sandbox.key(Instance(kind, begun, {**known, creator.id: begun})) is not ABSENT:
        return  # the job is all that there is
    told_ = Trial(begun.operation, begun.inputs, begun.purpose, begun.record, last.exchange, last.answer)
    thing = Instance(kind, told_, {**known, creator.id: told_})
    key = sandbox.key(thing)
    if key is ABSENT:
        if any(one.lower() in words("jobs.succeeded") for one in states_in(last.value)) and kind.reads:
            sandbox.claim(last, "law.job-ends", "body", "what was made, when it is over", told(last.value))
        return
    sandbox.things.append(thing)
    shown = await sandbox.read(thing)
    if shown is None:
        return
    if not shown.ok:
        if shown.refused:
            sandbox.claim(shown, "law.job-ends", "answer", "what the job made", shown.code)
        return
    item = item_in(shown.value, begun.body, key)
    for path, one, other in differing(begun.body, item or {}):
        sandbox.claim(shown, "law.created-kept", f"body{path}", told(one), told(other))
    for listing in kind.lists:
        seen, items = await sandbox.whole(listing, thing.context)
        if not any(has_key(entry, key) for entry in items):
            sandbox.claim(seen, "law.created-listed", "body", "what the job made", f"{len(items)} others")
    for operation in kind.reads[:1]:
        sandbox.worked.setdefault(operation.id, shown.inputs)
    deleter = kind.deleter
    if deleter is None:
        return
    seen = await sandbox.ask(deleter, thing.context)
    if seen.ok:
        thing.gone = True
        gone = await sandbox.read(thing)
        if gone is not None and gone.ok:
            sandbox.claim(
                gone, "law.deleted-gone", "answer", f"that it is gone, after {deleter.id}", gone.code
            )
        for listing in kind.lists:
            after, items = await sandbox.whole(listing, thing.context)
            if any(has_key(entry, key) for entry in items):
                sandbox.claim(
                    after,
                    "law.deleted-gone",
                    "body",
                    f"a list without what {deleter.id} deleted",
                    "it is still in it",
                )
        second = await sandbox.ask(deleter, thing.context, Purpose.ABSENT)
        sandbox.note(Wrong.GONE, second)


async def bulk(sandbox: Sandbox, kind: ResourceKind) -> None:
    """Many at once: all are there; the same again, and one that is broken, leaves none of them."""
    if sandbox.prober.only_reading:
        return
    for child in sandbox.kinds:
        if child.creator is None or not child.lists:
            continue
        for operation in _many(sandbox, child):
            await _at_once(sandbox, child, operation)


def _many(sandbox: Sandbox, kind: ResourceKind) -> list[Operation]:
    """Operations right below a collection whose body is a list of what its creation takes one of."""
    found = []
    one = (
        {row.name for row in sandbox.maker.rows.sent(kind.creator) if row.depth == 1}
        if kind.creator
        else set()
    )
    for operation in sandbox.maker.contract.operations:
        if operation.safe or not operation.resource.startswith(f"{kind.name}/") or operation in kind.creators:
            continue
        names = {
            row.name
            for row in sandbox.maker.rows.sent(operation)
            if row.path.count("/0/") == 1 and row.depth <= 3
        }
        if one and names and names <= one:
            found.append(operation)
    return found


async def _at_once(sandbox: Sandbox, kind: ResourceKind, operation: Operation) -> None:
    try:
        thing = await sandbox.make(kind, full=True)
        context = {name: one for name, one in thing.context.items() if name != thing.made.operation.id}
        inputs, _ = await sandbox.fill(operation, context, full=True)
        listing = kind.lists[0]
        _, before = await sandbox.whole(listing, thing.context)
        items = [await _one_of(sandbox, kind, context) for _ in range(2)]
        body = _with_items(inputs.body, items)
        seen = await sandbox.call(operation, Inputs(inputs.values, body, inputs.content_type))
        shown, after = await sandbox.whole(listing, thing.context)
    except Unfillable as error:
        sandbox.notes.setdefault(operation.id, str(error))
        return
    if not seen.ok:
        return
    if len(after) != len(before) + len(items):
        sandbox.claim(
            seen,
            "law.created-listed",
            "body",
            f"{len(items)} more in the list",
            f"{len(after) - len(before)} more",
        )
    for one in items:
        if not any(
            isinstance(other, dict)
            and not any(True for _ in differing(one, other))
            and one.keys() <= other.keys()
            for other in after
        ):
            sandbox.claim(shown, "law.created-kept", "body/*", told(one), "none like it")
    answered = items_in(seen.value)
    if answered is not None and len(answered) != len(items):
        sandbox.claim(seen, "law.created-told", "body", f"{len(items)} items", f"{len(answered)}")
    await _refused_whole(sandbox, kind, operation, seen, thing, inputs, after)


async def _refused_whole(
    sandbox: Sandbox,
    kind: ResourceKind,
    operation: Operation,
    done: Trial,
    thing: Instance,
    inputs: Inputs,
    there: list[Any],
) -> None:
    """The same again, the same twice in one, and one good with one broken: none of it is kept when it is
    refused.
    """
    context = {name: one for name, one in thing.context.items() if name != thing.made.operation.id}
    fresh = await _one_of(sandbox, kind, context)
    trials = [
        (done.inputs.body, Purpose.CONFLICT),
        (_with_items(inputs.body, [fresh, dict(fresh)]), Purpose.CONFLICT),
    ]
    used = (items_in(done.inputs.body) or [None])[0]
    other = await _one_of(sandbox, kind, context)
    if used is not None:
        trials.append((_with_items(inputs.body, [other, used]), Purpose.CONFLICT))
    for broken in breakings(sandbox, kind.creator, thing.made.inputs) if kind.creator else ():
        if broken.rule.startswith(("required", "type", "enum")) and isinstance(broken.inputs.body, dict):
            last = await _one_of(sandbox, kind, context)
            trials.append((_with_items(inputs.body, [last, broken.inputs.body]), Purpose.BROKEN))
            break
    for body, asked in trials:
        sent = Inputs(inputs.values, body, inputs.content_type)
        broken_at = ("body/*", "one broken item", operation.location) if asked is Purpose.BROKEN else None
        seen = await sandbox.call(operation, sent, asked, broken=broken_at)
        sandbox.note(Wrong.CONFLICT if asked is Purpose.CONFLICT else Wrong.VALUE, seen)
        _, after = await sandbox.whole(kind.lists[0], thing.context)
        if seen.refused and len(after) != len(there):
            sandbox.claim(
                seen, "law.refusal-traceless", "body", f"{len(there)} in the list, as before", str(len(after))
            )
        there = after


async def _one_of(sandbox: Sandbox, kind: ResourceKind, context: dict[str, Trial]) -> dict[str, Any]:
    assert kind.creator is not None
    inputs, _ = await sandbox.fill(kind.creator, context, full=True)
    return dict(inputs.body) if isinstance(inputs.body, dict) else {}


def _with_items(body: Any, items: list[Any]) -> Any:
    """The body with other items in its list."""
    if isinstance(body, list):
        return items
    if isinstance(body, dict):
        return {name: items if isinstance(value, list) else value for name, value in body.items()}
    return body
