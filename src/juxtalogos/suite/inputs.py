"""Inputs by address: names resolved, values put in, what a case must be given."""

from __future__ import annotations

import copy
from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import Any, NoReturn

from juxtalogos.exchange.media import chosen_media
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.location import follow_pointer, join_pointer, split_pointer
from juxtalogos.model.schema import ABSENT, OutlineRow, SchemaRef, is_index
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.comparing import leaves
from juxtalogos.suite.model import Case

MOST_STEPS = 100
_JSON_TYPES = {"integer", "number", "boolean", "string"}


def resolve_address(operation: Operation, text: str) -> str:
    """An address as it is written everywhere: `path.id`, `body/vessel/name`; a bare declared name where it is
    unique.
    """
    if text.count("/") > MOST_STEPS:
        raise UsageError(
            f"an address of more than {MOST_STEPS} steps",
            mend="give the value of a place above it, as JSON or XML",
        )
    if text == "body" or text.startswith("body/"):
        if operation.body is None:
            raise UsageError(f"{operation.id} takes no body", mend="leave it out")
        return text
    addresses = [declared_input.address for declared_input in operation.inputs]
    if text in addresses:
        return text
    head, slash, within = text.partition("/")
    if slash:  # a value within an input, such as a block of the header
        return (
            resolve_address(operation, head) + "/" + within
            if _is_declared(operation, head)
            else _unknown(operation, text)
        )
    place, dot, name = text.partition(".")
    if dot and place == "header" and name:
        return text
    named = [declared_input.address for declared_input in operation.inputs if declared_input.name == text]
    if len(named) == 1:
        return named[0]
    if len(named) > 1:
        raise UsageError(
            f"{operation.id} has several inputs named {quoted(text)}", mend="write " + " or ".join(named)
        )
    return _unknown(operation, text)


def _is_declared(operation: Operation, text: str) -> bool:
    return any(text in (declared_input.address, declared_input.name) for declared_input in operation.inputs)


def _unknown(operation: Operation, text: str) -> NoReturn:
    known = [
        *(declared_input.address for declared_input in operation.inputs),
        *(["body"] if operation.body else []),
    ]
    head, slash, within = text.partition("/")
    mend = nearest(head, known) if known else "it takes no inputs"
    if slash and operation.body and within and "." not in head:
        mend = f"{mend}, or write body/{text}" if mend else f"write body/{text}"
    raise UsageError(f"{operation.id} has no input {quoted(text)}", mend=mend)


def base_address(operation: Operation, address: str) -> str:
    """The input, or `body`, that an address leads into."""
    if (
        address == "body"
        or address.startswith("body/")
        or any(declared_input.address == address for declared_input in operation.inputs)
    ):
        return address.partition("/")[0] if address.startswith("body") else address
    head = address.partition("/")[0]
    return head if any(declared_input.address == head for declared_input in operation.inputs) else address


def schema_at(operation: Operation, base: str, content_type: str = "") -> SchemaRef | None:
    """The schema of an input, or of the body as one media type."""
    if base == "body":
        media = chosen_media(operation, content_type) or chosen_media(operation)
        return media.schema if media else None
    return next(
        (declared_input.schema for declared_input in operation.inputs if declared_input.address == base), None
    )


def declared_row(contract: Contract, operation: Operation, address: str) -> OutlineRow | None:
    """What is declared of an address; None where anything may stand. UsageError where
    there is no such place.
    """
    base = base_address(operation, address)
    ref = schema_at(operation, base)
    if ref is None:
        return None
    rows = list(contract.schema(ref).outline())
    wanted = first_items(address[len(base) :])
    found = next((row for row in rows if first_items(row.path) == wanted), None)
    if found is None and len(rows) > 1 and not any("NAME" in split_pointer(row.path) for row in rows):
        raise UsageError(
            f"{operation.id} has no {address}",
            mend=nearest(address, [base + row.path for row in rows if row.path]),
        )
    return found


def json_type(row: OutlineRow | None) -> str:
    """The JSON type nearest to a declared one."""
    word = row.type.partition(" ")[0] if row is not None else ""
    if word in _JSON_TYPES:
        return word
    if word in ("int", "long", "short", "byte") or word.endswith("Integer"):
        return "integer"
    return "number" if word in ("decimal", "float", "double") else "string"


def first_items(pointer: str) -> str:
    """A pointer with every index as the first, as outlines write it."""
    return join_pointer("0" if is_index(token) else token for token in split_pointer(pointer))


def with_values(inputs: Inputs, values: Mapping[str, Any]) -> Inputs:
    """Inputs with values put in by address; objects and lists in the body are made where they are missing."""
    body = copy.deepcopy(inputs.body)
    parameters = dict(inputs.values)
    for address, value in values.items():
        if address == "body":
            body = value
        elif address.startswith("body/"):
            body = put(body, split_pointer(address[4:]), value, address)
        elif "/" in address and (base := address.partition("/")[0]) in parameters:
            within = copy.deepcopy(parameters[base])
            parameters[base] = put(within, split_pointer(address[len(base) :]), value, address)
        else:
            parameters[address] = value
    return Inputs(parameters, body, inputs.content_type)


def values_of(inputs: Inputs) -> Iterator[tuple[str, Any]]:
    """(address, value) of each single value, so many as are looked at."""
    yield from inputs.values.items()
    if inputs.body is not ABSENT:
        yield from leaves(inputs.body, "body")


def has_place(body: Any, pointer: str) -> bool:
    """Whether a body has something at a place."""
    if body is ABSENT:
        return False
    try:
        return follow_pointer(body, pointer) is not ABSENT
    except (LookupError, ValueError):
        return False


def without(inputs: Inputs, address: str) -> Inputs:
    """The inputs without one of them."""
    if address == "body":
        return Inputs(inputs.values, ABSENT, "")
    if address.startswith("body/"):
        return Inputs(inputs.values, without_place(inputs.body, address[5:].split("/")), inputs.content_type)
    return replace(inputs, values={name: value for name, value in inputs.values.items() if name != address})


def without_place(value: Any, tokens: list[str]) -> Any:
    """A copy of a value without what stands at a path; of lists, without it in each item."""
    if not tokens:
        return value
    token, rest = tokens[0], tokens[1:]
    if isinstance(value, list):
        return [without_place(member, rest) if is_index(token) and rest else member for member in value]
    if not isinstance(value, dict) or token not in value:
        return value
    if not rest:
        return {name: one for name, one in value.items() if name != token}
    return {name: without_place(one, rest) if name == token else one for name, one in value.items()}


def put(holder: Any, tokens: list[str], value: Any, address: str) -> Any:
    """The holder with a value put in at a path; UsageError when a list would get a hole."""
    if not tokens:
        return value
    token, rest = tokens[0], tokens[1:]
    if isinstance(holder, list) or (holder is ABSENT and token == "0"):
        items = holder if isinstance(holder, list) else []
        if not is_index(token) or int(token) > len(items):
            raise UsageError(
                f"{address}: the list has {len(items)} items, so {quoted(token)} is no place in it",
                mend=f"use an index from 0 to {len(items)}",
            )
        index = int(token)
        if index == len(items):
            items.append(ABSENT)
        items[index] = put(items[index], rest, value, address)
        return items
    members = holder if isinstance(holder, dict) else {}
    members[token] = put(members.get(token, ABSENT), rest, value, address)
    return members


def wrong_inputs(case: Case, given: Mapping[str, Any]) -> str:
    """Why a case cannot begin with these inputs; empty when it can."""
    if case.schema is None:
        return ""
    found = [one for one in case.schema.check(dict(given)) if not one.advisory]
    if not found:
        return ""
    first = found[0]
    return f"input {first.path.lstrip('/') or '(all)'}: {first.declared} expected, {first.observed}"
