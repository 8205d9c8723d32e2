"""What in a contract can be exercised, and that it was."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from juxtalogos.model.location import Location

ELEMENT_KINDS: dict[str, str] = {
    "operation": "operations",
    "status": "status codes",
    "media": "media types",
    "parameter": "parameters",
    "request-property": "request properties",
    "response-property": "response properties",
    "enum": "enum members",
    "branch": "alternatives",
    "array": "list sizes",
    "null": "nulls",
    "boundary": "limits reached",
    "header": "response headers",
}
"""Kinds of element and their heading, in the order of the tables."""


@dataclass(frozen=True, slots=True)
class Element:
    """One thing in a contract that can be exercised; a shared (`$ref`ed) one is one element."""

    kind: str
    location: Location
    facet: str = ""
    """Which of several at one place: an enum member as JSON, a media type."""
    direction: str = ""
    label: str = ""
    """For a reader; no part of the identity."""

    @property
    def id(self) -> str:
        return element_id(self.kind, self.location, self.facet, self.direction)


@lru_cache(maxsize=100_000)
def element_id(kind: str, location: Location, facet: str = "", direction: str = "") -> str:
    return f"{kind}|{location}|{facet}|{direction}"
