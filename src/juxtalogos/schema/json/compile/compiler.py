"""Compiling: a node -> a specialised Python function that says whether a value has no deviation at all.

The function sets a flag for each element that the value hits. It answers True only when the interpreter would
find nothing, not even something advisory; whatever it doubts it answers False, and the interpreter says what is
wrong. So the valid path pays nothing for paths and messages, and there is one source of verdicts.

Every name and value of a definition enters the source as a `repr`ed constant or a bound variable, never as text.
"""

from __future__ import annotations

import itertools
from typing import Any

from juxtalogos.model.elements import Element
from juxtalogos.schema.json.check.formats import format_holds
from juxtalogos.schema.json.check.interpreter import Context, Known, accepts, follow
from juxtalogos.schema.json.compile.growth import grows
from juxtalogos.schema.json.compile.node_writer import NodeWriter
from juxtalogos.schema.json.compile.source import Compiled, Record, Stop
from juxtalogos.schema.json.tell.elements import enum_element, property_element
from juxtalogos.schema.json.tell.value_classes import Facet, branch_element, facet_element, facets
from juxtalogos.schema.json.tree.nodes import Node, Rule
from juxtalogos.schema.json.tree.store import BadReference
from juxtalogos.schema.json.tree.values import is_multiple, key_of
from juxtalogos.schema.json.tree.walk import children
from juxtalogos.schema.patterns import Pattern, PatternTimeout

MAX_READ = 10_000
"""Records whose meaning is remembered."""


class _Missing:
    pass


def _unique(items: list[Any]) -> bool:
    """Whether no two items are JSON-equal."""
    if all(type(item) is str for item in items):
        return len(set(items)) == len(items)
    return len({key_of(item) for item in items}) == len(items)


class Compiler:
    """Compiles the nodes of one store in one direction. Elements are numbered as they are met."""

    def __init__(self, context: Context) -> None:
        self.context = context
        self.elements: list[str] = []
        self.numbers: dict[str, int] = {}
        self.functions: dict[tuple[int, int], Compiled] = {}
        self.names: dict[tuple[int, int], str] = {}
        self.read: dict[Record, frozenset[str]] = {}
        self.by_node: dict[int, int] = {}
        self.by_rule: dict[int, tuple[tuple[Facet, int], ...]] = {}
        self.kept: list[Node] = []
        """Nodes whose identity is a key: kept alive."""
        self.globals: dict[str, Any] = {
            "M": _Missing,
            "Stop": Stop,
            "_none": type(None),
            "unique": _unique,
            "multiple": is_multiple,
            "key_of": key_of,
            "format_holds": format_holds,
        }
        self.tried: dict[tuple[int, int], tuple[bool, list[Record]]] = {}
        """What trials of branches came to within one check: by the rule, and the object or list."""
        self.known: dict[Any, Known] = {}
        """What the interpreter found meanwhile."""
        self.serial = itertools.count()
        self.counting = True
        """Whether hits are counted; the benchmark measures what that costs."""

    def can_compile(self, node: Node) -> bool:
        """Dynamic references, `unevaluated` keywords and a parent's discriminator look beyond one schema: those stay with the interpreter."""
        seen: set[int] = set()
        waiting = [node]
        while waiting:
            current = waiting.pop()
            if id(current) in seen:
                continue
            seen.add(id(current))
            for rule in current.rules:
                if rule.op.startswith("unevaluated") or rule.op == "discriminator":
                    return False
                if rule.op == "ref":
                    if rule.operand.mode != "static":
                        return False
                    try:
                        waiting.append(follow(rule.operand, self.context))
                    except BadReference:
                        return False
                else:
                    waiting += children(rule)
        return not grows(node, self.context)

    def function(self, node: Node) -> Compiled:
        """The function of a node, compiled when it is first asked for, with all functions it calls."""
        key = (id(node), id(node))
        if key not in self.functions:
            self.build(node, node)
        return self.functions[key]

    def build(self, node: Node, home: Node) -> None:
        waiting = [(node, home)]
        sources: list[str] = []
        built: list[tuple[tuple[int, int], str]] = []
        while waiting:
            node, home = waiting.pop()
            key = (id(node), id(home))
            name = self.name_of(node, home)
            if key in self.functions or any(key == other for other, _ in built):
                continue
            writer = NodeWriter(self, waiting)
            writer.node(node, home, "v")
            sources.append(writer.source(name))
            built.append((key, name))
        exec(compile("\n".join(sources), "<schema>", "exec"), self.globals)
        for key, name in built:
            self.functions[key] = self.globals[name]

    def name_of(self, node: Node, home: Node) -> str:
        key = (id(node), id(home))
        if key not in self.names:
            self.names[key] = f"f{len(self.names)}"
            self.kept += (node, home)
        return self.names[key]

    def bind(self, value: Any) -> str:
        name = f"c{next(self.serial)}"
        self.globals[name] = value
        return name

    def property_number(self, node: Node) -> int:
        key = id(node)
        if key not in self.by_node:
            self.kept.append(node)
            self.by_node[key] = self.number(property_element(node, self.context))
        return self.by_node[key]

    def enum_number(self, rule: Rule, member: Any) -> int:
        return self.number(enum_element(rule, member, self.context))

    def facet_numbers(self, rule: Rule) -> tuple[tuple[Facet, int], ...]:
        key = id(rule)
        if key not in self.by_rule:
            self.by_rule[key] = tuple(
                (facet, self.number(facet_element(rule, facet, self.context))) for facet in facets(rule)
            )
        return self.by_rule[key]

    def branch_number(self, node: Node) -> int:
        return self.number(branch_element(node, self.context))

    def number(self, element: Element) -> int:
        identity = element.id
        if identity not in self.numbers:
            self.numbers[identity] = len(self.elements)
            self.elements.append(identity)
        return self.numbers[identity]

    def judge(self, node: Node) -> str:
        """The name of a function that says exactly whether a node accepts a value, for where a False would be believed."""
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
        known = self.read.get(record)
        if known is None:
            numbers = (record,) if isinstance(record, int) else record[0].numbers(record[1:])
            known = frozenset(self.elements[number] for number in numbers)
            if len(self.read) < MAX_READ:
                self.read[record] = known
        return known

    def passes(self, node: Node, value: Any, hits: list[Record] | None) -> bool:
        """Whether a value is sound at once; then what it hit is added."""
        records: list[Record] = []
        if not self.function(node)(value, records):
            return False
        if hits is not None:
            hits += records
        return True

    def search(self, pattern: Pattern) -> str:
        plain = pattern.plain_search()
        if plain is not None:
            return self.bind(plain)

        def search(text: str) -> bool:
            try:
                return pattern.search(text)
            except PatternTimeout:
                return False

        return self.bind(search)
