"""A parser for ECMA-262 regular expressions (section 22.2.1, with the lenient escapes of Annex B)."""

from __future__ import annotations

from dataclasses import dataclass

MAX_NESTING = 100


class PatternError(ValueError):
    """The text is no ECMA-262 pattern."""


@dataclass(frozen=True, slots=True)
class Chars:
    """One character out of a set: inclusive code point ranges and named sets (`d`, `W`, `p:L`, `P:Greek`)."""

    ranges: tuple[tuple[int, int], ...] = ()
    named: tuple[str, ...] = ()
    negated: bool = False


@dataclass(frozen=True, slots=True)
class Dot:
    pass


@dataclass(frozen=True, slots=True)
class Assertion:
    """`^`, `$`, `b` or `B`."""

    kind: str


@dataclass(frozen=True, slots=True)
class Sequence:
    items: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class Choice:
    options: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class Repeat:
    item: Node
    least: int
    most: int | None
    lazy: bool


@dataclass(frozen=True, slots=True)
class Group:
    item: Node
    index: int
    name: str = ""


@dataclass(frozen=True, slots=True)
class Look:
    item: Node
    ahead: bool
    negated: bool


@dataclass(frozen=True, slots=True)
class BackReference:
    to: int | str


Node = Chars | Dot | Assertion | Sequence | Choice | Repeat | Group | Look | BackReference

_CONTROL = {"t": 9, "n": 10, "v": 11, "f": 12, "r": 13, "0": 0}


def parse_pattern(text: str) -> Node:
    """The tree of a pattern; PatternError when it is none."""
    parser = _Parser(text)
    node = parser.choice(0)
    if parser.at < len(text):
        raise PatternError(f"unmatched {text[parser.at]!r} at {parser.at}")
    return node


class _Parser:
    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0
        self.groups = 0
        self.total_groups = _count_groups(text)

    def peek(self, count: int = 1) -> str:
        return self.text[self.at : self.at + count]

    def take(self, expected: str) -> bool:
        if self.text.startswith(expected, self.at):
            self.at += len(expected)
            return True
        return False

    def fail(self, what: str) -> PatternError:
        return PatternError(f"{what} at {self.at}")

    def choice(self, depth: int) -> Node:
        if depth > MAX_NESTING:
            raise self.fail("groups nested too deep")
        options = [self.sequence(depth)]
        while self.take("|"):
            options.append(self.sequence(depth))
        return options[0] if len(options) == 1 else Choice(tuple(options))

    def sequence(self, depth: int) -> Node:
        items: list[Node] = []
        while self.at < len(self.text) and self.peek() not in "|)":
            items.append(self.repeated(self.atom(depth)))
        return items[0] if len(items) == 1 else Sequence(tuple(items))

    def repeated(self, item: Node) -> Node:
        if self.take("*"):
            least, most = 0, None
        elif self.take("+"):
            least, most = 1, None
        elif self.take("?"):
            least, most = 0, 1
        elif (counted := self.counted()) is not None:
            least, most = counted
        else:
            return item
        if isinstance(item, Assertion):
            raise self.fail("nothing to repeat")
        return Repeat(item, least, most, self.take("?"))

    def counted(self) -> tuple[int, int | None] | None:
        if self.peek() != "{":
            return None
        end = self.text.find("}", self.at)
        low, comma, high = self.text[self.at + 1 : end].partition(",")
        if end < 0 or not _digits(low) or not (high == "" or _digits(high)):
            return None
        self.at = end + 1
        least = int(low[:9])
        most = least if not comma else int(high[:9]) if high else None
        if most is not None and most < least:
            raise self.fail("a repetition from more to fewer")
        return least, most

    def atom(self, depth: int) -> Node:
        char = self.peek()
        if char == "(":
            return self.group(depth)
        if char == "[":
            return self.char_class()
        if char == "\\":
            return self.escape()
        if char in "*+?":
            raise self.fail("nothing to repeat")
        self.at += 1
        if char == ".":
            return Dot()
        if char in "^$":
            return Assertion(char)
        return _one(ord(char))

    def group(self, depth: int) -> Node:
        self.at += 1
        index, name, look = 0, "", None
        if self.take("?:"):
            pass
        elif self.take("?="):
            look = (True, False)
        elif self.take("?!"):
            look = (True, True)
        elif self.take("?<="):
            look = (False, False)
        elif self.take("?<!"):
            look = (False, True)
        else:
            if self.take("?<"):
                end = self.text.find(">", self.at)
                name = self.text[self.at : end] if end > 0 else ""
                if not name.isidentifier():
                    raise self.fail("a group name is missing")
                self.at = end + 1
            elif self.peek() == "?":
                raise self.fail("an unknown kind of group")
            self.groups += 1
            index = self.groups
        item = self.choice(depth + 1)
        if not self.take(")"):
            raise self.fail("a ')' is missing")
        if look:
            return Look(item, *look)
        return Group(item, index, name) if index else Sequence((item,))

    def escape(self) -> Node:
        self.at += 1
        char = self.peek()
        if char == "":
            raise self.fail("a pattern cannot end in a backslash")
        if char in "bB":
            self.at += 1
            return Assertion(char)
        if char in "123456789":
            start = self.at
            while _digits(self.peek()):
                self.at += 1
            number = int(self.text[start : self.at][:6])
            if number <= self.total_groups:
                return BackReference(number)
            self.at = start  # Annex B: an identity escape when there is no such group
        if self.take("k<"):
            end = self.text.find(">", self.at)
            name = self.text[self.at : end]
            if end < 0 or f"(?<{name}>" not in self.text:
                raise self.fail("a reference to no group")
            self.at = end + 1
            return BackReference(name)
        return self.class_escape()

    def class_escape(self) -> Chars:
        """An escape that stands for characters; the backslash is passed already."""
        char = self.peek()
        self.at += 1
        if char in "dDwWsS":
            return Chars(named=(char,))
        if char in "pP":
            return self.property_escape(char)
        return _one(self.code_point(char))

    def property_escape(self, char: str) -> Chars:
        end = self.text.find("}", self.at)
        if self.peek() != "{" or end < 0:
            return _one(ord(char))
        name = self.text[self.at + 1 : end]
        if not name.replace("_", "").replace("=", "").isalnum():
            raise self.fail("an unknown character property")
        self.at = end + 1
        return Chars(named=(f"{char}:{name}",))

    def code_point(self, char: str) -> int:
        if char == "0" and not _digits(self.peek()):
            return 0
        if char in "tnvfr":
            return _CONTROL[char]
        if char == "c" and self.peek().isascii() and self.peek().isalpha():
            self.at += 1
            return ord(self.text[self.at - 1]) % 32
        if char == "x" and _hex(self.peek(2), 2):
            self.at += 2
            return int(self.text[self.at - 2 : self.at], 16)
        if char == "u":
            return self.unicode_escape()
        return ord(char)

    def unicode_escape(self) -> int:
        if self.peek() == "{":
            end = self.text.find("}", self.at)
            digits = self.text[self.at + 1 : end]
            if end > 0 and _hex(digits, len(digits)) and int(digits, 16) <= 0x10FFFF:
                self.at = end + 1
                return int(digits, 16)
            raise self.fail("a bad code point")
        if not _hex(self.peek(4), 4):
            return ord("u")
        high = int(self.peek(4), 16)
        self.at += 4
        low = self.peek(6)
        if 0xD800 <= high < 0xDC00 and low.startswith("\\u") and _hex(low[2:], 4):
            second = int(low[2:], 16)
            if 0xDC00 <= second < 0xE000:
                self.at += 6
                return 0x10000 + (high - 0xD800) * 0x400 + second - 0xDC00
        return high

    def char_class(self) -> Chars:
        self.at += 1
        negated = self.take("^")
        ranges: list[tuple[int, int]] = []
        named: list[str] = []
        while not self.take("]"):
            low = self.class_atom()
            if self.peek() == "-" and self.peek(2) not in ("-]", "-"):
                self.at += 1
                high = self.class_atom()
                if low.named or high.named:  # Annex B: then the hyphen is a literal one
                    ranges.append((45, 45))
                elif low.ranges[0][0] > high.ranges[0][0]:
                    raise self.fail("a range from more to less")
                else:
                    ranges.append((low.ranges[0][0], high.ranges[0][0]))
                    continue
                named += high.named
                ranges += high.ranges
            named += low.named
            ranges += low.ranges
        return Chars(tuple(ranges), tuple(named), negated)

    def class_atom(self) -> Chars:
        char = self.peek()
        if char == "":
            raise self.fail("a ']' is missing")
        self.at += 1
        if char != "\\":
            return _one(ord(char))
        if self.peek() == "":
            raise self.fail("a pattern cannot end in a backslash")
        if self.take("b"):
            return _one(8)
        return self.class_escape()


def _one(code: int) -> Chars:
    return Chars(((code, code),))


def _digits(text: str) -> bool:
    return text.isascii() and text.isdigit()


def _hex(text: str, length: int) -> bool:
    return len(text) == length > 0 and all(char in "0123456789abcdefABCDEF" for char in text)


def _count_groups(text: str) -> int:
    count, at, in_class = 0, 0, False
    while at < len(text):
        char = text[at]
        if char == "\\":
            at += 1
        elif char == "[":
            in_class = True
        elif char == "]":
            in_class = False
        elif (
            char == "("
            and not in_class
            and (
                text[at + 1 : at + 2] != "?"
                or (text[at + 1 : at + 3] == "?<" and text[at + 3 : at + 4] not in ("=", "!"))
            )
        ):
            count += 1
        at += 1
    return count
