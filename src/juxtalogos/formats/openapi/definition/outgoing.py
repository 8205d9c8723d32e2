"""Requests that the service itself sends: callbacks of its operations, and webhooks. They are listed, not
called.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from juxtalogos.formats.openapi.definition.documents import Documents
from juxtalogos.model.contract import Operation, Outgoing
from juxtalogos.model.location import Location, follow_pointer


def outgoing(
    documents: Documents, root: Location, operations: Iterable[Operation], methods: tuple[str, ...]
) -> Iterator[Outgoing]:
    """Callbacks and webhooks, in the order of the definition."""
    definition: Any = documents.by_uri[documents.root].value
    hooks = definition.get("webhooks")
    for name, item in hooks.items() if isinstance(hooks, dict) else ():
        yield from _requests(documents, "webhook", name, "", "", item, root.child("webhooks", name), methods)
    for operation in operations:
        value: Any = follow_pointer(
            documents.by_uri[operation.location.document].value, operation.location.pointer
        )
        callbacks = value.get("callbacks") if isinstance(value, dict) else None
        for name, found in callbacks.items() if isinstance(callbacks, dict) else ():
            followed = documents.follow(found, operation.location.child("callbacks", name))
            if followed is None or not isinstance(followed[0], dict):
                continue
            for address, item in followed[0].items():
                if not address.startswith("x-"):
                    place = followed[1].child(address)
                    yield from _requests(
                        documents, "callback", name, operation.id, address, item, place, methods
                    )


def _requests(
    documents: Documents,
    kind: str,
    name: str,
    operation: str,
    address: str,
    item: Any,
    place: Location,
    methods: tuple[str, ...],
) -> Iterator[Outgoing]:
    followed = documents.follow(item, place)
    if followed is None or not isinstance(followed[0], dict):
        return
    for method in methods:
        found = followed[0].get(method)
        if isinstance(found, dict):
            summary = str(found.get("summary") or found.get("description") or "")
            yield Outgoing(kind, name, operation, method.upper(), address, followed[1].child(method), summary)
