"""What the facts of a bound operation say to those that speak for it: its version and where it is served."""

from __future__ import annotations

from juxtalogos.model.contract import Operation


def version_of(operation: Operation) -> str:
    """`1.1` or `1.2`; empty for plain HTTP."""
    word, _, version = operation.fact("version").partition(" ")
    return version if word == "SOAP" else ""


def url_of(operation: Operation, base_url: str) -> str:
    """Where an operation is served. A path that is not below the base URL's is one of its host."""
    return base_url.rstrip("/") + operation.path if operation.path else base_url
