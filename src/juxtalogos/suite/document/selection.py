"""Choosing what to run: suites, cases, single steps with what gives them what they need."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import Any

from juxtalogos.model.errors import SuiteError, nearest, quoted
from juxtalogos.suite.language.expressions import expressions_in, parse_expression
from juxtalogos.suite.model import Case, CaseKey, Step, Suite


def select(suites: list[Suite], case_id: str, step_id: str) -> Iterator[tuple[Suite, Case]]:
    """The cases asked for, with the steps up to the one named; SuiteError when there are none."""
    for suite in suites:
        for case in suite.cases:
            if case_id and case.id != case_id:
                continue
            if case.disabled:
                if not case_id:
                    continue
                raise SuiteError(
                    f"the case {case.id} is disabled",
                    where=str(suite.path),
                    mend=f"enable it: juxtalogos suite enable {suite.name}#{case.id}",
                )
            yield suite, cut_to_step(suite, case, step_id) if step_id else case


def reachable(
    cases: Iterable[tuple[Suite, Case]], everything: Mapping[CaseKey, tuple[Suite, Case]]
) -> dict[CaseKey, tuple[Suite, Case]]:
    """The cases and all that they need or call, in whatever suite."""
    found: dict[CaseKey, tuple[Suite, Case]] = {}
    waiting = list(cases)
    while waiting:
        suite, case = waiting.pop(0)
        if case.key in found:
            continue
        found[case.key] = suite, case
        actions = [
            *case.success,
            *case.failure,
            *(one for step in case.steps for one in (*step.on_success, *step.on_failure)),
        ]
        keys = [*case.needs, *(step.case for step in case.steps), *(action.case for action in actions)]
        waiting += [everything[key] for key in keys if key is not None]
    return found


def cut_to_step(suite: Suite, case: Case, step_id: str) -> Case:
    """The step, those before it that give what it needs, and the clean-up steps."""
    index = next((index for index, step in enumerate(case.steps) if step.id == step_id), None)
    if index is None:
        raise SuiteError(
            f"the case {case.id} has no step {quoted(step_id)}",
            where=str(suite.path),
            mend=nearest(step_id, [step.id for step in case.steps]),
        )
    wanted = {step_id}
    for step in reversed(case.steps[: index + 1]):
        if step.id in wanted:
            wanted |= needed_steps(step)
    return replace(
        case,
        steps=tuple(
            step
            for place, step in enumerate(case.steps)
            if step.id in wanted or (step.always and place > index)
        ),
    )


def needed_steps(step: Step) -> set[str]:
    """The steps that a step takes values from."""
    values: list[Any] = [value for _, value in step.parameters]
    if step.payload:
        values += [step.payload.payload, *(one.value for one in step.payload.replacements)]
    needed = set()
    for text in expressions_in(values):
        found = parse_expression(text)
        if found.form == "steps":
            needed.add(found.parts[0])
    return needed
