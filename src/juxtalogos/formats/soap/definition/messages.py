"""Messages and their binding: which parts make the body, which the header, and how they are encoded (WSDL
1.1, section 3).
"""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Iterator
from dataclasses import dataclass, field

from juxtalogos.documents.xmltext import local
from juxtalogos.formats.soap.definition.documents import Defined, Documents
from juxtalogos.formats.soap.definition.policy import Asked
from juxtalogos.formats.soap.names import ADDRESSING_WSDL, ATTACHED, BINDINGS, MEDIA, MIME_BINDING, w
from juxtalogos.model.contract import Input, Media
from juxtalogos.model.errors import nearest, quoted
from juxtalogos.model.location import Location
from juxtalogos.model.schema import Direction, SchemaRef

MissingPart = tuple[str, Location, str]
DIRECTIONS = {"input": Direction.REQUEST, "output": Direction.RESPONSE, "fault": Direction.RESPONSE}


@dataclass(slots=True, eq=False)
class Bound:
    """An operation of a binding beside that of its port type."""

    documents: Documents
    binding: Defined
    node: ET.Element
    port_type: Defined
    abstract: ET.Element
    version: str
    asked: Asked
    lost: list[MissingPart] = field(default_factory=list)
    """What this operation names and is not there: those parts of it are not checkable."""

    @property
    def name(self) -> str:
        return self.node.get("name", "")

    def extension(self, node: ET.Element | None, name: str) -> ET.Element | None:
        """A SOAP element of the binding, also one within a MIME part."""
        for child in node.iter() if node is not None else ():
            if local(child.tag) == name and child.tag[1:].partition("}")[0] in BINDINGS:
                return child
        return None

    def extensions(self, node: ET.Element | None, name: str) -> list[ET.Element]:
        """All SOAP elements of a name, also those within MIME parts."""
        found = node.iter() if node is not None else ()
        return [
            item for item in found if local(item.tag) == name and item.tag[1:].partition("}")[0] in BINDINGS
        ]

    @property
    def style(self) -> str:
        """`document` or `rpc`: the operation's own, else the binding's."""
        own = next(
            (
                extension.get("style")
                for extension in self.extensions_here(self.node, "operation")
                if extension.get("style")
            ),
            None,
        )
        whole = next(
            (extension.get("style") for extension in self.extensions_here(self.binding.node, "binding")), None
        )
        return own or whole or "document"

    @staticmethod
    def extensions_here(node: ET.Element, name: str) -> Iterator[ET.Element]:
        return (
            child
            for child in node
            if local(child.tag) == name and child.tag[1:].partition("}")[0] in BINDINGS
        )

    @property
    def action(self) -> str:
        return next(
            (extension.get("soapAction", "") for extension in self.extensions_here(self.node, "operation")),
            "",
        )

    @property
    def one_way(self) -> bool:
        return self.abstract.find(w("output")) is None

    def message(self, direction: str) -> Defined | None:
        """The message of a direction; None when there is none."""
        node = self.abstract.find(w(direction))
        return self.message_of(node, self.port_type) if node is not None else None

    def message_of(self, node: ET.Element, owner: Defined) -> Defined | None:
        """The message that a node names; noted as lost where it is not there."""
        named = owner.name(node, "message")
        found = self.documents.defined.get(("message", named or ""))
        if found is None:
            known = [local(one) for kind, one in self.documents.defined if kind == "message"]
            text = node.get("message", "")
            self.lost.append(
                (
                    f"the message {quoted(text)} is not there",
                    owner.place(node, "message"),
                    nearest(text.rpartition(":")[2], known) or "add it",
                )
            )
        return found

    def body(self, direction: str) -> ET.Element | None:
        return self.extension(self.node.find(w(direction)), "body")

    @property
    def encoded(self) -> bool:
        """Whether its request is encoded (SOAP 1.1, section 5)."""
        body = self.body("input")
        return body is not None and body.get("use") == "encoded"

    def facts(self) -> Iterator[tuple[str, str]]:
        """What a sender must know of the wire form, in words."""
        yield "version", f"SOAP {self.version}"
        yield "style", f"{self.style}/{'encoded' if self.encoded else 'literal'}"
        if self.one_way:
            yield "pattern", "one-way"
        if self.action:
            yield "action", self.action
        entry = self.abstract.find(w("input"))
        if entry is not None and entry.get("name"):
            yield "input", entry.get("name", "")
        ways = (" and ".join(way) or "none" for way in self.asked.sign_in)
        yield "sign-in", " or ".join(ways) or "not declared"
        if self.asked.mtom:
            yield "packaging", "MTOM"
        if self.asked.addressing:
            yield "addressing", self.addressing_action()

    def addressing_action(self) -> str:
        """The action of WS-Addressing (WSDL binding, section 4.4.4): as declared, else made of the names."""
        entry = self.abstract.find(w("input"))
        for space in ADDRESSING_WSDL:
            declared = entry.get(f"{{{space}}}Action") if entry is not None else None
            if declared:
                return declared
        if self.action:
            return self.action
        space = self.port_type.namespace
        joiner = ":" if space.startswith("urn:") else "/"
        suffix = "" if self.one_way else "Request"
        called = entry.get("name") if entry is not None else None
        return joiner.join(
            (space.rstrip("/:"), self.port_type.node.get("name", ""), called or f"{self.name}{suffix}")
        )


def parts_of(message: Defined) -> list[ET.Element]:
    return message.node.findall(w("part"))


def body_media(bound: Bound, direction: str) -> Media:
    """The media of a body, its schema made of the parts that stand in it."""
    message = bound.message(direction)
    place = bound.binding.place(
        bound.node.find(w(direction)) if bound.node.find(w(direction)) is not None else bound.node
    )
    if message is None:
        return Media(MEDIA[bound.version], None, place, unreadable=cannot_be_read(bound))
    attached = tuple(_attachments(bound.node.find(w(direction))))
    media = "multipart/related" if attached else MEDIA[bound.version]
    before = len(bound.lost)
    schema = body_schema(bound, message, direction)
    why = cannot_be_read(bound, before)
    return Media(media, None if why else schema, message.place(), encoding=attached, unreadable=why)


def cannot_be_read(bound: Bound, first: int = -1) -> str:
    """Why a part of an operation is not checkable: the last thing that was lost, or the first one from a
    number on; empty without one.
    """
    lost = bound.lost[first:]
    return f"what is declared of it cannot be read ({lost[0][0]})" if lost else ""


def _attachments(node: ET.Element | None) -> Iterator[tuple[str, str]]:
    """(key, media types) of each part that goes as an attachment (WSDL 1.1, section 5)."""
    found: dict[str, list[str]] = {}
    for child in node.iter(f"{{{MIME_BINDING}}}content") if node is not None else ():
        if child.get("part"):
            found.setdefault(child.get("part", ""), []).append(child.get("type", "application/octet-stream"))
    for part, types in found.items():
        yield f"{ATTACHED}{part}", " or ".join(dict.fromkeys(types))


def body_schema(bound: Bound, message: Defined, direction: str) -> SchemaRef | None:
    """document style: the one part's element or type; rpc: a wrapper called as the
    operation (section 3.5).
    """
    wanted = DIRECTIONS[direction]
    parts = _in_body(bound, message, direction)
    if bound.style == "document":
        for part in parts:
            check_part(bound, message, part)
        if not parts:
            return None
        return SchemaRef("xsd", message.uri, message.tree.path(parts[0]), wanted)
    body = bound.body(direction)
    space = (body.get("namespace") if body is not None else None) or ""
    name = bound.name + ("" if direction == "input" else "Response")
    wrapper = f"{{{space}}}{name}" if space else name
    members = []
    for part in parts:
        check_part(bound, message, part)
        inner = SchemaRef("xsd", message.uri, message.tree.path(part), wanted)
        members.append((part.get("name", ""), inner, True))
    encoded = body is not None and body.get("use") == "encoded"
    return SchemaRef(
        "xsd",
        message.uri,
        message.tree.path(message.node),
        wanted,
        tuple(members),
        wrapper=wrapper,
        encoded=encoded,
    )


def _in_body(bound: Bound, message: Defined, direction: str) -> list[ET.Element]:
    """The parts that `soap:body parts` names, else all that no header or attachment takes."""
    body = bound.body(direction)
    parts = parts_of(message)
    if body is not None and body.get("parts") is not None:
        names = body.get("parts", "").split()
        return [part for part in parts if part.get("name") in names]
    node = bound.node.find(w(direction))
    elsewhere = {one.get("part") for one in bound.extensions(node, "header") if _same(bound, one, message)}
    elsewhere |= {
        child.get("part") for child in (node.iter(f"{{{MIME_BINDING}}}content") if node is not None else ())
    }
    return [part for part in parts if part.get("name") not in elsewhere]


def _same(bound: Bound, header: ET.Element, message: Defined) -> bool:
    named = bound.binding.name(header, "message")
    return bound.documents.defined.get(("message", named or "")) is message


def check_part(bound: Bound, message: Defined, part: ET.Element) -> str:
    """Notes a part that names nothing that is there, and gives why it cannot be read; empty when it can."""
    before = len(bound.lost)
    attribute = "element" if part.get("element") is not None else "type"
    named = message.name(part, attribute)
    text = part.get(attribute, "")
    if not text:
        bound.lost.append(
            (
                f"the part {part.get('name', '')} names neither element nor type",
                message.place(part),
                "name one",
            )
        )
    elif named is None or not bound.documents.declared(attribute, named):
        bound.lost.append(
            (
                f"there is no {attribute} {quoted(text)}",
                message.place(part, attribute),
                "declare it, or import the schema that has it",
            )
        )
    return cannot_be_read(bound, before)


def header_inputs(bound: Bound, direction: str) -> Iterator[Input]:
    """The header blocks of a message as inputs (section 3.7)."""
    for node in bound.extensions(bound.node.find(w(direction)), "header"):
        before = len(bound.lost)
        found = header_part(bound, node)
        name, ref = node.get("part", ""), None
        if found is not None:
            message, part = found
            name = local((part.get("element") or part.get("name") or "").rpartition(":")[2])
            ref = SchemaRef("xsd", message.uri, message.tree.path(part), DIRECTIONS[direction])
        why = cannot_be_read(bound, before)
        place = bound.binding.place(node)
        yield Input(
            name,
            "header",
            True,
            None if why else ref,
            place,
            "block",
            False,
            content="text/xml",
            unreadable=why,
        )


def header_part(bound: Bound, node: ET.Element) -> tuple[Defined, ET.Element] | None:
    """(message, part) that a header names; None where it is not there. What is lost is noted."""
    named = bound.binding.name(node, "message")
    message = bound.documents.defined.get(("message", named or ""))
    parts = [part for part in parts_of(message) if part.get("name") == node.get("part")] if message else []
    if message is None or not parts:
        bound.lost.append(
            (
                f"the header names the part {quoted(node.get('part', ''))}, which is not there",
                bound.binding.place(node),
                "correct message and part",
            )
        )
        return None
    check_part(bound, message, parts[0])
    return message, parts[0]
