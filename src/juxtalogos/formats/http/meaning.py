"""What operations are for, as far as methods, paths and answers tell."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import replace

from juxtalogos.formats.naming import first_part, last_part, singular
from juxtalogos.model.contract import Input, Intent, Operation

_ITEM = re.compile(r"(.*)/\{[^{}/]+\}")
_SAFE = ("GET", "HEAD", "OPTIONS", "TRACE")
"""RFC 9110, section 9.2.1."""
_IDEMPOTENT = (*_SAFE, "PUT", "DELETE")
"""RFC 9110, section 9.2.2."""


def with_meaning(operations: list[Operation]) -> list[Operation]:
    """The operations with intent, resource and what their path inputs identify."""
    items = {found[1] or "/" for one in operations if (found := _ITEM.fullmatch(one.path))}
    return [_meant(one, items) for one in operations]


def _meant(operation: Operation, items: Iterable[str]) -> Operation:
    """`items` are the paths below which single items lie."""
    found = _ITEM.fullmatch(operation.path)
    resource = (found[1] if found else operation.path.rstrip("/")) or "/"
    return replace(
        operation,
        inputs=tuple(_identifying(operation.path, one) for one in operation.inputs),
        intent=_intent(operation, found is not None, resource in items),
        safe=operation.method in _SAFE,
        idempotent=operation.method in _IDEMPOTENT,
        resource=resource,
        on_item=found is not None,
        noun=singular(last_part(operation.path)),
        group=operation.tags[0] if operation.tags else first_part(operation.path) or "root",
    )


def _intent(operation: Operation, on_item: bool, has_items: bool) -> Intent:
    match operation.method:
        case "GET":
            return Intent.READ if on_item or not has_items else Intent.LIST
        case "HEAD" | "OPTIONS" | "TRACE":
            return Intent.READ
        case "POST":
            return Intent.CREATE if has_items and not on_item else Intent.ACT
        case "PUT":
            return Intent.REPLACE
        case "PATCH":
            return Intent.UPDATE
        case "DELETE":
            return Intent.DELETE
    return Intent.UNKNOWN


def _identifying(path: str, one: Input) -> Input:
    """A path input names an item of what comes before it."""
    if one.place != "path":
        return one
    before = path.partition(f"{{{one.name}}}")[0].rstrip("/")
    return replace(one, identifies=before or "/")
