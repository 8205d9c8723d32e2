"""What follows from a refusal: the other ways that make sense, the likeliest first. Nothing here sends
anything.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from juxtalogos.compose.unique import names_something
from juxtalogos.conventions.words import words
from juxtalogos.ledger import ExchangeRecord
from juxtalogos.model.contract import Intent, Operation
from juxtalogos.model.location import follow_pointer
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.run.learning.progress import OperationProgress
from juxtalogos.run.learning.reading import (
    Named,
    asks_for,
    named_inputs,
    own_formula,
    says_it_exists,
    wanted_values,
    wants_owner,
)
from juxtalogos.run.learning.sources import SourceWays
from juxtalogos.suite.document.writer import slug
from juxtalogos.suite.inputs import has_place, values_of
from juxtalogos.workspace.known import DependencyRule, Hints, KnownValue, LeftOut, SentToo


@dataclass(frozen=True, slots=True)
class Ways(SourceWays):
    """What a refusal lets expect to work."""

    def followers(self, progress: OperationProgress, record: ExchangeRecord, sent: Inputs) -> Iterator[Hints]:
        """The ways to try next, the likeliest first; each builds on what was tried now."""
        operation, exchange = progress.operation, record.exchange
        assert exchange is not None
        rows = {f"body{row.path}": row for row in self.finder.rows.sent(operation) if row.path}
        required = {
            declared_input.address for declared_input in operation.inputs if declared_input.required
        } | {at for at, row in rows.items() if row.required}
        present = dict(values_of(sent))
        named = named_inputs(exchange, sent, self.finder.addresses(operation))
        linked = self.linked.get(operation.id, set())
        if named and progress.repeats:
            return  # what waits builds on an attempt that led further
        progress.note_named({one.address for one in named})
        # What the service asked for, it needs from then on.
        required |= {one.input for one in progress.now.sent}
        for one in named:  # what is there, and empty
            if one.address not in present and has_place(sent.body, one.address[4:]):
                present[one.address] = follow_pointer(sent.body, one.address[4:])
        whole = SentToo(operation.id, "body")
        if operation.body is not None and sent.body is ABSENT and whole not in progress.now.sent:
            yield self.more(progress, sent=whole)
        for one in named[:6]:
            if one.address not in present and one.address not in required and asks_for(one.text):
                yield from self.added(progress, one, sent)
        for one in named[:6]:
            if one.address in present and one.address not in required:
                yield self.more(progress, left_out=LeftOut(operation.id, one.address, progress.words[:120]))
        if progress.meaning is Outcome.CONFLICT or says_it_exists(progress.words):
            free = {at: value for at, value in present.items() if at not in linked}
            yield from self.told_apart(progress, free, {item.address for item in named})
            linking = [one for one in self.found if one.operation == operation.id]
            yield from self.dropped(
                progress,
                {one.source for one in linking if one.input.startswith("body") and one.input in present},
            )
        absent = progress.meaning is Outcome.ABSENT
        if absent or (progress.meaning.failed and linked):
            yield from self.other_sources(progress, {item.address for item in named})
        for one in named[:6]:
            if one.address.startswith("body") and wants_owner(one.text):
                yield from self.as_owner(progress, one.address)
        for one in named[:6]:
            if one.address in required and one.address not in linked:
                yield from self.other_values(progress, one, present.get(one.address))
            elif one.address in present and one.address not in linked:
                yield from itertools.islice(self.other_values(progress, one, present.get(one.address)), 2)
            elif one.address not in present and one.address not in required:
                yield from self.added(progress, one, sent)
        if progress.full and not named:
            yield from self.halves(progress, present, required)
        if not absent:
            yield from self.other_sources(progress, {item.address for item in named})
        if not progress.full:
            yield from self.unnamed(progress, present, required, linked)

    def other_values(self, progress: OperationProgress, named: Named, value: Any) -> Iterator[Hints]:
        """Values that the refusal lets expect to be taken."""
        told = self.described(progress.operation, named.address)
        for kind, other in itertools.islice(wanted_values(named, value, told), 8):
            formula = other if kind == "formula" else ""
            yield self.more(
                progress,
                known=KnownValue(
                    named.address, progress.operation.id, None if formula else other, formula, learned=True
                ),
            )

    def described(self, operation: Operation, address: str) -> str:
        """What the definition says of an input, in words; nothing for one that names a thing, for the run
        gives names of its own.
        """
        if names_something(re.split(r"[/.]", address)[-1]):
            return ""
        for one in operation.inputs:
            if one.address == address:
                row = next(iter(self.finder.rows.of(one.schema, 0)), None)
                return " ".join(filter(None, (one.description, row.description if row else "")))
        rows = self.finder.rows.sent(operation)
        return next((row.description for row in rows if f"body{row.path}" == address), "")

    def told_apart(
        self, progress: OperationProgress, free: Mapping[str, Any], named: set[str]
    ) -> Iterator[Hints]:
        """Where something is there already: values of the run's own for what is named, else for all free
        texts, moments and numbers; then null, where it is allowed.
        """
        operation = progress.operation
        rows = {f"body{row.path}": row for row in self.finder.rows.sent(operation) if row.path}
        chosen = {at: value for at, value in free.items() if at in named} or free
        texts: dict[str, str] = {}
        others: dict[str, str] = {}
        nothing: dict[str, str] = {}
        for address, value in chosen.items():
            row = rows.get(address)
            if row is not None and row.nullable:
                nothing[address] = "null"
            formula = own_formula(value) if row is None or not row.allowed else ""
            if formula:
                (texts if "days(" not in formula and "number(" not in formula else others)[address] = formula
        for formulas in (texts, others, nothing):
            if formulas:
                known = tuple(
                    KnownValue(at, operation.id, None, formula, learned=True)
                    for at, formula in formulas.items()
                )
                kept = tuple(one for one in progress.now.known if one.at not in formulas)
                yield replace(progress.now, known=(*known, *kept))

    def frees(self, operation: str, way: Hints, failed: set[str]) -> bool:
        """Whether a way takes nothing that an operation must have from others that did not succeed."""
        waits = {
            one.input
            for one in self.found
            if one.operation == operation and one.source in failed and not one.optional
        }
        rules = {rule.input for rule in way.dependencies if rule.drop or rule.source not in failed}
        return waits <= rules | {entry.at for entry in way.known}

    def silent(self, operation: str, reason: str) -> Iterator[tuple[str, str]]:
        """(operation, place) of the sources that a reason says gave no value; of a list any place."""
        for one in self.found:
            if one.operation == operation and f"$steps.{slug(one.source)}." in reason:
                source = self.contract.operation(one.source)
                listed = source is not None and source.intent is Intent.LIST
                yield one.source, "" if listed else one.value

    def blocking(self, operation: str, reason: str) -> str:
        """The operation that a reason says did not succeed, or gave no value; empty where it names none."""
        for one in self.found:
            if one.operation == operation and re.search(rf"\b{re.escape(slug(one.source))}\b", reason):
                return one.source
        return ""

    def sources(self, operation: str) -> set[str]:
        """The operations that must be answered before one can be called."""
        return {one.source for one in self.found if one.operation == operation and not one.optional}

    def added(self, progress: OperationProgress, named: Named, sent: Inputs) -> Iterator[Hints]:
        """An input that is not required, and that the refusal wants: as compose would make it up, then as it
        was seen.
        """
        operation, address = progress.operation, named.address
        if address in sent.values or has_place(sent.body, address[4:]):
            return
        yield self.more(progress, sent=SentToo(operation.id, address))
        for _, _, value in self.seen.places(address.rpartition("/")[2].rpartition(".")[2])[:1]:
            known = KnownValue(address, operation.id, value, learned=True)
            yield replace(
                self.more(progress, sent=SentToo(operation.id, address)), known=(known, *progress.now.known)
            )

    def unnamed(
        self, progress: OperationProgress, present: dict[str, Any], required: set[str], linked: set[str]
    ) -> Iterator[Hints]:
        """Where nothing is named: a whole body, then values that answers showed under the same name."""
        whole = SentToo(progress.operation.id, "body")
        if progress.operation.body is not None and whole not in progress.now.sent:
            yield self.more(progress, sent=whole)
        for one in progress.operation.inputs:
            if one.place == "path" and one.address in present and one.address not in linked:
                for word in words("values.path"):
                    value = word if isinstance(present[one.address], str) else int(word)
                    yield self.more(
                        progress, known=KnownValue(one.address, progress.operation.id, value, learned=True)
                    )
        for address in present:
            if address in linked or address not in required:
                continue
            name = address.rpartition("/")[2].rpartition(".")[2]
            for source, pointer, value in self.seen.places(name)[:2]:
                if (
                    self.may_give(source)
                    and source != progress.operation.id
                    and type(value) is type(present[address])
                ):
                    yield self.more(
                        progress,
                        rule=DependencyRule(
                            progress.operation.id, address, source, f"$response.body#{pointer}", learned=True
                        ),
                    )

    def halves(
        self, progress: OperationProgress, present: dict[str, Any], required: set[str]
    ) -> Iterator[Hints]:
        """Without half of the optional inputs: which half is refused is where the culprit stands."""
        optional = [at for at in self.tops(present) if at not in required]
        if len(optional) <= 1:
            suspects = optional
        else:
            suspects = optional[: len(optional) // 2]
        if suspects:
            now = progress.now
            for one in suspects:
                now = Hints(left_out=(LeftOut(progress.operation.id, one, progress.words[:120]),)).and_then(
                    now
                )
            yield now
            rest = [one for one in optional if one not in suspects]
            if rest:
                now = progress.now
                for one in rest:
                    now = Hints(
                        left_out=(LeftOut(progress.operation.id, one, progress.words[:120]),)
                    ).and_then(now)
                yield now

    @staticmethod
    def tops(present: dict[str, Any]) -> list[str]:
        """Addresses that can be left out by themselves: of the body its own properties."""
        return list(
            dict.fromkeys("/".join(at.split("/")[:2]) if at.startswith("body/") else at for at in present)
        )
