"""The interpreter: checks a value against a node, every deviation with its path.

One operator is one function in `OPERATORS`. All are plain functions that call one another directly, without
generators, so that deep values cost no C stack.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Protocol

from juxtalogos.documents.jsonvalues import seen
from juxtalogos.model.findings import Deviation
from juxtalogos.model.location import Location, join_pointer
from juxtalogos.model.schema import Direction
from juxtalogos.schema.json.tree.nodes import Node, Reference, Rule
from juxtalogos.schema.json.tree.store import SchemaStore
from juxtalogos.schema.json.tree.walk import iter_nodes
from juxtalogos.schema.patterns import Pattern

Record = int | tuple[Any, ...]
"""What was hit, for the compiler to read: an element's number, or what one call of a
compiled function tells."""


class FastCheck(Protocol):
    """What passes over the sound parts of a value quickly, and numbers what is hit."""

    def passes(self, node: Node, value: Any, hits: list[Record] | None) -> bool:
        """Whether a value is sound at once; then what it hit is added."""

    def branch_number(self, node: Node) -> int: ...

    def property_number(self, node: Node) -> int: ...

    def enum_number(self, rule: Rule, member: Any) -> int: ...

    def facet_numbers(self, rule: Rule) -> tuple[tuple[Any, int], ...]:
        """(class of values that a rule distinguishes, its number)."""


Path = tuple[Any, ...]
"""Linked: () or (path of the parent, key)."""


@dataclass(slots=True)
class Evaluated:
    """The names and indices that some rule has looked at, for the `unevaluated` keywords."""

    names: set[str] = field(default_factory=set)
    items: set[int] = field(default_factory=set)
    all_items: bool = False

    def add(self, other: Evaluated) -> None:
        """Adds what another rule has looked at."""
        self.names |= other.names
        self.items |= other.items
        self.all_items |= other.all_items


@dataclass(slots=True)
class Context:
    """One check under way."""

    store: SchemaStore
    direction: Direction
    asserts_format: bool | None
    scope: tuple[str, ...] = ()
    """Base URIs entered so far, outermost first."""
    deviations: list[Deviation] = field(default_factory=list)
    compiler: FastCheck | None = None
    """Passes over the sound parts of a value quickly."""
    hits: list[Record] | None = None
    """Records of what was hit, for the compiler to read. None where hits do not count."""

    telling: dict[int, set[int]] = field(default_factory=dict)
    """By value the discriminators being followed: the schema that is told contains the one that tells."""
    known: dict[Any, Remembered] = field(default_factory=dict)
    """What was found of a schema at an object or list: several ways may lead there, and each would double the
    work below."""

    def fresh(self, known: dict[Any, Remembered] | None = None) -> Context:
        """A context like this one, with nothing found yet; `known` is shared with others
        of the same value.
        """
        return Context(self.store, self.direction, self.asserts_format, known={} if known is None else known)


@dataclass(frozen=True, slots=True)
class Remembered:
    """What a schema said of a value."""

    path: Path
    deviations: list[Deviation]
    hits: list[Record] | None
    evaluated: Evaluated | None


@dataclass(slots=True)
class Visit:
    """One schema at one value."""

    node: Node
    path: Path
    context: Context
    evaluated: Evaluated | None
    home: Node
    """The schema at which the value was first met."""


def render(path: Path) -> str:
    """A linked path as a JSON Pointer."""
    keys: list[str | int] = []
    while path:
        path, key = path
        keys.append(key)
    return join_pointer(reversed(keys))


WITH_FACETS = frozenset(("type", "minimum", "maximum", "minLength", "maxLength", "minItems", "maxItems"))


def check_node(
    node: Node,
    value: Any,
    path: Path,
    context: Context,
    evaluated: Evaluated | None = None,
    home: Node | None = None,
) -> None:
    """Adds the deviations of a value to the context.

    `home` is the schema at which the value was first met.
    """
    if node.constant is not None:
        if node.constant is False:
            add(context, path, Rule("false", None, "false", node.location), "no value at all", seen(value))
        return
    kind = type(value)
    if (home is not None or kind is dict or kind is list) and id(value) not in context.telling:
        _check_once(node, value, path, context, evaluated, home)
    else:
        _check(node, value, path, context, evaluated, home)


def _check_once(
    node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node | None
) -> None:
    """A value is gone through once by each schema, however many ways lead there."""
    key = (id(node), id(value), id(home), context.scope, evaluated is None, context.hits is None)
    known = context.known.get(key)
    if known is None or (known.deviations and known.path is not path and render(known.path) != render(path)):
        outer, context.deviations = context.deviations, []
        hits, context.hits = context.hits, None if context.hits is None else []
        own = None if evaluated is None else Evaluated()
        _check(node, value, path, context, own, home)
        # The same thing found by several ways counts once, or the lists would double with each level.
        found = context.deviations if len(context.deviations) < 2 else list(dict.fromkeys(context.deviations))
        told = context.hits and list(dict.fromkeys(context.hits))
        known = context.known[key] = Remembered(path, found, told, own)
        context.deviations, context.hits = outer, hits
    context.deviations += known.deviations
    if context.hits is not None and known.hits is not None:
        context.hits += known.hits
    if evaluated is not None and known.evaluated is not None:
        evaluated.add(known.evaluated)


def _check(
    node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node | None
) -> None:
    untried = context.compiler is not None and home is None and bool(node.rules)
    if untried and context.compiler is not None and context.compiler.passes(node, value, context.hits):
        return
    entered = context.scope
    if not entered or entered[-1] != node.base:
        context.scope = (*entered, node.base)
    outer = evaluated
    if node.looks_back:
        evaluated = Evaluated()  # what stands beside this schema is no concern of its `unevaluated` keywords
    visit = Visit(node, path, context, evaluated, home or node)
    for rule in node.rules:
        OPERATORS[rule.op](rule, value, visit)
        if context.hits is not None and context.compiler is not None and rule.op in WITH_FACETS:
            context.hits += [
                number for facet, number in context.compiler.facet_numbers(rule) if facet.test(value)
            ]
    if outer is not None and evaluated is not None and evaluated is not outer:
        outer.add(evaluated)
    context.scope = entered


def accepts(node: Node, value: Any, context: Context) -> bool:
    """Whether a value has no deviation, in a context like the given one."""
    return not [deviation for deviation in attempt(node, value, (), context)[0] if not deviation.advisory]


def attempt(
    node: Node, value: Any, path: Path, context: Context, track: bool = False, hits: bool = False
) -> tuple[list[Deviation], Evaluated | None]:
    """The deviations alone, left out of the context; with `hits`, those count when the value is accepted."""
    kept, context.deviations = context.deviations, []
    outer = context.hits
    context.hits = [] if outer is not None and hits else None
    evaluated = Evaluated() if track else None
    check_node(node, value, path, context, evaluated)
    found, context.deviations = context.deviations, kept
    tried, context.hits = context.hits, outer
    if outer is not None and tried and all(deviation.advisory for deviation in found):
        outer += tried
    return found, evaluated


def follow(reference: Reference, context: Context) -> Node:
    """The schema that a reference leads to; BadReference when there is none."""
    if reference.mode == "dynamic":
        return context.store.resolve_dynamic(reference.uri, context.scope)
    if reference.mode == "recursive":
        return context.store.resolve_recursive(reference.uri, context.scope)
    return context.store.resolve(reference.uri)


def add(
    context: Context,
    path: Path,
    rule: Rule,
    wanted: str,
    got: str,
    *,
    advisory: bool = False,
    because: tuple[Deviation, ...] = (),
) -> None:
    context.deviations.append(
        Deviation(
            render(path),
            rule.keyword if rule.op != "members" else "additionalProperties",
            rule.location,
            wanted,
            got,
            advisory,
            because=because,
        )
    )


def add_undecided(context: Context, path: Path, pattern: Pattern, location: Location) -> None:
    """Nothing is known of a value whose pattern passed its time limit."""
    got = "undecided: the pattern took too long"
    wanted = f"text matching {pattern.source}"
    context.deviations.append(
        Deviation(render(path), "pattern", location, wanted, got, advisory=True, undecided=True)
    )


Operator = Callable[[Rule, Any, Visit], None]
OPERATORS: dict[str, Operator] = {}


def operator(name: str) -> Callable[[Operator], Operator]:
    """Puts a function into the table of operators."""

    def register(function: Operator) -> Operator:
        OPERATORS[name] = function
        return function

    return register


def is_other_direction(name: str, home: Node, context: Context) -> bool:
    """A required readOnly property need not be in a request, nor a writeOnly one in a response (OpenAPI
    3.0.3, schema object).
    """
    for node in property_nodes(name, home, context):
        notes = deep_notes(node, context)
        if (notes[0] and context.direction is Direction.REQUEST) or (
            notes[1] and context.direction is Direction.RESPONSE
        ):
            return True
    return False


def property_nodes(name: str, home: Node, context: Context) -> list[Node]:
    """Every declaration of a property in the schemas that apply to one object."""
    found: list[Node] = []
    for node in same_value_nodes(home, context):
        members = node.rule("members")
        if members and name in members.operand.properties:
            found.append(members.operand.properties[name])
    return found


def same_value_nodes(home: Node, context: Context, limit: int = 200) -> list[Node]:
    """A node and all that apply to the same value through references and combinations."""
    found: list[Node] = []
    waiting = [home]
    while waiting and len(found) < limit:
        node = waiting.pop(0)
        if any(node is other for other in found):
            continue
        found.append(node)
        reference = node.rule("ref")
        if reference:
            waiting.append(follow(reference.operand, context))
        waiting += [child for _, child in iter_nodes(node)]
    return found


def deep_notes(node: Node, context: Context) -> tuple[bool, bool]:
    """(readOnly, writeOnly), also where they stand behind a reference."""
    known = context.store.notes.get(node)
    if known is None:
        nodes = same_value_nodes(node, context, 20) if node.rule("ref") or node.rule("allOf") else [node]
        known = any(child.notes.read_only for child in nodes), any(child.notes.write_only for child in nodes)
        context.store.notes[node] = known
    return known
