"""A suite as data: the parts of an Arazzo document (1.0.1) that are run."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from juxtalogos.model.contract import Contract, Document, Operation
from juxtalogos.model.location import Location
from juxtalogos.model.seams import ABSENT


@dataclass(frozen=True, slots=True)
class Criterion:
    """`type` is `simple` or `regex`."""

    condition: str
    location: Location
    context: str = ""
    type: str = "simple"


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
class Step:
    id: str
    contract: Contract
    operation: Operation
    location: Location
    parameters: tuple[tuple[str, Any], ...] = ()
    """(address, value or expression)."""
    payload: Payload | None = None
    criteria: tuple[Criterion, ...] = ()
    outputs: tuple[tuple[str, str], ...] = ()
    description: str = ""
    always: bool = False
    """A clean-up step: run also after a failure, when what it needs is there."""


@dataclass(frozen=True, slots=True)
class Case:
    id: str
    steps: tuple[Step, ...]
    location: Location
    summary: str = ""
    inputs: Mapping[str, Any] = field(default_factory=dict)
    """Default values by name."""


@dataclass(frozen=True, slots=True)
class Suite:
    name: str
    path: Path
    document: Document
    cases: tuple[Case, ...]
    title: str = ""

    def case(self, case_id: str) -> Case | None:
        return next((case for case in self.cases if case.id == case_id), None)
