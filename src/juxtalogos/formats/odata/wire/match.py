"""Matching: which operations a request may be a call of, by the names in its path and what stands in
parentheses.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from typing import Any
from urllib.parse import unquote, urlsplit

from juxtalogos.documents.uris import origin, origin_alone
from juxtalogos.formats.odata.csdl import Model
from juxtalogos.formats.odata.wire.literals import split_arguments, value_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.exchange import Request, header
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.location import Location

_SEGMENT = re.compile(r"([^(]*)(?:\((.*)\))?", re.DOTALL)
_OPEN = ("$metadata", "$batch", "$entity", "$crossjoin", "$all", "$root", "")


@dataclass(frozen=True, slots=True)
class PathPart:
    """One part of a path: a name, and what stands in parentheses behind it, if anything does."""

    name: str
    arguments: tuple[tuple[str, str], ...] | None


def segments(path: str) -> tuple[PathPart, ...] | None:
    """The parts of an encoded path; None where one cannot be read. Literals may hold encoded slashes, never
    plain ones.
    """
    found = []
    for part in _split(path.strip("/")):
        parts = _SEGMENT.fullmatch(unquote(part))
        if parts is None:
            return None
        arguments = split_arguments(parts[2]) if parts[2] is not None else None
        if parts[2] is not None and arguments is None:
            return None
        found.append(PathPart(parts[1], None if arguments is None else tuple(arguments)))
    return tuple(found)


def _split(path: str) -> list[str]:
    """At slashes, but for those within quotes: some clients leave them as they are."""
    parts, start, inside = [], 0, False
    for index, char in enumerate(path):
        if char == "'":
            inside = not inside
        elif char == "/" and not inside:
            parts.append(path[start:index])
            start = index + 1
    return [*parts, path[start:]]


@lru_cache(maxsize=20_000)
def template(path: str) -> tuple[PathPart, ...]:
    """The parts of an operation's path, variables as they are written."""
    return segments(path.replace("{", "%7B").replace("}", "%7D")) or ()


def below(url: str, base_url: str) -> str | None:
    """What of a URL's path lies below the service root; None where it does not."""
    try:
        if urlsplit(base_url).netloc and origin_alone(url) != origin(base_url):
            return None
        path, prefix = urlsplit(url).path, urlsplit(base_url).path.rstrip("/")
    except ValueError:
        return None
    return path[len(prefix) :] if path == prefix or path.startswith(prefix + "/") else None


class Matcher:
    """The operations of a contract by method and the names of their path."""

    def __init__(self, contract: Contract, model: Model) -> None:
        self.contract = contract
        self.model = model
        self.index: dict[tuple[str, tuple[tuple[str, bool], ...]], list[Operation]] = {}
        self.first: dict[str, Operation] = {}
        for operation in contract.operations:
            parts = template(operation.path)
            self.index.setdefault((operation.method, _shape(parts)), []).append(operation)
            if parts:
                self.first.setdefault(parts[0].name, operation)

    def match(self, request: Request, base_url: str) -> tuple[Operation, ...]:
        """The operations that a request may be a call of, best first.

        A HEAD is taken for its GET, a PATCH for MERGE.
        """
        path = below(request.url, base_url)
        parts = segments(path) if path is not None else None
        if not parts:
            return ()
        method = request.method
        tunnelled = header(request.headers, "x-http-method")
        if method == "POST" and tunnelled:
            method = tunnelled.upper()
        methods = (
            (method, "GET") if method == "HEAD" else (method, "MERGE") if method == "PATCH" else (method,)
        )
        found: list[Operation] = []
        for one in methods:
            for shape in self.shapes(parts):
                found += self.index.get((one, shape), ())
        query = dict(_pairs(request.url))
        return tuple(sorted(found, key=lambda operation: _misfit(operation, parts, query)))

    def shapes(self, parts: tuple[PathPart, ...]) -> list[tuple[tuple[str, bool], ...]]:
        """As it is written; with its last name as that of a property; with bound calls by their short name,
        as 4.01 allows.
        """
        whole = _shape(parts)
        found = [whole]
        if len(parts) > 1 and parts[-1].name != "$value" and parts[-1].arguments is None:
            found.append((*whole[:-1], ("{property}", False)))
        if len(parts) > 2 and parts[-1].name == "$value":
            found.append((*whole[:-2], ("{property}", False), whole[-1]))
        return found

    def unmatched(self, request: Request, base_url: str) -> CheckResult | str:
        """A finding only where the service declares nothing of that name: much of what a URL may say is
        composed (URL conventions).
        """
        path = below(request.url, base_url)
        if path is None:
            return "outside the base URL"
        parts = segments(path)
        if not parts or parts[0].name in _OPEN:
            return "the service's own documents, which no operation declares"
        root = Location(self.contract.root)
        observed = f"{request.method} {path}"
        if parts[0].name not in self.first:
            return CheckResult(
                "operation.undeclared",
                False,
                f"request {observed}",
                "an entity set, singleton or import of the container",
                observed,
                root,
            )
        if len(parts) == 1 or (len(parts) == 2 and parts[-1].name.startswith("$")):
            others = sorted({method for method, shape in self.index if shape == _shape(parts)})
            if others:
                place = self.first[parts[0].name].location
                return CheckResult(
                    "operation.undeclared",
                    False,
                    f"request {observed}",
                    f"{' or '.join(others)} {path}",
                    observed,
                    place,
                )
        return "a composed path that no operation of the contract has"


def _shape(parts: tuple[PathPart, ...]) -> tuple[tuple[str, bool], ...]:
    return tuple((part.name, part.arguments is not None) for part in parts)


def _misfit(operation: Operation, parts: tuple[PathPart, ...], query: dict[str, str]) -> tuple[int, int]:
    """How badly the names in parentheses fit those of the operation: overloads differ by them."""
    bad = 0
    own = template(operation.path)
    for one, other in zip(own, parts):
        names = {name for name, _ in one.arguments or ()}
        given = {name for name, _ in other.arguments or ()}
        bad += len(names ^ given)
    missing = sum(
        declared_input.place == "query" and declared_input.required and declared_input.name not in query
        for declared_input in operation.inputs
    )
    return bad + missing, operation.path.count("{property}")


def _pairs(url: str) -> list[tuple[str, str]]:
    found = []
    for part in urlsplit(url).query.split("&"):
        name, equals, text = part.partition("=")
        if name or equals:
            found.append((unquote(name.replace("+", " ")), unquote(text.replace("+", " "))))
    return found


def options(url: str) -> dict[str, str]:
    """The query options of a request; 4.01 takes those of the system without their `$` too."""
    found = dict(_pairs(url))
    return {
        name if name.startswith(("$", "@")) or name not in _SYSTEM else f"${name}": text
        for name, text in found.items()
    }


_SYSTEM = frozenset(("filter", "select", "expand", "orderby", "top", "skip", "count", "search", "format"))


def path_values(operation: Operation, url: str, base_url: str) -> dict[str, Any]:
    """The values of an operation's path inputs in a request, by name."""
    path = below(url, base_url)
    parts = segments(path) if path is not None else None
    found: dict[str, Any] = {}
    for one, other in zip(template(operation.path), parts or ()):
        if one.name == "{property}":
            found["property"] = other.name
        given = dict(other.arguments or ())
        names = [(name, text[1:-1]) for name, text in one.arguments or () if text.startswith("{")]
        for index, (name, variable) in enumerate(names):
            text = given.get(name, given.get("", "") if len(names) == 1 or index == 0 else "")
            if text:
                found[variable] = value_of(text)
    return found
