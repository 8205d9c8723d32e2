"""Composing: a contract -> a suite. A case per operation with all that it needs before it, and a flow per resource.

The same contract gives the same document: nothing here is random or takes the time.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any

from juxtalogos.compose.dependencies import Dependency, success_answer
from juxtalogos.compose.provoking import UNKNOWN, fault_checks, provocations
from juxtalogos.compose.requests import named_anew, sample_inputs, tried_alone
from juxtalogos.model.contract import Contract, DeclaredAnswer, Intent, Operation
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.location import follow_pointer
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.document.writer import body_type, document_of, slug, step_document
from juxtalogos.suite.inputs import with_values


@dataclass(slots=True)
class Composed:
    document: dict[str, Any]
    cases: int
    left_out: list[tuple[str, str]] = field(default_factory=list)
    """(operation, why no case could be made)."""
    subjects: list[Operation] = field(default_factory=list)
    """The operation that each case is about."""


@dataclass(slots=True)
class _Draft:
    """A case under construction."""

    steps: list[dict[str, Any]] = field(default_factory=list)
    by_operation: dict[str, str] = field(default_factory=dict)
    """Operation -> the step that calls it."""
    created: list[tuple[Operation, str]] = field(default_factory=list)
    stale: set[str] = field(default_factory=set)
    """Operations that read what has been changed since."""


def compose(contract: Contract, dependencies: Iterable[Dependency], source_url: str) -> Composed:
    """The suite of a contract: a case per operation, and a flow per resource."""
    composer = _Composer(contract, list(dependencies))
    cases: list[dict[str, Any]] = []
    left_out: list[tuple[str, str]] = []
    subjects: list[Operation] = []
    for operation in contract.operations:
        try:
            cases += composer.cases_of(operation)
            subjects += [operation] * (len(cases) - len(subjects))
        except Unsampleable as error:
            left_out.append((operation.id, error.what))
    for create in contract.operations:
        try:
            cases += composer.flow(create)
            subjects += [create] * (len(cases) - len(subjects))
        except Unsampleable as error:
            left_out.append((f"the flow of {create.id}", error.what))
    return Composed(document_of(contract, source_url, cases), len(cases), left_out, subjects)


def by_folder(contract: Contract, composed: Composed, url_of: Callable[[str], str]) -> dict[str, dict[str, Any]]:
    """Suites by name, in folders that mirror the definition: by the group of what a case is about."""
    found: dict[str, list[dict[str, Any]]] = {}
    for case, operation in zip(composed.document["workflows"], composed.subjects):
        found.setdefault(f"{contract.name}/{slug(operation.group) or 'root'}", []).append(case)
    return {name: document_of(contract, url_of(name), cases) for name, cases in found.items()}


class _Composer:
    def __init__(self, contract: Contract, dependencies: list[Dependency]) -> None:
        self.contract = contract
        self.needs: dict[str, list[Dependency]] = {}
        for one in dependencies:
            self.needs.setdefault(one.operation, []).append(one)
        self.by_resource: dict[tuple[str, bool], list[Operation]] = {}
        for operation in contract.operations:
            if operation.resource:
                self.by_resource.setdefault((operation.resource, operation.on_item), []).append(operation)
        self.names: dict[str, int] = {}
        self.made = 0
        """How many steps so far name what they make."""
        self.samples: dict[tuple[str, bool], Inputs] = {}

    def sample(self, operation: Operation, *, full: bool = False) -> Inputs:
        """Valid inputs, made once; whoever puts values into them does so in a copy (`with_values`)."""
        key = operation.id, full
        if key not in self.samples:
            self.samples[key] = sample_inputs(self.contract, operation, full=full)
        return self.samples[key]

    def cases_of(self, operation: Operation) -> list[dict[str, Any]]:
        """With everything filled in; where that differs, with only what is required; and with each input that is tried by itself."""
        whole, bare = self.sample(operation, full=True), self.sample(operation)
        summary = operation.summary or operation.id
        found = [self.case(operation, whole, slug(operation.id), summary)]
        if bare != whole:
            found.append(
                self.case(operation, bare, f"{slug(operation.id)}-required-only", f"{summary}: only what is required")
            )
        for one, inputs in tried_alone(self.contract, operation, bare):
            found.append(
                self.case(operation, inputs, f"{slug(operation.id)}-{slug(one.name)}", f"{summary}: {one.name}")
            )
        return found + [
            self.fault_case(*provoked)
            for provoked in provocations(self.contract, operation, bare, self.needs.get(operation.id, ()))
        ]

    def fault_case(self, operation: Operation, inputs: Inputs, answer: DeclaredAnswer, why: str) -> dict[str, Any]:
        """A call that promises a declared fault, and the check that it is that one."""
        draft = _Draft()
        # In most protocols a fault comes with an error status; where it does not, its declaration says so.
        refused = f"$statusCode == {answer.status}" if answer.status.startswith("2") else "$statusCode >= 400"
        self.add(draft, operation, inputs, (), status=refused, link=why != UNKNOWN)
        checks = fault_checks(self.contract, operation, answer)
        if checks:
            draft.steps[-1]["x-juxtalogos-checks"] = checks
        self.clean_up(draft)
        name = f"{slug(operation.id)}-fault-{slug(answer.fault)}"
        summary = f"{operation.summary or operation.id}: the fault {answer.fault}, by {why}"
        return {"workflowId": self.unique(name), "summary": summary, "steps": draft.steps}

    def case(self, operation: Operation, inputs: Inputs, name: str, summary: str) -> dict[str, Any]:
        draft = _Draft()
        self.add(draft, operation, inputs, ())
        self.clean_up(draft)
        return {"workflowId": self.unique(name), "summary": summary, "steps": draft.steps}

    def unique(self, name: str) -> str:
        self.names[name] = self.names.get(name, 0) + 1
        return name if self.names[name] == 1 else f"{name}-{self.names[name]}"

    def add(
        self,
        draft: _Draft,
        operation: Operation,
        inputs: Inputs | None,
        above: tuple[str, ...],
        *,
        always: bool = False,
        status: str = "",
        link: bool = True,
        made_by: Operation | None = None,
    ) -> str:
        """Adds a step, and before it the steps that give what it needs; gives its stepId. `made_by`: what made the item that it is about."""
        if inputs is None:
            inputs = self.sample(operation)
        if operation.names:
            self.made += 1
            inputs = named_anew(self.contract, operation, inputs, self.made)
        values: dict[str, Any] = {}
        for need in self.needs.get(operation.id, ()) if link else ():
            if need.input.startswith("body") and not _has_place(inputs.body, need.input):
                continue
            source = self.contract.operation(need.source)
            if source is None or need.source in above or need.source == operation.id:
                continue
            if made_by and source.intent is Intent.CREATE and source.resource == made_by.resource:
                source = made_by
            step = draft.by_operation.get(source.id)
            if step is None or (source.id in draft.stale and need.value.startswith("$response.header.")):
                step = self.add(draft, source, None, (*above, operation.id), always=always, made_by=made_by)
            values[need.input] = self.output(draft, step, need)
        for before in operation.after:
            earlier = self.contract.operation(before)
            if earlier is not None and before not in draft.by_operation and before not in above:
                self.add(draft, earlier, None, (*above, operation.id), made_by=made_by)
        step_id = self.step_id(draft, operation)
        declared = body_type(operation, inputs)
        draft.steps.append(
            step_document(
                operation,
                step_id,
                with_values(inputs, values),
                declared,
                always=always,
                criteria=[{"condition": status or success_condition(operation)}],
            )
        )
        if operation.intent is Intent.READ:
            draft.by_operation[operation.id] = step_id
            draft.stale.discard(operation.id)
        draft.by_operation.setdefault(operation.id, step_id)
        if operation.on_item and not operation.safe:
            items = self.by_resource.get((operation.resource, True), ())
            draft.stale.update(one.id for one in items if one.intent is Intent.READ)
        if operation.intent is Intent.CREATE and not always:
            draft.created.append((operation, step_id))
        return step_id

    def output(self, draft: _Draft, step_id: str, need: Dependency) -> str:
        """The expression for a value of an earlier step, made an output of it."""
        step = next(step for step in draft.steps if step["stepId"] == step_id)
        value: Any = need.value
        if not value.startswith("$"):
            value = {"context": "$response.body", "type": "xpath", "selector": need.value}
        outputs: dict[str, Any] = step.setdefault(
            "outputs" if need.value.startswith("$") else "x-juxtalogos-outputs", {}
        )
        for name, known in outputs.items():
            if known == value:
                return f"$steps.{step_id}.outputs.{name}"
        name = slug(re.split(r"[./#:]", need.value)[-1]) or "value"
        if name in outputs:
            name = f"{name}-{len(outputs) + 1}"
        outputs[name] = value
        return f"$steps.{step_id}.outputs.{name}"

    @staticmethod
    def step_id(draft: _Draft, operation: Operation) -> str:
        taken = {step["stepId"] for step in draft.steps}
        base = slug(operation.id)
        name, number = base, 2
        while name in taken:
            name, number = f"{base}-{number}", number + 1
        return name

    def clean_up(self, draft: _Draft) -> None:
        """Deletes what the case created, newest first, unless the case deletes it itself."""
        for create, _ in reversed(list(draft.created)):
            delete = self.deleter(create)
            if (
                delete
                and delete.id not in draft.by_operation
                and any(self.gives(create, need) for need in self.needs.get(delete.id, ()))
            ):
                self.add(draft, delete, None, (), always=True, made_by=create)

    def gives(self, create: Operation, need: Dependency) -> bool:
        """Whether a need is met by what an operation creates: itself, or another one that adds to the same collection."""
        source = self.contract.operation(need.source)
        return source is not None and source.intent is Intent.CREATE and source.resource == create.resource

    def deleter(self, create: Operation) -> Operation | None:
        return self.items_of(create).get(Intent.DELETE)

    def change_of(self, operation: Operation) -> Inputs | None:
        """Inputs that change something, where none of them is required; None where what is required does."""
        if self.sample(operation).body != {}:
            return None
        return sample_inputs(self.contract, operation, full=True, seed=1)

    def items_of(self, create: Operation) -> dict[Intent, Operation]:
        """The operations on one item of the collection that `create` adds to."""
        return {
            operation.intent: operation for operation in reversed(self.by_resource.get((create.resource, True), ()))
        }

    def flow(self, create: Operation) -> list[dict[str, Any]]:
        """Create, read, list, update, read, delete, and read what is gone, as far as the contract has them."""
        items = self.items_of(create)
        if create.intent is not Intent.CREATE or not items:
            return []
        if not any(need.source == create.id for item in items.values() for need in self.needs.get(item.id, ())):
            return []  # the collection has another operation that adds to it
        draft = _Draft()
        self.add(draft, create, self.sample(create, full=True), ())
        collection = self.by_resource.get((create.resource, False), ())
        listing = next((operation for operation in collection if operation.intent is Intent.LIST), None)
        read, delete = items.get(Intent.READ), items.get(Intent.DELETE)
        changes = [items[intent] for intent in (Intent.REPLACE, Intent.UPDATE) if intent in items]
        for operation in (read, listing, *changes):
            if operation:
                self.add(draft, operation, self.change_of(operation) if operation in changes else None, ())
        if changes and read:
            self.add(draft, read, None, ())
        if delete:
            self.add(draft, delete, None, (), always=True)
            gone = read and _gone(read)
            if read and gone:
                self.add(draft, read, None, (), status=gone)
        self.clean_up(draft)
        name = slug(create.resource.strip("/").replace("/", "-")) or "root"
        return [
            {
                "workflowId": self.unique(f"flow-{name}"),
                "summary": f"the life of one item of {create.resource}",
                "steps": draft.steps,
            }
        ]


def _has_place(body: Any, address: str) -> bool:
    """Whether what an input of the body lies in is there: nothing optional is made only to hold it."""
    if body is ABSENT:
        return False
    above = address[4:].rpartition("/")[0]
    try:
        return follow_pointer(body, above) is not None
    except (LookupError, ValueError):
        return False


def _gone(read: Operation) -> str:
    """The condition that what was read is not there any more, where it is declared how that is told."""
    declared = {answer.status for answer in read.answers}
    for status in ("404", "410"):
        if status in declared:
            return f"$statusCode == {status}"
    return "$statusCode == 404 || $statusCode == 410" if "4XX" in declared else ""


def success_condition(operation: Operation) -> str:
    """Any success where success is declared by code; a declared redirect where only that is."""
    answer = success_answer(operation)
    declared = [one.status for one in operation.answers]
    redirect = next((status for status in declared if status.isdigit() and status.startswith("3")), "")
    if answer is None and redirect and "default" not in declared:
        return f"$statusCode == {redirect}"
    return "$statusCode >= 200 && $statusCode < 300"
