"""Keywords of a schema that have no effect where they stand: of another type, of another dialect, or beside
what hides them.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from juxtalogos.schema.json.tree.dialects import DIALECTS

_BY_TYPE = {
    "texts": ("minLength", "maxLength", "pattern"),
    "numbers": ("minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf"),
    "arrays": ("minItems", "maxItems", "uniqueItems", "items", "prefixItems", "contains"),
    "objects": (
        "minProperties",
        "maxProperties",
        "properties",
        "required",
        "additionalProperties",
        "patternProperties",
        "propertyNames",
    ),
}
"""Keywords by what they are about (JSON Schema 2020-12, validation, section 6; applicator, section 10.3)."""
_ABOUT = {word: kind for kind, words in _BY_TYPE.items() for word in words}
_KIND_OF_TYPE = {
    "string": "texts",
    "number": "numbers",
    "integer": "numbers",
    "array": "arrays",
    "object": "objects",
    "boolean": "",
}
STRANGE: Mapping[str, frozenset[str]] = {
    name: frozenset(word for word, about in _ABOUT.items() if about != kind)
    for name, kind in _KIND_OF_TYPE.items()
}
"""By type, the keywords that say nothing of its values."""
_FOREIGN = frozenset(
    (
        "$anchor",
        "$defs",
        "$dynamicAnchor",
        "$dynamicRef",
        "const",
        "contains",
        "dependentRequired",
        "dependentSchemas",
        "else",
        "if",
        "maxContains",
        "minContains",
        "patternProperties",
        "prefixItems",
        "propertyNames",
        "then",
        "unevaluatedItems",
        "unevaluatedProperties",
    )
)
_IN_2_0 = frozenset(("anyOf", "oneOf", "not", "nullable", "writeOnly", "deprecated"))
NEWER = _FOREIGN | _IN_2_0
"""Keywords that some dialect of OpenAPI does not have."""
_VERSIONS = {"openapi-2.0": "OpenAPI 2.0", "openapi-3.0": "OpenAPI 3.0"}


def misplaced(value: Mapping[str, Any], dialect: str) -> Iterator[tuple[str, str, str]]:
    """(keyword, what is wrong, how to mend it) of a schema's keywords without effect."""
    version = _VERSIONS.get(dialect, "")
    alone = "$ref" in value and DIALECTS[dialect].ref_alone if dialect in DIALECTS else False
    named = value.get("type")
    if version:
        foreign = _FOREIGN | (_IN_2_0 if dialect == "openapi-2.0" else frozenset())
        for word in sorted(foreign & value.keys()):
            yield word, f"`{word}` has no meaning in {version}: it is not checked", "take it out"
    if not alone and isinstance(named, str):
        for word in sorted(STRANGE.get(named, frozenset()) & value.keys()):
            if word == "required" and not isinstance(value[word], list):
                continue  # of a parameter in OpenAPI 2.0, or of a wrong kind
            what = f"`{word}` is about {_ABOUT[word]}, and the type is {named}: it has no effect"
            yield word, what, "take it out, or correct the type"
    if value.get("enum") == []:
        yield "enum", "`enum` is empty: no value is valid", "list the values, or take it out"
    if dialect == "openapi-3.0" and value.get("nullable") is True and "type" not in value:
        beside = next((word for word in ("$ref", "allOf", "anyOf", "oneOf") if word in value), "")
        if beside:
            yield (
                "nullable",
                f"`nullable` beside `{beside}` has no effect without a type (OpenAPI 3.0.3, schema object);"
                " null in a response is a remark only",
                "write nullable in the schema that has the type, or anyOf with a schema of null alone",
            )
