"""What the program does, step by step, in a file: standard `logging`, off unless `--log FILE` asks for it."""

from __future__ import annotations

import logging
import os
from collections.abc import Callable
from pathlib import Path

LOGGER = logging.getLogger("juxtalogos")
LOGGER.addHandler(logging.NullHandler())
LOGGER.propagate = False
_hiding: list[Callable[[str], str]] = []


def hide_with(hide: Callable[[str], str]) -> None:
    """Adds what takes secrets out of a text, for every line from now on."""
    _hiding.append(hide)


class _Redacted(logging.Formatter):
    """Lines without secrets, and without control characters that came from outside."""

    def format(self, record: logging.LogRecord) -> str:
        text = super().format(record)
        for hide in _hiding:
            text = hide(text)
        return "".join(char if char.isprintable() else f"\\u{ord(char):04x}" for char in text)


def log_to(path: Path) -> None:
    """Writes what happens from now on to a file that only its owner may read, after what it holds.

    Raises OSError when it cannot be written.
    """
    os.close(os.open(path, os.O_CREAT | os.O_APPEND | os.O_WRONLY, 0o600))
    handler = logging.FileHandler(path, encoding="utf-8", errors="backslashreplace")
    handler.setFormatter(
        _Redacted("%(asctime)s.%(msecs)03d %(levelname)s %(name)s %(message)s", "%Y-%m-%dT%H:%M:%S")
    )
    LOGGER.addHandler(handler)
    LOGGER.setLevel(logging.DEBUG)
