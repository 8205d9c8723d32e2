"""Libraries that only some users need: installed with an extra, loaded when something needs them."""

from __future__ import annotations

from importlib import import_module
from typing import Any

from juxtalogos.model.errors import UsageError


def extra(module: str, name: str, what: str) -> Any:
    """The module; UsageError names the extra that brings it when it is not installed."""
    try:
        return import_module(module)
    except ImportError:
        raise UsageError(
            f"{what} need the library {module.partition('.')[0]}, which is not installed",
            mend=f"pip install 'juxtalogos[{name}]'",
        ) from None
