"""What answers showed: by the name of a property, where it stands in whose answer."""

from __future__ import annotations

import itertools
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from juxtalogos.conventions.naming import plain
from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.location import join_pointer

DEEPEST, MOST = 5, 2_000
"""Levels of an answer that are looked at, and places that are kept of an operation."""
MOST_VISITED, MAX_BODY = 20_000, 4 * 1024 * 1024
"""Places of one answer that are looked at, and bytes of one that is."""


@dataclass(slots=True)
class SeenValues:
    """Places of single values in answers of success."""

    by_name: dict[str, dict[tuple[str, str], Any]] = field(default_factory=dict)
    """Plain name -> (operation, pointer) -> a value seen there."""

    by_operation: dict[str, dict[str, Any]] = field(default_factory=dict)
    """Operation -> pointer -> a value seen there."""

    def note(self, operation: str, exchange: Exchange) -> None:
        """Takes what a JSON answer of success shows; of lists their first item."""
        response = exchange.response
        if response is None or len(response.body) > MAX_BODY:
            return
        try:
            value = parse_json(response.body)
        except NotJson:
            return
        kept = self.by_operation.setdefault(operation, {})
        for pointer, one in _places(value):
            if len(kept) >= MOST:
                return
            kept.setdefault(pointer, one)
            name = plain(pointer.rpartition("/")[2])
            self.by_name.setdefault(name, {}).setdefault((operation, pointer), one)

    def places(self, name: str) -> list[tuple[str, str, Any]]:
        """(operation, pointer, value) of what is called so, the shallowest first."""
        found = self.by_name.get(plain(name), {})
        return sorted(
            ((operation, pointer, one) for (operation, pointer), one in found.items()),
            key=lambda place: place[1].count("/"),
        )


def _places(value: Any) -> Iterator[tuple[str, Any]]:
    """(pointer, value) of single values, the shallowest first, within the first so many places."""
    waiting: deque[tuple[tuple[str, ...], Any]] = deque([((), value)])
    for _ in range(MOST_VISITED):
        if not waiting:
            return
        path, one = waiting.popleft()
        if len(path) > DEEPEST:
            continue
        if isinstance(one, dict):
            waiting += [((*path, name), inner) for name, inner in itertools.islice(one.items(), 100)]
        elif isinstance(one, list):
            waiting += [((*path, "0"), inner) for inner in one[:1]]
        elif one not in (None, "") and not isinstance(one, bool) and path and not path[-1].isdigit():
            yield join_pointer(path), one
