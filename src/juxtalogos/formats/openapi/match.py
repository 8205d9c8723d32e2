"""Matching: which operations a request may be a call of, most specific first."""

from __future__ import annotations

import re
from urllib.parse import urlsplit

from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Request

_VARIABLE = re.compile(r"\{([^{}]+)\}")


def template_pattern(path: str) -> re.Pattern[str]:
    """A path template as a pattern; a variable matches within one segment. Groups are numbered in template order."""
    parts = _VARIABLE.split(path)
    return re.compile("".join(re.escape(part) if index % 2 == 0 else "([^/?#]+)" for index, part in enumerate(parts)))


def path_below(request: Request, base_url: str) -> str | None:
    """The request's path below the base URL; None when it is not under it."""
    base, url = urlsplit(base_url), urlsplit(request.url)
    prefix = base.path.rstrip("/")
    if base.netloc and (base.netloc.lower() != url.netloc.lower() or base.scheme != url.scheme):
        return None
    return url.path[len(prefix) :] if url.path.startswith(prefix + "/") else None


def path_values(operation: Operation, path: str) -> dict[str, str] | None:
    """The raw texts of the path variables; None when the path is not of this template."""
    found = template_pattern(operation.path).fullmatch(path)
    return dict(zip(_VARIABLE.findall(operation.path), found.groups())) if found else None


def match(contract: Contract, request: Request, base_url: str) -> tuple[Operation, ...]:
    path = path_below(request, base_url)
    if path is None:
        return ()
    fitting = [
        operation
        for operation in contract.operations
        if operation.method == request.method and path_values(operation, path) is not None
    ]
    # Concrete before templated, segment by segment (OpenAPI, paths object: "path templating matching").
    return tuple(
        sorted(
            fitting,
            key=lambda operation: [
                len(_VARIABLE.sub("", segment)) == 0 or "{" in segment for segment in operation.path.split("/")
            ],
        )
    )
