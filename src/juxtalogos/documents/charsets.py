"""Character sets that a message names: only those that are plain character sets."""

from __future__ import annotations

import codecs

_NONE = frozenset(("undefined", "idna", "punycode", "unicode_escape", "raw_unicode_escape", "mbcs", "oem"))
"""Codecs of Python's own that no sender means, or that cost far too much."""


class NotInCharset(ValueError):
    """The charset is none that is known, or the text cannot be read or written in it."""


def decode_text(data: bytes, charset: str) -> str:
    """Bytes as the text that a charset makes of them; NotInCharset when it makes none."""
    codec = _codec(charset)
    try:
        return str(codec.decode(data, "strict")[0])
    except (ValueError, OverflowError):
        raise NotInCharset(f"bytes that are not {charset}") from None


def encode_text(text: str, charset: str) -> bytes:
    """A text in a charset; NotInCharset when it has no place in it."""
    codec = _codec(charset)
    try:
        return bytes(codec.encode(text, "strict")[0])
    except (ValueError, OverflowError):
        raise NotInCharset(f"text that {charset} cannot hold") from None


def _codec(charset: str) -> codecs.CodecInfo:
    try:
        found = codecs.lookup(charset)
    except (LookupError, ValueError):
        raise NotInCharset(f"the unknown charset {charset[:40]}") from None
    if not getattr(found, "_is_text_encoding", True) or found.name.replace("-", "_") in _NONE:
        raise NotInCharset(f"the unknown charset {charset[:40]}")
    return found


def encodable(text: str) -> str:
    """A text with U+FFFD in place of lone surrogates, which JSON can spell and no UTF-8 holds (RFC 8259,
    section 8.2).
    """
    return text if text.isascii() else text.encode("utf-16", "surrogatepass").decode("utf-16", "replace")
