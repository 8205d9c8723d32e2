"""Outlines of a contract's schemas, each made once: many operations share them."""

from __future__ import annotations

from collections.abc import Iterable

from juxtalogos.model.contract import Contract, DeclaredAnswer, Media, Operation
from juxtalogos.model.schema import OutlineRow, SchemaRef

DEEPEST = 4
"""Levels of a body that are looked at: what lies deeper is seldom what another operation needs."""


class Rows:
    """The rows of schemas, by reference and depth."""

    def __init__(self, contract: Contract) -> None:
        self.contract = contract
        self.known: dict[tuple[SchemaRef, int], tuple[OutlineRow, ...]] = {}

    def of(self, ref: SchemaRef | None, depth: int = DEEPEST) -> tuple[OutlineRow, ...]:
        """The rows of a schema, so many levels deep; none without one."""
        if ref is None:
            return ()
        found = self.known.get((ref, depth))
        if found is None:
            found = self.known[ref, depth] = tuple(self.contract.schema(ref).outline(depth=depth))
        return found

    def answered(self, operation: Operation) -> tuple[OutlineRow, ...]:
        """What an operation answers with when it succeeds."""
        answer = success_answer(operation)
        return self.of(main_schema(answer.media)) if answer else ()

    def sent(self, operation: Operation) -> tuple[OutlineRow, ...]:
        """What its body may hold."""
        return self.of(main_schema(operation.body.media)) if operation.body else ()


def success_answer(operation: Operation) -> DeclaredAnswer | None:
    """The first declared answer of success."""
    return next((answer for answer in operation.answers if answer.outcome.succeeded), None)


def main_schema(medias: Iterable[Media]) -> SchemaRef | None:
    """The schema of JSON, else of XML: what values can be taken out of."""
    for kind in ("json", "xml"):
        for media in medias:
            if media.schema and kind in media.media_type:
                return media.schema
    return None


def carries(row: OutlineRow) -> bool:
    """Whether a row is a single value that can tell one thing from another."""
    return row.scalar and row.type.partition(" ")[0] not in ("boolean", "null")
