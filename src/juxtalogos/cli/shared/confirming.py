"""A question to a person at a terminal."""

from __future__ import annotations

import sys

from juxtalogos.cli.shared.terminal import clean


def confirmed(question: str) -> bool:
    """Whether a person says yes; False where nobody is there to be asked."""
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        return False
    sys.stderr.write(clean(f"{question} y or n  "))
    sys.stderr.flush()
    return sys.stdin.readline().strip().lower() in ("y", "yes")
