"""Every page of a list, one after another."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from typing import Any

from juxtalogos.compose.listing import MOST_PAGES, items_in, onward, paging_of
from juxtalogos.explore.prober.prober import Trial
from juxtalogos.explore.prober.requests import RequestMaker, Unfillable
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Operation
from juxtalogos.model.wire import Inputs
from juxtalogos.suite.inputs import with_values

Call = Callable[[Operation, Inputs], Awaitable[Trial]]


async def pages(
    call: Call, maker: RequestMaker, listing: Operation, inputs: Inputs, values: Mapping[str, Any]
) -> AsyncIterator[Trial]:
    """Each page of a list in its turn; Unfillable where the first does not come."""
    paging = paging_of(maker.rows, listing)
    given = dict(values)
    shown, asked = 0, set[str]()
    for number in range(MOST_PAGES):
        trial = await call(listing, with_values(inputs, given))
        if not trial.ok:
            if not number:
                raise Unfillable(f"{listing.id} returned {trial.code}")
            return
        yield trial
        count = len(items_in(trial.value) or [])
        shown += count
        more = onward(wire_of(maker.contract), paging, trial.exchange, trial.value, shown, count, given)
        mark = json.dumps(more, sort_keys=True, default=str)
        if more is None or mark in asked:
            return
        asked.add(mark)
        given.update(more)
