"""What an exploration keeps, as Arazzo cases that run without exploring: each finding with the shortest
sequence that shows it, and what worked.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from juxtalogos.compose.relating import Dependency
from juxtalogos.explore.prober.prober import Purpose, Trial
from juxtalogos.explore.prober.requests import RequestMaker
from juxtalogos.explore.resources.sandbox import Sandbox
from juxtalogos.model.contract import Operation
from juxtalogos.model.findings import ACCEPTED, CheckResult, ResultClass, Severity
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs, Wire
from juxtalogos.suite.document.building import CaseBuilder
from juxtalogos.suite.document.writer import slug
from juxtalogos.suite.inputs import values_of, with_values

MOST_CASES, MOST_STEPS = 400, 12
_WORST = (ResultClass.FINDING, ResultClass.LENIENT, ResultClass.DOUBT)
_VALUE_LAWS = ("law.created-told", "law.created-kept", "law.changed-kept", "law.default-kept")
_REFUSING_LAWS = (
    "law.deleted-gone",
    "law.reference-refused",
    "law.conflict-refused",
    "law.unknown-refused",
    "law.owner-checked",
    "law.role-refused",
    "law.condition-heeded",
)


@dataclass(slots=True)
class Kept:
    """Cases by name, in the order in which they were found."""

    cases: dict[str, dict[str, Any]] = field(default_factory=dict)
    unsaved: int = 0
    """Findings that cannot be said in a suite: malformed messages, other methods, missing credentials, laws
    over several answers."""
    seen: set[str] = field(default_factory=set)

    def take(self, sandbox: Sandbox, held: list[Trial]) -> None:
        """Keeps what a block found, and the first success of each operation."""
        for index, seen in enumerate(held):
            for finding in seen.record.findings():
                if finding.result.result_class in _WORST and finding.fingerprint not in self.seen:
                    self.seen.add(finding.fingerprint)
                    self._keep(sandbox, held, index, finding.result)
            mark = f"works {seen.operation.id}"
            if seen.ok and seen.purpose is Purpose.VALID and mark not in self.seen and not seen.altered:
                self.seen.add(mark)
                self._keep(sandbox, held, index, None)

    def _keep(self, sandbox: Sandbox, held: list[Trial], index: int, result: CheckResult | None) -> None:
        seen = held[index]
        chain = (
            shortest(sandbox.maker, held, index, result) if not seen.altered and _can_fail(result) else None
        )
        if chain is None or len(self.cases) >= MOST_CASES:
            self.unsaved += result is not None
            return
        word = slug(result.kind.partition(".")[2] if result else "works")
        place = slug(result.at.rpartition("/")[2]) if result and "/" in result.at else ""
        name = "-".join(filter(None, (slug(seen.operation.id), word, place)))
        unique = next(
            one
            for one in (name, *(f"{name}-{number}" for number in range(2, 1_000)))
            if one not in self.cases
        )
        shown = sandbox.prober.session.redactor.result(result) if result is not None else None
        self.cases[unique] = case_of(sandbox, unique, chain, shown)


def _can_fail(result: CheckResult | None) -> bool:
    """Whether a case can say what must come: of laws only some are such that one answer shows them."""
    return (
        result is None
        or not result.kind.startswith("law.")
        or result.kind in _REFUSING_LAWS
        or any(_checks(result, {}))
    )


def shortest(
    maker: RequestMaker, held: list[Trial], index: int, result: CheckResult | None
) -> list[Trial] | None:
    """The request, what its values come from, and what brought the same thing into its state before; None
    where that is too much.
    """
    law = result is not None and result.kind.startswith("law.")
    before = (
        list(_same_thing(maker, held, index, lists=law))
        if result is not None or not held[index].operation.safe
        else []
    )
    found = _with_sources(maker, held, [index, *before])
    if len(found) > MOST_STEPS and not law:
        found = _with_sources(maker, held, [index])
    return found if len(found) <= MOST_STEPS else None


def _with_sources(maker: RequestMaker, held: list[Trial], wanted: list[int]) -> list[Trial]:
    """These requests, and those that their values come from, in their order."""
    needed, waiting = set(wanted), list(wanted)
    while waiting:
        at = waiting.pop()
        for need in maker.needs.get(held[at].operation.id, ()):
            source = _source(maker, held, at, need)
            if source is not None and source not in needed:
                needed.add(source)
                waiting.append(source)
    return [held[at] for at in sorted(needed)]


def _source(maker: RequestMaker, held: list[Trial], at: int, need: Dependency) -> int | None:
    """The latest earlier request whose answer gave an input its value."""
    value = value_at(held[at].inputs, need.input)
    if value is ABSENT:
        return None
    for earlier in range(at - 1, -1, -1):
        one = held[earlier]
        if (
            one.ok
            and not one.altered
            and one.purpose is not Purpose.CLEANUP
            and _gives(maker, one, need, value)
        ):
            return earlier
    return None


def _gives(maker: RequestMaker, seen: Trial, need: Dependency, value: Any) -> bool:
    """Whether an answer is of the source, or of what makes the same, and tells the value."""
    source = maker.contract.operation(need.source)
    alike = seen.operation.id == need.source or (
        source is not None
        and maker.resources.of(source) is maker.resources.of(seen.operation)
        and maker.resources.creates(seen.operation)
    )
    return alike and str(maker.taken(need.value, seen)) == str(value)


def value_at(inputs: Inputs, address: str) -> Any:
    """A value of a request by address; ABSENT where there is none."""
    return next((value for at, value in values_of(inputs) if at == address), ABSENT)


def _same_thing(maker: RequestMaker, held: list[Trial], index: int, *, lists: bool) -> Iterator[int]:
    """Earlier requests that changed what this one is about: made it, changed it, or did something to it; with
    `lists`, what is in a list.
    """
    mine = {
        str(value)
        for need in maker.needs.get(held[index].operation.id, ())
        if (value := value_at(held[index].inputs, need.input)) is not ABSENT
    }
    for earlier in range(index):
        one = held[earlier]
        if one.operation.safe or not one.ok or one.purpose is Purpose.CLEANUP or one.altered:
            continue
        theirs = {
            str(value)
            for need in maker.needs.get(one.operation.id, ())
            if (value := value_at(one.inputs, need.input)) is not ABSENT
        }
        listing = lists and not mine and maker.resources.creates(one.operation)
        if (mine and theirs & mine) or listing:
            yield earlier


def case_of(sandbox: Sandbox, name: str, chain: list[Trial], result: CheckResult | None) -> dict[str, Any]:
    """A case: what prepares, the request itself, what cleans up."""
    case = CaseBuilder()
    names = own_names(sandbox, chain, case)
    ids: list[str] = []
    for number, seen in enumerate(chain):
        base = slug(seen.operation.id)
        ids.append(base if base not in ids else f"{base}-{number + 1}")
        linked = _linked(sandbox.maker, chain, number, case)
        own = {
            address: names[str(value)]
            for address, value in values_of(seen.inputs)
            if isinstance(value, str) and value in names
        }
        filled = with_values(seen.inputs, {**own, **linked})
        last = number == len(chain) - 1
        condition = _condition(sandbox.wire, seen.operation, result if last else None)
        step = case.add(seen.operation, ids[-1], filled, [condition])
        if seen.record.role and seen.record.role != sandbox.prober.session.role:
            step.sent_as(seen.record.role)
        if not last:
            step.mark_needed()
        elif result is not None:
            step.check(_checks(result, names))
    _undo(sandbox, chain, case)
    told = (
        f"{result.kind} at {result.at}: {result.declared}; seen: {result.observed}"
        if result
        else "what worked when it was explored"
    )
    return case.document(name, description=told)


def _condition(wire: Wire, operation: Operation, result: CheckResult | None) -> str:
    """A success, where it worked; a refusal, where that is expected; else the contract
    itself is the judge.
    """
    if result is None:
        return wire.condition(operation, Outcome.SUCCEEDED, left_open=True)
    if result.kind == ACCEPTED or result.kind in _REFUSING_LAWS:
        return wire.condition(operation, Outcome.INVALID)
    return ""


def _checks(result: CheckResult, names: Mapping[str, str]) -> Iterator[dict[str, Any]]:
    """The value that a law says should be there."""
    if (
        result.kind not in _VALUE_LAWS
        or not result.at.startswith("body/")
        or result.severity is Severity.REMARK
    ):
        return
    try:
        value = json.loads(re.split(r", as \w", result.declared)[0])
    except ValueError:
        return
    if not isinstance(value, dict | list):
        yield {
            "at": result.at,
            "equals": names.get(value, value) if isinstance(value, str) else value,
            "note": "as it was sent",
        }


def own_names(sandbox: Sandbox, chain: Iterable[Trial], case: CaseBuilder) -> dict[str, str]:
    """Text -> the input of the case that makes another one of its kind each time."""
    names: dict[str, str] = {}
    for seen in chain:
        formulas = dict(sandbox.maker.values.of(seen.operation, full=True).formulas)
        for address, value in values_of(seen.inputs):
            formula = formulas.get(address, "")
            if not isinstance(value, str) or not formula.startswith("unique(") or value in names:
                continue
            if seen.purpose is not Purpose.BROKEN:
                name = f"{slug(re.split(r'[./]', address)[-1])}-{len(case.formulas) + 1}"
                names[value] = case.input(name, formula)
    return names


def _linked(maker: RequestMaker, chain: list[Trial], number: int, case: CaseBuilder) -> dict[str, str]:
    """Inputs that take their value from an earlier step, which makes it an output."""
    found: dict[str, str] = {}
    for need in maker.needs.get(chain[number].operation.id, ()):
        value = value_at(chain[number].inputs, need.input)
        for earlier in range(number - 1, -1, -1) if value is not ABSENT else ():
            if chain[earlier].ok and _gives(maker, chain[earlier], need, value):
                found[need.input] = case.steps[earlier].output(need.value)
                break
    return found


def _undo(sandbox: Sandbox, chain: list[Trial], case: CaseBuilder) -> None:
    """Deletions of what the case makes, the newest first; none of what it deletes itself."""
    maker = sandbox.maker
    for number in range(len(chain) - 1, -1, -1):
        kind = sandbox.kind_made_by(chain[number].operation)
        deleter = kind.deleter if kind else None
        key = kind.key_of(deleter) if kind and deleter else None
        if deleter is None or key is None or not (chain[number].ok or number == len(chain) - 1):
            continue
        made = str(maker.taken(key.value, chain[number]))
        if any(_deletes(seen, deleter, key.input, made) for seen in chain):
            continue
        values: dict[str, Any] = {}
        for need in maker.needs.get(deleter.id, ()):
            for earlier in range(number, -1, -1):
                if chain[earlier].operation.id == need.source or (need is key and earlier == number):
                    values[need.input] = case.steps[earlier].output(need.value)
                    break
        if key.input in values:
            filled = with_values(maker.own(deleter), values)
            case.add(deleter, f"remove-{case.steps[number].id}", filled, (), undoes=True)


def _deletes(seen: Trial, deleter: Operation, address: str, key: str) -> bool:
    """Whether a request deleted the item of a key, with success."""
    return seen.operation is deleter and seen.ok and str(value_at(seen.inputs, address)) == key
