"""Requests that break one rule at one place, as the receiver must see it; nothing but a refusal is right for
them.

A refused request spends nothing, so that all share one thing until one is taken; what that made is taken away
at once.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

from juxtalogos.explore.prober.comparing import changes
from juxtalogos.explore.prober.prober import Purpose, Trial
from juxtalogos.explore.prober.requests import Unfillable
from juxtalogos.explore.resources.kinds import ResourceKind
from juxtalogos.explore.resources.sandbox import Instance, Sandbox
from juxtalogos.explore.techniques.actions import led
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Input, Operation
from juxtalogos.model.errors import JuxtalogosError, UsageError
from juxtalogos.model.findings import ACCEPTED
from juxtalogos.model.location import Location, follow_pointer
from juxtalogos.model.outcome import Wrong
from juxtalogos.model.schema import ABSENT, Mutation, Schema
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.inputs import has_place, schema_at, with_values, without

MOST_MUTATIONS, FEW = 120, 25
"""Of one body; and of an operation that no valid request was answered with success."""


@dataclass(frozen=True, slots=True)
class Broken:
    """Inputs that the definition does not allow: where, and by which rule."""

    inputs: Inputs
    at: str
    rule: str
    location: Location | None
    reference: bool = False
    """Whether what it breaks names a thing."""


def breakings(sandbox: Sandbox, operation: Operation, base: Inputs) -> Iterator[Broken]:
    """Every way to break one rule of a request, which arrives broken."""
    yield from _of_inputs(sandbox, operation, base)
    yield from _of_body(sandbox, operation, base)


def _of_inputs(sandbox: Sandbox, operation: Operation, base: Inputs) -> Iterator[Broken]:
    named = {need.input for need in sandbox.maker.needs.get(operation.id, ())}
    for declared_input in operation.inputs:
        if declared_input.schema is None or declared_input.address in named or declared_input.place == "path":
            continue
        if declared_input.required and declared_input.place in ("query", "header"):
            yield Broken(
                without(base, declared_input.address),
                declared_input.address,
                "required",
                declared_input.location,
            )
        schema = sandbox.maker.contract.schema(declared_input.schema)
        try:
            sample = (
                base.values[declared_input.address]
                if declared_input.address in base.values
                else schema.sample()
            )
            found = list(schema.mutate(sample))
        except (JuxtalogosError, ValueError):
            continue
        for mutation in found[:20]:
            inputs = Inputs(
                {**base.values, declared_input.address: mutation.value}, base.body, base.content_type
            )
            if _arrives_in_text(declared_input, schema, mutation.value):
                yield Broken(
                    inputs, declared_input.address, f"{mutation.keyword}: {mutation.what}", mutation.location
                )


def _arrives_in_text(one: Input, schema: Schema, value: Any) -> bool:
    """Whether a value of a parameter is broken for whoever reads its text: whatever that
    text may stand for.
    """
    if value is None or isinstance(value, dict) or one.content:
        return False
    values = value if isinstance(value, list) else [value]
    if not values or any(isinstance(item, dict | list) or item is None or item == "" for item in values):
        return False
    if isinstance(value, list):
        texts = [str(item) for item in values]
        return (
            not schema.accepts(texts)
            and not any(schema.accepts([_read(item) for item in texts]) for _ in (0,))
            and (len(texts) != 1 or not (schema.accepts(texts[0]) or schema.accepts(_read(texts[0]))))
        )
    text = str(value).lower() if isinstance(value, bool) else str(value)
    if text == "" or text.strip() != text:
        return False  # what is empty or padded is taken for nothing, or for what is within
    try:
        return not any(
            schema.accepts(candidate)
            for candidate in (
                text,
                _read(text),
                [text],
                [_read(text)],
                *([text.split(",")] if "," in text else ()),
            )
        )
    except (JuxtalogosError, ValueError):
        return False


def _read(text: str) -> Any:
    """What a text stands for, read as a number or a truth value."""
    if text in ("true", "false"):
        return text == "true"
    try:
        return int(text)
    except ValueError:
        try:
            return float(text)
        except ValueError:
            return text


def _of_body(sandbox: Sandbox, operation: Operation, base: Inputs) -> Iterator[Broken]:
    ref = schema_at(operation, "body", base.content_type)
    if base.body is ABSENT or isinstance(base.body, bytes) or ref is None:
        return
    schema = sandbox.maker.contract.schema(ref)
    named = [
        need.input for need in sandbox.maker.needs.get(operation.id, ()) if need.input.startswith("body/")
    ]
    if base.content_type.startswith("multipart/mixed"):
        return  # messages within a message: each is judged by itself
    free = sandbox.maker.own_keys(operation) | made_keys(sandbox, operation)
    told: dict[tuple[str, str], int] = {}
    try:
        found = list(schema.mutate(base.body))[:600]
    except (JuxtalogosError, ValueError):
        return
    count = 0
    for mutation in nearest_first(found):
        key = (mutation.path, mutation.keyword)
        if told.get(key, 0) >= _each(mutation) or count >= MOST_MUTATIONS:
            continue
        if f"body{mutation.path}" in free:
            continue
        inputs = Inputs(base.values, mutation.value, base.content_type)
        if not arrives(sandbox, operation, inputs, schema):
            continue
        told[key] = told.get(key, 0) + 1
        count += 1
        at = f"body{mutation.path}"
        yield Broken(
            inputs,
            at,
            f"{mutation.keyword}: {mutation.what}",
            mutation.location,
            any(at == item or item.startswith(f"{at}/") for item in named),
        )


def nearest_first(found: list[Mutation]) -> list[Mutation]:
    """In their order, but of those that break one limit at one place the nearest to it first: what is only
    just too much tells most.
    """
    nearness: dict[int, float] = {}
    for index, one in enumerate(found):
        value = _place_value(one)
        if not one.side or value is None:
            nearness[index] = 0.0
        else:
            nearness[index] = value * one.side
    groups: dict[tuple[str, str], list[int]] = {}
    for index, one in enumerate(found):
        groups.setdefault((one.path, one.keyword), []).append(index)
    order: dict[int, int] = {}
    for members in groups.values():
        for place, index in zip(members, sorted(members, key=lambda index: (nearness[index], index))):
            order[place] = index
    return [found[order[place]] for place in range(len(found))]


def _place_value(one: Mutation) -> float | None:
    """How much there is at the place that is broken: a number, or the length of a text or list."""
    try:
        path = re.sub(r"\[(\d+)\]", lambda found: f"/{int(found[1]) - 1}", one.path)  # of XML, from 1
        value = follow_pointer(one.value, path) if path else one.value
    except (LookupError, ValueError):
        return None
    if isinstance(value, str | list):
        try:
            return (
                float(value)
                if isinstance(value, str) and one.keyword.endswith("clusive")
                else float(len(value))
            )
        except ValueError:
            return None
    return (
        float(value)
        if isinstance(value, int | float) and not isinstance(value, bool) and abs(value) < 1e300
        else None
    )


def made_keys(sandbox: Sandbox, operation: Operation) -> set[str]:
    """Places of a creation's body for the key that its answer tells: the service may make it itself."""
    kind = sandbox.kind_made_by(operation) or next(
        (other for other in sandbox.kinds if operation.id in other.keys), None
    )
    if kind is None:
        return set()
    makers = {creator.id for creator in kind.creators}
    names = {
        need.value.rpartition("/")[2].rpartition(":")[2]
        for need in kind.keys.values()
        if need.source in makers and "#/" in need.value
    }
    return {f"body/{name}" for name in names if f"body/{name}" not in operation.names}


def _each(mutation: Mutation) -> int:
    """How many of a rule at a place: of patterns more, for they break in many ways."""
    several = {"body.pattern": 4, "body.type": 3, "body.required": 40, "body.extra": 3, "body.order": 3}
    if mutation.kind == "body.length" and mutation.side < 0:
        return 1
    return several.get(mutation.kind, 2)


def arrives(sandbox: Sandbox, operation: Operation, inputs: Inputs, schema: Schema) -> bool:
    """Whether the body that is sent is broken still when it is read back: not every broken value survives the
    wire.
    """
    wire = wire_of(sandbox.maker.contract)
    base = sandbox.prober.session.base_url(sandbox.maker.contract)
    try:
        request = wire.encode(operation, inputs, base, loose=True)
        back = wire.inputs_of(operation, request, base)
    except (UsageError, JuxtalogosError, ValueError, TypeError, LookupError):
        return False
    if isinstance(back.body, bytes):
        return False  # it cannot be read at all: broken by more than the one rule
    if back.body is ABSENT:
        return bool(request.body)
    try:
        return not schema.accepts(back.body)
    except (JuxtalogosError, ValueError):
        return False


async def broken_values(sandbox: Sandbox, operation: Operation, kind: ResourceKind | None) -> None:
    """All broken requests of one operation, once it is known how to be answered with success."""
    if sandbox.prober.only_reading and not operation.safe:
        return
    most = None if operation.id in sandbox.worked else FEW
    try:
        target, prepared = await ready(sandbox, operation, kind)
    except Unfillable as error:
        sandbox.notes.setdefault(operation.id, str(error))
        return
    before = await sandbox.item(target) if target is not None else None
    count = await listed(sandbox, kind, target)
    asked = False
    for one in itertools.islice(breakings(sandbox, operation, prepared), most):
        seen = await sandbox.call(
            operation, one.inputs, Purpose.BROKEN, broken=(one.at, one.rule, one.location)
        )
        sandbox.note("broken reference" if one.reference else Wrong.VALUE, seen)
        asked = True
        if seen.ok and not operation.safe:
            await undo(sandbox, operation, seen, target)
            target, prepared = await ready(sandbox, operation, kind)
            if await smaller(sandbox, operation, one, seen, target):
                target, prepared = await ready(sandbox, operation, kind)
            before = await sandbox.item(target) if target is not None else None
            count = await listed(sandbox, kind, target)
    if asked and not operation.safe:
        await trace(sandbox, before, count, target, kind, operation)


async def smaller(
    sandbox: Sandbox, operation: Operation, one: Broken, seen: Trial, target: Instance | None
) -> bool:
    """Asks again with as little else as may be: what is taken then too is told of that request, and not of
    the larger one. Whether it was taken.
    """
    pointer = one.at.removeprefix("body")
    if not one.at.startswith("body") or not pointer or "[" in pointer or "@" in pointer:
        return False
    inputs, _ = await sandbox.fill(operation, target.context if target is not None else sandbox.shared)
    try:
        value = follow_pointer(one.inputs.body, pointer)
    except (LookupError, ValueError):
        value = ABSENT
    if not has_place(inputs.body, pointer.rpartition("/")[0]):
        return False
    less = without(inputs, one.at) if value is ABSENT else with_values(inputs, {one.at: value})
    schema = sandbox.maker.schema_of(operation, less)
    if (
        schema is None
        or len(str(less.body)) >= len(str(one.inputs.body))
        or not arrives(sandbox, operation, less, schema)
    ):
        return False
    again = await sandbox.call(operation, less, Purpose.BROKEN, broken=(one.at, one.rule, one.location))
    if again.ok:
        seen.record = replace(
            seen.record, results=tuple(result for result in seen.record.results if result.kind != ACCEPTED)
        )
        await undo(sandbox, operation, again, target)
    return again.ok


async def ready(
    sandbox: Sandbox, operation: Operation, kind: ResourceKind | None
) -> tuple[Instance | None, Inputs]:
    """(a thing to call it about, valid inputs that would be answered with success)."""
    if kind is None or kind.key_of(operation) is None:
        inputs, _ = await sandbox.fill(operation, {}, full=True)
        return None, inputs
    thing = await in_state(sandbox, operation, kind)
    inputs, _ = await sandbox.fill(operation, thing.context, full=True)
    return thing, inputs


async def in_state(sandbox: Sandbox, operation: Operation, kind: ResourceKind) -> Instance:
    """A fresh thing in a state in which an operation was answered with success."""
    search = sandbox.searches.get(kind.name)
    if search is not None:
        for state, way in search.ways.items():
            if search.outcomes.get((state, operation.id)) == "ok":
                return await led(sandbox, kind, way)
    return await sandbox.make(kind)


async def listed(sandbox: Sandbox, kind: ResourceKind | None, target: Instance | None) -> int | None:
    """How many of the kind there are, where a list tells it."""
    if kind is None or target is not None:
        return None
    for listing in kind.lists[:1]:
        try:
            return len((await sandbox.whole(listing, sandbox.shared))[1])
        except Unfillable:
            return None
    return None


async def trace(
    sandbox: Sandbox,
    before: Any,
    count: int | None,
    target: Instance | None,
    kind: ResourceKind | None,
    operation: Operation,
) -> None:
    """What was refused has left no trace: neither in the thing nor in the list."""
    last = next(
        (
            trial
            for trial in reversed(sandbox.prober.held)
            if trial.operation is operation and trial.purpose is Purpose.BROKEN
        ),
        None,
    )
    if last is None:
        return
    if before is not None and target is not None:
        after = await sandbox.item(target)
        moved = (changes(before[1], after[1]) if after else {"/"}) - sandbox.volatile.get(
            target.kind.name, set()
        )
        if moved:
            sandbox.claim(
                last,
                "law.refusal-traceless",
                f"body{sorted(moved)[0]}",
                "no change after the refusal",
                "it changed",
            )
    now = await listed(sandbox, kind, target) if count is not None else None
    if now is not None and count is not None and now > count:
        sandbox.claim(last, "law.refusal-traceless", "answer", f"{count} in the list, as before", str(now))


async def undo(sandbox: Sandbox, operation: Operation, seen: Trial, target: Instance | None) -> None:
    """Takes away at once what a broken request made."""
    if sandbox.kind_made_by(operation) is not None and target is None:
        thing = await sandbox.keep(operation, seen, dict(sandbox.shared))
        if await sandbox.remove(thing):
            sandbox.things.remove(thing)
