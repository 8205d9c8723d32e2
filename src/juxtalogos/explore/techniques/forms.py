"""Malformed messages, wrong media types, undeclared methods; and what nobody may do without the right
credential.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace

from juxtalogos.compose.listing import items_in
from juxtalogos.exchange.sign_in import Signer
from juxtalogos.exchange.signing import Credential
from juxtalogos.explore.prober.comparing import changes
from juxtalogos.explore.prober.prober import Purpose, Trial
from juxtalogos.explore.prober.requests import Unfillable
from juxtalogos.explore.resources.kinds import ResourceKind
from juxtalogos.explore.resources.sandbox import Instance, Sandbox
from juxtalogos.explore.techniques.broken import in_state
from juxtalogos.model.contract import Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.outcome import Wrong
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs, Variant
from juxtalogos.run.target.session import Session


async def syntax(sandbox: Sandbox, operation: Operation, kind: ResourceKind | None) -> None:
    """Bodies that are no JSON or XML, cut off, empty, or of another media type."""
    if (
        operation.body is None
        or operation.id not in sandbox.worked
        or (sandbox.prober.only_reading and not operation.safe)
    ):
        return
    try:
        _, inputs = await _about(sandbox, operation, kind)
    except Unfillable:
        return
    if inputs.body is not ABSENT:
        await _vary(
            sandbox, operation, kind, inputs, (variant for variant in _variants(sandbox, operation, inputs))
        )


def _variants(sandbox: Sandbox, operation: Operation, inputs: Inputs) -> Iterator[Variant]:
    """The ways in which a message can be wrong for the protocol, but for the method."""
    for variant in sandbox.wire.variants(operation, inputs):
        if variant.wrong is not Wrong.METHOD:
            yield variant


async def _vary(
    sandbox: Sandbox,
    operation: Operation,
    kind: ResourceKind | None,
    inputs: Inputs,
    variants: Iterable[Variant],
) -> None:
    place = operation.body.location if operation.body is not None else operation.location
    for variant in variants:
        broken = variant.at, variant.rule, place
        seen = await sandbox.call(operation, inputs, Purpose.BROKEN, change=variant.change, broken=broken)
        sandbox.note(variant.wrong or "protocol", seen)
        if seen.ok and not operation.safe:
            await _undo(sandbox, operation, seen)
            _, inputs = await _about(sandbox, operation, kind)


async def _about(
    sandbox: Sandbox, operation: Operation, kind: ResourceKind | None
) -> tuple[Instance | None, Inputs]:
    if kind is not None and kind.key_of(operation) is not None:
        thing = await in_state(sandbox, operation, kind)
        return thing, (await sandbox.fill(operation, thing.context, full=True))[0]
    return None, (await sandbox.fill(operation, sandbox.shared, full=True))[0]


async def _undo(sandbox: Sandbox, operation: Operation, seen: Trial, session: Session | None = None) -> None:
    """What was made is noted, to be taken away; at once as whoever made it, for it may be theirs alone."""
    kind = sandbox.kind_made_by(operation)
    if kind is None:
        return
    thing = await sandbox.keep(operation, seen, dict(sandbox.shared))
    if session is not None and kind.deleter is not None:
        gone = await sandbox.ask(kind.deleter, thing.context, Purpose.CLEANUP, session=session)
        thing.gone = gone.ok


async def methods(sandbox: Sandbox, operation: Operation, kind: ResourceKind | None) -> None:
    """A method that is declared for no operation of the address is not answered with success."""
    if sandbox.prober.only_reading:
        return
    variants = sandbox.wire.variants(operation, Inputs({}))
    variant = next((one for one in variants if one.wrong is Wrong.METHOD), None)
    if variant is None:
        return
    try:
        _, inputs = await _about(sandbox, operation, kind)
    except Unfillable:
        return
    seen = await sandbox.call(
        operation,
        Inputs(inputs.values),
        Purpose.BROKEN,
        change=variant.change,
        broken=(variant.at, variant.rule, operation.location),
        step=f"{operation.id} by another {variant.at}",
    )
    sandbox.note(Wrong.METHOD, seen)


async def sign_in(sandbox: Sandbox, operation: Operation, kind: ResourceKind | None) -> None:
    """Without a credential, with a wrong one, and with every role: refused, and nothing done; or answered as
    declared.
    """
    if not operation.security or () in operation.security or operation.not_callable:
        return
    if sandbox.prober.only_reading and not operation.safe:
        return
    session = sandbox.prober.session
    if not session.signer.credentials and not session.signer.headers:
        return
    for word, other in (("no credential", _bare(session)), ("a wrong credential", _wrong(session))):
        await _strange(sandbox, operation, kind, word, other)
    await _roles(sandbox, operation, kind)


def _bare(session: Session) -> Session:
    return replace(session, signer=_signer(session, {}, ()), signing=False)


def _wrong(session: Session) -> Session:
    wrong = {
        name: Credential("juxtalogos-wrong-credential", one.user, one.header)
        for name, one in session.signer.credentials.items()
    }
    headers = tuple((name, "juxtalogos-wrong-credential") for name, _ in session.signer.headers)
    return replace(session, signer=_signer(session, wrong, headers))


def _signer(
    session: Session, credentials: dict[str, Credential], headers: tuple[tuple[str, str], ...]
) -> Signer:
    return Signer(
        credentials, session.signer.origins, lambda text, passing: None, session.signer.base_of, headers
    )


async def _strange(
    sandbox: Sandbox, operation: Operation, kind: ResourceKind | None, word: str, session: Session
) -> None:
    """Whoever is not let in is told so, and does nothing."""
    try:
        thing, inputs = await _about(sandbox, operation, kind)
        before = await sandbox.item(thing) if thing is not None and not operation.safe else None
        seen = await sandbox.call(
            operation, inputs, Purpose.UNSIGNED, session=session, step=f"{operation.id} with {word}"
        )
    except (Unfillable, JuxtalogosError):
        return
    sandbox.note(Wrong.UNSIGNED, seen)
    if seen.ok:
        right = await sandbox.call(operation, inputs, Purpose.CONFLICT) if operation.safe else None
        if right is None or (right.ok and _alike(right, seen) and items_in(seen.value) != []):
            sandbox.claim(
                seen, "law.sign-in-asked", "status", f"a refusal of who asks, with {word}", seen.code
            )
        await _undo(sandbox, operation, seen, session)
        if thing is not None and kind is not None and operation is kind.deleter:
            thing.gone = True
    elif before is not None and thing is not None:
        after = await sandbox.item(thing)
        moved = (changes(before[1], after[1]) if after else {"/"}) - sandbox.volatile.get(
            thing.kind.name, set()
        )
        if moved:
            sandbox.claim(
                seen,
                "law.sign-in-asked",
                f"body{sorted(moved)[0]}",
                f"that nothing is done with {word}",
                "it changed",
            )


def _alike(one: Trial, other: Trial) -> bool:
    first, second = one.exchange, other.exchange
    return (
        first is not None
        and second is not None
        and first.response is not None
        and second.response is not None
        and first.response.body == second.response.body
    )


async def _roles(sandbox: Sandbox, operation: Operation, kind: ResourceKind | None) -> None:
    """Each role of the target: what came is kept, to be compared over all operations."""
    for role, session in sandbox.roles.items():
        try:
            thing, inputs = await _about(sandbox, operation, kind)
            seen = await sandbox.call(
                operation, inputs, Purpose.UNSIGNED, session=session, step=f"{operation.id} as {role}"
            )
        except (Unfillable, JuxtalogosError):
            continue
        sandbox.note(f"role {role}", seen)
        if seen.ok:
            await _undo(sandbox, operation, seen, session)
            if thing is not None and kind is not None and operation is kind.deleter:
                thing.gone = True
