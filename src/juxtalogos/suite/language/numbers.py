"""Numbers that texts write: headers and XML have texts only."""

from __future__ import annotations

import math
import re

_NUMBER = re.compile(r"[+-]?[0-9]+(?:\.[0-9]*)?(?:[eE][+-]?[0-9]+)?")
MAX_DIGITS = 1_000


def number_in(text: str) -> int | float | None:
    """The number that a text writes in decimals, space around it aside; a whole one keeps all its digits.
    None when it writes none.
    """
    text = text.strip()
    if len(text) > MAX_DIGITS or not _NUMBER.fullmatch(text):
        return None
    if text.lstrip("+-").isdigit():
        return int(text)
    found = float(text)
    return found if math.isfinite(found) else None
