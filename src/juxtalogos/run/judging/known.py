"""What the run of a recorded exchange knew and made: by it two answers of one operation are compared."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime
from typing import Any

from juxtalogos.ledger import ExchangeRecord
from juxtalogos.model.contract import Operation
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.location import follow_pointer
from juxtalogos.model.schema import ABSENT
from juxtalogos.suite.comparing import MOMENT, created_places

MOST_MADE, MOST_BYTES = 50, 64 * 1024
"""Values that one step is known to have made, and bytes of an answer that is looked at for them."""


def known_values(record: ExchangeRecord) -> dict[str, Any]:
    """The values by where they came from; the day and the moment of the request among them."""
    if record.exchange is None:
        return dict(record.known)
    sent = record.exchange.timings.sent_at
    return {"today": datetime.fromtimestamp(sent, UTC).date().isoformat(), MOMENT: sent, **dict(record.known)}


def values_made(
    step: str, operation: Operation, exchange: Exchange, value: Any, outputs: Iterable[Any]
) -> dict[str, Any]:
    """What the answer of a call that is not safe tells that it made, as `STEP/path`."""
    response = exchange.response
    if operation.safe or value is ABSENT or response is None or len(response.body) > MOST_BYTES:
        return {}
    found: dict[str, Any] = {}
    for path in created_places(value, exchange, outputs, operation.noun)[:MOST_MADE]:
        try:
            found[f"{step}{path}"] = follow_pointer(value, path)
        except (LookupError, ValueError):
            continue  # a general path: of several items none is the one
    return found


def made_places(record: ExchangeRecord, operation: Operation | None, value: Any) -> tuple[str, ...]:
    """Where the answer of a call that is not safe tells what the call made."""
    if record.exchange is None or (operation is not None and operation.safe):
        return ()
    own = f"steps.{record.step.rpartition('/')[2]}."
    outputs = (one for name, one in record.known if name.startswith(own))
    return created_places(value, record.exchange, outputs, operation.noun if operation else "")
