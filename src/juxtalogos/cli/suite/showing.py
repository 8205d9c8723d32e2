"""`suite show`: a case as it stands, and how it went last."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import EXIT_HELD, terminal, workspace
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.cli.suite.verbs import SuiteArguments, Verb, add_place
from juxtalogos.documents.jsontext import dump_json
from juxtalogos.ledger import ExchangeQuery, open_ledger
from juxtalogos.model.schema import ABSENT
from juxtalogos.suite.comparing import leaves
from juxtalogos.suite.document.editor import reading, step_of, workflow
from juxtalogos.suite.document.managing import place_of
from juxtalogos.suite.document.reader import find_suite, read_suites
from juxtalogos.suite.document.setting import case_at, step_at
from juxtalogos.suite.document.stepping import checks_of
from juxtalogos.suite.model import Case, Step, Suite
from juxtalogos.suite.parameters import SharedParameter
from juxtalogos.suite.tables import rows_of, table_path
from juxtalogos.workspace.workspace import Workspace

Latest = Mapping[tuple[str, str], Mapping[str, Any]]
"""The latest exchange of each step, by case and step."""
_LATEST_RUNS = 20
_ROOM = 90
"""Characters of a line of text that are shown."""
_LONGEST = 46
"""Characters of a value or expression that are shown; `-v` shows all."""


@dataclass(frozen=True, slots=True)
class ShownInput:
    """An input that a step sends, and where its value comes from."""

    address: str
    value: Any
    source: str
    """`value`, `sample`, `step`, `formula`, `table`, `input` or `parameter NAME`."""
    told: str
    """The value, or what gives it, in words."""


def inputs_of(
    case: Case, step: Step, formulas: Mapping[str, str], given: Mapping[str, str]
) -> Iterator[ShownInput]:
    """All inputs that a step sends, each with where it comes from. `formulas`: of the case, by input;
    `given`: the values of parameters, in words.
    """
    for address, value in step.parameters:
        yield _shown(case, formulas, given, address, value)
    if step.payload is None or step.payload.payload is ABSENT:
        return
    if isinstance(step.payload.payload, dict | list) and step.payload.payload:
        for path, value in leaves(step.payload.payload):
            yield _shown(case, formulas, given, f"body{path}", value)
    else:
        yield _shown(case, formulas, given, "body", step.payload.payload)
    for one in step.payload.replacements:
        yield _shown(case, formulas, given, f"body{one.target}", one.value)


def _shown(
    case: Case, formulas: Mapping[str, str], given: Mapping[str, str], address: str, value: Any
) -> ShownInput:
    text = value if isinstance(value, str) else dump_json(value)
    if isinstance(value, str) and value.startswith(("$steps.", "$workflows.")):
        _, name, _, output = (*value.split(".", 3), "", "")[:4]
        return ShownInput(address, value, "step", f"{output} of {name}")
    if isinstance(value, str) and value.startswith("$inputs."):
        name = value.removeprefix("$inputs.")
        if name in case.formulas:
            return ShownInput(address, value, "formula", formulas.get(name, name))
        if case.table is not None:
            return ShownInput(address, value, "table", f"column {name}")
        if name in case.inputs:
            return ShownInput(address, value, "input", f"{name}, by default {case.inputs[name]}")
        told = given.get(name, "")
        return ShownInput(address, value, f"parameter {name}", told or "no value yet")
    return ShownInput(address, value, "sample" if case.composed else "value", text)


def _arguments(parser: argparse.ArgumentParser) -> None:
    add_place(parser, "SUITE[#CASE[#STEP]]")


def _show(args: SuiteArguments) -> int:
    home, out, place = workspace(args), terminal(args), place_of(args.place)
    if place.case:
        _, suite, case = case_at(home, place)
        cases = [case]
        steps = {step_at(home, place).step.id} if place.step else None
    else:
        suite = read_suites(home, [find_suite(home, place.suite)])[0][0]
        cases, steps = list(suite.cases), None
    latest = _latest(home, suite)
    shown = [_as_data(home, suite, case, steps, latest) for case in cases]
    if args.json:
        out.json({"version": 1, "suite": suite.name, "cases": shown})
        return EXIT_HELD
    for number, data in enumerate(shown):
        if number:
            out.line("")
        _tell(out, suite, data, inputs=bool(place.case))
    if not place.case:
        out.note((f"a case with its inputs: juxtalogos suite show {suite.name}#CASE", "note"))
    return EXIT_HELD


def _latest(home: Workspace, suite: Suite) -> Latest:
    if not home.ledger_path.exists():
        return {}
    with open_ledger(home.ledger_path) as ledger:
        found = ledger.exchanges(ExchangeQuery(latest_runs=_LATEST_RUNS, of_a_suite=True))
        return {
            (record.case.partition("[")[0], record.step): {
                "exchange": record.id,
                "verdict": str(record.verdict),
                "status": record.status,
                "reason": record.reason,
            }
            for record in found
            if record.suite == suite.name
        }


def _as_data(
    home: Workspace,
    suite: Suite,
    case: Case,
    steps: set[str] | None,
    latest: Latest,
) -> dict[str, Any]:
    with reading(suite.path) as document:
        written = workflow(document, case.id, suite.path)
        checks = {
            step.id: [
                {"number": one.number, "text": one.text, "criterion": not one.at}
                for one in checks_of(step_of(written, step.id, suite.path))
            ]
            for step in case.written
        }
        declared = (written.get("inputs") or {}).get("properties") or {}
        formulas = {
            str(name): str(one["x-juxtalogos-value"])
            for name, one in declared.items()
            if isinstance(one, dict) and "x-juxtalogos-value" in one
        }
    given = _given(home, suite)
    table = None
    if case.table is not None:
        path = table_path(home, suite.path, case.table.name) if case.table.kind == "file" else None
        table = {"name": case.table.name, "rows": len(rows_of(path)) if path is not None else None}
    return {
        "case": case.id,
        "summary": case.summary,
        "description": case.description,
        "tags": list(case.tags),
        "disabled": case.disabled,
        "composed": case.composed,
        "table": table,
        "steps": [
            _step_data(case, step, number, formulas, given, checks[step.id], latest.get((case.id, step.id)))
            for number, step in enumerate(case.written, start=1)
            if steps is None or step.id in steps
        ],
    }


def _given(home: Workspace, suite: Suite) -> dict[str, str]:
    """The parameters of a suite with their values in words: those of the target that is the default, else of
    everything, stand over its own.
    """
    name = home.config.default_target
    target = home.config.targets.get(name) or next(iter(home.config.targets.values()), None)
    several = len(home.config.targets) > 1 and not name
    values = home.config.variables if target is None or several else target.variables
    return {name: SharedParameter.of(one).told for name, one in {**suite.variables, **values}.items()}


def _step_data(
    case: Case,
    step: Step,
    number: int,
    formulas: Mapping[str, str],
    given: Mapping[str, str],
    checks: list[dict[str, Any]],
    latest: Mapping[str, Any] | None,
) -> dict[str, Any]:
    operation = step.operation
    return {
        "number": number,
        "step": step.id,
        "operation": operation.full_id if operation is not None else None,
        "case": step.case.case if step.case is not None else None,
        "address": operation.call if operation is not None else None,
        "disabled": step.disabled,
        "cleanUp": step.always,
        "role": step.role or None,
        "note": step.description,
        "inputs": [
            {"address": one.address, "value": one.value, "source": one.source, "told": one.told}
            for one in inputs_of(case, step, formulas, given)
        ],
        "checks": checks,
        "latest": latest,
    }


def _tell(out: Terminal, suite: Suite, data: dict[str, Any], *, inputs: bool) -> None:
    out.line((f"{suite.name}#{data['case']}", "name"), f"   {data['summary'] or data['description']}")
    about = [
        *([f"tags {', '.join(data['tags'])}"] if data["tags"] else []),
        *(["disabled"] if data["disabled"] else []),
        *([_table(data["table"])] if data["table"] else []),
        *(["as compose wrote it"] if data["composed"] else []),
    ]
    if about:
        out.line(("; ".join(about), "note"), indent=2)
    widest = max((len(step["step"]) for step in data["steps"]), default=0)
    for step in data["steps"]:
        marks = [name for name in ("disabled",) if step[name]] + (["clean-up"] if step["cleanUp"] else [])
        marks += [f"as {step['role']}"] if step["role"] else []
        latest = step["latest"]
        out.line(
            f"{step['number']:3} ",
            (step["step"].ljust(widest), "name"),
            f"  {step['address'] or 'calls the case ' + str(step['case'])}",
            (f"   {', '.join(marks)}" if marks else "", "note"),
            *(("   ", (latest["verdict"], latest["verdict"])) if latest else ()),
            (_last(latest), "note"),
        )
        if inputs and latest and latest["reason"] and latest["verdict"] != "passed":
            reason = latest["reason"]
            told = reason if out.verbose or len(reason) <= _ROOM else f"{reason[:_ROOM]}…"
            out.line((told, latest["verdict"]), indent=6)
        if inputs:
            _tell_step(out, step)


def _table(table: Mapping[str, Any]) -> str:
    rows = f", {counted(table['rows'], 'row')}" if table["rows"] is not None else ""
    return f"table {table['name']}{rows}"


def _last(latest: Mapping[str, Any] | None) -> str:
    if latest is None:
        return ""
    status = f" {latest['status']}" if latest["status"] else ""
    return f"{status}  @{latest['exchange']}"


def _tell_step(out: Terminal, step: dict[str, Any]) -> None:
    if step["note"]:
        out.line((step["note"], "note"), indent=6)
    widest = min(34, max((len(one["address"]) for one in step["inputs"]), default=0))
    room = min(_LONGEST + 1, max((len(one["told"]) for one in step["inputs"]), default=0))
    for one in step["inputs"]:
        told = one["told"] if out.verbose or len(one["told"]) <= _LONGEST else one["told"][:_LONGEST] + "…"
        out.line(one["address"].ljust(widest), f"  {told.ljust(room)}  ", (one["source"], "note"), indent=6)
    for check in step["checks"]:
        text = check["text"] if out.verbose or len(check["text"]) <= 78 else check["text"][:78] + "…"
        out.line((f"check {check['number']}  ", "note"), text, indent=6)


SHOW = Verb(_arguments, _show, "juxtalogos suite show fleet#vessel", json=True)
