"""Which patterns Python's backtracking engine may run: those whose matching never has a choice that it must
take back much of.

Proven, not guessed: every repetition is of single characters; a variable one is followed by what cannot begin
with
such a character, or by nothing; a pattern with an unbounded one begins at `^`. All else is for the linear
engine.
"""

from __future__ import annotations

from juxtalogos.schema.patterns.parse import Assertion, Chars, Choice, Dot, Group, Node, Repeat, Sequence

MAX_PATHS = 64
"""Ways through the alternatives of one pattern."""
MAX_FIXED = 2_000
_TOP = 0x10FFFF
_NAMED = {
    "d": ((48, 57),),
    "w": ((48, 57), (65, 90), (95, 95), (97, 122)),
    "s": (
        (9, 13),
        (32, 32),
        (0xA0, 0xA0),
        (0x1680, 0x1680),
        (0x2000, 0x200A),
        (0x2028, 0x2029),
        (0x202F, 0x202F),
        (0x205F, 0x205F),
        (0x3000, 0x3000),
        (0xFEFF, 0xFEFF),
    ),
}
Ranges = tuple[tuple[int, int], ...]


def is_harmless(tree: Node) -> bool:
    """Whether no text can make a backtracking engine take long."""
    paths = _paths(tree)
    return paths is not None and all(map(_path_is_harmless, paths))


def _paths(node: Node) -> list[list[Node]] | None:
    """The pattern as alternatives without groups and choices; None when there are too many, or a choice is
    repeated.
    """
    match node:
        case Choice(options):
            found: list[list[Node]] = []
            for option in options:
                more = _paths(option)
                if more is None or len(found) + len(more) > MAX_PATHS:
                    return None
                found += more
            return found
        case Group(item=item):
            return _paths(item)
        case Sequence(items):
            found = [[]]
            for item in items:
                more = _paths(item)
                if more is None or len(found) * len(more) > MAX_PATHS:
                    return None
                found = [before + after for before in found for after in more]
            return found
        case Repeat(item, least, most, _):
            return _repeated(node, item, least, most)
        case Chars() | Dot() | Assertion():
            return [[node]]
    return None


def _repeated(node: Repeat, item: Node, least: int, most: int | None) -> list[list[Node]] | None:
    if _single(item) is not None:
        return [[node]]
    inner = _paths(item)
    if (
        inner is None
        or len(inner) != 1
        or any(isinstance(child, Repeat) and child.least != child.most for child in inner[0])
    ):
        return None
    if least == most:
        return [inner[0] * least] if least * len(inner[0]) <= MAX_FIXED else None
    if (least, most) == (0, 1):
        return [inner[0], []]
    return None


def _path_is_harmless(path: list[Node]) -> bool:
    anchored = bool(path) and path[0] == Assertion("^")
    for index, node in enumerate(path):
        if not isinstance(node, Repeat):
            continue
        if node.least == node.most:
            if node.least > MAX_FIXED:
                return False
            continue
        if node.most is None and not anchored:
            return False
        own = _single(node.item)
        if own is None or not _parts_from(own, path[index + 1 :]):
            return False
    return True


def _parts_from(own: Ranges, rest: list[Node]) -> bool:
    """Whether what follows can never begin with a character of the set, up to the first thing that must be
    there.
    """
    for node in rest:
        if isinstance(node, Assertion):
            return node.kind == "$"
        item = node.item if isinstance(node, Repeat) else node
        following = _single(item)
        if following is None or _overlap(own, following):
            return False
        if not isinstance(node, Repeat) or node.least > 0:
            return True
    return True


def _single(node: Node) -> Ranges | None:
    """The characters of a node that is one character; None when it is more, or not known."""
    match node:
        case Group(item=item) | Sequence((item,)):
            return _single(item)
        case Dot():
            return _complement(((10, 10), (13, 13), (0x2028, 0x2029)))
        case Chars(ranges, named, negated):
            found = list(ranges)
            for name in named:
                plain = _NAMED.get(name.lower())
                if plain is None:
                    return None
                found += plain if name.islower() else _complement(plain)
            return _complement(tuple(found)) if negated else tuple(found)
    return None


def _complement(ranges: Ranges) -> Ranges:
    found, at = [], 0
    for low, high in sorted(ranges):
        if low > at:
            found.append((at, low - 1))
        at = max(at, high + 1)
    return (*found, (at, _TOP)) if at <= _TOP else tuple(found)


def _overlap(one: Ranges, other: Ranges) -> bool:
    return any(low <= high2 and low2 <= high for low, high in one for low2, high2 in other)
