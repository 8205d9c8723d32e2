"""Which values of a request come from where."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from juxtalogos.model.location import escape_key
from juxtalogos.suite.language.expressions import expressions_in
from juxtalogos.suite.model import Payload


def flows_of(parameters: tuple[tuple[str, Any], ...], payload: Payload | None) -> tuple[tuple[str, str], ...]:
    """(input, expression) of everything in a request that is no literal."""
    found = [(address, text) for address, value in parameters for text in expressions_in(value)]
    if payload:
        found += [(f"body{path}", text) for path, text in _flows("", payload.payload)]
        found += [
            (f"body{one.target}", text) for one in payload.replacements for text in expressions_in(one.value)
        ]
    return tuple(found)


def _flows(path: str, value: Any) -> Iterator[tuple[str, str]]:
    if isinstance(value, dict | list):
        members = value.items() if isinstance(value, dict) else enumerate(value)
        for key, item in members:
            yield from _flows(f"{path}/{escape_key(key)}", item)
    else:
        yield from ((path, text) for text in expressions_in(value))
