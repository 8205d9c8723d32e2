"""Dependencies between operations: which input of one takes a value from an answer of another, why we think
so, and how sure we are.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace

from juxtalogos.compose.needs import ID_LIKE, Need, above, name_of, needs_of
from juxtalogos.compose.outlines import Rows, carries, main_schema, success_answer
from juxtalogos.compose.relating import (
    Dependency,
    Ground,
    declared_links,
    field_rank,
    last_word,
    leads_back,
    same_noun,
    takeable,
)
from juxtalogos.compose.resources import Resource, Resources, identifies, last_identified
from juxtalogos.conventions.naming import plain, singular, words_of
from juxtalogos.conventions.words import word_set, words
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract, Intent, Operation
from juxtalogos.model.errors import ConfigError, nearest, quoted
from juxtalogos.model.schema import OutlineRow
from juxtalogos.suite.document.building import SEGMENT
from juxtalogos.workspace.known import DependencyRule

_IDENTIFIERS = ("id", "number", "code")
_generic = word_set("names.generic")
"""Names that say nothing of what they name: alone they join nothing."""
_MAKING = (Intent.CREATE, Intent.ACT, Intent.UNKNOWN)
"""What an operation may be for that gives values which were not there before."""
LIMIT = 50
"""Of a hundred: what is less sure is listed, and not used."""
MOST_OFFERS = 500
"""Of those that know a value by the same, so many are compared with a need."""
ITSELF = "path: the item itself"


@dataclass(frozen=True, slots=True)
class _Offer:
    """A scalar that an operation's success answer declares."""

    operation: Operation
    row: OutlineRow
    noun: str


def find_dependencies(contract: Contract, rules: Iterable[DependencyRule] = ()) -> list[Dependency]:
    """In the order of the operations, those that are sure enough.

    Rules of the configuration come first and can drop what is found.
    """
    return [item for item in Finder(contract, rules).found() if item.sure >= LIMIT]


class Finder:
    """Looks for dependencies of one contract."""

    def __init__(
        self,
        contract: Contract,
        rules: Iterable[DependencyRule] = (),
        *,
        resources: Resources | None = None,
        only_reading: bool = False,
    ) -> None:
        """`resources`: the contract's, where they are at hand; `only_reading`: nothing comes from an
        operation that changes anything.
        """
        self.contract, self.only_reading = contract, only_reading
        self.resources = resources or Resources(contract, Rows(contract))
        self.rows = self.resources.rows
        self.rules = list(rules)
        self.by: dict[tuple[str, object], list[tuple[int, _Offer]]] = {}
        for order, offer in enumerate(
            offer for operation in contract.operations for offer in self._offers(operation)
        ):
            name = plain(offer.row.name)
            keys: list[tuple[str, object]] = [("place", offer.row.place), ("name", name)]
            if name in words("names.identifier"):
                keys.append(("noun", last_word(offer.noun)))
            for key in keys:
                self.by.setdefault(key, []).append((order, offer))

    def found(self) -> list[Dependency]:
        """All, also those that are but suggestions; the best for each input."""
        known: dict[tuple[str, str], Dependency] = {}
        dropped = set()
        for rule in self.rules:
            for operation, address in self._meant(rule):
                if rule.drop:
                    dropped.add((operation.id, address))
                else:
                    known[operation.id, address] = Dependency(
                        operation.id,
                        address,
                        rule.source,
                        rule.value,
                        "learned" if rule.learned else "configured",
                    )
        for link in declared_links(self.contract):
            if (link.operation, link.input) not in dropped:
                known.setdefault((link.operation, link.input), link)
        sources: dict[str, list[str]] = {}
        for one in known.values():
            sources.setdefault(one.operation, []).append(one.source)
        needs = [
            need for operation in self.contract.operations for need in needs_of(self.resources, operation)
        ]
        offered = {
            key: self.candidates(need)
            for need in needs
            if (key := (need.operation.id, need.address)) not in known and key not in dropped
        }
        ground = Ground(
            (
                *((one.operation, [one.source]) for one in known.values()),
                *(
                    (need.operation.id, [candidate.source for candidate in offered[key]])
                    for need in needs
                    if not need.optional and (key := (need.operation.id, need.address)) in offered
                ),
            )
        )
        for need in sorted(needs, key=lambda one: one.optional):  # what is needed bars what may be sent
            key = (need.operation.id, need.address)
            if key not in offered:
                continue
            # Without a value a step is not sent: nothing optional is worth that.
            fit = (
                candidate
                for candidate in offered[key]
                if (candidate.promised or not need.optional) and not leads_back(candidate, sources)
            )
            best = next(fit, None)
            if best and not ground.holds(best.source, without=need.operation.id):
                alone = (one for one in fit if ground.holds(one.source, without=need.operation.id))
                best = next(alone, best)
            if best:
                known[key] = replace(best, optional=need.optional)
                if best.sure >= LIMIT:
                    sources.setdefault(best.operation, []).append(best.source)
        for operation in self.contract.operations:
            for one in self._itself(operation, known):
                if (one.operation, one.input) not in dropped:
                    known.setdefault((one.operation, one.input), one)
        order = {operation.id: index for index, operation in enumerate(self.contract.operations)}
        return sorted(known.values(), key=lambda one: (order.get(one.operation, 0), one.input))

    def _itself(
        self, operation: Operation, known: Mapping[tuple[str, str], Dependency]
    ) -> Iterator[Dependency]:
        """In the body of a change what names the item: the item that is changed stays the one that it is."""
        key = last_identified(operation)
        named = known.get((operation.id, key.address)) if key is not None else None
        if key is None or named is None or operation.intent not in (Intent.REPLACE, Intent.UPDATE):
            return
        for row in self.rows.sent(operation):
            if (
                row.depth == 1
                and carries(row)
                and plain(row.name) in (plain(key.name), plain(re.split(r"[/.#]", named.value)[-1]))
            ):
                yield Dependency(
                    operation.id, f"body{row.path}", named.source, named.value, ITSELF, named.sure
                )

    def _meant(self, rule: DependencyRule) -> Iterator[tuple[Operation, str]]:
        """The operations and inputs that a rule's patterns mean; ConfigError for what leads nowhere."""
        where = f"[[contracts.{self.contract.name}.dependencies]]"
        ids = [operation.id for operation in self.contract.operations]
        if rule.learned and not {rule.operation, *filter(None, (rule.source,))} <= set(ids):
            return  # of a definition as it was
        patterned = any(char in rule.operation + rule.input for char in "*?")
        for name in (rule.operation, rule.source):
            if name and name not in ids and not (name is rule.operation and patterned):
                raise ConfigError(
                    f"the unknown operation {quoted(name)}", where=where, mend=nearest(name, ids)
                )
        if not rule.drop and not (rule.source and rule.value):
            raise ConfigError(
                f"the dependency of {rule.operation} {rule.input} needs `from` and `value`, or `drop = true`",
                where=where,
                mend='write from = "OPERATION", value = "$response.body#/id"',
            )
        if not patterned:
            yield (
                next(candidate for candidate in self.contract.operations if candidate.id == rule.operation),
                rule.input,
            )
            return
        for operation in self.contract.operations:
            if operation.id != rule.source and fnmatch.fnmatchcase(operation.id, rule.operation):
                for address in self.addresses(operation):
                    if fnmatch.fnmatchcase(address, rule.input):
                        yield operation, address

    def addresses(self, operation: Operation) -> list[str]:
        """The addresses of everything that a call may be given."""
        return [
            *(declared_input.address for declared_input in operation.inputs),
            *(f"body{row.path}" for row in self.rows.sent(operation) if row.path),
        ]

    def candidates(self, need: Need) -> list[Dependency]:
        """Best first: creators of the very resource, its lists, then what shares a type, then what shares a
        name.
        """
        if need.version:
            return list(self._versions(need))
        ranked: list[tuple[tuple[int, ...], Dependency]] = []
        for resource, sure in self._resources(need):
            ranked += self._of_resource(need, resource, sure)
            ranked += self._by_member(need, resource)
        ranked += self._alike(need)
        found: dict[tuple[str, str], Dependency] = {}
        for _, one in sorted(ranked, key=lambda pair: pair[0]):
            found.setdefault((one.source, one.value), one)
        return [item for item in found.values() if item.source != need.operation.id and self._usable(item)]

    def _usable(self, one: Dependency) -> bool:
        source = self.contract.operation(one.source)
        if source is None or (source.danger.withheld and one.reason != "configured"):
            return False  # nothing is destroyed or switched in order to get a value
        return source.safe or not self.only_reading

    def _resources(self, need: Need) -> list[tuple[Resource, int]]:
        """(resource that a need may name an item of, how sure that is)."""
        if need.resource:
            found = self.resources.by_key.get(need.resource)
            return [(found, 95)] if found else []
        named = self.resources.named(need.noun)
        return [
            (item, 85 if plain(item.noun) == plain(need.noun) or len(named) == 1 else 70) for item in named
        ]

    def _of_resource(
        self, need: Need, resource: Resource, sure: int
    ) -> Iterator[tuple[tuple[int, ...], Dependency]]:
        """What creates an item or lists them, each with the fields that may be its identifier."""
        chosen = {candidate.id for candidate in self.resources.chosen(resource)}
        by_path = bool(need.resource)
        producers = [(0, creator) for creator in self.resources.creators(resource)]
        producers += [(1, candidate) for candidate in resource.of(Intent.LIST)]
        producers += [
            (2, candidate)
            for candidate in resource.of(Intent.READ, Intent.ACT)
            if candidate.id not in resource.items and candidate.safe
        ]
        for rank, one in producers:
            words_told = (
                f"{'path' if by_path else 'name'}: {one.method} {one.path}"
                if one.path and one.resource
                else f"name: {one.id}"
            )
            key = last_identified(one)
            if one.id in chosen and key is not None:
                yield (
                    (0 if by_path else 2, rank, 0, 0),
                    Dependency(
                        need.operation.id,
                        need.address,
                        one.id,
                        f"$request.{key.address}",
                        f"{words_told} is sent with it",
                        sure,
                        promised=True,
                    ),
                )
                continue
            fields = self._fields(need, one, resource.noun)
            for place, (row, value) in enumerate(fields):
                told = f"{words_told} returns it"
                # One that may be null may give nothing; a list may be empty.
                doubt = rank + 2 * row.nullable
                promised = rank == 0 and row.required and row.depth == 1 and not row.nullable
                yield (
                    (0 if by_path else 2, doubt, place, row.path.count("/")),
                    Dependency(need.operation.id, need.address, one.id, value, told, sure, promised=promised),
                )
            for row in self.rows.sent(one) if rank == 0 and not fields else ():
                if row.depth == 1 and carries(row) and plain(row.name) == plain(need.name):
                    told = f"{words_told} is sent with it"
                    value = f"$request.body#{row.path}"
                    yield (
                        (0 if by_path else 2, rank, 40, 0),
                        Dependency(need.operation.id, need.address, one.id, value, told, sure),
                    )
            answer = success_answer(one)
            whole = sum(given.identifies == need.resource for given in need.operation.inputs) < 2
            if (
                rank == 0
                and answer
                and answer.address_at
                and whole
                and (not fields or answer.address_declared)
            ):
                value = f"{answer.address_at}{SEGMENT}-1"
                yield (
                    (0 if by_path else 2, rank, 50, 0),
                    Dependency(
                        need.operation.id,
                        need.address,
                        one.id,
                        value,
                        f"{words_told} returns it in Location",
                        sure,
                    ),
                )

    def _by_member(self, need: Need, resource: Resource) -> Iterator[tuple[tuple[int, ...], Dependency]]:
        """Of a second address of items, by one of their members (`/berths/name/{name}`): that member of what
        creates them.
        """
        above, _, member = need.resource.rpartition("/")
        collection = self.resources.by_key.get(above)
        if collection is None or self.resources.creators(resource):
            return
        for creator in self.resources.creators(collection):
            for row in self.rows.answered(creator):
                if row.depth == 1 and carries(row) and plain(row.name) in (plain(member), plain(need.name)):
                    told = f"path: {row.name} of {creator.method} {creator.path}"
                    value = self.value(creator, row)
                    yield (
                        (0, 2 * row.nullable, 5, 0),
                        Dependency(need.operation.id, need.address, creator.id, value, told, 80),
                    )

    def _fields(self, need: Need, operation: Operation, noun: str) -> list[tuple[OutlineRow, str]]:
        """The rows of an answer that may hold the identifier, the likeliest first, with where they are."""
        ranked = []
        if need.kind == "boolean":  # a part of a key, such as whether an item is active: it has no other name
            same = (
                row
                for row in self.rows.answered(operation)
                if row.scalar and row.type.startswith("boolean") and plain(row.name) == plain(need.name)
            )
            return [(row, self.value(operation, row)) for row in same]
        for row in self.rows.answered(operation):
            rank = self._field_rank(need, row, noun) if takeable(row) else None
            if rank is not None:
                # An input that is called an id takes a number as text; one that is called a name does not
                # mean a number.
                called_id = words_of(need.name)[-1:] in (("id",), ("no",), ("nr",), ("number",))
                wrong = (
                    8
                    if not called_id and rank > 1 and need.kind == "string" and row.type.startswith("integer")
                    else 0
                )
                ranked.append((rank + wrong + 2 * max(0, row.path.replace("/0", "").count("/") - 1), row))
        return [(row, self.value(operation, row)) for _, row in sorted(ranked, key=lambda pair: pair[0])]

    @staticmethod
    def _field_rank(need: Need, row: OutlineRow, noun: str) -> int | None:
        if row.path == "/0":
            return 4  # a list of bare ids
        if need.place is not None and need.place == row.place and need.row is not None and need.row.shared:
            return 0
        return field_rank(need.name, noun, name_of(row))

    def value(self, operation: Operation, row: OutlineRow) -> str:
        """Where a value of an answer is, as a suite takes it."""
        answer = success_answer(operation)
        ref = main_schema(answer.media) if answer else None
        selected = wire_of(self.contract).selector(operation, ref, row.path) if ref else None
        return selected if selected is not None else f"$response.body#{row.path}"

    def _versions(self, need: Need) -> Iterator[Dependency]:
        """What tells the version of an item: the entity tag of its read answer (RFC 9110, section 13.1.1)."""
        resource = self.resources.of(need.operation)
        for candidate in resource.of(Intent.READ) if resource else ():
            answer = success_answer(candidate)
            if answer and candidate.id != need.operation.id and answer.version_at:
                yield Dependency(
                    need.operation.id,
                    need.address,
                    candidate.id,
                    answer.version_at,
                    f"header: {candidate.id} returns the version",
                    90,
                )

    def _offers(self, operation: Operation) -> Iterator[_Offer]:
        answer = success_answer(operation)
        if answer is None or operation.intent in (Intent.DELETE, Intent.EMPTY):
            return
        for row in self.rows.answered(operation):
            if takeable(row):
                yield _Offer(
                    operation, row, operation.noun if operation.resource else singular(above(row.path))
                )

    def _alike(self, need: Need) -> Iterator[tuple[tuple[int, ...], Dependency]]:
        """What an answer calls the same, or declares by the same type."""
        name = plain(need.name)
        shared = need.row is not None and bool(need.row.shared)
        keys: list[tuple[str, object]] = [
            ("place", need.place if shared else None),
            ("name", name),
            ("noun", last_word(need.noun) or None),
        ]
        offers = {order: offer for key in keys for order, offer in self.by.get(key, ())[:MOST_OFFERS]}
        for order, offer in sorted(offers.items()):
            found = self._reason(need, offer)
            if found is None or offer.operation.id == need.operation.id:
                continue
            rank, sure, told = found
            making = offer.operation.intent in _MAKING and not self._hands_on(offer)
            creates = offer.operation.intent is Intent.CREATE or (
                self.resources.creates(offer.operation) and not self._listed_freely(need.noun)
            )
            doubt = self._doubt(need, offer.operation, making=making, creates=creates)
            doubt += 5 * offer.row.nullable
            # A value from deep inside, or from an operation that itself needs much, is less likely to be
            # meant.
            cost = offer.row.path.count("/") + 3 * sum(
                bool(declared_input.identifies) for declared_input in offer.operation.inputs
            )
            value = self.value(offer.operation, offer.row)
            yield (
                (rank, doubt, cost, order),
                Dependency(need.operation.id, need.address, offer.operation.id, value, told, sure),
            )

    @staticmethod
    def _doubt(need: Need, source: Operation, *, making: bool, creates: bool) -> int:
        """How unlikely it is that a source is meant: what creates, then the list of such items, then what
        else reads, then an action, then what but hands on the id that it is given.
        """
        if making:
            return 0 if creates else 3
        if not source.safe and source.intent not in (Intent.LIST, Intent.READ):
            return 4
        return 1 if source.intent is Intent.LIST and same_noun(source.noun, need.noun) else 2

    def _listed_freely(self, noun: str) -> bool:
        """Whether a list that needs nothing shows such items: then an action is a worse source."""
        return any(
            not any(one.required for one in listing.inputs)
            and not any(row.required and row.path for row in self.rows.sent(listing))
            for resource in self.resources.named(noun)
            for listing in resource.of(Intent.LIST)
        )

    def _reason(self, need: Need, offer: _Offer) -> tuple[int, int, str] | None:
        name = plain(offer.row.name)
        if (
            need.row is not None
            and need.place is not None
            and need.place == offer.row.place
            and need.row.shared
        ):
            telling = ID_LIKE.search(offer.row.name) or ID_LIKE.search(need.row.shared)
            return (
                (1, 80, f"schema: both are {need.row.shared}")
                if telling
                else (4, 40, f"schema: both are {need.row.shared}")
            )
        if name == plain(need.name) and name not in _generic():
            return 3, 65, f"name: {offer.row.name}"
        if name in _IDENTIFIERS and same_noun(need.noun, offer.noun) and identifies(need.name, need.noun):
            return 3, 60, f"name: {offer.row.name} of {offer.noun}"
        return (
            (5, 20, f"name: {offer.row.name}, which is a generic name") if name == plain(need.name) else None
        )

    def _hands_on(self, offer: _Offer) -> bool:
        """Whether an operation of which nothing else tells what it is for wants in its request what it
        answers with.
        """
        if offer.operation.intent not in (Intent.UNKNOWN, Intent.ACT):
            return False
        sent = self.rows.sent(offer.operation)
        return any(row.scalar and row.name == offer.row.name and row.place == offer.row.place for row in sent)
