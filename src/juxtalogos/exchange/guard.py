"""Which addresses may be connected to: private and link-local ones only for hosts that a person named."""

from __future__ import annotations

import ipaddress
import socket
from collections.abc import Callable, Mapping
from typing import Any

from aiohttp.abc import ResolveResult
from aiohttp.resolver import ThreadedResolver


class Refused(OSError):
    """An address that must not be connected to."""


def is_public(address: str) -> bool:
    """Whether an IP address is one of the public network."""
    try:
        found = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        return False
    mapped = getattr(found, "ipv4_mapped", None)
    return (mapped or found).is_global and not found.is_multicast


class GuardedResolver(ThreadedResolver):
    """Resolves names and looks at what they resolve to: a public name may lead to a private address."""

    def __init__(
        self, may_be_private: Callable[[str], bool], addresses: Mapping[str, str] | None = None
    ) -> None:
        super().__init__()
        self.may_be_private = may_be_private
        self.addresses = addresses or {}

    async def resolve(
        self, host: str, port: int = 0, family: socket.AddressFamily = socket.AF_INET
    ) -> list[ResolveResult]:
        """Addresses of a host; Refused when they are private and nobody allowed them."""
        given = self.addresses.get(f"{host}:{port}") or self.addresses.get(host)
        if given:
            address, own_port = split_address(given)
            found: list[Any] = await super().resolve(address, own_port or port, socket.AF_UNSPEC)
            return found
        found = await super().resolve(host, port, family)
        refuse_private(host, [item["host"] for item in found], self.may_be_private)
        return found


def split_address(text: str) -> tuple[str, int]:
    """(address, port or 0) of `ADDRESS[:PORT]`, an IPv6 address in brackets where a port follows."""
    head, colon, port = text.rpartition(":")
    if colon and port.isdigit() and (":" not in head or head.startswith("[")):
        return head.strip("[]"), int(port)
    return text.strip("[]"), 0


def refuse_private(host: str, addresses: list[str], may_be_private: Callable[[str], bool]) -> None:
    """Refused when one of a host's addresses is not public and the host may not be private."""
    if not may_be_private(host):
        private = [address for address in addresses if not is_public(address)]
        if private:
            raise Refused(f"{host} is at {private[0]}, an address that is not public")
