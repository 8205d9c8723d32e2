"""Valid requests that cover: each member, alternative, boundary and option once; and pairs of them."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from juxtalogos.compose.requests import tried_alone
from juxtalogos.explore.prober.comparing import differing, item_in, told
from juxtalogos.explore.prober.prober import Purpose, Trial
from juxtalogos.explore.prober.requests import Unfillable
from juxtalogos.explore.resources.kinds import ResourceKind
from juxtalogos.explore.resources.sandbox import Instance, Sandbox
from juxtalogos.explore.techniques.broken import in_state
from juxtalogos.explore.techniques.lifecycle import sent_members
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Operation
from juxtalogos.model.errors import JuxtalogosError, Unsampleable
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.inputs import schema_at, with_values, without

MOST_VALUES, MOST_PAIRS = 60, 24


@dataclass(frozen=True, slots=True)
class Covering:
    """Valid inputs, and what of them is new."""

    inputs: Inputs
    at: str
    what: str


def coverings(sandbox: Sandbox, operation: Operation, base: Inputs) -> Iterator[Covering]:
    """Valid inputs that differ from others, which are answered with success, at one place."""
    named = {need.input for need in sandbox.maker.needs.get(operation.id, ())}
    yield from _of_inputs(sandbox, operation, base, named)
    ref = schema_at(operation, "body", base.content_type)
    if base.body is ABSENT or isinstance(base.body, bytes) or ref is None:
        return
    schema = sandbox.maker.contract.schema(ref)
    told_: set[str] = set()
    found: list[Covering] = []
    try:
        for one in itertools.islice(schema.boundaries(base.body), 200):
            at = f"body{one.path}"
            mark = repr(one.value)
            if at in named or mark in told_ or one.value == base.body:
                continue
            told_.add(mark)
            found.append(
                Covering(Inputs(base.values, one.value, base.content_type), at, f"{one.keyword}: {one.what}")
            )
    except (JuxtalogosError, ValueError):
        pass
    found += list(_options(sandbox, operation, base, named, schema))
    yield from found[:MOST_VALUES]


def _options(
    sandbox: Sandbox, operation: Operation, base: Inputs, named: set[str], schema: Any
) -> Iterator[Covering]:
    """Each optional member left out, and alone; each nullable one null; lists empty."""
    if not isinstance(base.body, dict):
        return
    for row in sandbox.maker.rows.sent(operation):
        at = f"body{row.path}"
        if not row.path or "/0" in row.path or row.path.count("/") > 2 or at in named:
            continue
        for what, inputs in (
            ("left out", without(base, at)),
            ("null", with_values(base, {at: None})),
            ("empty", with_values(base, {at: []})),
        ):
            if (what == "null" and not row.nullable) or (
                what == "empty" and not row.type.startswith("array")
            ):
                continue
            if inputs.body != base.body and schema.accepts(inputs.body):
                yield Covering(inputs, at, what)


def _of_inputs(sandbox: Sandbox, operation: Operation, base: Inputs, named: set[str]) -> Iterator[Covering]:
    """Each value of each parameter, and pairs of those that are optional."""
    values: dict[str, list[Any]] = {}
    for declared_input in operation.inputs:
        if (
            declared_input.schema is None
            or declared_input.address in named
            or declared_input.place in ("path", "cookie")
            or declared_input.unreadable
        ):
            continue
        conditional = declared_input.place == "header" and declared_input.name.lower().startswith("if-")
        if conditional or sandbox.maker.hints.leaves_out(operation.id, declared_input.address):
            continue
        if declared_input.alone:  # what hides others, or goes with others only
            yield from (
                Covering(inputs, declared_input.address, told(inputs.values[declared_input.address]))
                for other, inputs in tried_alone(sandbox.maker.contract, operation, base)
                if other is declared_input
            )
            continue
        schema = sandbox.maker.contract.schema(declared_input.schema)
        row = sandbox.maker.row(operation, declared_input.address)
        free = row is not None and row.type == "string" and not row.allowed
        if free and not declared_input.examples:
            values.setdefault(
                declared_input.address, []
            )  # a made-up text tells nothing but whether the service stands it
            continue
        try:
            sample = declared_input.examples[0] if declared_input.examples else schema.sample()
            found = [sample, *(bound.value for bound in schema.boundaries(sample))]
        except (JuxtalogosError, ValueError):
            continue
        cursor = declared_input.name.lower() in ("after", "before", "cursor", "offset", "skip", "page")
        kept: list[Any] = []
        for value in found:
            if value not in kept and value not in ("", [], {}, None) and not cursor:
                kept.append(value)
        values[declared_input.address] = kept[:8]
        for value in kept[:8]:
            yield Covering(
                with_values(base, {declared_input.address: value}), declared_input.address, told(value)
            )
    pairs = itertools.islice(
        itertools.combinations([member for member in values if values[member]], 2), MOST_PAIRS
    )
    for turn, (one_address, other) in enumerate(pairs):
        chosen = {name: values[name][turn % len(values[name])] for name in (one_address, other)}
        yield Covering(with_values(base, chosen), f"{one_address}, {other}", "together")


async def called(sandbox: Sandbox, operation: Operation, kind: ResourceKind | None) -> None:
    """Once, with what is required; once with everything: where nothing else has called it with success."""
    if sandbox.prober.only_reading and not operation.safe:
        return
    for full in (False, True):
        try:
            if kind is not None and kind.key_of(operation) is not None and not operation.safe:
                thing = await in_state(sandbox, operation, kind)
                inputs, _ = await sandbox.fill(operation, thing.context, full=full)
                seen = await sandbox.call(operation, inputs)
                thing.gone |= seen.ok and operation is kind.deleter
            elif sandbox.kind_made_by(operation) is not None:
                await sandbox.make_by(operation, {}, full=full)
            else:
                inputs, _ = await sandbox.fill(operation, sandbox.shared, full=full)
                await sandbox.call(operation, inputs)
        except Unfillable as error:
            sandbox.notes.setdefault(operation.id, str(error))


async def covering_values(sandbox: Sandbox, operation: Operation, kind: ResourceKind | None) -> None:
    """Every valid value is taken where another is; what is made of it reads as it was sent."""
    base = sandbox.worked.get(operation.id)
    if base is None or (sandbox.prober.only_reading and not operation.safe):
        return
    for seed in (0, 1) if operation.body is not None else (0,):
        await _covered(sandbox, operation, kind, seed)
    await _made_up(sandbox, operation)


async def _made_up(sandbox: Sandbox, operation: Operation) -> None:
    """Texts that mean nothing where any text may stand: whatever is answered, the service stands it."""
    named = {need.input for need in sandbox.maker.needs.get(operation.id, ())}
    for declared_input in operation.inputs:
        row = sandbox.maker.row(operation, declared_input.address)
        if (
            declared_input.place != "query"
            or declared_input.address in named
            or declared_input.alone
            or row is None
            or row.type != "string"
            or row.allowed
        ):
            continue
        if sandbox.maker.hints.leaves_out(operation.id, declared_input.address) or not operation.safe:
            continue
        for text in ("no-such-thing", "'\"%;"):
            inputs, _ = await sandbox.refer(operation, sandbox.maker.own(operation), sandbox.shared)
            await sandbox.call(
                operation, with_values(inputs, {declared_input.address: text}), Purpose.CONFLICT
            )


async def _covered(sandbox: Sandbox, operation: Operation, kind: ResourceKind | None, seed: int) -> None:
    try:
        model = sandbox.maker.own(operation, full=True, seed=seed)
    except Unsampleable:
        return
    refused: list[tuple[Covering, Trial]] = []
    taken = 0
    for one in [Covering(model, "all", "everything"), *coverings(sandbox, operation, model)]:
        try:
            seen = await _try(sandbox, operation, kind, one)
        except Unfillable as error:
            sandbox.notes.setdefault(operation.id, str(error))
            return
        if seen is None:
            return
        if seen.ok:
            taken += 1
        elif (
            seen.refused
            and seen.outcome in (Outcome.INVALID, Outcome.ABSENT)
            and not (seen.fault and seen.fault != "undeclared")
        ):
            refused.append((one, seen))
        if not taken and len(refused) >= 4:
            return
    if taken > 2 * len(refused):
        for one, seen in refused:
            sandbox.claim(
                seen,
                "law.valid-taken",
                one.at,
                f"a success for {one.what}, as for other valid values",
                seen.code,
            )


async def _try(
    sandbox: Sandbox, operation: Operation, kind: ResourceKind | None, one: Covering
) -> Trial | None:
    """One valid request; on a fresh thing where it changes one."""
    names = fresh_names(sandbox, operation, one)
    if operation.safe:
        inputs, _ = await sandbox.refer(operation, names, sandbox.shared)
        return await sandbox.call(operation, inputs, step=f"{operation.id} {one.at}")
    maker_kind = sandbox.kind_made_by(operation)
    if maker_kind is not None and not (kind is not None and kind.key_of(operation)):
        inputs, known = await sandbox.refer(operation, names, sandbox.shared)
        seen = await sandbox.call(operation, inputs)
        if seen.ok:
            thing = await sandbox.keep(operation, seen, known)
            if arrives_as_sent(sandbox, operation, inputs):
                await _echo(sandbox, seen, thing)
            if await sandbox.remove(thing) and thing in sandbox.things:
                sandbox.things.remove(thing)
        return seen
    if kind is None or kind.key_of(operation) is None:
        inputs, _ = await sandbox.refer(operation, names, sandbox.shared)
        return await sandbox.call(operation, inputs)
    thing = await in_state(sandbox, operation, kind)
    inputs, _ = await sandbox.refer(operation, names, thing.context)
    seen = await sandbox.call(operation, inputs)
    thing.gone = seen.ok and operation is kind.deleter
    if seen.ok and not thing.gone and arrives_as_sent(sandbox, operation, inputs):
        await _kept(sandbox, seen, thing)
    if await sandbox.remove(thing) and thing in sandbox.things:
        sandbox.things.remove(thing)
    return seen


def fresh_names(sandbox: Sandbox, operation: Operation, one: Covering) -> Inputs:
    """With names of its own, but where the name is what is covered."""
    own = sandbox.maker.own(operation, full=True)
    fresh: dict[str, Any] = {}
    filled = sandbox.maker.values.of(operation, full=True)
    for address, _ in filled.formulas:
        if address == one.at or not address.startswith("body/"):
            continue
        name = address[5:].split("/")[0]
        if (
            isinstance(own.body, dict)
            and isinstance(one.inputs.body, dict)
            and name in own.body
            and name in one.inputs.body
            and address.count("/") == 1
        ):
            fresh[address] = own.body[name]
    return with_values(one.inputs, fresh)


def arrives_as_sent(sandbox: Sandbox, operation: Operation, inputs: Inputs) -> bool:
    """Whether the body is read back as it was meant: only then can it be asked for again."""
    wire, base = wire_of(sandbox.maker.contract), sandbox.prober.session.base_url(sandbox.maker.contract)
    try:
        back = wire.inputs_of(operation, wire.encode(operation, inputs, base), base)
    except (JuxtalogosError, ValueError, LookupError, TypeError):
        return False
    return bool(back.body == inputs.body)


async def _echo(sandbox: Sandbox, seen: Trial, thing: Instance) -> None:
    if thing.kind.reads or thing.kind.lists:
        sent = sent_members(sandbox, seen)
        answered = item_in(seen.value, sent, None)
        if answered is not None:
            for path, one, other in differing(sent, answered):
                sandbox.claim(seen, "law.created-told", f"body{path}", told(one), told(other))
    shown = await sandbox.read(thing)
    if shown is not None and shown.ok:
        sent = sent_members(sandbox, seen)
        item = item_in(shown.value, sent, sandbox.key(thing))
        for path, one, other in differing(sent, item or {}):
            sandbox.claim(shown, "law.created-kept", f"body{path}", told(one), told(other))


async def _kept(sandbox: Sandbox, seen: Trial, thing: Instance) -> None:
    found = await sandbox.item(thing)
    if found is None:
        return
    keys = {need.input.removeprefix("body/") for need in sandbox.maker.needs.get(seen.operation.id, ())}
    sent = {name: value for name, value in sent_members(sandbox, seen).items() if name not in keys}
    for path, one, other in differing(sent, found[1]):
        sandbox.claim(
            found[0],
            "law.changed-kept",
            f"body{path}",
            f"{told(one)}, as {seen.operation.id} was sent it",
            told(other),
        )
