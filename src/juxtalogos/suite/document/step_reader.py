"""Reading the steps of a workflow."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any, Protocol

from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.location import Location
from juxtalogos.model.schema import ABSENT
from juxtalogos.suite.checks.form import BadCheck
from juxtalogos.suite.checks.reported import KEY as REPORTED
from juxtalogos.suite.checks.reported import Reported, read_reported
from juxtalogos.suite.checks.written import WrittenCheck, read_check
from juxtalogos.suite.document.flows import flows_of
from juxtalogos.suite.document.node_reader import KnownNames, NodeReader
from juxtalogos.suite.inputs import resolve_address
from juxtalogos.suite.language.formulas import BadFormula, reads_of
from juxtalogos.suite.language.selectors import BadSelector, check_xpath, json_path, prefixes_in
from juxtalogos.suite.model import Action, CaseKey, Created, Output, Payload, Replacement, Step

ID = re.compile(r"[A-Za-z0-9_\-]+")
_KEYS = (
    "stepId",
    "description",
    "operationId",
    "operationPath",
    "workflowId",
    "parameters",
    "requestBody",
    "successCriteria",
    "onSuccess",
    "onFailure",
    "outputs",
    "x-juxtalogos-always",
    "x-juxtalogos-checks",
    "x-juxtalogos-creates",
    "x-juxtalogos-disabled",
    "x-juxtalogos-needed",
    "x-juxtalogos-outputs",
    "x-juxtalogos-reported",
    "x-juxtalogos-role",
)


class NamedSources(Protocol):
    """What a suite's source descriptions lead to."""

    contracts: dict[str, Contract]
    names: dict[str, dict[str, str]]
    components: dict[str, Any]

    def case_key(self, text: str, at: Location) -> CaseKey: ...

    def schema_at(self, value: Any, at: Location) -> Any: ...

    def kept(self, name: str) -> Any: ...


class StepReader:
    """Reads steps in their order; each may read what those before it gave."""

    def __init__(self, reader: NodeReader, sources: NamedSources, step_ids: list[str]) -> None:
        self.reader = reader
        self.sources = sources
        self.step_ids = step_ids
        """Of the whole workflow: a goto may lead forward."""
        self.before: dict[str, list[str] | None] = {}

    def known(self, step: str = "", outputs: list[str] | None = None) -> KnownNames:
        return KnownNames(self.sources.names, {**self.before, step: outputs} if step else dict(self.before))

    def step(self, value: Any, at: Location, shared: list[Any], shared_at: Location) -> Step:
        """A step, all that is wrong with it told as SuiteError."""
        reader = self.reader
        step = reader.mapping(value, at, "a step")
        reader.keys(step, _KEYS, at)
        step_id = step.get("stepId")
        if not isinstance(step_id, str) or not ID.fullmatch(step_id):
            reader.fail("a step needs a `stepId` of letters, digits, _ and -", at, "add one")
        if step_id in self.before:
            reader.fail(
                f"the stepId {quoted(step_id)} stands twice",
                at.child("stepId"),
                "make it unique in its workflow",
            )
        contract, operation, case = self.target(step, at)
        outputs = reader.mapping(step.get("outputs", {}), at.child("outputs"), "`outputs`")
        selected = self.selected(step, at)
        # With a goto, what a step reads may come from one that stands behind it.
        own = [*outputs, *(part.name for part in selected)]
        known = self.known(step_id, own)
        for name, text in outputs.items():
            reader.expression(text, at.child("outputs", name), known)
        found = Step(
            step_id,
            at,
            contract,
            operation,
            case,
            tuple(self.parameters(step, at, shared, shared_at, operation).items()),
            self.payload(step.get("requestBody"), at.child("requestBody")),
            tuple(
                reader.criterion(item, at.child("successCriteria", index), known)
                for index, item in enumerate(reader.listing(step, "successCriteria", at))
            ),
            tuple(outputs.items()),
            selected,
            tuple(self.checks(step, at, known)),
            self.actions(step, "onSuccess", at, known),
            self.actions(step, "onFailure", at, known),
            str(step.get("description", "")),
            bool(step.get("x-juxtalogos-always")),
            reported=self.reported(step, at),
            role=reader.text(step, "x-juxtalogos-role", at) if "x-juxtalogos-role" in step else "",
            needed=step.get("x-juxtalogos-needed") is True,
            unless=self.unless(step, at),
            creates=self.creates(step, at, known),
            disabled=step.get("x-juxtalogos-disabled") is True,
        )
        self.before[step_id] = own
        return replace(found, flows=flows_of(found.parameters, found.payload))

    def target(
        self, step: dict[str, Any], at: Location
    ) -> tuple[Contract | None, Operation | None, CaseKey | None]:
        """What a step calls: an operation of a contract, or a case."""
        reader = self.reader
        given = [key for key in ("operationId", "operationPath", "workflowId") if key in step]
        if len(given) != 1:
            reader.fail(
                "a step needs exactly one of `operationId`, `operationPath` and `workflowId`",
                at,
                "name what it calls once",
            )
        text, place = reader.text(step, given[0], at), at.child(given[0])
        if given[0] == "workflowId":
            if "requestBody" in step:
                reader.fail(
                    "a step that calls a workflow has no body",
                    at.child("requestBody"),
                    "give values as `parameters`",
                )
            return None, None, self.sources.case_key(text, place)
        contract, operation = (
            self.by_id(text, place) if given[0] == "operationId" else self.by_path(text, place)
        )
        return contract, operation, None

    def by_path(self, text: str, at: Location) -> tuple[Contract, Operation]:
        """The operation that an `operationPath` names."""
        contracts = self.sources.contracts
        found = re.fullmatch(r"\{?\$sourceDescriptions\.([A-Za-z0-9_\-]+)\.url\}?#(/.+)", text)
        if not found or found.group(1) not in contracts:
            self.reader.fail(
                f"{quoted(text)} is no operationPath",
                at,
                "write '{$sourceDescriptions.NAME.url}#/paths/~1berths/get'",
            )
        contract, pointer = contracts[found.group(1)], found.group(2)
        for operation in contract.operations:
            if pointer in (operation.reference, operation.location.pointer):
                return contract, operation
        known = [operation.reference for operation in contract.operations]
        self.reader.fail(f"{quoted(pointer)} is no operation of {contract.name}", at, nearest(pointer, known))

    def by_id(self, text: str, at: Location) -> tuple[Contract, Operation]:
        """The operation that an `operationId` names."""
        contracts, name, found = self.sources.contracts, "", text
        if text.startswith("$sourceDescriptions."):
            name, _, found = text[len("$sourceDescriptions.") :].partition(".")
            if name not in contracts:
                self.reader.fail(
                    f"there is no source {quoted(name)} of operations", at, nearest(name, contracts)
                )
        elif len(contracts) > 1:
            self.reader.fail(
                "with several sources an operationId names its source",
                at,
                f"write $sourceDescriptions.NAME.{text}",
            )
        elif not contracts:
            self.reader.fail("no source has operations", at, "add a source description of a definition")
        contract = contracts[name] if name else next(iter(contracts.values()))
        operation = contract.operation(found)
        if operation is None:
            known = [operation.id for operation in contract.operations]
            self.reader.fail(f"{contract.name} has no operation {quoted(found)}", at, nearest(found, known))
        return contract, operation

    def parameters(
        self,
        step: dict[str, Any],
        at: Location,
        shared: list[Any],
        shared_at: Location,
        operation: Operation | None,
    ) -> dict[str, Any]:
        """Values by address, the step's own over the workflow's."""
        found: dict[str, Any] = {}
        for holder_at, items in ((shared_at, shared), (at, self.reader.listing(step, "parameters", at))):
            for index, item in enumerate(items):
                place = holder_at.child("parameters", index)
                address, value = self.parameter(item, place, operation, strict=holder_at is at)
                if address:
                    found[address] = value
                    self.reader.expressions(value, place.child("value"), self.known())
        return found

    def parameter(
        self, value: Any, at: Location, operation: Operation | None, *, strict: bool
    ) -> tuple[str, Any]:
        """(address, value) of a parameter."""
        reader = self.reader
        parameter = self.reusable(value, at, "parameters")
        reader.keys(parameter, ("name", "in", "value"), at)
        name, place = parameter.get("name"), parameter.get("in")
        if not isinstance(name, str) or "value" not in parameter:
            reader.fail("a parameter needs `name` and `value`", at, "add them")
        if operation is None:
            return (name, parameter["value"]) if strict or place is None else ("", None)
        if place not in ("path", "query", "header", "cookie"):
            if not strict:
                return "", None
            reader.fail(
                "the parameter of an operation needs `in`: path, query, header or cookie", at, "add it"
            )
        try:
            return resolve_address(operation, f"{place}.{name}"), parameter["value"]
        except UsageError as error:
            if not strict:
                return "", None  # a workflow's parameters serve the steps that know them
            reader.fail(error.what, at.child("name"), error.mend)

    def reusable(self, value: Any, at: Location, kind: str) -> dict[str, Any]:
        """An object written out, or the component that a reusable object names; a parameter's may bring its
        own value.
        """
        reader = self.reader
        found = reader.mapping(value, at, f"an object of `{kind}`")
        if "reference" not in found:
            return found
        text = str(found["reference"])
        name = text.removeprefix(f"$components.{kind}.")
        holder = self.sources.components.get(kind)
        if name == text or not isinstance(holder, dict) or name not in holder:
            known = [f"$components.{kind}.{one}" for one in holder] if isinstance(holder, dict) else []
            reader.fail(f"there is no component {quoted(text)}", at.child("reference"), nearest(text, known))
        reader.keys(found, ("reference", "value") if kind == "parameters" else ("reference",), at)
        component = reader.mapping(holder[name], at, f"the component {name}")
        return {**component, "value": found["value"]} if "value" in found else component

    def payload(self, value: Any, at: Location) -> Payload | None:
        """The request body; None without one."""
        if value is None:
            return None
        reader, known = self.reader, self.known()
        body = reader.mapping(value, at, "`requestBody`")
        reader.keys(body, ("contentType", "payload", "replacements"), at)
        replacements = []
        for index, item in enumerate(reader.listing(body, "replacements", at)):
            place = at.child("replacements", index)
            replacement = reader.mapping(item, place, "a replacement")
            target = replacement.get("target")
            if not isinstance(target, str) or target[:1] != "/" or "value" not in replacement:
                reader.fail(
                    "a replacement needs a `target` (a JSON Pointer, or an XPath for XML) and a `value`",
                    place,
                    "add them",
                )
            replacements.append(Replacement(target, replacement["value"]))
            reader.expressions(replacement["value"], place.child("value"), known)
        reader.expressions(body.get("payload"), at.child("payload"), known)
        return Payload(str(body.get("contentType", "")), body.get("payload", ABSENT), tuple(replacements))

    def selected(self, step: dict[str, Any], at: Location) -> tuple[Output, ...]:
        """The outputs chosen by selectors."""
        reader, found = self.reader, []
        holder = reader.mapping(
            step.get("x-juxtalogos-outputs", {}), at.child("x-juxtalogos-outputs"), "`x-juxtalogos-outputs`"
        )
        for name, item in holder.items():
            place = at.child("x-juxtalogos-outputs", name)
            output = reader.mapping(item, place, "an output")
            reader.keys(output, ("context", "type", "selector", "first"), place)
            kind, selector = output.get("type", "jsonpath"), reader.text(output, "selector", place)
            try:
                if kind == "jsonpath":
                    json_path(selector)
                elif kind == "xpath":
                    check_xpath(selector, namespaces={**prefixes_in(selector), **reader.namespaces})
                elif kind == "segment":
                    int(selector)
                else:
                    reader.fail(
                        f"unknown type {quoted(kind)}",
                        place.child("type"),
                        "write jsonpath, xpath or segment",
                    )
            except (BadSelector, ValueError) as error:
                reader.fail(str(error), place.child("selector"), "correct it there")
            first = output.get("first", False)
            if not isinstance(first, bool):
                reader.fail("`first` is true or false", place.child("first"), "write true, or leave it out")
            found.append(Output(name, str(output.get("context", "$response.body")), kind, selector, first))
        return tuple(found)

    def unless(self, step: dict[str, Any], at: Location) -> tuple[str, ...]:
        """The steps whose success makes a clean-up step needless."""
        value, place = step.get("x-juxtalogos-always"), at.child("x-juxtalogos-always")
        if not isinstance(value, dict):
            return ()
        self.reader.keys(value, ("unless",), place)
        name = self.reader.text(value, "unless", place)
        if name not in self.before:
            self.reader.fail(
                f"there is no step {quoted(name)} before", place.child("unless"), nearest(name, self.before)
            )
        return (name,)

    def creates(self, step: dict[str, Any], at: Location, known: KnownNames) -> Created | None:
        """How the step shows what it created."""
        if "x-juxtalogos-creates" not in step:
            return None
        reader, place = self.reader, at.child("x-juxtalogos-creates")
        value = reader.mapping(step["x-juxtalogos-creates"], place, "`x-juxtalogos-creates`")
        reader.keys(value, ("key", "operationId", "operationPath", "selector"), place)
        key = reader.text(value, "key", place)
        reader.expression(key, place.child("key"), known)
        if not {"operationId", "operationPath"} & value.keys():
            return Created(key)
        contract, listing, _ = self.target(value, place)
        selector = reader.text(value, "selector", place)
        try:
            if selector.startswith("$"):
                json_path(selector)
            else:
                check_xpath(selector, namespaces={**prefixes_in(selector), **reader.namespaces})
        except BadSelector as error:
            reader.fail(str(error), place.child("selector"), "correct it there")
        return Created(key, contract, listing, selector)

    def reported(self, step: dict[str, Any], at: Location) -> Reported:
        """The values that the step puts into the report."""
        if REPORTED not in step:
            return ()
        place = at.child(REPORTED)
        try:
            return read_reported(step[REPORTED], place)
        except BadCheck as error:
            self.reader.fail(str(error), place.child(error.key) if error.key else place, error.mend)

    def checks(self, step: dict[str, Any], at: Location, known: KnownNames) -> list[WrittenCheck]:
        """The written checks of a step."""
        found = []
        for index, item in enumerate(self.reader.listing(step, "x-juxtalogos-checks", at)):
            place = at.child("x-juxtalogos-checks", index)
            try:
                check = read_check(item, place, self.sources.schema_at, self.sources.kept)
            except BadCheck as error:
                self.reader.fail(str(error), place.child(error.key) if error.key else place, error.mend)
            except BadFormula as error:
                target = place.child("computed")
                self.reader.fail(
                    str(error),
                    target,
                    "see docs/suites.md for formulas",
                    self.reader.caret(target, str(item["computed"]), error.at),
                )
            self.reader.expressions(check.operand, place, known)
            if check.formula is not None:
                self.reader.reads(reads_of(check.formula), place, known)
            found.append(check)
        return found

    def actions(
        self, holder: dict[str, Any], key: str, at: Location, known: KnownNames
    ) -> tuple[Action, ...]:
        return tuple(
            self.action(item, at.child(key, index), "uccess" in key, known)
            for index, item in enumerate(self.reader.listing(holder, key, at))
        )

    def action(self, value: Any, at: Location, success: bool, known: KnownNames) -> Action:
        """An action after success or failure."""
        reader = self.reader
        action = self.reusable(value, at, "successActions" if success else "failureActions")
        reader.keys(
            action,
            (
                "name",
                "type",
                "workflowId",
                "stepId",
                "criteria",
                *(() if success else ("retryAfter", "retryLimit")),
            ),
            at,
        )
        name, kind = reader.text(action, "name", at), action.get("type")
        kinds = ("end", "goto") if success else ("end", "goto", "retry")
        if kind not in kinds:
            reader.fail(
                f"an action's `type` is one of {', '.join(kinds)}",
                at.child("type") if "type" in action else at,
                nearest(str(kind), kinds),
            )
        step, case = action.get("stepId", ""), None
        if "workflowId" in action:
            case = self.sources.case_key(str(action["workflowId"]), at.child("workflowId"))
        if kind == "goto" and bool(step) == bool(case):
            reader.fail("a goto names exactly one of `stepId` and `workflowId`", at, "add it")
        if step and step not in self.step_ids:
            reader.fail(
                f"there is no step {quoted(step)}", at.child("stepId"), nearest(str(step), self.step_ids)
            )
        after, limit = action.get("retryAfter", 0), action.get("retryLimit", 1)
        if (
            isinstance(after, bool)
            or not isinstance(after, int | float)
            or after < 0
            or isinstance(limit, bool)
            or not isinstance(limit, int)
            or limit < 0
        ):
            reader.fail(
                "`retryAfter` is a number of seconds, `retryLimit` a whole number, both from 0",
                at,
                "correct them",
            )
        criteria = tuple(
            reader.criterion(item, at.child("criteria", index), known)
            for index, item in enumerate(reader.listing(action, "criteria", at))
        )
        return Action(name, str(kind), at, criteria, str(step), case, float(after), int(limit))
