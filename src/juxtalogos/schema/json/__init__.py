"""The JSON schema engine: JSON Schema's dialects and OpenAPI's, lowered to one tree of located nodes."""

from juxtalogos.schema.json.face import JsonEngine, JsonSchema, TooDeep, compile_schema
from juxtalogos.schema.json.store import BadReference

__all__ = ["BadReference", "JsonEngine", "JsonSchema", "TooDeep", "compile_schema"]
