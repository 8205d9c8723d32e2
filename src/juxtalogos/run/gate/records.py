"""Lists that no operation of the contract changes, such as logs, events and jobs: the service adds to them by
itself, and no operation removes what is new there.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from juxtalogos.compose.listing import items_in
from juxtalogos.model.contract import Intent, Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.run.gate.keys import key_of_item
from juxtalogos.run.gate.places import Key, Sites, reads, texts
from juxtalogos.run.gate.reading import Reader
from juxtalogos.run.gate.state import Change

MOST_LISTS = 20


@dataclass(slots=True)
class ServiceRecords:
    """Of all contracts of a run: the first page of each such list, as it was before."""

    shown: dict[str, tuple[Operation, frozenset[Key]]] = field(default_factory=dict)
    """By operation that lists, the keys of the entries."""
    looked: set[str] = field(default_factory=set)
    """Contracts that were looked at."""

    async def look(self, reader: Reader, most: int = MOST_LISTS) -> None:
        """Reads the lists of a contract that have no required inputs, once."""
        contract = reader.places.contract
        if contract.name in self.looked:
            return
        self.looked.add(contract.name)
        for listing in [*_lists(reader.places)][: min(most, MOST_LISTS)]:
            if reader.tally.silent:
                return  # nobody is waited for twice
            keys = await _keys(reader, listing)
            if keys is not None:
                self.shown[listing.full_id] = listing, keys

    async def compare(self, reader: Reader) -> list[Change]:
        """What is new in the lists of a contract; a list that cannot be read any more shows nothing."""
        found = []
        for listing, before in list(self.shown.values()):
            if listing.contract != reader.places.contract.name or reader.tally.gone:
                continue
            more = (await _keys(reader, listing) or frozenset()) - before
            if more:
                told = tuple(sorted((", ".join(key) for key in more), key=lambda text: (len(text), text)))
                found.append(Change(listing.full_id, "more", told, ours=False, by_service=True))
        return found


def _lists(places: Sites) -> Iterator[Operation]:
    for resource in places.resources.by_key.values():
        if all(map(reads, resource.operations)):
            listed = (
                one
                for one in resource.operations
                if one.id not in resource.items and _shows_a_list(places, one)
            )
            yield from [one for one in listed if not any(given.required for given in one.inputs)][:1]


def _shows_a_list(places: Sites, operation: Operation) -> bool:
    return operation.intent is Intent.LIST or any(
        row.path == "" and row.type.startswith("array") for row in places.resources.rows.answered(operation)
    )


async def _keys(reader: Reader, listing: Operation) -> frozenset[Key] | None:
    """The keys of the entries on the first page; None where it cannot be read, or its entries have none."""
    came = await reader.call(listing, {})
    if came is None or not reader.outcome(listing, came[0]).succeeded:
        return None
    try:
        items = items_in(came[1])
    except JuxtalogosError:
        return None
    if items is None:
        return None
    keys = [key_of_item(reader.places, listing, texts(item)) for item in items]
    return frozenset(keys) if all(keys) else None
