"""What a binding's policies ask of a request: WS-Addressing headers, MTOM packaging. All else is left alone.

WS-Policy 1.2 and 1.5: a policy stands in the binding or is referred to by its Id; of alternatives the first
is taken, so an
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
    sign_in: tuple[tuple[str, ...], ...] = ()
    """Alternatives, each a set of schemes; none where no policy speaks of signing in."""


BASIC, TOKEN, DIGEST = "basic", "token", "digest"


def asked(binding: Defined, node: ET.Element | None = None) -> Asked:
    """What policies of a binding, and of an operation in it, ask for.

    WS-Addressing 1.0 WSDL binding, section 3.1, and Metadata, section 3.1; MTOM policy assertion 1.0, section
    3;
    WS-SecurityPolicy 1.2, sections 5.4.1 (UsernameToken) and 5.4.2 (HttpsToken).
    """
    policies = [*_policies(binding, binding.node), *(_policies(binding, node) if node is not None else ())]
    found = [name for policy in policies for name in _asserted(policy)]
    ways: list[tuple[str, ...]] = [()]
    for policy in policies:
        ways = [tuple(dict.fromkeys((*way, *other))) for way in ways for other in _ways(policy)][:_MOST_WAYS]
    return Asked(
        _using_addressing(binding) or "Addressing" in found,
        "OptimizedMimeSerialization" in found,
        tuple(dict.fromkeys(ways)) if any(ways) else (),
    )


_MOST_WAYS = 16


def _ways(node: ET.Element) -> list[tuple[str, ...]]:
    """The alternatives of a policy, each by the schemes that it signs in with."""
    name = local(node.tag)
    if name == "UsernameToken":
        hashed = any(local(child.tag) == "HashPassword" for child in node.iter())
        own: list[tuple[str, ...]] = [(DIGEST if hashed else TOKEN,)]
    elif name in ("HttpBasicAuthentication", "BasicAuthentication"):
        own = [(BASIC,)]
    elif name == "ExactlyOne" and len(node):
        own = [way for child in node for way in _ways(child)][:_MOST_WAYS]
    else:
        own = [()]
        for inner in node:
            own = [(*before, *way) for before in own for way in _ways(inner)][:_MOST_WAYS]
    if any(local(key) == "Optional" and text in ("true", "1") for key, text in node.items()):
        own.append(())
    return own


def _using_addressing(binding: Defined) -> bool:
    return any(
        local(node.tag) == "UsingAddressing"
        and node.tag[1:].startswith(ADDRESSING_WSDL)
        and node.get(f"{{{WSDL}}}required", "false") in ("true", "1")
        for node in binding.node
    )


def _policies(binding: Defined, holder: ET.Element) -> Iterator[ET.Element]:
    """The policies that stand in an element, or that it refers to."""
    for node in holder:
        if not node.tag[1:].startswith(POLICIES):
            continue
        if local(node.tag) == "Policy":
            yield node
        elif local(node.tag) == "PolicyReference" and node.get("URI", "").startswith("#"):
            wanted = node.get("URI", "")[1:]
            yield from (
                child
                for child in binding.tree.root.iter()
                if local(child.tag) == "Policy"
                and any(local(key) in ("Id", "id") and text == wanted for key, text in child.items())
            )


def _asserted(policy: ET.Element) -> Iterator[str]:
    """Names of the assertions that every alternative holds."""
    for node in policy:
        name = local(node.tag)
        if any(local(key) == "Optional" and text in ("true", "1") for key, text in node.items()):
            continue
        if name == "ExactlyOne":
            alternatives = [set(_asserted(child)) for child in node]
            yield from sorted(set.intersection(*alternatives)) if alternatives else ()
        elif name in ("All", "Policy"):
            yield from _asserted(node)
        else:
            yield name
