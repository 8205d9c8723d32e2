"""Functions that are loaded when they are first called: to look at a contract takes less than to call it."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import Any


def on_demand(place: str) -> Callable[..., Any]:
    """The function at `module:name`, its module imported at the first call."""
    found: list[Callable[..., Any]] = []

    def call(*arguments: Any, **named: Any) -> Any:
        if not found:
            module, _, name = place.partition(":")
            found.append(getattr(import_module(module), name))
        return found[0](*arguments, **named)

    return call
