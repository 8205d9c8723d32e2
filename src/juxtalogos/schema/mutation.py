"""What every schema engine gives when it is asked for values beside the plain sample: broken ones, and ones at a limit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from juxtalogos.model.findings import Deviation
from juxtalogos.model.location import Location


@dataclass(frozen=True, slots=True)
class Mutation:
    """A value that breaks `keyword` at `path`; `also` are the other rules that break with it."""

    value: Any
    path: str
    keyword: str
    location: Location
    what: str
    also: tuple[Deviation, ...]


@dataclass(frozen=True, slots=True)
class Boundary:
    """A valid value that reaches `keyword` at `path`."""

    value: Any
    path: str
    keyword: str
    location: Location
    what: str
