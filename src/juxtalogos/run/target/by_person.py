"""A person signs in at a target; what that gives is kept for later commands."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from juxtalogos.exchange.oauth import endpoints_of
from juxtalogos.exchange.person import by_browser, by_device
from juxtalogos.exchange.redact import Redactor
from juxtalogos.exchange.sign_in import based
from juxtalogos.exchange.signing import Credential, driven, require_origin
from juxtalogos.exchange.transport import Transport
from juxtalogos.model.contract import Contract, SecurityScheme
from juxtalogos.model.errors import UsageError
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.run.target.credentials import Doors
from juxtalogos.run.target.way import transport_options
from juxtalogos.workspace.config import Target
from juxtalogos.workspace.kept_sign_in import KeptSignIn
from juxtalogos.workspace.secrets import secret
from juxtalogos.workspace.trust import Trust

DEVICE, BROWSER = "device", "browser"


async def sign_in(
    target: Target,
    contract: Contract,
    scheme: SecurityScheme,
    root: Path,
    *,
    role: str = "",
    by: str = "",
    port: int = 0,
    tell: Callable[[str], None],
    open_page: Callable[[str], object] = lambda url: None,
) -> KeptSignIn:
    """Signs in on another device, or in a browser, as `by` says; else as the definition allows, on another
    device first. UsageError where neither is possible; NoAnswer where it does not succeed.
    """
    kept = KeptSignIn(root, target.name, role, scheme.name, frozenset(target.origins()))
    doors = Doors(Trust(root), frozenset(), target, root)
    source = next((one for one in target.role(role).credentials if one.scheme == scheme.name), None)
    if source is None or not source.user:
        raise UsageError(
            f"the target {target.name} has no client for {scheme.name}",
            mend=f"name the id under which this tool is known there: {kept.command} --client ID",
        )
    where = f"[targets.{target.name}.credentials.{scheme.name}]"
    word = ""
    if source.reference():
        doors.open(source.reference(), where)
        word = secret(source.reference(), where, root)
    credential = Credential(word, source.user)
    redactor = Redactor.of(filter(None, [word]), ())
    scheme = based(scheme, target.base_url(contract))
    async with Transport(transport_options(doors, redactor)) as transport:

        async def send(request: Request) -> Exchange:
            require_origin(request.url, kept.origins, scheme.name)
            return await transport.send(request)

        endpoints = await driven(endpoints_of(scheme, {}), send, scheme.name)
        way = by or (DEVICE if endpoints.device else BROWSER)
        if not (endpoints.device if way == DEVICE else endpoints.authorize) or not endpoints.token:
            raise UsageError(
                f"the definition names no address for a sign-in by {way} with {scheme.name}",
                mend=f"try --by {BROWSER if way == DEVICE else DEVICE}",
            )
        if way == DEVICE:
            memory = await by_device(scheme, endpoints, credential, send, tell)
        else:
            memory = await by_browser(scheme, endpoints, credential, send, tell, open_page, port)
    kept.save(memory)
    return kept
