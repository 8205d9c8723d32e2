"""What of an operation can be exercised, and what an exchange exercised."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.exchange.media import chosen_media, parse_media_type
from juxtalogos.formats.odata.csdl import Model
from juxtalogos.formats.odata.wire.atom import AtomReader
from juxtalogos.formats.odata.wire.match import options, path_values
from juxtalogos.model.contract import Contract, Input, Media, Operation
from juxtalogos.model.elements import Element, element_id
from juxtalogos.model.exchange import Exchange, Request, header
from juxtalogos.model.location import Location
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Answer


class Counted:
    """The elements of one contract's operations."""

    def __init__(self, contract: Contract, model: Model) -> None:
        self.contract = contract
        self.model = model
        self.ways: dict[Location, str] = {}
        for name in model.types:
            named = model.structured(name)
            for navigation in named.own_navigation if named else ():
                self.ways[navigation.place] = f"{name.rpartition('.')[2]}.{navigation.name}"

    def elements(self, operation: Operation) -> Iterator[Element]:
        """Everything of an operation that can be exercised."""
        yield Element("operation", operation.location, operation.id, label=operation.id)
        for declared_input in operation.inputs:
            if declared_input.style != "option":
                yield Element(
                    "parameter",
                    declared_input.location,
                    f"{operation.id} {declared_input.address}",
                    label=f"{operation.id} {declared_input.name}",
                )
            elif (
                declared_input.examples
            ):  # along navigation the options are those of the set that it leads to
                yield Element(
                    "option",
                    declared_input.location,
                    f"{operation.id} {declared_input.address}",
                    label=f"{operation.id} {declared_input.name}",
                )
        refs = [media.schema for media in operation.body.media] if operation.body else []
        # What comes with an error is the protocol's, and declared by nobody.
        answers = [
            declared_answer for declared_answer in operation.answers if declared_answer.status.startswith("2")
        ]
        refs += [media.schema for answer in answers for media in answer.media]
        if operation.fact("does") == "navigate" and operation.location in self.ways:
            yield self.followed(operation.location)
        for ref in filter(None, refs):
            for element in self.contract.schema(ref).elements():
                if element.kind == "response-property" and element.location in self.ways:
                    yield self.followed(element.location)
                else:
                    yield element

    def followed(self, place: Location) -> Element:
        return Element("followed", place, label=self.ways.get(place, ""))

    def hits(self, operation: Operation, exchange: Exchange, answer: Answer, base_url: str) -> Iterator[str]:
        """Ids of the elements exercised; some may come more than once."""
        yield element_id("operation", operation.location, operation.id)
        request = exchange.request
        values = path_values(operation, request.url, base_url)
        query = options(request.url)
        for declared_input in operation.inputs:
            kind = "option" if declared_input.style == "option" else "parameter"
            if _given(declared_input, request, values, query):
                yield element_id(kind, declared_input.location, f"{operation.id} {declared_input.address}")
        if request.body is not None and operation.body:
            yield from self.sent(operation, request)
        if answer.declared is None or exchange.response is None:
            return
        if 200 <= exchange.response.status < 300 and operation.location in self.ways:
            yield self.followed(operation.location).id
        if answer.examined is not None and not answer.declared.status.startswith("4"):
            for one_hit in answer.examined.hits:
                yield one_hit
                kind, _, rest = one_hit.partition("|")
                if kind == "response-property":
                    document, _, pointer = rest.split("|")[0].partition("#")
                    place = Location(document, pointer)
                    if place in self.ways:
                        yield self.followed(place).id

    def sent(self, operation: Operation, request: Request) -> Iterator[str]:
        """What a request body exercises."""
        media = chosen_media(operation, header(request.headers, "content-type") or "")
        value = self.body(operation, request, media) if media else ABSENT
        if media and media.schema and value is not ABSENT:
            yield from self.contract.schema(media.schema).hits(value)

    def body(self, operation: Operation, request: Request, media: Media) -> Any:
        """The value of a request body; ABSENT where it cannot be read."""
        parsed = parse_media_type(media.media_type)
        assert request.body is not None
        if parsed and parsed.is_json:
            try:
                return parse_json(request.body)
            except NotJson:
                return ABSENT
        if parsed and parsed.is_xml:
            return AtomReader(self.model).read(request.body, "entity", operation.fact("type"), lambda: None)
        return ABSENT


def _given(one: Input, request: Request, values: dict[str, Any], query: dict[str, str]) -> bool:
    if one.place == "path":
        return one.name in values
    if one.place == "query":
        return one.name in query
    return header(request.headers, one.name) is not None
