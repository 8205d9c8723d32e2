"""What a refusal names: inputs, values, and what it wants of them. Nothing here sends anything."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from shlex import quote
from typing import Any

from juxtalogos.conventions.naming import plain, singular
from juxtalogos.conventions.words import word_set
from juxtalogos.model.contract import Operation
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.findings import REFUSED
from juxtalogos.model.wire import Inputs
from juxtalogos.run.judging.judge import Judgement
from juxtalogos.run.judging.refusals import MOST_READ, texts_of
from juxtalogos.run.learning.shapes import shaped_values
from juxtalogos.suite.inputs import values_of

_QUOTED = re.compile(r"'([^'\n]{1,80})'|\"([^\"\n]{1,80})\"|`([^`\n]{1,80})`")
_LISTED = re.compile(
    r"\b(?:one of|allowed(?: values)?(?: are)?|must be|expected|choose from|valid(?: values)?(?: are)?"
    r"|known(?: are)?|either|possible(?: values)?(?: are)?)[:\s]+(.{1,300})",
    re.IGNORECASE,
)
_BETWEEN = re.compile(
    r"between\s+(-?\d{1,15}(?:\.\d{1,15})?)\s+and\s+(-?\d{1,15}(?:\.\d{1,15})?)", re.IGNORECASE
)
_LEAST = re.compile(
    r"(?:at least|greater than(?: or equal to)?|minimum(?: is)?|>=?)\s*(-?\d{1,15}(?:\.\d{1,15})?)",
    re.IGNORECASE,
)
_MOST = re.compile(
    r"(?:at most|less than(?: or equal to)?|maximum(?: is)?|<=?|not exceed)\s*(-?\d{1,15}(?:\.\d{1,15})?)",
    re.IGNORECASE,
)
_plain_words = word_set("messages.plain")


@dataclass(frozen=True, slots=True)
class Named:
    """An input that a refusal names, and the text that does."""

    address: str
    text: str


def named_inputs(exchange: Exchange, sent: Inputs, addresses: Iterable[str]) -> list[Named]:
    """The inputs that a refusal names, the strongest sign first: a value of ours, a pointer or field, a
    quoted name, a bare word.
    """
    body = exchange.response.body[:MOST_READ] if exchange.response else b""
    texts = texts_of(body)
    by_name: dict[str, list[str]] = {}
    for address in addresses:
        name = plain(re.split(r"[./]", address)[-1])
        for one in dict.fromkeys((name, singular(name))):
            by_name.setdefault(one, []).append(address)
    found: dict[str, str] = {}

    def note(name: str, text: str) -> None:
        for address in by_name.get(plain(name), ()):
            found.setdefault(address, text)

    whole = " ".join(texts)
    for text in texts:  # a pointer, or a field told by itself
        if re.fullmatch(r"#?(/[\w~.-]+)+|[\w-]+(\.[\w-]+)*(\[\d+\])?", text):
            note(re.split(r"[/.]", re.sub(r"\[\d+\]$", "", text))[-1], whole)
    echoed = [
        address
        for address, value in values_of(sent)
        if isinstance(value, str) and len(value) >= 4 and any(value in text for text in texts)
    ]
    # Where several have the value that comes back, the one whose name stands beside it is meant.
    named = set(map(plain, re.findall(r"[A-Za-z][\w-]+", whole)))
    beside = [address for address in echoed if plain(re.split(r"[./]", address)[-1]) in named]
    for address in beside or echoed:
        found.setdefault(address, whole)
    for text in texts:
        for match in _QUOTED.finditer(text):
            note(next(filter(None, match.groups())), text)
        head = re.match(r"\s*([\w.-]{2,60})\s*:", text)
        if head:
            note(head[1].rpartition(".")[2], text)
    for text in texts:
        for word in re.findall(r"[A-Za-z][\w-]{2,}", text):
            if word.lower() not in _plain_words():
                note(word, text)
                note(singular(word), text)
    return [Named(address, text) for address, text in found.items()]


def mended(judgement: Judgement, operation: Operation, exchange: Exchange, sent: Inputs) -> Judgement:
    """A refusal with the command that would mend it, where it names an input."""
    addresses = [address for address, _ in values_of(sent)]
    named = next(iter(named_inputs(exchange, sent, addresses)), None)
    if named is None:
        return judgement
    optional = any(
        declared_input.address == named.address and not declared_input.required
        for declared_input in operation.inputs
    )
    rule = f"--leave-out {named.address}" if optional else f"--known {named.address}=VALUE"
    told = f"juxtalogos rules {quote(operation.full_id)} {rule}"
    results = tuple(
        replace(result, detail=told) if result.kind == REFUSED else result for result in judgement.results
    )
    return replace(judgement, results=results)


_AS_OWNER = re.compile(
    r"\b(?:out of|outside|within|belongs?|mismatch(?:ed|es)?|do(?:es)? not match|must match|match(?:es)? the"
    r"|(?:be|is) (?:the same as|equal to)|differs? from|inconsistent|part of)\b",
    re.IGNORECASE,
)


def wants_owner(text: str) -> bool:
    """Whether a refusal says that a value must agree with another one, or lie in it."""
    return _AS_OWNER.search(text) is not None


_EXISTS = re.compile(
    r"\b(?:exists? already|already (?:exists?|taken|used|in use|registered)|duplicate|not unique)\b",
    re.IGNORECASE,
)


def says_it_exists(text: str) -> bool:
    """Whether a refusal says that there is such a thing already."""
    return _EXISTS.search(text) is not None


_ASKS = re.compile(
    r"\b(?:required|missing|mandatory|must be|must have|must not be (?:empty|blank|null)|provided?"
    r"|not present|needs?|expected|specif(?:y|ied)|suppl(?:y|ied)|can ?not be (?:empty|blank|null)"
    r"|should be|should have|is not set|undefined|absent)\b",
    re.IGNORECASE,
)


_SPOKEN = re.compile(r"[\"'`“‘]([\w.:/+-]{1,40})[\"'`”’]|\b([A-Z][A-Z0-9_-]+)\b")
_NO_VALUES = frozenset(
    (
        *("MUST", "NOT", "SHOULD", "MAY", "OR", "AND", "URL", "URI", "ID", "IDS", "HTTP", "HTTPS", "JSON"),
        *("XML", "API", "UTC", "ISO", "RFC", "IP", "DNS", "UUID", "TTL", "NB", "TODO"),
    )
)


def described_words(text: str) -> Iterator[str]:
    """Words of a description that may be values: those in quotes, then those in capitals."""
    found = [(bool(match[2]), match[1] or match[2]) for match in _SPOKEN.finditer(text[:2_000])]
    words = (word for capitals, word in sorted(found, key=lambda one: one[0]) if word not in _NO_VALUES)
    yield from itertools.islice(dict.fromkeys(words), 5)


def asks_for(text: str) -> bool:
    """Whether a refusal wants something to be there, and does not complain that it is."""
    return _ASKS.search(text) is not None


def own_formula(value: Any) -> str:
    """A formula for a value of the same kind that no other run has; empty where there is none."""
    if isinstance(value, bool) or value is None:
        return ""
    if isinstance(value, int):
        return "number(unique('1####'))"
    if not isinstance(value, str):
        return ""
    found = re.fullmatch(r"\d{4}-\d\d-\d\d(T.*)?", value)
    if found:
        return f"format(today() + days(30 + number(unique('###'))), 'YYYY-MM-DD{found[1] or ''}')"
    return "unique('????????-####')"


def wanted_values(named: Named, value: Any, described: str = "") -> Iterator[tuple[str, Any]]:
    """(`value` or `formula`, what) that a refusal lets expect to be taken in place of a value, the likeliest
    first. `described`: what the definition says of the input in words; values are often named there.
    """
    if value in ({}, []):  # something is to be in it
        yield "value", {"quay": "quay"} if value == {} else ["quay"]
        return
    text, name = named.text, plain(re.split(r"[./]", named.address)[-1])
    moment = isinstance(value, str) and re.match(r"\d{4}-\d\d-\d\d", value)
    if moment:
        yield from _moments(text, str(value), name)
    listed = _LISTED.search(text)
    told = [next(filter(None, match.groups())) for match in _QUOTED.finditer(text)]
    told = [entry for entry in told if plain(entry) != name and entry != value]
    if listed and not told:
        parts = [part.strip(" .;:()[]{}'\"`") for part in re.split(r",|\bor\b|\band\b|\|", listed[1])]
        told = parts if len(parts) > 1 else []  # what stands alone is a description
    number = isinstance(value, int | float) and not isinstance(value, bool)
    if number:
        yield from (("value", one) for one in _numbers(text, value))
    for one in told[:6]:
        if one and len(one) <= 80 and not number:
            yield "value", one
    if isinstance(value, str) and not moment:
        yield from (("value", word) for word in described_words(described) if word not in told)
        yield from shaped_values(text, plain_choice=bool(told))


def _moments(text: str, value: str, name: str) -> Iterator[tuple[str, Any]]:
    form = "YYYY-MM-DD" if len(value) == 10 else "YYYY-MM-DDThh:mm:ssZ"
    lowered = text.lower()
    days = (
        [-7]
        if "past" in lowered
        else (
            [30, 60]
            if any(word in lowered for word in ("future", "after", "later", "not before", "past"))
            else [30, -7]
        )
    )
    late = any(word in name for word in ("end", "until", "expire", "finish", "depart", "to", "close", "last"))
    for count in days:
        shift = count + (10 if late and count > 0 else 0)
        yield "formula", f"format(now() {'+' if shift >= 0 else '-'} days({abs(shift)}), '{form}')"


def _numbers(text: str, value: Any) -> Iterator[Any]:
    between, least, most = _BETWEEN.search(text), _LEAST.search(text), _MOST.search(text)
    low = float(between[1]) if between else float(least[1]) if least else None
    high = float(between[2]) if between else float(most[1]) if most else None
    found = []
    if low is not None and high is not None:
        found = [(low + high) / 2, low, high]
    elif low is not None:
        found = [low + 1, low]
    elif high is not None:
        found = [high - 1, high]
    else:
        found = [float(one) for one in re.findall(r"(?<![\w.])-?\d{1,15}(?:\.\d{1,15})?(?![\w.])", text)][
            :3
        ] or [
            1.0,
            10.0,
        ]
    for one in found:
        if one != value:
            yield int(one) if isinstance(value, int) or one == int(one) else one
