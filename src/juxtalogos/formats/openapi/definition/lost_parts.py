"""Operations without the schemas that cannot be read: those parts are not checkable,
everything else stays.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TypeVar

from juxtalogos.formats.openapi.definition.operation_parts import cannot_be_read
from juxtalogos.model.contract import Body, DeclaredAnswer, DeclaredHeader, Input, Media, Operation
from juxtalogos.model.schema import SchemaRef

Part = TypeVar("Part", Media, Input, DeclaredHeader)
Lost = frozenset[tuple[str, str]]
"""(document, pointer) of schemas that lead nowhere, or round in a circle."""


def without_lost(operation: Operation, lost: Lost) -> Operation:
    """The operation with its unreadable parts marked."""
    return replace(
        operation,
        inputs=tuple(_without(declared_input, lost) for declared_input in operation.inputs),
        body=_body(operation.body, lost) if operation.body else None,
        answers=tuple(_answer(answer, lost) for answer in operation.answers),
    )


def _body(body: Body, lost: Lost) -> Body:
    return replace(body, media=tuple(_without(media_type_, lost) for media_type_ in body.media))


def _answer(answer: DeclaredAnswer, lost: Lost) -> DeclaredAnswer:
    media = tuple(_without(media_type_, lost) for media_type_ in answer.media)
    return replace(answer, media=media, headers=tuple(_without(head, lost) for head in answer.headers))


def _without(part: Part, lost: Lost) -> Part:
    found = _lost(part.schema, lost)
    return replace(part, schema=None, unreadable=cannot_be_read("schema")) if found else part


def _lost(ref: SchemaRef | None, lost: Lost) -> SchemaRef | None:
    """The first schema that cannot be read."""
    declared = ref.declared if ref else ()
    return next((entry for entry in declared if (entry.document, entry.pointer) in lost), None)
