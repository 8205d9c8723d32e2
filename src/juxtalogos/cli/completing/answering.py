"""`completion words SHELL ...`: the candidates, as the shell's code takes them."""

from __future__ import annotations

import re
import shlex
import sys
from collections.abc import Sequence
from pathlib import Path

from juxtalogos.cli.completing.candidates import candidates
from juxtalogos.cli.completing.grammar import grammar
from juxtalogos.cli.completing.known import Known

_BREAKS = "=:"
"""Characters at which bash breaks words, and that stand in ours: it replaces only what is behind them."""


def answer(words: Sequence[str]) -> int:
    """Prints one candidate a line; whatever goes wrong, nothing is offered."""
    try:
        shell, *rest = words
        if shell == "bash":
            line, point = rest
            typed, current = _split(line[: int(point)])
        else:
            *typed, current = rest
        folder = next((Path(typed[at + 1]) for at, word in enumerate(typed[:-1]) if word == "-C"), Path())
        known = Known(folder.resolve())
        missing = known.without_index() if typed else []
        if missing and known.root is not None:  # once for each definition; from then on it is read
            from juxtalogos.cli.completing.indexing import index_contracts

            index_contracts(known.root, missing)
        found = candidates(grammar(), known, typed, current)
    except (ValueError, OSError):
        return 0
    if shell == "bash":
        cut = max((current.rfind(one) + 1 for one in _BREAKS), default=0)
        found = [_quoted(one[cut:]) + ("" if one[-1:] in "=#/" else " ") for one in found]
    sys.stdout.write("".join(f"{one}\n" for one in found))
    return 0


def _split(line: str) -> tuple[list[str], str]:
    """(the words behind the program's name, the one under way) of a line up to the cursor."""
    lexer = shlex.shlex(line, posix=True, punctuation_chars=False)
    lexer.whitespace_split, lexer.commenters = True, ""
    try:
        words = list(lexer)
    except ValueError:  # a quote is open
        words = list(shlex.split(re.sub(r"['\"]", "", line)))
    if not line or line[-1].isspace():
        words.append("")
    return words[1:-1], words[-1] if len(words) > 1 else ""


def _quoted(text: str) -> str:
    """As a shell must have it; our own marks need no quotes in the middle of a word."""
    return re.sub(r"([^A-Za-z0-9_@%+=:,./#{}\[\]~-])", r"\\\1", text)
