"""Matching: RE2 (linear time) for what it can express, else `regex` under a time limit."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache
from typing import Any

from juxtalogos.schema.patterns.harmless import is_harmless
from juxtalogos.schema.patterns.parse import (
    Assertion,
    BackReference,
    Chars,
    Choice,
    Dot,
    Group,
    Look,
    Node,
    PatternError,
    Repeat,
    Sequence,
    parse_pattern,
)
from juxtalogos.schema.patterns.xsd import parse_xsd_pattern

TIME_LIMIT = 0.25
"""Seconds for one search on the engine that can be driven into exponential time."""

_NAMED = {
    "d": "0-9",
    "w": "A-Za-z0-9_",
    "s": r"\t\n\x0b\x0c\r \x{a0}\x{1680}\x{2000}-\x{200a}\x{2028}\x{2029}\x{202f}\x{205f}\x{3000}\x{feff}",
}
_CATEGORIES = {
    "Letter": "L",
    "Lowercase_Letter": "Ll",
    "Uppercase_Letter": "Lu",
    "Titlecase_Letter": "Lt",
    "Modifier_Letter": "Lm",
    "Other_Letter": "Lo",
    "Mark": "M",
    "Number": "N",
    "Decimal_Number": "Nd",
    "digit": "Nd",
    "Letter_Number": "Nl",
    "Punctuation": "P",
    "punct": "P",
    "Symbol": "S",
    "Separator": "Z",
    "Space_Separator": "Zs",
    "Other": "C",
    "Control": "Cc",
    "cntrl": "Cc",
}


MAX_WEIGHT = 200_000
"""Things that a pattern spells out when each repetition is written in full; so many characters a text must
have at least."""


class PatternTimeout(Exception):
    """A search passed its time limit, so nothing is known of the text."""


class Pattern:
    """A compiled pattern. `search` looks anywhere in the text, as JSON Schema wants it."""

    __slots__ = ("_judged", "_linear", "_plain", "_slow", "source", "tree")

    def __init__(self, source: str, parse: Callable[[str], Node] = parse_pattern) -> None:
        self.source = source
        self.tree = parse(source)
        if _weight(self.tree) > MAX_WEIGHT:
            raise PatternError(f"it has more repetitions than {MAX_WEIGHT:,} times, which is not followed")
        self._linear: Any = None
        self._slow: Any = None
        self._plain: Callable[[str], Any] | None = None
        self._judged = False
        if not _needs_backtracking(self.tree):
            self._linear = _compile_linear(_write(self.tree, linear=True))
        if self._linear is None:
            self._slow = _compile_slow(self.tree)

    def plain_search(self) -> Callable[[str], Any] | None:
        """A search that needs no time limit and never fails: Python's own engine, where the pattern is
        provably harmless.
        """
        if not self._judged:
            self._judged = True
            if is_harmless(self.tree):
                self._plain = _compile_plain(self.tree)
        return self._plain

    def search(self, text: str) -> bool:
        """Whether the pattern matches somewhere; PatternTimeout when the time limit passed."""
        if self._linear is not None:
            try:
                return self._linear.search(text) is not None
            except (UnicodeEncodeError, ValueError):  # lone surrogates are no UTF-8
                pass
        if self._slow is None:
            self._slow = _compile_slow(self.tree)
        try:
            return self._slow.search(text, timeout=TIME_LIMIT) is not None
        except TimeoutError:
            raise PatternTimeout(self.source) from None


@lru_cache(maxsize=4096)
def compile_pattern(source: str) -> Pattern:
    """PatternError when the source is no ECMA-262 pattern."""
    return Pattern(source)


@lru_cache(maxsize=4096)
def compile_xsd_pattern(source: str) -> Pattern:
    """A pattern of XML Schema, which matches whole texts only; PatternError when the source is none."""
    return Pattern(source, parse_xsd_pattern)


def _weight(node: Node) -> int:
    """How long a pattern is with its repetitions written out, those of a single character as far as they must
    be.
    """
    match node:
        case Sequence(items):
            return sum(map(_weight, items))
        case Choice(options):
            return sum(map(_weight, options))
        case Repeat(item, least, most, _):
            count = least if isinstance(item, Chars | Dot) or most is None else most
            return max(count, 1) * _weight(item)
        case Group(item=item) | Look(item=item):
            return _weight(item)
    return 1


def _compile_linear(source: str) -> Any:
    import re2

    options = re2.Options()
    options.log_errors = False
    options.max_mem = 8 << 20
    try:
        return re2.compile(source, options)
    except re2.error:
        return None


def _compile_plain(tree: Node) -> Callable[[str], Any] | None:
    source = _write(tree, linear=False).replace("\\p{Nd}", "\\d")  # the same set
    if "\\p{" in source or "\\P{" in source:
        return None
    try:
        if isinstance(tree, Sequence) and tree.items and tree.items[0] == Assertion("^"):
            return re.compile(source).match
        return re.compile(source).search
    except (re.error, OverflowError, RecursionError):
        return None


def _compile_slow(tree: Node) -> Any:
    import regex

    try:
        return regex.compile(_write(tree, linear=False), regex.V0)
    except (regex.error, OverflowError, RecursionError, MemoryError) as error:
        raise PatternError(str(error)) from None


def _needs_backtracking(node: Node) -> bool:
    match node:
        case Look() | BackReference():
            return True
        case Sequence(items):
            return any(map(_needs_backtracking, items))
        case Choice(options):
            return any(map(_needs_backtracking, options))
        case Repeat(item=item) | Group(item=item):
            return _needs_backtracking(item)
    return False


def _write(node: Node, *, linear: bool) -> str:
    """The tree in the syntax of RE2 or of `regex`."""
    match node:
        case Chars():
            return _write_chars(node, linear)
        case Dot():
            return _fix(r"[^\n\r\x{2028}\x{2029}]", linear)
        case Assertion(kind):
            return _write_assertion(kind, linear)
        case Sequence(items):
            return "".join(
                (
                    f"(?:{_write(item, linear=linear)})"
                    if isinstance(item, Choice)
                    else _write(item, linear=linear)
                )
                for item in items
            )
        case Choice(options):
            return "|".join(_write(option, linear=linear) for option in options)
        case Repeat(item, least, most, lazy):
            count = f"{{{least},{'' if most is None else most}}}"
            return f"(?:{_write(item, linear=linear)}){count}{'?' if lazy else ''}"
        case Group(item, _, name):
            return f"({f'?P<{name}>' if name else ''}{_write(item, linear=linear)})"
        case Look(item, ahead, negated):
            return f"(?{'' if ahead else '<'}{'!' if negated else '='}{_write(item, linear=linear)})"
        case BackReference(to):
            return f"(?P={to})" if isinstance(to, str) else f"(?:\\{to})"


def _write_assertion(kind: str, linear: bool) -> str:
    if kind == "^":
        return r"\A"
    if kind == "$":
        return r"\z" if linear else r"\Z"
    if linear:
        return "\\" + kind  # RE2's boundary is the ASCII one, as ECMA-262's
    word = "[A-Za-z0-9_]"
    inside, outside = (
        f"(?<={word})(?={word})|(?<!{word})(?!{word})",
        f"(?<={word})(?!{word})|(?<!{word})(?={word})",
    )
    return f"(?:{outside if kind == 'b' else inside})"


def _write_chars(node: Chars, linear: bool) -> str:
    parts: list[str] = []
    for name in node.named:
        if name in "DWS" and (len(node.named) + len(node.ranges) > 1):
            # A negated set inside a class: both engines take their own escape for the ASCII ones.
            parts.append(
                {
                    "D": r"\x00-\x2f\x3a-\x{10ffff}",
                    "W": r"\x00-\x2f\x3a-\x40\x5b-\x5e\x60\x7b-\x{10ffff}",
                }.get(name, r"\S")
            )
        elif name in "DWS":
            return _fix(f"[{'' if node.negated else '^'}{_NAMED[name.lower()]}]", linear)
        elif name in _NAMED:
            parts.append(_NAMED[name])
        else:
            parts.append(_write_property(name))
    for low, high in node.ranges:
        parts.append(_escape(low) if low == high else f"{_escape(low)}-{_escape(high)}")
    if not parts:
        return (
            r"[\x00-\x{10ffff}]".replace(r"\x{10ffff}", r"\x{10ffff}" if linear else "\\U0010ffff")
            if node.negated
            else r"[^\x00-\x{10ffff}]"
            if linear
            else r"(?!)"
        )
    return _fix(f"[{'^' if node.negated else ''}{''.join(parts)}]", linear)


def _write_property(name: str) -> str:
    kind, _, value = name.partition(":")
    key, equals, short = value.partition("=")
    value = (
        short
        if equals and key in ("Script", "sc", "Script_Extensions", "scx", "General_Category", "gc")
        else value
    )
    return f"\\{kind}{{{_CATEGORIES.get(value, value)}}}"


def _escape(code: int) -> str:
    char = chr(code)
    return char if char.isascii() and char.isalnum() else f"\\x{{{code:x}}}"


def _fix(text: str, linear: bool) -> str:
    """RE2 writes code points as \\x{...}; `regex` as \\uXXXX or \\UXXXXXXXX."""
    if linear:
        return text
    return re.sub(r"\\x\{([0-9a-f]+)\}", lambda match: f"\\U{int(match.group(1), 16):08x}", text)
