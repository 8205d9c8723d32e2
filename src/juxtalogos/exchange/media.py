"""Media types (RFC 9110, section 8.3) and ranges (section 12.5.1)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from email.message import Message
from functools import lru_cache

from juxtalogos.model.contract import Media, Operation
from juxtalogos.model.exchange import Headers, Request, Response, header


@dataclass(frozen=True, slots=True)
class MediaType:
    type: str
    subtype: str
    parameters: tuple[tuple[str, str], ...] = ()

    def __str__(self) -> str:
        return f"{self.type}/{self.subtype}"

    @property
    def is_json(self) -> bool:
        return self.subtype == "json" or self.subtype.endswith("+json")

    @property
    def is_text(self) -> bool:
        return self.type == "text"

    @property
    def is_xml(self) -> bool:
        return self.subtype == "xml" or self.subtype.endswith("+xml")

    @property
    def is_form(self) -> bool:
        return str(self) == "application/x-www-form-urlencoded"

    @property
    def is_multipart(self) -> bool:
        return str(self) == "multipart/form-data"

    def parameter(self, name: str) -> str | None:
        return dict(self.parameters).get(name)


@lru_cache(maxsize=2_000)
def parse_media_type(text: str) -> MediaType | None:
    """None when the text is no media type or range; names are lowered."""
    head = text.partition(";")[0].strip().lower()
    type_, slash, subtype = head.partition("/")
    if (
        not slash
        or not type_
        or not subtype
        or any(char.isspace() or char in ",/" for char in type_ + subtype)
    ):
        return None
    parameters: tuple[tuple[str, str], ...] = ()
    if ";" in text:
        message = Message()
        message["content-type"] = text.replace("\r", " ").replace("\n", " ")
        found = message.get_params() or []
        parameters = tuple((str(name).lower(), str(value)) for name, value in found[1:])
    return MediaType(type_, subtype, parameters)


def closeness(declared: MediaType, actual: MediaType) -> int:
    """How closely a declared type or range covers an actual one: 0 not at all, 1 `*/*`, 2 `type/*`, 3 the
    type, 4 with its parameters.

    A parameter that is declared must be there with its value; `charset` and any that are not declared are
    free.
    """
    if declared.type == "*":
        return 1
    if declared.type != actual.type:
        return 0
    if declared.subtype == "*":
        return 2
    if declared.subtype != actual.subtype:
        return 0
    wanted = {name: value for name, value in declared.parameters if name not in ("charset", "boundary")}
    if any((actual.parameter(name) or "").lower() != value.lower() for name, value in wanted.items()):
        return 0
    return 4 if wanted else 3


def best_match(declared: Sequence[str], actual: str) -> int | None:
    """The index of the declared type or range that covers an actual type most closely."""
    wanted = parse_media_type(actual)
    if wanted is None:
        return None
    best, index = 0, None
    for place, text in enumerate(declared):
        candidate = parse_media_type(text)
        score = closeness(candidate, wanted) if candidate else 0
        if score > best:
            best, index = score, place
    return index


def chosen_media(operation: Operation, content_type: str = "") -> Media | None:
    """The declared media of a request body: the one that covers a Content-Type; without one JSON, else the
    first.
    """
    declared = operation.body.media if operation.body else ()
    if content_type:
        index = best_match([media.media_type for media in declared], content_type)
        return declared[index] if index is not None else None
    json = [media for media in declared if (parsed := parse_media_type(media.media_type)) and parsed.is_json]
    return json[0] if json else declared[0] if declared else None


def content_type(message: Request | Response) -> str | None:
    """The text of a message's `Content-Type` (RFC 9110, section 8.3); None where it has none."""
    return header(message.headers, "content-type")


def media_type_of(message: Request | Response) -> MediaType | None:
    """The media type that a message names; None where it names none, or it is malformed."""
    return parse_media_type(content_type(message) or "")


def media_type_in(headers: Headers) -> MediaType | None:
    """The media type that header fields name; None where they name none, or it is malformed."""
    return parse_media_type(header(headers, "content-type") or "")


def sent_media(operation: Operation, request: Request) -> Media | None:
    """The declared media of the body that a request has."""
    return chosen_media(operation, content_type(request) or "")
