"""`run --dry-run`: what a run would send, as far as that is known before anything is sent."""

from __future__ import annotations

import random
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from typing import Any
from urllib.parse import quote

from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.documents.jsontext import dump_json
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.exchange import Request
from juxtalogos.run.engine.binding import BoundRun, turns_of
from juxtalogos.run.engine.plan import CaseRef, Turn, steps_of
from juxtalogos.run.engine.step import inputs_of
from juxtalogos.suite.language.expressions import Scope, fill
from juxtalogos.suite.language.formulas import FormulaContext, NoValue, compute, settled
from juxtalogos.suite.model import Case, Step, Suite

SHOWN_ROWS, SHOWN_LINES = 3, 30
"""Rows of a table, and lines of a body, that are shown; `--full` shows all."""


def show_dry_run(out: Terminal, run: BoundRun, *, full: bool, as_json: bool) -> None:
    """Every request that is known, and of the others what they wait for."""
    if as_json:
        cases = [_case(run, ref) for ref in run.plan.cases]
        out.json({"version": 1, "target": run.session.target.reference, "cases": cases})
        return
    requests = 0
    for ref in run.plan.cases:
        suite, case = run.cases[run.key(ref)]
        turns = turns_of(run, run.key(ref))
        requests += sum(len(steps_of(case, turn.part)) for turn in turns)
        out.line((f"{suite.name}#{case.id}", "name"))
        for turn in turns if full else turns[:SHOWN_ROWS]:
            if len(turns) > 1:
                out.line((turn.label, "note"), indent=2)
            for step in _steps(run, suite, case, turn):
                _show(out, step, full=full)
        if len(turns) > SHOWN_ROWS and not full:
            out.line((f"and {len(turns) - SHOWN_ROWS} more turns: --full shows all", "note"), indent=2)
    out.line()
    out.line(f"{counted(len(run.plan.cases), 'case')}, {counted(requests, 'step')}; nothing was sent")


def _show(out: Terminal, step: Mapping[str, Any], *, full: bool) -> None:
    head = f"{step['method']} {step['url']}" if step["method"] else f"calls the case {step['case']}"
    out.line(f"{step['step']}  ", (head, "name"), indent=4)
    for address, source in step["waitsFor"].items():
        out.line((f"{address} = {source}", "note"), indent=6)
    lines = step["body"].splitlines() if step["body"] else []
    for line in lines if full else lines[:SHOWN_LINES]:
        out.line(line, indent=6)
    if len(lines) > SHOWN_LINES and not full:
        out.line(("…", "note"), indent=6)


def _case(run: BoundRun, ref: CaseRef) -> dict[str, Any]:
    suite, case = run.cases[run.key(ref)]
    return {
        "suite": suite.name,
        "case": case.id,
        "turns": [
            {"turn": turn.label, "steps": list(_steps(run, suite, case, turn))}
            for turn in turns_of(run, run.key(ref))
        ],
    }


def _steps(run: BoundRun, suite: Suite, case: Case, turn: Turn) -> Iterator[dict[str, Any]]:
    values, ground = _inputs(run, suite, case, turn), _ground(run, suite, turn)
    scope = Scope(values)
    for name, formula in case.formulas.items():
        try:
            values.setdefault(name, compute(formula, scope, ground))
        except NoValue:
            continue  # of what a step gives
    for step in steps_of(case, turn.part):
        yield _step(run, step, scope)


def _ground(run: BoundRun, suite: Suite, turn: Turn) -> FormulaContext:
    """As a run with this seed and token makes it."""
    label = f"{suite.name}:{turn.label}"
    return FormulaContext(
        datetime.now(UTC), random.Random(f"{run.plan.seed}:{label}"), run.plan.token, label, run.session.known
    )


def _inputs(run: BoundRun, suite: Suite, case: Case, turn: Turn) -> dict[str, Any]:
    rows = run.rows.get(case.key, ())
    row = rows[turn.row] if turn.row is not None and turn.row < len(rows) else {}
    own = settled(suite.variables, _ground(run, suite, turn), str(suite.path))
    return {**own, **case.inputs, **run.session.target.variables, **row}


def _step(run: BoundRun, step: Step, scope: Scope) -> dict[str, Any]:
    told: dict[str, Any] = {"step": step.id, "method": "", "url": "", "headers": [], "body": "", "case": None}
    told["waitsFor"] = {}
    if step.contract is None or step.operation is None:
        return {**told, "case": step.case.case if step.case is not None else None}
    missing: list[str] = []
    try:
        inputs = inputs_of(step, scope, missing)
    except JuxtalogosError as error:
        return {**told, "url": f"cannot be written: {error.what}"}
    waits = {address: text for address, text in step.flows if text in missing}
    told["waitsFor"] = {address: _words(text) for address, text in waits.items()}
    base = run.session.base_url(step.contract)
    if missing:
        path = step.operation.path
        for address, value in step.parameters:
            if address.startswith("path.") and address not in waits:
                known = quote(str(fill(value, scope, [])), safe="")
                path = path.replace(f"{{{address.removeprefix('path.')}}}", known)
        payload = _partly(step.payload.payload, scope) if step.payload is not None else None
        told |= {
            "method": step.operation.method,
            "url": run.session.redactor.text(f"{base.rstrip('/')}{path}"),
        }
        body = dump_json(payload, indent=2) if isinstance(payload, dict | list) else ""
        return {**told, "body": run.session.redactor.cut_text(body)}
    try:
        request = run.session.encoded(step.contract, step.operation, inputs)
    except JuxtalogosError as error:
        return {**told, "url": f"cannot be written: {error.what}"}
    return told | _request(run, request)


def _partly(value: Any, scope: Scope) -> Any:
    """A payload with the values that are known; expressions of others as they are written."""
    if isinstance(value, dict):
        return {name: _partly(one, scope) for name, one in value.items()}
    if isinstance(value, list):
        return [_partly(one, scope) for one in value]
    missing: list[str] = []
    filled = fill(value, scope, missing)
    return value if missing else filled


def _request(run: BoundRun, request: Request) -> dict[str, Any]:
    body = (request.body or b"").decode("utf-8", "replace")
    redactor = run.session.redactor
    return {
        "method": request.method,
        "url": redactor.text(request.url),
        "headers": [[name, redactor.text(value)] for name, value in request.headers],
        "body": redactor.cut_text(body),
    }


def _words(text: str) -> str:
    """Where a value comes from, for a person."""
    kind, _, rest = text.partition(".")
    if kind == "$steps":
        name, _, output = rest.partition(".outputs.")
        return f"{output} of {name}"
    return text
