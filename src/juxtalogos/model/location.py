"""Places: in a definition (`Location`), in a document's text (`Position`), in a value (JSON Pointer)."""

from __future__ import annotations

from array import array
from collections.abc import Iterable
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True, order=True)
class Location:
    """A place in a definition: a document's URI and a JSON Pointer (RFC 6901) or XPath within it."""

    document: str
    pointer: str = ""

    def child(self, *keys: str | int) -> Location:
        """The place further in that keys lead to."""
        pointer = self.pointer
        for key in keys:
            pointer = f"{pointer}/{escape_key(key)}"
        return Location(self.document, pointer)

    def __str__(self) -> str:
        return f"{self.document}#{self.pointer}"


@dataclass(frozen=True, slots=True, order=True)
class Position:
    """A place in a document's text; line and column count from 1."""

    line: int
    column: int


@dataclass(slots=True)
class Marks:
    """Line and column, from 1, of each value in the order of a document's text; a member's are its key's."""

    lines: array[int] = field(default_factory=lambda: array("I"))
    columns: array[int] = field(default_factory=lambda: array("I"))
    aliased: bool = False
    """Whether a mapping or list is shared (an alias of YAML): it is counted where it first stands only."""
    merged: str | None = None
    """The pointer of the first mapping into which others were merged (`<<`, which YAML 1.2 does not know)."""

    def add(self, line: int, column: int) -> None:
        """Notes where the next part stands."""
        self.lines.append(line)
        self.columns.append(column)


def escape_key(key: str | int) -> str:
    """One reference token of a JSON Pointer (RFC 6901, section 3)."""
    if type(key) is str and ("~" in key or "/" in key):
        return key.replace("~", "~0").replace("/", "~1")
    return str(key)


def join_pointer(keys: Iterable[str | int]) -> str:
    return "".join("/" + escape_key(key) for key in keys)


def split_pointer(pointer: str) -> list[str]:
    """The unescaped reference tokens of a pointer; ValueError when it is not one."""
    if pointer == "":
        return []
    if not pointer.startswith("/"):
        raise ValueError(f"a JSON Pointer starts with '/': {pointer!r}")
    return [token.replace("~1", "/").replace("~0", "~") for token in pointer[1:].split("/")]


def follow_pointer(value: object, pointer: str) -> object:
    """The value at a pointer; LookupError when there is none (RFC 6901, section 4)."""
    for token in split_pointer(pointer):
        if isinstance(value, dict):
            value = value[token]
        elif isinstance(value, list):
            if not token.isascii() or not token.isdigit() or (token != "0" and token[0] == "0"):
                raise LookupError(f"{token!r} is no array index")
            value = value[int(token)]
        else:
            raise LookupError(f"nothing below {token!r}")
    return value
