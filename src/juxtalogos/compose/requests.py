"""The inputs of a request: valid samples for all that is needed, and values that a person set by address."""

from __future__ import annotations

from collections.abc import Container, Iterator
from typing import Any

from juxtalogos.exchange.media import chosen_media
from juxtalogos.model.contract import Contract, Input, Media, Operation
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.inputs import with_values


def sample_inputs(
    contract: Contract,
    operation: Operation,
    *,
    full: bool,
    content_type: str = "",
    seed: int = 0,
    without: Container[str] = (),
) -> Inputs:
    """Valid values: for what is required, or with `full` for everything that goes together, `without` some.
    Unsampleable names the input.
    """
    if operation.not_callable:
        raise Unsampleable(
            f"{operation.id} cannot be called: {operation.not_callable}", mend="correct the definition"
        )
    values = {
        declared_input.address: sample_of(contract, declared_input, seed)
        for declared_input in operation.inputs
        if (
            declared_input.required
            or declared_input.usual
            or (full and not declared_input.deprecated and not declared_input.alone)
        )
        and declared_input.address not in without
    }
    body: Any = ABSENT
    media = chosen_media(operation, content_type)
    if (
        operation.body
        and media
        and "body" not in without
        and (operation.body.required or operation.body.usual or (full and not media.unreadable))
    ):
        body = sample_body(contract, media, full=full, seed=seed)
    return Inputs(values, body, content_type or (media.media_type if media and body is not ABSENT else ""))


def tried_alone(contract: Contract, operation: Operation, bare: Inputs) -> Iterator[tuple[Input, Inputs]]:
    """(input, inputs with it) of each that is to be tried by itself, once with each of its examples."""
    by_address = {declared_input.address: declared_input for declared_input in operation.inputs}
    for parameter in operation.inputs:
        if parameter.alone and parameter.examples and not parameter.required:
            chosen = [
                parameter,
                *(by_address[address] for address in parameter.beside if address in by_address),
            ]
            values = {each.address: sample_of(contract, each) for each in chosen}
            for example in parameter.examples:
                yield parameter, with_values(bare, {**values, parameter.address: example})


def sample_of(contract: Contract, one: Input, seed: int = 0) -> Any:
    """A valid value of an input; Unsampleable names the input."""
    schema = contract.schema(one.schema) if one.schema else None
    for example in one.examples if not seed else ():
        if schema is None or schema.accepts(example):
            return example
    if schema is None and one.unreadable and one.content:  # a made-up text is no document
        raise Unsampleable(f"{one.address}: {one.unreadable}", mend="correct the definition, or give a value")
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
    """A valid body of a media type; Unsampleable where what the definition says of it cannot be read."""
    if media.unreadable:
        raise Unsampleable(
            f"body: {media.unreadable}", mend="correct the definition, or send a body of your own"
        )
    schema = contract.schema(media.schema) if media.schema else None
    for example in media.examples if full and not seed else ():
        if schema is None or schema.accepts(example):
            return example
    if schema is None:
        return media.examples[0] if media.examples else "quay"
    return schema.sample(full=full, seed=seed)
