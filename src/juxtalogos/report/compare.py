"""Two runs side by side: the same steps, their verdicts, statuses and answers."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.documents.xmltext import NotXml, local, parse_xml
from juxtalogos.ledger import ExchangeRecord
from juxtalogos.model.findings import general_path
from juxtalogos.model.location import escape_key
from juxtalogos.schema.json.tree.values import equal

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
    def same(self) -> bool:
        """Whether both are there and came to the same."""
        one, other = self.first, self.second
        return (
            one is not None
            and other is not None
            and not self.differences
            and (one.status, one.verdict) == (other.status, other.verdict)
        )


def pairs(first: Iterable[ExchangeRecord], second: Iterable[ExchangeRecord]) -> list[Pair]:
    """By suite, case and step; a step taken several times by its turn."""
    left, right = _by_step(first), _by_step(second)
    return [
        Pair(key[0], key[1], key[2], left.get(key), right.get(key), tuple(_differences(left.get(key), right.get(key))))
        for key in dict.fromkeys([*left, *right])
    ]


def place_counts(found: Iterable[Pair]) -> list[tuple[int, str, str, str]]:
    """(steps, operation, place with its indices as `*`, one difference) of values that differ, the commonest first."""
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


def _differences(one: ExchangeRecord | None, other: ExchangeRecord | None) -> Iterator[str]:
    bodies = [_body(record) for record in (one, other)]
    for count, text in enumerate(differences(*bodies) if None not in (one, other) else ()):
        if count == MAX_DIFFERENCES:
            yield "and more"
            return
        yield text


def _body(record: ExchangeRecord | None) -> Any:
    response = record.exchange.response if record and record.exchange else None
    if response is None:
        return None
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
    single = {key: item[0] if isinstance(item, list) and len(item) == 1 else item for key, item in made.items()}
    return ({**single, "text()": text} if text else single) if single else text


_ABSENT = object()


def differences(one: Any, other: Any) -> Iterator[str]:
    """Where two values differ, as JSON has it (1 is 1.0), in the order of the first; however deep they nest."""
    waiting: list[tuple[str, Any, Any]] = [("", one, other)]
    while waiting:
        at, left, right = waiting.pop()
        if isinstance(left, dict) and isinstance(right, dict):
            keys = dict.fromkeys([*left, *right])
            inner = [(f"{at}/{escape_key(key)}", left.get(key, _ABSENT), right.get(key, _ABSENT)) for key in keys]
            waiting.extend(reversed(inner))
        elif left is _ABSENT or right is _ABSENT:
            yield f"{at}: only in the {'other' if left is _ABSENT else 'first'}"
        elif isinstance(left, list) and isinstance(right, list):
            if len(left) != len(right):
                yield f"{at or 'the body'}: {len(left)} items in the first, {len(right)} in the other"
            inner = [(f"{at}/{index}", *both) for index, both in enumerate(zip(left, right))]
            waiting.extend(reversed(inner))
        elif isinstance(left, dict | list) or isinstance(right, dict | list) or not equal(left, right):
            yield f"{at or 'the body'}: {_brief(left)} in the first, {_brief(right)} in the other"


def _brief(value: Any) -> str:
    try:
        return dump_json(value)[:60]
    except RecursionError:
        return "what is nested too deep to show"
