"""Decoding: a response -> the declared answer it is, its value and its problems of form."""

from __future__ import annotations

from collections.abc import Iterator

from juxtalogos.exchange.media import best_match, parse_media_type
from juxtalogos.formats.openapi.wire.bodies import read_body
from juxtalogos.formats.openapi.wire.styles import ParameterReader, kinds
from juxtalogos.model.contract import Contract, DeclaredAnswer, Input, Media, Operation
from juxtalogos.model.exchange import Exchange, Headers, header
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Answer, HeaderValue, Problem


def decode(contract: Contract, operation: Operation, exchange: Exchange) -> Answer:
    """Call only for an exchange that has a response."""
    response = exchange.response
    assert response is not None
    declared = operation.answer_for(response.status)
    headers = tuple(_headers(contract, declared, response.headers)) if declared else ()
    content_type = header(response.headers, "content-type")
    media = _declared_media(declared.media if declared else (), content_type)
    if exchange.bodiless:
        return Answer(declared, None, headers=headers)
    if not response.body_kept:
        return Answer(
            declared, media, headers=headers, unread=response.problem or "the recording holds no body"
        )
    if not response.body:
        return Answer(declared, None, headers=headers)
    if response.problem or response.truncated:
        what = response.problem or "the body passed the limit and was not read whole"
        return Answer(
            declared,
            media,
            problems=(Problem("body.incomplete", "body", "a body that can be read whole", what),),
            headers=headers,
            unread=what,
        )
    parsed = (
        parse_media_type(content_type)
        if content_type
        else parse_media_type(media.media_type)
        if media
        else None
    )
    value, problem, unread, too_much = read_body(contract, media, response.body, parsed)
    compared = value is not ABSENT or too_much
    schema = contract.schema(media.schema) if media and media.schema and compared else None
    return Answer(declared, media, value, schema, (problem,) if problem else (), headers, unread)


def _headers(contract: Contract, declared: DeclaredAnswer, headers: Headers) -> Iterator[HeaderValue]:
    for head in declared.headers:
        text = header(headers, head.name)
        if text is None or head.schema is None:
            yield HeaderValue(head, text)
            continue
        as_input = Input(
            head.name,
            "header",
            head.required,
            head.schema,
            head.location,
            "simple",
            head.explode,
            content=head.content,
        )
        reader = ParameterReader(as_input, *kinds(contract, head.schema))
        yield HeaderValue(head, text, reader.from_text(text), contract.schema(head.schema))


def _declared_media(declared: tuple[Media, ...], content_type: str | None) -> Media | None:
    """Without a Content-Type a single declared media type is taken to be meant."""
    if content_type is None:
        return declared[0] if len(declared) == 1 else None
    index = best_match([media.media_type for media in declared], content_type)
    return declared[index] if index is not None else None
