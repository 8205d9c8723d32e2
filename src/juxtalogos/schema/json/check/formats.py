"""Formats: the standards' (JSON Schema validation, section 7.3) and the OpenAPI format registry's."""

from __future__ import annotations

import base64
import binascii
import calendar
import ipaddress
import math
import re
from collections.abc import Callable
from typing import Any
from urllib.parse import urlsplit

from juxtalogos.schema.patterns import PatternError, compile_pattern

Checker = Callable[[Any], bool]

_DATE = re.compile(r"(\d{4})-(\d\d)-(\d\d)", re.ASCII)
_TIME = re.compile(r"(\d\d):(\d\d):(\d\d)(?:\.\d+)?(?:[zZ]|([+-])(\d\d):(\d\d))", re.ASCII)
_DURATION = re.compile(
    r"P(?:\d+W|(?=[\dT])(?:\d+Y(?:\d+M(?:\d+D)?)?|\d+M(?:\d+D)?|\d+D)?(?:T(?=\d)(?:\d+H(?:\d+M(?:\d+S)?)?|\d+M(?:\d+S)?|\d+S))?)",
    re.ASCII,
)
_UUID = re.compile(r"[0-9a-fA-F]{8}(?:-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}")
_LABEL = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])?")
_LOCAL = re.compile(r"[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+(?:\.[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+)*")
_QUOTED_LOCAL = re.compile(r'"(?:[^"\\\r\n]|\\.)*"')
_URI_CHARS = re.compile(r"(?:[A-Za-z0-9\-._~:/?#\[\]@!$&'()*+,;=]|%[0-9A-Fa-f]{2})*")
_IRI_CHARS = re.compile(r"(?:[A-Za-z0-9\-._~:/?#\[\]@!$&'()*+,;=\u00a0-\U000effff]|%[0-9A-Fa-f]{2})*")
_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*:")
_BASE64URL = re.compile(r"[A-Za-z0-9_-]*={0,2}")
_DECIMAL = re.compile(r"[+-]?\d+(?:\.\d+)?", re.ASCII)
_HTTP_DATE = re.compile(
    r"(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun), \d\d (?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec) \d{4}"
    r" \d\d:\d\d:\d\d GMT",
    re.ASCII,
)
_TOKEN = r"[!#$%&'*+.^_`|~0-9A-Za-z-]+"
_MEDIA_RANGE = re.compile(rf"(?:\*/\*|{_TOKEN}/(?:\*|{_TOKEN}))(?:\s*;\s*{_TOKEN}=(?:{_TOKEN}|\"[^\"]*\"))*")
_SF_BINARY = re.compile(r":[A-Za-z0-9+/=]*:")
_SF_STRING = re.compile(r'"(?:[\x20-\x21\x23-\x5b\x5d-\x7e]|\\["\\])*"')
_SF_TOKEN = re.compile(r"[A-Za-z*][!#$%&'*+.^_`|~0-9A-Za-z:/-]*")
_POINTER = re.compile(r"(?:/(?:[^~/]|~[01])*)*")
_RELATIVE_POINTER = re.compile(r"(?:0|[1-9]\d*)(?:[+-](?:0|[1-9]\d*))?(?:#|(?:/(?:[^~/]|~[01])*)*)", re.ASCII)
_TEMPLATE = re.compile(
    r"(?:[^{}\"'<>\\^`|\s]|\{[+#./;?&=,!@|]?[\w.%]+(?::[1-9]\d{0,3}|\*)?(?:,[\w.%]+(?::[1-9]\d{0,3}|\*)?)*\})*",
    re.ASCII,
)


def is_date(text: str) -> bool:
    """RFC 3339 full-date."""
    found = _DATE.fullmatch(text)
    if not found:
        return False
    year, month, day = map(int, found.groups())
    return 1 <= month <= 12 and 1 <= day <= (calendar.monthrange(year, month)[1] if year else 31)


def is_time(text: str) -> bool:
    """RFC 3339 full-time; second 60 only where it is 23:59:60 in UTC."""
    found = _TIME.fullmatch(text)
    if not found:
        return False
    hour, minute, second = (int(found.group(index)) for index in (1, 2, 3))
    offset = 0
    if found.group(4):
        offset_hour, offset_minute = int(found.group(5)), int(found.group(6))
        if offset_hour > 23 or offset_minute > 59:
            return False
        offset = (offset_hour * 60 + offset_minute) * (1 if found.group(4) == "+" else -1)
    if hour > 23 or minute > 59 or second > 60:
        return False
    return second < 60 or (hour * 60 + minute - offset) % 1440 == 1439


def is_date_time(text: str) -> bool:
    """RFC 3339 date-time."""
    return len(text) > 10 and text[10] in "Tt" and is_date(text[:10]) and is_time(text[11:])


def is_hostname(text: str) -> bool:
    """RFC 1123, section 2.1."""
    return 0 < len(text) <= 253 and all(_LABEL.fullmatch(label) for label in text.split("."))


def is_email(text: str) -> bool:
    """RFC 5321, section 4.1.2, without its comments."""
    local, at, domain = text.rpartition("@")
    if not at or not (_LOCAL.fullmatch(local) or _QUOTED_LOCAL.fullmatch(local)):
        return False
    if domain.startswith("[") and domain.endswith("]"):
        inner = domain[1:-1]
        return is_ipv6(inner[5:]) if inner.lower().startswith("ipv6:") else is_ipv4(inner)
    return is_hostname(domain)


def is_idn_hostname(text: str) -> bool:
    """RFC 5890, section 2.3.2.3, by the rules of IDNA 2008."""
    import idna

    plain = re.sub("[\u3002\uff0e\uff61]", ".", text)
    try:
        return len(idna.encode(plain)) <= 253
    except (idna.IDNAError, UnicodeError):
        return False


def is_idn_email(text: str) -> bool:
    """RFC 6531: letters beyond ASCII in the local part too."""
    local, at, domain = text.rpartition("@")
    plain = "".join(char if char.isascii() else "x" for char in local)
    return (
        bool(at)
        and bool(_LOCAL.fullmatch(plain) or _QUOTED_LOCAL.fullmatch(plain))
        and is_idn_hostname(domain)
    )


def is_ipv4(text: str) -> bool:
    """Whether a text is an IPv4 address (RFC 2673, section 3.2)."""
    try:
        ipaddress.IPv4Address(text)
    except ValueError:
        return False
    return text.isascii()


def is_ipv6(text: str) -> bool:
    """Whether a text is an IPv6 address (RFC 4291, section 2.2)."""
    try:
        ipaddress.IPv6Address(text)
    except ValueError:
        return False
    return "%" not in text and text.isascii()


def _is_reference(text: str, chars: re.Pattern[str]) -> bool:
    if not chars.fullmatch(text) or text.count("#") > 1:
        return False
    try:
        parts = urlsplit(text)
        _ = parts.port
    except ValueError:
        return False
    path = text.split("?")[0].split("#")[0]
    first = path.split("/")[0]
    if ":" in first and not _SCHEME.match(first):
        return False
    host = parts.netloc.rpartition("@")[2]
    return (
        not any(char in text.replace(host, "", 1) for char in "[]")
        if "[" in host
        else "[" not in text and "]" not in text
    )


def is_uri(text: str) -> bool:
    """RFC 3986, section 3: with a scheme."""
    return bool(_SCHEME.match(text)) and _is_reference(text, _URI_CHARS)


def _is_regex(text: str) -> bool:
    try:
        compile_pattern(text)
    except PatternError:
        return False
    return True


def is_base64(text: str) -> bool:
    """RFC 4648, section 4, padded."""
    try:
        base64.b64decode(text, validate=True)
    except (ValueError, binascii.Error):
        return False
    return True


def _within(bits: int) -> Checker:
    return lambda number: number == int(number) and -(2 ** (bits - 1)) <= number < 2 ** (bits - 1)


def _unsigned(bits: int) -> Checker:
    return lambda number: 0 <= number < 2**bits and number == int(number)


def _single(number: float) -> bool:
    return abs(number) <= 3.4028235677973366e38


TEXT_FORMATS: dict[str, Checker] = {
    "date-time": is_date_time,
    "date": is_date,
    "time": is_time,
    "duration": lambda text: bool(_DURATION.fullmatch(text)) and len(text) > 1,
    "email": is_email,
    "hostname": is_hostname,
    "idn-hostname": is_idn_hostname,
    "idn-email": is_idn_email,
    "ipv4": is_ipv4,
    "ipv6": is_ipv6,
    "uri": is_uri,
    "uri-reference": lambda text: _is_reference(text, _URI_CHARS),
    "iri": lambda text: bool(_SCHEME.match(text)) and _is_reference(text, _IRI_CHARS),
    "iri-reference": lambda text: _is_reference(text, _IRI_CHARS),
    "uri-template": lambda text: bool(_TEMPLATE.fullmatch(text)),
    "uuid": lambda text: bool(_UUID.fullmatch(text)),
    "json-pointer": lambda text: bool(_POINTER.fullmatch(text)),
    "relative-json-pointer": lambda text: bool(_RELATIVE_POINTER.fullmatch(text)),
    "regex": _is_regex,
    "byte": is_base64,
    "base64url": lambda text: bool(_BASE64URL.fullmatch(text)),
    "char": lambda text: len(text) == 1,
    "decimal": lambda text: bool(_DECIMAL.fullmatch(text)),
    "http-date": lambda text: bool(_HTTP_DATE.fullmatch(text)),
    "media-range": lambda text: bool(_MEDIA_RANGE.fullmatch(text)),
    "sf-boolean": lambda text: text in ("?0", "?1"),
    "sf-binary": lambda text: bool(_SF_BINARY.fullmatch(text)),
    "sf-string": lambda text: bool(_SF_STRING.fullmatch(text)),
    "sf-token": lambda text: bool(_SF_TOKEN.fullmatch(text)),
}
_COMMON_DAY = r"\d{4}-(?:0[1-9]|1[0-2])-(?:0[1-9]|1\d|2[0-8])"
_COMMON_TIME = r"(?:[01]\d|2[0-3]):[0-5]\d:[0-5]\d(?:\.\d+)?(?:Z|[+-](?:[01]\d|2[0-3]):[0-5]\d)"
COMMON: dict[str, Callable[[str], Any]] = {
    "date": re.compile(_COMMON_DAY, re.ASCII).fullmatch,
    "date-time": re.compile(f"{_COMMON_DAY}T{_COMMON_TIME}", re.ASCII).fullmatch,
    "uuid": _UUID.fullmatch,
}
"""What nearly all values of a format are like: a match says yes at once, none says nothing."""
NUMBER_FORMATS: dict[str, Checker] = {
    "int8": _within(8),
    "int16": _within(16),
    "int32": _within(32),
    "int64": _within(64),
    "uint8": _unsigned(8),
    "uint16": _unsigned(16),
    "uint32": _unsigned(32),
    "uint64": _unsigned(64),
    "double-int": lambda number: number == int(number) and abs(number) <= 2**53 - 1,
    "sf-integer": lambda number: number == int(number) and abs(number) < 10**15,
    "sf-decimal": lambda number: abs(number) < 10**12,
    "unixtime": lambda number: number == int(number),
    "float": _single,
}

SAMPLES: dict[str, tuple[str, ...]] = {
    "date-time": ("2026-03-14T06:30:00Z", "2026-11-02T18:05:09.250+01:00"),
    "date": ("2026-03-14", "2026-11-02"),
    "time": ("06:30:00Z", "18:05:09+01:00"),
    "duration": ("PT6H", "P1DT2H30M"),
    "email": ("watch@port-of-merrow.example", "pilot.two@port-of-merrow.example"),
    "idn-email": ("watch@port-of-merrow.example",),
    "hostname": ("port-of-merrow.example", "quay.port-of-merrow.example"),
    "idn-hostname": ("port-of-merrow.example",),
    "ipv4": ("192.0.2.17", "198.51.100.4"),
    "ipv6": ("2001:db8::17", "2001:db8:0:1::4"),
    "uri": ("https://port-of-merrow.example/berths/4", "urn:merrow:berth:4"),
    "uri-reference": ("/berths/4", "https://port-of-merrow.example/berths/4"),
    "iri": ("https://port-of-merrow.example/berths/4",),
    "iri-reference": ("/berths/4",),
    "uri-template": ("/berths/{berth}",),
    "uuid": ("6f1d2c3a-58b4-4e7a-9d10-2b7c41e0a9f5", "0b9e7d64-1f3c-4a52-8e6d-7c5a3f210b48"),
    "json-pointer": ("/berths/0", ""),
    "relative-json-pointer": ("1/berths", "0#"),
    "regex": ("^[A-Z]{4}$", "quay"),
    "byte": ("cXVheQ==", "TWVycm93"),
    "base64url": ("cXVheQ", "TWVycm93"),
    "char": ("Q", "T"),
    "decimal": ("11.50", "4"),
    "http-date": ("Sat, 14 Mar 2026 06:30:00 GMT",),
    "media-range": ("text/*", "application/json"),
    "sf-boolean": ("?1", "?0"),
    "sf-binary": (":cXVheQ==:",),
    "sf-string": ('"quay"',),
    "sf-token": ("quay",),
    "binary": ("quay",),
    "password": ("quay-and-tide-7",),
}
"""Valid samples by format, in the harbour."""


def format_holds(name: str, value: Any) -> bool:
    """Whether a value is of a format; an unknown format, or one that is not for its type, holds."""
    if isinstance(value, str):
        checker = TEXT_FORMATS.get(name)
        return checker is None or checker(value)
    if isinstance(value, int | float) and not isinstance(value, bool):
        checker = NUMBER_FORMATS.get(name)
        return checker is None or (
            (math.isfinite(value) if isinstance(value, float) else True) and checker(value)
        )
    return True
