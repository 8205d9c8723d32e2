"""Coverage: the elements a contract declares beside the hits that exchanges made. Pure; knows no format."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Protocol

from juxtalogos.model.elements import Element
from juxtalogos.model.wire import Wire


class HitLike(Protocol):
    """What coverage needs of a stored hit."""

    @property
    def element(self) -> str: ...
    @property
    def operation(self) -> str: ...
    @property
    def count(self) -> int: ...


@dataclass(frozen=True, slots=True)
class Covered:
    """An element, how often it was hit, and the operations it belongs to."""

    element: Element
    hits: int
    operations: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Share:
    """Some of so many."""

    exercised: int
    declared: int

    @property
    def percent(self) -> float:
        return 100.0 * self.exercised / self.declared if self.declared else 100.0


@dataclass(frozen=True, slots=True)
class Coverage:
    contract: str
    rows: tuple[Covered, ...]
    hits_by_operation: tuple[tuple[str, frozenset[str]], ...]
    """(operation, ids of the elements that its exchanges hit)."""
    kinds: Mapping[str, str]
    """Kinds of element and their heading."""

    def heading(self, kind: str) -> str:
        return self.kinds.get(kind, kind)

    @property
    def total(self) -> Share:
        return _share(self.rows)

    def by_kind(self) -> list[tuple[str, Share]]:
        """(heading, share) of each kind that the contract has."""
        found = []
        for kind, heading in self.kinds.items():
            rows = [row for row in self.rows if row.element.kind == kind]
            if rows:
                found.append((heading, _share(rows)))
        return found

    def by_operation(self) -> list[tuple[str, Share]]:
        """Of the elements that belong to each operation, those that its own exchanges hit."""
        hits = dict(self.hits_by_operation)
        own: dict[str, list[str]] = {}
        for row in self.rows:
            for operation in row.operations:
                own.setdefault(operation, []).append(row.element.id)
        return [
            (operation, Share(sum(one in hits.get(operation, frozenset()) for one in ids), len(ids)))
            for operation, ids in own.items()
        ]

    def gaps(self) -> list[Covered]:
        return [row for row in self.rows if not row.hits]


def _share(rows: Iterable[Covered]) -> Share:
    counted = list(rows)
    return Share(sum(row.hits > 0 for row in counted), len(counted))


def measure(wire: Wire, kinds: Mapping[str, str], hits: Iterable[HitLike]) -> Coverage:
    """The coverage of a contract by the hits of one or several runs.

    `kinds` of element, each with its heading, in the order of the tables.
    """
    contract = wire.contract
    counts: dict[str, int] = {}
    by_operation: dict[str, set[str]] = {}
    for hit in hits:
        counts[hit.element] = counts.get(hit.element, 0) + hit.count
        by_operation.setdefault(hit.operation, set()).add(hit.element)
    elements: dict[str, tuple[Element, dict[str, None]]] = {}
    for operation in contract.operations:
        for element in wire.elements(operation):
            elements.setdefault(element.id, (element, {}))[1][operation.id] = None
    order = {kind: index for index, kind in enumerate(kinds)}
    rows = [
        Covered(element, counts.get(identity, 0), tuple(operations))
        for identity, (element, operations) in elements.items()
    ]
    rows.sort(key=lambda row: order.get(row.element.kind, 99))
    return Coverage(
        contract.name,
        tuple(rows),
        tuple((operation, frozenset(found)) for operation, found in by_operation.items()),
        kinds,
    )
