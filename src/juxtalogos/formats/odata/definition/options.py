"""Query options as typed inputs, each with an example on properties that support it (4.0 part 1, 11.2; URL
conventions 4.0, 5.1).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from juxtalogos.formats.odata.csdl import EnumType, Property
from juxtalogos.formats.odata.definition.builder import Builder, Waypoint
from juxtalogos.formats.odata.primitives import MOMENTS, NUMBERS, WHOLE
from juxtalogos.model.contract import Input
from juxtalogos.model.schema import Direction

_LEAST = {
    "Edm.Date": "1990-01-01",
    "Edm.DateTimeOffset": "1990-01-01T00:00:00Z",
    "Edm.TimeOfDay": "00:00:00",
    "Edm.DateTime": "datetime'1990-01-01T00:00:00'",
}


class Options:
    """The query options that a place supports."""

    def __init__(self, builder: Builder) -> None:
        self.builder = builder
        self.model = builder.model
        self.v4 = builder.v4

    def one(
        self,
        name: str,
        stop: Waypoint,
        role: str,
        examples: tuple[Any, ...],
        said: str,
        beside: tuple[str, ...] = (),
    ) -> Input:
        """An option; on the way along a navigation property none is tried by itself, since the set it leads
        to has the same.
        """
        if "." in stop.name and not stop.contained:
            examples = ()
        schema = self.builder.ref(stop.place, Direction.REQUEST, role, self.builder.plain)
        return Input(
            name,
            "query",
            False,
            schema,
            stop.place,
            "option",
            False,
            description=said,
            examples=examples,
            alone=True,
            beside=beside,
        )

    def of_list(self, stop: Waypoint) -> Iterator[Input]:
        """On a collection of entities."""
        limits = stop.limits
        orderable = self.orderable(stop)
        examples = self.filter_examples(stop)
        if limits.may("FilterRestrictions", "Filterable") and examples:
            yield self.one("$filter", stop, "option-text", examples, "which entities: an expression")
        if limits.may("SortRestrictions", "Sortable") and orderable:
            yield self.one(
                "$orderby",
                stop,
                "option-names " + orderable[0].name,
                ([orderable[0].name],),
                "by what they are sorted, `desc` behind a name turns it round"
                + _listed(one.name for one in orderable),
            )
        if limits.flag("TopSupported"):
            yield self.one("$top", stop, "option-number", (2,), "no more than so many")
        count = "$count" if self.v4 else "$inlinecount"
        countable = limits.may("CountRestrictions", "Countable")
        if limits.flag("SkipSupported"):
            yield self.one(
                "$skip",
                stop,
                "option-number",
                (1,),
                "so many are left out first",
                (f"query.{count}",) if countable else (),
            )
        if countable:
            role, value = ("option-flag", True) if self.v4 else ("option-word allpages none", "allpages")
            yield self.one(count, stop, role, (value,), "the number of all that fit comes with them")
        if (
            self.v4
            and "Capabilities.SearchRestrictions" in limits.notes
            and limits.may("SearchRestrictions", "Searchable")
        ):
            yield self.one("$search", stop, "option-text", ("quay",), "words to look for")
        yield from self.of_entity(stop)

    def of_entity(self, stop: Waypoint) -> Iterator[Input]:
        """On one entity, and on each of a collection."""
        limits = stop.limits
        selected = self.select_example(stop)
        if limits.flag("SelectSupport") and selected:
            yield self.one(
                "$select",
                stop,
                "option-names " + " ".join(selected),
                (selected,),
                "which properties come" + _listed(prop.name for prop in self.model.properties(stop.type)),
            )
        ways = self.expandable(stop)
        if limits.may("ExpandRestrictions", "Expandable") and ways:
            yield self.one(
                "$expand",
                stop,
                "option-names " + ways[0],
                ([ways[0]],),
                "which related entities come with it" + _listed(ways),
            )
        words = "json" if self.v4 else "json atom"
        yield self.one(
            "$format",
            stop,
            f"option-word {words}",
            ("json" if self.v4 else "atom",),
            "the format of the response",
        )

    def filter_examples(self, stop: Waypoint) -> tuple[str, ...]:
        """A condition that few entities fulfil, so that it shows when it is not looked at, and one that most
        do.
        """
        barred = stop.limits.names("FilterRestrictions", "NonFilterableProperties")
        required = stop.limits.names("FilterRestrictions", "RequiredProperties")
        able = [
            prop
            for prop in self.model.properties(stop.type)
            if prop.name not in barred and not prop.type.collection
        ]
        able = sorted([one for one in able if one.name in required] or able, key=_rank)
        few = next(filter(None, map(self.narrow, able)), "")
        most = next(filter(None, map(self.wide, able)), "")
        return tuple(dict.fromkeys(filter(None, (few, most))))

    def narrow(self, one: Property) -> str:
        """A condition on a property that few values fulfil; empty where none is known."""
        named, kind = self.model.types.get(one.type.name), self.model.underlying(one.type)
        if isinstance(named, EnumType):
            return f"{one.name} eq {named.name}'{named.members[0][0]}'" if named.members else ""
        if kind in WHOLE:
            return f"{one.name} eq 1{'L' if kind == 'Edm.Int64' and not self.v4 else ''}"
        if kind == "Edm.Boolean":
            return f"{one.name} eq true"
        return f"{one.name} eq 'quay'" if kind == "Edm.String" else ""

    def wide(self, one: Property) -> str:
        """A condition on a property that most values fulfil; empty where none is known."""
        kind = self.model.underlying(one.type)
        if kind in NUMBERS:
            suffix = {"Edm.Int64": "L", "Edm.Decimal": "M"}.get(kind, "") if not self.v4 else ""
            return f"{one.name} ge 0{suffix}"
        return (
            f"{one.name} ge {_LEAST[kind]}"
            if kind in _LEAST
            else f"{one.name} ne 'quay'"
            if kind == "Edm.String"
            else ""
        )

    def orderable(self, stop: Waypoint) -> list[Property]:
        """Numbers and moments first: how texts are sorted is the service's own affair
        (4.0 part 1, 11.2.5.2).
        """
        barred = stop.limits.names("SortRestrictions", "NonSortableProperties")
        able = [
            prop
            for prop in self.model.properties(stop.type)
            if prop.name not in barred
            and not prop.type.collection
            and prop.type.name.startswith("Edm.")
            and prop.type.name != "Edm.Stream"
        ]
        return sorted(able, key=lambda one: self.model.underlying(one.type) not in (*NUMBERS, *MOMENTS))

    def select_example(self, stop: Waypoint) -> list[str]:
        """The key, and one property more."""
        keys = [part.path for part in self.model.key(stop.type) if "/" not in part.path]
        others = [
            prop.name
            for prop in self.model.properties(stop.type)
            if prop.name not in keys and prop.type.name != "Edm.Stream"
        ]
        return [*keys, *others[:1]]

    def expandable(self, stop: Waypoint) -> list[str]:
        """The navigation properties that may be expanded."""
        barred = stop.limits.names("ExpandRestrictions", "NonExpandableProperties")
        return [
            one.name
            for one in self.model.navigation(stop.type)
            if one.name not in barred and self.model.structured(one.target)
        ]


def _listed(names: Iterable[str]) -> str:
    """Names in words, the first ones of many."""
    found = list(names)
    return ": " + ", ".join(found[:12]) + (f" and {len(found) - 12} more" if len(found) > 12 else "")


def _rank(one: Property) -> int:
    """Numbers say most, then moments, enumerations, truth values and texts."""
    kind = one.type.name
    if kind in NUMBERS:
        return 0
    return 1 if kind in MOMENTS else 2 if not kind.startswith("Edm.") else 4 if kind == "Edm.String" else 3
