"""Value spaces of the primitive simple types (XSD 1.0 part 2, section 3.2): text -> value, equality, order.

A value is (primitive, raw): values of two primitives are never equal. Order is partial: durations, and times
with and
without a time zone, cannot always be compared.
"""

from __future__ import annotations

import base64
import re
import struct
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

Scope = Mapping[str, str]
Raw = Callable[[str, Scope], Any]
"""Reads a text whose form is right already; ValueError when it names no value."""


@dataclass(frozen=True, slots=True)
class Moment:
    """A point of the time line, in seconds; without a zone it may be 14 hours off either way."""

    seconds: Decimal
    zoned: bool


@dataclass(frozen=True, slots=True)
class Duration:
    months: int
    seconds: Decimal


_SHIFT = Decimal(14 * 3600)
_ZONE = r"(Z|[+-](?:0\d|1[0-3]):[0-5]\d|[+-]14:00)?"
_YEAR = r"(-?(?:[1-9]\d{3,}|0\d{3}))"
_MONTH, _DAY = r"(0[1-9]|1[0-2])", r"(0[1-9]|[12]\d|3[01])"
_CLOCK = r"([01]\d|2[0-4]):([0-5]\d):([0-5]\d(?:\.\d+)?)"
_NUMBER = r"(?:\d+(?:\.\d*)?|\.\d+)"

FORMS: dict[str, re.Pattern[str]] = {
    name: re.compile(source, re.ASCII)
    for name, source in {
        "boolean": "true|false|1|0",
        "decimal": rf"[+-]?{_NUMBER}",
        "float": rf"[+-]?{_NUMBER}(?:[Ee][+-]?\d+)?|-?INF|NaN",
        "double": rf"[+-]?{_NUMBER}(?:[Ee][+-]?\d+)?|-?INF|NaN",
        "duration": (
            r"(-?)P(?=\d|T\d)(?:(\d+)Y)?(?:(\d+)M)?(?:(\d+)D)?(?:T(?=\d)(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:\.\d+)?)S)?)?"
        ),
        "dateTime": rf"{_YEAR}-{_MONTH}-{_DAY}T{_CLOCK}{_ZONE}",
        "date": rf"{_YEAR}-{_MONTH}-{_DAY}{_ZONE}",
        "time": rf"{_CLOCK}{_ZONE}",
        "gYearMonth": rf"{_YEAR}-{_MONTH}{_ZONE}",
        "gYear": rf"{_YEAR}{_ZONE}",
        "gMonthDay": rf"--{_MONTH}-{_DAY}{_ZONE}",
        "gDay": rf"---{_DAY}{_ZONE}",
        "gMonth": rf"--{_MONTH}{_ZONE}",
        "hexBinary": r"(?:[0-9A-Fa-f]{2})*",
        "base64Binary": (
            r"(?:(?:[A-Za-z0-9+/] ?){4})*(?:(?:[A-Za-z0-9+/] ?){2}[AEIMQUYcgkosw048] ?=|[A-Za-z0-9+/] ?[AQgw]"
            r" ?= ?=)?"
        ),
    }.items()
}
"""The form of a value, after white space was collapsed; matched whole."""


def days(year: int, month: int, day: int) -> int:
    """Days since 0000-03-01 of the proleptic Gregorian calendar; there is no year 0, so -1 is the one before
    1.
    """
    year = year + 1 if year < 0 else year
    year -= month <= 2
    return 365 * year + year // 4 - year // 100 + year // 400 + (153 * ((month - 3) % 12) + 2) // 5 + day - 1


def _month_length(year: int, month: int) -> int:
    year = year + 1 if year < 0 else year
    leap = year % 4 == 0 and (year % 100 != 0 or year % 400 == 0)
    return (31, 29 if leap else 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31)[month - 1]


def _moment(year: int, month: int, day: int, clock: tuple[str, str, str] | None, zone: str | None) -> Moment:
    if year == 0:
        raise ValueError("there is no year 0000")
    if day > _month_length(year, month):
        raise ValueError("the month has no such day")
    seconds = Decimal(days(year, month, day)) * 86400
    if clock:
        hour, minute, second = int(clock[0]), int(clock[1]), Decimal(clock[2])
        if hour == 24 and (minute or second):
            raise ValueError("24:00:00 is the last moment of a day")
        seconds += hour * 3600 + minute * 60 + second
    if zone and zone != "Z":
        shift = int(zone[1:3]) * 3600 + int(zone[4:6]) * 60
        seconds += -shift if zone[0] == "+" else shift
    return Moment(seconds, bool(zone))


def _match(name: str, text: str) -> re.Match[str]:
    found = FORMS[name].fullmatch(text)
    if found is None:
        raise ValueError(f"no {name}")
    return found


def _date_time(text: str, _: Scope) -> Moment:
    year, month, day, *clock, zone = _match("dateTime", text).groups()
    return _moment(int(year), int(month), int(day), tuple(clock), zone)  # type: ignore[arg-type]


def _date(text: str, _: Scope) -> Moment:
    year, month, day, zone = _match("date", text).groups()
    return _moment(int(year), int(month), int(day), None, zone)


def _time(text: str, _: Scope) -> Moment:
    *clock, zone = _match("time", text).groups()
    found = _moment(1972, 12, 31, tuple(clock), zone)  # type: ignore[arg-type]
    if clock[0] == "24":  # the same as midnight
        return Moment(found.seconds - 86400, found.zoned)
    return found


def _year_month(text: str, _: Scope) -> Moment:
    year, month, zone = _match("gYearMonth", text).groups()
    return _moment(int(year), int(month), 1, None, zone)


def _year(text: str, _: Scope) -> Moment:
    year, zone = _match("gYear", text).groups()
    return _moment(int(year), 1, 1, None, zone)


def _month_day(text: str, _: Scope) -> Moment:
    month, day, zone = _match("gMonthDay", text).groups()
    return _moment(1972, int(month), int(day), None, zone)


def _day(text: str, _: Scope) -> Moment:
    day, zone = _match("gDay", text).groups()
    return _moment(1972, 12, int(day), None, zone)


def _month(text: str, _: Scope) -> Moment:
    month, zone = _match("gMonth", text).groups()
    return _moment(1972, int(month), 1, None, zone)


def _duration(text: str, _: Scope) -> Duration:
    sign, *parts = _match("duration", text).groups()
    numbers = [Decimal(part or 0) for part in parts]
    months = int(numbers[0]) * 12 + int(numbers[1])
    seconds = numbers[2] * 86400 + numbers[3] * 3600 + numbers[4] * 60 + numbers[5]
    return Duration(-months, -seconds) if sign else Duration(months, seconds)


def _double(text: str, _: Scope) -> float | str:
    return "NaN" if text == "NaN" else float(text.replace("INF", "inf"))


def _float(text: str, _: Scope) -> float | str:
    value = _double(text, _)
    if isinstance(value, str):
        return value
    try:
        return float(struct.unpack("f", struct.pack("f", value))[0])
    except OverflowError:
        return float("inf") if value > 0 else float("-inf")


def _base64(text: str, _: Scope) -> bytes:
    return base64.b64decode(text.replace(" ", ""))


def _qname(text: str, scope: Scope) -> str:
    prefix, _, name = text.rpartition(":")
    if prefix and prefix not in scope:
        raise ValueError(f"the prefix {prefix!r} is not declared")
    return f"{{{scope.get(prefix, '')}}}{name}"


_URI = re.compile(
    r"(?:[A-Za-z][A-Za-z0-9+.-]*:)?(?://[^/?#]*)?[^?#:\[\]]*(?:[^?#\[\]]*)(?:\?[^#\[\]]*)?(?:#[^#\[\]]*)?"
)
_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*")


def _uri(text: str, _: Scope) -> str:
    """A URI reference once what it may not hold is escaped (RFC 2396; XLink 1.0, section 5.4)."""
    if re.search(r"%(?![0-9A-Fa-f]{2})", text):
        raise ValueError("a '%' without its two digits")
    before, colon, _rest = re.split(r"[/?#]", text, maxsplit=1)[0].partition(":")
    if colon and not _SCHEME.fullmatch(before):
        raise ValueError("no scheme stands before the ':'")
    if not _URI.fullmatch(text):
        raise ValueError("no URI")
    return text


def _text(text: str, _: Scope) -> str:
    return text


def _boolean(text: str, _: Scope) -> bool:
    return text in ("true", "1")


READERS: dict[str, Raw] = {
    "string": _text,
    "boolean": _boolean,
    "decimal": lambda text, _: Decimal(text),
    "float": _float,
    "double": _double,
    "duration": _duration,
    "dateTime": _date_time,
    "date": _date,
    "time": _time,
    "gYearMonth": _year_month,
    "gYear": _year,
    "gMonthDay": _month_day,
    "gDay": _day,
    "gMonth": _month,
    "hexBinary": lambda text, _: bytes.fromhex(text),
    "base64Binary": _base64,
    "anyURI": _uri,
    "QName": _qname,
    "NOTATION": _qname,
    "anySimpleType": _text,
}
JUDGED = (
    "dateTime",
    "date",
    "time",
    "gYearMonth",
    "gYear",
    "gMonthDay",
    "gDay",
    "gMonth",
    "anyURI",
    "QName",
    "NOTATION",
)
"""Primitives whose form alone does not tell whether a text names a value."""
ORDERED = (
    "decimal",
    "float",
    "double",
    "duration",
    "dateTime",
    "date",
    "time",
    "gYearMonth",
    "gYear",
    "gMonthDay",
    "gDay",
    "gMonth",
)

_STARTS = ((1696, 9), (1697, 2), (1903, 3), (1903, 7))


def compare(one: Any, other: Any) -> int | None:
    """-1, 0 or 1; None where the two cannot be ordered (part 2, sections 3.2.6.2 and 3.2.7.4)."""
    if isinstance(one, Duration):
        found = {_order(_span(one, *start), _span(other, *start)) for start in _STARTS}
        return found.pop() if len(found) == 1 else None
    if isinstance(one, Moment):
        if one.zoned == other.zoned:
            return _order(one.seconds, other.seconds)
        # The one without a zone lies up to 14 hours off.
        if one.seconds < other.seconds - _SHIFT:
            return -1
        return 1 if one.seconds > other.seconds + _SHIFT else None
    if isinstance(one, str) or isinstance(other, str):  # NaN
        return 0 if one == other else None
    return _order(one, other)


def _order(one: Any, other: Any) -> int:
    return int(one > other) - int(one < other)


def _span(length: Duration, year: int, month: int) -> Decimal:
    """Seconds that a duration takes from the first of a month on."""
    whole = year * 12 + month - 1 + length.months
    return Decimal(days(*_signed(whole), 1) - days(year, month, 1)) * 86400 + length.seconds


def _signed(months: int) -> tuple[int, int]:
    year, month = divmod(months, 12)
    return (year if year > 0 else year - 1), month + 1
