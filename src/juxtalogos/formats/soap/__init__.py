"""WSDL 1.1 with SOAP 1.1 and 1.2: reading definitions and speaking SOAP by them."""

from juxtalogos.formats.soap.decode import decode
from juxtalogos.formats.soap.elements import elements, hits
from juxtalogos.formats.soap.encode import encode
from juxtalogos.formats.soap.match import match, stray
from juxtalogos.formats.soap.read import claims, is_root, read
from juxtalogos.formats.soap.rules import check_envelope, check_fault
from juxtalogos.formats.soap.schemas import engine, parse_text, selector
from juxtalogos.formats.soap.signin import with_digest, with_text
from juxtalogos.model.seams import Format

SOAP = Format(
    "soap",
    claims,
    read,
    engine,
    encode,
    match,
    stray,
    decode,
    elements,
    hits,
    parse_text,
    checks=(check_envelope, check_fault),
    is_root=is_root,
    selector=selector,
    sign_in={"wss-text": with_text, "wss-digest": with_digest},
    plain_names=("wsdl", "service", "services", "definition", "index", "main"),
)

__all__ = ["SOAP"]
