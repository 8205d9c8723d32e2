"""Mutations: from a valid value, values that break one named rule at one place each.

Candidates are made by a table, a function a rule; each is checked by the engine, and given out only when the
named rule
is really broken. Other rules that break with it are listed beside it.
"""

from __future__ import annotations

import contextlib
import copy
import itertools
import re
from collections.abc import Callable, Iterator
from typing import Any

from juxtalogos.documents.jsonvalues import is_of_type
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.findings import Deviation
from juxtalogos.model.location import join_pointer
from juxtalogos.model.schema import Mutation
from juxtalogos.schema.json.check.interpreter import Context, accepts, follow
from juxtalogos.schema.json.check.node_schema import NodeSchema
from juxtalogos.schema.json.tree.nodes import Node, Rule
from juxtalogos.schema.json.tree.store import BadReference

_OTHERS: tuple[Any, ...] = ("quay", 7, 2.5, True, None, [], {}, ["quay"], {"quay": 1}, -1, "")
_NAMES = ("not-declared", "", "~", "a name with spaces", "1", "x" * 300)
MAX_GROWTH = 5_000
"""Items, characters or properties that a mutation may add."""
_WIDE_INTEGERS = (128, 2**15, 2**31, 2**63, -(2**63) - 1, 1e39, 0.5)


Maker = Callable[[Rule, Any, "_Mutator"], Iterator[tuple[str, Any]]]
"""(rule, value, mutator) -> (what was done, the broken value), the likeliest first."""


def mutate(schema: NodeSchema, value: Any) -> Iterator[Mutation]:
    """One mutation per rule and place that the value reaches; per name for `required` and per member for
    closed objects.
    """
    return _Mutator(schema).mutations(value)


class Places:
    """The places of a value: every schema that applies to a part of it, with the part and the keys that lead
    to it.
    """

    def __init__(self, schema: NodeSchema) -> None:
        self.schema = schema
        self.context: Context = schema.context()

    def of(self, value: Any) -> Iterator[tuple[Node, Any, tuple[str | int, ...]]]:
        """(schema, part, keys that lead to it) of all places of a value."""
        waiting: list[tuple[Node, Any, tuple[str | int, ...]]] = [(self.schema.node, value, ())]
        seen: set[tuple[int, tuple[str | int, ...]]] = set()
        while waiting:
            node, part, keys = waiting.pop(0)
            if (id(node), keys) in seen:
                continue
            seen.add((id(node), keys))
            yield node, part, keys
            for rule in node.rules:
                waiting += self.below(rule, part, keys)

    def below(
        self, rule: Rule, part: Any, keys: tuple[str | int, ...]
    ) -> Iterator[tuple[Node, Any, tuple[str | int, ...]]]:
        """The places that a rule leads to."""
        operand = rule.operand
        match rule.op:
            case "ref":
                try:
                    yield follow(operand, self.context), part, keys
                except BadReference:
                    return
            case "allOf":
                yield from ((child, part, keys) for child in operand)
            case "anyOf" | "oneOf":
                yield from ((child, part, keys) for child in operand if accepts(child, part, self.context))
            case "if":
                branch = operand.then if accepts(operand.test, part, self.context) else operand.otherwise
                yield from [(branch, part, keys)] if branch else []
            case "members" if type(part) is dict:
                for name, item in part.items():
                    child = operand.properties.get(name)
                    matching = [node for pattern, node in operand.patterns if pattern.search(name)]
                    if child is None and not matching and operand.additional is not None:
                        matching = [operand.additional]
                    yield from ((one, item, (*keys, name)) for one in ([child] if child else []) + matching)
            case "items" if type(part) is list:
                # One item of the rest stands for all: the places would else be as many as the items.
                yield from (
                    (child, item, (*keys, index))
                    for index, (child, item) in enumerate(zip(operand.prefix, part))
                )
                if operand.rest is not None and len(part) > len(operand.prefix):
                    yield operand.rest, part[len(operand.prefix)], (*keys, len(operand.prefix))


class _Mutator(Places):
    def mutations(self, value: Any) -> Iterator[Mutation]:
        told: set[tuple[str, str, str]] = set()
        for node, part, keys in self.of(value):
            for rule in node.rules:
                made: set[str] = set()
                candidates = within_floats(MAKERS.get(rule.op, _nothing)(rule, part, self))
                for what, broken in (
                    self.purest(value, keys, rule, candidates) if rule.op == "maxItems" else candidates
                ):
                    if what in made or (made and rule.op not in _MANY):
                        continue
                    mutation = self.mutation(value, keys, rule, what, broken)
                    if mutation and (mutation.path, str(rule.location), what) not in told:
                        told.add((mutation.path, str(rule.location), what))
                        made.add(what)
                        yield mutation

    def purest(
        self, value: Any, keys: tuple[str | int, ...], rule: Rule, candidates: Iterator[tuple[str, Any]]
    ) -> list[tuple[str, Any]]:
        """Candidates in the order of how little else breaks with them."""
        made = [(what, broken, self.mutation(value, keys, rule, what, broken)) for what, broken in candidates]
        return [
            (what, broken)
            for what, broken, found in sorted(made, key=lambda one: len(one[2].also) if one[2] else 99)
        ]

    def mutation(
        self, value: Any, keys: tuple[str | int, ...], rule: Rule, what: str, broken: Any
    ) -> Mutation | None:
        whole = replaced(value, keys, broken)
        found = self.schema.check(whole)
        path = join_pointer(keys)
        named = next((row for row in _flat(found) if _is_of(row, rule, path)), None)
        if named is None or not any(not item.advisory for item in found):
            return None
        also = tuple(item for item in found if item is not named and not item.advisory)
        return Mutation(whole, named.path, named.keyword, named.location, what, also)


def within_floats(candidates: Iterator[tuple[str, Any]]) -> Iterator[tuple[str, Any]]:
    """Ends where a limit is an integer too large to compute with beside a float."""
    with contextlib.suppress(OverflowError):
        yield from candidates


def _flat(found: tuple[Deviation, ...]) -> Iterator[Deviation]:
    for entry in found:
        yield entry
        yield from _flat(entry.because)


def _is_of(one: Deviation, rule: Rule, path: str) -> bool:
    """Whether a deviation is of a rule, at its place or (a missing or surplus member) right below it."""
    if one.advisory or not (one.path == path or one.path.startswith(f"{path}/")):
        return False
    if rule.op == "members":
        additional = rule.operand.additional
        return additional is not None and one.location == additional.location
    if rule.op == "items":
        return rule.operand.rest is not None and one.location == rule.operand.rest.location
    return one.location == rule.location and one.keyword == rule.keyword


def replaced(value: Any, keys: tuple[str | int, ...], part: Any) -> Any:
    """A copy of a value with another part at a place."""
    if not keys:
        return copy.deepcopy(part)
    changed = copy.deepcopy(value)
    holder = changed
    for key in keys[:-1]:
        holder = holder[key]
    holder[keys[-1]] = copy.deepcopy(part)
    return changed


MAKERS: dict[str, Maker] = {}
_MANY = frozenset(("required", "dependentRequired", "type"))
"""Rules that break in more than one way."""


def _maker(*names: str) -> Callable[[Maker], Maker]:
    def register(function: Maker) -> Maker:
        MAKERS.update((name, function) for name in names)
        return function

    return register


def _nothing(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    return iter(())


@_maker("type")
def _type(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    yield "null", None
    for other in _OTHERS:
        if other is not None and not any(is_of_type(other, name) for name in rule.operand):
            yield "wrong type", other


@_maker("enum", "const")
def _choice(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    if isinstance(value, str):
        yield "not among the values", f"{value}-x"
    if isinstance(value, int | float) and not isinstance(value, bool):
        yield from (("not among the values", value + step) for step in (1, 1000, 1e6))
    yield from (("not among the values", other) for other in _OTHERS)


@_maker("minimum", "exclusiveMinimum", "maximum", "exclusiveMaximum")
def _past_limit(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    limit = rule.operand
    sign = -1 if "inimum" in rule.op else 1
    steps = (0, 1, 10**6) if rule.op.startswith("exclusive") else (1, 0.5, 10**6)
    yield from (("just past the limit", limit + sign * step) for step in steps)
    yield "just past the limit", limit + sign * abs(limit)


@_maker("multipleOf")
def _not_multiple(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    base = value if isinstance(value, int | float) and not isinstance(value, bool) else 0
    for step in (1, rule.operand / 2, rule.operand / 3, 0.1):
        yield from (("no multiple", base + sign * step) for sign in (1, -1))


@_maker("minLength")
def _too_short(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    text = value if isinstance(value, str) else ""
    if 0 < rule.operand <= MAX_GROWTH:
        yield (
            "one character too few",
            text[: rule.operand - 1] if len(text) >= rule.operand - 1 else "a" * (rule.operand - 1),
        )


@_maker("maxLength")
def _too_long(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    text = value if isinstance(value, str) else ""
    if rule.operand <= MAX_GROWTH:
        yield "one character too many", text + (text[-1:] or "a") * (rule.operand + 1 - len(text))


@_maker("pattern")
def _no_match(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    text = value if isinstance(value, str) else "quay"
    for other in (f"{text}~", f"~{text}", text[:-1], text.swapcase(), "~" * max(1, len(text)), "", "\n"):
        yield "does not match the pattern", other


@_maker("format")
def _no_format(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    if isinstance(value, str):
        yield from (
            ("not of the format", other)
            for other in (*_misshapen(value), f"{value} ", "quay", "no\\pe {", "~", "")
        )
    else:
        yield from (("not of the format", other) for other in _WIDE_INTEGERS)


_ALMOST = (
    (r"(\d{4})-\d\d-\d\d", r"\1-02-30"),
    (r"(\A|T)\d\d(:\d\d)", r"\g<1>25\2"),
    (r"[0-9a-fA-F](?=\Z)", "g"),
)
"""What leaves a text its shape but not its format: a day, an hour, a digit that there is not."""


def _misshapen(text: str) -> Iterator[str]:
    for pattern, other in _ALMOST:
        changed = re.sub(pattern, other, text, count=1)
        if changed != text:
            yield changed
            return


@_maker("minItems")
def _too_few(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    if isinstance(value, list) and rule.operand > 0:
        yield "one item too few", value[: rule.operand - 1]
    elif rule.operand > 0:
        yield "one item too few", []


@_maker("maxItems")
def _too_many(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    items = value if isinstance(value, list) else []
    if rule.operand <= MAX_GROWTH:
        more = rule.operand + 1 - len(items)
        last = items[-1] if items else None
        others = [_another(last, number) for number in range(more)]
        if any(other is not None for other in others):  # that nothing but their number be wrong
            yield "one item too many", items + others
        yield "one item too many", items + [last] * more


def _another(item: Any, number: int) -> Any:
    """A value like another one, and none that it is equal to; None where none is known."""
    if isinstance(item, str) and item:
        letters = "abcdefghijklmnopqrstuvwxyz"
        return (
            item[:-1] + letters[number % 26]
            if number < 26
            else item[:-2] + letters[number // 26 % 26] + letters[number % 26]
        )
    if isinstance(item, int | float) and not isinstance(item, bool):
        return item + number + 1
    if isinstance(item, dict):
        return {name: _another(one, number) if isinstance(one, str) else one for name, one in item.items()}
    return None


@_maker("uniqueItems")
def _twice(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    if isinstance(value, list) and value:
        yield "an item twice", [*value[:-1], value[0]] if len(value) > 1 else [value[0], value[0]]
        yield "an item twice", [*value, value[0]]
    else:
        yield "an item twice", ["quay", "quay"]


@_maker("required")
def _dropped(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    for name in rule.operand:
        kept = value if isinstance(value, dict) else {}
        yield f"without {name}", {key: item for key, item in kept.items() if key != name}


@_maker("minProperties")
def _few_properties(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    if rule.operand > 0:
        kept = value if isinstance(value, dict) else {}
        yield "one property too few", dict(itertools.islice(kept.items(), rule.operand - 1))


@_maker("maxProperties")
def _many_properties(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    kept = dict(value) if isinstance(value, dict) else {}
    if rule.operand <= MAX_GROWTH:
        names = (f"extra{number}" for number in itertools.count())
        while len(kept) <= rule.operand:
            kept.setdefault(next(names), None)
        yield "one property too many", kept


@_maker("members")
def _surplus(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    additional = rule.operand.additional
    if additional is not None and additional.constant is False:
        kept = value if isinstance(value, dict) else {}
        yield from (("a property that is closed out", {**kept, name: "quay"}) for name in _NAMES)


@_maker("unevaluatedProperties")
def _unevaluated(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    kept = value if isinstance(value, dict) else {}
    yield from (("a property that is closed out", {**kept, name: "quay"}) for name in _NAMES)


@_maker("items", "unevaluatedItems")
def _surplus_item(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    kept = value if isinstance(value, list) else []
    if rule.op == "unevaluatedItems":
        yield "an item that is closed out", [*kept, "quay"]
    elif rule.operand.rest is not None and rule.operand.rest.constant is False:
        filler: list[Any] = [None] * (len(rule.operand.prefix) - len(kept))
        yield "an item that is closed out", [*kept, *filler, "quay"]


@_maker("contains")
def _contains(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    kept = value if isinstance(value, list) else []
    contains = rule.operand
    yield "none that fits", [item for item in kept if not accepts(contains.node, item, mutator.context)]
    fitting = [item for item in kept if accepts(contains.node, item, mutator.context)]
    if contains.most is not None and fitting and contains.most <= MAX_GROWTH:
        yield "too many that fit", kept + fitting[:1] * (contains.most + 1)


@_maker("propertyNames")
def _names(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    kept = value if isinstance(value, dict) else {}
    yield from (("a forbidden property name", {**kept, name: "quay"}) for name in _NAMES)


@_maker("dependentRequired")
def _dependent(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    kept = value if isinstance(value, dict) else {}
    for name, needed in rule.operand.items():
        for other in needed:
            if other != name:
                yield (
                    f"{name} without {other}",
                    {name: "quay", **{key: item for key, item in kept.items() if key != other}},
                )


@_maker("oneOf", "anyOf")
def _no_branch(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    yield from (("none of the alternatives", other) for other in _OTHERS)


@_maker("not")
def _forbidden(rule: Rule, value: Any, mutator: _Mutator) -> Iterator[tuple[str, Any]]:
    if accepts(rule.operand, value, mutator.context):
        return
    inner = mutator.schema.of(rule.operand)
    for full in (False, True):
        try:
            yield "what is forbidden", inner.sample(full=full)
        except Unsampleable:
            continue
    yield from (("what is forbidden", other) for other in _OTHERS)
