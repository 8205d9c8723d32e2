"""Multipart bodies (RFC 2046, section 5.1); the boundary is made from the content, which does not hold it."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from itertools import count


def enclosed(parts: Sequence[bytes]) -> tuple[str, bytes]:
    """Returns (boundary, body) of parts, each with its header fields, an empty line and its content.

    The same parts give the same boundary, so that the same inputs give the same request.
    """
    digest = hashlib.sha256(b"\0".join(parts)).hexdigest()
    for number in count():
        told = hashlib.sha256(f"{digest}{number}".encode()).hexdigest()[:24]
        boundary = f"juxtalogos-{told}"
        if not any(boundary.encode() in part for part in parts):
            break
    mark = b"--" + boundary.encode()
    return boundary, b"".join(mark + b"\r\n" + part + b"\r\n" for part in parts) + mark + b"--\r\n"
