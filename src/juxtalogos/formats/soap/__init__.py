"""WSDL 1.1 with SOAP 1.1 and 1.2: reading definitions and speaking SOAP by them."""

from collections.abc import Callable
from typing import Any

from juxtalogos.documents.xmltree import XmlTree
from juxtalogos.formats.http.outcomes import read_with_meaning
from juxtalogos.formats.on_demand import on_demand
from juxtalogos.formats.soap.names import w
from juxtalogos.model.document import Document
from juxtalogos.model.exchange import Request
from juxtalogos.model.format import Format, SignInFlow, SignInScheme

_HERE = "juxtalogos.formats.soap"


def _token(name: str) -> Callable[..., Any]:
    """A flow that needs no request of its own, its module loaded when it is first taken."""

    sign = on_demand(f"{_HERE}.wire.sign_in:{name}")

    def flow(request: Request, scheme: Any, credential: Any, memory: Any) -> SignInFlow:
        return sign(request, scheme, credential, memory)  # type: ignore[no-any-return]
        yield

    return flow


def claims(document: Document) -> bool:
    return isinstance(document.value, XmlTree) and document.value.root.tag == w("definitions")


def is_root(document: Document) -> bool:
    """Of a WSDL in several documents, the one with the service."""
    return claims(document) and document.value.root.find(w("service")) is not None


SOAP = Format(
    "soap",
    claims,
    read=read_with_meaning(on_demand(f"{_HERE}.definition.reader:read")),
    engine=on_demand(f"{_HERE}.schemas:engine"),
    bind=on_demand(f"{_HERE}.binding:SoapWire"),
    is_root=is_root,
    sign_in={
        "wss-text": SignInScheme(
            _token("with_text"),
            "user and password in the envelope's header (WS-Security UsernameToken)",
        ),
        "wss-digest": SignInScheme(
            _token("with_digest"),
            "user and a digest of the password in the envelope's header (WS-Security UsernameToken)",
        ),
    },
    finding_kinds={
        "envelope.form": "the response is not a valid envelope",
        "envelope.version": "the envelope has another version of the protocol",
    },
    element_kinds={"fault": "faults"},
    endings=(".wsdl", ".xml", ".xsd"),
    plain_names=("wsdl", "service", "services", "definition", "index", "main"),
    hint="a WSDL <definitions>",
)
