"""What is different at the service from before, as far as somebody looked."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from juxtalogos.exchange.transport import Sender
from juxtalogos.run.gate.gate import Gate
from juxtalogos.run.gate.inventory import ListRead, Made
from juxtalogos.run.gate.keys import key_of_item
from juxtalogos.run.gate.places import Aim, Site, Sites, lies_below
from juxtalogos.run.gate.reading import ListedItems
from juxtalogos.run.gate.settings import KeptSetting
from juxtalogos.run.gate.state import Change, ServiceState
from juxtalogos.run.target.session import Session
from juxtalogos.run.undo.created import STILL_THERE
from juxtalogos.suite.comparing import moment_of

MOST_LOOKED_AT = 200
"""Items that are read one by one, where no list shows them."""


@dataclass(slots=True)
class _Look:
    gate: Gate
    session: Session
    sender: Sender
    looked: int = 0
    changes: list[Change] = field(default_factory=list)
    unread: list[str] = field(default_factory=list)

    async def list(self, place: Site, known: ListRead) -> None:
        reader = self.gate.reader(self.session, self.sender, known.contract)
        now = await reader.all_of(known.listing, known.asked) if not self.gate.tally.gone else None
        if known.shown is None or now is None:
            gone = place.parents and not self.gate.inventory.below_ours(Aim(place))
            if not gone:
                self.unread.append(known.listing.full_id)
            return
        self.looked += 1
        before, after = _keys(known, known.shown, reader.places), _keys(known, now, reader.places)
        more = [key for key in after if key not in before]
        less = [key for key in before if key not in after]
        made = dict(self.gate.inventory.made.get(place, {}))
        for one in self.gate.inventory.removed:
            if one.aim.place == place:
                one.left = STILL_THERE
                made.setdefault(one.aim.key, one)
        for ours in (True, False):
            keys = [key for key in more if (key in made) is ours]
            if keys:
                why = next((made[key].left for key in keys if key in made and made[key].left), "")
                told = tuple(", ".join(key) for key in keys)
                self.changes.append(Change(known.listing.full_id, "more", told, ours, why))
        if less:
            told = tuple(", ".join(key) for key in less)
            why = "it may have come with what this run created" if known.late else ""
            self.changes.append(Change(known.listing.full_id, "gone", told, False, why))

    async def single(self, owner: KeptSetting) -> None:
        contract = self.session.contracts.get(owner.reader.contract)
        if contract is None:
            return
        reader = self.gate.reader(self.session, self.sender, contract)
        came = await reader.call(owner.reader, owner.values) if not self.gate.tally.gone else None
        if came is None or not isinstance(came[1], dict):
            self.unread.append(owner.reader.full_id)
            return
        self.looked += 1
        changed = tuple(name for name, value in owner.body.items() if came[1].get(name) != value)
        if changed:
            self.changes.append(Change(owner.reader.full_id, "changed", changed, True, owner.left))

    async def items(self) -> None:
        """What was made where no list shows it."""
        shown = {place for (place, _), known in self.gate.inventory.before.items() if known.shown is not None}
        made = [one for items in self.gate.inventory.made.values() for one in dict.fromkeys(items.values())]
        left = [one for one in made if one.aim.place not in shown]
        listed = {item for change in self.changes for item in change.items}
        for one in made:
            if one.aim.place in shown and one.left and one.aim.told not in listed:
                self.unread.append(one.creator.full_id)  # it was not removed, and its list does not show it
        for one in left:
            self.changes.append(
                Change(one.creator.full_id, "more", (one.aim.told,), True, one.left or "it was not removed")
            )
        removed = [
            one for one in self.gate.inventory.removed if one.aim.place not in shown and not _below(one, left)
        ]
        for one in removed[:MOST_LOOKED_AT]:
            reader = self.gate.reader(self.session, self.sender, one.contract)
            state = await reader.state_of(one.creator, one.aim) if not self.gate.tally.gone else None
            if state is None:
                self.unread.append(one.creator.full_id)
            elif state.succeeded:
                self.changes.append(
                    Change(
                        one.creator.full_id,
                        "more",
                        (one.aim.told,),
                        True,
                        STILL_THERE,
                    )
                )
            else:
                self.looked += 1
        for place, blind in self.gate.inventory.blind.items():
            if place not in shown or blind.succeeded:
                self.unread.append(blind.operation.full_id)


def _below(made: Made, others: list[Made]) -> bool:
    return any(lies_below(made.aim.place, other.aim.place, other.aim.key) for other in others)


def _keys(known: ListRead, shown: ListedItems, places: Sites) -> dict[tuple[str, ...], None]:
    """What tells the items of a list apart: where nothing else does, all of their values but the moments,
    which a service may keep up to date by itself.
    """
    return dict.fromkeys(key_of_item(places, known.listing, item) or _values(item) for item in shown.items)


def _values(item: Mapping[str, str]) -> tuple[str, ...]:
    lasting = {name: text for name, text in item.items() if moment_of(text) is None}
    return tuple(f"{name}={text}" for name, text in (lasting or item).items())


async def compare(gate: Gate, session: Session, sender: Sender) -> ServiceState:
    """Reads the lists and single things again that were read before."""
    look = _Look(gate, session, sender)
    for (place, _), known in list(gate.inventory.before.items()):
        if place.parents and not _still_above(gate, place):
            continue
        await look.list(place, known)
    for owner in gate.singles.known.values():
        await look.single(owner)
    await look.items()
    for contract in session.contracts.values():
        look.changes += await gate.records.compare(gate.reader(session, sender, contract))
    look.unread += gate.unwatched
    return ServiceState(
        look.looked,
        tuple(look.changes),
        tuple(dict.fromkeys(look.unread)),
        gate.changing,
        tuple(gate.withheld.items()),
        gate.tally.requests,
        (*filter(None, (gate.pulse.broken,)), *dict.fromkeys(gate.pulse.mended.values())),
    )


def _still_above(gate: Gate, place: Site) -> bool:
    """Whether the items above a place are still there: those of this run that were removed are not."""
    return not any(lies_below(place, made.aim.place, made.aim.key) for made in gate.inventory.removed)
