"""What compiled functions share: numbers of elements, bound values, and what trials came to."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from juxtalogos.documents.jsonvalues import is_multiple, key_of
from juxtalogos.model.elements import Element
from juxtalogos.schema.json.check.formats import format_holds
from juxtalogos.schema.json.check.interpreter import Context, Record, Remembered, accepts
from juxtalogos.schema.json.tell.elements import enum_element, property_element
from juxtalogos.schema.json.tell.value_classes import ValueClass, branch_element, facet_element, facets
from juxtalogos.schema.json.tree.nodes import Node, Rule
from juxtalogos.schema.patterns import Pattern, PatternTimeout

MAX_READ = 10_000
"""Records whose meaning is remembered."""
Compiled = Callable[..., bool]
"""(value, records, broken items or None). With a list for them, a function goes on behind a broken item of
its outermost
lists and answers True if nothing else is wrong; without, it stops there."""


class BrokenItem(Exception):
    """An item of a list is broken; the function goes on with the next."""


@dataclass(frozen=True, slots=True, eq=False)
class Told:
    """How to read a record of one function: the elements of its flags, then the tables of
    its enumerations.
    """

    flags: tuple[int, ...]
    tables: tuple[dict[Any, int] | None, ...]
    """For a set of members seen their numbers; None where the record holds a number itself."""

    def numbers(self, values: tuple[Any, ...]) -> Iterator[int]:
        """The numbers of the elements that a record tells of."""
        yield from itertools.compress(self.flags, values)
        for table, value in zip(self.tables, values[len(self.flags) :]):
            if table is not None:
                yield from (table[member] for member in value)
            elif value is not None:
                yield value


class _Missing:
    pass


def _unique(items: list[Any]) -> bool:
    """Whether no two items are JSON-equal."""
    if all(type(item) is str for item in items):
        return len(set(items)) == len(items)
    return len({key_of(item) for item in items}) == len(items)


class Tables:
    """Tables of one store in one direction. Elements are numbered as they are met."""

    def __init__(self, context: Context) -> None:
        self.context = context
        self.elements: list[str] = []
        self.numbers: dict[str, int] = {}
        self.functions: dict[tuple[int, int], Compiled] = {}
        self.names: dict[tuple[int, int], str] = {}
        self.read: dict[Record, frozenset[str]] = {}
        self.by_node: dict[int, int] = {}
        self.by_rule: dict[int, tuple[tuple[ValueClass, int], ...]] = {}
        self.kept: list[Node] = []
        """Nodes whose identity is a key: kept alive."""
        self.globals: dict[str, Any] = {
            "M": _Missing,
            "BrokenItem": BrokenItem,
            "_none": type(None),
            "unique": _unique,
            "multiple": is_multiple,
            "key_of": key_of,
            "format_holds": format_holds,
        }
        self.tried: dict[tuple[int, int], tuple[bool, list[Record]]] = {}
        """What trials of branches came to within one check: by the rule, and the object or list."""
        self.known: dict[Any, Remembered] = {}
        """What the interpreter found meanwhile."""
        self.serial = itertools.count()
        self.counting = True
        """Whether hits are counted; the benchmark measures what that costs."""

    def name_of(self, node: Node, home: Node) -> str:
        """The name of a schema's function."""
        key = (id(node), id(home))
        if key not in self.names:
            self.names[key] = f"f{len(self.names)}"
            self.kept += (node, home)
        return self.names[key]

    def bind(self, value: Any) -> str:
        """A variable that holds a value."""
        name = f"c{next(self.serial)}"
        self.globals[name] = value
        return name

    def property_number(self, node: Node) -> int:
        """The number of a property."""
        key = id(node)
        if key not in self.by_node:
            self.kept.append(node)
            self.by_node[key] = self.number(property_element(node, self.context))
        return self.by_node[key]

    def enum_number(self, rule: Rule, member: Any) -> int:
        return self.number(enum_element(rule, member, self.context))

    def facet_numbers(self, rule: Rule) -> tuple[tuple[ValueClass, int], ...]:
        """(class of values, its number) of a rule."""
        key = id(rule)
        if key not in self.by_rule:
            self.by_rule[key] = tuple(
                (facet, self.number(facet_element(rule, facet, self.context))) for facet in facets(rule)
            )
        return self.by_rule[key]

    def branch_number(self, node: Node) -> int:
        return self.number(branch_element(node, self.context))

    def number(self, element: Element) -> int:
        """The number of an element, given when it is first met."""
        identity = element.id
        if identity not in self.numbers:
            self.numbers[identity] = len(self.elements)
            self.elements.append(identity)
        return self.numbers[identity]

    def judge(self, node: Node) -> str:
        """The name of a function that says exactly whether a node accepts a value, for where a False would be
        believed.
        """
        context, known = self.context, self.known

        def exactly(value: Any) -> bool:
            return accepts(node, value, context.fresh(known))

        return self.bind(exactly)

    def begin(self) -> None:
        """Forgets what was found of the value before: another may stand where it stood."""
        if self.tried:
            self.tried.clear()
        if self.known:
            self.known.clear()

    def hits(self, records: list[Record]) -> frozenset[str]:
        """Ids of the elements that some records tell of. Records that are alike are read once."""
        if len(records) == 1:
            return self.meaning(records[0])
        return frozenset().union(*map(self.meaning, set(records)))

    def meaning(self, record: Record) -> frozenset[str]:
        """The elements that a record tells of."""
        known = self.read.get(record)
        if known is None:
            numbers = (record,) if isinstance(record, int) else record[0].numbers(record[1:])
            known = frozenset(self.elements[number] for number in numbers)
            if len(self.read) < MAX_READ:
                self.read[record] = known
        return known

    def search(self, pattern: Pattern) -> str:
        """A variable that holds a pattern's search."""
        plain = pattern.plain_search()
        if plain is not None:
            return self.bind(plain)

        def search(text: str) -> bool:
            try:
                return pattern.search(text)
            except PatternTimeout:
                return False

        return self.bind(search)
