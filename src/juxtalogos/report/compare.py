"""Two runs side by side: the same steps, their verdicts, statuses and answers."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.ledger import ExchangeRecord
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
        return response.body.decode("utf-8", "replace")


def differences(one: Any, other: Any, path: str = "") -> Iterator[str]:
    """Where two values differ, as JSON has it (1 is 1.0)."""
    if isinstance(one, dict) and isinstance(other, dict):
        for key in dict.fromkeys([*one, *other]):
            at = f"{path}/{escape_key(key)}"
            if key not in one or key not in other:
                yield f"{at}: only in the {'other' if key not in one else 'first'}"
            else:
                yield from differences(one[key], other[key], at)
    elif isinstance(one, list) and isinstance(other, list):
        if len(one) != len(other):
            yield f"{path or 'the body'}: {len(one)} items in the first, {len(other)} in the other"
        for index, (left, right) in enumerate(zip(one, other)):
            yield from differences(left, right, f"{path}/{index}")
    elif not equal(one, other):
        yield f"{path or 'the body'}: {dump_json(one)[:60]} in the first, {dump_json(other)[:60]} in the other"
