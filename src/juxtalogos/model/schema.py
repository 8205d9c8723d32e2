"""What a schema is to its users: the JSON and the XML engine both make one."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any, Protocol

from juxtalogos.model.elements import Element
from juxtalogos.model.findings import KEYWORD_KINDS, OF_VALUES, SIDES, Deviation
from juxtalogos.model.location import Location, split_pointer


class Direction(StrEnum):
    """Which way a value travels; readOnly and writeOnly depend on it."""

    REQUEST = "request"
    RESPONSE = "response"


@dataclass(frozen=True, slots=True)
class SchemaRef:
    """A schema named, not compiled; `Contract.schema` compiles it when it is first needed."""

    dialect: str
    document: str
    pointer: str
    direction: Direction
    members: tuple[tuple[str, SchemaRef, bool], ...] = ()
    """(name, schema, whether required) of an object that the document declares by its members only, as a form
    in OpenAPI 2.0."""

    wrapper: str = ""
    """The name of an element that the protocol puts around the members."""
    encoded: bool = False
    """Whether the protocol encodes the members by rules of its own (SOAP 1.1, section 5)."""
    role: str = ""
    """What of the place is meant, where a protocol makes several schemas of one declaration (what comes, what
    is sent, a list)."""

    @property
    def declared(self) -> tuple[SchemaRef, ...]:
        """The schemas that stand in a document: itself, or its members'."""
        return tuple(ref for _, ref, _ in self.members) or (self,)

    @property
    def location(self) -> Location:
        return Location(self.document, self.pointer)


class Absent:
    """The type of `ABSENT`: no value at all, which is not null."""

    def __repr__(self) -> str:
        return "absent"

    def __bool__(self) -> bool:
        return False

    def __deepcopy__(self, memo: object) -> Absent:
        return self


ABSENT = Absent()


@dataclass(frozen=True, slots=True)
class Wanted:
    """One value that is wanted: which one, where that is given, and what is wanted within."""

    value: Any = ABSENT
    inner: Mapping[str, Wanted] = field(default_factory=dict)
    """By property, `@attribute`, or index of a list."""

    @classmethod
    def of(cls, places: Mapping[str, Any]) -> Wanted:
        """Of values by JSON Pointer; ABSENT stands for any value. Where a place and one within it are given,
        the inner counts.
        """
        nested: dict[str, Any] = {}
        for pointer, value in places.items():
            at = nested
            for token in split_pointer(pointer):
                at = at.setdefault(token, {})
            at.setdefault("", value)
        return _made(nested)

    def __bool__(self) -> bool:
        return bool(self.inner) or self.value is not ABSENT

    def items(self) -> int:
        """How many items a list must have."""
        return max((int(key) + 1 for key in self.inner if is_index(key)), default=0)

    def below(self, key: str) -> Wanted:
        return self.inner.get(key, NOTHING)


def _made(nested: dict[str, Any]) -> Wanted:
    inner = {key: _made(item) for key, item in nested.items() if key != ""}
    return Wanted(ABSENT if inner else nested.get("", ABSENT), inner)


NOTHING = Wanted()


def is_index(token: str) -> bool:
    """Whether a step of a pointer is a number that a list may have."""
    return token.isascii() and token.isdigit() and len(token) < 10


class Examined(Protocol):
    """What one pass over a value told."""

    @property
    def deviations(self) -> tuple[Deviation, ...]: ...

    @property
    def hits(self) -> frozenset[str]:
        """Ids of the elements that the value exercises."""


class Schema(Protocol):
    """A compiled schema: the JSON and the XML engine both make one."""

    def examine(self, value: Any) -> Examined:
        """Deviations and hits in one pass; ValueError when the value is nested too deep to follow."""

    def check(self, value: Any) -> tuple[Deviation, ...]:
        """Every deviation of the value."""

    def accepts(self, value: Any) -> bool:
        """Whether the value has no deviation; the fast path."""

    @property
    def accepts_anything(self) -> bool:
        """Whether no value could fail."""

    def sample(self, *, full: bool = False, seed: int = 0, wanted: Wanted = NOTHING) -> Any:
        """A valid value, with all places that are wanted; Unsampleable when none is found."""

    def elements(self) -> Iterator[Element]:
        """Everything in the schema that a value can exercise."""

    def hits(self, value: Any) -> Iterator[str]:
        """Ids of the elements that the value exercises."""

    def outline(self, depth: int = 100) -> Iterator[OutlineRow]:
        """The schema as a person reads it, a row a property, so many levels deep."""

    def check_part(self, row: OutlineRow, value: Any) -> tuple[Deviation, ...]:
        """The deviations of a value for the place that a row of the outline tells of."""

    def mutate(self, value: Any) -> Iterator[Mutation]:
        """From a valid value, values that break one rule at one place each."""

    def boundaries(self, value: Any) -> Iterator[Boundary]:
        """From a valid value, valid ones that just reach a limit."""


class SchemaEngine(Protocol):
    """What compiles the schemas of a contract."""

    def schema(self, ref: SchemaRef) -> Schema: ...

    def assert_formats(self, asserted: bool) -> None: ...


@dataclass(frozen=True, slots=True)
class OutlineRow:
    """One line of a schema shown as a tree."""

    depth: int
    name: str
    path: str
    type: str
    required: bool
    allowed: str
    """Allowed values and limits, in words."""
    description: str = ""
    place: Location | None = None
    """The schema that says so, references followed."""
    scalar: bool = False
    """Whether it is a single text, number or truth value."""
    shared: str = ""
    """The name of the schema at `place`, where that is one which others may name too."""
    nullable: bool = False
    read_only: bool = False
    """Whether it comes back only, and is not sent."""
    write_only: bool = False
    """Whether it is sent only, and does not come back."""
    choices: tuple[Any, ...] = ()
    """The values of an enumeration, or of a truth value; none where others are allowed too."""


@dataclass(frozen=True, slots=True)
class Mutation:
    """A value that breaks `keyword` at `path`; `also` are the other rules that break with it."""

    value: Any
    path: str
    keyword: str
    location: Location
    what: str
    also: tuple[Deviation, ...]

    @property
    def kind(self) -> str:
        """The kind of finding that the broken rule makes."""
        return KEYWORD_KINDS.get(self.keyword, "body.forbidden")

    @property
    def of_value(self) -> bool:
        """Whether one value is wrong in itself: beyond a limit, in no list, of another type."""
        return self.keyword in OF_VALUES

    @property
    def side(self) -> int:
        """-1 below a lower limit, 1 beyond an upper one, 0 for other rules."""
        return SIDES.get(self.keyword, 0)


@dataclass(frozen=True, slots=True)
class Boundary:
    """A valid value that reaches `keyword` at `path`."""

    value: Any
    path: str
    keyword: str
    location: Location
    what: str

    @property
    def kind(self) -> str:
        """The kind of finding that the rule makes where it is broken."""
        return KEYWORD_KINDS.get(self.keyword, "body.forbidden")
