"""Refusals beside what is declared of them, over all that was asked of an operation: the kind of a request
says which must come.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from juxtalogos.compose.provoking import BROKEN_NAME, GONE_NAME
from juxtalogos.explore.bench import Trial
from juxtalogos.explore.states import conflict_named
from juxtalogos.model.contract import DeclaredAnswer, Operation
from juxtalogos.model.location import Location

Outcomes = Mapping[tuple[str, str], Mapping[str, list[Trial]]]
_EXPECTED: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    # sort of request: (codes of which one must be declared, codes that may come then)
    "gone": (("404", "410"), ("404", "410", "401", "403", "429")),
    "unknown": (("404", "410"), ("404", "410", "400", "422", "401", "403", "429")),
    "broken": (("400", "422"), ("400", "422", "413", "414", "415", "431", "401", "403", "429", "501")),
    "syntax": (("400", "422", "415"), ("400", "422", "415", "413", "411", "401", "403", "429")),
    "media": (("415",), ("415", "401", "403", "429")),
    "unsigned": (("401", "403"), ("401", "403", "404", "429")),
    "conflict": (
        ("409",),
        ("409", "404", "410", "412", "422", "423", "424", "428", "429", "401", "403", "402", "425"),
    ),
    "unknown reference": (
        ("404", "409", "422", "400"),
        ("404", "409", "410", "422", "400", "424", "412", "401", "403", "429"),
    ),
}
_WORDS = {
    "gone": "what is gone",
    "unknown": "what does not exist",
    "broken": "a broken value",
    "syntax": "a malformed message",
    "media": "another media type",
    "unsigned": "a missing or wrong credential",
    "conflict": "a conflict",
    "unknown reference": "a reference to what does not exist",
}


@dataclass(frozen=True, slots=True)
class Disagreement:
    """A law that does not hold, and the request that shows it."""

    seen: Trial
    law: str
    at: str
    declared: str
    observed: str
    location: Location


def disagreements(operations: Mapping[str, Operation], outcomes: Outcomes) -> Iterator[Disagreement]:
    """All of an exploration."""
    for (name, sort), came in outcomes.items():
        operation = operations.get(name)
        if operation is None or sort not in _EXPECTED:
            continue
        faults = [answer for answer in operation.answers if answer.fault]
        yield from _of_faults(sort, came, faults) if faults else _of_codes(operation, sort, came)
    for operation in operations.values():
        if not blanket(operations.values(), operation):
            yield from _never(operation, outcomes)
    yield from _roles(operations, outcomes)


def blanket(everything: Iterable[Operation], operation: Operation) -> bool:
    """Whether conflicts are declared everywhere, also where nothing is changed: then that tells nothing of
    one operation.
    """
    wanted = {
        declared_answer.status
        for declared_answer in operation.answers
        if declared_answer.status == "409" and not declared_answer.fault
    } | {declared_answer.fault for declared_answer in operation.answers if declared_answer.fault}
    return any(
        candidate.safe
        and any(
            (answer.fault or answer.status) in wanted and (not answer.fault or conflict_named(answer.fault))
            for answer in candidate.answers
        )
        for candidate in everything
    )


def _of_codes(operation: Operation, sort: str, came: Mapping[str, list[Trial]]) -> Iterator[Disagreement]:
    """Refusals of a kind for which a code is declared come with that code, or one of its like."""
    needed, allowed = _EXPECTED[sort]
    declared = {answer.status: answer for answer in operation.answers}
    wanted = [code for code in needed if code in declared]
    if not wanted or "default" in declared or "4XX" in declared:
        return
    fits = {*allowed}
    if (
        sort in ("gone", "unknown")
        and any(code in came for code in ("404", "410")) is False
        and "409" in declared
        and "404" not in declared
    ):
        return
    for outcome, seen in came.items():
        if not seen[0].refused or outcome in fits or not outcome.isdigit():
            continue
        place = declared[wanted[0]].location
        yield Disagreement(
            seen[0],
            "law.refusal-as-declared",
            f"status {_WORDS[sort]}",
            f"{' or '.join(wanted)} to {_WORDS[sort]}",
            outcome,
            place,
        )


def _of_faults(
    sort: str, came: Mapping[str, list[Trial]], faults: list[DeclaredAnswer]
) -> Iterator[Disagreement]:
    """Where a fault's name says what it is for, it comes for that."""
    wanted = [one for one in faults if _meant(one.fault, sort)]
    if not wanted:
        return
    names = {word.fault for word in wanted}
    for outcome, seen in came.items():
        if not seen[0].fault or outcome in names:
            continue
        if sort == "conflict" and (
            GONE_NAME.search(outcome) or (outcome == "undeclared" and len(names & came.keys()) == len(names))
        ):
            continue
        if sort == "broken" and (GONE_NAME.search(outcome) or outcome == "undeclared"):
            continue
        if sort == "unknown" and outcome == "undeclared" and names & came.keys():
            continue
        yield Disagreement(
            seen[0],
            "law.refusal-as-declared",
            f"fault {_WORDS[sort]}",
            f"{' or '.join(sorted(names))} to {_WORDS[sort]}",
            outcome,
            wanted[0].location,
        )


def _meant(fault: str, sort: str) -> bool:
    if sort in ("gone", "unknown", "unknown reference"):
        return bool(GONE_NAME.search(fault))
    if sort == "broken":
        return bool(BROKEN_NAME.search(fault))
    return sort == "conflict" and conflict_named(fault)


def _never(operation: Operation, outcomes: Outcomes) -> Iterator[Disagreement]:
    """A conflict that is declared and never came, though it was provoked in every way that is known."""
    provoked = outcomes.get((operation.id, "conflict"), {})
    successes = [one for seen in provoked.values() for one in seen if one.ok]
    if not successes:
        return
    seen_ever = {outcome for (name, _), came in outcomes.items() if name == operation.id for outcome in came}
    for answer in operation.answers:
        conflict = (answer.status == "409" and not answer.fault) or bool(
            answer.fault and conflict_named(answer.fault)
        )
        outcome = answer.fault or answer.status
        if conflict and outcome not in seen_ever:
            yield Disagreement(
                successes[0],
                "law.conflict-refused",
                "status conflict" if not answer.fault else f"fault {answer.fault}",
                f"{outcome}, as declared, to what conflicts",
                f"success, {len(successes)} times",
                answer.location,
            )


def _roles(operations: Mapping[str, Operation], outcomes: Outcomes) -> Iterator[Disagreement]:
    """Where 403 is declared, a role that is refused elsewhere is refused; and with 403."""
    by_role: dict[str, dict[str, Mapping[str, list[Trial]]]] = {}
    for (name, sort), came in outcomes.items():
        if sort.startswith("role "):
            by_role.setdefault(sort[5:], {})[name] = came
    weak = {
        role for role, by_operation in by_role.items() if any("403" in came for came in by_operation.values())
    }
    if not weak:
        yield from _all_allowed(operations, by_role)
    for name, operation in operations.items():
        declared = next((answer for answer in operation.answers if answer.status == "403"), None)
        if declared is None or not weak:
            continue
        tried = {role: by_role[role][name] for role in by_role if name in by_role[role]}
        if tried and set(tried) & weak and not any("403" in came for came in tried.values()):
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
                    "403, as declared, to some role",
                    f"success as {' and as '.join(sorted(tried))}",
                    declared.location,
                )
            elif seen is not None and seen.refused and seen.status not in (401, 404, 409, 429):
                yield Disagreement(
                    seen,
                    "law.refusal-as-declared",
                    "status role",
                    "403 to a role that may not",
                    seen.outcome,
                    declared.location,
                )


def _all_allowed(
    operations: Mapping[str, Operation], by_role: Mapping[str, Mapping[str, Mapping[str, list[Trial]]]]
) -> Iterator[Disagreement]:
    """Two roles that may do everything, where a definition tells what not everybody may from what all may:
    told once.
    """
    places = {
        name: next((answer for answer in operation.answers if answer.status == "403"), None)
        for name, operation in operations.items()
    }
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
            f"403, as {len(guarded)} operations declare, to some role",
            f"success as {' and as '.join(sorted(by_role))}, in all of them",
            declared.location,
        )
