"""At the end of a round or run: what is still there of what it made is removed, and whether it is gone is
looked at.
"""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from dataclasses import replace

from juxtalogos.exchange.transport import Sender
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Intent, Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.wire import Inputs
from juxtalogos.run.gate.gate import Gate
from juxtalogos.run.gate.inventory import Made
from juxtalogos.run.gate.keys import key_of_item
from juxtalogos.run.gate.places import Aim, Site, reads
from juxtalogos.run.gate.reading import Reader
from juxtalogos.run.gate.removal import removal
from juxtalogos.run.judging.refusals import words_of
from juxtalogos.run.target.session import Session
from juxtalogos.run.undo.created import STILL_THERE

PASSES = 4
"""Over what is left, at most."""
MOST_CHILDREN = 100
MOST_ENDINGS = 3
"""Operations that are tried to bring an item into a state in which it may be removed."""
PAUSE = 0.2
"""Seconds before another pass, more each time: a store may be locked."""
_LATER = (Outcome.CONFLICT, Outcome.BUSY, Outcome.THROTTLED, Outcome.FAILED, Outcome.STALE)


async def sweep(gate: Gate, session: Session, sender: Sender) -> None:
    """Removes what the run made, the deepest and newest first, one request at a time."""
    gate.tally.silent = 0
    await gate.feel_once(session, sender)
    await _adopt(gate, session, sender)
    await _remove_all(gate, session, sender)
    if await _adopt(gate, session, sender):
        await _remove_all(gate, session, sender)


async def _adopt(gate: Gate, session: Session, sender: Sender) -> bool:
    """Where it is not known what was made: items that are new in the list and carry a text of this run are
    its own. Whether there are any.
    """
    found, inventory = False, gate.inventory
    for place, blind in list(inventory.blind.items()):
        contract = session.contracts.get(place.contract)
        if contract is None or not blind.marks:
            continue
        reader = gate.reader(session, sender, contract)
        for one in await inventory.listed_anew(reader, blind.operation, place, blind.marks):
            if not inventory.is_made(place, one.aim.key):
                inventory.made.setdefault(place, {})[one.aim.key] = Made(contract, blind.operation, one.aim)
                found, blind.succeeded = True, False
        blind.marks.clear()
    return found


async def _remove_all(gate: Gate, session: Session, sender: Sender) -> None:
    for turn in range(PASSES):
        waiting = list(_waiting(gate))
        if not waiting:
            return
        if turn:
            await asyncio.sleep(PAUSE * turn)
        before = len(waiting)
        for made in waiting:
            if gate.tally.gone:
                made.left = made.left or "the service did not respond"
                continue
            made.tries += 1
            await _remove(gate, gate.reader(session, sender, made.contract), made, hard=bool(turn))
        if len(list(_waiting(gate))) == before and turn:
            return


def _waiting(gate: Gate) -> Iterator[Made]:
    """What is still to be removed, in the order in which that may work."""
    found = dict.fromkeys(
        made
        for _, items in sorted(gate.inventory.made.items(), key=lambda entry: -len(entry[0].parents))
        for made in reversed(items.values())
    )
    return (
        made
        for made in found
        if not made.gone
        and not made.theirs
        and made.tries < PASSES
        and made.creator.full_id not in gate.keeps
    )


async def _remove(gate: Gate, reader: Reader, made: Made, *, hard: bool) -> None:
    """Tries to remove an item; `left` says why it is still there. `hard`: what lies below it goes first, and
    what ends it is called.
    """
    deleter = reader.places.deleter(made.creator)
    if deleter is None:
        made.left = "no operation removes it"
        return
    outcome = await _delete(reader, made, deleter)
    if outcome in _LATER and hard:
        await _clear_below(reader, made.aim)
        outcome = await _delete(reader, made, deleter)
        for ending in _endings(reader, made) if outcome in _LATER else ():
            await _send(reader, ending, made.aim)
            outcome = await _delete(reader, made, deleter)
            if outcome not in _LATER:
                break
    if outcome is Outcome.ABSENT or (outcome is not None and outcome.succeeded):
        if await still_there(gate, reader, made):
            made.left = STILL_THERE
        else:
            if outcome is Outcome.ABSENT:
                gate.inventory.note_blind(made)  # perhaps the service calls it something else
            await gate.inventory.forget(made)


async def still_there(gate: Gate, reader: Reader, made: Made) -> bool:
    """Whether an item is shown, by itself or in its list."""
    state = await reader.state_of(made.creator, made.aim)
    if state is not None:
        return state.succeeded
    for known in gate.inventory.lists_of(made.aim.place):
        shown = await reader.all_of(known.listing, known.asked)
        if shown is not None and shown.has(made.aim, made.creator.noun):
            return True
    return False


async def _delete(reader: Reader, made: Made, deleter: Operation) -> Outcome | None:
    inputs = removal(reader.places, deleter, made.aim)
    if inputs is None:
        made.left = "its deletion cannot be made from what is known of it"
        return None
    inputs = await _with_version(reader, made, deleter, inputs)
    outcome, told = await _sent(reader, deleter, inputs)
    made.left = told
    return outcome


async def _with_version(reader: Reader, made: Made, deleter: Operation, inputs: Inputs) -> Inputs:
    """With the version that is read now, where a deletion must name one."""
    if not any(one.required and one.is_version for one in deleter.inputs):
        return inputs
    read, wire = reader.places.reader(made.creator), wire_of(reader.places.contract)
    came = await reader.call(read, reader.places.addressed(read, made.aim)) if read is not None else None
    version = wire.version_of(came[0]) if came is not None else None
    if version is None:
        return inputs
    return replace(inputs, values={**inputs.values, **wire.precondition(deleter, version)})


async def _sent(reader: Reader, operation: Operation, inputs: Inputs) -> tuple[Outcome, str]:
    """(what the response means, what it says)."""
    contract, session = reader.places.contract, reader.session
    try:
        request = session.encoded(contract, operation, inputs)
        reader.tally.requests += 1
        exchange = await session.transmit(contract, operation, request, reader.sender)
    except (JuxtalogosError, ValueError) as error:
        return Outcome.NO_RESPONSE, str(error).split("\n")[0]
    reader.tally.silent = 0 if exchange.response is not None else reader.tally.silent + 1
    if exchange.response is None:
        return Outcome.NO_RESPONSE, exchange.error
    words = session.redactor.cut_text(words_of(exchange))
    return reader.outcome(operation, exchange), f"{exchange.response.status}: {words}".rstrip(": ")


async def _send(reader: Reader, operation: Operation, aim: Aim) -> None:
    inputs = removal(reader.places, operation, aim)
    if inputs is not None:
        await _sent(reader, operation, inputs)


def _endings(reader: Reader, made: Made) -> list[Operation]:
    """Operations on the item that may end it: no more than it itself is changed by them."""
    resource = reader.places.resource(made.creator)
    key = f"{resource.key}/{{}}/" if resource else ""
    found = [
        one
        for one in reader.places.contract.operations
        if one.intent is Intent.ACT
        and not reads(one)
        and not one.danger.withheld
        and (
            (resource is not None and one in resource.operations and one.id in resource.items)
            or (key and one.resource.startswith(key))
        )
    ]
    return found[:MOST_ENDINGS]


async def _clear_below(reader: Reader, aim: Aim) -> None:
    """Removes what lies below an item of this run, however it came there."""
    for resource, parents in reader.places.below(aim.place, aim.key):
        deleter = reader.places.resources.deleter(resource)
        listing = next((one for one in resource.of(Intent.LIST) if reads(one)), None)
        if deleter is None or listing is None:
            continue
        place = Site(aim.place.contract, aim.place.resource, parents)
        above = reader.places.addressed(listing, Aim(place, ()))
        asked = reader.list_inputs(listing, Inputs(above))
        shown = await reader.all_of(listing, asked) if asked is not None else None
        for item in shown.items[:MOST_CHILDREN] if shown is not None else ():
            key = key_of_item(reader.places, listing, item)
            if key:
                await _send(reader, deleter, Aim(place, key))
