"""OpenAPI 3.0 and 3.1: reading definitions and speaking HTTP by them."""

from juxtalogos.formats.openapi.coverage import elements, hits
from juxtalogos.formats.openapi.definition.reader import claims, engine, read
from juxtalogos.formats.openapi.wire.decode import decode
from juxtalogos.formats.openapi.wire.encode import encode
from juxtalogos.formats.openapi.wire.match import match, stray
from juxtalogos.formats.openapi.wire.styles import parse_text
from juxtalogos.model.seams import Format

OPENAPI = Format(
    "openapi",
    claims,
    read,
    engine,
    encode,
    match,
    stray,
    decode,
    elements,
    hits,
    parse_text,
    plain_names=("openapi", "api", "spec", "definition", "index", "main", "api-docs", "swagger"),
    source_type="openapi",
)

__all__ = ["OPENAPI"]
