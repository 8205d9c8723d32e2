"""What operations need from elsewhere: inputs that by what they are called identify something."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from juxtalogos.compose.outlines import carries
from juxtalogos.compose.resources import Resources, owner
from juxtalogos.conventions.naming import last_part, plain, singular
from juxtalogos.model.contract import Operation
from juxtalogos.model.location import Location
from juxtalogos.model.schema import OutlineRow

ID_LIKE = re.compile(
    r"(?:^id|^uuid|Id|_id|-id|ID|[Nn]umber|No|_no|Nr|_nr|[Cc]ode|[Kk]ey|[Rr]ef|[Uu]uid|[Ss]lug)$"
)


_REFERRING = ("query", "header")
"""Where an optional input may name something that is there."""


@dataclass(frozen=True, slots=True)
class Need:
    """An input that takes its value from elsewhere."""

    operation: Operation
    address: str
    name: str
    noun: str
    """What it identifies, in the singular; empty for a version."""
    resource: str
    """The key of the resource of which it names an item, where that is certain: a path parameter's."""
    row: OutlineRow | None
    optional: bool = False
    """Whether it need not be sent."""
    version: bool = False
    """Whether it is the version that a request depends on, and no id."""

    @property
    def place(self) -> Location | None:
        return self.row.place if self.row else None

    @property
    def kind(self) -> str:
        return self.row.type.partition(" ")[0] if self.row else ""


def needs_of(resources: Resources, operation: Operation) -> Iterator[Need]:
    """The inputs that by what they are called identify something."""
    resource = resources.of(operation)
    chooses = resource is not None and any(
        candidate.id == operation.id for candidate in resources.chosen(resource)
    )
    for declared_input in operation.inputs:
        row = next(iter(resources.rows.of(declared_input.schema, 0)), None)
        if chooses and declared_input.identifies and declared_input.identifies == operation.resource:
            continue  # its caller chooses it
        if declared_input.is_version:
            if resource is not None and operation.id in resource.items and not operation.safe:
                yield Need(operation, declared_input.address, declared_input.name, "", "", row, version=True)
        elif declared_input.schema is None:
            continue
        elif not declared_input.required:
            if declared_input.place in _REFERRING and owner(declared_input.name):
                name = declared_input.name
                yield Need(operation, declared_input.address, name, owner(name), "", row, True)
        elif declared_input.identifies:
            yield Need(
                operation,
                declared_input.address,
                declared_input.name,
                singular(last_part(declared_input.identifies)),
                declared_input.identifies,
                row,
            )
        elif ID_LIKE.search(declared_input.name):
            yield Need(
                operation,
                declared_input.address,
                declared_input.name,
                owner(declared_input.name) or (operation.noun if plain(declared_input.name) == "id" else ""),
                "",
                row,
            )
    for row in resources.rows.sent(operation):
        if (
            row.path
            and not row.read_only
            and f"body{row.path}" not in operation.names
            and carries(row)
            and (ID_LIKE.search(name := name_of(row)) or ID_LIKE.search(row.shared))
        ):
            noun = owner(name) or ("" if operation.resource else singular(above(row.path)) or operation.noun)
            optional = not row.required or "/0" in row.path
            yield Need(operation, f"body{row.path}", name, noun, "", row, optional)
        elif _refers(resources, operation, row):
            yield Need(operation, f"body{row.path}", row.name, singular(row.name), "", row, not row.required)


_UNIVERSAL = re.compile(r"uuid|guid", re.IGNORECASE)


def _refers(resources: Resources, operation: Operation, row: OutlineRow) -> bool:
    """Whether a universal identifier is called like a resource: `quay`, of a quay."""
    if row.depth != 1 or row.read_only or not carries(row) or f"body{row.path}" in operation.names:
        return False
    universal = _UNIVERSAL.search(row.type) or _UNIVERSAL.search(row.allowed)
    return bool(universal) and bool(resources.named(singular(row.name)))


def name_of(row: OutlineRow) -> str:
    """What a value is called; an item of a list (`berth_ids/0`) after the list, in the singular."""
    if row.path.endswith("/0"):
        return singular(row.path.split("/")[-2])
    return row.name


def above(path: str) -> str:
    """The name of what a value lies in: of `/job/0/id` it is `job`."""
    names = [token for token in path.split("/") if token and not token.isdigit()]
    return names[-2] if len(names) > 1 else ""
