"""Two answers of one operation compared: what differs, and what may differ by right."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import unquote

from juxtalogos.conventions.naming import plain
from juxtalogos.documents.jsontext import dump_json
from juxtalogos.documents.jsonvalues import equal, in_words, key_of, type_of
from juxtalogos.formats.http.links import created_address
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.findings import general_path
from juxtalogos.model.location import escape_key, follow_pointer
from juxtalogos.model.schema import ABSENT

MIN_CARRIED = 3
"""Shorter texts are no values of a run: they occur by chance."""
MOMENT = "moment"
"""Among the values of a run: when the request was sent, in Unix seconds."""
_NEAR, _EXACT = 300.0, 5.0
"""Seconds: so far from its request a time may be to be one of the request's; so much may two be apart that
keep their distance."""
MOST_LEAVES = 20_000


@dataclass(frozen=True, slots=True)
class Allowed:
    """What may differ; a path may have `*` for any name or index."""

    ignore: tuple[str, ...] = ()
    any_of_type: tuple[str, ...] = ()
    near: tuple[tuple[str, float], ...] = ()
    unordered: tuple[str, ...] = ()
    created: tuple[str, ...] = ()
    """What the call itself makes: any value of its type there, and the same one wherever else it occurs."""
    carried: bool = True


@dataclass(frozen=True, slots=True)
class Difference:
    """One place at which two answers differ."""

    path: str
    before: Any
    """ABSENT where it is new."""
    after: Any
    type_only: bool = False

    @property
    def where(self) -> str:
        return self.path or "the body"

    def told(self) -> str:
        """In words, of an answer that was kept and one that came."""
        if self.after is ABSENT:
            return f"{self.where}: gone, was {in_words(self.before, 60)}"
        if self.before is ABSENT:
            return f"{self.where}: new, {in_words(self.after, 60)}"
        if self.type_only:
            return f"{self.where}: kept {type_of(self.before)}, received {type_of(self.after)}"
        return f"{self.where}: kept {in_words(self.before, 60)}, received {in_words(self.after, 60)}"


def differences(
    before: Any,
    after: Any,
    allowed: Allowed,
    first: Mapping[str, Any] = {},
    second: Mapping[str, Any] = {},
) -> Iterator[Difference]:
    """Where two answers differ though nothing allows it; `first` and `second` are the values that each one's
    run knew, by where they came from.
    """
    carried = (
        {key_of(old): second[name] for name, old in first.items() if name in second and name != MOMENT}
        if allowed.carried
        else {}
    )
    if allowed.created:
        carried |= _made(before, after, _patterns(allowed.created))
    moments = (first.get(MOMENT), second.get(MOMENT)) if allowed.carried else (None, None)
    return _Comparing(allowed, carried, moments).compare(before, after)


def _made(before: Any, after: Any, created: list[re.Pattern[str]]) -> dict[Any, Any]:
    """What was made before -> what was made now, where both are such as can be told apart."""
    found = {}
    for path, old in leaves(before):
        if _fits(created, path) and _is_telling(old):
            try:
                new = follow_pointer(after, path)
            except (LookupError, ValueError):
                continue
            if type_of(new) == type_of(old):
                found[key_of(old)] = new
    return found


def _is_telling(value: Any) -> bool:
    if isinstance(value, str):
        return len(value) >= MIN_CARRIED
    return isinstance(value, int | float) and not isinstance(value, bool) and abs(value) >= 100


def leaves(value: Any, path: str = "") -> Iterator[tuple[str, Any]]:
    """(pointer, value) of the single values within one, so many as are looked at."""
    waiting, count = [(path, value)], 0
    while waiting:
        at, one = waiting.pop()
        if isinstance(one, dict):
            waiting += reversed([(f"{at}/{escape_key(key)}", item) for key, item in one.items()])
        elif isinstance(one, list):
            waiting += reversed([(f"{at}/{index}", item) for index, item in enumerate(one)])
        else:
            yield at, one
            count += 1
            if count >= MOST_LEAVES:
                return


@dataclass(slots=True)
class _Comparing:
    allowed: Allowed
    carried: Mapping[Any, Any]
    moments: tuple[Any, Any]
    ignore: list[re.Pattern[str]] = field(default_factory=list)
    types: list[re.Pattern[str]] = field(default_factory=list)
    near: list[tuple[list[re.Pattern[str]], float]] = field(default_factory=list)
    unordered: list[re.Pattern[str]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.ignore = _patterns(self.allowed.ignore)
        self.types = _patterns((*self.allowed.any_of_type, *self.allowed.created))
        self.near = [(_patterns((path,)), by) for path, by in self.allowed.near]
        self.unordered = _patterns(self.allowed.unordered)

    def compare(self, before: Any, after: Any, path: str = "") -> Iterator[Difference]:
        """In the order of the first answer, however deep they nest."""
        waiting = [(path, before, after)]
        while waiting:
            at, one, other = waiting.pop()
            if self.ignore and _fits(self.ignore, at):
                continue
            if one is ABSENT or other is ABSENT:
                yield Difference(at, one, other)
            elif self.types and _fits(self.types, at):
                if type_of(one) != type_of(other):
                    yield Difference(at, one, other, type_only=True)
            elif isinstance(one, dict) and isinstance(other, dict):
                keys = dict.fromkeys([*one, *other])
                waiting += reversed(
                    [
                        (f"{at}/{escape_key(key)}", one.get(key, ABSENT), other.get(key, ABSENT))
                        for key in keys
                    ]
                )
            elif isinstance(one, list) and isinstance(other, list):
                if self.unordered and _fits(self.unordered, at):
                    yield from self.sets(one, other, at)
                    continue
                longest = range(max(len(one), len(other)))
                waiting += reversed(
                    [(f"{at}/{index}", _item(one, index), _item(other, index)) for index in longest]
                )
            elif not self.same(one, other, at):
                yield Difference(at, one, other)

    def sets(self, before: list[Any], after: list[Any], path: str) -> Iterator[Difference]:
        """Lists whose order is of no matter: each item is like one of the other, each once."""
        left = list(after)
        for item in before:
            found = next(
                (index for index, one in enumerate(left) if not any(self.compare(item, one, f"{path}/0"))),
                None,
            )
            if found is None:
                yield Difference(path, item, ABSENT)
            else:
                del left[found]
        yield from (Difference(path, ABSENT, item) for item in left)

    def same(self, before: Any, after: Any, path: str) -> bool:
        """Whether two values are the same, or differ by right."""
        if isinstance(before, dict | list) or isinstance(after, dict | list):
            return False
        if equal(before, after):
            return True
        numbers = all(isinstance(one, int | float) and not isinstance(one, bool) for one in (before, after))
        if numbers and any(_fits(pattern, path) and abs(before - after) <= by for pattern, by in self.near):
            return True
        if key_of(before) in self.carried and equal(self.carried[key_of(before)], after):
            return True
        if _same_moment(before, after, *self.moments):
            return True
        return isinstance(before, str) and isinstance(after, str) and self.told_anew(before) == after

    def told_anew(self, text: str) -> str:
        """A text with the values of the first run replaced by those of the second."""
        for old, new in self.carried.items():
            if isinstance(old, str) and len(old) >= MIN_CARRIED and isinstance(new, str):
                text = text.replace(old, new)
            elif isinstance(old, int) and isinstance(new, int) and old >= 100 and str(old) in text:
                text = re.sub(rf"(?<!\d){old}(?!\d)", str(new), text)
        return text


def _item(items: list[Any], index: int) -> Any:
    return items[index] if index < len(items) else ABSENT


def _patterns(paths: Iterable[str]) -> list[re.Pattern[str]]:
    return [
        re.compile("/".join("[^/]+" if token == "*" else re.escape(token) for token in path.split("/")))
        for path in paths
    ]


def _fits(patterns: list[re.Pattern[str]], path: str) -> bool:
    return any(pattern.fullmatch(path) for pattern in patterns)


def _same_moment(before: Any, after: Any, first: Any, second: Any) -> bool:
    """Whether two times are each its own request's, or as far from it as the other is from its own."""
    if not isinstance(first, int | float) or not isinstance(second, int | float):
        return False
    one, other = moment_of(before), moment_of(after)
    if one is None or other is None:
        return False
    distances = one - first, other - second
    return max(map(abs, distances)) <= _NEAR or abs(distances[0] - distances[1]) <= _EXACT


_ISO = re.compile(r"\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d")
_HTTP = re.compile(r"(Mon|Tue|Wed|Thu|Fri|Sat|Sun), \d\d \w{3} \d{4} ")
_TICKS = re.compile(r"/Date\((-?\d{9,14})(?:[+-]\d+)?\)/")


def moment_of(value: Any) -> float | None:
    """The Unix seconds of a time: as RFC 3339, RFC 9110 and OData V2 write it, or a number of seconds or
    milliseconds.
    """
    if isinstance(value, bool):
        return None
    if isinstance(value, int | float):
        return float(value) if 1e9 <= value < 4e9 else value / 1000 if 1e12 <= value < 4e12 else None
    if not isinstance(value, str) or len(value) > 40:
        return None
    try:
        if _ISO.match(value):
            found = datetime.fromisoformat(value.upper())
            return (found if found.tzinfo else found.replace(tzinfo=UTC)).timestamp()
        if _HTTP.match(value):
            return parsedate_to_datetime(value).timestamp()
    except (ValueError, TypeError, OverflowError):
        return None
    ticks = _TICKS.fullmatch(value)
    return int(ticks[1]) / 1000 if ticks else None


_UUID = re.compile(r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}")


_NAMES = re.compile(r"(.*?)[_.-]?(?:id|key|number|no|nr|uuid|guid|ref|reference)", re.IGNORECASE)


def created_places(
    value: Any, exchange: Exchange, outputs: Iterable[Any] = (), noun: str = ""
) -> tuple[str, ...]:
    """Where an answer tells what its call made, and nobody sent it.

    That is a value that Location leads to, that later steps take (`outputs`), a UUID, or one named as the
    identifier of
    what the operation is about (`noun`).
    """
    response, request = exchange.response, exchange.request
    if response is None:
        return ()
    sent = request.url + (request.body or b"").decode("utf-8", "replace")
    location = created_address(response.headers)
    parts = {unquote(part) for part in re.split(r"[/?&=()'\"]", location) if part}
    taken = {key_of(output) for output in outputs if _is_telling(output)}
    found = []
    for path, one in leaves(value):
        text = one if isinstance(one, str) else dump_json(one)
        named = text in parts or _is_named(path.rpartition("/")[2], noun)
        if one is None or isinstance(one, bool) or not (named or _is_telling(one)):
            continue
        if text in sent and re.search(rf"(?<![\w-]){re.escape(text)}(?![\w-])", sent):
            continue
        if named or key_of(one) in taken or (isinstance(one, str) and _UUID.fullmatch(one)):
            found.append(general_path(path))
    return tuple(dict.fromkeys(found))


def _is_named(name: str, noun: str) -> bool:
    """Whether a property is the identifier of a thing: `id`, or of a job `jobId` and `job_number`."""
    found = _NAMES.fullmatch(name)
    if found is None:
        return False
    stem, thing = plain(found[1]), plain(noun)
    return not stem or (bool(thing) and (thing.endswith(stem) or stem.endswith(thing)))


def proposed(
    before: Any, after: Any, allowed: Allowed, first: Mapping[str, Any] = {}, second: Mapping[str, Any] = {}
) -> Allowed:
    """Rules under which two answers of the same call are the same: what differed may be any value of its
    type, or is left out.
    """
    types, ignored = list(allowed.any_of_type), list(allowed.ignore)
    for _ in range(200):
        made = replace(allowed, any_of_type=tuple(types), ignore=tuple(ignored))
        one = next(differences(before, after, made, first, second), None)
        if one is None:
            return made
        path = general_path(one.path)
        typed = one.before is not ABSENT and one.after is not ABSENT and not one.type_only
        if typed and path not in types:
            types.append(path)
        elif path not in ignored:
            ignored.append(path)
        else:
            return made
    return replace(allowed, any_of_type=tuple(types), ignore=tuple(ignored))
