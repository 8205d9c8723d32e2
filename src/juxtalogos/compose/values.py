"""What goes into a composed request: known values, learned ones, authors' examples, enumerations, samples, in
this order; names of our own.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from juxtalogos.compose.moments import moment_formulas, ordered_limits
from juxtalogos.compose.outlines import Rows
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.compose.resources import Resources, last_identified
from juxtalogos.compose.unique import ROOMY, names_something, room, unique_formula
from juxtalogos.exchange.media import chosen_media
from juxtalogos.model.contract import Contract, Input, Intent, Operation
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.location import follow_pointer, split_pointer
from juxtalogos.model.schema import ABSENT, OutlineRow
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.document.writer import slug
from juxtalogos.suite.inputs import has_place, values_of, with_values, without_place
from juxtalogos.workspace.known import Hints, KnownValue

_NAMING_INTENTS = (Intent.CREATE, Intent.REPLACE, Intent.UPDATE)
FILLER = "quay"
"""What samples have for a text of which nothing is declared."""
_CHOOSING = ("one of", "only ", "exactly ")


@dataclass(frozen=True, slots=True)
class Filled:
    """Inputs for a step, with what is computed when the case begins."""

    inputs: Inputs
    formulas: tuple[tuple[str, str], ...] = ()
    """(address, formula)."""
    known: frozenset[str] = frozenset()
    """Addresses whose value somebody, or the service, gave."""


@dataclass(slots=True)
class RequestValues:
    """Fills requests of one contract.

    What it made it keeps: whoever puts values into it does so in a copy.
    """

    contract: Contract
    rows: Rows
    resources: Resources
    hints: Hints
    linked: frozenset[tuple[str, str]] = frozenset()
    """(operation, address) of inputs that take their value from another step."""
    made: dict[tuple[str, bool, int], Filled] = field(default_factory=dict)
    cramped: dict[str, int] = field(default_factory=dict)
    """By operation and input, of how many names its schema leaves room, where that is for few; 0 for none."""

    def of(self, operation: Operation, *, full: bool = False, seed: int = 0) -> Filled:
        """Values for what is required; with `full` for everything that there is a source for."""
        key = operation.id, full, seed
        if key not in self.made:
            self.made[key] = self._filled(operation, full, seed)
        return self.made[key]

    def _filled(self, operation: Operation, full: bool, seed: int) -> Filled:
        without = [
            declared_input.address
            for declared_input in operation.inputs
            if not declared_input.required
            and (
                self.hints.leaves_out(operation.id, declared_input.address)
                or not self._has_source(operation, declared_input)
            )
        ]
        if (
            operation.body is not None
            and not operation.body.required
            and self.hints.leaves_out(operation.id, "body")
        ):
            without.append("body")
        inputs = sample_inputs(self.contract, operation, full=full, seed=seed, without=without)
        if inputs.body == []:  # to send no items does nothing
            inputs = self._with_item(operation, inputs, seed)
        inputs = self._left_out(operation, self._sent_too(operation, inputs, seed))
        filled = self.completed(operation, inputs, full=full)
        if not self.resources.creates(operation) or any("unique(" in text for _, text in filled.formulas):
            return filled
        return self._marked(operation, filled)

    def _with_item(self, operation: Operation, inputs: Inputs, seed: int) -> Inputs:
        """With an item in the list that the body is, where it may have one."""
        try:
            full = sample_inputs(self.contract, operation, full=True, seed=seed)
        except Unsampleable:
            return inputs
        if not isinstance(full.body, list) or not full.body:
            return inputs
        return replace(inputs, body=full.body[:1], content_type=full.content_type)

    def _marked(self, operation: Operation, filled: Filled) -> Filled:
        """With a text of the run's own in what it creates, so that it is known again: in a free text that is
        sent anyway; an optional one is sent where no list shows what was created.
        """
        inputs = filled.inputs
        media = chosen_media(operation, inputs.content_type)
        if not isinstance(inputs.body, dict) or media is None or media.schema is None:
            return filled
        schema, resource = self.contract.schema(media.schema), self.resources.of(operation)
        taken = {address for address, _ in filled.formulas}
        free = [
            row
            for row in self.rows.of(media.schema)
            if _is_free_text(row)
            and (operation.id, f"body{row.path}") not in self.linked
            and f"body{row.path}" not in taken
            and not self.hints.leaves_out(operation.id, f"body{row.path}")
        ]
        # What an author gave as an example, or a default, stays: it may be the only value that works.
        sent = [row for row in free if _at(inputs.body, row.path) == FILLER]
        unlisted = resource is None or not resource.of(Intent.LIST)
        optional = [one for one in free if one.path.count("/") == 1 and not has_place(inputs.body, one.path)]
        for row in sent or (optional if unlisted else []):

            def accepts(value: Any, row: OutlineRow = row) -> bool:
                return not schema.check_part(row, value)

            formula = unique_formula(FILLER, accepts)
            if formula and room(formula) >= ROOMY:
                address = f"body{row.path}"
                inputs = inputs if sent else with_values(inputs, {address: FILLER})
                return replace(filled, inputs=inputs, formulas=(*filled.formulas, (address, formula)))
        return filled

    def completed(self, operation: Operation, inputs: Inputs, *, full: bool = False) -> Filled:
        """Inputs with known values and names of their own put in."""
        formulas: dict[str, str] = {}
        places = list(known_places(self.rows, self.hints, operation, inputs, full=full))
        for address, value in places:
            if not value.by_hand:
                formulas[address] = known_formula(value)
        for address, formula in self._names(operation, inputs):
            formulas.setdefault(address, formula)
        for address, value in places:  # in place of a sample, and of nothing better
            if value.by_hand and (operation.id, address) not in self.linked:
                formulas.setdefault(address, known_formula(value))
        known = {address for address, value in places if formulas.get(address) == known_formula(value)}
        own = self._made_up(operation, inputs, known)
        for address, formula in moment_formulas(dict(values_of(inputs)), own):
            formulas.setdefault(address, formula)
        inputs = with_values(inputs, self._in_order(operation, inputs, own))
        return Filled(inputs, tuple(formulas.items()), frozenset(known))

    def _made_up(self, operation: Operation, inputs: Inputs, known: set[str]) -> dict[str, Any]:
        """By address the single values that the samples made up: no author, no person and no other step gave
        them.
        """
        given = {one.address for one in operation.inputs if one.examples}
        return {
            address: value
            for address, value in values_of(inputs)
            if address not in known
            and address not in given
            and (operation.id, address) not in self.linked
            and not isinstance(value, dict | list)
        }

    def _in_order(self, operation: Operation, inputs: Inputs, own: Mapping[str, Any]) -> dict[str, Any]:
        media = chosen_media(operation, inputs.content_type)
        schema = self.contract.schema(media.schema) if media is not None and media.schema else None
        found = {}
        for address, value in ordered_limits(own):
            if address.startswith("body/") and schema is not None:
                fits = schema.accepts(with_values(inputs, {address: value}).body)
            else:
                one = next((one for one in operation.inputs if one.address == address), None)
                fits = one is not None and (
                    one.schema is None or self.contract.schema(one.schema).accepts(value)
                )
            if fits:
                found[address] = value
        return found

    def _has_source(self, operation: Operation, one: Input) -> bool:
        """Whether there is anything to take a value for an optional input from: one that is made up does harm
        more often than good.
        """
        if (
            one.required
            or one.usual
            or one.alone
            or one.examples
            or (operation.id, one.address) in self.linked
            or self.hints.value_for(operation.id, one.address)
        ):
            return True
        row = next(iter(self.rows.of(one.schema, 0)), None)
        return row is not None and (row.allowed.startswith(_CHOOSING) or row.type.startswith("boolean"))

    def _sent_too(self, operation: Operation, inputs: Inputs, seed: int) -> Inputs:
        """With what is to be sent though nothing requires it."""
        if not self.hints.sent:
            return inputs
        full = sample_inputs(self.contract, operation, full=True, seed=seed)
        if full.body is not ABSENT and (inputs.body is ABSENT or self.hints.sends(operation.id, "body")):
            named = [
                row.path
                for row in self.rows.sent(operation)
                if self.hints.sends(operation.id, f"body{row.path}")
            ]
            if self.hints.sends(operation.id, "body"):
                inputs = Inputs(inputs.values, full.body, full.content_type)
            elif named:  # only what is named of it
                inputs = Inputs(inputs.values, {}, full.content_type)
        values = {
            at: value
            for at, value in full.values.items()
            if at not in inputs.values and self.hints.sends(operation.id, at)
        }
        for row in self.rows.sent(operation) if isinstance(inputs.body, dict) else ():
            if (
                row.path
                and self.hints.sends(operation.id, f"body{row.path}")
                and not has_place(inputs.body, row.path)
                and has_place(full.body, row.path)
            ):
                values[f"body{row.path}"] = follow_pointer(full.body, row.path)
        return with_values(inputs, values)

    def _left_out(self, operation: Operation, inputs: Inputs) -> Inputs:
        """Without the optional parts of the body that are not to be sent."""
        if inputs.body is ABSENT or not self.hints.left_out:
            return inputs
        body = inputs.body
        for row in self.rows.sent(operation):
            if row.path and self.hints.leaves_out(operation.id, f"body{row.path}"):
                body = without_place(body, split_pointer(row.path))
        return Inputs(inputs.values, body, inputs.content_type)

    def _names(self, operation: Operation, inputs: Inputs) -> Iterator[tuple[str, str]]:
        """(address, formula) of what is to be of this run alone."""
        creates = self.resources.creates(operation)
        key = last_identified(operation)
        if creates and key is not None and key.schema is not None and key.address in inputs.values:
            schema = self.contract.schema(key.schema)
            yield from self._one_name(operation, key.address, inputs.values[key.address], schema.accepts)
        for address, value, accepts in self._named_in_body(operation, inputs, creates):
            yield from self._one_name(operation, address, value, accepts)

    def _one_name(
        self, operation: Operation, address: str, sample: Any, accepts: Any
    ) -> Iterator[tuple[str, str]]:
        formula = unique_formula(sample, accepts)
        left = room(formula) if formula else 0
        if left < ROOMY:
            self.cramped[f"{operation.id} {address}"] = left
        if formula:
            yield address, formula

    def _named_in_body(
        self, operation: Operation, inputs: Inputs, creates: bool
    ) -> Iterator[tuple[str, Any, Any]]:
        media = chosen_media(operation, inputs.content_type)
        if inputs.body is ABSENT or isinstance(inputs.body, bytes) or media is None or media.schema is None:
            return
        schema = self.contract.schema(media.schema)
        rows = {f"body{row.path}": row for row in self.rows.of(media.schema)}
        listed = [name for name in operation.names if name in rows or name.startswith("body")]
        if creates or operation.intent in _NAMING_INTENTS:
            listed += [at for at, row in rows.items() if _is_name(row) and at not in listed]
        for address in listed:
            try:
                value = follow_pointer(inputs.body, address[4:])
            except (LookupError, ValueError):
                continue

            row = rows.get(address)

            def accepts(other: Any, at: str = address, row: OutlineRow | None = row) -> bool:
                if row is not None:
                    return not schema.check_part(row, other)
                return schema.accepts(with_values(inputs, {at: other}).body)

            yield address, value, accepts


def known_formula(value: KnownValue) -> str:
    """The formula for a known value."""
    return f"known('{value.name.replace(chr(39), chr(39) * 2)}')"


def known_places(
    rows: Rows, hints: Hints, operation: Operation, inputs: Inputs, *, full: bool
) -> Iterator[tuple[str, KnownValue]]:
    """(address, known value) of each place that there is one for."""
    if not hints.known:
        return
    for declared_input in operation.inputs:
        row = next(iter(rows.of(declared_input.schema, 0)), None)
        found = hints.value_for(operation.id, declared_input.address, row.shared if row else "")
        if (
            found
            and (declared_input.address in inputs.values or full or found.operation != "*")
            and not hints.leaves_out(operation.id, declared_input.address)
        ):
            yield declared_input.address, found
    for row in rows.sent(operation):
        found = hints.value_for(operation.id, f"body{row.path}", row.shared) if row.path else None
        if not found or not (row.scalar or row.type.startswith(("array", "object"))):
            continue
        wanted = full or found.operation != "*"
        if has_place(inputs.body, row.path.rpartition("/")[0] if wanted else row.path):
            yield f"body{row.path}", found
    whole = hints.value_for(operation.id, "body")
    if whole and operation.body is not None:
        yield "body", whole


def _is_name(row: OutlineRow) -> bool:
    return (
        row.scalar
        and row.type.startswith("string")
        and 0 < row.path.count("/") <= 2
        and "/0" not in row.path
        and not row.read_only
        and not row.allowed.startswith(_CHOOSING)
        and names_something(row.name)
    )


def _at(body: Any, path: str) -> Any:
    try:
        return follow_pointer(body, path)
    except (LookupError, ValueError):
        return ABSENT


def _is_free_text(row: OutlineRow) -> bool:
    return (
        row.scalar
        and row.type == "string"
        and not row.allowed
        and "/0" not in row.path
        and bool(row.path)
        and not row.read_only
        and not row.write_only
    )


def input_name(step_id: str, address: str) -> str:
    """What a computed value of a step is called among the inputs of its case."""
    return f"{slug(step_id)}-{slug(re.split(r'[./]', address)[-1]) or 'value'}"
