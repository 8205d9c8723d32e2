"""The JSON schema engine: JSON Schema's dialects and OpenAPI's, lowered to one tree of located nodes."""

from juxtalogos.schema.json.engine import (
    InlineSchemas,
    JsonEngine,
    JsonSchema,
    TooDeep,
    asserts_format,
    compile_schema,
)
from juxtalogos.schema.json.tree.store import BadReference

__all__ = [
    "BadReference",
    "InlineSchemas",
    "JsonEngine",
    "JsonSchema",
    "TooDeep",
    "asserts_format",
    "compile_schema",
]
