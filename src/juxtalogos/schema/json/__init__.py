"""The JSON schema engine: JSON Schema's dialects and OpenAPI's, lowered to one tree of located nodes."""

from juxtalogos.schema.json.engine import JsonEngine, JsonSchema, TooDeep, compile_schema
from juxtalogos.schema.json.tree.store import BadReference

__all__ = ["BadReference", "JsonEngine", "JsonSchema", "TooDeep", "compile_schema"]
