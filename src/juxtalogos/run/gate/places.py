"""Where a request aims: the collection, the items above it, and the key of the item itself.

Read from the request's own inputs, not from the suite that it comes from: what is really sent decides.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any
from unicodedata import category

from juxtalogos.compose.needs import ID_LIKE
from juxtalogos.compose.outlines import Rows
from juxtalogos.compose.resources import ENDINGS, Resource, Resources, identifies
from juxtalogos.conventions.naming import plain, singular
from juxtalogos.conventions.words import words
from juxtalogos.model.contract import Contract, Input, Intent, Operation
from juxtalogos.model.danger import Danger
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.comparing import leaves

Key = tuple[str, ...]
"""The values that tell an item from others, as texts; several for a composite key."""
_GENERIC = frozenset((*ENDINGS, "name", "path", "uri", "self"))
"""Names of members that may tell an item from others, whatever it is."""
_SCALARS = (str, int, float)


@dataclass(frozen=True, slots=True)
class Site:
    """A collection, or a thing that exists once: of a contract, below certain items."""

    contract: str
    resource: str
    """Its key, each part in the singular: `/berth` and `/berths/{}` are one place."""
    parents: tuple[Key, ...] = ()


@dataclass(frozen=True, slots=True)
class Aim:
    """What a request is about."""

    place: Site
    key: Key = ()
    """Empty where no item is named."""
    names: tuple[str, ...] = ()
    """The names under which the request has the parts of the key."""
    above: tuple[tuple[Site, Key], ...] = ()
    """The items above, the outermost first."""

    @property
    def told(self) -> str:
        """The item, for a person."""
        return ", ".join(self.key)


@dataclass(slots=True)
class Sites:
    """Of one contract."""

    contract: Contract
    resources: Resources = field(init=False)
    by_place: dict[str, list[Resource]] = field(init=False)

    def __post_init__(self) -> None:
        self.resources = Resources(self.contract, Rows(self.contract))
        self.by_place = {}
        for key, resource in self.resources.by_key.items():
            self.by_place.setdefault(normal(key), []).append(resource)

    def aim(self, operation: Operation, inputs: Inputs) -> Aim:
        """What a request with these inputs is about."""
        parents: list[Key] = []
        above: list[tuple[Site, Key]] = []
        own: tuple[Key, tuple[str, ...]] = ((), ())
        for resource, group in _groups(operation):
            place = Site(self.contract.name, normal(resource), tuple(parents))
            key = tuple(_text(inputs.values.get(one.address)) for one in group)
            if resource == operation.resource:
                own = key, tuple(one.name for one in group)
            else:
                above.append((place, key))
                if operation.resource.startswith(f"{resource.rstrip('/')}/"):
                    parents.append(key)
        resource = operation.resource or operation.noun
        if not own[0] and self._names_in_values(operation):
            own = self._key_in_values(operation, inputs)
        return Aim(Site(self.contract.name, normal(resource), tuple(parents)), own[0], own[1], tuple(above))

    def resource(self, operation: Operation) -> Resource | None:
        return self.resources.of(operation)

    def creates(self, operation: Operation) -> bool:
        return self.resources.creates(operation)

    def listing(self, operation: Operation, inputs: Inputs) -> Operation | None:
        """What lists the place of a request, with no more inputs than the request has."""
        resource = self.resources.of(operation)
        found = resource.of(Intent.LIST) if resource else []
        return next((one for one in found if reads(one) and _served(one, inputs, body=False)), None)

    def reader(self, operation: Operation) -> Operation | None:
        """What reads one item of the resource."""
        resource = self.resources.of(operation)
        found = resource.of(Intent.READ, item=True) if resource else ()
        return next((one for one in found if reads(one)), None)

    def reader_at(self, place: Site) -> Operation | None:
        """What reads one item of a place."""
        found = (
            one
            for resource in self.by_place.get(place.resource, ())
            for one in resource.of(Intent.READ, item=True)
        )
        return next((one for one in found if reads(one)), None)

    def reader_beside(self, operation: Operation, inputs: Inputs) -> Operation | None:
        """What reads at the address of a request, with no more inputs than the request has."""
        resource = self.resources.of(operation)
        if resource is None:
            return None
        found = resource.of(Intent.READ, Intent.LIST, item=operation.id in resource.items)
        return next((one for one in found if reads(one) and _served(one, inputs)), None)

    def makes_items_at(self, place: Site) -> bool:
        """Whether a contract creates items at a place at all."""
        return any(map(self.resources.creators, self.by_place.get(place.resource, ())))

    def takes_a_setting(self, operation: Operation, aim: Aim) -> bool:
        """Whether what stands in the address is a setting (`/delay/{seconds}`), and no item: nothing lists,
        reads or makes one there, and its name means no other thing.
        """
        resource = self.resources.of(operation)
        kept = (Intent.LIST, Intent.READ, Intent.CREATE, Intent.REPLACE, Intent.UPDATE, Intent.DELETE)
        if resource is None or aim.above or resource.of(*kept):
            return False
        others = (one for name in aim.names for one in self.resources.named(singular(name)))
        telling = words("names.identifier")
        names_one = any(ID_LIKE.search(name) or plain(name) in telling for name in aim.names)
        return not names_one and all(one is resource for one in others)

    def key_names(self, operation: Operation) -> tuple[str, ...]:
        """The names by which requests tell items of a resource from others; empty where only values have
        them.
        """
        resource = self.resources.of(operation)
        for one in resource.operations if resource else ():
            for about, group in _groups(one):
                if about == one.resource:
                    return tuple(each.name for each in group)
        return ()

    def deleter(self, operation: Operation) -> Operation | None:
        """What removes an item of the resource."""
        resource = self.resources.of(operation)
        return self.resources.deleter(resource) if resource is not None else None

    def below(self, place: Site, key: Key) -> Iterator[tuple[Resource, tuple[Key, ...]]]:
        """(resource, keys above) of all that lies right below an item."""
        for resource in self.resources.by_key.values():
            above = self.resources.parent(resource.key)
            if above and normal(above) == place.resource and "{}" in resource.key:
                yield resource, (*place.parents, key)

    def addressed(self, operation: Operation, aim: Aim) -> dict[str, Any]:
        """The inputs of another operation on the same item, by address: its key and the keys above; none
        where its address wants more than is known.
        """
        keys: list[Any] = [value for key in (*aim.place.parents, aim.key) for value in key]
        own = [one for _, group in _groups(operation) for one in group]
        if len(own) > len(keys):
            return {}  # a made-up part of an address would name another item
        found: dict[str, Any] = {one.address: keys.pop(0) for one in own}
        if keys and not found:
            address = next(self._named_places(operation), "")
            if address:
                found[address] = keys[-1]
        return found

    def _names_in_values(self, operation: Operation) -> bool:
        """Whether the item stands in a query or a body: where no path has it."""
        resource = self.resources.of(operation)
        return operation.on_item or (
            resource is not None and operation.id in resource.items and not operation.resource
        )

    def _named_places(self, operation: Operation) -> Iterator[str]:
        for declared_input in operation.inputs:
            if identifies(declared_input.name, operation.noun):
                yield declared_input.address
        for row in self.resources.rows.sent(operation):
            if row.scalar and identifies(row.name, operation.noun):
                yield f"body{row.path}"

    def _key_in_values(self, operation: Operation, inputs: Inputs) -> tuple[Key, tuple[str, ...]]:
        for address, value in inputs.values.items():
            name = address.partition(".")[2]
            if identifies(name, operation.noun) and isinstance(value, _SCALARS):
                return (_text(value),), (name,)
        for path, value in leaves(inputs.body):
            name = re.split(r"[/:]", path)[-1]
            if identifies(name, operation.noun) and isinstance(value, _SCALARS):
                return (_text(value),), (name,)
        return (), ()


def _groups(operation: Operation) -> list[tuple[str, list[Input]]]:
    """The inputs of a path by what they identify, in the order of the path."""
    own = [one for one in operation.inputs if one.place == "path" and one.identifies]
    own.sort(key=lambda one: operation.path.find(f"{{{one.name}}}"))
    found: list[tuple[str, list[Input]]] = []
    for one in own:
        if found and found[-1][0] == one.identifies:
            found[-1][1].append(one)
        else:
            found.append((one.identifies, [one]))
    return found


def _served(one: Operation, inputs: Inputs, *, body: bool = True) -> bool:
    """Whether the inputs of a request are enough to call an operation."""
    wants_body = body and one.body is not None and one.body.required
    return not wants_body and all(
        declared.address in inputs.values for declared in one.inputs if declared.required
    )


def normal(resource: str) -> str:
    """The key of a resource with each part in the singular."""
    return "/".join(part if part == "{}" else singular(part) for part in resource.split("/"))


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return "" if value is None or isinstance(value, dict | list) else str(value)


def lies_below(place: Site, above: Site, key: Key) -> bool:
    """Whether a place lies below an item of another one: an equal key of another resource is another item."""
    return (
        place.contract == above.contract
        and place.resource.startswith(f"{above.resource.rstrip('/')}/")
        and place.parents[: len(above.parents) + 1] == (*above.parents, key)
    )


def unfit(key: Key) -> bool:
    """Whether a key must not go into an address: nothing, a dot segment (RFC 3986, section 3.3), or what has
    control characters.
    """
    return any(
        not part.strip() or part.strip() in (".", "..") or any(category(char) == "Cc" for char in part)
        for part in key
    )


def is_key_name(name: str, noun: str, names: tuple[str, ...] = ()) -> bool:
    """Whether a member of that name may tell an item from others."""
    return (
        plain(name) in _GENERIC
        or identifies(name, noun)
        or plain(name) == plain(noun)
        or any(plain(name) == plain(one) for one in names)
    )


def texts(item: Any) -> Mapping[str, str]:
    """The single values of an item by name; of one that is but a value, that under an empty name."""
    if isinstance(item, dict):
        return {name: _text(value) for name, value in item.items() if isinstance(value, _SCALARS)}
    return {"": _text(item)} if isinstance(item, _SCALARS) else {}


def has_key(item: Mapping[str, str], aim: Aim, noun: str) -> bool:
    """Whether a listed item is the one that a request names."""
    if not aim.key:
        return False
    if len(aim.key) == 1:
        return any(
            value == aim.key[0] and (not name or is_key_name(name, noun, aim.names))
            for name, value in item.items()
        )
    by_name = {plain(name): value for name, value in item.items()}
    return all(by_name.get(plain(name)) == value for name, value in zip(aim.names, aim.key))


def reads(operation: Operation) -> bool:
    """Whether an operation only reads, by its protocol or by what it is called."""
    return operation.safe or operation.danger is Danger.READS


def aim_of(told: Mapping[str, Any]) -> Aim:
    """An aim as another process told it in JSON."""

    def place(one: Mapping[str, Any]) -> Site:
        return Site(one["contract"], one["resource"], tuple(map(tuple, one["parents"])))

    above = tuple((place(one), tuple(key)) for one, key in told["above"])
    return Aim(place(told["place"]), tuple(told["key"]), tuple(told["names"]), above)
