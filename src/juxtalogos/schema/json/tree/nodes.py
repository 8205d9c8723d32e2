"""The tree that every JSON-like schema is lowered to: nodes made of rules, each with its place in the
definition.

Dialects differ only in how they are lowered (`lower.py`). A rule's operand is already in the form that its
operator wants, so that checking, sampling, elements and words need not know the dialect.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from juxtalogos.model.location import Location
from juxtalogos.schema.patterns import Pattern


@dataclass(frozen=True, slots=True)
class Rule:
    """One operator of a node. `keyword` is the name the definition used for it."""

    op: str
    operand: Any
    keyword: str
    location: Location


@dataclass(frozen=True, slots=True)
class Reference:
    """A reference not yet followed: the absolute URI, and the scope rule it follows (`static`, `dynamic`,
    `recursive`).
    """

    uri: str
    mode: str = "static"


@dataclass(frozen=True, slots=True)
class Members:
    """`properties`, `patternProperties` and `additionalProperties` of one schema object."""

    properties: Mapping[str, Node]
    patterns: tuple[tuple[Pattern, Node], ...]
    additional: Node | None


@dataclass(frozen=True, slots=True)
class Items:
    """`prefixItems` (or an array of `items`) and what holds for the rest."""

    prefix: tuple[Node, ...]
    rest: Node | None


@dataclass(frozen=True, slots=True)
class Contains:
    node: Node
    least: int
    most: int | None
    evaluates: bool
    """Whether fitting items count as evaluated: in 2020-12, not in 2019-09."""


@dataclass(frozen=True, slots=True)
class Conditional:
    test: Node
    then: Node | None
    otherwise: Node | None


@dataclass(frozen=True, slots=True)
class Discriminator:
    """The property that tells the branches apart; `mapping` holds absolute URIs by value."""

    property: str
    mapping: Mapping[str, str]
    family: str = ""
    """URI that a bare name is put behind, to name a schema (`definition#/components/schemas/`)."""
    strict: bool = False
    """Whether the value must name a schema (OpenAPI 2.0); later versions only say that
    checking should fail."""


@dataclass(frozen=True, slots=True)
class Xml:
    """How a value is written as XML (OpenAPI, XML object)."""

    name: str = ""
    namespace: str = ""
    prefix: str = ""
    attribute: bool = False
    wrapped: bool = False


@dataclass(frozen=True, slots=True)
class Notes:
    """Annotations: they steer samples and words, never a verdict (readOnly and writeOnly
    by direction apart).
    """

    title: str = ""
    description: str = ""
    examples: tuple[Any, ...] = ()
    default: tuple[Any, ...] = ()
    read_only: bool = False
    write_only: bool = False
    deprecated: bool = False
    nullable: bool = False
    xml: Xml | None = None
    seldom: bool = False
    """Whether samples leave it out although it may be sent: it is of use to those only who mean it."""
    meant: tuple[str, ...] = ()
    """Types that are meant by names which are none, such as `int`."""
    called: str = ""
    """What a person calls the schema, where its place does not tell."""


@dataclass(frozen=True, slots=True, eq=False)
class Node:
    """One schema. `constant` is set for the boolean schemas, which have no rules."""

    location: Location
    base: str
    """The URI that its references are relative to."""
    rules: tuple[Rule, ...] = ()
    constant: bool | None = None
    notes: Notes = field(default_factory=Notes)
    discriminator: Discriminator | None = None
    looks_back: bool = False
    """Whether it has an `unevaluated` keyword."""

    def rule(self, op: str) -> Rule | None:
        return next((rule for rule in self.rules if rule.op == op), None)

    def name(self) -> str:
        """What a person calls it: as it is called, else the last part of its pointer."""
        return (
            self.notes.called
            or self.notes.title
            or self.location.pointer.rpartition("/")[2].replace("~1", "/").replace("~0", "~")
            or "schema"
        )
