"""A parser for the regular expressions of XML Schema (XSD 1.0 part 2, appendix F).

They are anchored at both ends, know no anchors, groups or references, and have classes of their own: `\\i`,
`\\c`,
`\\p{IsBlock}`, and one class less another. The tree is that of the ECMA parser, so the same engines match it.
"""

from __future__ import annotations

import sys
import unicodedata
from functools import lru_cache

from juxtalogos.schema.patterns.blocks import BLOCKS
from juxtalogos.schema.patterns.parse import (
    MAX_NESTING,
    Assertion,
    Chars,
    Choice,
    Node,
    PatternError,
    Repeat,
    Sequence,
)

Ranges = tuple[tuple[int, int], ...]
_LAST = sys.maxunicode
_SINGLE = {"n": 10, "r": 13, "t": 9, **{char: ord(char) for char in "\\|.?*+(){}-[]^"}}
_CATEGORIES = {
    "L": "lmotu",
    "M": "nce",
    "N": "dlo",
    "P": "cdseifo",
    "Z": "slp",
    "S": "mcko",
    "C": "cfon",
}
_NAME_START: Ranges = (
    (0x3A, 0x3A),
    (0x41, 0x5A),
    (0x5F, 0x5F),
    (0x61, 0x7A),
    (0xC0, 0xD6),
    (0xD8, 0xF6),
    (0xF8, 0x2FF),
    (0x370, 0x37D),
    (0x37F, 0x1FFF),
    (0x200C, 0x200D),
    (0x2070, 0x218F),
    (0x2C00, 0x2FEF),
    (0x3001, 0xD7FF),
    (0xF900, 0xFDCF),
    (0xFDF0, 0xFFFD),
    (0x10000, 0xEFFFF),
)
"""Name start characters of XML 1.0, fifth edition (section 2.3)."""
_NAME_CHAR: Ranges = (
    *_NAME_START,
    (0x2D, 0x2E),
    (0x30, 0x39),
    (0xB7, 0xB7),
    (0x300, 0x36F),
    (0x203F, 0x2040),
)
_NAMED: dict[str, Chars] = {
    "d": Chars(named=("p:Nd",)),
    "w": Chars(named=("p:P", "p:Z", "p:C"), negated=True),
    "s": Chars(ranges=((9, 10), (13, 13), (32, 32))),
    "i": Chars(ranges=_NAME_START),
    "c": Chars(ranges=_NAME_CHAR),
}


def parse_xsd_pattern(text: str) -> Node:
    """The tree of a pattern, anchored at both ends; PatternError when it is none."""
    parser = _Parser(text)
    node = parser.choice(0)
    if parser.at < len(text):
        raise PatternError(f"unmatched {text[parser.at]!r} at {parser.at}")
    return Sequence((Assertion("^"), node, Assertion("$")))


class _Parser:
    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0

    def peek(self) -> str:
        return self.text[self.at : self.at + 1]

    def fail(self, what: str) -> PatternError:
        return PatternError(f"{what} at {self.at}")

    def choice(self, depth: int) -> Node:
        if depth > MAX_NESTING:
            raise self.fail("groups nested too deep")
        options = [self.branch(depth)]
        while self.peek() == "|":
            self.at += 1
            options.append(self.branch(depth))
        return options[0] if len(options) == 1 else Choice(tuple(options))

    def branch(self, depth: int) -> Node:
        items: list[Node] = []
        while self.at < len(self.text) and self.peek() not in "|)":
            items.append(self.quantified(self.atom(depth)))
        return items[0] if len(items) == 1 else Sequence(tuple(items))

    def quantified(self, item: Node) -> Node:
        char = self.peek()
        if char and char in "*+?":
            self.at += 1
            least, most = {"*": (0, None), "+": (1, None), "?": (0, 1)}[char]
            return Repeat(item, least, most, False)
        if char != "{":
            return item
        end = self.text.find("}", self.at)
        low, comma, high = self.text[self.at + 1 : end].partition(",")
        if end < 0 or not _digits(low) or not (high == "" or _digits(high)):
            raise self.fail("a quantity is {n}, {n,} or {n,m}; it is not so")
        self.at = end + 1
        least = int(low[:9])
        most = least if not comma else int(high[:9]) if high else None
        if most is not None and most < least:
            raise self.fail("a repetition from more to fewer")
        return Repeat(item, least, most, False)

    def atom(self, depth: int) -> Node:
        char = self.peek()
        if char == "(":
            self.at += 1
            item = self.choice(depth + 1)
            if self.peek() != ")":
                raise self.fail("a ')' is missing")
            self.at += 1
            return Sequence((item,))
        if char == "[":
            self.at += 1
            return self.char_class(depth)
        if char == "\\":
            return self.escape()
        if char in "*+?{}])":
            raise self.fail(f"{char!r} stands where a character should")
        self.at += 1
        if char == ".":
            return Chars(ranges=((10, 10), (13, 13)), negated=True)
        return Chars(((ord(char), ord(char)),))

    def escape(self) -> Chars:
        """An escape outside a class or in it."""
        self.at += 1
        char = self.peek()
        self.at += 1
        if char in _SINGLE and char:
            return Chars(((_SINGLE[char], _SINGLE[char]),))
        if char and char in "dwsic":
            return _NAMED[char]
        if char and char in "DWSIC":
            return _not(_NAMED[char.lower()])
        if char and char in "pP":
            return self.property(char == "P")
        raise self.fail("an unknown escape")

    def property(self, negated: bool) -> Chars:
        end = self.text.find("}", self.at)
        if self.peek() != "{" or end < 0:
            raise self.fail("a property is written \\p{Lu} or \\p{IsGreek}")
        name = self.text[self.at + 1 : end]
        self.at = end + 1
        if name.startswith("Is"):
            found = BLOCKS.get(name[2:].lower())
            if found is None:
                raise self.fail(f"there is no block {name[2:]!r}")
            return Chars(ranges=found, negated=negated)
        if name[:1] not in _CATEGORIES or (len(name) > 1 and name[1:] not in tuple(_CATEGORIES[name[0]])):
            raise self.fail(f"there is no category {name!r}")
        return Chars(named=(f"{'P' if negated else 'p'}:{name}",))

    def char_class(self, depth: int) -> Chars:
        if depth > MAX_NESTING:
            raise self.fail("classes nested too deep")
        negated = self.peek() == "^"
        self.at += negated
        parts: list[Chars] = []
        less: Chars | None = None
        while self.peek() != "]":
            if self.peek() == "":
                raise self.fail("a ']' is missing")
            if self.text.startswith("-[", self.at) and parts:
                self.at += 2
                less = self.char_class(depth + 1)
                if self.peek() != "]":
                    raise self.fail("a ']' is missing behind what is taken away")
                break
            parts.append(self.class_part(not parts))
        self.at += 1
        if not parts:
            raise self.fail("a class is empty")
        whole = _union(parts)
        if negated:
            whole = _not(whole)
        return whole if less is None else Chars(ranges=_less(_ranges(whole), _ranges(less)))

    def class_part(self, first: bool) -> Chars:
        low = self.class_atom(first)
        if self.peek() != "-" or self.text.startswith(("-]", "-["), self.at):
            return low
        self.at += 1
        high = self.class_atom(False)
        ends = [
            part.ranges[0]
            for part in (low, high)
            if len(part.ranges) == 1 and not part.named and not part.negated
        ]
        if len(ends) < 2 or any(start != end for start, end in ends):
            raise self.fail("a range needs one character at each end")
        if ends[0][0] > ends[1][0]:
            raise self.fail("a range from more to less")
        return Chars(((ends[0][0], ends[1][0]),))

    def class_atom(self, first: bool) -> Chars:
        char = self.peek()
        if char == "\\":
            return self.escape()
        # A hyphen stands for itself at the beginning or the end only (appendix F, positive character group).
        if char == "[" or (char == "-" and not first and not self.text.startswith("-]", self.at)):
            raise self.fail(f"{char!r} in a class is written with a backslash")
        self.at += 1
        return Chars(((ord(char), ord(char)),)) if char else Chars()


def _digits(text: str) -> bool:
    return text.isascii() and text.isdigit()


def _not(chars: Chars) -> Chars:
    return Chars(chars.ranges, chars.named, not chars.negated)


def _union(parts: list[Chars]) -> Chars:
    if len(parts) == 1:
        return parts[0]
    if any(part.negated for part in parts):
        return Chars(ranges=_joined([range_ for part in parts for range_ in _ranges(part)]))
    return Chars(
        tuple(range_ for part in parts for range_ in part.ranges),
        tuple(item for part in parts for item in part.named),
    )


def _ranges(chars: Chars) -> Ranges:
    """The code points of a set, written out."""
    found = list(chars.ranges)
    for name in chars.named:
        kind, _, category = name.partition(":")
        ranges = _category(category)
        found += _complement(ranges) if kind == "P" else ranges
    joined = _joined(found)
    return _complement(joined) if chars.negated else joined


@lru_cache(maxsize=64)
def _category(name: str) -> Ranges:
    found: list[tuple[int, int]] = []
    start = -1
    for code in range(_LAST + 2):
        inside = code <= _LAST and unicodedata.category(chr(code)).startswith(name)
        if inside and start < 0:
            start = code
        elif not inside and start >= 0:
            found.append((start, code - 1))
            start = -1
    return tuple(found)


def _joined(ranges: list[tuple[int, int]]) -> Ranges:
    found: list[tuple[int, int]] = []
    for low, high in sorted(ranges):
        if found and low <= found[-1][1] + 1:
            found[-1] = found[-1][0], max(high, found[-1][1])
        else:
            found.append((low, high))
    return tuple(found)


def _complement(ranges: Ranges) -> Ranges:
    found, at = [], 0
    for low, high in _joined(list(ranges)):
        if at < low:
            found.append((at, low - 1))
        at = high + 1
    if at <= _LAST:
        found.append((at, _LAST))
    return tuple(found)


def _less(ranges: Ranges, away: Ranges) -> Ranges:
    return _complement(_joined([*_complement(ranges), *away]))
