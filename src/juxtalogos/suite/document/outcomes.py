"""What a call that is kept is to come to again: what was seen, or what a person says."""

from __future__ import annotations

import re
from typing import Any

from juxtalogos.model.contract import Operation
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.wire import Answer, Wire

FORMS = "success, a status such as 404, fault:NAME, or any"


def outcome_seen(exchange: Exchange, answer: Answer | None) -> str:
    """Success where one was seen; of a refusal its fault, where that is a declared one, else its status."""
    if answer is not None and answer.fault is not None and answer.fault.name:
        return f"fault:{answer.fault.name}"
    if answer is not None and answer.outcome.succeeded:
        return "success"
    return str(exchange.response.status if exchange.response else 0)


def criteria_of(outcome: str, wire: Wire, operation: Operation) -> list[dict[str, Any]]:
    """The success criteria that hold a step to an outcome.

    Raises UsageError when it is none, or names no declared fault.
    """
    if outcome == "any":
        return []
    if outcome == "success":
        condition = wire.condition(operation, Outcome.SUCCEEDED, left_open=True)
        return [{"condition": condition}] if condition else []
    if re.fullmatch(r"[1-5]\d\d", outcome):
        return [{"condition": f"$statusCode == {outcome}"}]
    kind, _, name = outcome.partition(":")
    if kind != "fault" or not name:
        raise UsageError(f"{quoted(outcome)} is no outcome", mend=f"write {FORMS}")
    faults = [one.fault for one in operation.answers if one.fault]
    if name not in faults:
        mend = nearest(name, faults) if faults else f"it declares no faults; write {FORMS}"
        raise UsageError(f"{operation.id} declares no fault {quoted(name)}", mend=mend)
    element = next(one.fault_element or name for one in operation.answers if one.fault == name)
    found = f"//*[local-name()='Fault']//*[local-name()='{element}']"
    return [{"context": "$response.body", "type": "xpath", "condition": found}]
