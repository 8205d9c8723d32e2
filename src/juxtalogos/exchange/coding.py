"""Content codings (RFC 9110, section 8.4), undone within a limit."""

from __future__ import annotations

import zlib
from dataclasses import replace

from juxtalogos.model.exchange import Response, header

MAX_MEMBERS = 100


def decoded(response: Response, limit: int) -> Response:
    """Content decoding (RFC 9110, section 8.4) within a limit; other codings than gzip and deflate are a
    problem.
    """
    codings = [
        part.strip().lower()
        for part in (header(response.headers, "content-encoding") or "").split(",")
        if part.strip()
    ]
    body = response.body
    for coding in reversed(codings):
        if coding == "identity" or not body:
            continue
        if coding not in ("gzip", "x-gzip", "deflate"):
            return replace(
                response, problem=response.problem or f"the content coding {coding!r} was not asked for"
            )
        try:
            body, whole = _inflate(body, limit, gzip=coding != "deflate")
        except zlib.error as error:
            return replace(response, problem=response.problem or f"the body is not {coding}: {error}")
        if not whole:
            return replace(response, body=body, truncated=True)
    return replace(response, body=body)


def _inflate(data: bytes, limit: int, *, gzip: bool) -> tuple[bytes, bool]:
    """(bytes, whether that is all). `deflate` is zlib's form, but raw streams are seen too."""
    try:
        engine = zlib.decompressobj(31 if gzip else 15)
        out = engine.decompress(data, limit)
    except zlib.error:
        if gzip:
            raise
        engine = zlib.decompressobj(-15)
        out = engine.decompress(data, limit)
    parts, size = [out], len(out)
    for _ in range(MAX_MEMBERS):  # one gzip file may be put behind another (RFC 1952, section 2.2)
        rest = engine.unused_data
        if not gzip or engine.unconsumed_tail or size >= limit or not rest.startswith(b"\x1f\x8b"):
            break
        engine = zlib.decompressobj(31)
        parts.append(engine.decompress(rest, limit - size))
        size += len(parts[-1])
    return b"".join(parts), not engine.unconsumed_tail
