"""What follows from a refusal: the other ways that make sense, the likeliest first. Nothing here sends anything."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from juxtalogos.compose.dependencies import Finder, Need, field_rank
from juxtalogos.compose.drafting import has_place
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.ledger import ExchangeRecord
from juxtalogos.model.contract import Contract, Intent, Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.location import follow_pointer, split_pointer
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.run.learning.pupil import WORKED, Pupil
from juxtalogos.run.learning.reading import Named, named_inputs, values_of, wanted_values
from juxtalogos.run.learning.seen import SeenValues
from juxtalogos.workspace.known import DependencyRule, Hints, KnownValue, LeftOut


@dataclass(frozen=True, slots=True)
class Ways:
    """What is known in a round, for thinking of the next."""

    contract: Contract
    finder: Finder
    linked: Mapping[str, set[str]]
    """By operation the inputs that come from other steps in this round."""
    seen: SeenValues
    pupils: Mapping[str, Pupil]
    writing: bool

    def need(self, operation: Operation, address: str) -> Need | None:
        return next((one for one in self.finder.needs(operation) if one.address == address), None)

    def followers(self, pupil: Pupil, record: ExchangeRecord, sent: Inputs) -> Iterator[Hints]:
        """The ways to try next, the likeliest first; each builds on what was tried now."""
        operation, exchange = pupil.operation, record.exchange
        assert exchange is not None
        rows = {f"body{row.path}": row for row in self.finder.rows.sent(operation) if row.path}
        required = {one.address for one in operation.inputs if one.required} | {
            at for at, row in rows.items() if row.required
        }
        present = dict(values_of(sent))
        named = named_inputs(exchange, sent, self.finder.addresses(operation))
        linked = self.linked.get(operation.id, set())
        for one in named[:6]:
            if one.address in present and one.address not in required:
                yield self.more(pupil, left_out=LeftOut(operation.id, one.address, pupil.words[:120]))
        if record.status in (404, 410) or (record.status >= 500 and linked):
            yield from self.other_sources(pupil, {one.address for one in named})
        for one in named[:6]:
            if one.address in required and one.address not in linked:
                yield from self.other_values(pupil, one, present.get(one.address))
            elif one.address in present and one.address not in linked:
                yield from itertools.islice(self.other_values(pupil, one, present.get(one.address)), 2)
            elif one.address not in present and one.address not in required:
                yield from self.added(pupil, one, sent)
        if pupil.full and not named:
            yield from self.halves(pupil, present, required)
        if record.status not in (404, 410):
            yield from self.other_sources(pupil, {one.address for one in named})
        if not pupil.full:
            yield from self.unnamed(pupil, present, required, linked)

    def more(
        self,
        pupil: Pupil,
        *,
        left_out: LeftOut | None = None,
        known: KnownValue | None = None,
        rule: DependencyRule | None = None,
    ) -> Hints:
        """What is tried now, and one thing more, in front; a part of a whole body is changed within it."""
        now = pupil.now
        whole = next((one for one in now.known if one.at == "body"), None)
        address = known.at if known else left_out.input if left_out else ""
        if whole is not None and address.startswith("body/") and (known is None or not known.formula):
            body = _changed(whole.value, split_pointer(address[4:]), known.value if known else ABSENT)
            return replace(now, known=tuple(replace(one, value=body) if one is whole else one for one in now.known))
        if known is not None:
            now = replace(now, known=tuple(one for one in now.known if one.at != known.at))
        if rule is not None:
            now = replace(now, dependencies=tuple(one for one in now.dependencies if one.input != rule.input))
        return Hints((rule,) if rule else (), (known,) if known else (), (left_out,) if left_out else ()).and_then(now)

    def other_values(self, pupil: Pupil, named: Named, value: Any) -> Iterator[Hints]:
        """Values that the refusal lets expect to be taken."""
        for kind, other in itertools.islice(wanted_values(named, value), 6):
            formula = other if kind == "formula" else ""
            yield self.more(pupil, known=KnownValue(named.address, pupil.operation.id, None if formula else other, formula, learned=True))  # fmt: skip

    def added(self, pupil: Pupil, named: Named, sent: Inputs) -> Iterator[Hints]:
        """An input that is not required, and that the refusal wants: as it was seen, then as compose would make it up."""
        operation, address = pupil.operation, named.address
        if address.startswith("body") and sent.body in (ABSENT, {}):
            address = "body"  # nothing of it was sent
        elif address in sent.values or (address.startswith("body") and not has_place(sent.body, address)):
            return
        for _, _, value in self.seen.places(address.rpartition("/")[2].rpartition(".")[2])[:1]:
            yield self.more(pupil, known=KnownValue(address, operation.id, value, learned=True))
        try:
            full = sample_inputs(self.contract, operation, full=True)
            value = follow_pointer(full.body, address[4:]) if address.startswith("body") else full.values[address]
        except (JuxtalogosError, LookupError, ValueError):
            return
        yield self.more(pupil, known=KnownValue(address, operation.id, value, learned=True))

    def other_sources(self, pupil: Pupil, named: set[str]) -> Iterator[Hints]:
        """Other places that an id may come from: further fields of the creator, lists, what was seen in answers."""
        for need in self.finder.needs(pupil.operation):
            if need.name.lower() == "if-match":
                continue  # a version, and no id
            if named and need.address not in named and not need.resource:
                continue
            for one in self.finder.candidates(need)[:8]:
                if not self.may_take(pupil.operation, one.source) or not self.worked_before(one.source):
                    continue
                yield self.more(
                    pupil, rule=DependencyRule(pupil.operation.id, need.address, one.source, one.value, learned=True)
                )
            yield from self.seen_sources(pupil, need)
            for source, pointer, _ in self.seen.places(need.name)[:4]:
                if source != pupil.operation.id and self.may_give(source) and self.may_take(pupil.operation, source):
                    yield self.more(pupil, rule=DependencyRule(pupil.operation.id, need.address, source, f"$response.body#{pointer}", learned=True))  # fmt: skip

    def seen_sources(self, pupil: Pupil, need: Need | None = None) -> Iterator[Hints]:
        """Fields that were seen in the answers of what creates or lists such an item, whatever is declared of them."""
        resources, operation = self.finder.resources, pupil.operation
        for one in [need] if need is not None else list(self.finder.needs(operation)):
            found = [resources.by_key[one.resource]] if one.resource in resources.by_key else resources.named(one.noun)
            for resource in found:
                sources = [*resources.creators(resource), *resource.of(Intent.LIST)]
                for source in sources:
                    if (
                        not (self.may_give(source.id) and self.may_take(operation, source.id))
                        or source.id == operation.id
                    ):
                        continue
                    ranked = []
                    for pointer in self.seen.by_operation.get(source.id, {}):
                        rank = field_rank(one.name, resource.noun, pointer.rpartition("/")[2])
                        if rank is not None:
                            ranked.append((rank + pointer.count("/"), pointer))
                    for _, pointer in sorted(ranked)[:3]:
                        yield self.more(pupil, rule=DependencyRule(operation.id, one.address, source.id, f"$response.body#{pointer}", learned=True))  # fmt: skip

    def may_give(self, source: str) -> bool:
        """Whether an operation may be called to learn from it."""
        operation = self.contract.operation(source)
        return operation is not None and (operation.safe or self.writing)

    def worked_before(self, source: str) -> bool:
        """Whether an operation was answered with success, so that something can be had from it."""
        pupil = self.pupils.get(source)
        return pupil is None or pupil.outcome == WORKED

    def may_take(self, operation: Operation, source: str) -> bool:
        """Whether an operation may be tried on what a source gives: what changes or removes, on what the run created only."""
        given = self.contract.operation(source)
        return (
            operation.safe
            or operation.intent is Intent.CREATE
            or (given is not None and self.finder.resources.creates(given))
        )

    def unnamed(self, pupil: Pupil, present: dict[str, Any], required: set[str], linked: set[str]) -> Iterator[Hints]:
        """Where nothing is named: a whole body, then values that answers showed under the same name."""
        yield from self.whole_body(pupil, present)
        for address in present:
            if address in linked or address not in required:
                continue
            name = address.rpartition("/")[2].rpartition(".")[2]
            for source, pointer, value in self.seen.places(name)[:2]:
                if self.may_give(source) and source != pupil.operation.id and type(value) is type(present[address]):
                    yield self.more(pupil, rule=DependencyRule(pupil.operation.id, address, source, f"$response.body#{pointer}", learned=True))  # fmt: skip

    def whole_body(self, pupil: Pupil, present: dict[str, Any]) -> Iterator[Hints]:
        """Everything that the body may hold, where less was sent."""
        operation = pupil.operation
        try:
            full = sample_inputs(self.contract, operation, full=True)
        except JuxtalogosError:
            return
        if full.body is not ABSENT and len(list(values_of(full))) > len(present):
            yield self.more(pupil, known=KnownValue("body", operation.id, full.body, learned=True))

    def halves(self, pupil: Pupil, present: dict[str, Any], required: set[str]) -> Iterator[Hints]:
        """Without half of the optional inputs: which half is refused is where the culprit stands."""
        optional = [at for at in self.tops(present) if at not in required]
        if len(optional) <= 1:
            suspects = optional
        else:
            suspects = optional[: len(optional) // 2]
        if suspects:
            now = pupil.now
            for one in suspects:
                now = Hints(left_out=(LeftOut(pupil.operation.id, one, pupil.words[:120]),)).and_then(now)
            yield now
            rest = [one for one in optional if one not in suspects]
            if rest:
                now = pupil.now
                for one in rest:
                    now = Hints(left_out=(LeftOut(pupil.operation.id, one, pupil.words[:120]),)).and_then(now)
                yield now

    @staticmethod
    def tops(present: dict[str, Any]) -> list[str]:
        """Addresses that can be left out by themselves: of the body its own properties."""
        return list(dict.fromkeys("/".join(at.split("/")[:2]) if at.startswith("body/") else at for at in present))


def _changed(value: Any, tokens: list[str], other: Any) -> Any:
    """A copy of a value with another at a path, or without what stands there."""
    if not tokens or not isinstance(value, dict):
        return value
    token, rest = tokens[0], tokens[1:]
    if rest:
        return {name: _changed(one, rest, other) if name == token else one for name, one in value.items()}
    kept = {name: one for name, one in value.items() if name != token}
    return kept if other is ABSENT else {**kept, token: other}
