"""A suite as data: an Arazzo document (1.0.1) ready to be run."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.document import Document
from juxtalogos.model.location import Location
from juxtalogos.model.schema import ABSENT, Schema
from juxtalogos.suite.checks.written import WrittenCheck
from juxtalogos.suite.language.formulas import Formula


@dataclass(frozen=True, slots=True)
class CaseKey:
    """A case among those of all suites that take part: the suite's document and the workflow's id."""

    document: str
    case: str


@dataclass(frozen=True, slots=True)
class Criterion:
    """`type` is `simple`, `regex`, `jsonpath` or `xpath`."""

    condition: str
    location: Location
    context: str = ""
    type: str = "simple"
    version: str = ""
    presumed: bool = False
    """Whether compose wrote it for a request of which it made up a part: a declared refusal is no failure
    then."""


@dataclass(frozen=True, slots=True)
class Action:
    """What happens after a step: `end`, `goto` or, after a failure, `retry`."""

    name: str
    type: str
    location: Location
    criteria: tuple[Criterion, ...] = ()
    step: str = ""
    case: CaseKey | None = None
    after: float = 0.0
    """Seconds to wait before a retry."""
    limit: int = 1


@dataclass(frozen=True, slots=True)
class Replacement:
    target: str
    value: Any


@dataclass(frozen=True, slots=True)
class Payload:
    content_type: str
    payload: Any = ABSENT
    replacements: tuple[Replacement, ...] = ()


@dataclass(frozen=True, slots=True)
class Output:
    """`x-juxtalogos-outputs`: a value chosen by JSONPath or XPath."""

    name: str
    context: str
    type: str
    selector: str
    first: bool = False
    """Whether of several nodes the first one is meant, not all of them."""


@dataclass(frozen=True, slots=True)
class Created:
    """How a step that creates shows what it created, and where that would have been listed before, had it
    been there.
    """

    key: str
    """Runtime expression of what tells the item from others."""
    contract: Contract | None = None
    listing: Operation | None = None
    selector: str = ""
    """JSONPath, or XPath, of the keys in the list's answer."""


@dataclass(frozen=True, slots=True)
class Step:
    """A step calls an operation of a contract, or another case."""

    id: str
    location: Location
    contract: Contract | None = None
    operation: Operation | None = None
    case: CaseKey | None = None
    parameters: tuple[tuple[str, Any], ...] = ()
    """(address, or name of a case's input; value or expression)."""
    payload: Payload | None = None
    criteria: tuple[Criterion, ...] = ()
    outputs: tuple[tuple[str, str], ...] = ()
    selected: tuple[Output, ...] = ()
    checks: tuple[WrittenCheck, ...] = ()
    on_success: tuple[Action, ...] = ()
    on_failure: tuple[Action, ...] = ()
    description: str = ""
    always: bool = False
    """A clean-up step: run also after a failure, when what it needs is there."""
    flows: tuple[tuple[str, str], ...] = ()
    """(input, expression): which values of its request come from where."""
    reported: tuple[tuple[str, WrittenCheck], ...] = ()
    """(name, place) of values that are told in the report and not checked."""
    role: str = ""
    """The role of the target that it is sent as; the run's own where it names none."""
    needed: bool = False
    """Whether it only prepares what the case is about: what is found in it is told where it belongs."""
    unless: tuple[str, ...] = ()
    """A clean-up step is not taken where one of these steps succeeded."""
    creates: Created | None = None
    disabled: bool = False
    """Whether it is left out of runs."""


@dataclass(frozen=True, slots=True)
class TableSource:
    """Rows for a case: a file of the workspace, or a query of the trusted configuration."""

    kind: str
    """`file` or `query`."""
    name: str
    location: Location


@dataclass(frozen=True, slots=True)
class Case:
    id: str
    steps: tuple[Step, ...]
    location: Location
    key: CaseKey
    summary: str = ""
    description: str = ""
    tags: tuple[str, ...] = ()
    inputs: Mapping[str, Any] = field(default_factory=dict)
    """Default values by name."""
    formulas: Mapping[str, Formula] = field(default_factory=dict)
    """Values that are computed when the case begins."""
    schema: Schema | None = None
    """What its inputs must be."""
    kinds: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Declared types by input, for reading texts as values."""
    needs: tuple[CaseKey, ...] = ()
    """Cases that must be done before (`dependsOn`)."""
    success: tuple[Action, ...] = ()
    failure: tuple[Action, ...] = ()
    outputs: tuple[tuple[str, str], ...] = ()
    table: TableSource | None = None
    setup: tuple[str, ...] = ()
    """Steps that run once, before the rows of a table."""
    undoing: frozenset[str] = frozenset()
    """Clean-up steps that take values from set-up steps only: they run once, behind the rows."""
    alone: bool = False
    """Whether no other case may run meanwhile."""
    composed: bool = False
    """Whether it is as compose wrote it: what a person has edited is that person's."""
    written: tuple[Step, ...] = ()
    """All steps in their order; `steps` are those that run."""
    disabled: bool = False
    """Whether it runs only where it is enabled again."""
    in_turn: tuple[str, ...] = ()
    """Words: of all cases that have one of them in common, one runs at a time."""

    def step(self, step_id: str) -> Step | None:
        return next((step for step in self.steps if step.id == step_id), None)


@dataclass(frozen=True, slots=True)
class Suite:
    name: str
    path: Path
    document: Document
    cases: tuple[Case, ...]
    title: str = ""
    sources: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    """By name of a source description: its `url`, `name` and `type`."""
    components: Mapping[str, Any] = field(default_factory=dict)
    variables: Mapping[str, Any] = field(default_factory=dict)
    """Inputs of all its cases, weaker than anything else says."""
    namespaces: Mapping[str, str] = field(default_factory=dict)
    """Prefixes for XPath."""
    related: tuple[Path, ...] = ()
    """Files of suites that its cases lead into."""

    def case(self, case_id: str) -> Case | None:
        return next((case for case in self.cases if case.id == case_id), None)
