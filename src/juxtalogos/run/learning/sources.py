"""Ways that take a value from elsewhere: from another operation, or from what names the item."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from juxtalogos.compose.dependencies import Finder
from juxtalogos.compose.needs import Need, needs_of
from juxtalogos.compose.relating import Dependency, field_rank
from juxtalogos.conventions.naming import plain
from juxtalogos.model.contract import Contract, Intent, Operation
from juxtalogos.run.learning.progress import WORKED, OperationProgress
from juxtalogos.run.learning.seen import SeenValues
from juxtalogos.workspace.known import DependencyRule, Hints, KnownValue, LeftOut, SentToo


@dataclass(frozen=True, slots=True)
class SourceWays:
    """What is known in a round, and where else a value may come from."""

    contract: Contract
    finder: Finder
    found: Sequence[Dependency]
    """What comes from other steps in this round."""
    linked: Mapping[str, set[str]]
    """The same inputs by operation."""
    seen: SeenValues
    progresses: Mapping[str, OperationProgress]
    writing: bool

    def need(self, operation: Operation, address: str) -> Need | None:
        return next(
            (
                candidate
                for candidate in needs_of(self.finder.resources, operation)
                if candidate.address == address
            ),
            None,
        )

    def more(
        self,
        progress: OperationProgress,
        *,
        left_out: LeftOut | None = None,
        known: KnownValue | None = None,
        rule: DependencyRule | None = None,
        sent: SentToo | None = None,
    ) -> Hints:
        """What is tried now, and one thing more, in front."""
        now = progress.now
        if known is not None:
            now = replace(now, known=tuple(entry for entry in now.known if entry.at != known.at))
        if rule is not None:
            now = replace(
                now,
                known=tuple(entry for entry in now.known if entry.at != rule.input),
                dependencies=tuple(
                    dependency for dependency in now.dependencies if dependency.input != rule.input
                ),
            )
        more = Hints(
            (rule,) if rule else (),
            (known,) if known else (),
            (left_out,) if left_out else (),
            sent=(sent,) if sent else (),
        )
        return more.and_then(now)

    def as_owner(self, progress: OperationProgress, address: str) -> Iterator[Hints]:
        """What names the item in the address, in the body too: the last part of it first."""
        operation = progress.operation
        given = {one.input: one for one in self.found if one.operation == operation.id}
        for one in reversed([one for one in operation.inputs if one.place == "path"]):
            link = given.get(one.address)
            if link is not None:
                rule = DependencyRule(operation.id, address, link.source, link.value, learned=True)
                yield self.more(progress, rule=rule)

    def dropped(self, progress: OperationProgress, sources: Iterable[str]) -> Iterator[Hints]:
        """Without what is taken from some operations, for they do not give it: where it comes from is a
        guess. What names the item itself stays.
        """
        operation, sources = progress.operation, set(sources)
        names_item = {one.address for one in operation.inputs if one.identifies}
        rules = tuple(
            DependencyRule(operation.id, one.input, drop=True, learned=True)
            for one in self.found
            if one.operation == operation.id and one.source in sources and one.input not in names_item
        )
        if rules:
            inputs = {one.input for one in rules}
            kept = tuple(one for one in progress.now.dependencies if one.input not in inputs)
            yield replace(progress.now, dependencies=(*rules, *kept))

    def other_sources(self, progress: OperationProgress, named: set[str]) -> Iterator[Hints]:
        """Other places that an id may come from: further fields of the creator, lists, what was seen in
        answers.
        """
        yield from self.key_together(progress)
        for need in needs_of(self.finder.resources, progress.operation):
            if need.version:
                continue  # a version, and no id
            if named and need.address not in named and not need.resource:
                continue
            for candidate in self.finder.candidates(need)[:8]:
                if not self.may_take(progress.operation, candidate.source) or not self.worked_before(
                    candidate.source
                ):
                    continue
                yield self.more(
                    progress,
                    rule=DependencyRule(
                        progress.operation.id, need.address, candidate.source, candidate.value, learned=True
                    ),
                )
            yield from self.seen_sources(progress, need)
            for source, pointer, _ in self.seen.places(need.name)[:4]:
                if (
                    source != progress.operation.id
                    and self.may_give(source)
                    and self.may_take(progress.operation, source)
                ):
                    yield self.more(
                        progress,
                        rule=DependencyRule(
                            progress.operation.id,
                            need.address,
                            source,
                            f"$response.body#{pointer}",
                            learned=True,
                        ),
                    )

    def key_together(self, progress: OperationProgress) -> Iterator[Hints]:
        """All parts of a composite key from one other response: an action on an item may give it another
        key, as activating a draft does.
        """
        operation = progress.operation
        parts = [one for one in operation.inputs if one.identifies and one.identifies == operation.resource]
        resource = self.finder.resources.of(operation)
        if len(parts) < 2 or resource is None:
            return
        others = (*resource.of(Intent.ACT, item=True), *self.finder.resources.creators(resource))
        for source in (*others, *resource.of(Intent.LIST)):
            if source.id == operation.id or source.danger.withheld or not self.may_give(source.id):
                continue
            acts = source.intent is Intent.ACT
            if not self.worked_before(source.id) or not (acts or self.may_take(operation, source.id)):
                continue
            rows = {plain(row.name): row for row in self.finder.rows.answered(source) if row.scalar}
            found = [(part.address, rows.get(plain(part.name))) for part in parts]
            rules = tuple(
                DependencyRule(operation.id, at, source.id, self.finder.value(source, row), learned=True)
                for at, row in found
                if row is not None
            )
            if len(rules) == len(parts):
                addresses = {rule.input for rule in rules}
                now = progress.now
                yield replace(
                    now,
                    dependencies=(
                        *rules,
                        *(one for one in now.dependencies if one.input not in addresses),
                    ),
                    known=tuple(one for one in now.known if one.at not in addresses),
                )

    def seen_sources(self, progress: OperationProgress, need: Need | None = None) -> Iterator[Hints]:
        """Fields that were seen in the answers of what creates or lists such an item, whatever is declared of
        them.
        """
        resources, operation = self.finder.resources, progress.operation
        for one in [need] if need is not None else list(needs_of(self.finder.resources, operation)):
            found = (
                [resources.by_key[one.resource]]
                if one.resource in resources.by_key
                else resources.named(one.noun)
            )
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
                        yield self.more(
                            progress,
                            rule=DependencyRule(
                                operation.id,
                                one.address,
                                source.id,
                                f"$response.body#{pointer}",
                                learned=True,
                            ),
                        )

    def may_give(self, source: str) -> bool:
        """Whether an operation may be called to learn from it."""
        operation = self.contract.operation(source)
        return operation is not None and (operation.safe or self.writing)

    def worked_before(self, source: str) -> bool:
        """Whether an operation was answered with success, so that something can be had from it."""
        progress = self.progresses.get(source)
        return progress is None or progress.outcome == WORKED

    def may_take(self, operation: Operation, source: str) -> bool:
        """Whether an operation may be tried on what a source gives: what changes or removes, on what the run
        created only.
        """
        given = self.contract.operation(source)
        return (
            operation.safe
            or operation.intent is Intent.CREATE
            or (given is not None and self.finder.resources.creates(given))
        )
