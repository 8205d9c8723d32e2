"""Decoding: a response -> the declared answer it is, its value, and the schema that fits what the request
asked for.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

from juxtalogos.documents.charsets import NotInCharset, decode_text
from juxtalogos.documents.jsontext import NotJson, parse_answer
from juxtalogos.exchange.media import MediaType, best_match, parse_media_type
from juxtalogos.formats.odata.csdl import Callable, Model, Property
from juxtalogos.formats.odata.wire.atom import AtomReader, typed
from juxtalogos.formats.odata.wire.match import options, segments
from juxtalogos.model.contract import Contract, DeclaredAnswer, Media, Operation
from juxtalogos.model.exchange import Exchange, Headers, header
from juxtalogos.model.schema import ABSENT, SchemaRef
from juxtalogos.model.wire import Answer, HeaderValue, Problem

_CONTROL = (
    "context",
    "count",
    "nextLink",
    "deltaLink",
    "id",
    "type",
    "etag",
    "editLink",
    "readLink",
    "mediaReadLink",
    "mediaEditLink",
    "mediaContentType",
    "mediaEtag",
)


def decode(contract: Contract, model: Model, operation: Operation, exchange: Exchange) -> Answer:
    """Call only for an exchange that has a response."""
    response = exchange.response
    assert response is not None
    declared = operation.answer_for(response.status)
    allowed = "" if declared else _allowed(model, operation, exchange)
    headers = tuple(_headers(contract, declared, response.headers)) if declared else ()
    content_type = header(response.headers, "content-type")
    media = _declared_media(declared.media if declared else (), content_type)
    if exchange.bodiless or not response.body:
        return Answer(declared, None, headers=headers, allowed=allowed)
    if not response.body_kept:
        return Answer(
            declared,
            media,
            headers=headers,
            unread=response.problem or "the recording holds no body",
            allowed=allowed,
        )
    if response.problem or response.truncated:
        what = response.problem or "the body passed the limit and was not read whole"
        problem = Problem("body.incomplete", "body", "a body that can be read whole", what)
        return Answer(declared, media, problems=(problem,), headers=headers, unread=what, allowed=allowed)
    parsed = (
        parse_media_type(content_type)
        if content_type
        else parse_media_type(media.media_type)
        if media
        else None
    )
    if media is None or media.schema is None or parsed is None:
        return Answer(
            declared,
            media,
            headers=headers,
            unread="no declared response describes this body" if declared and declared.media else "",
            allowed=allowed,
        )
    ref = fitted(model, operation, media.schema, exchange, parsed)
    lost = _unreadable(model, ref)
    if lost:
        return Answer(
            declared, media, ABSENT, contract.schema(ref), headers=headers, unread=lost, allowed=allowed
        )
    reader = _Reader(model, operation, exchange)
    value = reader.value(ref, parsed, response.body)
    schema = contract.schema(ref) if value is not ABSENT or reader.unread else None
    unread = reader.unread or ("the body does not match its media type" if value is ABSENT else "")
    return Answer(declared, media, value, schema, tuple(reader.problems), headers, unread, allowed=allowed)


def _allowed(model: Model, operation: Operation, exchange: Exchange) -> str:
    """Why the protocol allows a status that is not prescribed here."""
    assert exchange.response is not None
    status, asked = exchange.response.status, exchange.request.headers
    if status == 304 and (header(asked, "if-none-match") or header(asked, "if-match")):
        return "not modified, as the request asked to be told (RFC 9110, 13.1.2)"
    if status == 202 and "respond-async" in (header(asked, "prefer") or ""):
        return "accepted, as the request asked for an asynchronous response (V4 part 1, 11.6)"
    if status == 501:
        return "the service does not implement what was asked for, and says so as it must (V4 part 1, 9.3.1)"
    if (
        not model.is_v4
        and status in (200, 202, 204)
        and operation.method in ("PUT", "MERGE", "PATCH", "DELETE")
    ):
        return "V2 names 204 for it, and forbids no other status of success"
    return ""


def _declared_media(declared: tuple[Media, ...], content_type: str | None) -> Media | None:
    if content_type is None:
        return declared[0] if len(declared) == 1 else None
    index = best_match([media.media_type for media in declared], content_type)
    return declared[index] if index is not None else None


def _headers(contract: Contract, declared: DeclaredAnswer, headers: Headers) -> Iterator[HeaderValue]:
    for head in declared.headers:
        text = header(headers, head.name)
        if text is None or head.schema is None:
            yield HeaderValue(head, text)
            continue
        # V2 puts what sent it behind the version: `2.0;Server`.
        value = text.partition(";")[0].strip() if head.name.endswith("Version") else text
        yield HeaderValue(head, text, value, contract.schema(head.schema))


def fitted(
    model: Model, operation: Operation, ref: SchemaRef, exchange: Exchange, parsed: MediaType
) -> SchemaRef:
    """The schema of what was asked for: under $select keys may be absent, without control information nothing
    tells types apart,
    and numbers may be texts (JSON 4.0, sections 3.1 and 3.2)."""
    words = ref.role.split(" ")
    asked = options(exchange.request.url)
    if words[0] in ("entity", "entities", "return"):
        expanded = asked.get("$expand", "")
        reach = (
            "flat"
            if not expanded
            else "deep"
            if any(mark in expanded for mark in ("$expand", "$levels", "/", "*"))
            else "near"
        )
        suffix = ""
        if (parsed.parameter("odata.metadata") or parsed.parameter("metadata") or "") == "none":
            suffix = "-bare"
        if any("$select" in text for text in (*asked, asked.get("$expand", ""))):
            suffix = "-pick"
        words[1:2] = [reach + suffix]
    if words[0] in ("any", "bytes") and operation.fact("does") in ("property", "value"):
        parts = segments(exchange.request.url.partition("?")[0].rpartition("://")[2].partition("/")[2])
        name = next((part.name for part in reversed(parts or ()) if not part.name.startswith("$")), "")
        one = model.property_at(operation.fact("type"), name)
        if one is not None:
            ref = replace(ref, document=one.place.document, pointer=one.place.pointer)
            words = ["value"] if words[0] == "any" else ["raw"]
    form = "plain2" if words[0] == "raw" and ref.dialect == "json2" else ref.dialect
    if form == "json4" and (parsed.parameter("ieee754compatible") or "").lower() == "true":
        form = "ieee"
    return replace(ref, role=" ".join(words), dialect=form)


def _unreadable(model: Model, ref: SchemaRef) -> str:
    """Why a body cannot be judged: the metadata's own declaration of it cannot be read."""
    words = ref.role.split(" ")
    if words[0] in ("entity", "entities") and model.structured(words[-1]) is None:
        return f"the type {words[-1]} is not in the metadata: not checkable"
    return ""


class _Reader:
    """One body under way."""

    def __init__(self, model: Model, operation: Operation, exchange: Exchange) -> None:
        self.model = model
        self.operation = operation
        self.exchange = exchange
        self.problems: list[Problem] = []
        self.unread = ""
        """Why the body is not compared, where nothing is wrong with it."""

    def value(self, ref: SchemaRef, parsed: MediaType, body: bytes) -> Any:
        word, *rest = ref.role.split(" ")
        if word in ("count", "bytes"):
            return self.text(word, parsed, body)
        if word == "raw":
            one = self.single(ref)
            return (
                typed(self.text(word, parsed, body), self.model.underlying(one.type))
                if one and parsed.is_text
                else self.text("bytes", parsed, body)
            )
        if parsed.is_json:
            try:
                value = parse_answer(body)
            except NotJson as error:
                if error.too_much:
                    self.unread = str(error)
                    return ABSENT
                self.problems.append(Problem("media.untrue", "body", f"{parsed}: JSON text", str(error)))
                return ABSENT
            try:
                return normal(value) if self.model.is_v4 and _needs(body) else value
            except RecursionError:
                return value  # the schema says that it is nested too deep
        if parsed.is_xml and not self.model.is_v4:
            reader = AtomReader(self.model)
            if word == "return":
                word = ""
            type_name = rest[-1] if len(rest) > 1 else self.operation.fact("type")
            value = reader.read(body, word, type_name, lambda: self.single(ref))
            self.problems += reader.problems
            return value
        return self.text(word, parsed, body)

    def single(self, ref: SchemaRef) -> Property | None:
        """The property, or the result of a call, that a schema is of."""
        for name in self.model.types:
            found = self.model.structured(name)
            for prop in found.own_properties if found else ():
                if prop.place == ref.location:
                    return prop
        for overloads in self.model.callables.values():
            for each in overloads:
                if each.place == ref.location and each.returns is not None:
                    return _as_property(each)
        return None

    def text(self, word: str, parsed: MediaType, body: bytes) -> Any:
        if word == "bytes":
            return body.decode("utf-8", "replace")
        try:
            text = decode_text(body, parsed.parameter("charset") or "utf-8").removeprefix("\ufeff").strip()
        except NotInCharset as error:
            self.problems.append(Problem("media.untrue", "body", f"{parsed}: text", str(error)))
            return ABSENT
        if word == "raw":
            return text
        # URL conventions 4.0, section 4.8: the number, and nothing else.
        return int(text) if re.fullmatch(r"\d{1,18}", text) else text


def _as_property(one: Callable) -> Property:
    assert one.returns is not None
    return Property(one.short_name, one.returns, one.place)


def _needs(body: bytes) -> bool:
    return b"$metadata#" in body or b'"@' in body or b"$type" in body


def normal(value: Any) -> Any:
    """Control information under the names and in the form of 4.0: 4.01 leaves `odata.` out, and types may be
    whole URLs.
    """
    if isinstance(value, list):
        return [normal(member) for member in value]
    if not isinstance(value, dict):
        return value
    found = {}
    for key, item in value.items():
        before, at, name = key.rpartition("@")
        if at and name in _CONTROL:
            key = f"{before}@odata.{name}"
        if key == "@odata.type" and isinstance(item, str) and "#" in item:
            item = "#" + item.rpartition("#")[2]
        found[key] = normal(item)
    return found
