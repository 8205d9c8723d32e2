"""An entity data model as its metadata declares it, in one shape for every version and both notations (CSDL
XML and JSON).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from juxtalogos.model.location import Location

Annotations = Mapping[str, Any]
"""Value by term, aliases resolved: truth values, numbers, texts, lists, and records as mappings."""


@dataclass(frozen=True, slots=True)
class TypeUse:
    """A type where it is used, with its facets (CSDL 4.0, sections 6.2 and 7)."""

    name: str
    """Qualified: `Edm.String`, `Merrow.Registry.Vessel`; empty where it cannot be read."""
    collection: bool = False
    nullable: bool = True
    max_length: int | None = None
    fixed_length: bool = False
    precision: int | None = None
    scale: int | None = None
    """None: variable, or not said."""
    scale_said: bool = False
    default: str | None = None


@dataclass(frozen=True, slots=True)
class Property:
    name: str
    type: TypeUse
    place: Location
    annotations: Annotations = field(default_factory=dict)
    concurrency: bool = False
    """ConcurrencyMode="Fixed" (V2, V3): it makes the entity tag."""


@dataclass(frozen=True, slots=True)
class Navigation:
    """A way from one entity to others (CSDL 4.0, section 7.1; V2: with the association that it names)."""

    name: str
    target: str
    """The entity type's qualified name; empty where it cannot be read."""
    collection: bool
    nullable: bool
    contains: bool
    place: Location
    partner: str = ""
    constraints: tuple[tuple[str, str], ...] = ()
    """(property here, property there) that have the same value."""
    association: str = ""
    """V2: the association's qualified name and the role at the other end, `NAME/ROLE`."""
    annotations: Annotations = field(default_factory=dict)
    owned: bool = False
    """V2: whether each entity that it leads to must have one that it comes from."""


@dataclass(frozen=True, slots=True)
class KeyPart:
    name: str
    """The property's name, or the alias of one inside a complex property."""
    path: str


@dataclass(frozen=True, slots=True)
class StructuredType:
    """An entity type or complex type with what it declares itself; what it inherits is `Model.properties`'s
    to tell.
    """

    name: str
    entity: bool
    base: str
    abstract: bool
    open: bool
    media: bool
    """Whether an entity is the description of a stream."""
    key: tuple[KeyPart, ...]
    own_properties: tuple[Property, ...]
    own_navigation: tuple[Navigation, ...]
    place: Location
    annotations: Annotations = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class EnumType:
    name: str
    underlying: str
    flags: bool
    members: tuple[tuple[str, int, Location], ...]
    place: Location


@dataclass(frozen=True, slots=True)
class TypeDefinition:
    name: str
    underlying: TypeUse
    place: Location
    annotations: Annotations = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Parameter:
    name: str
    type: TypeUse
    place: Location
    optional: bool = False
    annotations: Annotations = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Callable:
    """An action or function, one overload of it; or a function import of V2, which declares all by itself."""

    name: str
    """Qualified; of a V2 function import its bare name."""
    action: bool
    bound: bool
    composable: bool
    parameters: tuple[Parameter, ...]
    returns: TypeUse | None
    place: Location
    entity_set_path: str = ""
    method: str = ""
    """V2: the HTTP method that it is called with."""
    annotations: Annotations = field(default_factory=dict)

    @property
    def short_name(self) -> str:
        return self.name.rpartition(".")[2]


@dataclass(frozen=True, slots=True)
class EntitySet:
    """An entity set or singleton of the container."""

    name: str
    type: str
    singleton: bool
    bindings: tuple[tuple[str, str], ...]
    """(navigation path, name of the set that its entities are in)."""
    place: Location
    annotations: Annotations = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Import:
    """An action or function of the container, callable by this name."""

    name: str
    callable: str
    entity_set: str
    place: Location


Named = StructuredType | EnumType | TypeDefinition


@dataclass(slots=True)
class Model:
    """All that the documents of one service declare."""

    version: str
    """`2.0`, `3.0`, `4.0` or `4.01`."""
    title: str = ""
    types: dict[str, Named] = field(default_factory=dict)
    callables: dict[str, list[Callable]] = field(default_factory=dict)
    sets: dict[str, EntitySet] = field(default_factory=dict)
    imports: dict[str, Import] = field(default_factory=dict)
    container: Annotations = field(default_factory=dict)
    """Annotations of the container."""
    derived: dict[str, list[str]] = field(default_factory=dict)
    """Types derived directly, by base."""
    _inherited: dict[str, tuple[StructuredType, ...]] = field(default_factory=dict)
    _properties: dict[str, list[Property]] = field(default_factory=dict)
    _navigation: dict[str, list[Navigation]] = field(default_factory=dict)
    _fitting: dict[str, list[str]] = field(default_factory=dict)

    def sets_of(self, type_name: str) -> list[str]:
        """The entity sets whose entities are declared of a type; to be asked when all sets are known."""
        if not self._fitting:
            for one in self.sets.values():
                if not one.singleton:
                    self._fitting.setdefault(one.type, []).append(one.name)
        return self._fitting.get(type_name, [])

    @property
    def is_v4(self) -> bool:
        return self.version.startswith("4")

    def structured(self, name: str) -> StructuredType | None:
        """An entity or complex type by its qualified name; None where there is none."""
        found = self.types.get(name)
        return found if isinstance(found, StructuredType) else None

    def line(self, name: str) -> tuple[StructuredType, ...]:
        """A type and those that it is derived from, the first ancestor first; a circle is cut."""
        known = self._inherited.get(name)
        if known is None:
            found: dict[str, StructuredType] = {}
            at = self.structured(name)
            while at is not None and at.name not in found:
                found[at.name] = at
                at = self.structured(at.base)
            known = self._inherited[name] = tuple(reversed(found.values()))
        return known

    def properties(self, name: str) -> list[Property]:
        """A type's properties, the inherited ones first."""
        found = self._properties.get(name)
        if found is None:
            every = {prop.name: prop for part in self.line(name) for prop in part.own_properties}
            found = self._properties[name] = list(every.values())
        return found

    def navigation(self, name: str) -> list[Navigation]:
        """A type's navigation properties, the inherited ones first."""
        found = self._navigation.get(name)
        if found is None:
            every = {one.name: one for part in self.line(name) for one in part.own_navigation}
            found = self._navigation[name] = list(every.values())
        return found

    def key(self, name: str) -> tuple[KeyPart, ...]:
        return next((part.key for part in self.line(name) if part.key), ())

    def key_types(self, name: str) -> list[tuple[KeyPart, Property]]:
        """The parts of a type's key with the properties that they are; none where one of
        them cannot be read.
        """
        found = [(part, self.property_at(name, part.path)) for part in self.key(name)]
        return [(part, one) for part, one in found if one is not None] if all(one for _, one in found) else []

    def property_at(self, name: str, path: str) -> Property | None:
        """The property that a path through complex properties leads to."""
        found: Property | None = None
        for step in path.split("/"):
            found = next((prop for prop in self.properties(name) if prop.name == step), None)
            if found is None:
                return None
            name = found.type.name
        return found

    def is_open(self, name: str) -> bool:
        return any(part.open for part in self.line(name))

    def is_media(self, name: str) -> bool:
        return any(part.media for part in self.line(name))

    def concrete(self, name: str) -> list[str]:
        """The type itself and all that are derived from it, without the abstract ones."""
        return [one for one in self.family(name) if not (found := self.structured(one)) or not found.abstract]

    def family(self, name: str) -> Iterator[str]:
        """The type and all that are derived from it, each once."""
        waiting, seen = [name], set()
        while waiting:
            one = waiting.pop(0)
            if one not in seen:
                seen.add(one)
                yield one
                waiting += self.derived.get(one, ())

    def is_a(self, name: str, base: str) -> bool:
        """Whether a type is another one or derived from it."""
        return name == base or any(one.name == base for one in self.line(name))

    def underlying(self, use: TypeUse) -> str:
        """The primitive type behind type definitions and enumerations; the name itself of others."""
        found, name = self.types.get(use.name), use.name
        for _ in range(8):
            if isinstance(found, TypeDefinition):
                name = found.underlying.name
                found = self.types.get(name)
        return name


@dataclass(frozen=True, slots=True)
class BoundCall:
    """A callable bound to the type of an entity set."""

    callable: Callable
    on_collection: bool


class BoundCalls:
    """BoundCall actions and functions by the type that they are bound to."""

    def __init__(self, model: Model) -> None:
        self.model = model

    @cached_property
    def by_type(self) -> dict[tuple[str, bool], list[Callable]]:
        """Overloads by (type of the binding parameter, whether it is a collection)."""
        found: dict[tuple[str, bool], list[Callable]] = {}
        for overloads in self.model.callables.values():
            for overload in overloads:
                if overload.bound and overload.parameters:
                    use = overload.parameters[0].type
                    found.setdefault((use.name, use.collection), []).append(overload)
        return found

    def of(self, name: str) -> Iterator[BoundCall]:
        """Those that can be called on entities of a type, or on a collection of them."""
        for part in self.model.line(name):
            for on_collection in (False, True):
                for one in self.by_type.get((part.name, on_collection), ()):
                    yield BoundCall(one, on_collection)
