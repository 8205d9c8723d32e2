"""What a person leaves unsaid of a call of a URL, and is told of."""

from __future__ import annotations

from pathlib import Path

from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.formats.guessing import usual_method, with_media_type
from juxtalogos.model.exchange import Headers


def method_of(out: Terminal, typed: str, body: bytes | None) -> str:
    """The method that was typed, else the usual one; where a body decided it, that is told."""
    method = typed or usual_method(body)
    if not typed and body is not None:
        out.note((f"sent by {method}, because there is a body; another method: --method PUT", "remark"))
    return method


def typed_headers(out: Terminal, headers: Headers, path: Path | None, body: bytes | None) -> Headers:
    """The header fields, with the media type of a body of which none was typed; that is told."""
    found, guessed = with_media_type(headers, path.name if path is not None else "", body)
    if guessed:
        out.note((f"the body is sent as {guessed}; another: --header 'Content-Type: TYPE'", "remark"))
    return found
