"""Operations bound to plain HTTP: GET and POST with the parts in the URL or a form (WSDL 1.1, section 4)."""

from __future__ import annotations

import re
from collections.abc import Iterator
from urllib.parse import parse_qsl, unquote, urlsplit

from juxtalogos.conventions.naming import first_part, intent_of, noun_of, only_reads
from juxtalogos.documents.xmltext import local
from juxtalogos.formats.soap.definition.messages import (
    DIRECTIONS,
    Bound,
    cannot_be_read,
    check_part,
    parts_of,
)
from juxtalogos.formats.soap.names import HTTP_BINDING, MIME_BINDING, w
from juxtalogos.model.contract import DeclaredAnswer, Input, Intent, Media, Operation
from juxtalogos.model.exchange import Request
from juxtalogos.model.location import Location
from juxtalogos.model.schema import SchemaRef


def plain_operation(
    bound: Bound,
    contract: str,
    name: str,
    place: Location,
    path: str,
    facts: tuple[tuple[str, str], ...],
    described: str,
) -> Operation:
    """The operation of a plain HTTP binding."""
    binding = next((child for child in bound.binding.node if child.tag == f"{{{HTTP_BINDING}}}binding"), None)
    verb = (binding.get("verb", "GET") if binding is not None else "GET").upper()
    own = next((child for child in bound.node if child.tag == f"{{{HTTP_BINDING}}}operation"), None)
    location = own.get("location", "") if own is not None else ""
    template = re.sub(r"\(([^()]+)\)", r"{\1}", location)
    return Operation(
        name,
        contract,
        verb,
        path.rstrip("/") + template,
        place,
        place.pointer,
        name,
        described,
        "",
        inputs=tuple(_inputs(bound, template)),
        answers=(_answer(bound),),
        security=((), ("basic",)),
        facts=(*facts, ("version", f"HTTP {verb}")),
        intent=Intent.READ if verb == "GET" and intent_of(name) is Intent.UNKNOWN else intent_of(name),
        safe=verb == "GET" or only_reads(name),
        idempotent=verb == "GET",
        noun=noun_of(name),
        group=first_part(path.rstrip("/") + template) or "root",
    )


def input_texts(operation: Operation, request: Request, base_url: str) -> dict[str, str]:
    """The inputs that a request of a plain operation carries, by address."""
    form = (request.body or b"").decode("utf-8", "replace") if operation.method == "POST" else ""
    pairs = parse_qsl(urlsplit(request.url).query) + parse_qsl(form)
    found = {f"query.{name}": text for name, text in pairs}
    in_path = path_texts(operation, request, base_url) or {}
    return found | {f"path.{name}": text for name, text in in_path.items()}


def path_texts(operation: Operation, request: Request, base_url: str) -> dict[str, str] | None:
    """The inputs in a request's path by name; None when it is not the operation's path."""
    path = urlsplit(base_url).path.rstrip("/") + operation.path.partition("?")[0]
    parts = re.split(r"\{([^{}]*)\}", path)
    pattern = "".join("([^/]+)" if index % 2 else re.escape(part) for index, part in enumerate(parts))
    matched = re.fullmatch(pattern, urlsplit(request.url).path)
    return None if matched is None else dict(zip(parts[1::2], map(unquote, matched.groups())))


def _inputs(bound: Bound, template: str) -> Iterator[Input]:
    """Parts in the path, the others in the query, or of a POST in its form: one address for both."""
    message = bound.message("input")
    for part in parts_of(message) if message is not None else ():
        name = part.get("name", "")
        ref = SchemaRef("xsd", message.uri, message.tree.path(part), DIRECTIONS["input"]) if message else None
        place = "path" if f"{{{name}}}" in template else "query"
        before = f"/{template}".partition(f"{{{name}}}")[0].replace("//", "/").rstrip("/") or "/"
        where = message.place(part) if message else Location("")
        why = check_part(bound, message, part) if message else ""
        yield Input(
            name,
            place,
            True,
            None if why else ref,
            where,
            "simple",
            False,
            identifies=before if place == "path" else "",
            unreadable=why,
        )


def _answer(bound: Bound) -> DeclaredAnswer:
    node = bound.node.find(w("output"))
    message = bound.message("output")
    parts = parts_of(message) if message is not None else []
    content = next(
        (
            child
            for child in (node.iter() if node is not None else ())
            if child.tag == f"{{{MIME_BINDING}}}content"
        ),
        None,
    )
    shown = next(
        (child for child in (node.iter() if node is not None else ()) if local(child.tag) == "mimeXml"), None
    )
    place = bound.binding.place(bound.node)
    if message is None and bound.lost and bound.abstract.find(w("output")) is not None:
        return DeclaredAnswer("200", (), (), place, open_body=True, unreadable=cannot_be_read(bound))
    if message is None or not parts:
        return DeclaredAnswer("200", (), (), place, open_body=True)
    why = check_part(bound, message, parts[0])
    if why:
        return DeclaredAnswer("200", (), (), place, open_body=True, unreadable=why)
    ref = SchemaRef("xsd", message.uri, message.tree.path(parts[0]), DIRECTIONS["output"])
    media = content.get("type", "text/xml") if content is not None and shown is None else "text/xml"
    return DeclaredAnswer(
        "200", (Media(media, ref if "xml" in media else None, message.place(parts[0])),), (), place
    )
