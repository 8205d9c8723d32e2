"""Commands that outputs advise: what a person would copy must be one that the program knows."""

from __future__ import annotations

import contextlib
import io
import re
import shlex
from collections.abc import Iterator
from functools import lru_cache

from juxtalogos.cli.parsing import COMMANDS, build_parser

_COMMAND = re.compile(rf"\bjuxtalogos ((?:{'|'.join(COMMANDS)})(?![\w:-])[^\n]*)")
_END = re.compile(r"  |\t| && |;|, then |, or | or juxtalogos |: |\)(?= |$)|\.$")
_VALUES = {"WORD": "act", "N": "2"}
"""Values for words that stand for one of a closed list."""
READING = ("coverage", "exchanges", "runs", "history", "compare", "show")


def advised(text: str) -> Iterator[list[str]]:
    """The words of each command that a text advises."""
    for line in text.replace("`", "  ").splitlines():
        line = re.sub(r"^juxtalogos [\w ]+:", "", line)  # who says it
        for part in re.split(r"(?<=\S)  or  |(?= or juxtalogos )", line):
            found = _COMMAND.search(part)
            if found is not None:
                with contextlib.suppress(ValueError):  # a quote of the prose around it
                    yield [_VALUES.get(word, word) for word in shlex.split(_cut(found[1]))]


def _cut(text: str) -> str:
    """Without what follows the command, outside quotes."""
    quote = ""
    for at, letter in enumerate(text):
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "'\"":
            quote = letter
        elif _END.match(text, at):
            return text[:at]
    return text


@lru_cache(4096)
def refused(words: tuple[str, ...]) -> str:
    """What the program's own parser says against a command; empty where it takes it."""
    said = io.StringIO()
    with contextlib.redirect_stderr(said), contextlib.redirect_stdout(said):
        try:
            build_parser(words[0]).parse_args(list(words))
        except SystemExit as end:
            return said.getvalue() if end.code else ""
    return ""


def check_advice(text: str) -> None:
    """Fails for a text that advises a command that cannot be typed."""
    for words in advised(text):
        assert not refused(tuple(words)), (words, refused(tuple(words)))
