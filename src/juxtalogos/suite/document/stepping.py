"""Changing the steps of a case: where they stand, whether they run, what they check; inputs cleared.

What is written is read back at once (`setting.read_back`): what the suite's reader would refuse is refused.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from juxtalogos.documents.jsontext import dump_json
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.location import split_pointer
from juxtalogos.suite.document.editor import editing, step_of, workflow
from juxtalogos.suite.document.links import drop_unused
from juxtalogos.suite.document.managing import SuitePlace
from juxtalogos.suite.document.setting import case_at, literals, parsed_check, read_back, step_at
from juxtalogos.suite.inputs import base_address, resolve_address
from juxtalogos.workspace.workspace import Workspace

CRITERIA, CHECKS, DISABLED = "successCriteria", "x-juxtalogos-checks", "x-juxtalogos-disabled"


@dataclass(frozen=True, slots=True)
class NumberedCheck:
    """A criterion or written check of a step, by the number that it has in `suite show`."""

    number: int
    key: str
    """The member of the step that holds it."""
    index: int
    text: str
    at: str = ""
    """What a written check is about."""


def checks_of(step: Any) -> list[NumberedCheck]:
    """All that a step checks, as it is written: criteria of success first."""
    found: list[NumberedCheck] = []
    for key in (CRITERIA, CHECKS):
        for index, one in enumerate(step.get(key) or ()):
            text, at = _criterion(one) if key == CRITERIA else _written(one)
            found.append(NumberedCheck(len(found) + 1, key, index, text, at))
    return found


def _criterion(one: Any) -> tuple[str, str]:
    kind = one.get("type", "simple")
    kind = kind.get("type", "") if isinstance(kind, dict) else kind
    context = f"{one['context']} " if one.get("context") else ""
    return f"{context}{'' if kind == 'simple' else f'{kind} '}{one.get('condition', '')}", ""


def _written(one: Any) -> tuple[str, str]:
    how = next((key for key in ("at", "jsonpath", "xpath") if key in one), "at")
    where = str(one.get(how, ""))
    tests = (
        f"{key} {value if isinstance(value, str) else dump_json(value)}"
        for key, value in one.items()
        if key not in (how, "note", "frozen")
    )
    return f"{where if how == 'at' else f'{how} {where}'} {', '.join(tests)}", where


def edit_check(home: Workspace, place: SuitePlace, which: str, text: str = "") -> list[str]:
    """Replaces a check by another, or removes it without `text`. `which`: its number, or the address of all
    checks that are meant. The checks as they were. UsageError where there is none.
    """
    at = step_at(home, place)
    with read_back(home, at.path), editing(at.path) as document:
        step = step_of(workflow(document, at.case.id, at.path), at.step.id, at.path)
        known = checks_of(step)
        meant = [one for one in known if which == str(one.number) or (one.at and which == one.at)]
        if not meant:
            names = [name for one in known for name in (str(one.number), one.at) if name]
            raise UsageError(
                f"{at.suite.name}#{at.case.id}#{at.step.id} has no check {quoted(which)}",
                mend=nearest(which, names)
                or f"they are shown by: juxtalogos suite show {at.suite.name}#{at.case.id}",
            )
        if text:
            if meant[0].key != CHECKS:
                raise UsageError(
                    f"check {which} is a condition of success, which is not replaced",
                    mend="remove it with suite clear, and add another with suite set",
                )
            step[CHECKS][meant[0].index] = parsed_check(text)
        else:
            for one in reversed(meant):
                del step[one.key][one.index]
                if not step[one.key]:
                    del step[one.key]
    return [one.text for one in meant]


def clear_input(home: Workspace, place: SuitePlace, address: str) -> tuple[str, bool]:
    """Removes an input from a step; (its address, whether the definition requires it). UsageError where the
    step does not send it.
    """
    at = step_at(home, place)
    _, operation = at.called
    address = resolve_address(operation, address)
    base = base_address(operation, address)
    with read_back(home, at.path), editing(at.path) as document:
        case = workflow(document, at.case.id, at.path)
        step = step_of(case, at.step.id, at.path)
        before = [value for one, value in literals(step) if one == address or one.startswith(f"{address}/")]
        if not _removed(step, base, address):
            known = [one for one, _ in literals(step)]
            raise UsageError(f"the step does not send {address}", mend=nearest(address, known))
        for value in before:
            if isinstance(value, str):
                drop_unused(case, value)
    required = any(one.required and one.address == address for one in operation.inputs)
    return address, required or (address == "body" and operation.body is not None and operation.body.required)


def _removed(step: Any, base: str, address: str) -> bool:
    if address == "body":
        return step.pop("requestBody", None) is not None
    if base == "body":
        return _dropped(step.get("requestBody", {}).get("payload"), split_pointer(address[len(base) :]))
    place, _, name = base.partition(".")
    listed = step.get("parameters") or []
    for one in listed:
        if one.get("name") == name and one.get("in", place) == place:
            if address != base:
                return _dropped(one.get("value"), split_pointer(address[len(base) :]))
            listed.remove(one)
            if not listed:
                del step["parameters"]
            return True
    return False


def _dropped(value: Any, path: list[str]) -> bool:
    """Whether there was something at a path, which is removed."""
    for token in path[:-1]:
        value = value.get(token) if isinstance(value, dict) else _item(value, token)
    if isinstance(value, dict) and path[-1] in value:
        del value[path[-1]]
        return True
    if isinstance(value, list) and path[-1].isdigit() and int(path[-1]) < len(value):
        del value[int(path[-1])]
        return True
    return False


def _item(value: Any, token: str) -> Any:
    fits = isinstance(value, list) and token.isdigit() and int(token) < len(value)
    return value[int(token)] if fits else None


def move_step(home: Workspace, place: SuitePlace, other: str, *, after: bool) -> int:
    """Puts a step before or after another one of its case; its new number."""
    at = step_at(home, place)
    beside = step_at(home, SuitePlace(place.suite, at.case.id, other)).step.id
    if beside == at.step.id:
        raise UsageError("a step cannot be put beside itself", mend="name another step")
    with read_back(home, at.path), editing(at.path) as document:
        steps = workflow(document, at.case.id, at.path)["steps"]
        names = [str(one.get("stepId")) for one in steps]
        moved = steps.pop(names.index(at.step.id))
        names.remove(at.step.id)
        number = names.index(beside) + (1 if after else 0)
        steps.insert(number, moved)
    return number + 1


def set_disabled(home: Workspace, place: SuitePlace, disabled: bool) -> list[str]:
    """Disables or enables a case or a step; the steps that take values from a disabled one."""
    path, _, case = case_at(home, place)
    step_id = step_at(home, place).step.id if place.step else ""
    with read_back(home, path), editing(path) as document:
        holder = workflow(document, case.id, path)
        holder = step_of(holder, step_id, path) if step_id else holder
        if disabled:
            holder[DISABLED] = True
        else:
            holder.pop(DISABLED, None)
    return list(users_of(case.written, step_id)) if step_id and disabled else []


def users_of(steps: Any, step_id: str) -> Iterator[str]:
    """`STEP ADDRESS` of all inputs that take a value from a step."""
    for step in steps:
        for address, expression in step.flows:
            if f"$steps.{step_id}." in expression:
                yield f"{step.id} {address}"
