"""Two runs side by side: the same steps, their verdicts, statuses and answers."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.documents.xmltext import NotXml, local, parse_xml
from juxtalogos.formats.http.outcomes import reads_only
from juxtalogos.ledger import ExchangeRecord
from juxtalogos.model.findings import general_path
from juxtalogos.model.schema import ABSENT
from juxtalogos.run.judging.known import known_values, made_places
from juxtalogos.suite.checks.written import not_as_kept
from juxtalogos.suite.comparing import Allowed, Difference, differences

MAX_DIFFERENCES = 100


@dataclass(frozen=True, slots=True)
class Pair:
    """The same step of two runs; either may be missing."""

    suite: str
    case: str
    step: str
    first: ExchangeRecord | None
    second: ExchangeRecord | None
    differences: tuple[str, ...]

    @property
    def not_as_kept(self) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """How the answer of each run differs from one that is kept."""
        return _not_as_kept(self.first), _not_as_kept(self.second)

    @property
    def same(self) -> bool:
        """Whether both are there and came to the same."""
        one, other = self.first, self.second
        return (
            one is not None
            and other is not None
            and not self.differences
            and (one.status, one.verdict) == (other.status, other.verdict)
        )


def _not_as_kept(side: ExchangeRecord | None) -> tuple[str, ...]:
    results = side.results if side is not None else ()
    return tuple(f"{one.declared}: {one.observed}" for one in results if not_as_kept(one))


Answers = Callable[[ExchangeRecord], tuple[Any, Allowed]]
"""The value of an exchange's answer, and what may differ in it by right."""


def pairs(
    first: Iterable[ExchangeRecord], second: Iterable[ExchangeRecord], answers: Answers | None = None
) -> list[Pair]:
    """By suite, case and step; a step taken several times by its turn. `answers` reads them, by their
    definitions where those are at hand.
    """
    answers = answers or plain_answer
    left, right = _by_step(first), _by_step(second)
    return [
        Pair(
            key[0],
            key[1],
            key[2],
            left.get(key),
            right.get(key),
            tuple(_differences(left.get(key), right.get(key), answers)),
        )
        for key in dict.fromkeys([*left, *right])
    ]


def place_counts(found: Iterable[Pair]) -> list[tuple[int, str, str, str]]:
    """(steps, operation, place with its indices as `*`, one difference) of values that differ, the commonest
    first.
    """
    steps: dict[tuple[str, str], set[int]] = {}
    examples: dict[tuple[str, str], str] = {}
    for number, pair in enumerate(found):
        operation = pair.first.operation if pair.first else ""
        for text in pair.differences:
            at, _, words = text.partition(": ")
            key = operation, general_path(at)
            steps.setdefault(key, set()).add(number)
            examples.setdefault(key, words)
    told = [(len(numbers), *key, examples[key]) for key, numbers in steps.items()]
    return sorted(told, key=lambda row: -row[0])


def _by_step(records: Iterable[ExchangeRecord]) -> dict[tuple[str, str, str, int], ExchangeRecord]:
    found: dict[tuple[str, str, str, int], ExchangeRecord] = {}
    turns: dict[tuple[str, str, str], int] = {}
    for record in records:
        key = record.suite, record.case, record.step
        turns[key] = turns.get(key, 0) + 1
        found[*key, turns[key]] = record
    return found


def _differences(one: ExchangeRecord | None, other: ExchangeRecord | None, answers: Answers) -> Iterator[str]:
    if one is None or other is None:
        return
    (left, allowed), (right, _) = answers(one), answers(other)
    found = differences(left, right, allowed, known_values(one), known_values(other))
    for count, difference in enumerate(found):
        if count == MAX_DIFFERENCES:
            yield "and more"
            return
        yield told(difference)


def told(one: Difference) -> str:
    """A difference of two runs, in words."""
    if one.before is ABSENT or one.after is ABSENT:
        return f"{one.where}: only in the {'other' if one.before is ABSENT else 'first'}"
    return f"{one.where}: {_brief(one.before)} in the first, {_brief(one.after)} in the other"


def plain_answer(record: ExchangeRecord) -> tuple[Any, Allowed]:
    """An answer without its definition: of XML by local names; what its call made may differ."""
    value = _body(record)
    return value, (
        Allowed(created=made_places(record, None, value))
        if record.exchange and not reads_only(record.exchange.request)
        else Allowed()
    )


def _body(record: ExchangeRecord) -> Any:
    response = record.exchange.response if record.exchange else None
    if response is None:
        return ABSENT
    try:
        return parse_json(response.body)
    except NotJson:
        pass
    try:
        return _plain(parse_xml(response.body))
    except NotXml:
        return response.body.decode("utf-8", "replace")


def _plain(element: ET.Element) -> Any:
    """An element without a schema: text, or its attributes and children by local name."""
    made: dict[str, Any] = {f"@{local(key)}": text for key, text in element.items()}
    for child in element:
        made.setdefault(local(child.tag), []).append(_plain(child))
    text = (element.text or "").strip()
    single = {
        key: item[0] if isinstance(item, list) and len(item) == 1 else item for key, item in made.items()
    }
    return ({**single, "text()": text} if text else single) if single else text


def _brief(value: Any) -> str:
    try:
        return dump_json(value)[:60]
    except RecursionError:
        return "nested too deep to show"
