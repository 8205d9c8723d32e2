"""`call --each-media`: the same call in every declared media type, the values of the answers compared."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from juxtalogos.cli.shared.layout import counted
from juxtalogos.cli.shared.options import EXIT_FAILED, EXIT_HELD, EXIT_NO_ANSWER
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.exchange.media import content_type
from juxtalogos.model.contract import Operation
from juxtalogos.model.errors import UsageError
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.verdict import Verdict
from juxtalogos.report.compare import told
from juxtalogos.run.judging.judge import Judgement
from juxtalogos.suite.comparing import Allowed, differences

MAX_DIFFERENCES = 20


@dataclass(frozen=True, slots=True)
class MediaCall:
    media_type: str
    exchange: Exchange
    judgement: Judgement
    number: int
    value: Any
    """What it says, without what the media type adds; ABSENT where it cannot be compared."""


def answer_types(operation: Operation) -> list[str]:
    """The media types of its successful answers; UsageError when there is nothing to compare."""
    found = dict.fromkeys(
        media.media_type.partition(";")[0]
        for answer in operation.answers
        if answer.outcome.succeeded
        for media in answer.media
    )
    if len(found) < 2:
        raise UsageError(
            (
                f"{operation.id} declares {len(found)} media "
                f"type{'s' if len(found) != 1 else ''} for its responses"
            ),
            mend="there is nothing to compare",
        )
    return list(found)


def call_each(out: Terminal, operation: Operation, call: Callable[[str], MediaCall], *, json: bool) -> int:
    """One call for each declared media type, their values compared; gives the exit status."""
    calls = [call(media_type) for media_type in answer_types(operation)]
    first = next((one for one in calls if one.value is not ABSENT), None)
    rows: list[tuple[MediaCall, list[str], str]] = []
    for one in calls:
        if first is None or one.value is ABSENT:
            unread = one.judgement.answer.unread if one.judgement.answer else one.judgement.reason
            rows.append((one, [], f"not compared: {unread or 'no body'}"))
        else:
            found = [told(difference) for difference in differences(first.value, one.value, Allowed())]
            same = counted(len(found), "difference") if found else "the same values"
            rows.append((one, found, "" if one is first else same))
    if json:
        out.json(
            {
                "version": 1,
                "operation": operation.full_id,
                "calls": [_data(one, found, note) for one, found, note in rows],
            }
        )
    else:
        out.table(
            ("asked for", "status", "came", "verdict", "compared with the first", "exchange"),
            [_row(one, note) for one, _, note in rows],
            styles=("name",),
        )
        for one, found, _ in rows:
            for text in found[:MAX_DIFFERENCES]:
                out.line((f"{one.media_type}  ", "name"), (text, "deviation"), indent=2)
    verdicts = {one.judgement.verdict for one in calls}
    if Verdict.FAILED in verdicts or any(found for _, found, _ in rows):
        return EXIT_FAILED
    return EXIT_NO_ANSWER if verdicts == {Verdict.ERROR} else EXIT_HELD


def _row(one: MediaCall, note: str) -> tuple[Any, ...]:
    response = one.exchange.response
    came = (content_type(response) or "") if response else one.exchange.error
    verdict = one.judgement.verdict
    return (
        one.media_type,
        response.status if response else "",
        came,
        (verdict, verdict),
        note,
        one.number or "",
    )


def _data(one: MediaCall, found: list[str], note: str) -> dict[str, Any]:
    response = one.exchange.response
    return {
        "asked": one.media_type,
        "status": response.status if response else None,
        "came": content_type(response) if response else None,
        "verdict": one.judgement.verdict,
        "differences": found,
        "note": note,
        "exchange": one.number or None,
    }
