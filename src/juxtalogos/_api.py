"""What `juxtalogos.api` hands on."""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import quote

from juxtalogos.compose.requests import sample_inputs
from juxtalogos.coverage import Coverage, measure
from juxtalogos.exchange.transport import Transport, TransportOptions
from juxtalogos.formats import element_kinds, read_contract, wire_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import UsageError, nearest
from juxtalogos.model.exchange import Exchange, Request
from juxtalogos.run.judging import judge as judging
from juxtalogos.run.judging.judge import Judgement
from juxtalogos.suite.inputs import with_values
from juxtalogos.workspace.files import folder_fetch


def load(path: str | Path, name: str = "") -> Contract:
    """Reads a definition with all documents beside it that it refers to.

    Faults are in `Contract.faults`. Raises DocumentError when the file is no service definition.
    """
    file = Path(path)
    fetch = folder_fetch(file.parent)
    uri = quote(file.name)
    return read_contract(fetch(uri), name or file.stem, uri, fetch)


def request(
    contract: Contract, operation: str, base_url: str, values: Mapping[str, Any] | None = None
) -> Request:
    """Makes a request with the given values by address (`path.id`, `body/vessel/name`).

    What is required and not given takes a valid sample.

    Raises UsageError for an unknown operation or address, Unsampleable when no sample is found.
    """
    called = _operation(contract, operation)
    inputs = with_values(sample_inputs(contract, called, full=False), values or {})
    return wire_of(contract).encode(called, inputs, base_url)


def send(message: Request, *, timeout: float = 30.0) -> Exchange:
    """Sends a request, unsigned, and returns the exchange; `timeout` in seconds. Redirects are not followed.

    Without a response the exchange says why in `error`. Call it from outside an event loop.
    """

    async def sending() -> Exchange:
        async with Transport(TransportOptions(timeout=timeout)) as transport:
            return await transport.send(message)

    return asyncio.run(sending())


def judge(contract: Contract, operation: str, exchange: Exchange, base_url: str) -> Judgement:
    """Judges an exchange by the contract: verdict, results of all checks, elements that it exercised."""
    return judging.judge(wire_of(contract), _operation(contract, operation), exchange, base_url)


@dataclass(frozen=True, slots=True)
class _Hit:
    element: str
    operation: str
    count: int


def coverage(contract: Contract, judgements: Iterable[tuple[str, Judgement]]) -> Coverage:
    """Measures how much of a contract some judged exchanges exercised: (operation, judgement) of each."""
    counts = Counter(
        (element, operation) for operation, judgement in judgements for element in judgement.hits
    )
    hits = [_Hit(element, operation, count) for (element, operation), count in counts.items()]
    return measure(wire_of(contract), element_kinds(contract), hits)


def _operation(contract: Contract, name: str) -> Operation:
    found = contract.operation(name)
    if found is None:
        known = [operation.id for operation in contract.operations]
        raise UsageError(f"{contract.name} has no operation {name}", mend=nearest(name, known))
    return found
