"""JSON text (RFC 8259) into values: exact integers, no NaN, bounded depth."""

from __future__ import annotations

import itertools
import json
from typing import Any, NoReturn

MAX_CONTAINERS = 1_000_000
"""Objects and lists of one answer that is compared."""
_LARGE = 1_000_000
DEEPEST_INDENTED = 200
"""Levels of a value that is laid out in lines."""


class NotJson(ValueError):
    """The text is not JSON; `offset` counts characters from 0."""

    def __init__(self, what: str, offset: int = 0, *, too_much: bool = False) -> None:
        super().__init__(what)
        self.offset = offset
        self.too_much = too_much
        """Whether it may well be JSON, but more than is followed."""


def _constant(name: str) -> NoReturn:
    raise NotJson(f"{name} is no JSON number")


def _unique(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    value = dict(pairs)
    if len(value) != len(pairs):
        seen: set[str] = set()
        for key, _ in pairs:
            if key in seen:
                raise NotJson(f"the name {key!r} stands twice in one object")
            seen.add(key)
    return value


def decode_utf8(data: bytes) -> str:
    """UTF-8 as RFC 8259, section 8.1 demands it; a byte order mark is ignored."""
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise NotJson(f"not UTF-8 at byte {error.start}", error.start) from None


_PLAIN = json.JSONDecoder(parse_constant=_constant)
_UNIQUE = json.JSONDecoder(parse_constant=_constant, object_pairs_hook=_unique)


def parse_json(data: bytes | str, *, unique: bool = False) -> Any:
    """The value of a JSON text; NotJson says what is wrong. `unique` refuses a name that stands twice."""
    text = decode_utf8(data) if isinstance(data, bytes) else data
    try:
        return (_UNIQUE if unique else _PLAIN).decode(text)
    except json.JSONDecodeError as error:
        raise NotJson(
            f"{error.msg[0].lower()}{error.msg[1:]} at line {error.lineno}, column {error.colno}", error.pos
        ) from None
    except RecursionError:
        raise NotJson("nested too deep to read", too_much=True) from None
    except NotJson:
        raise
    except ValueError as error:  # an integer of more digits than Python converts
        raise NotJson(str(error).split(";")[0].lower(), too_much=True) from None


def parse_answer(body: bytes) -> Any:
    """The value of a JSON text that came from a service; more objects and lists than are followed are
    `too_much`.
    """
    if len(body) > _LARGE and body.count(b"{") + body.count(b"[") > MAX_CONTAINERS:
        raise NotJson(f"more than {MAX_CONTAINERS:,} objects and lists", too_much=True)
    return parse_json(body)


def _is_deeper(value: Any, levels: int) -> bool:
    """Whether objects and lists stand within one another more than so often."""
    level = [value] if isinstance(value, dict | list) else []
    while level and levels:
        members = (one.values() if isinstance(one, dict) else one for one in level)
        level = [inner for inner in itertools.chain.from_iterable(members) if isinstance(inner, dict | list)]
        levels -= 1
    return bool(level)


def dump_json(value: Any, *, indent: int | None = None) -> str:
    """JSON text of a value, in the order it has; lone surrogates are escaped. What is nested very deep
    is not indented: it would be more indentation than text.
    """
    if indent and _is_deeper(value, DEEPEST_INDENTED):
        indent = None
    text = json.dumps(value, ensure_ascii=False, indent=indent, separators=None if indent else (",", ":"))
    return text if text.isascii() or _encodable(text) else json.dumps(value, indent=indent)


def _encodable(text: str) -> bool:
    try:
        text.encode()
    except UnicodeEncodeError:
        return False
    return True
