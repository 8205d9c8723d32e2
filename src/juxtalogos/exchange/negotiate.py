"""HTTP Negotiate (RFC 4559) with Kerberos: a ticket for the service's host, of whoever runs the program or of
the user and password that the credential names. The library comes with the extra `negotiate`.
"""

from __future__ import annotations

import base64
from typing import Any
from urllib.parse import urlsplit

from juxtalogos.exchange.signing import Credential, Memory, with_header
from juxtalogos.extras import extra
from juxtalogos.model.contract import SecurityScheme
from juxtalogos.model.errors import NoAnswer
from juxtalogos.model.exchange import Request
from juxtalogos.model.format import SignInFlow


def negotiate(request: Request, scheme: SecurityScheme, credential: Credential, memory: Memory) -> SignInFlow:
    """Signs with a ticket of its own for each request. NoAnswer where there is no ticket."""
    spnego: Any = extra("spnego", "negotiate", "sign-ins by Negotiate")
    host = urlsplit(request.url).hostname or ""
    try:
        context = spnego.client(
            credential.user or None,
            credential.secret or None,
            hostname=host,
            service="HTTP",
            protocol="kerberos",
        )
        ticket = context.step()
    except Exception as error:  # of the system's libraries, of many kinds
        raise NoAnswer(
            f"no ticket for {scheme.name} at {host}: {' '.join(str(error).split())[:200]}",
            mend="sign in first (kinit), or give a user and a password",
        ) from None
    word = memory["digest"] = f"Negotiate {base64.b64encode(ticket or b'').decode()}"
    return with_header(request, "Authorization", word)
    yield  # a generator that asks for nothing
