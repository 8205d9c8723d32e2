"""Primitive types of the entity data model: their texts, and which wire form writes them how.

Forms: `json4` (V4 JSON), `ieee` (V4 JSON with IEEE754Compatible=true), `json2` (V2 JSON), `plain` (V2 values
outside JSON).
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from functools import lru_cache
from typing import Any

from juxtalogos.schema.json.check.formats import NUMBER_FORMATS, SAMPLES, TEXT_FORMATS, is_date

_DATE = r"-?(?:0\d{3}|[1-9]\d{3,})-(?:0[1-9]|1[0-2])-(?:0[1-9]|[12]\d|3[01])"
_CLOCK = r"(?:[01]\d|2[0-3]):[0-5]\d(?::[0-5]\d(?:\.(\d{1,12}))?)?"
_DURATION = r"-?P(?=.)(?:\d+D)?(?:T(?=.)(?:\d+H)?(?:\d+M)?(?:\d+(?:\.(\d{1,12}))?S)?)?"
_OLD_DURATION = r"-?P(?=.)(?:\d+Y)?(?:\d+M)?(?:\d+D)?(?:T(?=.)(?:\d+H)?(?:\d+M)?(?:\d+(?:\.(\d+))?S)?)?"


def _texts(pattern: str) -> re.Pattern[str]:
    return re.compile(pattern, re.ASCII)


TEXTS: dict[str, re.Pattern[str]] = {
    "Edm.Date": _texts(_DATE),
    "Edm.TimeOfDay": _texts(_CLOCK),
    "Edm.DateTimeOffset": _texts(rf"{_DATE}T{_CLOCK}(?:Z|[+-](?:[01]\d|2[0-3]):[0-5]\d)"),
    "Edm.DateTime": _texts(rf"{_DATE}T{_CLOCK}"),
    "Edm.Duration": _texts(_DURATION),
    "Edm.Time": _texts(_OLD_DURATION),
    "Edm.Guid": _texts(r"[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}"),
    "Edm.Binary": _texts(r"[A-Za-z0-9_-]*={0,2}"),
    "Edm.Int64": _texts(r"[+-]?\d{1,19}[lL]?"),
    "Edm.Decimal": _texts(r"[+-]?(?:\d+(?:\.\d+)?|\.\d+)[mM]?"),
    "Edm.Double": _texts(r"-?INF|NaN|[+-]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?[dDfF]?"),
    "moment": _texts(r"/Date\(-?\d{1,17}(?:[+-]\d{1,4})?\)/"),
}
"""What texts of a type are like: the ABNF of V4, and the literal forms of V2; the one group is a fraction of
a second."""


@dataclass(frozen=True, slots=True)
class Written:
    """How values of a type are written in a form: their JSON types, and the format of texts or numbers."""

    json: tuple[str, ...]
    format: str = ""


_NUMBER = Written(("number", "string"), "INF, -INF or NaN")
_ALL: dict[str, Written] = {
    "Edm.String": Written(("string",)),
    "Edm.Boolean": Written(("boolean",)),
    "Edm.Byte": Written(("integer",), "uint8"),
    "Edm.SByte": Written(("integer",), "int8"),
    "Edm.Int16": Written(("integer",), "int16"),
    "Edm.Int32": Written(("integer",), "int32"),
    "Edm.Int64": Written(("integer",), "int64"),
    "Edm.Decimal": Written(("number",)),
    "Edm.Double": _NUMBER,
    "Edm.Single": _NUMBER,
    **{
        name: Written(("string",), name)
        for name in (
            "Edm.Guid",
            "Edm.Date",
            "Edm.TimeOfDay",
            "Edm.DateTimeOffset",
            "Edm.DateTime",
            "Edm.Time",
            "Edm.Duration",
            "Edm.Binary",
        )
    },
}
_IEEE = {"Edm.Int64": Written(("string",), "Edm.Int64"), "Edm.Decimal": Written(("string",), "Edm.Decimal")}
_JSON2 = {
    **_IEEE,
    "Edm.Double": Written(("number", "string"), "Edm.Double"),
    "Edm.Single": Written(("number", "string"), "Edm.Double"),
    "Edm.DateTime": Written(("string",), "moment"),
    "Edm.DateTimeOffset": Written(("string",), "moment or Edm.DateTimeOffset"),
    "Edm.Binary": Written(("string",), "byte"),
}
FORMS: dict[str, dict[str, Written]] = {
    "json4": _ALL,
    "ieee": {**_ALL, **_IEEE},
    "json2": {**_ALL, **_JSON2},
    "plain": {**_ALL, "Edm.Binary": Written(("string",), "byte")},
}
UNTYPED = (
    "Edm.Untyped",
    "Edm.PrimitiveType",
    "Edm.ComplexType",
    "Edm.EntityType",
    "Edm.AnnotationPath",
    "Edm.PropertyPath",
)
SHAPES = tuple(
    f"Edm.{kind}{what}"
    for kind in ("Geography", "Geometry")
    for what in (
        "",
        "Point",
        "LineString",
        "Polygon",
        "MultiPoint",
        "MultiLineString",
        "MultiPolygon",
        "Collection",
    )
)
PRIMITIVES = frozenset((*_ALL, *UNTYPED, *SHAPES, "Edm.Stream"))
WHOLE = ("Edm.Byte", "Edm.SByte", "Edm.Int16", "Edm.Int32", "Edm.Int64")
NUMBERS = (*WHOLE, "Edm.Decimal", "Edm.Double", "Edm.Single")
MOMENTS = ("Edm.Date", "Edm.DateTimeOffset", "Edm.DateTime", "Edm.TimeOfDay")
FRACTIONS = ("Edm.TimeOfDay", "Edm.DateTimeOffset", "Edm.Duration")
"""V4: types whose Precision counts the digits of a second's fraction."""


def _fits(pattern: re.Pattern[str]) -> Callable[[Any], bool]:
    dated = pattern.pattern.startswith(_DATE)

    def holds(text: str) -> bool:
        if not pattern.fullmatch(text):
            return False
        return not dated or not text[:4].isdigit() or text[4:5] != "-" or is_date(text[:10])

    return holds


_SAMPLES: dict[str, tuple[str, ...]] = {
    "Edm.Date": ("2026-03-14", "2026-11-02"),
    "Edm.TimeOfDay": ("06:30:00", "18:05:09"),
    "Edm.DateTimeOffset": ("2026-03-14T06:30:00Z", "2026-11-02T18:05:09+01:00"),
    "Edm.DateTime": ("2026-03-14T06:30:00", "2026-11-02T18:05:09"),
    "Edm.Duration": ("PT6H", "P1DT2H30M"),
    "Edm.Time": ("PT6H", "PT18H5M9S"),
    "Edm.Guid": ("6f1d2c3a-58b4-4e7a-9d10-2b7c41e0a9f5", "0b9e7d64-1f3c-4a52-8e6d-7c5a3f210b48"),
    "Edm.Binary": ("cXVheQ==", "TWVycm93"),
    "Edm.Int64": ("42", "7"),
    "Edm.Decimal": ("4", "11"),
    "Edm.Double": ("4.5", "11.25"),
    "moment": ("/Date(1773469800000)/", "/Date(1793642709000)/"),
}
TEXT_FORMATS["INF, -INF or NaN"] = lambda text: text in ("INF", "-INF", "NaN")
SAMPLES["INF, -INF or NaN"] = ("INF",)
for _name, _pattern in TEXTS.items():
    TEXT_FORMATS[_name] = _fits(_pattern)
    SAMPLES[_name] = _SAMPLES[_name]
TEXT_FORMATS["moment or Edm.DateTimeOffset"] = lambda text: (
    TEXT_FORMATS["moment"](text) or TEXT_FORMATS["Edm.DateTimeOffset"](text)
)
SAMPLES["moment or Edm.DateTimeOffset"] = tuple(one.replace(")/", "+0000)/") for one in _SAMPLES["moment"])


@lru_cache(maxsize=5_000)
def with_fraction(name: str, digits: int) -> str:
    """The format of a moment or duration with no more digits of a second than so many."""
    own, pattern = f"{name}({digits})", TEXTS[name]

    def holds(text: str) -> bool:
        found = pattern.fullmatch(text)
        return found is None or len((found[1] or "").rstrip("0")) <= digits

    TEXT_FORMATS[own] = holds
    SAMPLES[own] = _SAMPLES[name]
    return own


@lru_cache(maxsize=5_000)
def with_digits(precision: int | None, scale: int | None) -> str:
    """The format of a decimal, as a text or a number, with so many digits at most, and so many after the
    point.
    """
    own = f"Edm.Decimal({'' if precision is None else precision}{'' if scale is None else f',{scale}'})"

    def holds(value: Any) -> bool:
        try:
            number = Decimal(str(value).rstrip("mM"))
        except InvalidOperation:
            return isinstance(value, str)  # no decimal at all is told by another rule
        _, digits, exponent = number.normalize().as_tuple()
        if not isinstance(exponent, int):
            return True
        after = max(0, -exponent)
        before = max(0, len(digits) + exponent) if any(digits) else 0
        return (scale is None or after <= scale) and (
            precision is None or before + (scale or after) <= precision
        )

    TEXT_FORMATS[own] = NUMBER_FORMATS[own] = holds
    SAMPLES[own] = tuple(text for text in (_decimal(precision, scale), "4", "0") if holds(text))
    return own


def _decimal(precision: int | None, scale: int | None) -> str:
    return (
        "4"
        if not scale
        else f"{4 if precision is None or precision > scale else 0}.{'5'.ljust(min(scale, 2), '0')}"
    )
