"""Frozen dataclasses of the model to plain JSON values and back, by their declared types.

Reading back is written as source and compiled once, since a large contract has a hundred thousand of them.
The source is
made of our own classes and fields only; what is read never enters it.
"""

from __future__ import annotations

import types
import typing
from collections.abc import Callable
from dataclasses import fields, is_dataclass
from enum import StrEnum
from typing import Any


def encode(kind: Any, value: Any) -> Any:
    """A value of a declared type: dataclasses and tuples as lists, the rest as it is."""
    return eval(f"lambda v: {_plain(kind, 'v', 0)}", _names)(value)


def _plain(kind: Any, source: str, depth: int) -> str:
    """Source that makes the plain value of what `source` gives; itself where it is plain already."""
    origin, arguments = typing.get_origin(kind), typing.get_args(kind)
    if origin is tuple:
        if len(arguments) == 2 and arguments[1] is Ellipsis:
            inner = _plain(arguments[0], f"x{depth}", depth + 1)
            return source if inner == f"x{depth}" else f"[{inner} for x{depth} in {source}]"
        return (
            "["
            + ", ".join(_plain(one, f"{source}[{index}]", depth) for index, one in enumerate(arguments))
            + "]"
        )
    if origin in (types.UnionType, typing.Union):
        inner = _plain(next(argument for argument in arguments if argument is not type(None)), source, depth)
        return source if inner == source else f"(None if {source} is None else {inner})"
    if isinstance(kind, type) and is_dataclass(kind):
        name = f"plain_{kind.__name__}"
        if name not in _names:
            _names[name] = None  # a type may contain itself
            hints = typing.get_type_hints(kind)
            parts = ", ".join(_plain(hints[field_.name], f"v.{field_.name}", 0) for field_ in fields(kind))
            exec(f"def {name}(v):\n    return [{parts}]", _names)
        return f"{name}({source})"
    return source


def decode(kind: Any, value: Any) -> Any:
    """The value of a declared type; ValueError, TypeError or LookupError when it is none."""
    return decoder(kind)(value)


def decoder(kind: Any) -> Callable[[Any], Any]:
    """What makes a value of a declared type out of plain ones."""
    found: Callable[[Any], Any] = eval(f"lambda v: {_expression(kind, 'v', 0)}", _names)
    return found


_names: dict[str, Any] = {}


def _expression(kind: Any, source: str, depth: int) -> str:
    """Source that makes a value of a type out of the plain value that `source` gives."""
    origin, arguments = typing.get_origin(kind), typing.get_args(kind)
    if origin is tuple:
        if len(arguments) == 2 and arguments[1] is Ellipsis:
            inner = _expression(arguments[0], f"x{depth}", depth + 1)
            if inner == f"x{depth}":
                return f"tuple({source})"
            return f"(tuple([{inner} for x{depth} in {source}]) if {source} else ())"
        items = ", ".join(
            _expression(one, f"{source}[{index}]", depth) for index, one in enumerate(arguments)
        )
        return f"({items},)"
    if origin in (types.UnionType, typing.Union):
        inner = _expression(
            next(argument for argument in arguments if argument is not type(None)), source, depth
        )
        return f"(None if {source} is None else {inner})"
    if isinstance(kind, type) and is_dataclass(kind):
        return f"{_maker(kind)}({source})"
    if isinstance(kind, type) and issubclass(kind, StrEnum):
        _names[f"members_{kind.__name__}"] = {str(member): member for member in kind}
        return f"members_{kind.__name__}[{source}]"
    return source


def _maker(kind: type[Any]) -> str:
    """The name of the function that makes a dataclass."""
    name = f"make_{kind.__name__}"
    if name not in _names:
        _names[name] = None  # a type may contain itself
        _names[kind.__name__] = kind
        hints = typing.get_type_hints(kind)
        parts = ", ".join(
            _expression(hints[one.name], f"v[{index}]", 0) for index, one in enumerate(fields(kind))
        )
        exec(f"def {name}(v):\n    return {kind.__name__}({parts})", _names)
    return name
