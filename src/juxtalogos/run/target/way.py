"""The way to a target: time limits, certificates, a proxy; what a workspace says of it only where its user
allowed that.
"""

from __future__ import annotations

from juxtalogos.exchange.redact import Redactor
from juxtalogos.exchange.transport import TransportOptions
from juxtalogos.run.target.credentials import Doors, certificate_of
from juxtalogos.workspace.secrets import secret
from juxtalogos.workspace.trust import ways_of


def transport_options(doors: Doors, redactor: Redactor, *, signing: bool = True) -> TransportOptions:
    """How requests to a target are sent. NotSent where its user did not allow the proxy or the certificate
    authorities that the workspace names, or a secret that they need; without `signing`, no secret is read.
    """
    target, workspace = doors.target, doors.workspace
    for reference, key in ways_of(target, workspace).items():
        if origins := target.origins():
            doors.trust.require_send(reference, origins, f"[targets.{target.name}] {key}")
    certificate, key_file = certificate_of(doors) if signing else (None, None)
    login = target.proxy_login if signing else None
    word = ""
    if login is not None:
        doors.open(login.reference(), f"[targets.{target.name}.proxy-login]")
        word = secret(login.reference(), "proxy-login", workspace)
        redactor.learn(word)
    return TransportOptions(
        target.connect_timeout,
        target.timeout,
        ca_file=(workspace / target.ca_file) if target.ca_file else None,
        addresses=target.addresses,
        pace=target.pace,
        certificate=certificate,
        certificate_key=key_file,
        proxy=target.proxy,
        proxy_user=login.user if login is not None else "",
        proxy_password=word,
        origins=frozenset(target.origins()),
    )
