"""Building cases step by step: the one place that knows how Arazzo and our extensions of it are written."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from juxtalogos.documents.charsets import encodable
from juxtalogos.model.contract import Operation
from juxtalogos.model.location import join_pointer
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.document.writer import body_type, operation_reference, slug, step_document

SEGMENT = " segment "
"""In the address of a value: after it, the number of the segment of a path that is meant."""


COMPOSED = "x-juxtalogos-composed"


def digest_of(workflow: Mapping[str, Any]) -> str:
    """A digest of what a workflow object says, whichever way it is written down."""
    said = {key: value for key, value in workflow.items() if key != COMPOSED}
    return hashlib.sha256(_canonical(said).encode("utf-8", "surrogatepass")).hexdigest()[:16]


def is_as_composed(workflow: Mapping[str, Any]) -> bool:
    """Whether nothing of a workflow object was edited since compose wrote it."""
    return COMPOSED in workflow and workflow[COMPOSED] == digest_of(workflow)


def _canonical(value: Any) -> str:
    if isinstance(value, Mapping):
        return "{" + ",".join(f"{key!s}:{_canonical(value[key])}" for key in sorted(value, key=str)) + "}"
    if isinstance(value, list | tuple):
        return "[" + ",".join(map(_canonical, value)) + "]"
    if isinstance(value, int | float | Decimal) and not isinstance(value, bool):
        number = Decimal(str(value))
        return str(number.normalize()) if number.is_finite() else str(value)
    return repr(encodable(value)) if isinstance(value, str) else str(value)


def output_object(value: str) -> str | dict[str, Any]:
    """How the address of a value in an exchange is written as an output: a runtime expression as it is, a
    segment of a path or an XPath as an object of ours.
    """
    if SEGMENT in value:
        context, _, place = value.partition(SEGMENT)
        return {"context": context, "type": "segment", "selector": place}
    if not value.startswith("$"):
        return {"context": "$response.body", "type": "xpath", "selector": value, "first": True}
    return value


@dataclass(slots=True)
class StepBuilder:
    """A step object (Arazzo 1.0.1) under construction."""

    document: dict[str, Any]

    @property
    def id(self) -> str:
        return str(self.document["stepId"])

    @property
    def undoes(self) -> bool:
        """Whether it runs at the end, whatever happened before."""
        return bool(self.document.get("x-juxtalogos-always"))

    def mark_needed(self) -> None:
        """It only prepares what another step needs."""
        self.document["x-juxtalogos-needed"] = True

    def undo_unless(self, step_id: str) -> None:
        """It undoes, unless another step has done so with success."""
        self.document["x-juxtalogos-always"] = {"unless": step_id}

    def creates(self, key: str, listing: Operation | None = None, selector: str = "") -> None:
        """It creates an item with a key (an expression), which a list shows by a selector of its keys."""
        made = {"key": key}
        if listing is not None and selector:
            made |= {**operation_reference(listing), "selector": selector}
        self.document["x-juxtalogos-creates"] = made

    def sent_as(self, role: str) -> None:
        """It is sent with the credentials of a role."""
        self.document["x-juxtalogos-role"] = role

    def replace(self, members: Mapping[str, Any]) -> None:
        """Members that are sent in place of those of its payload, which is an expression; they are made up,
        and so are the conditions of success then.
        """
        self.document["requestBody"]["replacements"] = [
            {"target": join_pointer([name]), "value": value} for name, value in members.items()
        ]
        for criterion in self.document["successCriteria"]:
            criterion["x-juxtalogos-presumed"] = True

    def check(self, checks: Iterable[Mapping[str, Any]]) -> None:
        """Adds written checks; nothing where there are none."""
        more = [dict(check) for check in checks]
        if more:
            self.document["x-juxtalogos-checks"] = more

    def output(self, value: str) -> str:
        """The expression for a value of its response, made an output: a runtime expression, one with a path
        segment, or
        an XPath.
        """
        name = slug(re.split(r"[/.#:\]]", value.partition(SEGMENT)[0])[-1]) or "value"
        plain = output_object(value)
        kind = "outputs" if isinstance(plain, str) else "x-juxtalogos-outputs"
        outputs: dict[str, Any] = self.document.setdefault(kind, {})
        for known_name, known in outputs.items():
            if known == plain:
                return f"$steps.{self.id}.outputs.{known_name}"
        if name in {*self.document.get("outputs", {}), *self.document.get("x-juxtalogos-outputs", {})}:
            name = f"{name}-{len(outputs) + 1}"
        outputs[name] = plain
        return f"$steps.{self.id}.outputs.{name}"


@dataclass(slots=True)
class CaseBuilder:
    """A workflow object (Arazzo 1.0.1) under construction."""

    steps: list[StepBuilder] = field(default_factory=list)
    formulas: dict[str, str] = field(default_factory=dict)
    """Inputs of the case that are computed when it begins."""
    alone: bool = False
    """Whether nothing may run beside it."""
    in_turn: list[str] = field(default_factory=list)
    """Of the cases that share one of these words, one runs at a time."""

    def document(self, name: str, *, summary: str = "", description: str = "") -> dict[str, Any]:
        """The workflow object."""
        told = {"summary": summary, "description": description}
        found: dict[str, Any] = {"workflowId": name, **{key: text for key, text in told.items() if text}}
        if self.formulas:
            properties = {name: {"x-juxtalogos-value": formula} for name, formula in self.formulas.items()}
            found["inputs"] = {"type": "object", "properties": properties}
        if self.alone:
            found["x-juxtalogos-alone"] = True
        if self.in_turn:
            found["x-juxtalogos-in-turn"] = list(self.in_turn)
        return {**found, "steps": [step.document for step in self.steps]}

    def composed(self, name: str, *, summary: str = "") -> dict[str, Any]:
        """The workflow object with the mark of what compose wrote, which an edit makes void."""
        found = self.document(name, summary=summary)
        return {**found, COMPOSED: digest_of(found)}

    def take_turns(self, word: str) -> None:
        """Lets one case at a time run of those that have the word."""
        if word not in self.in_turn:
            self.in_turn.append(word)

    def step(self, step_id: str) -> StepBuilder:
        return next(step for step in self.steps if step.id == step_id)

    def new_id(self, operation: Operation) -> str:
        """A name for a step that none has yet."""
        known = {step.id for step in self.steps}
        base = slug(operation.id)
        name, number = base, 2
        while name in known:
            name, number = f"{base}-{number}", number + 1
        return name

    def add(
        self,
        operation: Operation,
        step_id: str,
        inputs: Inputs,
        criteria: Iterable[str],
        *,
        undoes: bool = False,
        presumed: bool = False,
    ) -> StepBuilder:
        """Adds a step that calls an operation, with conditions of success; `presumed` ones were made up with
        the request.
        """
        written: list[dict[str, Any]] = [{"condition": condition} for condition in criteria if condition]
        if presumed:
            for criterion in written:
                criterion["x-juxtalogos-presumed"] = True
        document = step_document(
            operation, step_id, inputs, body_type(operation, inputs), always=undoes, criteria=written
        )
        self.steps.append(StepBuilder(document))
        return self.steps[-1]

    def input(self, name: str, formula: str) -> str:
        """The expression for an input of the case that a formula computes when the case begins."""
        self.formulas[name] = formula
        return f"$inputs.{name}"


def case_id(case: Mapping[str, Any]) -> str:
    """The name of a case in a document."""
    return str(case["workflowId"])


def cases_in(document: Mapping[str, Any]) -> list[dict[str, Any]]:
    """The cases of an Arazzo document."""
    return list(document["workflows"])
