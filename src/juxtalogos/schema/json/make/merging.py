"""All that several schemas together say of one value, merged for whoever makes such a value."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import unquote

from juxtalogos.model.location import Location
from juxtalogos.schema.json.check.interpreter import Context, follow
from juxtalogos.schema.json.tree.nodes import Contains, Discriminator, Items, Members, Node, Rule
from juxtalogos.schema.json.tree.store import BadReference
from juxtalogos.schema.patterns import Pattern

MAX_NODES = 400
_NAMED = re.compile(r"/(?:definitions|components/schemas)/[^/]+")


class Impossible(Exception):
    """These schemas together allow no value; says why."""


@dataclass(slots=True)
class Shape:
    """Merged constraints. `limits` holds the narrowest number of each limit operator."""

    types: list[str] | None = None
    values: list[Any] | None = None
    limits: dict[str, Any] = field(default_factory=dict)
    multiples: list[Any] = field(default_factory=list)
    patterns: list[Pattern] = field(default_factory=list)
    formats: list[str] = field(default_factory=list)
    members: list[Members] = field(default_factory=list)
    required: list[str] = field(default_factory=list)
    names: list[Node] = field(default_factory=list)
    dependents: list[Mapping[str, tuple[str, ...]]] = field(default_factory=list)
    items: list[Items] = field(default_factory=list)
    contains: list[Contains] = field(default_factory=list)
    unique: bool = False
    examples: list[Any] = field(default_factory=list)
    defaults: list[Any] = field(default_factory=list)
    fixed: dict[str, Any] = field(default_factory=dict)
    """Values that a discriminator demands of properties."""
    closed: bool = False
    choices: int = 1
    """How many combinations of branches there are."""


_NARROWER = {"minimum": max, "exclusiveMinimum": max, "maximum": min, "exclusiveMaximum": min}
_NARROWER |= {f"min{what}": max for what in ("Length", "Items", "Properties")}
_NARROWER |= {f"max{what}": min for what in ("Length", "Items", "Properties")}


class Merger:
    """Merges the schemas of one value; `turn` numbers the combination of branches to take."""

    def __init__(self, context: Context, turn: int, full: bool) -> None:
        self.context = context
        self.turn = turn
        self.full = full
        self.shape = Shape()
        self.seen: set[int] = set()
        self.first: Location | None = None
        """The first schema that has a name of its own."""

    def merge(self, nodes: tuple[Node, ...]) -> Shape:
        """Impossible when a schema among them allows nothing."""
        for node in nodes:
            self.add(node)
        return self.shape

    def choose(self, count: int) -> int:
        """One of so many, by the seed."""
        if count < 1:
            raise Impossible("there is no branch to choose")
        self.shape.choices = min(self.shape.choices * count, 10_000)
        index = self.turn % count
        self.turn //= count
        return index

    def add(self, node: Node) -> None:
        """Adds what a schema says."""
        if node.constant is False:
            raise Impossible(f"the schema at {node.location} allows nothing")
        if id(node) in self.seen:
            return
        if self.first is None and _NAMED.fullmatch(node.location.pointer):
            self.first = node.location
        self.seen.add(id(node))
        if len(self.seen) > MAX_NODES:
            raise Impossible(f"more than {MAX_NODES} schemas apply to one value")
        self.shape.examples += node.notes.examples
        self.shape.defaults += node.notes.default
        if node.notes.meant:
            self.narrow_types(list(node.notes.meant))
        for rule in node.rules:
            self.add_rule(rule, node)

    def add_rule(self, rule: Rule, node: Node) -> None:
        """Adds what a rule says."""
        shape, operand = self.shape, rule.operand
        match rule.op:
            case "ref":
                self.add(follow(operand, self.context))
            case "type":
                self.narrow_types([name.replace("strict ", "") for name in operand])
            case "enum":
                self.narrow_values(list(operand))
            case "const":
                self.narrow_values([operand])
            case op if op in _NARROWER:
                shape.limits[op] = _NARROWER[op](shape.limits[op], operand) if op in shape.limits else operand
            case "multipleOf":
                shape.multiples.append(operand)
            case "pattern":
                shape.patterns.append(operand)
            case "format":
                shape.formats.append(operand[0])
            case "uniqueItems":
                shape.unique = True
            case "required":
                shape.required += [name for name in operand if name not in shape.required]
            case "members":
                shape.members.append(operand)
            case "propertyNames":
                shape.names.append(operand)
            case "dependentRequired":
                shape.dependents.append(operand)
            case "items":
                shape.items.append(operand)
            case "contains":
                shape.contains.append(operand)
            case "unevaluatedProperties" | "unevaluatedItems":
                shape.closed |= operand.constant is False
            case _:
                self.add_combination(rule, node)

    def add_combination(self, rule: Rule, node: Node) -> None:
        """Adds a branch of a combination."""
        operand = rule.operand
        match rule.op:
            case "allOf":
                for child in operand:
                    self.add(child)
            case "anyOf" | "oneOf":
                child = operand[self.choose(len(operand))]
                if node.discriminator:
                    self.tell_apart(node, child)
                self.add(child)
            case "if":
                branch = (operand.test, operand.then), (None, operand.otherwise), (None, None)
                for child in branch[self.choose(3)]:
                    if child is not None:
                        self.add(child)
            case "discriminator":
                self.tell(operand, node)
            case "dependentSchemas":
                for name, child in operand.items():
                    if name in self.shape.required or self.full:
                        self.add(child)

    def tell_apart(self, node: Node, child: Node) -> None:
        """Fixes what tells a branch by the discriminator."""
        discriminator, reference = node.discriminator, child.rule("ref")
        if discriminator and reference:
            uri = reference.operand.uri
            named = [name for name, target in discriminator.mapping.items() if target == uri]
            self.shape.fixed[discriminator.property] = named[0] if named else uri.rpartition("/")[2]

    def tell(self, discriminator: Discriminator, node: Node) -> None:
        """The name that a common parent's discriminator demands: that of the schema in hand, else one of the
        mapping's.
        """
        first = self.first or node.location
        own = f"{first.document}#{first.pointer}"
        names = [name for name, target in discriminator.mapping.items() if unquote(target) == own]
        if first != node.location and (names or own.startswith(discriminator.family)):
            told = names[0] if names else own[len(discriminator.family) :]
        elif discriminator.mapping:
            told = list(discriminator.mapping)[self.choose(len(discriminator.mapping))]
            try:
                self.add(self.context.store.resolve(discriminator.mapping[told]))
            except BadReference as error:
                raise Impossible(f"the discriminator at {node.location} leads nowhere: {error}") from None
        elif own.startswith(discriminator.family):
            told = own[len(discriminator.family) :]
        else:
            return
        self.shape.fixed[discriminator.property] = told

    def narrow_types(self, types: list[str]) -> None:
        """Leaves types that all allow."""
        shape = self.shape
        if shape.types is None:
            shape.types = types
            return
        both = [name for name in shape.types if name in types or (name == "integer" and "number" in types)]
        both += [
            name for name in types if name == "integer" and "number" in shape.types and "integer" not in both
        ]
        if not both:
            raise Impossible(f"no value is both {' or '.join(shape.types)} and {' or '.join(types)}")
        shape.types = both

    def narrow_values(self, values: list[Any]) -> None:
        """Leaves values that all allow."""
        from juxtalogos.documents.jsonvalues import key_of

        if self.shape.values is not None:
            keys = {key_of(value) for value in values}
            values = [value for value in self.shape.values if key_of(value) in keys]
        self.shape.values = values
