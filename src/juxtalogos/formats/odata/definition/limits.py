"""What annotations allow of an entity set (Capabilities vocabulary 1.0): where nothing is said, what the
protocol offers.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from juxtalogos.formats.odata.csdl import Annotations, EntitySet, Model, Navigation


@dataclass(frozen=True, slots=True)
class Limits:
    """The restrictions of one set, or of what a navigation property of it leads to."""

    notes: Annotations
    container: Annotations

    @classmethod
    def of(cls, model: Model, one: EntitySet) -> Limits:
        return cls(one.annotations, model.container)

    def along(self, way: Navigation) -> Limits:
        """What holds for a navigation property of the set (Capabilities.NavigationRestrictions)."""
        return Limits(self.restricted(way.name), {})

    def restricted(self, path: str) -> Mapping[str, Any]:
        """The restrictions of one navigation property, as if they were annotations of a set."""
        listed = self.record("NavigationRestrictions").get("RestrictedProperties")
        for item in listed if isinstance(listed, list) else ():
            if isinstance(item, dict) and item.get("NavigationProperty") == path:
                return {f"Capabilities.{key}": value for key, value in item.items()}
        return {}

    def record(self, term: str) -> Mapping[str, Any]:
        """The record of a restriction; empty where nothing is said."""
        found = self.notes.get(f"Capabilities.{term}")
        return found if isinstance(found, dict) else {}

    def flag(self, term: str, *, default: bool = True) -> bool:
        """A tagging term; a set's own stands over the container's."""
        for notes in (self.notes, self.container):
            found = notes.get(f"Capabilities.{term}")
            if isinstance(found, bool):
                return found
            if isinstance(found, dict) and isinstance(found.get("Supported"), bool):
                return bool(found["Supported"])
        return default

    def may(self, term: str, word: str, *, default: bool = True) -> bool:
        """Whether a restriction's truth value allows something: `InsertRestrictions`, `Insertable`."""
        found = self.record(term).get(word)
        return found if isinstance(found, bool) else default

    def names(self, term: str, word: str) -> frozenset[str]:
        """The properties that a restriction lists."""
        found = self.record(term).get(word)
        return (
            frozenset(item for item in found if isinstance(item, str))
            if isinstance(found, list)
            else frozenset()
        )

    @property
    def navigable(self) -> bool:
        return self.notes.get("Capabilities.Navigability") != "None"

    @property
    def readable(self) -> bool:
        return self.may("ReadRestrictions", "Readable")

    @property
    def readable_by_key(self) -> bool:
        """Whether one entity can be asked for (ReadByKeyRestrictions, IndexableByKey)."""
        nested = self.record("ReadRestrictions").get("ReadByKeyRestrictions")
        own = nested.get("Readable") if isinstance(nested, dict) else None
        indexable = self.flag("IndexableByKey")
        return (own if isinstance(own, bool) else self.readable) and indexable

    @property
    def insertable(self) -> bool:
        return self.may("InsertRestrictions", "Insertable")

    @property
    def deletable(self) -> bool:
        return self.may("DeleteRestrictions", "Deletable")

    @property
    def updatable(self) -> bool:
        return self.may("UpdateRestrictions", "Updatable")

    @property
    def methods(self) -> tuple[str, ...]:
        """The methods that an entity can be changed with (UpdateRestrictions, UpdateMethod)."""
        found = self.record("UpdateRestrictions").get("UpdateMethod")
        named = tuple(one for one in str(found or "").replace(",", " ").split() if one in ("PATCH", "PUT"))
        return named or ("PATCH", "PUT")
