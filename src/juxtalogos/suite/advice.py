"""What could be better in suites: literals that an earlier answer gives, cases that differ in values only."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from juxtalogos.documents.jsontext import dump_json
from juxtalogos.formats import wire_of
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.location import escape_key
from juxtalogos.model.schema import ABSENT
from juxtalogos.suite.body_files import files_named
from juxtalogos.suite.inputs import schema_at
from juxtalogos.suite.language.expressions import expressions_in
from juxtalogos.suite.model import Case, Step, Suite

MIN_TEXT, MIN_NUMBER = 4, 1000
"""Shorter texts and smaller numbers are equal by chance."""


@dataclass(frozen=True, slots=True)
class Advice:
    suite: str
    case: str
    step: str
    what: str
    offer: str


def linkable(suites: Iterable[Suite], exchanges: Mapping[tuple[str, str, str], Exchange]) -> Iterator[Advice]:
    """Literals in a request that equal a value of an earlier step's answer; `exchanges` are the latest by
    (suite, case, step).
    """
    for suite in suites:
        for case in suite.cases:
            seen: dict[str, tuple[str, str]] = {}
            for step in case.steps:
                for address, value in literals(step):
                    if dump_json(value) in seen and _is_telling(value):
                        source, pointer = seen[dump_json(value)]
                        what = f"{address} = {dump_json(value)} is what {source} returned at {pointer}"
                        yield Advice(
                            suite.name,
                            case.id,
                            step.id,
                            what,
                            f"juxtalogos suite set {suite.name}#{case.id}#{step.id}"
                            f" {address}=@{source}#{pointer}",
                        )
                for pointer, value in _answered(step, exchanges.get((suite.name, case.id, step.id))):
                    seen.setdefault(dump_json(value), (step.id, pointer))


def literals(step: Step) -> Iterator[tuple[str, Any]]:
    """(address, value) of the single values of a request that are no expressions."""
    for address, value in step.parameters:
        yield from (
            (f"{address}{path}", one) for path, one in _leaves(value) if not list(expressions_in(one))
        )
    if step.payload:
        yield from (
            (f"body{path}", one)
            for path, one in _leaves(step.payload.payload)
            if not list(expressions_in(one))
        )


def _leaves(value: Any, path: str = "") -> Iterator[tuple[str, Any]]:
    if isinstance(value, dict):
        for key, item in value.items():
            yield from _leaves(item, f"{path}/{escape_key(key)}")
    elif isinstance(value, list):
        for index, item in enumerate(value):
            yield from _leaves(item, f"{path}/{index}")
    elif isinstance(value, str | int | float | bool) or value is None:
        yield path, value


def _is_telling(value: Any) -> bool:
    if isinstance(value, str):
        return len(value) >= MIN_TEXT and any(char.isdigit() for char in value)
    return isinstance(value, int | float) and not isinstance(value, bool) and abs(value) >= MIN_NUMBER


def _answered(step: Step, exchange: Exchange | None) -> Iterator[tuple[str, Any]]:
    """(pointer, value) of an answer as its operation declares it, whatever it was written in."""
    if exchange is None or exchange.response is None or step.contract is None or step.operation is None:
        return
    yield from _leaves(wire_of(step.contract).decode(step.operation, exchange).value)


def lacking(suites: Iterable[Suite]) -> Iterator[Advice]:
    """What an operation requires and a step does not give, as after a change of the definition; not of steps
    that expect a refusal.
    """
    for suite in suites:
        for case in suite.cases:
            for step in case.steps:
                if any(_REFUSED.search(criterion.condition) for criterion in step.criteria):
                    continue
                for address in _lacking(step):
                    place = f"{suite.name}#{case.id}#{step.id}"
                    what = f"{address} is required, and the step does not set it"
                    yield Advice(
                        suite.name, case.id, step.id, what, f"juxtalogos suite set {place} {address}=VALUE"
                    )


def missing_files(suites: Iterable[Suite], workspace: Path) -> Iterator[Advice]:
    """Files that a body names and that are not there."""
    for suite in suites:
        for case in suite.cases:
            for step in case.steps:
                for name in files_named(step.payload.payload) if step.payload else ():
                    if not (workspace / name).is_file():
                        what = f"the body names the file {name}, which is not there"
                        yield Advice(
                            suite.name,
                            case.id,
                            step.id,
                            what,
                            "put it there, or name another: juxtalogos suite set"
                            f" {suite.name}#{case.id}#{step.id} body=file:PATH",
                        )


_REFUSED = re.compile(r"== *[45]\d\d|>= *4\d\d|'Fault'")


def _lacking(step: Step) -> Iterator[str]:
    operation, contract = step.operation, step.contract
    if operation is None or contract is None:
        return
    given = {address for address, _ in step.parameters}
    yield from (
        declared_input.address
        for declared_input in operation.inputs
        if declared_input.required and declared_input.address not in given
    )
    payload = step.payload.payload if step.payload else ABSENT
    if payload is ABSENT:
        if operation.body is not None and operation.body.required:
            yield "body"
        return
    ref = schema_at(operation, "body", step.payload.content_type if step.payload else "")
    if ref is None or not isinstance(payload, dict) or (step.payload and step.payload.replacements):
        return
    for one in contract.schema(ref).check(payload):
        if one.keyword == "required":
            yield f"body{one.path}"
        elif one.keyword == "missing":  # of XML, told at the element that comes next
            yield f"body{one.path.rpartition('/')[0]}/{one.declared}"


def near_copies(suites: Iterable[Suite]) -> Iterator[Advice]:
    """Cases of one suite whose steps are the same but for values: one case and a table
    could be all of them.
    """
    for suite in suites:
        by_form: dict[str, list[Case]] = {}
        for case in suite.cases:
            if case.table is None:
                by_form.setdefault(_form(case), []).append(case)
        for cases in by_form.values():
            if len(cases) > 1:
                columns = _differing(cases)
                if columns:
                    names = ", ".join(case.id for case in cases[1:])
                    rows = "; ".join(
                        f"{case.id}: {', '.join(dump_json(value) for value in values)}"
                        for case, values in zip(cases, columns[1])
                    )
                    yield Advice(
                        suite.name,
                        cases[0].id,
                        "",
                        f"differs from {names} in {', '.join(columns[0])} only",
                        f"one case with a table of {len(cases)} rows: {rows[:400]}",
                    )


def _form(case: Case) -> str:
    """Everything of a case but its literals."""
    return dump_json(
        [
            [
                step.operation.full_id if step.operation else str(step.case),
                [[address, _shape(value)] for address, value in step.parameters],
                _shape(step.payload.payload) if step.payload else None,
                [criterion.condition for criterion in step.criteria],
                [[check.where, check.test] for check in step.checks],
            ]
            for step in case.steps
        ]
    )


def _shape(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _shape(item) for key, item in value.items()}
    if isinstance(value, list):
        return [_shape(item) for item in value]
    return (
        value
        if isinstance(value, str) and list(expressions_in(value))
        else "*"
        if isinstance(value, str | int | float | bool) or value is None
        else ""
    )


def _differing(cases: list[Case]) -> tuple[list[str], list[list[Any]]] | None:
    """(addresses that differ, their values by case)."""
    flat = [
        {
            f"{step.id}.{address}" if len(case.steps) > 1 else address: value
            for step in case.steps
            for address, value in literals(step)
        }
        for case in cases
    ]
    if any(row.keys() != flat[0].keys() for row in flat):
        return None
    names = [name for name in flat[0] if any(row[name] != flat[0][name] for row in flat)]
    return (names, [[row[name] for name in names] for row in flat]) if names else None
