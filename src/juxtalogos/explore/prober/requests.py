"""Requests filled: values of one's own that differ from request to request, references to what was made
before.
"""

from __future__ import annotations

import random
import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Any
from urllib.parse import unquote, urlsplit

from juxtalogos.compose.dependencies import ITSELF, LIMIT, Finder
from juxtalogos.compose.outlines import Rows
from juxtalogos.compose.relating import Dependency
from juxtalogos.compose.resources import Resources, identifies
from juxtalogos.compose.values import RequestValues
from juxtalogos.explore.prober.prober import Trial
from juxtalogos.model.contract import Contract, Input, Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.location import follow_pointer
from juxtalogos.model.schema import ABSENT, OutlineRow, Schema
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.document.building import SEGMENT
from juxtalogos.suite.inputs import has_place, schema_at, with_values
from juxtalogos.suite.language.expressions import Scope, evaluate, parse_expression
from juxtalogos.suite.language.formulas import (
    BadFormula,
    FormulaContext,
    NoValue,
    compute,
    is_unique,
    parse_formula,
)
from juxtalogos.suite.language.selectors import NoSelection, select_xml
from juxtalogos.workspace.known import Hints

Context = Mapping[str, Trial]
"""By operation, the answer that values are taken from: of this very thing, and of those above it."""


_CHOICES = ("body.enum", "body.const")


class Unfillable(Exception):
    """A request cannot be made: what it needs is not to be had."""


@dataclass(slots=True)
class RequestMaker:
    """Fills requests of one contract."""

    contract: Contract
    hints: Hints
    token: str
    seed: int
    known: Mapping[str, Any]
    only_reading: bool = False
    rows: Rows = field(init=False)
    resources: Resources = field(init=False)
    finder: Finder = field(init=False)
    values: RequestValues = field(init=False)
    needs: dict[str, list[Dependency]] = field(init=False)
    """By operation, which of its inputs take their value from where."""
    versions: dict[str, Dependency] = field(init=False)
    """By operation, where the version that its request depends on comes from."""
    count: int = 0
    marks: list[str] = field(default_factory=list)
    """Texts that it made up and that nothing else has."""
    namespaces: Mapping[str, str] = field(init=False)

    def __post_init__(self) -> None:
        self.rows = Rows(self.contract)
        self.resources = Resources(self.contract, self.rows)
        self.finder = Finder(
            self.contract, self.hints.dependencies, resources=self.resources, only_reading=self.only_reading
        )
        found = [item for item in self.finder.found() if item.sure >= LIMIT]
        linked = frozenset((item.operation, item.input) for item in found)
        self.values = RequestValues(self.contract, self.rows, self.resources, self.hints, linked)
        self.needs, self.versions = {}, {}
        for entry in found:
            if self.names_version(entry):
                self.versions[entry.operation] = entry
            else:
                self.needs.setdefault(entry.operation, []).append(entry)
        self.namespaces = dict(self.contract.namespaces)

    def names_version(self, need: Dependency) -> bool:
        """Whether a need is for the version that a request depends on."""
        operation = self.contract.operation(need.operation)
        inputs = operation.inputs if operation is not None else ()
        return any(one.is_version and one.address == need.input for one in inputs)

    def own(self, operation: Operation, *, full: bool = False, seed: int = 0) -> Inputs:
        """Values of one's own for a request; what comes from elsewhere is a sample still. Unsampleable when
        there is none.
        """
        filled = self.values.of(operation, full=full, seed=seed)
        self.count += 1
        ground = FormulaContext(
            datetime.now(UTC),
            random.Random(f"{self.seed}:{self.count}"),
            self.token,
            f"{operation.id}:{self.count}",
            self.known,
        )
        found: dict[str, Any] = {}
        for address, formula in filled.formulas:
            try:
                parsed = parse_formula(formula)
                found[address] = compute(parsed, Scope({}), ground)
            except (BadFormula, NoValue):
                continue
            if is_unique(parsed, self.known):
                self.marks.append(str(found[address]))
        inputs = with_values(filled.inputs, found)
        required = {declared_input.address for declared_input in operation.inputs if declared_input.required}
        values = {
            at: value
            for at, value in inputs.values.items()
            if at in required or not at.lower().startswith("header.if-")
        }
        return replace(inputs, values=values)  # conditions are tried by themselves

    def referred(self, operation: Operation, inputs: Inputs, context: Context) -> Inputs:
        """The inputs with what the context gives; Unfillable where it has no value."""
        found: dict[str, Any] = {}
        for need in self.needs.get(operation.id, ()):
            seen = context.get(need.source)
            if seen is None or not self.sends(operation, inputs, need):
                continue
            value = self.taken(need.value, seen)
            if value is ABSENT or value is None or isinstance(value, dict | list):
                if not self.names_item(operation, need):
                    continue  # where it comes from is a guess: the sample stays
                raise Unfillable(f"{need.source} gave no value for {need.input}")
            found[need.input] = self.typed(operation, need.input, value)
        return with_values(inputs, found)

    def names_item(self, operation: Operation, need: Dependency) -> bool:
        """Whether an input says what an operation is about: made up, it would be about nothing."""
        if need.input.startswith("path."):
            return True
        return not need.optional and identifies(re.split(r"[/.:]", need.input)[-1], operation.noun)

    def sends(self, operation: Operation, inputs: Inputs, need: Dependency) -> bool:
        """Whether a request holds an input, or must."""
        address = need.input
        if need.optional and address.startswith("body"):
            return has_place(inputs.body, address[4:])
        if address.startswith("body"):
            return True
        return address in inputs.values or any(
            declared_input.address == address and declared_input.required
            for declared_input in operation.inputs
        )

    def own_keys(self, operation: Operation) -> set[str]:
        """Places of a body that repeat what the path says already: the item itself, or the one that it lies
        below; a service may ignore them.
        """
        needs = self.needs.get(operation.id, ())
        said = {(need.source, need.value) for need in needs if not need.input.startswith("body")}
        return {
            need.input
            for need in needs
            if need.input.startswith("body") and (need.reason == ITSELF or (need.source, need.value) in said)
        }

    def typed(self, operation: Operation, address: str, value: Any) -> Any:
        """A number that is wanted as a text is one, and the other way round."""
        row = self.row(operation, address)
        kind = row.type.partition(" ")[0] if row else ""
        if kind == "string" and isinstance(value, int | float) and not isinstance(value, bool):
            return str(value)
        if kind == "integer" and isinstance(value, str) and value.lstrip("-").isdigit():
            return int(value)
        return value

    def row(self, operation: Operation, address: str) -> OutlineRow | None:
        """What is declared at an address."""
        if address.startswith("body"):
            return next(
                (sent_row for sent_row in self.rows.sent(operation) if f"body{sent_row.path}" == address),
                None,
            )
        given = next(
            (declared_input for declared_input in operation.inputs if declared_input.address == address), None
        )
        return next(iter(self.rows.of(given.schema, 0)), None) if given else None

    def taken(self, expression: str, seen: Trial) -> Any:
        """The value that a dependency means, out of an answer; ABSENT where there is none."""
        if expression.startswith("/") and not expression.startswith("$"):
            response = seen.exchange.response if seen.exchange else None
            try:
                nodes = select_xml(expression, response.body if response else b"", namespaces=self.namespaces)
            except (NoSelection, ValueError):
                return ABSENT
            return nodes[0] if nodes else ABSENT
        text, segment, place = expression.partition(SEGMENT)
        scope = Scope(
            {},
            exchange=seen.exchange,
            request_values=seen.inputs.values,
            request_body=seen.inputs.body,
            response_value=seen.value,
        )
        try:
            value = evaluate(parse_expression(text), scope)
        except ValueError:
            return ABSENT
        if segment and isinstance(value, str):
            parts = urlsplit(value).path.strip("/").split("/")
            return unquote(parts[int(place)]) if parts and parts[-1] else ABSENT
        return value

    def schema_of(self, operation: Operation, inputs: Inputs) -> Schema | None:
        """The schema of a request's body."""
        ref = schema_at(operation, "body", inputs.content_type)
        return self.contract.schema(ref) if ref is not None else None

    def fits(self, operation: Operation, inputs: Inputs) -> bool:
        """Whether the definition allows the inputs, as far as schemas tell."""
        for declared_input in operation.inputs:
            if declared_input.address in inputs.values and declared_input.schema is not None:
                try:
                    if not self.contract.schema(declared_input.schema).accepts(
                        inputs.values[declared_input.address]
                    ):
                        return False
                except (JuxtalogosError, ValueError):
                    return False
        schema = self.schema_of(operation, inputs)
        try:
            return schema is None or inputs.body is ABSENT or schema.accepts(inputs.body)
        except (JuxtalogosError, ValueError):
            return False

    def choices(self, operation: Operation, address: str) -> list[Any]:
        """The members of an input's enumeration; none where it has none."""
        given = self.input_of(operation, address)
        try:
            if given is not None:
                schema = self.contract.schema(given.schema) if given.schema else None
                if schema is None:
                    return []
                return [
                    boundary.value
                    for boundary in schema.boundaries(schema.sample())
                    if boundary.kind in _CHOICES and not boundary.path
                ]
            inputs = self.values.of(operation, full=True).inputs
            schema = self.schema_of(operation, inputs)
            if schema is None or inputs.body is ABSENT:
                return []
            return [
                follow_pointer(boundary.value, address[4:])
                for boundary in schema.boundaries(inputs.body)
                if boundary.kind in _CHOICES and boundary.path == address[4:]
            ]
        except (JuxtalogosError, LookupError, ValueError):
            return []

    def input_of(self, operation: Operation, address: str) -> Input | None:
        return next(
            (declared_input for declared_input in operation.inputs if declared_input.address == address), None
        )
