"""A case under construction: steps added with all that they need before them, and with what undoes them
behind.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from juxtalogos.compose.dependencies import ITSELF
from juxtalogos.compose.outlines import Rows, main_schema, success_answer
from juxtalogos.compose.relating import Dependency
from juxtalogos.compose.resources import Resources
from juxtalogos.compose.standing import NOTHING_STANDS, Standing, made_anew
from juxtalogos.compose.turns import creates_in_turn
from juxtalogos.compose.values import Filled, RequestValues, input_name
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract, Intent, Operation
from juxtalogos.model.location import split_pointer
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs, Wire
from juxtalogos.suite.comparing import leaves
from juxtalogos.suite.document.building import SEGMENT, CaseBuilder
from juxtalogos.suite.inputs import has_place, with_values


@dataclass(slots=True)
class CaseDraft(CaseBuilder):
    """A case under construction, with what its steps created and changed so far."""

    by_operation: dict[str, str] = field(default_factory=dict)
    """Operation -> the step that calls it."""
    created: list[tuple[Operation, str]] = field(default_factory=list)
    stale: set[str] = field(default_factory=set)
    """Operations that read what has been changed since."""
    undone: set[str] = field(default_factory=set)
    """Steps that created what is removed at the end."""
    anew: bool = False
    """Whether all that it needs is made in it, whatever stands already."""
    made_anew: set[str] = field(default_factory=set)
    """Operations that give what steps of it change: their items are made in it."""
    stands_on: set[str] = field(default_factory=set)
    """Operations that were called before it began, and whose values it takes."""

    def put_out(self, step_id: str, value: str) -> str:
        """The expression for a value of an earlier step, made an output of it."""
        return self.step(step_id).output(value)


OWN, NEEDED, UNDOING = "own", "needed", "undoing"


class Drafter:
    """Adds steps to drafts of one contract."""

    def __init__(
        self,
        contract: Contract,
        rows: Rows,
        resources: Resources,
        values: RequestValues,
        needs: Iterable[Dependency],
        standing: Standing = NOTHING_STANDS,
    ) -> None:
        self.standing = standing
        self.contract, self.rows, self.resources, self.values = contract, rows, resources, values
        self.wire = wire_of(contract)
        self.needs: dict[str, list[Dependency]] = {}
        for dependency in needs:
            self.needs.setdefault(dependency.operation, []).append(dependency)

    def add(
        self,
        draft: CaseDraft,
        operation: Operation,
        filled: Filled | None = None,
        *,
        role: str = OWN,
        above: tuple[str, ...] = (),
        condition: str = "",
        link: bool = True,
        made_by: Operation | None = None,
        body: Any = ABSENT,
    ) -> str:
        """Adds a step, and before it the steps that give what it needs; gives its stepId.

        `made_by`: what made the item that it is about; `body`: an expression in place of its body; without
        `link` nothing
        comes from other steps.
        """
        filled, given = filled or self.values.of(operation), bool(condition)
        values = self._linked(draft, operation, filled, role, above, made_by) if link else {}
        for before in operation.after if role != UNDOING else ():
            earlier = self.contract.operation(before)
            if earlier is not None and before not in draft.by_operation and before not in above:
                self.add(draft, earlier, role=NEEDED, above=(*above, operation.id), made_by=made_by)
        step_id = draft.new_id(operation)
        for address, formula in filled.formulas:
            if address not in values and (body is ABSENT or not address.startswith("body")):
                values[address] = draft.input(input_name(step_id, address), formula)
        inputs = with_values(filled.inputs, values)
        if body is not ABSENT:
            inputs = Inputs(inputs.values, body, inputs.content_type)
        if not condition and role == UNDOING and body is ABSENT:
            condition = self.wire.condition(operation, Outcome.SUCCEEDED, Outcome.ABSENT, left_open=True)
        elif not condition:
            condition = self.wire.condition(operation, Outcome.SUCCEEDED)
        known = {f"$inputs.{input_name(step_id, at)}" for at in filled.known}
        presumed = role == UNDOING or (not given and is_made_up(inputs, known))
        step = draft.add(operation, step_id, inputs, [condition], undoes=role == UNDOING, presumed=presumed)
        if role == NEEDED:
            step.mark_needed()
        resource = self.resources.of(operation)
        if role != UNDOING and resource is not None and self.resources.creates(operation):
            made = [one for _, one in draft.created]
            if creates_in_turn(
                operation, resource, inputs, dict(filled.formulas), self.values.hints.known, made
            ):
                draft.take_turns(operation.resource or operation.noun)
        self._note(draft, operation, step_id, role)
        return step_id

    def _linked(
        self,
        draft: CaseDraft,
        operation: Operation,
        filled: Filled,
        role: str,
        above: tuple[str, ...],
        made_by: Operation | None,
    ) -> dict[str, str]:
        """By address the expressions for what comes from other steps, which are added where they are not
        there yet.
        """
        values: dict[str, str] = {}
        draft.made_anew |= made_anew(operation, self.needs.get(operation.id, ()))
        for need in self.needs.get(operation.id, ()):
            if need.input in filled.known or not self._wanted(operation, filled.inputs, need):
                continue
            if need.reason == ITSELF and not has_place(filled.inputs.body, need.input[4:]):
                continue
            source = self.contract.operation(need.source)
            if source is None or need.source in above or need.source == operation.id:
                continue
            value = need.value
            if made_by and source is not made_by and self._makes_same(source, made_by):
                source = made_by
            standing = self._standing(draft, operation, need, source)
            if standing is not ABSENT:
                values[need.input] = standing
                continue
            step = draft.by_operation.get(source.id)
            if step is None or (source.id in draft.stale and value.startswith("$response.header.")):
                if role == UNDOING and not source.safe:
                    continue  # nothing is made in order to undo
                step = self.add(
                    draft,
                    source,
                    role=UNDOING if role == UNDOING else NEEDED,
                    above=(*above, operation.id),
                    made_by=made_by,
                )
            values[need.input] = draft.put_out(step, value)
        return values

    def _standing(self, draft: CaseDraft, operation: Operation, need: Dependency, source: Operation) -> Any:
        """The value of an item that stands already; ABSENT where a step of the case is to give it: what is
        changed, versions, and what belongs to an item that the case makes.
        """
        anew = draft.made_anew | draft.by_operation.keys()
        if (
            draft.anew
            or source.id in anew
            or need.reason == ITSELF
            or (need.value.startswith("$response.header.") and SEGMENT not in need.value)
            or not anew.isdisjoint(self.standing.bases(source.id))
        ):
            return ABSENT
        value = self.standing.value(source.id, need.value)
        if value is not ABSENT:
            draft.stands_on.add(source.id)
        return value

    def _wanted(self, operation: Operation, inputs: Inputs, need: Dependency) -> bool:
        """Whether an input is sent, or would be: nothing optional is made only to hold what is linked."""
        address = need.input
        if need.optional:
            return address in inputs.values or (
                address.startswith("body") and has_place(inputs.body, address[4:])
            )
        if address.startswith("body"):
            return has_place(inputs.body, address[4:].rpartition("/")[0])
        return address in inputs.values or any(
            declared_input.required or declared_input.usual
            for declared_input in operation.inputs
            if declared_input.address == address
        )

    def _makes_same(self, source: Operation, made_by: Operation) -> bool:
        """Whether both add to one collection, so that either gives what is needed."""
        resource = self.resources.of(source)
        return (
            resource is not None and resource is self.resources.of(made_by) and self.resources.creates(source)
        )

    def _note(self, draft: CaseDraft, operation: Operation, step_id: str, role: str) -> None:
        if operation.intent is Intent.READ:
            draft.by_operation[operation.id] = step_id
            draft.stale.discard(operation.id)
        draft.by_operation.setdefault(operation.id, step_id)
        resource = self.resources.of(operation)
        if resource is None:
            return
        if not operation.safe and (operation.id in resource.items or not resource.items):
            draft.stale.update(candidate.id for candidate in resource.of(Intent.READ))
        if role == UNDOING and operation.intent is Intent.DELETE:
            sent = str(draft.step(step_id))
            draft.undone.update(
                one
                for create, one in draft.created
                if self.resources.of(create) is resource and f"$steps.{one}." in sent
            )
        if role != UNDOING and self.resources.creates(operation):
            draft.created.append((operation, step_id))
            self._mark_creation(draft, operation, step_id)

    def _mark_creation(self, draft: CaseDraft, operation: Operation, step_id: str) -> None:
        """How it shows what it created, and where that would have been listed before, had it been there."""
        resource = self.resources.of(operation)
        deleter = self.resources.deleter(resource) if resource else None
        about = (
            [
                *([deleter] if deleter else []),
                *(candidate for candidate in resource.operations if candidate.id in resource.items),
            ]
            if resource
            else []
        )
        need = next(
            (
                need
                for candidate in about
                for need in self.needs.get(candidate.id, ())
                if need.source == operation.id
            ),
            None,
        )
        if need is None or resource is None or SEGMENT in need.value:
            return
        key = draft.put_out(step_id, need.value)
        sent = {declared_input.address for declared_input in operation.inputs}
        listing = next(
            (
                candidate
                for candidate in resource.of(Intent.LIST)
                if all(given.address in sent for given in candidate.inputs if given.required)
                and not self._needs_body(candidate)
            ),
            None,
        )
        selector = self._listed(listing, resource.noun, need) if listing is not None else ""
        draft.step(step_id).creates(key, listing, selector)

    def _needs_body(self, operation: Operation) -> bool:
        """Whether something in its body comes from elsewhere."""
        return any(
            need.input.startswith("body") and not need.optional for need in self.needs.get(operation.id, ())
        )

    def _listed(self, listing: Operation, noun: str, need: Dependency) -> str:
        """A selector of the keys of all items in a list's answer; empty where they stand nowhere."""
        name = re.split(r"[/.:]", need.value)[-1]
        row = next(
            (
                line
                for line in self.rows.answered(listing)
                if line.scalar and line.name == name and "/0" in line.path
            ),
            None,
        )
        answer = success_answer(listing)
        ref = main_schema(answer.media) if answer else None
        if row is None or ref is None:
            return ""
        selected = wire_of(self.contract).selector(listing, ref, row.path)
        return selected if selected is not None else json_path_of(row.path)

    def clean_up(self, draft: CaseDraft) -> None:
        """Deletes what the case created, newest first; not where the case itself has
        deleted it with success.
        """
        for create, step_id in reversed(list(draft.created)):
            if step_id in draft.undone:
                continue
            resource = self.resources.of(create)
            deleter = self.resources.deleter(resource) if resource else None
            if deleter is None or not self._can_undo(draft, deleter, create):
                continue
            deleting = draft.by_operation.get(deleter.id)
            own = [step.id for step in draft.steps if step.id == deleting and not step.undoes]
            draft.by_operation[create.id] = step_id
            added = self.add(draft, deleter, role=UNDOING, made_by=create)
            if own:
                draft.step(added).undo_unless(own[0])

    def _can_undo(self, draft: CaseDraft, deleter: Operation, create: Operation) -> bool:
        """Whether all that names the item is known in the draft, and by what created it."""
        needs = self.needs.get(deleter.id, ())
        gives = False
        for need in needs:
            source = self.contract.operation(need.source)
            if source is None:
                return False
            if need.optional:
                continue
            if need.input.startswith("header.") and source.safe:
                continue  # a version, which is read when it is wanted
            if source.id == create.id or self._makes_same(source, create):
                gives = True
            elif source.id not in draft.by_operation and source.id not in draft.stands_on:
                return False
        return gives

    def put_back(self, draft: CaseDraft, operation: Operation, filled: Filled) -> bool:
        """Reads what is there, lets the operation change it, and writes it back as it was; False where that
        cannot be done.
        """
        resource = self.resources.of(operation)
        read = next(iter(resource.of(Intent.READ, item=None)), None) if resource else None
        if read is None or operation.body is None:
            return False
        before = self.add(draft, read, role=NEEDED)
        whole = draft.put_out(before, "$response.body")
        present = self._as_read(draft, before, read, operation, whole)
        changed = self._one_member(operation, read, filled)
        shown = {row.name for row in self.rows.answered(read) if row.depth == 1 and row.required}
        if changed is None or (isinstance(present, dict) and not present.keys() <= shown):
            self.add(draft, operation, filled)  # what may be missing would leave nothing to send
        elif isinstance(present, dict):
            self.add(draft, operation, filled, body={**present, **changed})
        else:
            step = draft.step(self.add(draft, operation, filled, body=present))
            step.replace(changed)
        self.add(draft, operation, role=UNDOING, body=present)
        draft.alone = True
        return True

    def _one_member(self, operation: Operation, read: Operation, filled: Filled) -> dict[str, Any] | None:
        """The member to change, with its sample, of what is read and written: the rest keeps its present
        value. None where there is none, and where somebody, or the service, has said what is to be sent.
        """
        body = filled.inputs.body
        hints = self.values.hints
        told = any(address.startswith("body") for address in filled.known) or any(
            hints.leaves_out(operation.id, f"body{row.path}") or hints.sends(operation.id, f"body{row.path}")
            for row in self.rows.sent(operation)
        )
        if told or not isinstance(body, dict) or not self._is_value(read):
            return None
        shown = {row.name for row in self.rows.answered(read) if row.depth == 1}
        fit = [
            row
            for row in self.rows.sent(operation)
            if row.depth == 1 and row.scalar and not row.read_only and row.name in body and row.name in shown
        ]
        fit.sort(key=lambda row: (not row.type.startswith("string"), bool(row.allowed), row.required))
        return {fit[0].name: body[fit[0].name]} if fit else None

    def _is_value(self, read: Operation) -> bool:
        """Whether what is read is a value that is sent back as it is, and no XML under a name of its own."""
        answer = success_answer(read)
        ref = main_schema(answer.media) if answer else None
        return ref is not None and self.wire.selector(read, ref, "/value") is None

    def _as_read(
        self, draft: CaseDraft, step_id: str, read: Operation, operation: Operation, whole: str
    ) -> Any:
        """What was read, as the operation takes it: whole, or of it what may be sent."""
        leaves_out = self.values.hints.leaves_out
        sent = {
            row.name
            for row in self.rows.sent(operation)
            if row.depth == 1 and not leaves_out(operation.id, f"body{row.path}")
        }
        came = [row for row in self.rows.answered(read) if row.depth == 1]
        if not came or {row.name for row in came} <= sent:
            return whole
        fit = [row for row in came if row.name in sent]
        sure = [row for row in fit if row.required] or fit
        return {row.name: draft.put_out(step_id, f"$response.body#{row.path}") for row in sure}

    def undoes(self, operation: Operation) -> bool:
        """Whether what an operation creates can be removed again."""
        resource = self.resources.of(operation)
        return resource is not None and self.resources.deleter(resource) is not None


def json_path_of(pointer: str) -> str:
    """A JSONPath (RFC 9535) of a JSON Pointer, each first item standing for all of its list."""
    out = "$"
    for token in split_pointer(pointer):
        plain_name = re.fullmatch(r"[A-Za-z_]\w*", token) is not None
        out += (
            "[*]"
            if token == "0"
            else f".{token}"
            if plain_name
            else "['" + token.replace("\\", "\\\\").replace("'", "\\'") + "']"
        )
    return out


def is_made_up(inputs: Inputs, given: set[str]) -> bool:
    """Whether any value of a request is neither of another step nor known."""
    parts = [*inputs.values.values(), *([] if inputs.body is ABSENT else [inputs.body])]
    return any(
        not (isinstance(one, str) and (one.startswith("$steps.") or one in given))
        for part in parts
        for _, one in leaves(part)
    )


def gone(wire: Wire, read: Operation) -> str:
    """The condition that what was read does not exist any more, where it is declared how that is reported."""
    condition = wire.condition(read, Outcome.ABSENT)
    hidden = wire.condition(read, Outcome.FORBIDDEN) if condition else ""
    # That nothing is there may be hidden (RFC 9110, section 15.5.4).
    return " || ".join(filter(None, (condition, hidden)))
