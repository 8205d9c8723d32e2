"""Changing one input of a step, one check, or a case's table, in suites that people wrote: comments and order
stay.

What is written is read back at once: what the suite's reader would refuse is refused, and the file stays as
it was.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.exchange.media import chosen_media
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import SuiteError, UsageError, nearest, quoted
from juxtalogos.model.location import join_pointer, split_pointer
from juxtalogos.model.schema import ABSENT, OutlineRow, SchemaRef
from juxtalogos.model.wire import Wire
from juxtalogos.suite.document.editor import add_checks, editing, step_of, workflow
from juxtalogos.suite.document.links import StepLink, check_source, drop_unused, give_output, link_of
from juxtalogos.suite.document.managing import SuitePlace
from juxtalogos.suite.document.reader import find_suite, read_suites
from juxtalogos.suite.inputs import base_address, declared_row, json_type, put, resolve_address, schema_at
from juxtalogos.suite.model import Case, Step, Suite
from juxtalogos.workspace.workspace import Workspace

_CASE_LINK = re.compile(r"@([A-Za-z0-9_\-]+)#(?!header\.)([A-Za-z0-9_\-]+)(/.*|#.*|)", re.DOTALL)
_LINK = re.compile(r"@([A-Za-z0-9_\-]+)#(.*)", re.DOTALL)


@dataclass(frozen=True, slots=True)
class Place:
    """A step with the suite and case that it stands in."""

    path: Path
    suite: Suite
    case: Case
    step: Step

    @property
    def called(self) -> tuple[Contract, Operation]:
        """What the step calls; UsageError where that is another case."""
        if self.step.contract is None or self.step.operation is None:
            raise UsageError(
                f"{self.step.id} calls another case and has no inputs",
                mend="set the inputs of that case's steps",
            )
        return self.step.contract, self.step.operation


def case_at(home: Workspace, place: SuitePlace) -> tuple[Path, Suite, Case]:
    """The case of a place; SuiteError with the nearest."""
    path = find_suite(home, place.suite)
    suite = read_suites(home, [path])[0][0]
    case = suite.case(place.case)
    if case is None:
        raise SuiteError(
            f"there is no case {quoted(place.case)}",
            where=str(path),
            mend=nearest(place.case, [other_case.id for other_case in suite.cases]),
        )
    return path, suite, case


def step_at(home: Workspace, place: SuitePlace) -> Place:
    """The step of a place; where the case has one only, its name may be left out."""
    path, suite, case = case_at(home, place)
    name = place.step or (case.written[0].id if len(case.written) == 1 else "")
    step = next((one for one in case.written if one.id == name), None)
    if step is None and name.isdigit() and 0 < int(name) <= len(case.written):
        step = case.written[int(name) - 1]
    if step is None:
        known = [earlier.id for earlier in case.written]
        what = f"there is no step {quoted(name)}" if name else "the case has several steps"
        raise SuiteError(
            what, where=str(path), mend=nearest(name, known) or f"write {place.suite}#{place.case}#{known[0]}"
        )
    return Place(path, suite, case, step)


@contextmanager
def read_back(home: Workspace, path: Path) -> Iterator[None]:
    """Reads a suite after it was changed; what its reader refuses is as it was before, and SuiteError."""
    before = path.read_bytes()
    yield
    try:
        read_suites(home, [path])
    except SuiteError:
        path.write_bytes(before)
        raise


# Inputs.


def set_input(home: Workspace, place: SuitePlace, address: str, text: str) -> str:
    """Gives an input of a step a value, a link or a formula; gives what was written, in words.

    `@STEP#/path` takes a value of an earlier step's answer, `@CASE#STEP/path` one of another case of the
    suite, which then
    runs before (JSONPaths: `@STEP#$.x`, `@CASE#STEP#$.x`), `$inputs.NAME` an input of the case, `=FORMULA`
    computes one; a doubled first character is the character itself.
    """
    at = step_at(home, place)
    contract, operation = at.called
    address = resolve_address(operation, address)
    row = declared_row(contract, operation, address)
    value: Any = ABSENT
    link, formula, other = None, "", ""
    if text[:2] in ("@@", "$$", "=="):
        value = _typed(wire_of(contract), contract, operation, address, text[1:])
    elif text.startswith("@") and (found := _CASE_LINK.fullmatch(text)):
        other = found[1]
        link = _case_link(at, address, other, found[2], found[3])
    elif text.startswith("@"):
        link = _link(at, address, text)
    elif text.startswith("="):
        formula = text[1:].strip()
        value = f"$inputs.{_input_name(address)}"
    elif text.startswith("$"):
        value = text
    else:
        value = _typed(wire_of(contract), contract, operation, address, text)
    with read_back(home, at.path), editing(at.path) as document:
        case = workflow(document, at.case.id, at.path)
        step = step_of(case, at.step.id, at.path)
        giving = workflow(document, other, at.path) if other else case
        if link is not None:
            link = give_output(giving["steps"], link)
            value = f"$workflows.{other}.outputs.{link.output}" if other else link.reference
        if other and link is not None:
            giving.setdefault("outputs", {})[link.output] = link.reference
            if other not in case.setdefault("dependsOn", []):
                case["dependsOn"].append(other)
        if formula:
            properties = case.setdefault("inputs", {"type": "object"}).setdefault("properties", {})
            properties[_input_name(address)] = {"type": json_type(row), "x-juxtalogos-value": formula}
        before = dict(literals(step)).get(address)
        put_input(step, contract, operation, address, value)
        if isinstance(before, str) and before != value:
            drop_unused(case, before)
        kept = _kept_as_parameter(home, at, document, text, before)
    if kept:
        return kept
    return str(value) if not isinstance(value, str) or not formula else f"{value}, computed by {formula}"


def _kept_as_parameter(home: Workspace, at: Place, document: Any, text: str, before: Any) -> str:
    """Where `$inputs.NAME` names a parameter that nothing gives yet, the value that stood there becomes its
    value in this suite; gives what is to be told.
    """
    name = text.removeprefix("$inputs.")
    named = text.startswith("$inputs.") and re.fullmatch(r"[A-Za-z0-9_\-]+", name)
    if not named or at.case.table is not None:
        return ""
    given = {*at.case.inputs, *at.case.formulas, *at.case.kinds, *at.suite.variables, *home.config.variables}
    if name in given or any(name in target.variables for target in home.config.targets.values()):
        return f"{text}, in place of {before}" if before not in (None, ABSENT, text) else ""
    if before is None or before is ABSENT or (isinstance(before, str) and "$" in before):
        return f"{text}, which has no value yet: juxtalogos parameters set {name}=VALUE"
    document.setdefault("x-juxtalogos-variables", {})[name] = before
    return f"{text}, a parameter of the suite {at.suite.name} from now on: {before}"


def literals(step: Any) -> Iterator[tuple[str, Any]]:
    """(address, what stands there) of the single values of a step as it is written."""
    for one in step.get("parameters", ()):
        yield f"{one.get('in', '')}.{one.get('name', '')}", one.get("value")
    yield from (
        (f"body{pointer}", one)
        for pointer, one in _leaves("", step.get("requestBody", {}).get("payload", ABSENT))
    )


def put_input(step: Any, contract: Contract, operation: Operation, address: str, value: Any) -> None:
    """Writes a value to a step's parameters or body."""
    base = base_address(operation, address)
    pointer = address[len(base) :]
    if base == "body":
        body = step.setdefault("requestBody", {})
        media = chosen_media(operation)
        body.setdefault("contentType", media.media_type if media else "application/json")
        if isinstance(body.get("payload"), str) and pointer:
            raise UsageError(
                "the body of this step is one text", mend="change it in the file, or set the body whole"
            )
        body["payload"] = put(body.get("payload", ABSENT), split_pointer(pointer), value, address)
        return
    place, _, name = base.partition(".")
    listed = step.setdefault("parameters", [])
    found = next(
        (item for item in listed if item.get("name") == name and item.get("in", place) == place), None
    )
    if found is None:
        found = {"name": name, "in": place, "value": ABSENT}
        listed.append(found)
    found["value"] = put(found.get("value", ABSENT), split_pointer(pointer), value, address)


def _typed(wire: Wire, contract: Contract, operation: Operation, address: str, text: str) -> Any:
    base = base_address(operation, address)
    return wire.parse_text(schema_at(operation, base), address[len(base) :], text)


def _input_name(address: str) -> str:
    """What an input of the case is called that feeds an address."""
    return re.sub(r"[^A-Za-z0-9_]+", "-", address.rpartition("/")[2].rpartition(".")[2]).strip("-") or "value"


def _link(at: Place, address: str, text: str) -> StepLink:
    """A link to a value of an earlier step's answer. UsageError where the definition has no such value."""
    found = _LINK.fullmatch(text)
    if found is None:
        raise UsageError(
            f"{quoted(text)} names no value of a step", mend="write @STEP#/path, such as @announce#/callId"
        )
    name, source = found[1], found[2]
    before = [earlier.id for earlier in at.case.written[: at.case.written.index(at.step)]]
    if name not in before:
        raise UsageError(
            f"{quoted(name)} is no step before {at.step.id}",
            mend=nearest(name, before) or "the case has no step before it",
        )
    step = at.case.step(name)
    if step is not None and step.contract and step.operation:
        check_source(step.contract, step.operation, source)
    return link_of(address, name, source)


def _case_link(at: Place, address: str, case_id: str, step_id: str, source: str) -> StepLink:
    """A link to a value of a step of another case. UsageError where that, or the value, is not there."""
    case = at.suite.case(case_id)
    if case is None or case.id == at.case.id:
        known = [other_case.id for other_case in at.suite.cases if other_case.id != at.case.id]
        if at.case.step(case_id) is not None:
            raise UsageError(
                f"{quoted(f'{case_id}#{step_id}')} is not a place in a response",
                mend=f"write @{case_id}#/{step_id}",
            )
        raise UsageError(
            f"{quoted(case_id)} is no other case of {at.suite.name}",
            mend=nearest(case_id, known) or f"write @STEP#/path for a step of {at.case.id}",
        )
    step = case.step(step_id)
    if step is None:
        raise UsageError(
            f"the case {case_id} has no step {quoted(step_id)}",
            mend=nearest(step_id, [earlier.id for earlier in case.steps]),
        )
    source = source.removeprefix("#")
    if step.contract and step.operation:
        check_source(step.contract, step.operation, source)
    return link_of(address, step_id, source)


# Checks.


def add_check(home: Workspace, place: SuitePlace, text: str) -> dict[str, Any]:
    """Adds `ADDRESS TEST [OPERAND]` to a step as a written check; one of the same place and test takes the
    older one's.
    """
    at = step_at(home, place)
    check = parsed_check(text)
    with read_back(home, at.path):
        add_checks(at.path, at.case.id, at.step.id, [check])
    return check


def parsed_check(text: str) -> dict[str, Any]:
    """A written check out of `ADDRESS TEST [OPERAND]`."""
    words = text.split(None, 2)
    if len(words) < 2:
        raise UsageError(
            f"{quoted(text)} is no check",
            mend="write 'ADDRESS TEST OPERAND', such as 'body/state equals moored'",
        )
    address, test = words[:2]
    operand: Any = True if len(words) < 3 else words[2]
    if isinstance(operand, str) and test not in ("computed", "matches"):
        try:
            operand = parse_json(operand)
        except NotJson:
            operand = operand.split(",") if test == "among" else operand
    return {"at": address, test: operand}


# Tables.


def attach_table(
    home: Workspace, place: SuitePlace, name: str, rows: Sequence[Mapping[str, Any]], links: Mapping[str, str]
) -> list[tuple[str, str, str]]:
    """Puts a table under a case; (column, step, address) of every input that a column feeds now.

    A column feeds the inputs of its name that the steps set and whose types allow its values, the first where
    none allows
    them; `links` says otherwise: column -> `ADDRESS` or `STEP#ADDRESS`.
    """
    columns = list(dict.fromkeys(column for row in rows for column in row))
    path, _, case = case_at(home, place)
    for column in links:
        if column not in columns:
            raise UsageError(f"the table has no column {quoted(column)}", mend=nearest(column, columns))
    fed = [
        (column, *one)
        for column in columns
        for one in _fed(
            case, column, links.get(column, ""), [row[column] for row in rows[:_LOOKED_AT] if column in row]
        )
    ]
    with read_back(home, path), editing(path) as document:
        edited = workflow(document, case.id, path)
        edited["x-juxtalogos-table"] = {"file": name}
        properties = edited.setdefault("inputs", {"type": "object"}).setdefault("properties", {})
        for column, step_id, address in fed:
            step = case.step(step_id)
            assert step is not None and step.contract is not None and step.operation is not None
            row = declared_row(step.contract, step.operation, address)
            properties.setdefault(column, {"type": json_type(row)})
            put_input(
                step_of(edited, step_id, path), step.contract, step.operation, address, f"$inputs.{column}"
            )
        for column in columns:
            properties.setdefault(column, {})
    return fed


def run_once(home: Workspace, place: SuitePlace, step_id: str) -> list[str]:
    """Lets the first steps of a case, up to one, run once for all rows of its table; their ids."""
    path, _, case = case_at(home, place)
    names = [step.id for step in case.steps]
    if step_id not in names:
        raise UsageError(f"the case has no step {quoted(step_id)}", mend=nearest(step_id, names))
    once = names[: names.index(step_id) + 1]
    if case.table is None:
        raise UsageError(
            f"{place} has no table, so every step runs once",
            mend="give the table first: juxtalogos suite table SUITE#CASE FILE",
        )
    with read_back(home, path), editing(path) as document:
        workflow(document, case.id, path)["x-juxtalogos-setup"] = once
    return once


_LOOKED_AT = 50
"""Rows whose values tell which inputs a column is meant for."""


def _fed(case: Case, column: str, link: str, values: Sequence[Any]) -> Iterator[tuple[str, str]]:
    """(step, address) of the inputs that a column feeds."""
    named, _, address = link.rpartition("#")
    if named and case.step(named) is None:
        raise UsageError(
            f"there is no step {quoted(named)}", mend=nearest(named, [earlier.id for earlier in case.steps])
        )
    steps = [
        earlier
        for earlier in case.steps
        if earlier.operation is not None
        and earlier.contract is not None
        and (not named or earlier.id == named)
    ]
    if not link:
        found = [(step, one) for step in steps for one in _addresses(step) if _input_name(one) == column]
        meant = [(step.id, one) for step, one in found if _allows(step, one, values)]
        yield from meant or [(step.id, one) for step, one in found[:1]] or _first_declared(steps, column)
        return
    wrong: UsageError | None = None
    for step in steps:
        assert step.operation is not None and step.contract is not None
        try:
            resolved = resolve_address(step.operation, address)
            declared_row(step.contract, step.operation, resolved)
        except UsageError as error:
            wrong = wrong or error
            continue
        yield step.id, resolved
        return
    if wrong is not None:
        raise wrong


def _allows(step: Step, address: str, values: Sequence[Any]) -> bool:
    """Whether the declared type of an input allows all of these values; texts are read as it says."""
    assert step.operation is not None and step.contract is not None
    base = base_address(step.operation, address)
    ref, row = schema_at(step.operation, base), declared_row(step.contract, step.operation, address)
    if ref is None or row is None:
        return True
    schema, wire = step.contract.schema(ref), wire_of(step.contract)
    typed = (
        _typed(wire, step.contract, step.operation, address, value) if isinstance(value, str) else value
        for value in values
    )
    return not any(not wrong.advisory for one in typed for wrong in schema.check_part(row, one))


def _addresses(step: Step) -> Iterator[str]:
    """The addresses of a step whose values are literals."""
    yield from (address for address, value in step.parameters if not _is_expression(value))
    if step.payload is not None:
        yield from (
            f"body{pointer}"
            for pointer, value in _leaves("", step.payload.payload)
            if not _is_expression(value)
        )


def _first_declared(steps: list[Step], column: str) -> Iterator[tuple[str, str]]:
    """Of inputs that no step sets, the first of that name."""
    for step in steps:
        assert step.operation is not None and step.contract is not None
        names = [
            declared_input.address
            for declared_input in step.operation.inputs
            if declared_input.name == column
        ]
        ref = schema_at(step.operation, "body")
        rows = contract_rows(step.contract, ref) if ref else []
        names += [f"body{row.path}" for row in rows if row.scalar and _input_name(row.path) == column]
        if names:
            yield step.id, names[0]
            return


def contract_rows(contract: Contract, ref: SchemaRef) -> list[OutlineRow]:
    """The outline of a schema without what lies in lists and maps."""
    return [
        row
        for row in contract.schema(ref).outline()
        if not any(token.isdigit() or token == "NAME" for token in split_pointer(row.path))
    ]


def _is_expression(value: Any) -> bool:
    return isinstance(value, str) and value.startswith("$")


def _leaves(pointer: str, value: Any) -> Iterator[tuple[str, Any]]:
    if isinstance(value, dict):
        for key, item in value.items():
            yield from _leaves(f"{pointer}{join_pointer([key])}", item)
    elif isinstance(value, list):
        for index, item in enumerate(value):
            yield from _leaves(f"{pointer}/{index}", item)
    elif value is not ABSENT:
        yield pointer, value
