"""Techniques: what an exploration does for each resource, and for each operation."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING

from juxtalogos.plugins import Table

if TYPE_CHECKING:
    from juxtalogos.explore.resources.kinds import ResourceKind
    from juxtalogos.explore.resources.sandbox import Sandbox
    from juxtalogos.model.contract import Operation

    KindTechnique = Callable[[Sandbox, ResourceKind], Awaitable[None]]
    OperationTechnique = Callable[[Sandbox, Operation, ResourceKind | None], Awaitable[None]]

_HERE = "juxtalogos.explore.techniques"
KIND_TECHNIQUES: Table[KindTechnique] = Table("juxtalogos.kind_techniques")
"""By name, what is done for each resource, in this order: what is cheap and finds much first."""
for _name, _place in (
    ("made and read", "lifecycle:made_and_read"),
    ("jobs", "single:jobs"),
    ("changed", "updates:updates"),
    ("conditions", "updates:conditions"),
    ("deleted", "lifecycle:deleted"),
    ("deleted with others below", "lifecycle:deleted_twice"),
    ("actions", "actions:actions"),
    ("deleted in each state", "conflicts:states_of_deletion"),
    ("twice", "conflicts:doubles"),
    ("in use", "conflicts:used_things"),
    ("references", "conflicts:references"),
    ("ended references", "conflicts:ended_reference"),
    ("below another", "conflicts:owners"),
    ("what does not exist", "conflicts:unknown"),
    ("pages", "paging:pages_of_lists"),
    ("queries", "lists:queries"),
    ("one of it", "single:singletons"),
    ("many at once", "single:bulk"),
):
    KIND_TECHNIQUES.register(_name, f"{_HERE}.{_place}")

OPERATION_TECHNIQUES: Table[OperationTechnique] = Table("juxtalogos.operation_techniques")
"""By name, what is done for each operation, in this order."""
for _name, _place in (
    ("called", "covering:called"),
    ("sign-in", "forms:sign_in"),
    ("malformed", "forms:syntax"),
    ("methods", "forms:methods"),
    ("valid values", "covering:covering_values"),
    ("broken values", "broken:broken_values"),
):
    OPERATION_TECHNIQUES.register(_name, f"{_HERE}.{_place}")
