"""Decoding: a response -> the declared output or fault that it is, its value, and its problems of form."""

from __future__ import annotations

import copy
import xml.etree.ElementTree as ET
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

from juxtalogos.documents.xmltext import NotXml, local
from juxtalogos.documents.xmltree import in_charset, read_tree
from juxtalogos.exchange.media import best_match, parse_media_type
from juxtalogos.formats.soap.binding_facts import version_of
from juxtalogos.formats.soap.names import ENVELOPES, MEDIA, OF_SERVICE, RPC_RESULT
from juxtalogos.formats.soap.schemas import ElementSchema, reader_of, soap_schema
from juxtalogos.formats.soap.wire.attachments import root_part
from juxtalogos.formats.soap.wire.encoding import plain_values
from juxtalogos.formats.soap.wire.envelope import Envelope, SoapFault, ill_formed, opened
from juxtalogos.model.contract import Contract, DeclaredAnswer, Media, Operation
from juxtalogos.model.exchange import Exchange, Response, header
from juxtalogos.model.wire import Answer, HeaderValue, ObservedFault, Problem
from juxtalogos.schema.xml.check.identity import ScopeOf
from juxtalogos.schema.xml.tell.plain_values import to_tree
from juxtalogos.schema.xml.tell.text import to_text


def decode(contract: Contract, operation: Operation, exchange: Exchange) -> Answer:
    """Call only for an exchange that has a response."""
    response = exchange.response
    assert response is not None
    output = next(
        (declared_answer for declared_answer in operation.answers if not declared_answer.fault), None
    )
    media = output.media[0] if output and output.media else None
    if not response.body_kept:
        return Answer(output, media, unread=response.problem or "the recording holds no body")
    if response.problem or response.truncated:
        what = response.problem or "the body passed the limit and was not read whole"
        problem = Problem("body.incomplete", "body", "a body that can be read whole", what)
        said = (
            best_match([media.media_type], header(response.headers, "content-type") or "") if media else None
        )
        return Answer(output, None if said is None else media, problems=(problem,), unread=what)
    if not response.body:
        return _empty(operation, output, media, response)
    return _Reading(contract, operation, response, output, media).answer()


def _empty(
    operation: Operation, output: DeclaredAnswer | None, media: Media | None, response: Response
) -> Answer:
    if 200 <= response.status < 300:
        by_status = next(
            (
                answer
                for answer in operation.answers
                if answer.status == str(response.status) and not answer.fault
            ),
            None,
        )
        if media is None:
            return Answer(by_status or output, None)
        problem = Problem("body.missing", "body", "an envelope", "no body")
        return Answer(output, None, problems=(problem,))
    return Answer(None, None, allowed=_allowed(response.status))


def _allowed(status: int) -> str:
    """HTTP's own errors may come to any request (WS-I Basic Profile 1.1, section 3.4.6)."""
    return "a response of HTTP itself" if 300 <= status < 500 or status == 503 else ""


@dataclass(slots=True)
class _Reading:
    contract: Contract
    operation: Operation
    response: Response
    output: DeclaredAnswer | None
    media: Media | None

    def answer(self) -> Answer:
        body, problem = self.root()
        content_type = parse_media_type(header(self.response.headers, "content-type") or "")
        if problem or not version_of(self.operation):
            return self.bare(body, problem)
        is_xml = (
            content_type is None
            or content_type.is_xml
            or content_type.type == "multipart"
            or content_type.is_text
        )
        try:
            tree = read_tree(body)
        except NotXml as error:
            if error.too_much:
                media = self.media
                schema = self.contract.schema(media.schema) if media and media.schema else None
                return Answer(self.output, media, schema=schema, unread=str(error))
            if not 200 <= self.response.status < 300:
                return Answer(None, None, allowed=_allowed(self.response.status))
            kind = "media.untrue" if content_type and content_type.is_xml else "envelope.form"
            return Answer(
                self.output,
                self._media(),
                problems=(Problem(kind, "body", "an envelope", f"no XML: {error}"),),
            )
        envelope = opened(tree)
        if envelope is None:
            if not 200 <= self.response.status < 300:
                return Answer(None, None, allowed=_allowed(self.response.status))
            seen = f"the element {tree.root.tag}" if is_xml else f"{content_type}"
            return Answer(
                self.output, self._media(), problems=(Problem("envelope.form", "body", "an envelope", seen),)
            )
        return self.enveloped(envelope)

    def root(self) -> tuple[bytes, str]:
        """(the bytes of the envelope, what is wrong with how it is packed)."""
        content_type = header(self.response.headers, "content-type") or ""
        body, wrong = root_part(self.response.body, content_type)
        kind = parse_media_type(content_type)
        charset = kind.parameter("charset") if kind is not None and kind.type != "multipart" else None
        return in_charset(body, charset or ""), wrong

    def _media(self) -> Media | None:
        """The declared media, where the answer's type is one that it may be."""
        content_type = parse_media_type(header(self.response.headers, "content-type") or "")
        if self.media is None or content_type is None:
            return self.media
        wanted = (MEDIA.get(version_of(self.operation), ""), "multipart/related", self.media.media_type)
        return self.media if str(content_type) in wanted else None

    def bare(self, body: bytes, problem: str) -> Answer:
        """An answer that is no envelope: of plain HTTP, or packed wrongly."""
        if problem:
            return Answer(
                self.output,
                self._media(),
                problems=(Problem("envelope.form", "body", "a root part", problem),),
            )
        if self.media is None or self.media.schema is None or not 200 <= self.response.status < 300:
            return Answer(self.output if 200 <= self.response.status < 300 else None, self.media)
        try:
            tree = read_tree(body)
        except NotXml as error:
            problem_ = Problem("media.untrue", "body", self.media.media_type, f"no XML: {error}")
            return Answer(self.output, self.media, problems=(problem_,))
        schema = soap_schema(self.contract, self.media.schema)
        if not schema.of_type and tree.root.tag not in schema.reader.substitutes(schema.declared):
            problem_ = Problem("body.other", "body", schema.declared.name, tree.root.tag)
            return Answer(self.output, self._media(), problems=(problem_,))
        return self.compared(Answer(self.output, self._media()), tree.root, tree.scope, self.media)

    def enveloped(self, envelope: Envelope) -> Answer:
        wanted = version_of(self.operation)
        problems = []
        if envelope.version != wanted:
            problems.append(Problem("envelope.version", "body", f"SOAP {wanted}", f"SOAP {envelope.version}"))
        wrong = ill_formed(envelope)
        if wrong:
            problems.append(
                Problem("envelope.form", "body", "an envelope with Header, if any, and Body", wrong)
            )
        fault = envelope.fault
        if fault is not None:
            return self.faulty(envelope, fault, problems)
        answer = Answer(
            self.output, self._media(), problems=tuple(problems), headers=tuple(self.headers(envelope))
        )
        if self.media is None or self.media.schema is None or envelope.body is None:
            return answer
        schema = soap_schema(self.contract, self.media.schema)
        element, scope_of = self.entry(envelope, schema, problems)
        answer = replace(answer, problems=tuple(problems))
        return answer if element is None else self.compared(answer, element, scope_of, self.media)

    def entry(
        self, envelope: Envelope, schema: ElementSchema, problems: list[Problem]
    ) -> tuple[ET.Element | None, ScopeOf]:
        """The element of the body that the schema speaks of, and the prefixes in force in it."""
        assert envelope.body is not None and self.media is not None and self.media.schema is not None
        declared = schema.declared.name
        scope_of: ScopeOf = envelope.tree.scope
        if schema.of_type:
            made = ET.Element(declared)
            made.extend(envelope.body)
            return made, scope_of
        found = envelope.entry
        encoded = self.media.schema.encoded
        if encoded:
            plain = plain_values(envelope.body)
            found, scope_of = (plain.element, plain.scope_of(scope_of)) if plain else (None, scope_of)
        if self.media.schema.wrapper and found is not None:
            for result in found.findall(
                RPC_RESULT
            ):  # names the accessor that is the result (1.2 part 2, section 4.2.1)
                found.remove(result)
        if found is None:
            problems.append(Problem("body.missing", "body", local(declared), "an empty Body"))
            return None, scope_of
        if found.tag not in schema.reader.substitutes(schema.declared) and found.tag != declared:
            problems.append(Problem("body.other", "body", declared, found.tag))
            if not self.media.schema.wrapper or local(found.tag) != local(declared):
                return None, scope_of
        more = [one for one in envelope.body if one is not found]
        if more and not encoded:
            problems.append(
                Problem(
                    "body.extra", f"body/{local(more[0].tag)}", f"{local(declared)} alone", local(more[0].tag)
                )
            )
        return _called(declared, found, scope_of) if self.media.schema.wrapper else (found, scope_of)

    def compared(self, answer: Answer, element: ET.Element, scope_of: ScopeOf, media: Media) -> Answer:
        assert media.schema is not None
        schema = soap_schema(self.contract, media.schema)
        if element.tag != schema.declared.name and element.tag in schema.reader.substitutes(schema.declared):
            schema = schema.standing_in(element.tag)
        value = schema.tree(element, scope_of)
        try:
            seen = schema.examined(element, scope_of)
        except ValueError as error:
            return replace(answer, value=value, schema=schema, unread=str(error))
        return replace(answer, value=value, schema=schema, examined=seen)

    def headers(self, envelope: Envelope) -> Iterator[HeaderValue]:
        for head in self.output.headers if self.output else ():
            if head.schema is None:
                continue
            schema = soap_schema(self.contract, head.schema)
            block = envelope.block(schema.declared.name)
            if block is None:
                yield HeaderValue(head, None)
            else:
                yield HeaderValue(head, to_text(block, schema.reader.prefixes, indent=False), block, schema)

    # Faults.

    def faulty(self, envelope: Envelope, fault: SoapFault, problems: list[Problem]) -> Answer:
        media = [media for declared_answer in self.operation.answers for media in declared_answer.media]
        encoded = any(media_type_.schema is not None and media_type_.schema.encoded for media_type_ in media)
        wrong = _fault_form(fault, envelope.version) or _not_alone(envelope, encoded)
        if wrong:
            problems.append(Problem("fault.form", "body/Fault", *wrong))
        entries = list(fault.detail) if fault.detail is not None else []
        declared, schema, entry = self.declared_fault([*entries, *envelope.blocks])
        names = tuple(
            declared_answer.fault for declared_answer in self.operation.answers if declared_answer.fault
        )
        ours = fault.code.partition(".")[0] in OF_SERVICE
        told = ObservedFault(declared.fault if declared else "", fault.code, fault.reason, names, ours)
        value: dict[str, Any] = {"code": fault.code, "reason": fault.reason}
        prefixes = envelope.tree.scope
        reader = reader_of(self.contract)
        for item in entries:
            kind = schema.declared if schema is not None and item is entry else None
            inner = to_tree(item, kind, reader, prefixes)
            value.setdefault("detail", {})[local(item.tag)] = inner
        answer = Answer(declared, self._fault_media(declared), value, problems=tuple(problems), fault=told)
        if schema is None or entry is None:
            return answer
        try:
            return replace(
                answer,
                schema=schema,
                examined=schema.examined(entry, prefixes, f"/detail/{local(entry.tag)}"),
            )
        except ValueError as error:
            return replace(answer, schema=schema, unread=str(error))

    def _fault_media(self, declared: DeclaredAnswer | None) -> Media | None:
        return declared.media[0] if declared and declared.media else None

    def declared_fault(
        self, entries: list[ET.Element]
    ) -> tuple[DeclaredAnswer | None, ElementSchema | None, ET.Element | None]:
        for declared_answer in self.operation.answers:
            if declared_answer.fault and declared_answer.media and declared_answer.media[0].schema:
                schema = soap_schema(self.contract, declared_answer.media[0].schema)
                names = {schema.declared.name, *(() if not schema.of_type else (declared_answer.fault,))}
                for entry in entries:
                    if entry.tag in names or (schema.of_type and local(entry.tag) in names):
                        return declared_answer, schema, entry
        # What came may be the fault of which the definition's own words cannot be read: nobody is accused
        # then.
        lost = (
            answer
            for answer in self.operation.answers
            if answer.fault and any(part.unreadable for part in answer.media)
        )
        return (next(lost, None) if entries else None), None, None


def _called(name: str, wrapper: ET.Element, scope_of: ScopeOf) -> tuple[ET.Element, ScopeOf]:
    """A wrapper under its right name: it holds nothing of its namespace, so what stands in it can be read all
    the same.
    """
    if wrapper.tag == name:
        return wrapper, scope_of
    made = copy.copy(wrapper)
    made.tag = name
    return made, lambda node: scope_of(wrapper if node is made else node)


def _not_alone(envelope: Envelope, encoded: bool) -> tuple[str, str] | None:
    """(declared, observed) where more than a fault stands in the body (SOAP 1.1, section 4.4; 1.2 part 1,
    section 5.4; Basic Profile 1.1, R9981).

    Beside an encoded one of 1.1 may stand the values that it refers to (SOAP 1.1, section 5.4.1).
    """
    more = (
        [one.tag for one in envelope.body if one is not envelope.entry] if envelope.body is not None else []
    )
    if encoded and envelope.version == "1.1":
        more = [one for one in more if one == f"{{{ENVELOPES['1.1']}}}Fault"]
    return ("Fault alone in the Body", f"{local(more[0])} beside it") if more else None


def _fault_form(fault: SoapFault, version: str) -> tuple[str, str] | None:
    """(declared, observed) where a fault breaks the form of its version (SOAP 1.1, section 4.4; 1.2 part 1,
    section 5.4).
    """
    names = [local(child.tag) for child in fault.node]
    if version == "1.1":
        for name in ("faultcode", "faultstring"):
            if name not in names:
                return name, "no such element"
        space = [
            child.tag
            for child in fault.node
            if child.tag.startswith("{") and local(child.tag).startswith("fault")
        ]
        return ("faultcode without a namespace", space[0]) if space else None
    for name in ("Code", "Reason"):
        if name not in names:
            return name, "no such element"
    codes = ("VersionMismatch", "MustUnderstand", "DataEncodingUnknown", "Sender", "Receiver")
    if fault.code not in codes or fault.namespace != ENVELOPES["1.2"]:
        return f"one of {', '.join(codes)}", fault.code or "no code"
    return None
