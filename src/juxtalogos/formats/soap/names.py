"""The namespaces and words of WSDL 1.1 and SOAP."""

from __future__ import annotations

WSDL = "http://schemas.xmlsoap.org/wsdl/"
SOAP_11_BINDING = "http://schemas.xmlsoap.org/wsdl/soap/"
SOAP_12_BINDING = "http://schemas.xmlsoap.org/wsdl/soap12/"
HTTP_BINDING = "http://schemas.xmlsoap.org/wsdl/http/"
MIME_BINDING = "http://schemas.xmlsoap.org/wsdl/mime/"
ENVELOPE_11 = "http://schemas.xmlsoap.org/soap/envelope/"
ENVELOPE_12 = "http://www.w3.org/2003/05/soap-envelope"
ENCODING_11 = "http://schemas.xmlsoap.org/soap/encoding/"
ENCODING_12 = "http://www.w3.org/2003/05/soap-encoding"
ADDRESSING = "http://www.w3.org/2005/08/addressing"
ADDRESSING_WSDL = (
    "http://www.w3.org/2006/05/addressing/wsdl",
    "http://www.w3.org/2007/05/addressing/metadata",
)
POLICIES = ("http://schemas.xmlsoap.org/ws/2004/09/policy", "http://www.w3.org/ns/ws-policy")
ATTACHED = "cid:"
"""Before the name of a part that goes as an attachment, where it stands beside the elements of a body."""
RPC_RESULT = "{http://www.w3.org/2003/05/soap-rpc}result"
SECURITY = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"
SECURITY_UTILITY = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"
TOKEN_PROFILE = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0"

BINDINGS = {SOAP_11_BINDING: "1.1", SOAP_12_BINDING: "1.2"}
ENVELOPES = {"1.1": ENVELOPE_11, "1.2": ENVELOPE_12}
OF_SERVICE = ("Server", "Receiver")
"""Codes of faults that blame the service and not what was sent (SOAP 1.1, section 4.4.1; 1.2 part 1, section
5.4.6)."""
MEDIA = {"1.1": "text/xml", "1.2": "application/soap+xml"}


def w(name: str) -> str:
    """A WSDL element's full name."""
    return f"{{{WSDL}}}{name}"
