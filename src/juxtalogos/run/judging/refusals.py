"""Refusals: an answer that is no success to a request of which we made up a part, and what the server says of
it in its own words.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

from juxtalogos.conventions.words import word_set
from juxtalogos.documents.charsets import encodable
from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.documents.xmltext import NotXml, parse_xml
from juxtalogos.model.exchange import Exchange
from juxtalogos.model.findings import REFUSED, CheckResult, Severity
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.judging.judge import Judgement, unsigned, verdict_of

PRESUMED = "presumed"
"""Where a criterion stands that compose wrote for a request of which it made up a part."""
NEEDED = {
    Outcome.UNAUTHENTICATED: "a credential, or another one",
    Outcome.FORBIDDEN: "a role that may do this",
    Outcome.THROTTLED: "a slower pace: --pace SECONDS",
}
"""What a caller lacks whose request was refused for who asks, not for what is asked for."""
MOST_READ, MOST_WORDS = 64 * 1024, 200


def refusal(judgement: Judgement, exchange: Exchange, own: bool) -> Judgement:
    """The judgement of an answer that is no success: refused, where it is a declared refusal of a request of
    which we made up a part.

    What is missing is told of a 401, 403 or 429, and the service blamed for nothing; what this run created
    (`own`) and is
    not found again has failed.
    """
    answer = judgement.answer
    outcome = answer.outcome if answer else Outcome.NO_RESPONSE
    code = answer.code if answer else ""
    unmet = [result for result in judgement.results if result.kind == "criterion.unmet" and not result.held]
    if unmet and outcome.about_caller:
        return unsigned(judgement, f"{code}: it requires {NEEDED[outcome]}")
    presumed = [result for result in unmet if result.at == PRESUMED]
    if not presumed:
        return judgement
    refused = answer is not None and (
        answer.fault is not None or (outcome.refused and answer.declared is not None)
    )
    if not refused or (own and outcome is Outcome.ABSENT):
        others = tuple(result for result in judgement.results if result not in presumed)
        if any(other.fails for other in others):  # it is told already, and by what the definition says
            verdict, reason = verdict_of(others)
            return replace(judgement, verdict=verdict, reason=reason, results=others)
        return judgement
    words = words_of(exchange)
    place = answer.declared.location if answer and answer.declared else None
    told = CheckResult(
        REFUSED,
        False,
        "answer",
        "a success",
        f"{code}: {words}",
        place,
        Severity.REMARK,
        anchor=general(words),
    )
    results = (*(result for result in judgement.results if result.held or result not in presumed), told)
    verdict, reason = verdict_of(results)
    if verdict is Verdict.FAILED:
        return replace(judgement, verdict=verdict, reason=reason, results=results)
    return replace(judgement, verdict=Verdict.REFUSED, reason=f"{code}: {words}", results=results)


def refused_call(judgement: Judgement, exchange: Exchange) -> Judgement:
    """The judgement of a call of which a part was made up, and of which nobody said what is expected: a
    declared refusal proves nothing about the service.
    """
    answer = judgement.answer
    declared = answer is not None and (answer.fault is not None or answer.declared is not None)
    if answer is None or not declared or judgement.verdict not in (Verdict.PASSED, Verdict.UNPROVEN):
        return judgement
    if not answer.outcome.refused or answer.outcome.about_caller:
        return judgement
    told = f"{answer.code}: {words_of(exchange)}".rstrip(": ")
    reason = f"{told} (some values were made up: --set gives others)"
    return replace(judgement, verdict=Verdict.REFUSED, reason=reason)


def general(words: str) -> str:
    """Words with what differs from request to request masked: numbers, and what looks like an id."""
    return re.sub(r"[\w-]*\d[\w-]*", "0", words)


def words_of(exchange: Exchange) -> str:
    """The server's own words for a refusal, as far as they stand in the usual places: one line."""
    body = exchange.response.body[:MOST_READ] if exchange.response else b""
    found = " ".join(" ".join(texts_of(body)).split())
    return found if len(found) <= MOST_WORDS else found[: MOST_WORDS - 1] + "…"


_members = word_set("messages.members")
"""Names of members that hold a message, or a part of one."""


def texts_of(body: bytes) -> list[str]:
    """What a refusal says: problem details (RFC 9457), common lists of violations, the texts of a fault, or
    plain text.
    """
    text = body.decode("utf-8", "replace").strip()
    try:
        if text[:1] == "<":
            return list(filter(None, (" ".join(part.split()) for part in parse_xml(body).itertext())))[:20]
        value = parse_json(body)
    except (NotJson, NotXml):
        return [text[:1000]] if text else []
    found = list(dict.fromkeys(map(encodable, _told(value, 0))))
    return found[:20]


def _told(value: Any, depth: int) -> Iterator[str]:
    if depth > 6:
        return
    if isinstance(value, str):
        yield value
    elif isinstance(value, list):
        for one in value[:20]:
            yield from ([str(one)] if isinstance(one, int) and depth else _told(one, depth + 1))
    elif isinstance(value, dict):
        for name, one in list(value.items())[:40]:
            if name in _members() or isinstance(one, dict | list):
                if depth and isinstance(one, list) and name not in _members():
                    yield name  # a list of what is wrong, by the name of the field
                yield from _told(one, depth + 1)
