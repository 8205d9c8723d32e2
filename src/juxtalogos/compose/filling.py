"""Requests filled in by a person: values by address, and valid samples for all that goes along with them.

What a person sets never makes a message invalid in silence: what else is required is made up, a derived type
or a branch is
chosen by what is set in it, an address that is not declared and two that exclude each other are refused. A
value that its
type forbids is taken, for people test refusals, and `misfits` tells of it.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import Any

from juxtalogos.compose.outlines import Rows
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.compose.values import known_places
from juxtalogos.exchange.media import chosen_media
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import Unsampleable, UsageError, nearest, quoted
from juxtalogos.model.location import split_pointer
from juxtalogos.model.schema import ABSENT, Schema, Wanted
from juxtalogos.model.wire import Inputs, Wire
from juxtalogos.suite.inputs import base_address, first_items, put, resolve_address, schema_at
from juxtalogos.suite.language.formulas import BadFormula, FormulaContext, NoValue, settled_value
from juxtalogos.workspace.known import Hints

Given = Mapping[str, Any]
"""Values by address."""


def settings_given(
    wire: Wire, operation: Operation, settings: Iterable[str], content_type: str = ""
) -> dict[str, Any]:
    """The values of `ADDRESS=VALUE` settings, each read by its declared type.

    UsageError for an address that leads nowhere.
    """
    found = {}
    for setting in settings:
        address, equals, text = setting.partition("=")
        if not equals:
            raise UsageError(
                f"{quoted(setting)} has no '='", mend="write --set ADDRESS=VALUE, such as --set query.limit=5"
            )
        if not address.strip():
            raise UsageError(
                f"{quoted(setting)} names no input",
                mend="put it in single quotes, if its name begins with $: '$NAME=VALUE'",
            )
        address = resolve_address(operation, address.strip())
        base = base_address(operation, address)
        found[address] = wire.parse_text(schema_at(operation, base, content_type), address[len(base) :], text)
    return found


def known_given(
    contract: Contract, operation: Operation, hints: Hints, *, full: bool = False
) -> dict[str, Any]:
    """By address what is known for a request; a formula that has no value gives none."""
    if not hints.known:
        return {}
    inputs = sample_inputs(contract, operation, full=full)
    found: dict[str, Any] = {}
    for address, one in known_places(Rows(contract), hints, operation, inputs, full=full):
        with contextlib.suppress(BadFormula, NoValue):
            found[address] = settled_value(one.given, FormulaContext())
    return found


def filled(
    contract: Contract,
    operation: Operation,
    given: Given,
    *,
    full: bool = False,
    content_type: str = "",
    unchecked: bool = False,
) -> Inputs:
    """Inputs with the given values.

    UsageError for what is not declared or excludes another, unless `unchecked`.
    """
    places: dict[str, dict[str, Any]] = {}
    for address, value in given.items():
        base = base_address(operation, address)
        places.setdefault(base, {})[address[len(base) :]] = value
    inputs = sample_inputs(contract, operation, full=full, content_type=content_type, without=places)
    for base, values in places.items():
        ref = schema_at(operation, base, content_type)
        schema = contract.schema(ref) if ref is not None and "" not in values else None
        value = ABSENT if schema is None else _sampled(operation, schema, base, values, full, unchecked)
        for pointer, one in values.items():
            value = put(value, split_pointer(pointer), one, base + pointer)
        inputs = _with(operation, inputs, base, value, content_type)
    order = {one.address: number for number, one in enumerate(operation.inputs)}
    sorted_ = sorted(inputs.values.items(), key=lambda pair: order.get(pair[0], len(order)))
    return replace(inputs, values=dict(sorted_))


def _with(operation: Operation, inputs: Inputs, base: str, value: Any, content_type: str) -> Inputs:
    if base != "body":
        return replace(inputs, values={**inputs.values, base: value})
    media = chosen_media(operation, content_type)
    return replace(inputs, body=value, content_type=content_type or (media.media_type if media else ""))


def _sampled(
    operation: Operation, schema: Schema, base: str, values: Mapping[str, Any], full: bool, unchecked: bool
) -> Any:
    """A sample that has all places that values are set at; without them where none has and they are sent all
    the same.
    """
    apart = _apart(operation, schema) if base == "body" else set()
    values = {pointer: value for pointer, value in values.items() if pointer.split("/")[1] not in apart}
    if values and not unchecked:
        bare = dict.fromkeys(values, ABSENT)
        for places in (values, bare):  # a value that is not allowed is set all the same
            try:
                return schema.sample(full=full, wanted=Wanted.of(_steering(places, values)))
            except Unsampleable:
                continue
        _refuse(schema, base, values)
        with contextlib.suppress(Unsampleable):  # perhaps there are too many of something
            return schema.sample(
                full=full, wanted=Wanted.of({first_items(pointer): ABSENT for pointer in bare})
            )
    try:
        return schema.sample(full=full)
    except Unsampleable:
        if unchecked:
            return ABSENT
        raise


def _apart(operation: Operation, schema: Schema) -> set[str]:
    """What is sent beside the body and is addressed as a part of it: attachments."""
    names = {name for media in (operation.body.media if operation.body else ()) for name, _ in media.encoding}
    return names and names - {split_pointer(row.path)[0] for row in schema.outline() if row.path}


def _steering(places: Mapping[str, Any], values: Mapping[str, Any]) -> dict[str, Any]:
    """The places, with the values of those that name a type: what else there is depends on them."""
    return {
        place: values[place] if place.rpartition("/")[2].startswith("@xsi:") else value
        for place, value in places.items()
    }


def _refuse(schema: Schema, base: str, values: Mapping[str, Any]) -> None:
    """UsageError where an address is not declared, or two exclude each other."""

    def possible(*pointers: str) -> bool:
        try:
            schema.sample(wanted=Wanted.of(_steering(dict.fromkeys(pointers, ABSENT), values)))
        except Unsampleable:
            return False
        return True

    types = [pointer for pointer in values if pointer.endswith("/@xsi:type")]
    known = [row.path for row in schema.outline()]
    for pointer in [
        value for value in values if value not in types
    ]:  # of a wrong type its writer says which there are
        if not possible(*_types_above(pointer, types), pointer) and first_items(pointer) not in map(
            first_items, known
        ):
            raise UsageError(
                f"there is no {base}{pointer}",
                mend=_nearest(base, pointer, known) or "see what there is: juxtalogos show OPERATION",
            )
    if not all(map(possible, types)):
        return
    pointers = list(values)[:_MOST_COMPARED]
    for number, one in enumerate(pointers):
        for other in pointers[:number]:
            if (
                possible(one)
                and possible(other)
                and not possible(*_types_above(one, types), *_types_above(other, types), other, one)
            ):
                raise UsageError(
                    f"{base}{other} and {base}{one} exclude each other",
                    mend="set one of them, or take them as they are with --unchecked",
                )


_MOST_COMPARED = 40
"""Settings of which each is tried with each other."""


def _types_above(pointer: str, types: list[str]) -> list[str]:
    return [type_ for type_ in types if pointer.startswith(type_.removesuffix("@xsi:type"))]


def _nearest(base: str, pointer: str, known: list[str]) -> str:
    """The declared address nearest to one that is not: by its last step first, for that is what is mistyped
    or misplaced.
    """
    last = pointer.rpartition("/")[2]
    alike = [f"{base}{path}" for path in known if path and path.rpartition("/")[2] == last]
    if alike:
        return "did you mean " + " or ".join(alike[:3]) + "?"
    return nearest(base + pointer, [base + path for path in known if path])


def misfits(contract: Contract, operation: Operation, inputs: Inputs) -> Iterator[str]:
    """What in these inputs the definition forbids, a line each: address, what is declared, what is there."""
    for base, value in (*inputs.values.items(), ("body", inputs.body)):
        ref = schema_at(operation, base, inputs.content_type)
        if (
            ref is None
            or value is ABSENT
            or isinstance(value, bytes)
            or (base == "body" and isinstance(value, str))
        ):
            continue
        try:
            found = contract.schema(ref).check(value)
        except (UsageError, ValueError):  # it has no place for it at all, or is too deep
            continue
        for item in found:
            if not item.advisory:
                yield f"{base}{item.path}: {item.declared}; here {item.observed}"
