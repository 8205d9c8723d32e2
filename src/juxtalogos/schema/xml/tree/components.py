"""The components of a schema: declarations, complex types, model groups (XSD 1.0 part 1, section 2.2).

They refer to each other, so each is made empty and filled once: types by the reader, the rest when made.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from juxtalogos.schema.xml.tree.simple_types import XSD, SimpleType, Where


@dataclass(slots=True, eq=False)
class Attribute:
    """One attribute that a type may or must have."""

    name: str
    """`{namespace}local`."""
    type: SimpleType
    where: Where
    required: bool = False
    default: str | None = None
    fixed: str | None = None
    description: str = ""
    technical: bool = False
    """Whether it serves the writing of a value and is no part of it: nobody sets it by hand."""


@dataclass(frozen=True, slots=True, eq=False)
class Wildcard:
    """`any` or `anyAttribute`: namespaces that are let in, or all but these; "" is no namespace."""

    namespaces: frozenset[str]
    negated: bool
    process: str
    """`strict`, `lax` or `skip`."""
    where: Where

    def admits(self, namespace: str) -> bool:
        return (namespace in self.namespaces) != self.negated

    def both(self, other: Wildcard) -> Wildcard:
        """What both let in."""
        if self.negated and other.negated:
            found, negated = self.namespaces | other.namespaces, True
        elif self.negated or other.negated:
            listed, not_these = (other, self) if self.negated else (self, other)
            found, negated = listed.namespaces - not_these.namespaces, False
        else:
            found, negated = self.namespaces & other.namespaces, False
        return Wildcard(found, negated, self.process, self.where)

    def either(self, other: Wildcard) -> Wildcard:
        """What one of the two lets in."""
        if self.negated and other.negated:
            found, negated = self.namespaces & other.namespaces, True
        elif self.negated or other.negated:
            listed, not_these = (other, self) if self.negated else (self, other)
            found, negated = not_these.namespaces - listed.namespaces, True
        else:
            found, negated = self.namespaces | other.namespaces, False
        return Wildcard(found, negated, self.process, self.where)

    def words(self) -> str:
        """What it lets in, in words."""
        if self.negated and not self.namespaces:
            return "any"
        names = ", ".join(sorted(name or "no namespace" for name in self.namespaces))
        return f"any but of {names}" if self.negated else f"any of {names}"


@dataclass(slots=True, eq=False)
class ComplexType:
    name: str
    """`{namespace}local`; empty where it has none."""
    where: Where
    base: ComplexType | SimpleType | None = None
    derivation: str = "restriction"
    abstract: bool = False
    mixed: bool = False
    block: frozenset[str] = frozenset()
    final: frozenset[str] = frozenset()
    content: Particle | None = None
    simple: SimpleType | None = None
    """The type of its text, where it has text and no elements."""
    attributes: dict[str, Attribute] = field(default_factory=dict)
    any_attribute: Wildcard | None = None
    description: str = ""
    unread: bool = False
    """Whether it names something that is not there, so that what it lets in is not known."""
    automaton: Any = None
    layout: Any = None
    """Both made when they are first needed."""

    def ancestors(self) -> Iterator[ComplexType | SimpleType]:
        """The types that it is derived from, the nearest first."""
        at: ComplexType | SimpleType | None = self
        while at is not None:
            yield at
            at = at.base


Type = ComplexType | SimpleType
ANY_TYPE = f"{{{XSD}}}anyType"


@dataclass(slots=True, eq=False)
class Constraint:
    """`unique`, `key` or `keyref` (part 1, section 3.11)."""

    kind: str
    name: str
    selector: tuple[Path, ...]
    fields: tuple[tuple[Path, ...], ...]
    where: Where
    refers: str = ""


@dataclass(frozen=True, slots=True)
class Path:
    """One alternative of a selector or field: tests of child elements, at last perhaps
    one of an attribute.
    """

    steps: tuple[str, ...]
    """`{namespace}local`, `{namespace}*` or `*`."""
    anywhere: bool = False
    """Whether it began with `.//`."""
    attribute: str = ""


@dataclass(slots=True, eq=False)
class ElementDecl:
    name: str
    """`{namespace}local`."""
    where: Where
    type: Type
    nillable: bool = False
    abstract: bool = False
    default: str | None = None
    fixed: str | None = None
    block: frozenset[str] = frozenset()
    final: frozenset[str] = frozenset()
    head: str = ""
    """The head of its substitution group."""
    constraints: tuple[Constraint, ...] = ()
    description: str = ""
    unread: bool = False
    """Whether its declaration or its type is not there, so that nothing is known of what stands in it."""


@dataclass(frozen=True, slots=True, eq=False)
class ModelGroup:
    kind: str
    """`sequence`, `choice` or `all`."""
    particles: tuple[Particle, ...]
    where: Where


@dataclass(frozen=True, slots=True, eq=False)
class Particle:
    term: ElementDecl | Wildcard | ModelGroup
    least: int
    most: int | None
    where: Where


def elements_in(particle: Particle | None) -> Iterator[tuple[Particle, bool]]:
    """(particle of an element or wildcard, whether it may stand more than once), in order of declaration."""
    if particle is None:
        return
    waiting: list[tuple[Particle, bool]] = [(particle, False)]
    while waiting:
        one, several = waiting.pop()
        several = several or one.most is None or one.most > 1
        if isinstance(one.term, ModelGroup):
            waiting += [(inner, several) for inner in reversed(one.term.particles)]
        else:
            yield one, several


def derived(one: Type, base: Type, blocked: frozenset[str] = frozenset()) -> bool:
    """Whether a type is another or derived from it, by no way that is blocked (sections 3.4.6 and 3.14.6)."""
    at: Type | None = one
    while at is not None and at is not base:
        how = at.derivation if isinstance(at, ComplexType) else "restriction"
        if how in blocked:
            return False
        if (
            isinstance(at, SimpleType)
            and isinstance(base, SimpleType)
            and base.variety == "union"
            and at in base.members
        ):
            return True
        at = at.base
    if at is base:
        return True
    return (isinstance(base, ComplexType) and base.name == ANY_TYPE) or (
        isinstance(base, SimpleType)
        and base.variety == "union"
        and any(derived(one, member) for member in base.members)
    )


def blocked_by(one: Type) -> frozenset[str]:
    return one.block if isinstance(one, ComplexType) else frozenset()
