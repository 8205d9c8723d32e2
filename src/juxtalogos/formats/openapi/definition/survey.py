"""One walk over each document of a definition: references, secret fields, schemas with keywords of the wrong
kind.

A definition may have millions of values, so this goes over them once and makes no pointers: a place is a link
to its parent,
written out only where something is to be said of it.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from juxtalogos.formats.openapi.definition.misplaced import NEWER, STRANGE
from juxtalogos.model.document import Document
from juxtalogos.model.location import Location, join_pointer
from juxtalogos.schema.json.tree.keyword_kinds import is_schema, wrong_kinds

Link = tuple[Any, ...]
"""() at the root, else (link of the parent, key)."""

_NO_REFERENCES_BELOW = frozenset(("enum", "const", "default", "example", "value"))
_NO_SCHEMAS_BELOW = frozenset(("example", "examples", "default", "enum", "const"))
_FREE_NAMES = frozenset(
    ("properties", "patternProperties", "schemas", "$defs", "definitions", "dependentSchemas")
)
_MAPS_OF_SCHEMAS = frozenset(("properties", "schemas", "patternProperties", "$defs", "definitions"))
_HOMES: tuple[Link, ...] = ((((), "components"), "schemas"), ((), "definitions"))
_SCHEMA_KEYS = frozenset(
    (
        "schema",
        "items",
        "allOf",
        "anyOf",
        "oneOf",
        "not",
        "additionalProperties",
        "if",
        "then",
        "else",
        "contains",
        "prefixItems",
    )
)
TYPES = ("string", "number", "integer", "boolean", "array", "object", "null", "file")
_NOTHING: frozenset[str] = frozenset()
_CHECKED = frozenset(("required", "enum", "nullable", "pattern"))

PLAIN, SCHEMA, MAP_OF_SCHEMAS, NO_SCHEMA = range(4)
"""What a container is: a map of schemas has names for keys, not keywords; below an example nothing is a
schema."""


@dataclass(slots=True)
class Survey:
    references: list[tuple[Link, str]] = field(default_factory=list)
    """(place of the `$ref`'s holder, reference)."""
    suspects: list[tuple[Link, dict[str, Any]]] = field(default_factory=list)
    """Schemas that have keywords which may be of the wrong kind."""
    no_schemas: list[Link] = field(default_factory=list)
    """What stands where a schema must and is none."""
    secrets: set[str] = field(default_factory=set)
    """Names of properties and parameters of the format `password`."""
    rebased: bool = False
    """Whether schemas have identifiers or anchors of their own."""


def place(document: Document, link: Link) -> Location:
    """Where a link of a survey stands."""
    keys: list[str | int] = []
    while link:
        link, key = link
        keys.append(key)
    return Location(document.uri, join_pointer(reversed(keys)))


def survey(document: Document) -> Survey:
    """What one walk over a document tells."""
    found = Survey()
    # In OpenAPI 2.0 parameters and headers are schemas themselves.
    old = type(document.value) is dict and "swagger" in document.value
    seen: set[int] = set()
    stack: list[tuple[Any, Link, int, bool]] = [(document.value, (), PLAIN, True)]
    while stack:
        value, link, kind, followed = stack.pop()
        if id(value) in seen:  # aliases of YAML share their value
            continue
        seen.add(id(value))
        if type(value) is list:
            stack += [
                (item, (link, index), kind, followed)
                for index, item in enumerate(value)
                if type(item) is dict or type(item) is list
            ]
            continue
        if kind != MAP_OF_SCHEMAS:
            _look(value, link, kind, followed, found)
        for key, item in value.items():
            if type(item) is not dict and type(item) is not list:
                continue
            if kind == MAP_OF_SCHEMAS:
                stack.append((item, (link, key), SCHEMA, followed))
                continue
            below = followed and key not in _NO_REFERENCES_BELOW and key[:2] != "x-"
            if kind == NO_SCHEMA or key in _NO_SCHEMAS_BELOW or key[:2] == "x-":
                inside = NO_SCHEMA
            elif key in _FREE_NAMES:
                inside = MAP_OF_SCHEMAS if type(item) is dict else PLAIN
                if type(item) is dict and (kind == SCHEMA or (link, key) in _HOMES):
                    found.no_schemas += [
                        ((link, key), name)
                        for name, one in item.items()
                        if not is_schema(one) and name[:2] != "x-"
                    ]
            elif old and kind == PLAIN and key in ("parameters", "headers"):
                inside = MAP_OF_SCHEMAS if type(item) is dict else SCHEMA
            else:
                inside = SCHEMA if key in _SCHEMA_KEYS else PLAIN
            stack.append((item, (link, key), inside, below))
    return found


def _look(value: dict[str, Any], link: Link, kind: int, followed: bool, found: Survey) -> None:
    reference = value.get("$ref")
    if type(reference) is str and followed:
        found.references.append((link, reference))
        found.rebased |= reference.partition("#")[2][:1] not in ("", "/")
    if value.get("format") == "password":
        _secret(value, link, found)
    if kind != NO_SCHEMA and ("$id" in value or "$anchor" in value or "$dynamicAnchor" in value):
        found.rebased = True
    schema = value.get("schema")
    if type(schema) is dict and schema.get("format") == "password" and type(value.get("name")) is str:
        found.secrets.add(value["name"])
    if kind != SCHEMA:
        return
    named = value.get("type")
    if (
        (named is not None and (type(named) is not str or named not in TYPES))
        or not _CHECKED.isdisjoint(value)
        or wrong_kinds(value)
        or not NEWER.isdisjoint(value)
        or (type(named) is str and not STRANGE.get(named, _NOTHING).isdisjoint(value))
    ):
        found.suspects.append((link, value))


def _secret(value: dict[str, Any], link: Link, found: Survey) -> None:
    """A property of that format, or (OpenAPI 2.0) a parameter that is a schema itself."""
    if "in" in value and type(value.get("name")) is str:
        found.secrets.add(value["name"])
    elif link and link[0] and link[0][1] == "properties":
        found.secrets.add(str(link[1]))
