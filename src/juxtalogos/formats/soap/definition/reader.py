"""Reading: WSDL 1.1 -> a Contract, every port's operations bound to SOAP or plain HTTP, with all faults of
the definition.
"""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from urllib.parse import urlsplit

from juxtalogos.conventions.naming import intent_of, noun_of, only_reads
from juxtalogos.documents.collector import collector_paused
from juxtalogos.documents.xmltext import local
from juxtalogos.formats.soap.binding_facts import version_of
from juxtalogos.formats.soap.definition.answers import answers_of
from juxtalogos.formats.soap.definition.documents import Defined, Documents
from juxtalogos.formats.soap.definition.http_binding import plain_operation
from juxtalogos.formats.soap.definition.messages import Bound, MissingPart, body_media, header_inputs
from juxtalogos.formats.soap.definition.policy import BASIC, DIGEST, TOKEN, asked
from juxtalogos.formats.soap.names import (
    ADDRESSING,
    BINDINGS,
    ENVELOPES,
    HTTP_BINDING,
    w,
)
from juxtalogos.formats.soap.schemas import SoapEngine
from juxtalogos.model.contract import Body, Contract, DefinitionFault, Operation, SecurityScheme
from juxtalogos.model.errors import DocumentError, nearest, quoted
from juxtalogos.model.format import Fetch
from juxtalogos.model.location import Location
from juxtalogos.schema.xml.check.soundness import warn
from juxtalogos.schema.xml.tree.reader import SchemaReader
from juxtalogos.schema.xml.tree.simple_types import XSD


def read(name: str, root: str, fetch: Fetch, others: Iterable[str] = ()) -> Contract:
    """The contract of a WSDL; DocumentError only when nothing of it can be used.

    Schemas that are imported without a location are looked for among `others` by their namespace.
    """
    with collector_paused():
        documents = Documents.fetched(root, fetch, others)
        return _WsdlReader(name, documents).contract()


@dataclass(frozen=True, slots=True)
class _Port:
    service: str
    name: str
    address: str
    binding: Defined
    version: str
    """`1.1` or `1.2`; `http` for a plain HTTP binding; empty for what cannot be called."""
    lost: str = ""
    """Why nothing on it can be called."""


class _WsdlReader:
    def __init__(self, name: str, documents: Documents) -> None:
        self.name = name
        self.documents = documents
        self.engine = SoapEngine(documents.by_uri, documents)
        self.lost: dict[Location, list[MissingPart]] = {}
        """What each operation names and is not there."""

    def contract(self) -> Contract:
        ports = list(self.ports())
        base = _common([port.address for port in ports if not port.lost])
        operations = self.named([operation for port in ports for operation in self.operations(port, base)])
        self.tell_lost(operations)
        reader = self.schemas(operations)
        faults = (*self.documents.faults, *reader.sources.faults)
        sound = tuple(operations)
        if not sound:
            raise self.unusable(faults)
        root = self.documents.by_uri[self.documents.root].value.root
        return Contract(
            self.name,
            "soap",
            "WSDL 1.1",
            root.get("name", ""),
            sound,
            self.documents.by_uri,
            self.documents.root,
            self.engine,
            faults=faults,
            servers=(base,) if base else (),
            security_schemes=_schemes(Location(self.documents.root)),
            description=_documentation(root),
            dialect="xsd",
            secret_fields=("Password",),
            namespaces=tuple(_namespaces(reader.prefixes, sound)),
            columns=_columns(sound),
        )

    def schemas(self, operations: list[Operation]) -> SchemaReader:
        """Every schema made, so that every fault is known."""
        reader = self.engine.reader
        for operation in operations:
            for ref in (media.schema for answer in operation.answers for media in answer.media):
                if ref is not None and ref.members:
                    self.engine.schema(ref)  # its wrapper's namespace gets a prefix
        reader.everything()
        warn(reader)
        return reader

    def unusable(self, faults: tuple[DefinitionFault, ...]) -> DocumentError:
        first = next((fault for fault in faults if fault.severity == "fault"), None)
        what = f": {first.what}" if first else ""
        mend = (
            first.mend if first else "give the WSDL document that has the service, with all that it imports"
        )
        return DocumentError(
            f"no operation of this WSDL can be used{what}", where=self.documents.root, mend=mend
        )

    def tell_lost(self, operations: list[Operation]) -> None:
        """Faults for messages, parts, elements and types that operations name and are not there."""
        for operation in operations:
            for place in self.lost.get(operation.location, ()):
                self.documents.fault(*place)

    # Services and ports.

    def ports(self) -> Iterator[_Port]:
        services = [(name, one) for (kind, name), one in self.documents.defined.items() if kind == "service"]
        if not services:
            self.documents.fault(
                "there is no service in it",
                Location(self.documents.root),
                "add a service with a port, or give the document that has it",
            )
        used = set()
        for _, service in services:
            for node in service.node.iterfind(w("port")):
                used.add(service.name(node, "binding"))
                port = self.port(service, node)
                if port is not None:
                    yield port
        for (kind, name), binding in self.documents.defined.items():
            if kind == "binding" and name not in used:
                count = len(binding.node.findall(w("operation")))
                told = (
                    f"the binding {local(name)} belongs to no port: {count}"
                    f" operation{'s' if count != 1 else ''} of it cannot be called"
                )
                self.documents.fault(
                    told, binding.place(), "add a port with its address, where it is in use", "warning"
                )
                lost = f"the binding {local(name)} belongs to no port"
                yield _Port(local(name), "", "", binding, _version(binding) or "", lost)

    def port(self, service: Defined, node: ET.Element) -> _Port | None:
        name = node.get("name", "")
        found = service.name(node, "binding")
        binding = self.documents.defined.get(("binding", found or ""))
        if binding is None:
            known = [local(one) for kind, one in self.documents.defined if kind == "binding"]
            text = node.get("binding", "")
            self.documents.fault(
                f"the port {name} names the binding {quoted(text)}, which is not there",
                service.place(node, "binding"),
                nearest(text.rpartition(":")[2], known) or "add it",
            )
            return None
        version = _version(binding)
        lost = (
            ""
            if version
            else f"the binding {binding.node.get('name', '')} is neither SOAP 1.1, SOAP 1.2 nor HTTP"
        )
        if lost:
            self.documents.fault(lost, binding.place(), "its operations cannot be called", "warning")
        address = next((child.get("location", "") for child in node if local(child.tag) == "address"), "")
        if not address and not lost:
            self.documents.fault(
                f"the port {name} has no address",
                service.place(node),
                "the target's base URL is used",
                "warning",
            )
        return _Port(service.node.get("name", ""), name, address.strip(), binding, version or "", lost)

    # Operations.

    def operations(self, port: _Port, base: str) -> Iterator[Operation]:
        binding = port.binding
        named = binding.name(binding.node, "type")
        port_type = self.documents.defined.get(("portType", named or ""))
        if port_type is None:
            self.documents.fault(
                f"the port type {quoted(binding.node.get('type', ''))} is not there",
                binding.place(attribute="type"),
                "add it or correct the name",
            )
            for node in binding.node.iterfind(w("operation")):
                yield self.bare(port, node, "its port type is not there")
            return
        named_alike: dict[str | None, list[ET.Element]] = {}
        for child in port_type.node.iterfind(w("operation")):
            named_alike.setdefault(child.get("name"), []).append(child)
        for node in binding.node.iterfind(w("operation")):
            abstract = self.abstract(named_alike.get(node.get("name"), []), node)
            if abstract is None:
                self.documents.fault(
                    f"the port type has no operation {quoted(node.get('name', ''))}",
                    binding.place(node),
                    "correct the name",
                )
                yield self.bare(port, node, "its port type does not have this operation")
                continue
            if abstract.find(w("input")) is None:
                lost = f"{node.get('name', '')} is sent by the service itself (no input, or output first)"
                self.documents.fault(lost, binding.place(node), "it cannot be called", "warning")
                yield self.bare(port, node, port.lost or "it is sent by the service itself", abstract)
            elif not port.version:
                yield self.bare(port, node, port.lost, abstract)
            else:
                bound = Bound(
                    self.documents, binding, node, port_type, abstract, port.version, asked(binding, node)
                )
                yield replace(self.operation(port, bound, base), not_callable=port.lost)

    def bare(self, port: _Port, node: ET.Element, why: str, abstract: ET.Element | None = None) -> Operation:
        """An operation of which no more is told than that it is there."""
        place, name = port.binding.place(node), node.get("name", "")
        facts = (("service", port.service), ("port", port.name))
        summary = _documentation(abstract) if abstract is not None else ""
        group = local(port.binding.node.get("type", "").rpartition(":")[2])
        return Operation(
            name,
            self.name,
            "",
            "",
            place,
            place.pointer,
            name,
            summary,
            facts=facts,
            group=group,
            not_callable=why,
        )

    @staticmethod
    def abstract(likes: list[ET.Element], node: ET.Element) -> ET.Element | None:
        """The operation of the port type; of overloaded ones that with the same input and output names
        (section 2.5).
        """
        if len(likes) < 2:
            return likes[0] if likes else None
        for like in likes:
            if all(
                _called(like, kind) in (None, _called(node, kind)) or _called(node, kind) is None
                for kind in ("input", "output")
            ):
                return like
        return likes[0]

    def operation(self, port: _Port, bound: Bound, base: str) -> Operation:
        name = bound.node.get("name", "")
        place = bound.binding.place(bound.node)
        path = _path(port.address, base)
        facts = (("service", port.service), ("port", port.name))
        described = _documentation(bound.abstract)
        self.lost[place] = bound.lost
        if port.version == "http":
            return plain_operation(bound, self.name, name, place, path, facts, described)
        media = body_media(bound, "input")
        return Operation(
            name,
            self.name,
            "POST",
            path,
            place,
            place.pointer,
            name,
            described,
            "",
            (local(port.binding.node.get("type", "").rpartition(":")[2]),),
            inputs=tuple(header_inputs(bound, "input")),
            body=Body(True, (media,), bound.binding.place(bound.node), ""),
            answers=tuple(answers_of(bound)),
            security=_security(bound.asked.sign_in),
            facts=(*facts, *bound.facts()),
            intent=intent_of(name),
            safe=only_reads(name),
            noun=noun_of(name),
            group=local(port.binding.node.get("type", "").rpartition(":")[2]),
        )

    def named(self, operations: list[Operation]) -> list[Operation]:
        """Ids: the operation's own name where that is unique, else with its port, else
        with service and port.
        """
        # What can be called keeps its short name beside what cannot.
        shorts = Counter(operation.id for operation in operations if not operation.not_callable)
        found: list[Operation] = []
        taken: set[str] = set()
        for candidate in operations:
            facts = dict(candidate.facts)
            name = candidate.id
            if shorts[name] > 1 or (candidate.not_callable and shorts[name]):
                name = ".".join(word for word in (facts["service"], facts["port"], candidate.id) if word)
            if name in taken and facts.get("input"):
                name = f"{name}.{facts['input']}"
            base, number = name, 2
            while name in taken:
                name, number = f"{base}.{number}", number + 1
            taken.add(name)
            found.append(replace(candidate, id=name, declared_id=name))
        return found


def _security(declared: tuple[tuple[str, ...], ...]) -> tuple[tuple[str, ...], ...]:
    """What policies say first; then what a target may have beside, for a WSDL seldom says it."""
    others = tuple(one for one in ((BASIC,), (TOKEN,), (DIGEST,)) if one not in declared)
    return (*(declared or ((),)), *others)


def _schemes(place: Location) -> tuple[SecurityScheme, ...]:
    """A WSDL seldom says how to sign in: these are the ways that a target may choose of."""
    return (
        SecurityScheme(BASIC, "basic", "", "", place, "HTTP basic authentication", declared=False),
        SecurityScheme(
            TOKEN, "wss-text", "", "", place, "WS-Security UsernameToken, password as text", declared=False
        ),
        SecurityScheme(
            DIGEST,
            "wss-digest",
            "",
            "",
            place,
            "WS-Security UsernameToken, password as digest",
            declared=False,
        ),
    )


def _namespaces(prefixes: Mapping[str, str], operations: Iterable[Operation]) -> Iterator[tuple[str, str]]:
    """The prefixes that messages have a use for."""
    versions = {version_of(operation) for operation in operations}
    unused = {uri for version, uri in ENVELOPES.items() if version not in versions}
    if not any(
        operation.fact("style").endswith("/encoded") for operation in operations
    ):  # whose values name types
        unused.add(XSD)
    if not any(operation.fact("addressing") for operation in operations):
        unused.add(ADDRESSING)
    for uri, prefix in prefixes.items():
        if uri not in unused:
            yield prefix, uri


_LISTED = 4
"""Facts of an operation that are columns of a list: the first ones that all have."""


def _columns(operations: tuple[Operation, ...]) -> tuple[str, ...]:
    every = [dict(operation.facts) for operation in operations]
    return tuple([word for word in every[0] if all(word in facts for facts in every)][:_LISTED])


def _called(node: ET.Element, kind: str) -> str | None:
    found = node.find(w(kind))
    return found.get("name") if found is not None else None


def _version(binding: Defined) -> str | None:
    for node in binding.node:
        space = node.tag[1:].partition("}")[0] if node.tag.startswith("{") else ""
        if local(node.tag) == "binding" and space in BINDINGS:
            return BINDINGS[space]
        if local(node.tag) == "binding" and space == HTTP_BINDING:
            return "http"
    return None


def _documentation(node: ET.Element) -> str:
    found = node.find(w("documentation"))
    return " ".join("".join(found.itertext()).split()) if found is not None else ""


def _common(addresses: list[str]) -> str:
    """The base URL of all ports: one port's whole address, else the folder that those on the first one's host
    share.
    """
    urls = list(dict.fromkeys(address for address in addresses if "://" in address))
    if not urls:
        return ""
    first = urlsplit(urls[0])
    paths = [urlsplit(url).path for url in urls if urlsplit(url)[:2] == first[:2]]
    if len(set(paths)) == 1:
        return urls[0] if not first.query else urls[0].partition("?")[0]
    parts = [path.split("/") for path in paths]
    shared = []
    for step in zip(*parts):
        if len(set(step)) > 1:
            break
        shared.append(step[0])
    return f"{first.scheme}://{first.netloc}{'/'.join(shared)}".rstrip("/")


def _path(address: str, base: str) -> str:
    """What of a port's address comes behind the base URL, with its query."""
    parts, common = urlsplit(address), urlsplit(base)
    path = parts.path
    if parts[:2] == common[:2] and (path == common.path or path.startswith(common.path.rstrip("/") + "/")):
        path = path[len(common.path.rstrip("/")) :] if path != common.path else ""
    return path + (f"?{parts.query}" if parts.query else "")
