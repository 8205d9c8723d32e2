"""Texts that only one run, case and row has."""

from __future__ import annotations

import hashlib

SORTS = {"#": "0123456789", "?": "abcdefghijkmnpqrstuvwxyz", "^": "ABCDEFGHJKLMNPQRSTUVWXYZ"}
"""What the signs of a template stand for; letters that are taken for others are left out."""


def own_name(template: str, seed: str) -> str:
    """The template with `#` as digits, `?` as small and `^` as large letters; the same seed gives the same
    text.
    """
    number, out = (
        int.from_bytes(hashlib.sha256(seed.encode("utf-8", "surrogatepass")).digest() * 4, "big"),
        [],
    )
    for place, char in enumerate(template):
        sort = SORTS.get(char, "")
        before = template[place - 1] if place else ""
        if char == "#" and not (before.isalnum() or before in SORTS):
            sort = sort[1:]  # a number keeps its length
        if sort:
            number, at = divmod(number, len(sort))
            char = sort[at]
        out.append(char)
    return "".join(out)
