"""Texts that match a pattern: generated from its tree, each to be verified by the caller's schema."""

from __future__ import annotations

import random
import sys
import unicodedata
from collections.abc import Iterator
from functools import lru_cache

from juxtalogos.schema.patterns.parse import (
    Assertion,
    BackReference,
    Chars,
    Choice,
    Dot,
    Group,
    Look,
    Node,
    Repeat,
    Sequence,
)

_LIKED = (
    "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_"
    " .:/@#+,;!?()[]{}<>=*&%$~^|'\"\\`\t\nÄéñßΩжあ漢🙂"
)
_WORD = set("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_")
_SPACE = set("\t\n\v\f\r \u00a0\ufeff\u2028\u2029")
MAX_LENGTH = 100_000


def matching_texts(tree: Node, *, least: int = 0, seed: int = 0, tries: int = 24) -> Iterator[str]:
    """Candidates: the shortest first, then longer ones that reach `least` characters,
    then seeded variations.
    """
    shortest = _TextMaker(random.Random(seed), 0).write(tree)
    yield shortest
    # A repetition is stretched by what is missing; patterns with several repetitions want less each.
    missing = max(0, least - len(shortest))
    for stretch in (missing, missing // 2 + 1, missing // 3 + 1):
        if missing:
            yield _TextMaker(random.Random(seed), stretch, stretch_all=stretch != missing).write(tree)
    if missing:
        yield shortest + "a" * missing
        yield "a" * missing + shortest
    for attempt in range(tries):
        rng = random.Random(seed * 1009 + attempt + 1)
        yield _TextMaker(rng, rng.choice((1, 2, 4, missing or 8)), stretch_all=True, vary=True).write(tree)


class _TextMaker:
    def __init__(
        self, rng: random.Random, stretch: int, *, stretch_all: bool = False, vary: bool = False
    ) -> None:
        self.rng = rng
        self.stretch = stretch
        self.stretch_all = stretch_all
        self.vary = vary
        self.groups: dict[int | str, str] = {}
        self.length = 0
        self.fitting: dict[int, list[str]] = {}

    def write(self, node: Node) -> str:
        match node:
            case Chars():
                return self.pick(node)
            case Dot():
                return self.rng.choice("abcdefgh") if self.vary else "a"
            case Sequence(items):
                return "".join(map(self.write, items))
            case Choice(options):
                return self.write(self.rng.choice(options) if self.vary else options[0])
            case Repeat():
                return self.repeat(node)
            case Group(item, index, name):
                text = self.write(item)
                self.groups[index] = text
                if name:
                    self.groups[name] = text
                return text
            case BackReference(to):
                return self.groups.get(to, "")
            case Look(item, ahead, negated):
                # Its text is written where nothing else would be; whoever asked verifies the whole.
                return (
                    self.write(item)
                    if self.vary and not negated and not ahead and self.rng.random() < 0.5
                    else ""
                )
            case Assertion():
                return ""

    def repeat(self, node: Repeat) -> str:
        count = node.least
        if self.stretch:
            count += self.rng.randint(0, self.stretch) if self.vary else self.stretch
            if not self.stretch_all and node.most != node.least:
                self.stretch = 0
        if node.most is not None:
            count = min(count, node.most)
        parts: list[str] = []
        for _ in range(count):
            parts.append(self.write(node.item))
            self.length += len(parts[-1])
            if self.length > MAX_LENGTH:
                break
        return "".join(parts)

    def pick(self, node: Chars) -> str:
        if (
            not node.negated
            and len(node.ranges) == 1
            and not node.named
            and node.ranges[0][0] == node.ranges[0][1]
        ):
            return chr(node.ranges[0][0])
        fitting = self.fitting.get(id(node))
        if fitting is None:
            fitting = [char for char in _LIKED if holds(node, char)]
            if not fitting and not node.negated and node.ranges:
                fitting = [chr(low) for low, _ in node.ranges]
            fitting = self.fitting[id(node)] = fitting or list(_search(node))
        if not fitting:
            return ""
        return self.rng.choice(fitting) if self.vary else fitting[0]


@lru_cache(maxsize=256)
def _search(node: Chars) -> tuple[str, ...]:
    """The first character of a set, as few of them have none of those that are liked; empty where no
    character is in it, as in `[]`.
    """
    if not (node.negated or node.ranges or node.named):
        return ()
    for code in range(sys.maxunicode):
        if not 0xD800 <= code < 0xE000 and holds(node, chr(code)):
            return (chr(code),)
    return ()


def holds(node: Chars, char: str) -> bool:
    """Whether a character is in the set."""
    inside = any(low <= ord(char) <= high for low, high in node.ranges) or any(
        _named(name, char) for name in node.named
    )
    return inside != node.negated


def _named(name: str, char: str) -> bool:
    match name:
        case "d" | "D":
            return ("0" <= char <= "9") == (name == "d")
        case "w" | "W":
            return (char in _WORD) == (name == "w")
        case "s" | "S":
            return (char in _SPACE or unicodedata.category(char) == "Zs") == (name == "s")
    import regex

    kind, _, value = name.partition(":")
    try:
        return regex.match(f"\\{kind}{{{value}}}", char) is not None
    except regex.error:
        return False
