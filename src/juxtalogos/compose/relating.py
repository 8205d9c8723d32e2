"""What relates two operations: how likely a field is what an input means, declared links, circles."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from juxtalogos.compose.outlines import carries
from juxtalogos.compose.resources import owner
from juxtalogos.conventions.naming import plain, words_of
from juxtalogos.conventions.words import words
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.schema import OutlineRow


@dataclass(frozen=True, slots=True)
class Dependency:
    operation: str
    input: str
    source: str
    value: str
    """Runtime expression on the source's exchange, an XPath into its body, or `EXPRESSION segment -1` for a
    part of a path."""
    reason: str
    """`link`, `path`, `schema`, `name` or `configured`, with what it rests on."""
    sure: int = 100
    """Of a hundred."""
    optional: bool = False
    """Whether the input need not be sent: nothing is called for it where it is not."""
    promised: bool = False
    """Whether what creates the item declares that its answer has the value."""


def field_rank(wanted: str, noun: str, field: str) -> int | None:
    """How likely a field of a thing is what an input called `wanted` means, 0 first; None for a field that
    identifies nothing.
    """
    name = plain(field)
    if name == plain(wanted):
        return 0
    if owner(field) and plain(owner(field)) == plain(noun):
        return 1
    last = words_of(wanted)[-1:]
    if name == "id":
        return 2
    if last and name == last[0]:
        return 3
    fields = words("names.identifier")
    return 4 + fields.index(name) if name in fields else None


def takeable(row: OutlineRow) -> bool:
    return carries(row) and bool(row.path) and "/NAME" not in row.path and "/*" not in row.path


def declared_links(contract: Contract) -> Iterator[Dependency]:
    """Links that the definition declares (OpenAPI, link object)."""
    for operation in contract.operations:
        for answer in operation.answers:
            for link in answer.links if answer.outcome.succeeded else ():
                target = contract.operation(link.operation) or _by_reference(contract, link.operation)
                if target is None or target is operation:
                    continue
                for name, expression in link.parameters:
                    address = next(
                        (
                            declared_input.address
                            for declared_input in target.inputs
                            if name in (declared_input.address, declared_input.name)
                        ),
                        "",
                    )
                    if name.startswith("body/") and target.body is not None:
                        address = name
                    if address and expression.startswith("$"):
                        told = f"link: declared at {link.location.pointer.rpartition('/')[2]}"
                        yield Dependency(target.id, address, operation.id, expression, told)


def _by_reference(contract: Contract, reference: str) -> Operation | None:
    pointer = reference.partition("#")[2]
    return next(
        (operation for operation in contract.operations if pointer and operation.location.pointer == pointer),
        None,
    )


class Ground:
    """Which operations can be called at all, each from others that can be called before it: what gives one a
    value must not need that very operation itself.
    """

    def __init__(self, wants: Iterable[tuple[str, Iterable[str]]]) -> None:
        """`wants`: (operation, operations that may give one of its inputs a value); an input that none gives
        takes a sample.
        """
        self._options: dict[str, list[frozenset[str]]] = {}
        for operation, sources in wants:
            if options := frozenset(sources):
                self._options.setdefault(operation, []).append(options)
        self._users: dict[str, set[str]] = {}
        for operation, inputs in self._options.items():
            for one in frozenset().union(*inputs):
                self._users.setdefault(one, set()).add(operation)
        first = {one for one in self._users if one not in self._options}
        self._turn = dict.fromkeys(first, 0)
        """By operation how many others, one after another, are called before it at least."""
        for turn, one in self._grown(first, set(first)):
            self._turn[one] = turn

    def holds(self, operation: str, *, without: str) -> bool:
        """Whether an operation can be called before another one ever was."""
        if operation == without or (operation not in self._turn and operation in self._options):
            return False
        last = self._turn.get(without)
        if last is None or self._turn.get(operation, 0) <= last:
            return True  # nothing that is called in its turn, or later, is called before it
        early = {one for one, turn in self._turn.items() if turn <= last and one != without}
        return any(one == operation for _, one in self._grown(early, early | {without}))

    def _grown(self, grounded: set[str], seen: set[str]) -> Iterator[tuple[int, str]]:
        """(turn, operation) of all that can be called after some, those of `seen` left out."""
        grounded, fresh, turn = set(grounded), set(grounded), 0
        while fresh:
            turn += 1
            near = {user for one in fresh for user in self._users.get(one, ())} - seen
            fresh = {
                one for one in near if all(not options.isdisjoint(grounded) for options in self._options[one])
            }
            seen |= fresh
            grounded |= fresh
            yield from ((turn, one) for one in fresh)


def leads_back(one: Dependency, sources: Mapping[str, list[str]]) -> bool:
    """Whether the source itself needs, through others, the operation that would need it.

    `sources` by operation.
    """
    waiting, seen = [one.source], set()
    while waiting:
        current = waiting.pop()
        if current == one.operation:
            return True
        if current not in seen:
            seen.add(current)
            waiting += sources.get(current, ())
    return False


def last_word(noun: str) -> str:
    return noun.rpartition("-")[2]


def same_noun(one: str, other: str) -> bool:
    """`call` and `port-call` are taken for the same."""
    return bool(one) and (plain(one) == plain(other) or last_word(one) == last_word(other))
