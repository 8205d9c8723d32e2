"""Words of a small language one after another: what the parsers of conditions and formulas stand on."""

from __future__ import annotations

import re
from collections.abc import Callable


class Tokens:
    """`kind` and `token` are the word that stands next, `start` is where it begins; behind the last one
    `kind` is `end`.

    `pattern` names a group for each kind; `bad` makes the error for a text that is none of them, of what and
    where.
    """

    def __init__(self, text: str, pattern: re.Pattern[str], bad: Callable[[str, int], Exception]) -> None:
        self.text, self.pattern, self.bad = text, pattern, bad
        self.at = 0
        self.advance()

    def advance(self) -> None:
        """Goes on to the next word."""
        found = self.pattern.match(self.text, self.at)
        if found is None:
            rest = self.text[self.at :]
            self.start = self.at + len(rest) - len(rest.lstrip())
            if rest.strip():
                raise self.bad(f"{rest.strip()[:20]!r} is not understood", self.start)
            self.kind, self.token = "end", ""
            return
        self.kind, self.token = found.lastgroup or "end", found.group(found.lastgroup or 0)
        self.start, self.at = found.start(found.lastgroup or 0), found.end()

    def take(self, *tokens: str) -> str:
        """The next word when it is one of these operators, and goes past it; else nothing."""
        if self.kind == "op" and self.token in tokens:
            token = self.token
            self.advance()
            return token
        return ""

    def ended(self) -> None:
        """Fails when there are words left."""
        if self.kind != "end":
            raise self.bad(f"{self.token!r} is not expected here", self.start)
