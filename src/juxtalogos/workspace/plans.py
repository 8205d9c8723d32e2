"""Stored run plans, `[plans.NAME]` of the configuration: a selection of cases with the options of a run."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from typing import Any


@dataclass(frozen=True, slots=True)
class StoredPlan:
    """What a stored plan says; None, empty or False where it leaves an option to the command."""

    what: tuple[str, ...] = ()
    """`SUITE`, `FOLDER`, `SUITE#CASE` or `SUITE#CASE#STEP`; none for every suite."""
    tag: tuple[str, ...] = ()
    operation: tuple[str, ...] = ()
    target: str = ""
    role: str = ""
    jobs: int | None = None
    processes: int | None = None
    repeat: int | None = None
    seed: int | None = None
    pace: float | None = None
    order: str = ""
    strict: bool = False
    strict_clean: bool = False
    stop_at_first: bool = False
    inputs: Mapping[str, Any] = field(default_factory=dict)
    """Values of inputs, as `run --set` gives them."""

    @classmethod
    def of(cls, table: Mapping[str, Any]) -> StoredPlan:
        """From its table, whose form was checked."""
        found = {name.replace("-", "_"): value for name, value in table.items()}
        for name in ("what", "tag", "operation"):
            found[name] = tuple(found.get(name, ()))
        return cls(**found)

    def written(self) -> dict[str, Any]:
        """Its table, without what it leaves open."""
        found = {}
        for one in fields(self):
            value = getattr(self, one.name)
            if value is not None and value not in ("", (), False, {}):
                found[one.name.replace("_", "-")] = list(value) if isinstance(value, tuple) else value
        return found
