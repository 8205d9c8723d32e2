"""Dependencies between operations: which input of one takes a value from an answer of another, and why we think so."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache
from itertools import islice

from juxtalogos.formats import wire_of
from juxtalogos.formats.naming import last_part, singular
from juxtalogos.model.contract import Contract, DeclaredAnswer, Intent, Media, Operation
from juxtalogos.model.errors import ConfigError, nearest, quoted
from juxtalogos.model.location import Location
from juxtalogos.model.schema import OutlineRow, SchemaRef
from juxtalogos.workspace.config import DependencyRule

_ID_LIKE = re.compile(r"(?:^id|Id|_id|-id|ID|[Nn]umber|[Cc]ode|[Kk]ey|[Rr]ef)$")
DEEPEST = 4
"""Levels of a body that are looked at: what lies deeper is seldom what another operation needs."""
_IDENTIFIERS = ("id", "number", "code")
_MAKING = (Intent.CREATE, Intent.ACT, Intent.UNKNOWN)
"""What an operation may be for that gives values which were not there before."""


@dataclass(frozen=True, slots=True)
class Dependency:
    operation: str
    input: str
    source: str
    value: str
    """Runtime expression on the source's exchange, or an XPath into its body."""
    reason: str
    """`link`, `path`, `schema`, `name` or `configured`, with what it rests on."""


@dataclass(frozen=True, slots=True)
class _Offer:
    """A scalar that an operation's success answer declares."""

    operation: Operation
    row: OutlineRow
    resource: str
    ref: SchemaRef


@dataclass(frozen=True, slots=True)
class _Need:
    operation: Operation
    address: str
    name: str
    resource: str
    """What a path parameter identifies: the collection before it, in the singular."""
    collection: str
    row: OutlineRow | None

    @property
    def place(self) -> Location | None:
        return self.row.place if self.row else None


MOST_OFFERS = 500
"""Of those that know a value by the same, so many are compared with a need."""


class _Offers:
    """Offers by what a need may know them by, in the order of the operations."""

    def __init__(self, offers: Iterable[_Offer]) -> None:
        self.by: dict[tuple[str, object], list[tuple[int, _Offer]]] = {}
        for order, offer in enumerate(offers):
            plain = _plain(offer.row.name)
            keys: list[tuple[str, object]] = [
                ("collection", "" if offer.operation.on_item else offer.operation.resource),
                ("place", offer.row.place),
                ("name", plain),
            ]
            if plain in _IDENTIFIERS:
                keys.append(("resource", offer.resource.rpartition("-")[2]))
            for key in keys:
                self.by.setdefault(key, []).append((order, offer))

    def of(self, need: _Need) -> list[tuple[int, _Offer]]:
        """Everything that could meet a need."""
        plain = _plain(need.name)
        keys: list[tuple[str, object]] = [
            ("collection", need.collection or None),
            ("place", need.place if need.row is not None and need.row.shared else None),
            ("resource", need.resource.rpartition("-")[2]),
        ]
        keys += [("name", plain)] if plain not in _IDENTIFIERS else []
        found = {order: offer for key in keys for order, offer in islice(self.by.get(key, ()), MOST_OFFERS)}
        return sorted(found.items())


def find_dependencies(contract: Contract, rules: Iterable[DependencyRule] = ()) -> list[Dependency]:
    """In the order of the operations. Rules of the configuration come first and can drop what is found."""
    rows = _Rows(contract)
    offers = _Offers(offer for operation in contract.operations for offer in _offers(rows, operation))
    found: dict[tuple[str, str], Dependency] = {}
    dropped = set()
    for rule in rules:
        _check_rule(contract, rule)
        if rule.drop:
            dropped.add((rule.operation, rule.input))
        else:
            found[(rule.operation, rule.input)] = Dependency(
                rule.operation, rule.input, rule.source, rule.value, "configured"
            )
    for link in _linked(contract):
        if (link.operation, link.input) not in dropped:
            found.setdefault((link.operation, link.input), link)
    sources: dict[str, list[str]] = {}
    for known in found.values():
        sources.setdefault(known.operation, []).append(known.source)
    for operation in contract.operations:
        for need in _needs(rows, operation):
            key = (operation.id, need.address)
            if key not in found and key not in dropped:
                best = next((one for one in _candidates(rows, need, offers) if not _leads_back(one, sources)), None)
                if best:
                    found[key] = best
                    sources.setdefault(best.operation, []).append(best.source)
    order = {operation.id: index for index, operation in enumerate(contract.operations)}
    return sorted(found.values(), key=lambda one: (order.get(one.operation, 0), one.input))


def _check_rule(contract: Contract, rule: DependencyRule) -> None:
    ids = [operation.id for operation in contract.operations]
    for name in (rule.operation, rule.source):
        if name and name not in ids:
            raise ConfigError(
                f"the unknown operation {quoted(name)}",
                where=f"[[contracts.{contract.name}.dependencies]]",
                mend=nearest(name, ids),
            )
    if not rule.drop and not (rule.source and rule.value):
        raise ConfigError(
            f"the dependency of {rule.operation} {rule.input} needs `from` and `value`, or `drop = true`",
            where=f"[[contracts.{contract.name}.dependencies]]",
            mend='write from = "OPERATION", value = "$response.body#/id"',
        )


def _linked(contract: Contract) -> Iterator[Dependency]:
    """Links that the definition declares (OpenAPI, link object)."""
    for operation in contract.operations:
        for answer in operation.answers:
            for link in answer.links if answer.status.startswith("2") else ():
                target = contract.operation(link.operation) or _by_reference(contract, link.operation)
                if target is None or target is operation:
                    continue
                for name, expression in link.parameters:
                    address = next((one.address for one in target.inputs if name in (one.address, one.name)), "")
                    if name.startswith("body/") and target.body is not None:
                        address = name
                    if address and expression.startswith("$"):
                        yield Dependency(
                            target.id,
                            address,
                            operation.id,
                            expression,
                            f"link: declared at {link.location.pointer.rpartition('/')[2]}",
                        )


def _by_reference(contract: Contract, reference: str) -> Operation | None:
    pointer = reference.partition("#")[2]
    return next(
        (operation for operation in contract.operations if pointer and operation.location.pointer == pointer), None
    )


def success_answer(operation: Operation) -> DeclaredAnswer | None:
    """The first declared answer of success."""
    return next((answer for answer in operation.answers if answer.status.startswith("2")), None)


class _Rows:
    """Outlines of a contract's schemas, each made once: many operations share them."""

    def __init__(self, contract: Contract) -> None:
        self.contract = contract
        self.known: dict[tuple[SchemaRef, int], tuple[OutlineRow, ...]] = {}

    def of(self, ref: SchemaRef | None, depth: int = DEEPEST) -> tuple[OutlineRow, ...]:
        """The rows of a schema, so many levels deep; none without one."""
        if ref is None:
            return ()
        found = self.known.get((ref, depth))
        if found is None:
            found = self.known[ref, depth] = tuple(self.contract.schema(ref).outline(depth=depth))
        return found


def _offers(rows: _Rows, operation: Operation) -> Iterator[_Offer]:
    answer = success_answer(operation)
    if answer is None or operation.intent is Intent.DELETE:
        return
    ref = _main_schema(answer.media)
    for row in rows.of(ref):
        if _carries(row) and row.path and "/NAME" not in row.path and "/*" not in row.path:
            assert ref is not None
            yield _Offer(operation, row, operation.noun if operation.resource else singular(_above(row.path)), ref)


def _carries(row: OutlineRow) -> bool:
    """Whether a row is a single value that can tell one thing from another."""
    return row.scalar and row.type.partition(" ")[0] not in ("boolean", "null")


def _main_schema(medias: Iterable[Media]) -> SchemaRef | None:
    """The schema of JSON, else of XML: what values can be taken out of."""
    for kind in ("json", "xml"):
        for media in medias:
            if media.schema and kind in media.media_type:
                return media.schema
    return None


def _above(path: str) -> str:
    """The name of what a value lies in: of `/job/0/id` it is `job`."""
    names = [token for token in path.split("/") if token and not token.isdigit()]
    return names[-2] if len(names) > 1 else ""


def _needs(rows: _Rows, operation: Operation) -> Iterator[_Need]:
    for one in operation.inputs:
        if not one.required or one.schema is None:
            continue
        row = next(iter(rows.of(one.schema, 0)), None)
        if one.identifies:
            yield _Need(operation, one.address, one.name, singular(last_part(one.identifies)), one.identifies, row)
        elif _ID_LIKE.search(one.name):
            yield _Need(operation, one.address, one.name, _owner(one.name), "", row)
    ref = _main_schema(operation.body.media) if operation.body else None
    for row in rows.of(ref):
        if (
            row.path
            and row.required
            and not row.read_only
            and "/0" not in row.path
            and f"body{row.path}" not in operation.names
            and _carries(row)
            and (_ID_LIKE.search(row.name) or _ID_LIKE.search(row.shared))
        ):
            owner = _owner(row.name) or ("" if operation.resource else singular(_above(row.path)) or operation.noun)
            yield _Need(operation, f"body{row.path}", row.name, owner, "", row)


def _candidates(rows: _Rows, need: _Need, offers: _Offers) -> list[Dependency]:
    """Best first: by path, by shared schema, by name; creating operations before listing ones."""
    ranked: list[tuple[int, int, int, _Offer, str]] = []
    for order, offer in offers.of(need):
        if offer.operation.id == need.operation.id:
            continue
        reason = _reason(need, offer)
        if reason is None:
            continue
        rank, words = reason
        # One that itself needs such a value only hands it on; one that may be null may give nothing.
        origin = offer.operation.intent in _MAKING and not _hands_on(rows, offer)
        doubt = 2 * offer.row.nullable
        # A value from deep inside, or from an operation that itself needs much, is less likely to be meant.
        cost = offer.row.path.count("/") + 3 * sum(bool(one.identifies) for one in offer.operation.inputs)
        ranked.append((rank * 2 + (not origin) + doubt, cost, order, offer, words))
    return [
        Dependency(need.operation.id, need.address, offer.operation.id, _value(rows.contract, offer), words)
        for _, _, _, offer, words in sorted(ranked, key=lambda one: one[:3])
    ]


def _value(contract: Contract, offer: _Offer) -> str:
    selected = wire_of(contract).selector(offer.operation, offer.ref, offer.row.path)
    return selected if selected is not None else f"$response.body#{offer.row.path}"


def _hands_on(rows: _Rows, offer: _Offer) -> bool:
    """Whether an operation of which nothing else tells what it is for wants in its request what it answers with."""
    body = offer.operation.body if offer.operation.intent is Intent.UNKNOWN else None
    ref = _main_schema(body.media) if body else None
    alike = (row for row in rows.of(ref) if row.scalar and row.name == offer.row.name)
    return any(row.place == offer.row.place for row in alike)


def _reason(need: _Need, offer: _Offer) -> tuple[int, str] | None:
    same_name = _plain(need.name) == _plain(offer.row.name)
    identifies = (
        _plain(offer.row.name) in _IDENTIFIERS
        and _same_resource(need.resource, offer.resource)
        and _plain(need.name) in _names_of(need.resource)
    )
    of_collection = offer.operation.resource == need.collection and not offer.operation.on_item
    if need.collection and of_collection and (same_name or identifies):
        return 0, f"path: {offer.operation.method} {offer.operation.path} answers with it"
    if need.row is not None and need.row.place is not None and need.row.place == offer.row.place and need.row.shared:
        return 1, f"schema: both are {need.row.shared}"
    if same_name and _plain(need.name) not in _IDENTIFIERS:
        return 2, f"name: {offer.row.name}"
    if identifies:
        return 2, f"name: {offer.row.name} of {offer.resource}"
    return None


def _leads_back(one: Dependency, sources: Mapping[str, list[str]]) -> bool:
    """Whether the source itself needs, through others, the operation that would need it. `sources` by operation."""
    waiting, seen = [one.source], set()
    while waiting:
        current = waiting.pop()
        if current == one.operation:
            return True
        if current not in seen:
            seen.add(current)
            waiting += sources.get(current, ())
    return False


@lru_cache(maxsize=10_000)
def _plain(name: str) -> str:
    return re.sub(r"[^a-z0-9]", "", name.lower())


def _same_resource(one: str, other: str) -> bool:
    """`call` and `port-call` are taken for the same."""
    return bool(one) and (_plain(one) == _plain(other) or one.rpartition("-")[2] == other.rpartition("-")[2])


def _names_of(resource: str) -> tuple[str, ...]:
    words = (_plain(resource), resource.rpartition("-")[2])
    return ("id", "number", "code", *(f"{word}{ending}" for word in words for ending in ("", "id", "number", "code")))


def _owner(name: str) -> str:
    """`vesselId` -> vessel."""
    return re.sub(r"(?:Id|_id|-id|ID|[Nn]umber|[Cc]ode|[Kk]ey|[Rr]ef)$", "", name).lower()
