"""The dialects as constant values: what each one's keywords are and where their meanings differ."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from juxtalogos.documents.uris import defragmented, join_uri

_ASSERTIONS = frozenset(
    [
        "type",
        "enum",
        "multipleOf",
        "minimum",
        "maximum",
        "exclusiveMinimum",
        "exclusiveMaximum",
        "minLength",
        "maxLength",
        "pattern",
        "minItems",
        "maxItems",
        "uniqueItems",
        "minProperties",
        "maxProperties",
        "required",
    ]
)
"""Of all dialects."""
_CORE = _ASSERTIONS | {
    "format",
    "properties",
    "additionalProperties",
    "items",
    "allOf",
    "anyOf",
    "oneOf",
    "not",
    "$ref",
}
_DRAFT4 = _CORE | {"patternProperties", "dependencies", "additionalItems"}
_DRAFT6 = _DRAFT4 | {"const", "contains", "propertyNames"}
_DRAFT7 = _DRAFT6 | {"if", "contentEncoding", "contentMediaType"}
_2019 = _DRAFT7 | {
    "dependentRequired",
    "dependentSchemas",
    "minContains",
    "maxContains",
    "unevaluatedProperties",
    "unevaluatedItems",
    "$recursiveRef",
}
_2020 = (_2019 - {"additionalItems", "$recursiveRef"}) | {"prefixItems", "$dynamicRef"}

VALIDATION = _ASSERTIONS | {"const", "dependentRequired", "minContains", "maxContains"}
"""The validation vocabulary (2020-12 validation, section 6)."""


@dataclass(frozen=True, slots=True)
class Dialect:
    name: str
    keywords: frozenset[str]
    id_key: str = "$id"
    ref_alone: bool = False
    """What stands beside `$ref` is ignored."""
    boolean_exclusive: bool = False
    """exclusiveMinimum is a flag on minimum, not a number."""
    nullable: str = ""
    """The keyword that allows null beside a type."""
    float_integers: bool = True
    """1.0 is an integer."""
    asserts_format: bool = False
    openapi: bool = False


DIALECTS: dict[str, Dialect] = {
    dialect.name: dialect
    for dialect in (
        Dialect(
            "draft4",
            _DRAFT4,
            id_key="id",
            ref_alone=True,
            boolean_exclusive=True,
            float_integers=False,
            asserts_format=True,
        ),
        Dialect("draft6", _DRAFT6, ref_alone=True, asserts_format=True),
        Dialect("draft7", _DRAFT7, ref_alone=True, asserts_format=True),
        Dialect("2019-09", _2019),
        Dialect("2020-12", _2020),
        Dialect(
            "openapi-2.0",
            _CORE,
            id_key="",
            ref_alone=True,
            boolean_exclusive=True,
            nullable="x-nullable",
            asserts_format=True,
            openapi=True,
        ),
        Dialect(
            "openapi-3.0",
            _CORE,
            id_key="",
            ref_alone=True,
            boolean_exclusive=True,
            nullable="nullable",
            asserts_format=True,
            openapi=True,
        ),
        Dialect("openapi-3.1", _2020, openapi=True),
    )
}

BY_URI: dict[str, str] = {
    "http://json-schema.org/draft-04/schema": "draft4",
    "http://json-schema.org/draft-06/schema": "draft6",
    "http://json-schema.org/draft-07/schema": "draft7",
    "https://json-schema.org/draft/2019-09/schema": "2019-09",
    "https://json-schema.org/draft/2020-12/schema": "2020-12",
    "https://spec.openapis.org/oas/3.1/dialect/base": "openapi-3.1",
}
"""Dialect names by the URI in `$schema` or `jsonSchemaDialect`, without its empty fragment."""


def enter(value: Any, base: str, dialect: Dialect) -> tuple[str, Dialect]:
    """The base URI and dialect inside a value that may be a schema with `$id` and `$schema`."""
    if not isinstance(value, dict):
        return base, dialect
    named = value.get("$schema")
    if isinstance(named, str) and named.rstrip("#") in BY_URI:
        dialect = DIALECTS[BY_URI[named.rstrip("#")]]
    if dialect.id_key:
        own = value.get(dialect.id_key)
        if isinstance(own, str) and not own.startswith("#") and not (dialect.ref_alone and "$ref" in value):
            base = defragmented(join_uri(base, own))[0]
    return base, dialect
