"""OpenAPI 2.0, 3.0 and 3.1: reading definitions and speaking HTTP by them."""

from juxtalogos.formats.http.outcomes import read_with_meaning
from juxtalogos.formats.openapi.binding import OpenApiWire
from juxtalogos.formats.openapi.definition.reader import claims, engine, read
from juxtalogos.model.format import Format

OPENAPI = Format(
    "openapi",
    claims,
    read_with_meaning(read),
    engine,
    OpenApiWire,
    endings=(".yaml", ".yml", ".json"),
    plain_names=("openapi", "api", "spec", "definition", "index", "main", "api-docs", "swagger"),
    source_type="openapi",
    hint="an OpenAPI definition has `openapi: 3.0.3` (or 3.1, or `swagger: '2.0'`) at its top",
)
