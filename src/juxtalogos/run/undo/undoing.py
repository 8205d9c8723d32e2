"""What a case has to undo, kept in the ledger from before it is asked for until it is done."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from juxtalogos.ledger import UndoRecord
from juxtalogos.run.engine.step import CaseState, inputs_of
from juxtalogos.run.undo.created import KEY, PutUndo, asked_of, undo_record
from juxtalogos.suite.language.expressions import Scope, evaluate, parse_expression
from juxtalogos.suite.language.formulas import uses
from juxtalogos.suite.model import Case, Step


async def nowhere(record: UndoRecord) -> UndoRecord:
    """Keeps nothing: for cases that are not recorded."""
    return record


def needless(state: CaseState, step: Step) -> bool:
    """Whether a clean-up step has nothing to undo: that was done already, or what it would remove was there
    before.
    """
    if not step.always:
        return False
    read = {text.split(".")[1] for _, text in step.flows if text.startswith("$steps.")}
    return bool(set(step.unless) & state.succeeded) or any(state.created.get(name) is False for name in read)


@dataclass(slots=True)
class Undoing:
    """Of one walk."""

    target: str
    put: PutUndo
    carried: Mapping[tuple[tuple[str, str], str], tuple[str, ...]] = field(default_factory=dict)
    """By case and operation that creates: the texts of this run that the response showed."""
    waiting: dict[str, UndoRecord] = field(default_factory=dict)
    """By clean-up step what is to be undone, as it was kept."""

    async def intended(
        self, state: CaseState, case: Case, steps: Sequence[Step], step: Step
    ) -> list[UndoRecord]:
        """Before something is created: what would undo it, as far as that is known."""
        if step.creates is None:
            return []
        missing: list[str] = []
        inputs = inputs_of(step, state.scope, missing)
        if missing:
            return []
        sent = str((inputs.values, inputs.body))
        marks = tuple(text for text in _unique_texts(state, case) if text in sent)
        told = Scope(state.scope.inputs, request_values=inputs.values, request_body=inputs.body)
        outputs = {
            name: evaluate(parse_expression(text), told) if text.startswith("$request.") else KEY
            for name, text in step.outputs
        }
        outputs |= {part.name: KEY for part in step.selected}
        ahead = replace(state.scope, steps={**state.scope.steps, step.id: outputs})
        asked, found = asked_of(step.creates, inputs, marks), []
        for earlier in steps:
            without: list[str] = []
            if _undoes(earlier, step):
                undoing = inputs_of(earlier, ahead, without)
                if not without:
                    found.append(
                        undo_record(state.suite.name, state.case, earlier, undoing, self.target, asked)
                    )
        return [await self.put(record) for record in found]

    async def answered(self, intended: Iterable[UndoRecord]) -> None:
        """An answer came: what is to be undone is known better now, or nothing is."""
        for one in intended:
            await self.put(replace(one, done=True))

    async def noted(
        self, state: CaseState, case: Case, steps: Sequence[Step], step: Step, done: Collection[str]
    ) -> None:
        """What the case must undo from now on is kept before anything else happens; and that it was done."""
        if step.id not in state.succeeded:
            return
        about = step.operation.full_id if step.operation is not None else ""
        carried = self.carried.get(((state.suite.name, state.case), about), ())
        if carried:
            carried = (*dict.fromkeys((*carried, *_unique_texts(state, case))),)  # changes of the case too
        for earlier in steps:
            if step.id in earlier.unless or earlier is step:
                if earlier.id in self.waiting:
                    await self.put(replace(self.waiting.pop(earlier.id), done=True))
            elif (
                _undoes(earlier, step)
                and earlier.id not in self.waiting
                and earlier.id not in done
                and not needless(state, earlier)
            ):
                missing: list[str] = []
                inputs = inputs_of(earlier, state.scope, missing)
                if not missing:
                    suite, name = state.suite.name, state.case
                    record = undo_record(suite, name, earlier, inputs, self.target, carried=carried)
                    self.waiting[earlier.id] = await self.put(record)


def _unique_texts(state: CaseState, case: Case) -> list[str]:
    """The inputs of a case that this run alone sends."""
    unique = [name for name, formula in case.formulas.items() if uses(formula, "unique")]
    return [text for name in unique if (text := str(state.scope.inputs.get(name, "")))]


def _undoes(one: Step, step: Step) -> bool:
    """Whether a clean-up step takes something from a step."""
    return (
        one.always
        and one.operation is not None
        and any(text.startswith(f"$steps.{step.id}.") for _, text in one.flows)
    )
