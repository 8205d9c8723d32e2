"""Path templates (OpenAPI, paths object): what of a path is fixed, what is a variable, and which template
says more.

Beyond the plain form these odd ones are met in practice and read as their authors mean them: a fixed query
behind `?` is a
part of the request, what follows `#` only tells two path items apart and is never sent, a variable whose name
ends in `*`
or `+` and that ends the path takes all segments that are left, and a brace without its partner is an ordinary
character.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from urllib.parse import parse_qsl, quote

_VARIABLE = re.compile(r"\{([^{}]+)\}")
_TAIL = "*+"
_ENCODED = re.compile(r"%[0-9A-Fa-f]{2}")
_KEPT = "-._~!$&'()*+,;=:@"
_PLAIN = re.compile(r"[A-Za-z0-9\-._~!$&'()*+,;=:@/]*")
"""Characters of a path segment that may stand encoded or plain (RFC 3986, sections 3.3 and 6.2.2.2)."""


@dataclass(frozen=True, slots=True)
class Segment:
    """Fixed texts with a variable between each two: `a{x}b` is ("a", "b") and ("x",)."""

    texts: tuple[str, ...]
    names: tuple[str, ...]

    @property
    def rank(self) -> tuple[int, int, int]:
        """Sorts what says more first: fixed before variable, then the longer fixed part."""
        return (1 if self.names else 0, -sum(map(len, self.texts)), len(self.names))


@dataclass(frozen=True, slots=True)
class Template:
    segments: tuple[Segment, ...]
    takes_rest: bool
    """Whether the last variable takes all segments that are left."""
    query: tuple[tuple[str, str], ...]
    """The fixed query."""

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(name for segment in self.segments for name in segment.names)

    @property
    def rank(self) -> tuple[object, ...]:
        return (self.takes_rest, tuple(segment.rank for segment in self.segments), -len(self.query))

    def values(self, path: str, query: str = "") -> dict[str, str] | None:
        """The raw texts of the variables in a canonical path; None when it is not of this template."""
        parts = path.split("/")
        if self.takes_rest and len(parts) > len(self.segments):
            parts[len(self.segments) - 1 :] = ["/".join(parts[len(self.segments) - 1 :])]
        if len(parts) != len(self.segments):
            return None
        found: dict[str, str] = {}
        for segment, part in zip(self.segments, parts):
            texts = _cut(segment, part)
            if texts is None:
                return None
            found.update(zip(segment.names, texts))
        if self.query:
            given = parse_qsl(query, keep_blank_values=True)
            if any(pair not in given for pair in self.query):
                return None
        return found


def _cut(segment: Segment, part: str) -> list[str] | None:
    """The texts of the variables, each at least a character; the first ones as long as can be. Linear in the
    text.
    """
    first, *others = segment.texts
    if not others:
        return [] if part == first else None
    if not part.startswith(first) or not part.endswith(others[-1]):
        return None
    start, end = len(first), len(part) - len(others[-1])
    found: list[str] = []
    for index in range(len(others) - 2, -1, -1):
        # Behind the text a variable follows that needs a character, before it as many as there are variables.
        at = part.rfind(others[index], start + index + 1, end - 1)
        if at < 0:
            return None
        found.append(part[at + len(others[index]) : end])
        end = at
    return [part[start:end], *reversed(found)] if end > start else None


@lru_cache(maxsize=50_000)
def _pieces(path: str) -> tuple[tuple[str, ...], str]:
    """(fixed texts as they are sent and names of variables by turns, the fixed query)."""
    head, _, query = path.partition("#")[0].partition("?")
    pieces = _VARIABLE.split(head)
    done = [
        one.rstrip(_TAIL) if index % 2 else quote(one, safe="/%" + _KEPT, errors="replace")
        for index, one in enumerate(pieces)
    ]
    return tuple(done), quote(query, safe="/%?" + _KEPT, errors="replace")


@lru_cache(maxsize=50_000)
def variables(path: str) -> tuple[str, ...]:
    """Names in order, as the path writes them."""
    return tuple(name.rstrip(_TAIL) for name in _VARIABLE.findall(path.partition("#")[0]))


@lru_cache(maxsize=50_000)
def template(path: str) -> Template:
    """The template of a path, made once."""
    path, _, query = path.partition("#")[0].partition("?")
    segments = []
    for part in path.split("/"):
        pieces = _VARIABLE.split(part)
        names = tuple(name.rstrip(_TAIL) for name in pieces[1::2])
        segments.append(Segment(tuple(canonical(piece) for piece in pieces[::2]), names))
    takes_rest = path.endswith(("*}", "+}")) and bool(segments[-1].names)
    return Template(tuple(segments), takes_rest, tuple(parse_qsl(query, keep_blank_values=True)))


def canonical(path: str) -> str:
    """A path with each character in the one form it can be compared in."""
    if _PLAIN.fullmatch(path):
        return path

    def plain(found: re.Match[str]) -> str:
        character = chr(int(found.group()[1:], 16))
        keep = character.isascii() and (character.isalnum() or character in _KEPT)
        return character if keep else found.group().upper()

    return quote(_ENCODED.sub(plain, path), safe="/%" + _KEPT)


def filled(path: str, texts: dict[str, str]) -> tuple[str, str]:
    """(path, fixed query) with the variables' texts put in, encoded as they are sent."""
    pieces, query = _pieces(path)
    return "".join(texts[one] if index % 2 else one for index, one in enumerate(pieces)), query
