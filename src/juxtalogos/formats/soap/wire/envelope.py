"""Envelopes of SOAP 1.1 and 1.2: put together and taken apart (SOAP 1.1, section 4; SOAP 1.2 part 1, section
5).
"""

from __future__ import annotations

import copy
import xml.etree.ElementTree as ET
from collections.abc import Iterator
from dataclasses import dataclass, replace

from juxtalogos.documents.xmltext import local
from juxtalogos.documents.xmltree import XmlTree, resolve_name
from juxtalogos.formats.soap.names import ENVELOPE_12, ENVELOPES
from juxtalogos.model.contract import Operation
from juxtalogos.model.exchange import Request
from juxtalogos.model.wire import Variant
from juxtalogos.schema.xml.tell.text import Prefixes, to_text

_VERSIONS = {uri: version for version, uri in ENVELOPES.items()}
_ENVELOPE_NAMES = tuple(f"{{{uri}}}" for uri in _VERSIONS)
DECLARATION = '<?xml version="1.0" encoding="UTF-8"?>\n'


@dataclass(frozen=True, slots=True)
class SoapFault:
    """A fault as it came, its code by the words of the protocol."""

    code: str
    """The local name: `Client`, `Server`, `Sender`, `Receiver` and what else may stand there."""
    namespace: str
    reason: str
    detail: ET.Element | None
    node: ET.Element

    def words(self) -> str:
        return f"{self.code}: {self.reason}" if self.reason else self.code


@dataclass(frozen=True, slots=True)
class Envelope:
    tree: XmlTree
    version: str
    header: ET.Element | None
    body: ET.Element | None

    def block(self, name: str) -> ET.Element | None:
        """A header block, without what SOAP itself may say on any (`mustUnderstand`, `actor`, `role`,
        `relay`).
        """
        found = next((one for one in self.blocks if one.tag == name), None)
        if found is None or not any(key.startswith(_ENVELOPE_NAMES) for key in found.attrib):
            return found
        made = copy.copy(found)
        for key in [key for key in made.attrib if key.startswith(_ENVELOPE_NAMES)]:
            del made.attrib[key]
        return made

    @property
    def blocks(self) -> list[ET.Element]:
        return list(self.header) if self.header is not None else []

    @property
    def entry(self) -> ET.Element | None:
        """The first element of the body."""
        return next(iter(self.body), None) if self.body is not None else None

    @property
    def fault(self) -> SoapFault | None:
        """The fault that the envelope carries; None without one."""
        entry = self.entry
        if entry is None or entry.tag != f"{{{ENVELOPES[self.version]}}}Fault":
            return None
        if self.version == "1.1":
            code = _text(entry.find("faultcode"))
            name = resolve_name(code, self.tree.scope(entry)) or code
            return SoapFault(
                local(name), _space(name), _text(entry.find("faultstring")), entry.find("detail"), entry
            )
        ns = f"{{{ENVELOPE_12}}}"
        value = entry.find(f"{ns}Code/{ns}Value")
        name = (resolve_name(_text(value), self.tree.scope(value)) if value is not None else None) or _text(
            value
        )
        return SoapFault(
            local(name),
            _space(name),
            _text(entry.find(f"{ns}Reason/{ns}Text")),
            entry.find(f"{ns}Detail"),
            entry,
        )


def _text(node: ET.Element | None) -> str:
    return " ".join("".join(node.itertext()).split()) if node is not None else ""


def _space(name: str) -> str:
    return name[1:].partition("}")[0] if name.startswith("{") else ""


def opened(tree: XmlTree) -> Envelope | None:
    """The envelope that a document is; None when it is none."""
    space = _space(tree.root.tag)
    if local(tree.root.tag) != "Envelope" or space not in _VERSIONS:
        return None
    ns = f"{{{space}}}"
    return Envelope(tree, _VERSIONS[space], tree.root.find(f"{ns}Header"), tree.root.find(f"{ns}Body"))


def ill_formed(envelope: Envelope) -> str:
    """Why an envelope is not put together as its version says; empty when it is."""
    ns = f"{{{ENVELOPES[envelope.version]}}}"
    names = [child.tag for child in envelope.tree.root]
    if envelope.body is None:
        return "there is no Body in it"
    if names.count(f"{ns}Body") > 1 or names.count(f"{ns}Header") > 1:
        return "Header or Body occurs twice"
    if f"{ns}Header" in names and names.index(f"{ns}Header") > names.index(f"{ns}Body"):
        return "the Header follows the Body"
    behind = names[names.index(f"{ns}Body") + 1 :]
    if behind and (envelope.version == "1.2" or any(name.startswith(ns) for name in behind)):
        return f"{local(behind[0])} follows the Body"
    if [name for name in names if name not in (f"{ns}Header", f"{ns}Body") and name not in behind]:
        return f"{local(names[0])} is beside Header and Body"
    return ""


def closed(
    version: str,
    blocks: list[ET.Element],
    entries: list[ET.Element],
    prefixes: Prefixes,
    *,
    indent: bool = True,
) -> bytes:
    """The bytes of an envelope."""
    ns = f"{{{ENVELOPES[version]}}}"
    root = ET.Element(f"{ns}Envelope")
    if blocks:
        ET.SubElement(root, f"{ns}Header").extend(blocks)
    ET.SubElement(root, f"{ns}Body").extend(entries)
    return (DECLARATION + to_text(root, prefixes, indent=indent) + "\n").encode()


def other_versions(operation: Operation) -> Iterator[Variant]:
    """The message in the envelope of a version that does not exist (SOAP 1.1, section 4.1.2; 1.2 part 1,
    section
    5.4.7).
    """
    if operation.fact("version").startswith("SOAP"):
        yield Variant("body/Envelope", "version: another version of SOAP", None, _other_version)


def _other_version(request: Request) -> Request:
    body = request.body or b""
    for address in ENVELOPES.values():
        body = body.replace(address.encode(), b"urn:juxtalogos:another-envelope")
    return replace(request, body=body)
