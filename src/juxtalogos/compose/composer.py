"""Composing: a contract -> a suite. A case per operation with all that it needs before it, and a flow per
resource.

The same contract, and the same that is known of it, gives the same document: nothing here is random or takes
the time.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any

from juxtalogos.compose.drafting import UNDOING, CaseDraft, Drafter, gone
from juxtalogos.compose.outlines import Rows
from juxtalogos.compose.provoking import UNKNOWN, fault_checks, provocations
from juxtalogos.compose.relating import Dependency
from juxtalogos.compose.requests import sample_inputs, tried_alone
from juxtalogos.compose.resources import Resources
from juxtalogos.compose.standing import NOTHING_STANDS, Standing
from juxtalogos.compose.values import Filled, RequestValues
from juxtalogos.conventions.naming import singular, words_of
from juxtalogos.model.contract import Contract, DeclaredAnswer, Intent, Operation
from juxtalogos.model.danger import Danger
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.document.building import cases_in
from juxtalogos.suite.document.writer import document_of, slug
from juxtalogos.workspace.known import NO_HINTS, Hints

WITHHELD = {
    Danger.DESTROYS: "it would destroy what the run did not make",
    Danger.SWITCHES: "it switches the service for everybody",
    Danger.OTHERS: "it reaches people or systems beyond the service",
}
"""Why no case is made of an operation unasked, by its danger."""


@dataclass(frozen=True, slots=True)
class ComposeScope:
    """What is composed."""

    hints: Hints = NO_HINTS
    destructive: bool = False
    """Whether operations that destroy what the run did not make are composed too."""
    only_reading: bool = False
    operations: frozenset[str] | None = None
    """Ids of the operations that cases are about; None: all."""
    only_bare: bool = False
    """Whether there is one case an operation, with only what is required, and no flow."""
    only_full: bool = False
    """The same with everything that there is a source for."""
    strict_clean: bool = False
    """Whether what creates something that nothing removes is left out."""
    standing: Standing = NOTHING_STANDS
    keeping: frozenset[str] = frozenset()
    """Ids of operations whose items stay for later cases, where the case makes nothing else."""
    anew: frozenset[str] = frozenset()
    """Ids of operations that are called with nothing that stands already."""


@dataclass(slots=True)
class Composed:
    document: dict[str, Any]
    cases: int
    left_out: list[tuple[str, str]] = field(default_factory=list)
    """(operation, why no case could be made)."""
    subjects: list[Operation] = field(default_factory=list)
    """The operation that each case is about."""
    withheld: list[tuple[str, str]] = field(default_factory=list)
    """(operation, why no case was made though one could be)."""
    lasting: list[str] = field(default_factory=list)
    """Operations that create what nothing in the contract removes."""
    stands_on: dict[str, frozenset[str]] = field(default_factory=dict)
    """By operation those that stand already and whose values its case takes."""
    kept: frozenset[str] = frozenset()
    """The operations whose items stay."""
    cramped: dict[str, int] = field(default_factory=dict)
    """By operation and input, of how many names of the run's own its schema leaves room, where that is for
    few."""


def compose(
    contract: Contract,
    dependencies: Iterable[Dependency],
    source_url: str,
    scope: ComposeScope | None = None,
    resources: Resources | None = None,
) -> Composed:
    """The suite of a contract: a case per operation, and a flow per resource. `resources`: the contract's,
    where they are at hand.
    """
    scope = scope or ComposeScope()
    composer = _Composer(
        contract, list(dependencies), scope, resources or Resources(contract, Rows(contract))
    )
    cases: list[dict[str, Any]] = []
    found = Composed({}, 0)
    for operation in contract.operations:
        if scope.operations is not None and operation.id not in scope.operations:
            continue
        why = composer.withheld(operation)
        if scope.strict_clean and composer.lasts(operation):
            why = why or "no operation of the contract removes what it creates"
        if why:
            found.withheld.append((operation.id, why))
            continue
        try:
            cases += composer.cases_of(operation)
            found.subjects += [operation] * (len(cases) - len(found.subjects))
        except Unsampleable as error:
            found.left_out.append((operation.id, error.what))
    for create in (
        contract.operations if not (scope.only_bare or scope.only_full or scope.only_reading) else ()
    ):
        try:
            cases += composer.flow(create)
            found.subjects += [create] * (len(cases) - len(found.subjects))
        except Unsampleable as error:
            found.left_out.append((f"the flow of {create.id}", error.what))
    found.document, found.cases, found.cramped = (
        document_of(contract, source_url, cases),
        len(cases),
        composer.values.cramped,
    )
    found.stands_on, found.kept = composer.stands_on, frozenset(composer.kept)
    made = {subject.id for subject in found.subjects}
    found.lasting = [
        candidate.id
        for candidate in contract.operations
        if candidate.id in made and composer.lasts(candidate)
    ]
    return found


def by_folder(
    contract: Contract, composed: Composed, url_of: Callable[[str], str]
) -> dict[str, dict[str, Any]]:
    """Suites by name, in folders that mirror the definition: by the group of what a case is about."""
    found: dict[str, list[dict[str, Any]]] = {}
    for case, operation in zip(cases_in(composed.document), composed.subjects):
        found.setdefault(f"{contract.name}/{slug(operation.group) or 'root'}", []).append(case)
    return {name: document_of(contract, url_of(name), cases) for name, cases in found.items()}


class _Composer:
    def __init__(
        self, contract: Contract, dependencies: list[Dependency], scope: ComposeScope, resources: Resources
    ) -> None:
        self.contract, self.scope = contract, scope
        self.rows, self.resources = resources.rows, resources
        self.values = RequestValues(
            contract,
            self.rows,
            resources,
            scope.hints,
            frozenset((dependency.operation, dependency.input) for dependency in dependencies),
        )
        self.drafter = Drafter(
            contract, self.rows, resources, self.values, dependencies, standing=scope.standing
        )
        self.names: dict[str, int] = {}
        self.stands_on: dict[str, frozenset[str]] = {}
        self.kept: set[str] = set()

    def lasts(self, operation: Operation) -> bool:
        """Whether it creates what nothing in the contract removes."""
        return self.resources.creates(operation) and not self.drafter.undoes(operation)

    def withheld(self, operation: Operation) -> str:
        """Why no case is made of an operation; empty where one is."""
        if self.scope.only_reading and not self.reads(operation):
            return "it changes data"
        if self.scope.destructive or self.empties_own(operation):
            return ""
        if operation.danger.withheld:
            return WITHHELD[operation.danger]
        if operation.intent is Intent.EMPTY:
            return WITHHELD[Danger.DESTROYS]
        if (
            operation.intent is Intent.UNKNOWN
            and not operation.safe
            and not self.named_by_its_answer(operation)
        ):
            return "its effect is unknown: juxtalogos rules OPERATION --does WORD"
        resource = self.resources.of(operation)
        if operation.intent is Intent.DELETE and (
            resource is None
            or (not self.resources.creators(resource) and not self.names_own(operation))
            or self.names_others(operation)
        ):
            return WITHHELD[Danger.DESTROYS]
        return ""

    def names_own(self, operation: Operation) -> bool:
        """Whether all that its address names comes from what the run creates."""
        named = {one.address for one in operation.inputs if one.identifies}
        made = {
            need.input
            for need in self.drafter.needs.get(operation.id, ())
            if (source := self.contract.operation(need.source)) is not None and self.resources.creates(source)
        }
        return bool(named) and named <= made

    def empties_own(self, operation: Operation) -> bool:
        """Whether it empties what lies below an item, and the run makes that item itself."""
        told = self.scope.hints.means(operation.id)
        return operation.intent is Intent.EMPTY and not told and self.names_own(operation)

    def named_by_its_answer(self, operation: Operation) -> bool:
        """Whether an operation is called after what it answers with (`tideGate`): then it has no verb, and
        gives what is asked for.
        """
        told = {
            word
            for row in self.rows.answered(operation)
            if row.depth
            for word in words_of(f"{row.name} {row.shared}")
        }
        first = words_of(operation.id.rpartition(".")[2])[:1]
        return any(word in told or singular(word) in told for word in first)

    def names_others(self, operation: Operation) -> bool:
        """Whether what it would work on comes from where the run created nothing; what a person has written
        is meant so.
        """
        for need in self.drafter.needs.get(operation.id, ()):
            source = self.contract.operation(need.source)
            if (
                need.reason != "configured"
                and source is not None
                and not self.resources.creates(source)
                and any(
                    declared_input.address == need.input and declared_input.identifies == operation.resource
                    for declared_input in operation.inputs
                )
            ):
                return True
        return False

    def reads(self, operation: Operation) -> bool:
        """Whether an operation, and all that gives what it needs, only reads."""
        waiting, seen = [operation], set()
        while waiting:
            one = waiting.pop()
            if not one.safe:
                return False
            seen.add(one.id)
            sources = (self.contract.operation(need.source) for need in self.drafter.needs.get(one.id, ()))
            waiting += [source for source in sources if source is not None and source.id not in seen]
        return True

    def cases_of(self, operation: Operation) -> list[dict[str, Any]]:
        """With everything filled in; where that differs, with only what is required; and with each input that
        is tried by itself.
        """
        bare, summary, name = self.values.of(operation), operation.summary or operation.id, slug(operation.id)
        if self.scope.only_bare:
            return [self.case(operation, bare, name, summary)]
        whole = self.values.of(operation, full=True)
        if self.scope.only_full:
            return [self.case(operation, whole, name, summary)]
        found = [self.case(operation, whole, name, summary)]
        if bare.inputs != whole.inputs:
            found.append(
                self.case(operation, bare, f"{name}-required-only", f"{summary}: only what is required")
            )
        for one, inputs in tried_alone(self.contract, operation, bare.inputs):
            filled = self.values.completed(operation, inputs)
            found.append(self.case(operation, filled, f"{name}-{slug(one.name)}", f"{summary}: {one.name}"))
        needs = self.drafter.needs.get(operation.id, ())
        return found + [
            self.fault_case(*provoked)
            for provoked in provocations(self.contract, operation, bare.inputs, needs)
        ]

    def fault_case(
        self, operation: Operation, inputs: Inputs, answer: DeclaredAnswer, why: str
    ) -> dict[str, Any]:
        """A call that promises a declared fault, and the check that it is that one."""
        draft = CaseDraft()
        returned = self.drafter.wire.returned(answer)
        self.drafter.add(draft, operation, Filled(inputs), condition=returned, link=why != UNKNOWN)
        draft.steps[-1].check(fault_checks(self.contract, operation, answer))
        self.drafter.clean_up(draft)
        name = f"{slug(operation.id)}-fault-{slug(answer.fault)}"
        return draft.composed(
            self.unique(name),
            summary=f"{operation.summary or operation.id}: the fault {answer.fault}, by {why}",
        )

    def case(self, operation: Operation, filled: Filled, name: str, summary: str) -> dict[str, Any]:
        draft = CaseDraft(anew=operation.id in self.scope.anew)
        if not (self.changes_others(operation) and self.drafter.put_back(draft, operation, filled)):
            self.drafter.add(draft, operation, filled)
        self.stands_on[operation.id] = frozenset(draft.stands_on)
        if operation.id in self.scope.keeping and [one.id for one, _ in draft.created] == [operation.id]:
            self.kept.add(operation.id)
        else:
            self.drafter.clean_up(draft)
        draft.alone = draft.alone or operation.danger.withheld or operation.intent is Intent.EMPTY
        return draft.composed(self.unique(name), summary=summary)

    def changes_others(self, operation: Operation) -> bool:
        """Whether it changes what the run cannot have made: a thing of which there is one, or an item that
        nothing creates.
        """
        resource = self.resources.of(operation)
        if resource is None or operation.intent not in (Intent.REPLACE, Intent.UPDATE):
            return False
        return not self.resources.creators(resource) or self.names_others(operation)

    def unique(self, name: str) -> str:
        self.names[name] = self.names.get(name, 0) + 1
        return name if self.names[name] == 1 else f"{name}-{self.names[name]}"

    def change_of(self, operation: Operation) -> Filled | None:
        """Inputs that change something, where none of them is required; None where what is required does."""
        if self.values.of(operation).inputs.body != {}:
            return None
        return self.values.completed(operation, sample_inputs(self.contract, operation, full=True, seed=1))

    def flow(self, create: Operation) -> list[dict[str, Any]]:
        """Create, read, list, update, read, delete, and read what is gone, as far as the
        contract has them.
        """
        resource = self.resources.of(create)
        if (
            self.scope.operations is not None
            or resource is None
            or not resource.items
            or not self.resources.creates(create)
        ):
            return []
        items = {
            candidate.intent: candidate
            for candidate in reversed(resource.operations)
            if candidate.id in resource.items and candidate is not create
        }
        if not any(
            need.source == create.id
            for item in items.values()
            for need in self.drafter.needs.get(item.id, ())
        ):
            return []  # the collection has another operation that adds to it
        draft, add = CaseDraft(), self.drafter.add
        add(draft, create, self.values.of(create, full=True))
        listing = next(iter(resource.of(Intent.LIST)), None)
        read, delete = items.get(Intent.READ), items.get(Intent.DELETE)
        changes = [items[intent] for intent in (Intent.REPLACE, Intent.UPDATE) if intent in items]
        for operation in (read, listing, *changes):
            if operation and not self.withheld(operation):
                add(draft, operation, self.change_of(operation) if operation in changes else None)
        if changes and read:
            add(draft, read)
        if delete:
            removed = add(draft, delete, role=UNDOING)
            condition = gone(self.drafter.wire, read) if read else ""
            if read and condition and draft.step(removed):
                add(draft, read, condition=condition)
        self.drafter.clean_up(draft)
        name = slug(resource.key.strip("/").replace("/{}", "").replace("/", "-")) or "root"
        return [
            draft.composed(self.unique(f"flow-{name}"), summary=f"the life of one item of {resource.key}")
        ]
