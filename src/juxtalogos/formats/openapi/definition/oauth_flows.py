"""What security schemes say of OAuth 2.0 and OpenID Connect."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from juxtalogos.exchange.oauth import CLIENT, PASSWORD
from juxtalogos.model.location import Location


def oauth_flows(scheme: dict[str, Any], location: Location) -> Iterator[tuple[dict[str, Any], Location]]:
    """The flows of an OAuth 2.0 scheme, each where it stands."""
    if scheme.get("type") != "oauth2":
        return
    flows = scheme.get("flows")
    if isinstance(flows, dict):
        for name, flow in flows.items():
            if isinstance(flow, dict) and not name.startswith("x-"):
                yield flow, location.child("flows", name)
    elif "flow" in scheme:
        yield scheme, location


def token_service(scheme: dict[str, Any]) -> dict[str, Any]:
    """What is declared of the server that gives out tokens: the flow for client credentials, else that by
    password, else those in which a person takes part (OpenAPI, OAuth flow object and `openIdConnectUrl`;
    2.0: `flow`).
    """
    flows = scheme.get("flows")

    def flow_of(name: str, old: str) -> dict[str, Any]:
        flow = flows.get(name) if isinstance(flows, dict) else None
        if flow is None and scheme.get("flow") == old:
            flow = scheme
        return flow if isinstance(flow, dict) else {}

    def url(flow: dict[str, Any], name: str) -> str:
        return flow[name] if isinstance(flow.get(name), str) else ""

    client, password = flow_of("clientCredentials", "application"), flow_of("password", "password")
    code, device = flow_of("authorizationCode", "accessCode"), flow_of("deviceAuthorization", "")
    ways = ((client, CLIENT), (password, PASSWORD), (code, ""), (device, ""))
    flow, told = next((way for way in ways if url(way[0], "tokenUrl")), ({}, ""))
    scopes = flow.get("scopes")
    return {
        "token_url": url(flow, "tokenUrl"),
        "scopes": tuple(map(str, scopes)) if isinstance(scopes, dict) else (),
        "flow": told,
        "authorize_url": url(code, "authorizationUrl"),
        "device_url": url(device, "deviceAuthorizationUrl"),
        "discovery": url(scheme, "openIdConnectUrl"),
    }
