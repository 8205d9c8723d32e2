"""What was there before a run, what the run made, and the records of what is to be undone."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator, Sequence
from contextvars import ContextVar
from dataclasses import dataclass, field, replace
from typing import Any

from juxtalogos.formats import wire_of
from juxtalogos.ledger import UndoRecord
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.run.gate.keys import ItemName, key_of_item, named_by
from juxtalogos.run.gate.places import Aim, Key, Site, Sites, is_key_name, lies_below, normal, texts, unfit
from juxtalogos.run.gate.reading import ListedItems, Reader
from juxtalogos.run.gate.removal import removal
from juxtalogos.run.gate.settings import KeptSetting
from juxtalogos.run.undo.created import KEY, LEAST_MARK, AskedFor, PutUndo, undo_of

CASE: ContextVar[tuple[str, str]] = ContextVar("CASE", default=("", ""))
"""The suite and the case under way: what is kept of a request says which one sent it."""
MOST_MARKS = 2_000


@dataclass(slots=True, eq=False)
class Made:
    """An item that this run made."""

    contract: Contract
    creator: Operation
    aim: Aim
    marks: tuple[str, ...] = ()
    """Texts of this run alone that it was made with."""
    carried: tuple[str, ...] = ()
    """Of them and of those of later changes; none where the service did not show one when it was made."""
    theirs: bool = False
    """Whether a person wrote the request that made it: then only that person's case removes it."""
    undo: UndoRecord | None = None
    gone: bool = False
    tries: int = 0
    """How often its deletion was tried."""
    left: str = ""
    """Why it could not be removed."""


@dataclass(slots=True)
class Blind:
    """Creations of which it is not known what they made."""

    operation: Operation
    marks: list[str]
    succeeded: bool = False
    """Whether one of them was answered with a success, so that there is something."""


@dataclass(slots=True)
class ListRead:
    """How a list is asked for, and what it showed before anything was created there."""

    contract: Contract
    listing: Operation
    asked: Inputs
    shown: ListedItems | None
    """None where it could not be read."""
    late: bool = False
    """Whether the run had made something elsewhere by then, with which an item here may have come."""


@dataclass(slots=True)
class Admission:
    """A request that passed the gate, until its response is known."""

    operation: Operation
    inputs: Inputs
    aim: Aim
    creates: bool = False
    watch: bool = False
    marks: tuple[str, ...] = ()
    """Texts of this run alone that it sends."""
    known: ListRead | None = None
    """The list that would show what it makes."""
    single: KeptSetting | None = None
    intent: UndoRecord | None = None
    made: Made | None = None
    """What this run made, where the request names it by another address."""


@dataclass(slots=True)
class Inventory:
    """Of one run, or of all rounds of learning."""

    target: str = ""
    marks: list[str] = field(default_factory=list)
    """Texts that only this run sends, the latest last."""
    put_undo: PutUndo | None = None
    """Keeps what is to be undone, before it is asked for."""
    before: dict[tuple[Site, str], ListRead] = field(default_factory=dict)
    """By place, and by what its list was asked with."""
    made: dict[Site, dict[Key, Made]] = field(default_factory=dict)
    """By every name that the service has for it."""
    removed: list[Made] = field(default_factory=list)
    """What was made and removed again."""
    blind: dict[Site, Blind] = field(default_factory=dict)
    """Where something may have been made of which nothing is known."""
    members: dict[str, str] = field(default_factory=dict)
    """By operation that creates, the member of its response that names the item, where a suite says so."""
    locks: dict[Site, asyncio.Lock] = field(default_factory=dict)
    carried: dict[tuple[tuple[str, str], str], tuple[str, ...]] = field(default_factory=dict)
    """By case and operation that creates: the texts of this run that the response showed."""

    # Before

    async def look(
        self, reader: Reader, operation: Operation, inputs: Inputs, aim: Aim, listing: Operation | None = None
    ) -> ListRead | None:
        """What the list of a place showed before this run created anything there, read once; None where
        nothing lists it.
        """
        listing = listing or reader.places.listing(operation, inputs)
        asked = reader.list_inputs(listing, inputs) if listing is not None else None
        if listing is None or asked is None:
            return None
        key = aim.place, str((sorted(asked.values.items(), key=str), asked.body))
        async with self.locks.setdefault(aim.place, asyncio.Lock()):
            if key not in self.before:
                # Below an item of this run there was nothing before.
                ours = bool(aim.place.parents) and self.below_ours(Aim(aim.place, (), (), aim.above))
                shown = ListedItems(()) if ours else await reader.all_of(listing, asked)
                late = bool(self.removed) or any(self.made.values())
                self.before[key] = ListRead(reader.places.contract, listing, asked, shown, late)
            return self.before[key]

    def lists_of(self, place: Site) -> Iterator[ListRead]:
        """The lists of a place that were read before."""
        return (known for (site, _), known in list(self.before.items()) if site == place)

    def was_before(self, contract: Contract, operation: Operation, key: Any) -> bool:
        """Whether a list showed an item before anything was created there."""
        resource = normal(operation.resource or operation.noun)
        return any(
            known.shown is not None and known.shown.has(Aim(place, (str(key),)), operation.noun)
            for (place, _), known in self.before.items()
            if place.contract == contract.name and place.resource == resource
        )

    # Ours

    def is_made(self, place: Site, key: Key) -> bool:
        """Whether this run made an item, and has not removed it."""
        return bool(key) and key in self.made.get(place, {})

    def below_ours(self, aim: Aim) -> bool:
        """Whether a request works on an item of this run, or below one."""
        return any(self.is_made(place, key) for place, key in (*aim.above, (aim.place, aim.key)))

    def is_ours(self, operation: Operation, key: Any) -> bool:
        """Whether an item that a creation named is one of this run."""
        return any(
            made.creator.full_id == operation.full_id and str(key) in names
            for items in self.made.values()
            for names, made in items.items()
        )

    async def known_elsewhere(self, reader: Reader, operation: Operation, aim: Aim) -> Made | None:
        """The item of this run that a request names by another address than it was made at: reading it there
        shows its key, and a text of this run.
        """
        read = reader.places.reader(operation)
        values = reader.places.addressed(read, aim) if read is not None and self.made else {}
        came = await reader.call(read, values) if read is not None and values else None
        if read is None or came is None:
            return None
        if not reader.outcome(read, came[0]).succeeded or not isinstance(came[1], dict):
            return None
        shown = texts(came[1])
        for place, items in self.made.items():
            for key, made in items.items() if place.contract == aim.place.contract else ():
                if made.theirs:
                    continue
                # Another kind of item may refer to this one, by a name such as quay_id and by its key alone.
                own = made.creator.noun if operation.noun == made.creator.noun else ""
                names = (name for name, text in shown.items() if (text,) == key)
                told = any(is_key_name(name, own, made.aim.names) for name in names)
                if told and _shown(came[0], [mark for mark in made.marks if (mark,) != key]):
                    return made
        return None

    def marks_in(self, inputs: Inputs) -> tuple[str, ...]:
        """Texts of this run alone that a request sends."""
        sent = str((dict(inputs.values), inputs.body))
        return tuple(mark for mark in self.marks[-MOST_MARKS:] if len(mark) >= LEAST_MARK and mark in sent)

    async def created(self, reader: Reader, admission: Admission, exchange: Exchange) -> None:
        """Notes what a successful request made, as far as it is proven to be new."""
        operation, places, known = admission.operation, reader.places, admission.known
        before = known.shown if known is not None else None
        named = named_by(
            places,
            operation,
            admission.inputs,
            exchange,
            reader.value(operation, exchange),
            admission.marks,
            reader.session.base_url(places.contract),
            self.members.get(operation.full_id, ""),
        )
        found: list[ItemName] = []
        if before is None:
            if await self._proven(reader, admission, named, exchange):
                found = named
        elif any(one.sure and before.has(one.aim, operation.noun) for one in named):
            # The response names what was there before; with a text of this run in it, that is not clear.
            if _shown(exchange, admission.marks):
                self.note_blind(admission)
                self.blind[admission.aim.place].succeeded = True
            return
        else:
            found = [one for one in named if not before.has(one.aim, operation.noun)]
            found = found or await self.listed_anew(reader, operation, admission.aim.place, admission.marks)
        if not found:
            self.note_blind(admission)
            self.blind[admission.aim.place].succeeded = True
            return
        if self.is_made(found[0].aim.place, found[0].aim.key):
            return  # the service answered with what another case of this run has made
        carried = () if admission.watch else _shown(exchange, admission.marks)
        made = Made(places.contract, operation, found[0].aim, admission.marks, carried, admission.watch)
        self.carried[CASE.get(), operation.full_id] = carried
        for one in found:
            self.made.setdefault(one.aim.place, {}).setdefault(one.aim.key, made)
        if not admission.watch:
            made.undo = await self._record(places, made.aim, operation, None, carried)

    async def acted(self, reader: Reader, admission: Admission, exchange: Exchange) -> None:
        """Notes the key that an action gave an item of this run, or its twin (a draft that becomes active):
        the response names it, a part of the composite key is the item's own, no list showed it before, and
        it carries a text of the item.
        """
        operation, aim = admission.operation, admission.aim
        acted_on = self.made[aim.place][aim.key]
        value = reader.value(operation, exchange)
        names = reader.places.key_names(operation)
        if not isinstance(value, dict) or acted_on.theirs or not _shown(exchange, acted_on.marks):
            return
        key = key_of_item(reader.places, operation, texts(value))
        other = Aim(aim.place, key, names, aim.above)
        before = [known.shown for known in self.lists_of(aim.place)]
        shared = any(one == own for one, own in zip(key, aim.key)) and len(key) > 1
        if not shared or unfit(key) or self.is_made(aim.place, key) or not before:
            return
        if any(shown is None or shown.has(other, operation.noun) for shown in before):
            return
        marks, carried = acted_on.marks, _shown(exchange, acted_on.marks)
        made = Made(acted_on.contract, acted_on.creator, other, marks, carried)
        self.made[aim.place][key] = made
        made.undo = await self._record(reader.places, other, acted_on.creator, None, carried)

    async def will_change(self, places: Sites, made: Made, sent: Sequence[str]) -> None:
        """An item of this run is about to be changed by it: it may carry other texts from now on."""
        if made.undo is None or not made.carried or (set(sent) <= set(made.carried) and sent):
            return
        earlier = made.undo
        made.carried = (*made.carried, *sent) if sent else ()
        made.undo = await self._record(places, made.aim, made.creator, None, made.carried)
        await self.put(replace(earlier, done=True))

    @staticmethod
    async def _proven(
        reader: Reader, admission: Admission, named: list[ItemName], exchange: Exchange
    ) -> bool:
        """Whether the item is new, though no list shows what was there before: its name was chosen and free,
        or the response says that it is new and reading it back shows a text of this run.
        """
        if not named:
            return False
        if named[0].chosen:
            return True
        read = reader.places.reader(admission.operation)
        values = reader.places.addressed(read, named[0].aim) if read is not None else {}
        if wire_of(reader.places.contract).created(exchange) is False or read is None or not values:
            return False
        came = await reader.call(read, values)
        if came is None or not reader.outcome(read, came[0]).succeeded:
            return False
        return bool(_shown(came[0], admission.marks))

    async def listed_anew(
        self, reader: Reader, operation: Operation, place: Site, marks: Sequence[str]
    ) -> list[ItemName]:
        """Items that a list shows now, did not show before, and that carry a text of this run."""
        found = []
        names = reader.places.key_names(operation)
        member = self.members.get(operation.full_id, "")
        for known in self.lists_of(place) if marks else ():
            if known.shown is None:
                continue
            now = await reader.all_of(known.listing, known.asked)
            for item in now.items if now is not None else ():
                marked = any(mark in text for text in item.values() for mark in marks)
                if not marked or item in known.shown.items:
                    continue
                aim = Aim(place, key_of_item(reader.places, operation, item, member), names)
                if aim.key and not unfit(aim.key) and not known.shown.has(aim, operation.noun):
                    found.append(ItemName(aim))
        return found

    def note_blind(self, one: Admission | Made) -> None:
        """Something may have been made, and nothing says what it is called."""
        operation = one.operation if isinstance(one, Admission) else one.creator
        known = self.blind.setdefault(one.aim.place, Blind(operation, []))
        known.marks += one.marks

    async def forget(self, made: Made | None) -> None:
        """An item was removed: nothing below it is left either."""
        if made is None or made.gone:
            return
        made.gone, made.left = True, ""
        self.removed.append(made)
        if made.undo is not None:
            await self.put(replace(made.undo, done=True))
        items = self.made[made.aim.place]
        keys = [key for key, one in items.items() if one is made]
        for key in keys:
            del items[key]
        for place, below in self.made.items():
            if any(lies_below(place, made.aim.place, key) for key in keys):
                for one in list(below.values()):
                    await self.forget(one)

    # Records of what is to be undone

    async def put(self, record: UndoRecord) -> UndoRecord:
        """Keeps a record; gives it as it was kept."""
        return record if self.put_undo is None else await self.put_undo(record)

    async def intend(self, places: Sites, admission: Admission) -> UndoRecord | None:
        """Keeps what would undo a creation, before it is asked for."""
        aim, known = admission.aim, admission.known
        asked = AskedFor(
            known.listing.id if known else "",
            _given(known.asked) if known else {},
            admission.marks,
            self.members.get(admission.operation.full_id, ""),
        )
        unknown = (KEY,) * max(1, len(places.key_names(admission.operation)))
        return await self._record(places, replace(aim, key=aim.key or unknown), admission.operation, asked)

    async def intend_write(self, contract: Contract, operation: Operation, single: KeptSetting) -> None:
        """Keeps what writes back a thing that exists once, before it is changed."""
        if single.undo is None:
            record = undo_of(
                *CASE.get(), operation.id, contract.name, single.writer.id, single.inputs, self.target
            )
            single.undo = await self.put(record)

    async def _record(
        self,
        places: Sites,
        aim: Aim,
        creator: Operation,
        asked: AskedFor | None,
        carried: Sequence[str] = (),
    ) -> UndoRecord | None:
        deleter = places.deleter(creator)
        inputs = removal(places, deleter, aim) if deleter is not None else None
        if deleter is None or inputs is None:
            return None
        about = (*CASE.get(), creator.id, places.contract.name, deleter.id)
        return await self.put(undo_of(*about, inputs, self.target, asked, carried))


def _shown(exchange: Exchange, marks: Sequence[str]) -> tuple[str, ...]:
    """The texts that a response shows."""
    text = exchange.response.body.decode("utf-8", "replace") if exchange.response else ""
    return tuple(mark for mark in marks if mark in text)


def _given(asked: Inputs) -> dict[str, Any]:
    """Inputs by address, the body among them."""
    kept = asked.body is not ABSENT and not isinstance(asked.body, bytes)
    return {**asked.values, **({"body": asked.body} if kept else {})}
