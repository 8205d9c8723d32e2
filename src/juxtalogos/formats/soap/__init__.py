"""WSDL 1.1 with SOAP 1.1 and 1.2: reading definitions and speaking SOAP by them."""

from juxtalogos.documents.xmltree import XmlTree
from juxtalogos.formats.on_demand import later
from juxtalogos.formats.soap.names import w
from juxtalogos.model.contract import Document
from juxtalogos.model.seams import Format

_HERE = "juxtalogos.formats.soap"


def claims(document: Document) -> bool:
    return isinstance(document.value, XmlTree) and document.value.root.tag == w("definitions")


def is_root(document: Document) -> bool:
    """Of a WSDL in several documents, the one with the service."""
    return claims(document) and document.value.root.find(w("service")) is not None


SOAP = Format(
    "soap",
    claims,
    read=later(f"{_HERE}.definition.reader:read"),
    engine=later(f"{_HERE}.schemas:engine"),
    encode=later(f"{_HERE}.wire.encode:encode"),
    match=later(f"{_HERE}.wire.match:match"),
    stray=later(f"{_HERE}.wire.match:stray"),
    decode=later(f"{_HERE}.wire.decode:decode"),
    elements=later(f"{_HERE}.coverage:elements"),
    hits=later(f"{_HERE}.coverage:hits"),
    parse_text=later(f"{_HERE}.schemas:parse_text"),
    checks=(later(f"{_HERE}.wire.checks:check_envelope"), later(f"{_HERE}.wire.checks:check_fault")),
    is_root=is_root,
    selector=later(f"{_HERE}.schemas:selector"),
    sign_in={"wss-text": later(f"{_HERE}.wire.sign_in:with_text"), "wss-digest": later(f"{_HERE}.wire.sign_in:with_digest")},
    plain_names=("wsdl", "service", "services", "definition", "index", "main"),
)

__all__ = ["SOAP"]
