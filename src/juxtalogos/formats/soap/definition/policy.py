"""What a binding's policies ask of a request: WS-Addressing headers, MTOM packaging. All else is left alone.

WS-Policy 1.2 and 1.5: a policy stands in the binding or is referred to by its Id; of alternatives the first is taken, so an
assertion that is optional, or stands in one alternative only, asks for nothing.
"""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Iterator
from dataclasses import dataclass

from juxtalogos.documents.xmltext import local
from juxtalogos.formats.soap.definition.documents import Defined
from juxtalogos.formats.soap.names import ADDRESSING_WSDL, POLICIES, WSDL


@dataclass(frozen=True, slots=True)
class Asked:
    addressing: bool = False
    mtom: bool = False


def asked(binding: Defined) -> Asked:
    """WS-Addressing 1.0 WSDL binding, section 3.1, and Metadata, section 3.1; MTOM policy assertion 1.0, section 3."""
    found = [name for policy in _policies(binding) for name in _asserted(policy)]
    return Asked(_using_addressing(binding) or "Addressing" in found, "OptimizedMimeSerialization" in found)


def _using_addressing(binding: Defined) -> bool:
    return any(
        local(node.tag) == "UsingAddressing"
        and node.tag[1:].startswith(ADDRESSING_WSDL)
        and node.get(f"{{{WSDL}}}required", "false") in ("true", "1")
        for node in binding.node
    )


def _policies(binding: Defined) -> Iterator[ET.Element]:
    for node in binding.node:
        if not node.tag[1:].startswith(POLICIES):
            continue
        if local(node.tag) == "Policy":
            yield node
        elif local(node.tag) == "PolicyReference" and node.get("URI", "").startswith("#"):
            wanted = node.get("URI", "")[1:]
            yield from (
                one
                for one in binding.tree.root.iter()
                if local(one.tag) == "Policy"
                and any(local(key) in ("Id", "id") and text == wanted for key, text in one.items())
            )


def _asserted(policy: ET.Element) -> Iterator[str]:
    """Names of the assertions that every alternative holds."""
    for node in policy:
        name = local(node.tag)
        if any(local(key) == "Optional" and text in ("true", "1") for key, text in node.items()):
            continue
        if name == "ExactlyOne":
            alternatives = [set(_asserted(one)) for one in node]
            yield from sorted(set.intersection(*alternatives)) if alternatives else ()
        elif name in ("All", "Policy"):
            yield from _asserted(node)
        else:
            yield name
