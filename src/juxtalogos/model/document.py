"""Documents as published."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from juxtalogos.model.location import Marks


class Document:
    """One document as published: its URI within the contract, its bytes and the value they hold.

    Both may be a function that gives them: of a contract that was read before, most documents are never
    looked at again.
    """

    __slots__ = ("__weakref__", "_text", "_value", "syntax", "uri")

    def __init__(
        self, uri: str, syntax: str, text: bytes | Callable[[], bytes], value: Callable[[], Parsed]
    ) -> None:
        self.uri = uri
        self.syntax = syntax
        """`json`, `yaml`, `xml`, or `message` for one of HTTP/1.1."""
        self._text = text
        self._value: Callable[[], Parsed] | Parsed = value

    @property
    def text(self) -> bytes:
        """Its bytes."""
        if callable(self._text):
            self._text = self._text()
        return self._text

    @property
    def parsed(self) -> Parsed:
        """Its value with the places of its parts."""
        if not isinstance(self._value, Parsed):
            self._value = self._value()
        return self._value

    @property
    def value(self) -> Any:
        return self.parsed.value


@dataclass(frozen=True, slots=True, eq=False)
class Parsed:
    """A document's value, and where its parts stand in the text when that is known already."""

    value: Any
    marks: Marks | None = None
