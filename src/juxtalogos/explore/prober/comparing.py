"""What was sent beside what is shown: values that stand for the same, the item within an answer, the items of
a list.
"""

from __future__ import annotations

import json
import math
import re
from collections import deque
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any

Item = Mapping[str, Any]
DEEPEST, MOST_VISITED, MOST_PAIRED = 4, 5_000, 500


def same(one: Any, other: Any) -> bool:
    """Whether two values stand for the same: a service may write numbers, moments and texts in a form of its
    own.
    """
    if isinstance(one, bool) or isinstance(other, bool):
        return one is other
    if isinstance(one, int | float) and isinstance(other, int | float):
        exact = isinstance(one, int) and isinstance(other, int)
        return one == other or (not exact and _close(one, other))
    if isinstance(one, str) and isinstance(other, str):
        return (
            one == other
            or _normal(one) == _normal(other)
            or _same_moment(one, other)
            or _same_number(one, other)
        )
    if (
        isinstance(one, str) != isinstance(other, str)
        and isinstance(one, str | int | float)
        and isinstance(other, str | int | float)
    ):
        return str(one) == str(other)
    if isinstance(one, dict) and isinstance(other, dict):
        return not any(True for _ in differing(one, other))
    if isinstance(one, list) and isinstance(other, list):
        return len(one) == len(other) and (all(map(same, one, other)) or _same_set(one, other))
    return bool(one == other)


def _close(one: float, other: float) -> bool:
    """Whether two numbers differ by no more than their writing may; an integer past all floats is close to
    none.
    """
    try:
        return math.isclose(one, other, rel_tol=1e-12)
    except OverflowError:
        return False


def _same_set(one: list[Any], other: list[Any]) -> bool:
    return len(one) == len(other) and _within(one, other)


def _within(one: list[Any], other: list[Any]) -> bool:
    """Whether each item of one list has its like in the other; of very long ones that is not proven, and not
    denied.
    """
    if min(len(one), len(other)) > MOST_PAIRED:
        return True
    left = list(other)
    for item in one:
        found = next((index for index, candidate in enumerate(left) if same(item, candidate)), None)
        if found is None:
            return False
        del left[found]
    return True


def _normal(text: str) -> str:
    return " ".join(text.split()).casefold()


def _same_moment(one: str, other: str) -> bool:
    first, second = _moment(one), _moment(other)
    return first is not None and first == second


def _same_number(one: str, other: str) -> bool:
    """`4.5` and `4.50`: decimals that travel as texts."""
    return (
        all(re.fullmatch(r"-?\d{1,20}\.\d{1,20}|-?\d{1,15}", text) for text in (one, other))
        and "." in one + other
        and Decimal(one) == Decimal(other)
    )


def _moment(text: str) -> datetime | None:
    if not re.match(r"\d{4}-\d\d-\d\dT", text):
        return None
    try:
        found = datetime.fromisoformat(text.replace("Z", "+00:00").replace("z", "+00:00"))
    except ValueError:
        return None
    return (found if found.tzinfo else found.replace(tzinfo=UTC)).replace(microsecond=0)


def differing(sent: Item, shown: Item, path: str = "") -> Iterator[tuple[str, Any, Any]]:
    """(path, sent, shown) of members that both have and that do not stand for the same."""
    for name, value in sent.items():
        if name not in shown:
            continue
        other = shown[name]
        if {type(value), type(other)} == {list, dict}:
            continue  # another representation, such as a link to what there is
        if (
            isinstance(value, list) != isinstance(other, list)
            and not isinstance(value, dict)
            and not isinstance(other, dict)
        ):
            value, other = (
                (value if isinstance(value, list) else [value]),
                (other if isinstance(other, list) else [other]),
            )
        if isinstance(value, dict) and isinstance(other, dict):
            yield from differing(value, other, f"{path}/{name}")
        elif (
            isinstance(value, list)
            and isinstance(other, list)
            and len(other) > len(value)
            and _within(value, other)
        ):
            continue  # a service may add to a list: who made it, for example
        elif not same(value, other):
            yield f"{path}/{name}", value, other


def objects_in(value: Any) -> Iterator[Item]:
    """All objects within a value, the shallowest first; of lists at most so many."""
    waiting: deque[tuple[int, Any]] = deque([(0, value)])
    for _ in range(MOST_VISITED):
        if not waiting:
            return
        depth, one = waiting.popleft()
        if isinstance(one, dict):
            yield one
            if depth < DEEPEST:
                waiting += [(depth + 1, inner) for inner in one.values()]
        elif isinstance(one, list) and depth < DEEPEST:
            waiting += [(depth + 1, inner) for inner in one]


def item_in(value: Any, like: Item, key: Any = None) -> Item | None:
    """The object of an answer that is the item: the one that has its key, else the one that has most names in
    common.
    """
    names = {name for name in like if not name.startswith("@")}
    best: tuple[int, Item] | None = None
    for one in objects_in(value):
        if (
            key is not None
            and any(_is_key(inner, key) for inner in one.values())
            and (not names or names & one.keys())
        ):
            return one
        shared = len(names & one.keys())
        if shared and (best is None or shared > best[0]):
            best = shared, one
    return best[1] if best else None


def _is_key(value: Any, key: Any) -> bool:
    return isinstance(value, str | int) and not isinstance(value, bool) and str(value) == str(key)


def has_key(item: Any, key: Any) -> bool:
    """Whether an item of a list is, or has among its own members, the key."""
    return _is_key(item, key) or (
        isinstance(item, dict) and any(_is_key(value, key) for value in item.values())
    )


def changes(before: Item, after: Item, path: str = "") -> set[str]:
    """Paths of members that are not the same any more, one level within objects."""
    found = set()
    for name in before.keys() | after.keys():
        one, other = before.get(name), after.get(name)
        if isinstance(one, dict) and isinstance(other, dict) and not path:
            found |= changes(one, other, f"/{name}")
        elif one != other:
            found.add(f"{path}/{name}")
    return found


def told(value: Any) -> str:
    """A value for a person, one line."""
    text = json.dumps(value, ensure_ascii=False, default=str)
    return text if len(text) <= 120 else text[:119] + "…"
