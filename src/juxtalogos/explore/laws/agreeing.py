"""Refusals beside what is declared of them, over all that was asked of an operation: the kind of a request
says which must come.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from juxtalogos.conventions.faults import means_absent, meant_for
from juxtalogos.explore.prober.prober import Trial
from juxtalogos.model.contract import DeclaredAnswer, Operation
from juxtalogos.model.location import Location
from juxtalogos.model.outcome import Outcome, Wrong
from juxtalogos.model.wire import Wire

Outcomes = Mapping[tuple[str, str], Mapping[str, list[Trial]]]
_WORDS = {
    Wrong.GONE: "what is gone",
    Wrong.UNKNOWN: "what does not exist",
    Wrong.VALUE: "a broken value",
    Wrong.SYNTAX: "a malformed message",
    Wrong.MEDIA: "another media type",
    Wrong.UNSIGNED: "a missing or wrong credential",
    Wrong.CONFLICT: "a conflict",
    Wrong.REFERENCE: "a reference to what does not exist",
}
"""What a wrong request is about, for those whose refusals are compared with what is declared."""


@dataclass(frozen=True, slots=True)
class Disagreement:
    """A law that does not hold, and the request that shows it."""

    seen: Trial
    law: str
    at: str
    declared: str
    observed: str
    location: Location


def disagreements(
    wire: Wire, operations: Mapping[str, Operation], outcomes: Outcomes
) -> Iterator[Disagreement]:
    """All of an exploration."""
    for (name, sort), came in outcomes.items():
        operation = operations.get(name)
        wrong = next((one for one in _WORDS if one == sort), None)
        if operation is None or wrong is None:
            continue
        faults = [answer for answer in operation.answers if answer.fault]
        yield from _of_faults(wrong, came, faults) if faults else _of_codes(wire, operation, wrong, came)
    for operation in operations.values():
        if not blanket(wire, operations.values(), operation):
            yield from _never(wire, operation, outcomes)
    yield from _roles(wire, operations, outcomes)


def blanket(wire: Wire, everything: Iterable[Operation], operation: Operation) -> bool:
    """Whether conflicts are declared everywhere, also where nothing is changed: then that says nothing of one
    operation.
    """
    wanted = {
        _name(answer) for answer in operation.answers if answer.fault or wire.due(answer, Wrong.CONFLICT)
    }
    return any(
        candidate.safe
        and any(_name(answer) in wanted and wire.due(answer, Wrong.CONFLICT) for answer in candidate.answers)
        for candidate in everything
    )


def _name(answer: DeclaredAnswer) -> str:
    return answer.fault or answer.status


def _of_codes(
    wire: Wire, operation: Operation, wrong: Wrong, came: Mapping[str, list[Trial]]
) -> Iterator[Disagreement]:
    """Refusals of a kind for which a code is declared have that code, or one of its like."""
    wanted = wire.refusals(operation, wrong)
    if not wanted:
        return
    for outcome, seen in came.items():
        exchange = seen[0].exchange
        if not seen[0].refused or exchange is None or wire.may_refuse(wrong, exchange):
            continue
        yield Disagreement(
            seen[0],
            "law.refusal-as-declared",
            f"status {_WORDS[wrong]}",
            f"{' or '.join(map(_name, wanted))} to {_WORDS[wrong]}",
            outcome,
            wanted[0].location,
        )


def _of_faults(
    wrong: Wrong, came: Mapping[str, list[Trial]], faults: list[DeclaredAnswer]
) -> Iterator[Disagreement]:
    """Where a fault's name says what it is for, it comes for that."""
    wanted = [answer for answer in faults if meant_for(answer.fault, wrong)]
    if not wanted:
        return
    names = {answer.fault for answer in wanted}
    for outcome, seen in came.items():
        if not seen[0].fault or outcome in names:
            continue
        undeclared = outcome == "undeclared"
        if wrong is Wrong.CONFLICT and (
            means_absent(outcome) or (undeclared and len(names & came.keys()) == len(names))
        ):
            continue
        if wrong is Wrong.VALUE and (means_absent(outcome) or undeclared):
            continue
        if wrong is Wrong.UNKNOWN and undeclared and names & came.keys():
            continue
        yield Disagreement(
            seen[0],
            "law.refusal-as-declared",
            f"fault {_WORDS[wrong]}",
            f"{' or '.join(sorted(names))} to {_WORDS[wrong]}",
            outcome,
            wanted[0].location,
        )


def _never(wire: Wire, operation: Operation, outcomes: Outcomes) -> Iterator[Disagreement]:
    """A conflict that is declared and never came, though it was provoked in every way that is known."""
    provoked = outcomes.get((operation.id, Wrong.CONFLICT), {})
    successes = [one for seen in provoked.values() for one in seen if one.ok]
    if not successes:
        return
    seen_ever = {outcome for (name, _), came in outcomes.items() if name == operation.id for outcome in came}
    for answer in operation.answers:
        outcome = _name(answer)
        if wire.due(answer, Wrong.CONFLICT) and outcome not in seen_ever:
            yield Disagreement(
                successes[0],
                "law.conflict-refused",
                "status conflict" if not answer.fault else f"fault {answer.fault}",
                f"{outcome}, as declared, to what conflicts",
                f"success, {len(successes)} times",
                answer.location,
            )


def _roles(wire: Wire, operations: Mapping[str, Operation], outcomes: Outcomes) -> Iterator[Disagreement]:
    """Where a refusal of roles is declared, a role that is refused elsewhere is refused; and in that way."""
    by_role: dict[str, dict[str, Mapping[str, list[Trial]]]] = {}
    for (name, sort), came in outcomes.items():
        if sort.startswith("role "):
            by_role.setdefault(sort[5:], {})[name] = came
    weak = {role for role, by_operation in by_role.items() if any(map(_forbidden, by_operation.values()))}
    if not weak:
        yield from _all_allowed(wire, operations, by_role)
    for name, operation in operations.items():
        declared = _for_roles(wire, operation)
        if declared is None or not weak:
            continue
        tried = {role: by_role[role][name] for role in by_role if name in by_role[role]}
        if tried and set(tried) & weak and not any(map(_forbidden, tried.values())):
            seen = next(
                (
                    item
                    for role in sorted(set(tried) & weak)
                    for found in tried[role].values()
                    for item in found
                ),
                None,
            )
            if seen is not None and seen.ok:
                yield Disagreement(
                    seen,
                    "law.role-refused",
                    "status role",
                    f"{declared.status}, as declared, to some role",
                    f"success as {' and as '.join(sorted(tried))}",
                    declared.location,
                )
            elif (
                seen is not None
                and seen.refused
                and seen.exchange
                and not wire.may_refuse(Wrong.ROLE, seen.exchange)
            ):
                yield Disagreement(
                    seen,
                    "law.refusal-as-declared",
                    "status role",
                    f"{declared.status} to a role that may not",
                    seen.code,
                    declared.location,
                )


def _forbidden(came: Mapping[str, list[Trial]]) -> bool:
    """Whether any response refused the role."""
    return any(seen.outcome is Outcome.FORBIDDEN for trials in came.values() for seen in trials)


def _for_roles(wire: Wire, operation: Operation) -> DeclaredAnswer | None:
    """The refusal that an operation declares for roles."""
    return next((answer for answer in operation.answers if wire.due(answer, Wrong.ROLE)), None)


def _all_allowed(
    wire: Wire,
    operations: Mapping[str, Operation],
    by_role: Mapping[str, Mapping[str, Mapping[str, list[Trial]]]],
) -> Iterator[Disagreement]:
    """Two roles that may do everything, where a definition tells what not everybody may from what all may:
    told once.
    """
    places = {name: _for_roles(wire, operation) for name, operation in operations.items()}
    tried = [
        name
        for name in operations
        if sum(
            any(item.ok for found in of.get(name, {}).values() for item in found) for of in by_role.values()
        )
        > 1
    ]
    guarded = [name for name in tried if places[name] is not None]
    if len(guarded) < 2 or len(guarded) == len(tried):
        return
    declared, role = places[guarded[0]], sorted(by_role)[-1]
    seen = next(
        (item for found in by_role[role].get(guarded[0], {}).values() for item in found if item.ok), None
    )
    if seen is not None and declared is not None:
        yield Disagreement(
            seen,
            "law.role-refused",
            "status role",
            f"{declared.status}, as {len(guarded)} operations declare, to some role",
            f"success as {' and as '.join(sorted(by_role))}, in all of them",
            declared.location,
        )
