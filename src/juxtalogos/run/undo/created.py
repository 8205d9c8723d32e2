"""What a run creates: what was there before it, and what is still to be undone.

An item is a run's own only if the list that would show it did not show it before: a service may answer a
creation with what
somebody else has. What is to be undone is in the ledger before anything else happens, so that it can be done
later too.
"""

from __future__ import annotations

import asyncio
import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from types import MappingProxyType
from typing import Any

from juxtalogos.compose.requests import sample_inputs
from juxtalogos.documents.jsontext import parse_answer
from juxtalogos.exchange.transport import Sender
from juxtalogos.formats import outcome_of
from juxtalogos.ledger import UndoRecord
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.run.target.session import Session
from juxtalogos.suite.language.selectors import NoSelection, select_json, select_xml
from juxtalogos.suite.model import Created, Step


@dataclass(frozen=True, slots=True)
class ListChange:
    """A list that is not as it was before the run: by this run, by the service itself, or
    by somebody else.
    """

    contract: str
    operation: str
    more: tuple[str, ...]
    gone: tuple[str, ...]

    def __str__(self) -> str:
        told = [
            f"{len(keys)} {word} ({', '.join(keys[:3])}{', …' if len(keys) > 3 else ''})"
            for keys, word in ((self.more, "more"), (self.gone, "gone"))
            if keys
        ]
        return f"{self.operation}: {', '.join(told)}"


@dataclass(slots=True)
class Census:
    """By listing, the keys that it showed before this run created anything there; None where it showed
    nothing that can be read.
    """

    shown: dict[tuple[str, str], frozenset[str] | None] = field(default_factory=dict)
    locks: dict[tuple[str, str], asyncio.Lock] = field(default_factory=dict)
    asked: dict[tuple[str, str], tuple[Created, Mapping[str, str]]] = field(default_factory=dict)
    """How each list is asked for and read."""

    async def before(
        self, session: Session, sender: Sender, created: Created, namespaces: Mapping[str, str]
    ) -> None:
        """Asks once what is there; whoever creates waits for that."""
        if (
            created.contract is None
            or created.listing is None
            or any(declared_input.required for declared_input in created.listing.inputs)
        ):
            return  # below what this run created itself
        key = created.contract.name, created.listing.id
        async with self.locks.setdefault(key, asyncio.Lock()):
            if key not in self.shown:
                self.asked[key] = created, namespaces
                self.shown[key] = await _listed(session, sender, created, namespaces)

    async def differences(self, session: Session, sender: Sender) -> list[ListChange]:
        """What the lists show after the run and did not before, and the other way round."""
        found = []
        for key, (created, namespaces) in self.asked.items():
            before, after = self.shown.get(key), await _listed(session, sender, created, namespaces)
            if before is not None and after is not None and before != after:
                found.append(ListChange(*key, tuple(sorted(after - before)), tuple(sorted(before - after))))
        return found

    def has(self, created: Created, value: Any) -> bool:
        """Whether a key was shown before."""
        if created.contract is None or created.listing is None or value is ABSENT:
            return False
        return str(value) in (self.shown.get((created.contract.name, created.listing.id)) or ())


async def _listed(
    session: Session, sender: Sender, created: Created, namespaces: Mapping[str, str]
) -> frozenset[str] | None:
    assert created.contract is not None and created.listing is not None
    try:
        exchange = await asked_list(session, sender, created.contract, created.listing)
    except (JuxtalogosError, ValueError):
        return None
    if not outcome_of(created.contract, created.listing, exchange).succeeded:
        return None
    return keys_in(exchange, created.selector, namespaces)


async def asked_list(
    session: Session,
    sender: Sender,
    contract: Contract,
    listing: Operation,
    given: Mapping[str, Any] = MappingProxyType({}),
) -> Exchange:
    """The answer to a listing; `given` by address, what else is required takes sample values."""
    inputs = sample_inputs(contract, listing, full=False, without=tuple(given))
    inputs = replace(inputs, values={**inputs.values, **given})
    return await session.send(contract, listing, session.encoded(contract, listing, inputs), sender)


def keys_in(exchange: Exchange, selector: str, namespaces: Mapping[str, str]) -> frozenset[str] | None:
    """The keys that a list's answer shows; None where it is none that can be read."""
    if exchange.response is None:
        return None
    try:
        if selector.startswith("$"):
            return frozenset(map(str, select_json(selector, parse_answer(exchange.response.body))))
        return frozenset(map(str, select_xml(selector, exchange.response.body, namespaces=namespaces)))
    except (NoSelection, ValueError):
        return None


KEY = "\x00key"
"""Stands in kept inputs for what is not known yet: what the service calls the item that it was asked to
create."""


def undo_record(
    suite: str, case: str, step: Step, inputs: Inputs, target: str, intent: AskedFor | None = None
) -> UndoRecord:
    """What a clean-up step would send, to be kept until it was sent with success.

    `intent`: the creation is asked for only.
    """
    assert step.contract is not None and step.operation is not None
    return undo_of(suite, case, step.id, step.contract.name, step.operation.id, inputs, target, intent)


def undo_of(
    suite: str,
    case: str,
    step: str,
    contract: str,
    operation: str,
    inputs: Inputs,
    target: str,
    intent: AskedFor | None = None,
) -> UndoRecord:
    """The same for an operation that no step of a suite calls."""
    sent = {
        "suite": suite,
        "case": case,
        "step": step,
        "values": dict(inputs.values),
        "type": inputs.content_type,
    }
    if inputs.body is not ABSENT and not isinstance(inputs.body, bytes):
        sent["body"] = inputs.body
    if intent is not None:
        sent["intent"] = asdict(intent)
    return UndoRecord(contract, operation, json.dumps(sent, sort_keys=True), target)


@dataclass(frozen=True, slots=True)
class AskedFor:
    """How to find out, should the answer never be read, whether something was created,
    and what it is called.
    """

    listing: str = ""
    """The operation that lists such items; empty for none."""
    given: Mapping[str, Any] = field(default_factory=dict)
    """Its inputs by address."""
    selector: str = ""
    marks: tuple[str, ...] = ()
    """Texts of this run alone that the item has in it."""


def asked_of(created: Created, inputs: Inputs, marks: tuple[str, ...]) -> AskedFor:
    """What is known of an item before it is asked for."""
    listing = created.listing
    if listing is None:
        return AskedFor(marks=marks)
    given = {
        declared_input.address: inputs.values[declared_input.address]
        for declared_input in listing.inputs
        if declared_input.required and declared_input.address in inputs.values
    }
    return AskedFor(listing.id, given, created.selector, marks)
