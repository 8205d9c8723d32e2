"""Matching: which operations a request may be a call of, most specific first."""

from __future__ import annotations

from functools import lru_cache
from urllib.parse import urlsplit

from juxtalogos.documents.uris import origin, origin_alone
from juxtalogos.formats.http.templates import canonical, template
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Request, header
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.location import Location


def base_of(contract: Contract, operation: Operation, base_url: str) -> str:
    """The base URL of an operation: where it names a server of its own on the contract's host, that server's
    path.
    """
    if not operation.servers:
        return base_url
    own = urlsplit(operation.servers[0])
    common = urlsplit(contract.servers[0]) if contract.servers else urlsplit("")
    if own.netloc and (own.scheme, own.netloc) != (common.scheme, common.netloc):
        return base_url
    parts = urlsplit(base_url)
    path = own.path if own.path.startswith("/") else f"{parts.path.rstrip('/')}/{own.path}"
    return f"{parts.scheme}://{parts.netloc}{path}".rstrip("/")


def path_below(url: str, base_url: str) -> str | None:
    """A URL's canonical path below a base URL; None when it is not under it."""
    try:
        place, prefix = _base(base_url)
        if place and origin_alone(url) != place:
            return None
        path = canonical(urlsplit(url).path)
    except ValueError:  # a port that is no number, a bracket without its partner
        return None
    if path == prefix:
        return ""
    return path[len(prefix) :] if path.startswith(prefix + "/") else None


@lru_cache(maxsize=200)
def _base(base_url: str) -> tuple[str, str]:
    """(origin, empty where it has none; canonical path) of a base URL."""
    parts = urlsplit(base_url)
    return origin(base_url) if parts.netloc else "", canonical(parts.path.rstrip("/"))


def path_values(contract: Contract, operation: Operation, url: str, base_url: str) -> dict[str, str] | None:
    """The raw texts of the path variables; None when the URL is not of this operation."""
    path = path_below(url, base_of(contract, operation, base_url))
    return None if path is None else template(operation.path).values(path or "/", urlsplit(url).query)


_ANY_LENGTH, _OWN_SERVER = -1, -2


class Matcher:
    """The operations of a contract by method and number of segments."""

    def __init__(self, contract: Contract) -> None:
        self.contract = contract
        self.index: dict[tuple[str, int], list[Operation]] = {}
        for operation in contract.operations:
            one = template(operation.path)
            length = (
                _OWN_SERVER if operation.servers else _ANY_LENGTH if one.takes_rest else len(one.segments) - 1
            )
            self.index.setdefault((operation.method, length), []).append(operation)

    def match(self, request: Request, base_url: str) -> tuple[Operation, ...]:
        """A HEAD that is not declared is taken for its GET (RFC 9110, section 9.3.2)."""
        found = self._match(request.method, request.url, base_url)
        return found or (self._match("GET", request.url, base_url) if request.method == "HEAD" else ())

    def _match(self, method: str, url: str, base_url: str) -> tuple[Operation, ...]:
        index, query = self.index, urlsplit(url).query
        path = path_below(url, base_url)
        fitting: list[Operation] = []
        if path is not None:
            path = path or "/"
            candidates = [*index.get((method, path.count("/")), ()), *index.get((method, _ANY_LENGTH), ())]
            fitting = [
                candidate
                for candidate in candidates
                if template(candidate.path).values(path, query) is not None
            ]
        elsewhere = index.get((method, _OWN_SERVER), ())
        fitting += [one for one in elsewhere if path_values(self.contract, one, url, base_url) is not None]
        # Concrete before templated, segment by segment (OpenAPI, paths object: "path templating matching").
        return tuple(sorted(fitting, key=lambda operation: template(operation.path).rank))

    def unmatched(self, request: Request, base_url: str) -> CheckResult | str:
        """What a request is that no operation matches: a finding under the base URL; else why it is none of
        ours.
        """
        path = path_below(request.url, base_url)
        if path is None:
            return "outside the base URL"
        if request.method == "OPTIONS" and header(request.headers, "access-control-request-method"):
            return "a browser asks before it calls (Fetch, CORS preflight); no definition need declare that"
        others = {
            method: found[0]
            for method in dict.fromkeys(method for method, _ in self.index)
            if (found := self._match(method, request.url, base_url))
        }
        at, observed = f"request {request.method} {path}", f"{request.method} {path}"
        if others:
            nearest = next(iter(others.values()))
            declared = f"{' or '.join(others)} {nearest.path}"
            return CheckResult("operation.undeclared", False, at, declared, observed, nearest.location)
        root = Location(self.contract.root, "/paths")
        return CheckResult("operation.undeclared", False, at, "a path of the definition", observed, root)
