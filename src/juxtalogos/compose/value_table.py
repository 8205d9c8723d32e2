"""A table of an input's allowed values and limits: a row a value, the other inputs at a sample."""

from __future__ import annotations

import csv
import io
import shlex
from typing import Any

from juxtalogos.compose.requests import sample_inputs
from juxtalogos.exchange.media import chosen_media
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.model.location import follow_pointer
from juxtalogos.model.schema import ABSENT
from juxtalogos.suite.inputs import resolve_address

MAX_ROWS = 2_000


def value_table(contract: Contract, operation: Operation, addresses: list[str]) -> str:
    """CSV text; the columns are the inputs' bare names, to be used as inputs of a case."""
    if not addresses:
        raise UsageError("a table is made of inputs", mend="name one or more: --input body/kind")
    resolved = [resolve_address(operation, address) for address in addresses]
    names = _names(resolved)
    values = {address: _values(contract, operation, address) for address in resolved}
    first = {address: found[0] for address, found in values.items()}
    rows = [first]
    for address, found in values.items():
        rows += [{**first, address: value} for value in found[1:]]
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(names)
    for row in rows[:MAX_ROWS]:
        writer.writerow([_cell(row[address]) for address in resolved])
    return out.getvalue()


def _names(addresses: list[str]) -> list[str]:
    short = [
        address.rpartition("/")[2].partition(".")[2] or address.rpartition("/")[2] for address in addresses
    ]
    return (
        short
        if len(set(short)) == len(short)
        else [address.replace("/", "-").replace(".", "-") for address in addresses]
    )


def _cell(value: Any) -> str:
    """A value for a spreadsheet: a text that would be taken for a formula is marked as text."""
    from juxtalogos.documents.jsontext import dump_json

    text = value if isinstance(value, str) else dump_json(value)
    return f"'{text}" if isinstance(value, str) and text[:1] in "=+-@\t\r" else text


def _values(contract: Contract, operation: Operation, address: str) -> list[Any]:
    """The sample first, then each allowed value and each limit."""
    sample = sample_inputs(contract, operation, full=True)
    if address == "body" or address.startswith("body/"):
        media = chosen_media(operation, sample.content_type)
        ref, whole, pointer = (media.schema if media else None), sample.body, address[4:]
    else:
        one = next(
            (declared_input for declared_input in operation.inputs if declared_input.address == address), None
        )
        ref, whole, pointer = (one.schema if one else None), sample.values.get(address, ABSENT), ""
    if ref is None or whole is ABSENT:
        raise UsageError(
            f"{quoted(address)} has no schema, so no values of it are known", mend="write the table by hand"
        )
    schema: Any = contract.schema(ref)
    try:
        found = [follow_pointer(whole, pointer)]
        found += [
            follow_pointer(boundary.value, pointer)
            for boundary in schema.boundaries(whole)
            if boundary.path == pointer
        ]
    except (LookupError, ValueError):
        raise UsageError(
            f"{operation.id} has no value at {quoted(address)}",
            mend=f"see juxtalogos show {shlex.quote(operation.id)}",
        ) from None
    unique: list[Any] = []
    for value in found:
        if not any(type(value) is type(other) and value == other for other in unique):
            unique.append(value)
    return unique
