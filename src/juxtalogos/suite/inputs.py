"""The inputs of an operation: valid samples for all that is needed, and values set by address."""

from __future__ import annotations

import copy
from collections.abc import Iterable, Mapping
from typing import Any

from juxtalogos.exchange.media import chosen_media
from juxtalogos.model.contract import Contract, Input, Media, Operation
from juxtalogos.model.errors import Unsampleable, UsageError, nearest, quoted
from juxtalogos.model.location import split_pointer
from juxtalogos.model.seams import ABSENT, Format, Inputs
from juxtalogos.suite.model import Case


def sample_inputs(
    contract: Contract, operation: Operation, *, full: bool, content_type: str = "", seed: int = 0
) -> Inputs:
    """Valid values: for what is required, or with `full` for everything. Unsampleable names the input."""
    values = {
        one.address: sample_of(contract, one, seed)
        for one in operation.inputs
        if one.required or (full and not one.deprecated)
    }
    body: Any = ABSENT
    media = chosen_media(operation, content_type)
    if operation.body and media and (operation.body.required or full):
        body = sample_body(contract, media, full=full, seed=seed)
    return Inputs(values, body, content_type or (media.media_type if media and body is not ABSENT else ""))


def sample_of(contract: Contract, one: Input, seed: int = 0) -> Any:
    schema = contract.schema(one.schema) if one.schema else None
    for example in one.examples if not seed else ():
        if schema is None or schema.accepts(example):
            return example
    if schema is None:
        return "quay"
    try:
        return _sendable(schema.sample(full=False, seed=seed), one, schema)
    except Unsampleable as error:
        raise Unsampleable(f"{one.address}: {error.what}", where=error.where, mend=error.mend) from None


def _sendable(value: Any, one: Input, schema: Any) -> Any:
    """An empty value cannot stand in a path, and is not sent elsewhere: another sample then."""
    if value in ("", [], {}):
        for candidate in (schema.sample(full=True, seed=turn) for turn in range(4)):
            if candidate not in ("", [], {}):
                return candidate
    return value


def sample_body(contract: Contract, media: Media, *, full: bool, seed: int = 0) -> Any:
    schema = contract.schema(media.schema) if media.schema else None
    for example in media.examples if full and not seed else ():
        if schema is None or schema.accepts(example):
            return example
    if schema is None:
        return media.examples[0] if media.examples else "quay"
    return schema.sample(full=full, seed=seed)


def resolve_address(operation: Operation, text: str) -> str:
    """An address as it is written everywhere: `path.id`, `body/vessel/name`; a bare declared name where it is unique."""
    if text == "body" or text.startswith("body/"):
        if operation.body is None:
            raise UsageError(f"{operation.id} takes no body", mend="leave it out")
        return text
    addresses = [one.address for one in operation.inputs]
    if text in addresses:
        return text
    place, dot, name = text.partition(".")
    if dot and place == "header" and name:
        return text
    named = [one.address for one in operation.inputs if one.name == text]
    if len(named) == 1:
        return named[0]
    if len(named) > 1:
        raise UsageError(f"{operation.id} has several inputs named {quoted(text)}", mend="write " + " or ".join(named))
    known = [*addresses, *(["body"] if operation.body else [])]
    raise UsageError(
        f"{operation.id} has no input {quoted(text)}", mend=nearest(text, known) if known else "it takes no inputs"
    )


def with_settings(
    form: Format, contract: Contract, operation: Operation, inputs: Inputs, settings: Iterable[str]
) -> Inputs:
    """Inputs with `ADDRESS=VALUE` settings put in, each value read by its declared type."""
    pairs = []
    for setting in settings:
        address, equals, text = setting.partition("=")
        if not equals:
            raise UsageError(
                f"{quoted(setting)} has no '='", mend="write --set ADDRESS=VALUE, such as --set query.limit=5"
            )
        address = resolve_address(operation, address.strip())
        pairs.append((address, _read(form, contract, operation, address, text, inputs.content_type)))
    return with_values(inputs, dict(pairs))


def _read(form: Format, contract: Contract, operation: Operation, address: str, text: str, content_type: str) -> Any:
    if address == "body" or address.startswith("body/"):
        media = chosen_media(operation, content_type) or chosen_media(operation)
        return form.parse_text(contract, media.schema if media else None, address[4:], text)
    one = next((one for one in operation.inputs if one.address == address), None)
    return form.parse_text(contract, one.schema if one else None, "", text)


def with_values(inputs: Inputs, values: Mapping[str, Any]) -> Inputs:
    """Inputs with values put in by address; objects and lists in the body are made where they are missing."""
    body = copy.deepcopy(inputs.body)
    parameters = dict(inputs.values)
    for address, value in values.items():
        if address == "body":
            body = value
        elif address.startswith("body/"):
            body = put(body, split_pointer(address[4:]), value, address)
        else:
            parameters[address] = value
    return Inputs(parameters, body, inputs.content_type)


def put(holder: Any, tokens: list[str], value: Any, address: str) -> Any:
    """The holder with a value put in at a path; UsageError when a list would get a hole."""
    if not tokens:
        return value
    token, rest = tokens[0], tokens[1:]
    if isinstance(holder, list) or (holder is ABSENT and token == "0"):
        items = holder if isinstance(holder, list) else []
        if not token.isdigit() or int(token) > len(items):
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
