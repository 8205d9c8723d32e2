"""Declared answers: the output, each fault, and what a one-way operation may come back with."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Iterator

from juxtalogos.documents.xmltext import local
from juxtalogos.formats.soap.definition.documents import Defined
from juxtalogos.formats.soap.definition.messages import (
    Bound,
    body_media,
    cannot_be_read,
    check_part,
    header_inputs,
    header_part,
    parts_of,
)
from juxtalogos.formats.soap.names import MEDIA, w
from juxtalogos.model.contract import DeclaredAnswer, DeclaredHeader, Media
from juxtalogos.model.errors import quoted
from juxtalogos.model.location import Location
from juxtalogos.model.schema import Direction, SchemaRef


def answers_of(bound: Bound) -> Iterator[DeclaredAnswer]:
    """The declared answers of a bound operation."""
    node = bound.abstract.find(w("output"))
    if node is None:
        place = bound.binding.place(bound.node)
        # One-way over HTTP: 202, or 200 with nothing in it (WS-I Basic Profile 1.1, section 3.4.5 and 4.7.9).
        yield DeclaredAnswer("202", (), (), place, "accepted, nothing comes back", open_body=False)
        yield DeclaredAnswer("200", (), (), place, "accepted, nothing comes back", open_body=False)
    else:
        media = body_media(bound, "output")
        headers = tuple(
            DeclaredHeader(
                declared_input.name,
                declared_input.required,
                declared_input.schema,
                declared_input.location,
                content="text/xml",
                unreadable=declared_input.unreadable,
            )
            for declared_input in header_inputs(bound, "output")
        )
        place = bound.port_type.place(node)
        yield DeclaredAnswer("200", (media,), headers, place, _described(node))
    yield from _faults(bound)


def _faults(bound: Bound) -> Iterator[DeclaredAnswer]:
    for node in bound.abstract.iterfind(w("fault")):
        message = bound.message_of(node, bound.port_type)
        name = node.get("name", "")
        place = bound.port_type.place(node)
        if message is None:
            media = Media(MEDIA[bound.version], None, place, unreadable=cannot_be_read(bound))
            yield DeclaredAnswer("500", (media,), (), place, _described(node), fault=name)
            continue
        parts = parts_of(message)
        if len(parts) != 1:
            bound.documents.fault(
                f"the message of the fault {quoted(name)} has {len(parts)} parts, not one",
                message.place(),
                "give it one part",
            )
        if parts:
            yield _fault(bound, name, message, parts[0], place, _described(node))
    for direction in ("input", "output"):
        for header in bound.extensions(bound.node.find(w(direction)), "headerfault"):
            found = header_part(bound, header)
            if found is not None:
                yield _fault(
                    bound,
                    found[1].get("name", ""),
                    *found,
                    bound.binding.place(header),
                    "reported in a header",
                )


def _fault(
    bound: Bound, name: str, message: Defined, part: ET.Element, place: Location, described: str
) -> DeclaredAnswer:
    why = check_part(bound, message, part)
    ref = SchemaRef("xsd", message.uri, message.tree.path(part), Direction.RESPONSE)
    media = Media(MEDIA[bound.version], None if why else ref, message.place(part), unreadable=why)
    element = local((part.get("element") or part.get("name") or name).rpartition(":")[2])
    text = described or (element if element != name else "")
    return DeclaredAnswer("500", (media,), (), place, text, fault=name or element, fault_element=element)


def _described(node: ET.Element) -> str:
    found = node.find(w("documentation"))
    return " ".join("".join(found.itertext()).split()) if found is not None else ""
