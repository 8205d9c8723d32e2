"""Reading a suite: an Arazzo 1.0.1 document -> a `Suite`, every fault with file, line and remedy, before anything is sent."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NoReturn

from juxtalogos.documents.load import load_document
from juxtalogos.documents.positions import position
from juxtalogos.model.contract import Contract, Document, Operation
from juxtalogos.model.errors import DocumentError, SuiteError, UsageError, nearest, quoted
from juxtalogos.model.location import Location
from juxtalogos.model.seams import ABSENT
from juxtalogos.schema.patterns import PatternError, compile_pattern
from juxtalogos.suite.conditions import BadCondition, parse_condition
from juxtalogos.suite.expressions import BadExpression, expressions_in, parse_expression
from juxtalogos.suite.inputs import resolve_address
from juxtalogos.suite.model import Case, Criterion, Payload, Replacement, Step, Suite
from juxtalogos.workspace.files import read_inside
from juxtalogos.workspace.workspace import Workspace

_ID = re.compile(r"[A-Za-z0-9_\-]+")
_NOT_YET_STEP = ("workflowId", "onSuccess", "onFailure", "x-juxtalogos-checks", "x-juxtalogos-outputs")
_NOT_YET_CASE = ("dependsOn", "successActions", "failureActions", "x-juxtalogos-table", "x-juxtalogos-setup")
_STEP_KEYS = (
    "stepId",
    "description",
    "operationId",
    "operationPath",
    "parameters",
    "requestBody",
    "successCriteria",
    "outputs",
    "x-juxtalogos-always",
)
_CASE_KEYS = ("workflowId", "summary", "description", "inputs", "steps", "outputs", "parameters")


def suite_paths(workspace: Workspace) -> list[Path]:
    return sorted(
        path
        for path in workspace.suites.rglob("*")
        if path.name.endswith((".arazzo.yaml", ".arazzo.yml", ".arazzo.json"))
    )


def suite_name(path: Path, workspace: Workspace) -> str:
    return path.relative_to(workspace.suites).as_posix().rpartition(".arazzo.")[0]


def find_suite(workspace: Workspace, name: str) -> Path:
    """SuiteError when there is none of that name."""
    by_name = {suite_name(path, workspace): path for path in suite_paths(workspace)}
    if name not in by_name:
        mend = nearest(name, by_name) or "compose one: juxtalogos compose CONTRACT"
        raise SuiteError(f"there is no suite {quoted(name)}", where=str(workspace.suites), mend=mend)
    return by_name[name]


def read_suite(workspace: Workspace, path: Path) -> Suite:
    """SuiteError at the first fault."""
    relative = path.relative_to(workspace.root).as_posix()
    try:
        document = load_document(relative, read_inside(workspace.root, relative))
    except DocumentError as error:
        raise SuiteError(error.what, where=error.where, mend=error.mend) from None
    return _SuiteReader(workspace, path, document).suite()


class _SuiteReader:
    def __init__(self, workspace: Workspace, path: Path, document: Document) -> None:
        self.workspace = workspace
        self.path = path
        self.document = document
        self.sources: dict[str, Contract] = {}

    def fail(self, what: str, at: Location, mend: str = "") -> NoReturn:
        place = position(self.document, at.pointer)
        raise SuiteError(what, where=f"{self.document.uri}:{place.line}:{place.column}", mend=mend)

    def mapping(self, value: Any, at: Location, what: str) -> dict[str, Any]:
        if not isinstance(value, dict):
            self.fail(f"{what} is no mapping", at, "see the Arazzo standard, version 1.0.1")
        return value

    def listing(self, holder: dict[str, Any], key: str, at: Location, *, needed: bool = False) -> list[Any]:
        value = holder.get(key, [])
        if not isinstance(value, list) or (needed and not value):
            self.fail(
                f"`{key}` must be a list{' of one or more' if needed else ''}",
                at.child(key) if key in holder else at,
                f"add `{key}`",
            )
        return value

    def keys(self, value: dict[str, Any], known: tuple[str, ...], not_yet: tuple[str, ...], at: Location) -> None:
        for key in value:
            if key in not_yet:
                self.fail(
                    f"`{key}` is not run by this version",
                    at.child(key),
                    "take it out; docs/suites.md lists what is run",
                )
            if key not in known and not key.startswith("x-"):
                self.fail(f"unknown key {quoted(key)}", at.child(key), nearest(key, known))

    def suite(self) -> Suite:
        root = Location(self.document.uri)
        value = self.mapping(self.document.value, root, "the document")
        version = value.get("arazzo")
        if not isinstance(version, str) or not version.startswith("1.0"):
            self.fail(
                f"this is no Arazzo 1.0 document (`arazzo: {quoted(version)}`)",
                root.child("arazzo"),
                "write `arazzo: 1.0.1` at the top",
            )
        info = self.mapping(value.get("info"), root.child("info"), "`info`")
        for index, source in enumerate(self.listing(value, "sourceDescriptions", root, needed=True)):
            self.source(source, root.child("sourceDescriptions", index))
        cases = tuple(
            self.case(item, root.child("workflows", index))
            for index, item in enumerate(self.listing(value, "workflows", root, needed=True))
        )
        seen: set[str] = set()
        for case in cases:
            if case.id in seen:
                self.fail(
                    f"the workflowId {quoted(case.id)} stands twice",
                    case.location.child("workflowId"),
                    "make it unique",
                )
            seen.add(case.id)
        return Suite(suite_name(self.path, self.workspace), self.path, self.document, cases, str(info.get("title", "")))

    def source(self, value: Any, at: Location) -> None:
        source = self.mapping(value, at, "a source description")
        name, url = source.get("name"), source.get("url")
        if not isinstance(name, str) or not _ID.fullmatch(name) or not isinstance(url, str):
            self.fail("a source description needs a `name` of letters, digits, _ and -, and a `url`", at, "add them")
        if source.get("type") == "arazzo":
            self.fail(
                "sources that are Arazzo documents are not run by this version",
                at.child("type"),
                "refer to definitions only",
            )
        folder = (self.path.parent / url).resolve()
        definitions = self.workspace.definitions.resolve()
        contract = (
            folder.relative_to(definitions).parts[0]
            if folder.is_relative_to(definitions) and folder != definitions
            else name
        )
        if contract not in self.workspace.contract_names():
            self.fail(
                f"the source {quoted(name)} is no imported contract",
                at.child("url"),
                nearest(contract, self.workspace.contract_names()) or "import its definition",
            )
        self.sources[name] = self.workspace.contract(contract)

    def case(self, value: Any, at: Location) -> Case:
        case = self.mapping(value, at, "a workflow")
        self.keys(case, _CASE_KEYS, _NOT_YET_CASE, at)
        case_id = case.get("workflowId")
        if not isinstance(case_id, str) or not _ID.fullmatch(case_id):
            self.fail("a workflow needs a `workflowId` of letters, digits, _ and -", at, "add one")
        shared = self.listing(case, "parameters", at)
        steps: list[Step] = []
        for index, item in enumerate(self.listing(case, "steps", at, needed=True)):
            step = self.step(item, at.child("steps", index), shared, at, [step.id for step in steps])
            steps.append(step)
        inputs = case.get("inputs")
        properties = inputs.get("properties") if isinstance(inputs, dict) else None
        defaults = {
            name: item["default"]
            for name, item in (properties or {}).items()
            if isinstance(item, dict) and "default" in item
        }
        return Case(case_id, tuple(steps), at, str(case.get("summary", "")), defaults)

    def step(self, value: Any, at: Location, shared: list[Any], shared_at: Location, before: list[str]) -> Step:
        step = self.mapping(value, at, "a step")
        self.keys(step, _STEP_KEYS, _NOT_YET_STEP, at)
        step_id = step.get("stepId")
        if not isinstance(step_id, str) or not _ID.fullmatch(step_id):
            self.fail("a step needs a `stepId` of letters, digits, _ and -", at, "add one")
        if step_id in before:
            self.fail(
                f"the stepId {quoted(step_id)} stands twice", at.child("stepId"), "make it unique in its workflow"
            )
        contract, operation = self.operation(step, at)
        parameters: dict[str, Any] = {}
        for holder_at, items in ((shared_at, shared), (at, self.listing(step, "parameters", at))):
            for index, item in enumerate(items):
                place = holder_at.child("parameters", index)
                address, given = self.parameter(item, place, operation, strict=holder_at is at)
                if address:
                    parameters[address] = given
                    self.check_expressions(given, place.child("value"), before)
        payload = self.payload(step.get("requestBody"), at.child("requestBody"), before)
        outputs = self.mapping(step.get("outputs", {}), at.child("outputs"), "`outputs`")
        for name, text in outputs.items():
            self.expression(text, at.child("outputs", name), [*before, step_id])
        criteria = tuple(
            self.criterion(item, at.child("successCriteria", index), [*before, step_id])
            for index, item in enumerate(self.listing(step, "successCriteria", at))
        )
        always = step.get("x-juxtalogos-always") is True
        return Step(
            step_id,
            contract,
            operation,
            at,
            tuple(parameters.items()),
            payload,
            criteria,
            tuple(outputs.items()),
            str(step.get("description", "")),
            always,
        )

    def operation(self, step: dict[str, Any], at: Location) -> tuple[Contract, Operation]:
        if ("operationId" in step) == ("operationPath" in step):
            self.fail("a step needs exactly one of `operationId` and `operationPath`", at, "name the operation once")
        if "operationId" in step:
            return self.by_id(str(step["operationId"]), at.child("operationId"))
        text, place = str(step["operationPath"]), at.child("operationPath")
        found = re.fullmatch(r"\{\$sourceDescriptions\.([A-Za-z0-9_\-]+)\.url\}#(/.+)", text)
        if not found or found.group(1) not in self.sources:
            self.fail(
                f"{quoted(text)} is no operationPath", place, "write {$sourceDescriptions.NAME.url}#/paths/~1berths/get"
            )
        contract, pointer = self.sources[found.group(1)], found.group(2)
        for operation in contract.operations:
            if pointer in (operation.reference, operation.location.pointer):
                return contract, operation
        known = [operation.reference for operation in contract.operations]
        self.fail(f"{quoted(pointer)} is no operation of {contract.name}", place, nearest(pointer, known))

    def by_id(self, text: str, at: Location) -> tuple[Contract, Operation]:
        name, found = "", text
        if text.startswith("$sourceDescriptions."):
            name, _, found = text[len("$sourceDescriptions.") :].partition(".")
            if name not in self.sources:
                self.fail(f"there is no source {quoted(name)}", at, nearest(name, self.sources))
        elif len(self.sources) > 1:
            self.fail(
                "with several sources an operationId names its source", at, f"write $sourceDescriptions.NAME.{text}"
            )
        contract = self.sources[name] if name else next(iter(self.sources.values()))
        operation = contract.operation(found)
        if operation is None:
            self.fail(
                f"{contract.name} has no operation {quoted(found)}",
                at,
                nearest(found, [operation.id for operation in contract.operations]),
            )
        return contract, operation

    def parameter(self, value: Any, at: Location, operation: Operation, *, strict: bool) -> tuple[str, Any]:
        parameter = self.mapping(value, at, "a parameter")
        if "reference" in parameter:
            self.fail("reusable objects are not run by this version", at.child("reference"), "write the parameter out")
        name, place = parameter.get("name"), parameter.get("in")
        if not isinstance(name, str) or place not in ("path", "query", "header", "cookie") or "value" not in parameter:
            self.fail("a parameter needs `name`, `in` (path, query, header, cookie) and `value`", at, "add them")
        address = f"{place}.{name}"
        try:
            return resolve_address(operation, address), parameter["value"]
        except UsageError as error:
            if not strict:
                return "", None  # a workflow's parameters serve the steps that know them
            self.fail(error.what, at.child("name"), error.mend)

    def payload(self, value: Any, at: Location, before: list[str]) -> Payload | None:
        if value is None:
            return None
        body = self.mapping(value, at, "`requestBody`")
        replacements = []
        for index, item in enumerate(self.listing(body, "replacements", at)):
            place = at.child("replacements", index)
            replacement = self.mapping(item, place, "a replacement")
            target = replacement.get("target")
            if not isinstance(target, str) or not target.startswith("/") or "value" not in replacement:
                self.fail("a replacement needs a `target` (a JSON Pointer) and a `value`", place, "add them")
            replacements.append(Replacement(target, replacement["value"]))
            self.check_expressions(replacement["value"], place.child("value"), before)
        self.check_expressions(body.get("payload"), at.child("payload"), before)
        return Payload(str(body.get("contentType", "")), body.get("payload", ABSENT), tuple(replacements))

    def criterion(self, value: Any, at: Location, before: list[str]) -> Criterion:
        criterion = self.mapping(value, at, "a criterion")
        condition, kind, context = (
            criterion.get("condition"),
            criterion.get("type", "simple"),
            criterion.get("context", ""),
        )
        if not isinstance(condition, str):
            self.fail("a criterion needs a `condition`", at, "write one such as $statusCode == 200")
        if kind not in ("simple", "regex"):
            self.fail(
                f"criteria of type {quoted(kind)} are not run by this version", at.child("type"), "use simple or regex"
            )
        if kind == "regex":
            try:
                compile_pattern(condition)
            except PatternError as error:
                self.fail(
                    f"{quoted(condition)} is no regular expression: {error}",
                    at.child("condition"),
                    "correct the pattern",
                )
            if not context:
                self.fail("a criterion with a `type` needs a `context`", at, "add one such as $response.body#/name")
            self.expression(context, at.child("context"), before)
            return Criterion(condition, at, context, kind)
        try:
            parse_condition(condition)
        except BadCondition as error:
            self.fail(
                f"{error}\n    {condition}\n    {' ' * error.at}^", at.child("condition"), "correct the condition there"
            )
        return Criterion(condition, at, context, kind)

    def check_expressions(self, value: Any, at: Location, before: list[str]) -> None:
        for text in expressions_in(value):
            self.expression(text, at, before)

    def expression(self, text: Any, at: Location, before: list[str]) -> None:
        try:
            found = parse_expression(str(text))
        except BadExpression as error:
            self.fail(str(error), at, "see docs/suites.md for the expressions")
        if found.form == "steps" and found.parts[0] not in before:
            self.fail(
                f"{quoted(text)} reads from a step that does not come before", at, nearest(found.parts[0], before)
            )


def select(suites: list[Suite], case_id: str, step_id: str) -> Iterator[tuple[Suite, Case]]:
    """The cases asked for, with the steps up to the one named; SuiteError when there are none."""
    for suite in suites:
        for case in suite.cases:
            if case_id and case.id != case_id:
                continue
            yield suite, _cut(suite, case, step_id) if step_id else case


def _cut(suite: Suite, case: Case, step_id: str) -> Case:
    """The step, those before it that give what it needs, and the clean-up steps."""
    from dataclasses import replace

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
            wanted |= _needed_steps(step)
    return replace(
        case,
        steps=tuple(
            step for place, step in enumerate(case.steps) if step.id in wanted or (step.always and place > index)
        ),
    )


def _needed_steps(step: Step) -> set[str]:
    values: list[Any] = [value for _, value in step.parameters]
    if step.payload:
        values += [step.payload.payload, *(one.value for one in step.payload.replacements)]
    needed = set()
    for text in expressions_in(values):
        found = parse_expression(text)
        if found.form == "steps":
            needed.add(found.parts[0])
    return needed
