"""The kinds of thing that a contract knows, each with what can be done to it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace

from juxtalogos.compose.relating import Dependency
from juxtalogos.compose.resources import Resource
from juxtalogos.conventions.naming import plain
from juxtalogos.explore.prober.requests import RequestMaker
from juxtalogos.model.contract import Intent, Operation


@dataclass(slots=True)
class ResourceKind:
    """One resource, as exploring sees it."""

    resource: Resource
    creators: list[Operation] = field(default_factory=list)
    reads: list[Operation] = field(default_factory=list)
    lists: list[Operation] = field(default_factory=list)
    updates: list[Operation] = field(default_factory=list)
    """What changes an item: those that take a part of it, and those that take the whole."""
    deleter: Operation | None = None
    acts: list[Operation] = field(default_factory=list)
    """What else is done to an item."""
    others: list[Operation] = field(default_factory=list)
    """What else only reads something of an item."""
    keys: dict[str, Dependency] = field(default_factory=dict)
    """By operation on an item, where the input that names it comes from."""
    parent: ResourceKind | None = None

    @property
    def name(self) -> str:
        return self.resource.key

    @property
    def creator(self) -> Operation | None:
        return self.creators[0] if self.creators else None

    @property
    def on_item(self) -> list[Operation]:
        """All operations on an item, those that end it last."""
        return [
            *self.reads,
            *self.others,
            *self.updates,
            *self.acts,
            *([self.deleter] if self.deleter else []),
        ]

    def key_of(self, operation: Operation) -> Dependency | None:
        return self.keys.get(operation.id)


def kinds_of(maker: RequestMaker) -> list[ResourceKind]:
    """All kinds, parents before what lies below them."""
    resources = maker.resources
    found: dict[str, ResourceKind] = {}
    for _, resource in resources.tree():
        makers = resources.creators(resource)
        chosen = {candidate.id for candidate in resources.chosen(resource)}
        lists = resource.of(Intent.LIST)
        kind = ResourceKind(resource, [one for one in makers if not one.not_callable], lists=lists)
        found[resource.key] = kind
        named = {one.id for one in (*makers, *lists)}
        for operation in _about(maker, resource):
            key = _key(maker, operation, resource, named)
            if key is None or operation.not_callable:
                continue
            kind.keys[operation.id] = key
            if operation.id in resource.items and operation.intent is Intent.READ and operation.safe:
                kind.reads.append(operation)
            elif operation.safe:
                kind.others.append(operation)
            elif (
                operation.id in resource.items
                and operation.intent in (Intent.UPDATE, Intent.REPLACE)
                and operation.id not in chosen
            ):
                kind.updates.append(operation)
            elif operation.intent is Intent.DELETE and operation.id in resource.items:
                kind.deleter = kind.deleter or operation
            elif (
                operation.intent in (Intent.ACT, Intent.UNKNOWN, Intent.UPDATE) and operation.id not in named
            ):
                kind.acts.append(operation)
    for kind in found.values():
        _rooted(maker, kind)
    own = {
        creator.id
        for kind in found.values()
        for creator in kind.creators
        if resources.of(creator) is kind.resource
    }
    for kind in found.values():  # what makes a job makes what the job is for
        kind.creators = [
            creator
            for creator in kind.creators
            if creator.id not in own or resources.of(creator) is kind.resource
        ]
        kind.parent = found.get(resources.parent(kind.resource.key)) or _owner(maker, kind, found.values())
    return [
        item
        for item in found.values()
        if item.creators or item.on_item or item.lists or item.resource.is_singleton
    ]


def _rooted(maker: RequestMaker, kind: ResourceKind) -> None:
    """What names an item comes from what makes it, and not from what was done to it in between: the very
    thing is meant.
    """
    makers = {creator.id for creator in kind.creators}
    root = next((key for key in kind.keys.values() if key.source in makers), None)
    if root is None:
        return
    for name, one in list(kind.keys.items()):
        if one.source not in makers:
            straight = replace(one, source=root.source, value=root.value)
            kind.keys[name] = straight
            maker.needs[name] = [straight if need is one else need for need in maker.needs[name]]


def _owner(maker: RequestMaker, kind: ResourceKind, others: Iterable[ResourceKind]) -> ResourceKind | None:
    """Where no path tells it: the kind whose item a creation needs, and its list is asked for with."""
    for listing in kind.lists:
        for need in maker.needs.get(listing.id, ()):
            for other in others:
                if other is not kind and any(creator.id == need.source for creator in other.creators):
                    return other
    return None


def _about(maker: RequestMaker, resource: Resource) -> Iterator[Operation]:
    """Operations on an item of a resource: its own, and those right below an item that are no kind of their
    own.
    """
    items = {candidate.resource for candidate in maker.contract.operations if candidate.on_item}
    yield from (candidate for candidate in resource.operations if candidate.id in resource.items)
    for operation in maker.contract.operations:
        key = operation.resource
        below = key.startswith(f"{resource.key}/{{}}/") and key.count("/") == resource.key.count("/") + 2
        if below and key not in items and "{}" not in key.rpartition("/")[2]:
            yield operation
    if not any(candidate.resource for candidate in resource.operations):  # known by names only
        yield from (
            candidate
            for candidate in resource.operations
            if candidate.id not in resource.items
            and not candidate.safe
            and candidate.intent in (Intent.ACT, Intent.UNKNOWN)
        )


def _key(maker: RequestMaker, operation: Operation, resource: Resource, named: set[str]) -> Dependency | None:
    """The input that names the item itself."""
    needs = maker.needs.get(operation.id, [])
    by_path = {
        declared_input.address
        for declared_input in operation.inputs
        if declared_input.identifies == resource.key
    }
    for one in needs:
        if one.input in by_path:
            return one
    if by_path:
        return None
    found = [need for need in needs if need.source in named]
    noun = plain(resource.noun)
    found.sort(key=lambda one: noun not in plain(one.input))
    return found[0] if found else None
