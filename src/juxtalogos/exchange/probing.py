"""Asking whether anything answers at an address."""

from __future__ import annotations

from juxtalogos.exchange.transport import Sender
from juxtalogos.model.exchange import Request


async def why_not_ready(sender: Sender, url: str) -> str:
    """Why a service is not ready; empty where it is: it answers, and does not say that it failed."""
    exchange = await sender.send(Request("GET", url))
    if exchange.response is None:
        return exchange.error or "no response"
    return f"status {exchange.response.status}" if exchange.response.status >= 500 else ""
