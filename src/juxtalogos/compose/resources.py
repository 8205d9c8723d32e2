"""The resources of a contract: what its operations list, read, create, change, delete or act on, as a tree.

Where a format knows of none (a resource's key is empty), operations that are about the same noun are about
one resource.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache

from juxtalogos.compose.outlines import Rows, carries
from juxtalogos.conventions.naming import plain, words_of
from juxtalogos.model.contract import Contract, Input, Intent, Operation

ENDINGS = ("id", "ids", "number", "no", "nr", "code", "key", "ref", "uuid", "guid", "slug")
"""What names of identifiers end in, as words."""


@dataclass(slots=True)
class Resource:
    """One kind of thing."""

    key: str
    noun: str
    operations: list[Operation] = field(default_factory=list)
    items: set[str] = field(default_factory=set)
    """Ids of the operations on one item."""

    def of(self, *intents: Intent, item: bool | None = None) -> list[Operation]:
        """Its operations with an intent, on one item or not; the intents in their order."""
        return [
            operation
            for intent in intents
            for operation in self.operations
            if operation.intent is intent and (item is None or (operation.id in self.items) is item)
        ]

    @property
    def is_singleton(self) -> bool:
        """Whether there is one of it, always: it is read and changed, and has no items."""
        return (
            not self.items
            and bool(self.of(Intent.READ))
            and not self.of(Intent.CREATE, Intent.LIST, Intent.DELETE)
        )


class Resources:
    """All resources of a contract, by key and by noun."""

    def __init__(self, contract: Contract, rows: Rows) -> None:
        self.contract, self.rows = contract, rows
        self.by_key: dict[str, Resource] = {}
        self.by_noun: dict[str, list[Resource]] = {}
        for operation in contract.operations:
            key = operation.resource or operation.noun
            if not key:
                continue
            found = self.by_key.get(key)
            if found is None:
                found = self.by_key[key] = Resource(key, operation.noun)
            found.operations.append(operation)
            if operation.on_item or (not operation.resource and self._names_item(operation, found.noun)):
                found.items.add(operation.id)
        for place_ in self.by_key.values():
            self.by_noun.setdefault(plain(place_.noun), []).append(place_)
        self.by_type: dict[object, list[Operation]] = {}
        for operation in contract.operations:
            for row in rows.answered(operation)[:1]:
                if row.shared and not row.scalar:
                    self.by_type.setdefault(row.place, []).append(operation)

    def of(self, operation: Operation) -> Resource | None:
        """What an operation is about."""
        return self.by_key.get(operation.resource or operation.noun)

    def named(self, noun: str) -> list[Resource]:
        """Resources of a noun, `port-call` for `call` as well."""
        if not noun:
            return []
        exact = self.by_noun.get(plain(noun))
        if exact:
            return exact
        last = plain(words_of(noun)[-1]) if words_of(noun) else ""
        return [
            item
            for name, found in self.by_noun.items()
            if len(last) > 2 and name.endswith(last)
            for item in found
        ][:4]

    def _names_item(self, operation: Operation, noun: str) -> bool:
        """Whether what it requires names one of what it is about: `craneNo` of a crane."""
        names = [declared_input.name for declared_input in operation.inputs if declared_input.required]
        names += [
            row.name
            for row in self.rows.sent(operation)
            if row.required and carries(row) and row.path.count("/") <= 2
        ]
        return operation.intent is not Intent.CREATE and any(identifies(name, noun) for name in names)

    def _tells_item(self, operation: Operation, noun: str) -> bool:
        """Whether its answer names an item of what it is about."""
        return any(
            carries(row) and row.path and plain(row.name) != "id" and identifies(row.name, noun)
            for row in self.rows.answered(operation)
        )

    def creators(self, resource: Resource) -> list[Operation]:
        """What adds an item, the likeliest first: on the collection; by an id that the caller chooses; by the
        type of its answer.
        """
        found = resource.of(Intent.CREATE)
        if not found:
            found = [operation for operation in resource.of(Intent.REPLACE, item=False) if resource.items]
        if not found:
            found = self.chosen(resource)
        if not found and not any(
            operation.resource for operation in resource.operations
        ):  # `BeginJob` answers with the id of a job
            found = [
                operation
                for operation in resource.of(Intent.ACT, Intent.UNKNOWN, item=False)
                if not operation.safe and self._tells_item(operation, resource.noun)
            ]
        if not found:
            read = next(iter(resource.of(Intent.READ, item=True)), None)
            kinds = (
                [row.place for row in self.rows.answered(read)[:1] if row.shared and not row.scalar]
                if read
                else []
            )
            alike = [one for kind in kinds for one in self.by_type.get(kind, ())]
            found = [
                operation
                for operation in alike
                if operation.intent in (Intent.CREATE, Intent.ACT)
                and operation.id not in resource.items
                and not operation.safe
            ]
        return found

    def chosen(self, resource: Resource) -> list[Operation]:
        """Operations that put an item under an id of the caller's, where nothing else creates one."""
        if resource.of(Intent.CREATE) or any(
            operation.intent is Intent.REPLACE
            for operation in resource.operations
            if operation.id not in resource.items and resource.items
        ):
            return []
        return [
            operation
            for operation in resource.of(Intent.REPLACE, item=True)
            if operation.idempotent and operation.body is not None  # nothing is made of nothing
        ]

    def creates(self, operation: Operation) -> bool:
        """Whether a call adds an item."""
        resource = self.of(operation)
        return resource is not None and any(creator.id == operation.id for creator in self.creators(resource))

    def deleter(self, resource: Resource) -> Operation | None:
        return next(iter(resource.of(Intent.DELETE, item=True)), None)

    def parent(self, key: str) -> str:
        """The key of the resource that one lies below; empty for none."""
        above = key.rpartition("/")[0]
        while above:
            item = re.fullmatch(r"(.*)/\{\}", above)
            if item and item[1] in self.by_key:
                return item[1]
            if above in self.by_key and not item:
                return above
            above = above.rpartition("/")[0]
        return ""

    def tree(self) -> Iterator[tuple[int, Resource]]:
        """(how deep, resource), parents before what lies below them."""
        below: dict[str, list[Resource]] = {}
        for one in self.by_key.values():
            below.setdefault(self.parent(one.key), []).append(one)
        waiting = [(0, one) for one in reversed(below.get("", []))]
        while waiting:
            depth, one = waiting.pop()
            yield depth, one
            waiting += [(depth + 1, other) for other in reversed(below.get(one.key, []))]


def last_identified(operation: Operation) -> Input | None:
    """The input that names the item itself, and none above it."""
    own = [
        declared_input
        for declared_input in operation.inputs
        if declared_input.identifies and declared_input.identifies == operation.resource
    ]
    return own[-1] if own else None


@lru_cache(maxsize=10_000)
def owner(name: str) -> str:
    """What an identifier's name says that it identifies: `vesselId` a vessel, `agent_id` an agent; empty for
    a bare `id`.
    """
    found = words_of(name)
    return "".join(found[:-1]) if len(found) > 1 and found[-1] in ENDINGS else ""


def identifies(name: str, noun: str) -> bool:
    """Whether a name identifies such a thing: `craneNo`, `crane_id`, `id` of a crane."""
    return bool(noun) and (plain(name) == "id" or plain(owner(name)) == plain(noun))
