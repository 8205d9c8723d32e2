"""What a run creates: what was there before it, and what is still to be undone.

An item is a run's own only if the list that would show it did not show it before: a service may answer a
creation with what
somebody else has. What is to be undone is in the ledger before anything else happens, so that it can be done
later too.
"""

from __future__ import annotations

import json
import re
from collections.abc import Awaitable, Callable, Iterable, Mapping
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from juxtalogos.ledger import UndoRecord
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.model import Created, Step

PutUndo = Callable[[UndoRecord], Awaitable[UndoRecord]]
"""Keeps a record; gives it as it was kept, by which it is found again."""
LEAST_MARK = 8
"""Characters of a text that is taken for the run's own where it is met again."""
STILL_THERE = "its deletion was answered with a success, and it is still there"
KEY = "\x00key"
"""Stands in kept inputs for what is not known yet: what the service calls the item that it was asked to
create."""


def undo_record(
    suite: str,
    case: str,
    step: Step,
    inputs: Inputs,
    target: str,
    intent: AskedFor | None = None,
    carried: Iterable[str] = (),
) -> UndoRecord:
    """What a clean-up step would send, to be kept until it was sent with success.

    `intent`: the creation is asked for only. `carried`: as of `undo_of`.
    """
    assert step.contract is not None and step.operation is not None
    return undo_of(
        suite, case, step.id, step.contract.name, step.operation.id, inputs, target, intent, carried
    )


def undo_of(
    suite: str,
    case: str,
    step: str,
    contract: str,
    operation: str,
    inputs: Inputs,
    target: str,
    intent: AskedFor | None = None,
    carried: Iterable[str] = (),
) -> UndoRecord:
    """The same for an operation that no step of a suite calls. `carried`: texts of this run alone, of which
    the item showed one when it was created: what shows none of them later is another item under its name.
    """
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
    if told := list(carried):
        sent["carried"] = told
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
    marks: tuple[str, ...] = ()
    """Texts of this run alone that the item has in it."""
    member: str = ""
    """The member of the item that names it, where a suite says so."""

    @classmethod
    def read(cls, kept: Mapping[str, Any]) -> AskedFor:
        """As it was kept, by versions before too, which kept a selector of the keys. TypeError where it is
        none that we wrote.
        """
        known = dict(kept)
        member = member_of(known.pop("selector", ""))
        found = cls(**{"member": member, **known} if not known.get("member") else known)
        return replace(found, marks=tuple(mark for mark in found.marks if len(mark) >= LEAST_MARK))


def member_of(selector: str) -> str:
    """The member that a JSONPath, or an XPath, of keys selects; empty where it selects none."""
    found = re.search(r"(?:\.(\w+)|\['(.+)'\]|[/:](\w+))$", selector)
    return next(filter(None, found.groups()), "") if found else ""


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
    return AskedFor(listing.id, given, marks, member_of(created.selector))
