"""Samples: valid values made from a schema. Examples first; every one is checked before it is given out."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Iterator
from decimal import Decimal
from typing import Any

from juxtalogos.documents.jsonvalues import key_of
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.schema import ABSENT, NOTHING, Direction, Wanted, is_index
from juxtalogos.schema.json.check.formats import SAMPLES
from juxtalogos.schema.json.check.interpreter import Context, accepts, deep_notes
from juxtalogos.schema.json.check.node_schema import NodeSchema
from juxtalogos.schema.json.make.merging import Impossible, Merger, Shape
from juxtalogos.schema.json.tree.nodes import Node
from juxtalogos.schema.json.tree.store import BadReference
from juxtalogos.schema.patterns import matching_texts

WORDS = ("quay", "tide", "mole", "fender", "pilot", "anchor", "hawser", "beacon", "jetty", "slipway")
BUDGET = 6_000
"""Values made, at all depths together, before giving up."""
MAX_DEPTH = 40
OPTIONAL_DEPTH = 6
"""Below this depth only what is required is filled in."""
MAX_ITEMS = 2_000


def sample(schema: NodeSchema, *, full: bool, seed: int, wanted: Wanted = NOTHING) -> Any:
    """A value that the schema accepts: `full` fills in what is optional too, `wanted` what must be there in
    any case.
    """
    try:
        # In the hope that sound parts make a sound whole only the whole is checked; else every part is.
        with contextlib.suppress(Impossible, GaveUp):
            hopeful = _Sampler(schema.context(), full, careful=False).value(
                (schema.node,), 0, seed, wanted=wanted
            )
            if accepts(schema.node, hopeful, schema.context()):
                return hopeful
        return _Sampler(schema.context(), full, careful=True).value((schema.node,), 0, seed, wanted=wanted)
    except (Impossible, GaveUp, BadReference) as error:
        raise Unsampleable(
            f"no valid sample found: {error}", where=str(schema.node.location), mend="give an `example` there"
        ) from None
    except RecursionError:
        raise Unsampleable(
            "no valid sample found: the schema needs itself without end", where=str(schema.node.location)
        ) from None


class GaveUp(Exception):
    """The budget is spent."""


class _Sampler:
    def __init__(self, context: Context, full: bool, *, careful: bool) -> None:
        self.context = context
        self.careful = careful
        self.full = full
        self.budget = BUDGET
        self.stack: list[int] = []

    def value(
        self, nodes: tuple[Node, ...], depth: int, seed: int, repeats: int = 2, wanted: Wanted = NOTHING
    ) -> Any:
        """A value that all the nodes accept; Impossible says why there is none. `repeats`: how often a schema
        may stand inside itself.
        """
        self.spend()
        if depth > MAX_DEPTH:
            raise Impossible("the schema needs itself without end")
        if wanted.value is not ABSENT:
            if all(accepts(node, wanted.value, self.context) for node in nodes):
                return wanted.value
            raise Impossible("the value that is wanted is not allowed")
        why = "no combination of its rules fits"
        turn, turns = 0, 1
        while turn < turns:
            merger = Merger(self.context, turn + seed if turn else seed, self.full)
            held = len(self.stack)
            try:
                shape = merger.merge(nodes)
                if any(self.stack.count(key) > repeats for key in merger.seen):
                    raise Impossible("the schema needs itself without end")
                self.stack += merger.seen
                for candidate in self.candidates(shape, depth, seed, wanted):
                    self.spend()
                    if not self.careful and isinstance(candidate, dict | list):
                        return candidate
                    if all(accepts(node, candidate, self.context) for node in nodes):
                        return candidate
            except Impossible as error:
                why = str(error)
            finally:
                del self.stack[held:]
            turns = max(turns, min(merger.shape.choices, 40))
            turn += 1
        raise Impossible(why)

    def spend(self) -> None:
        self.budget -= 1
        if self.budget < 0:
            raise GaveUp(f"gave up after {BUDGET} tries")

    def candidates(self, shape: Shape, depth: int, seed: int, wanted: Wanted) -> Iterator[Any]:
        if wanted:
            why = "it has nothing within"
            kinds = [name for name in self.types(shape) if name in ("object", "array")]
            if not shape.members and all(map(is_index, wanted.inner)):
                kinds.sort()  # nothing says which it is, and only lists have numbers
            for name in kinds:
                try:
                    yield from self.of_type(name, shape, depth, seed, wanted)
                except Impossible as error:
                    why = str(error)
            raise Impossible(why)
        given = [*shape.examples, *shape.defaults]
        if shape.values is not None:
            values = (
                [value for value in given if key_of(value) in set(map(key_of, shape.values))]
                if not seed
                else []
            )
            turn = seed % len(shape.values) if shape.values else 0
            yield from values
            yield from shape.values[turn:] + shape.values[:turn]
            return
        if not seed or len(given) > seed:
            yield from (value for value in given[seed:] if not isinstance(value, dict))
        for name in self.types(shape):
            yield from self.of_type(name, shape, depth, seed, wanted)
        yield from (value for value in given if isinstance(value, dict))

    @staticmethod
    def types(shape: Shape) -> list[str]:
        if shape.types is not None:
            return sorted(shape.types, key=lambda name: name == "null")
        hints = {
            "object": (
                shape.members
                or shape.required
                or shape.fixed
                or "minProperties" in shape.limits
                or shape.names
            ),
            "array": shape.items or shape.contains or "minItems" in shape.limits,
            "string": shape.patterns or shape.formats or "minLength" in shape.limits,
            "number": shape.multiples or any("imum" in op for op in shape.limits),
        }
        hinted = [name for name, hint in hints.items() if hint]
        return hinted + [
            name
            for name in ("string", "object", "integer", "array", "boolean", "null", "number")
            if name not in hinted
        ]

    def of_type(self, name: str, shape: Shape, depth: int, seed: int, wanted: Wanted) -> Iterator[Any]:
        match name:
            case "null":
                yield None
            case "boolean":
                yield from ((True, False) if seed % 2 == 0 else (False, True))
            case "integer" | "number":
                yield from numbers(shape, seed, integer=name == "integer")
            case "string":
                yield from texts(shape, seed)
            case "array":
                yield from self.arrays(shape, depth, seed, wanted)
            case "object":
                yield from self.objects(shape, depth, seed, wanted)

    def arrays(self, shape: Shape, depth: int, seed: int, given: Wanted) -> Iterator[list[Any]]:
        if given.inner and not given.items():
            raise Impossible("the items of a list have numbers")
        least, most = shape.limits.get("minItems", 0), shape.limits.get("maxItems", math.inf)
        wanted = max(least, sum(contains.least for contains in shape.contains))
        if least > MAX_ITEMS:
            raise Impossible(f"{least} items are too many to make")
        counts = [wanted]
        if self.full and depth < OPTIONAL_DEPTH:
            longest = max((len(items.prefix) for items in shape.items), default=0)
            counts.insert(0, min(max(wanted, longest, 1), most))
        if given.items() > MAX_ITEMS:
            raise Impossible(f"{given.items()} items are too many to make")
        counts = [max(count, given.items()) for count in counts]
        for count in dict.fromkeys(counts):
            try:
                yield self.array(shape, int(count), depth, seed, given)
            except Impossible:
                if count == counts[-1]:
                    raise

    def array(self, shape: Shape, count: int, depth: int, seed: int, given: Wanted) -> list[Any]:
        made: list[Any] = []
        taken: set[Any] = set()
        demands = [contains.node for contains in shape.contains for _ in range(contains.least)]
        prefix = max((len(items.prefix) for items in shape.items), default=0)
        for index in range(count):
            nodes: tuple[Node, ...] = ()
            for items in shape.items:
                if index < len(items.prefix):
                    nodes += (items.prefix[index],)
                elif items.rest is not None:
                    nodes += (items.rest,)
            place = index - prefix if count - prefix >= len(demands) else index
            if 0 <= place < len(demands):
                nodes += (demands[place],)
            turn = seed + (index if shape.unique else 0)
            made.append(
                self.item(nodes, depth, turn, taken if shape.unique else None, given.below(str(index)))
            )
        return made

    def item(
        self, nodes: tuple[Node, ...], depth: int, seed: int, taken: set[Any] | None, wanted: Wanted
    ) -> Any:
        for attempt in range(30):
            value = self.value(nodes, depth + 1, seed + attempt, wanted=wanted)
            key = key_of(value)
            if taken is None or key not in taken:
                if taken is not None:
                    taken.add(key)
                return value
        raise Impossible("too few different items")

    def objects(self, shape: Shape, depth: int, seed: int, wanted: Wanted) -> Iterator[dict[str, Any]]:
        for name in wanted.inner:
            if not self.has_place(name, shape):
                raise Impossible(f"there is no property {name}")
        required = list(dict.fromkeys([*shape.fixed, *shape.required, *wanted.inner]))
        for dependents in shape.dependents:
            for name in list(required):
                required += [other for other in dependents.get(name, ()) if other not in required]
        required = [name for name in required if name in wanted.inner or not self.skipped(name, shape)]
        declared = [name for members in shape.members for name in members.properties]
        optional = [
            name for name in dict.fromkeys(declared) if name not in required and not self.skipped(name, shape)
        ]
        chosen = required + (optional if self.full and depth < OPTIONAL_DEPTH else [])
        attempts = [chosen]
        least = shape.limits.get("minProperties", 0)
        if len(required) < least:
            spare = optional + self.made_up_names(shape, int(least), depth)
            attempts.append(
                required + [name for name in spare if name not in required][: least - len(required)]
            )
        attempts.append(required)
        most = shape.limits.get("maxProperties")
        if most is not None and len(chosen) > most:
            attempts.insert(0, chosen[: int(most)])
        yield from (
            self.object(shape, names, set(required), declared, depth, seed, wanted) for names in attempts
        )
        if len(chosen) > len(required):
            # Some optional property spoils the whole: those are left out one by one.
            for name in [name for name in chosen if name not in required]:
                rest = [other for other in chosen if other != name]
                yield self.object(shape, rest, set(required), declared, depth, seed, wanted)

    @staticmethod
    def has_place(name: str, shape: Shape) -> bool:
        """Whether a property is declared, or any may be: where some are named, the others are taken for
        mistakes.
        """
        named = [members for members in shape.members if members.properties]
        return not named or any(
            name in members.properties
            or any(pattern.search(name) for pattern, _ in members.patterns)
            or (members.additional is not None and members.additional.constant is not False)
            for members in shape.members
        )

    def made_up_names(self, shape: Shape, count: int, depth: int) -> list[str]:
        """Names for properties that nothing declares, as `propertyNames` and closed patterns want them."""
        if count > MAX_ITEMS:
            raise Impossible(f"{count} properties are too many to make")
        if shape.names:
            return [str(self.value(tuple(shape.names), depth + 1, turn)) for turn in range(count)]
        patterns = [pattern for members in shape.members for pattern, _ in members.patterns]
        matching = [text for pattern in patterns for text in matching_texts(pattern.tree, tries=count)]
        return matching + [f"{word}{number or ''}" for number in range(1 + count // 10) for word in WORDS]

    def object(
        self,
        shape: Shape,
        names: list[str],
        required: set[str],
        declared: list[str],
        depth: int,
        seed: int,
        wanted: Wanted,
    ) -> dict[str, Any]:
        order = {name: index for index, name in enumerate(dict.fromkeys(declared))}
        examples = [example for example in [*shape.examples, *shape.defaults] if isinstance(example, dict)]
        example = examples[seed % len(examples)] if examples else {}
        made: dict[str, Any] = {}
        for name in sorted(names, key=lambda name: order.get(name, len(order))):
            nodes = self.nodes_of(name, shape)
            if wanted.below(name):
                made[name] = self.value(nodes, depth + 1, seed, wanted=wanted.below(name))
            elif name in shape.fixed and all(
                accepts(node, shape.fixed[name], self.context) for node in nodes
            ):
                made[name] = shape.fixed[name]
            elif name in example and all(accepts(node, example[name], self.context) for node in nodes):
                made[name] = example[name]
            else:
                try:
                    made[name] = self.value(nodes, depth + 1, seed, 2 if name in required else 0)
                except Impossible:
                    if name in required:
                        raise
        return made

    def nodes_of(self, name: str, shape: Shape) -> tuple[Node, ...]:
        nodes: list[Node] = []
        for members in shape.members:
            matched = [child for pattern, child in members.patterns if pattern.search(name)]
            if name in members.properties:
                matched.append(members.properties[name])
            if not matched and members.additional is not None:
                matched.append(members.additional)
            nodes += matched
        return tuple(nodes)

    def skipped(self, name: str, shape: Shape) -> bool:
        """readOnly is not for requests, writeOnly not for responses, and some are for those only who mean
        them.
        """
        for members in shape.members:
            node = members.properties.get(name)
            if node is not None and node.notes.seldom:
                return True
            if node is not None:
                read_only, write_only = deep_notes(node, self.context)
                if read_only if self.context.direction is Direction.REQUEST else write_only:
                    return True
        return False


def numbers(shape: Shape, seed: int, *, integer: bool) -> Iterator[int | float]:
    """Numbers within the limits: near the lower one first."""
    low = max(
        (Decimal(repr(shape.limits[op])) for op in ("minimum", "exclusiveMinimum") if op in shape.limits),
        default=None,
    )
    high = min(
        (Decimal(repr(shape.limits[op])) for op in ("maximum", "exclusiveMaximum") if op in shape.limits),
        default=None,
    )
    step = Decimal(1)
    for multiple in shape.multiples:
        step = (
            _common_multiple(step, Decimal(repr(multiple)))
            if integer or len(shape.multiples) > 1
            else Decimal(repr(multiple))
        )
    start = low if low is not None else min(Decimal(1), high) if high is not None else Decimal(1)
    first = (start / step).to_integral_value(rounding="ROUND_CEILING") * step
    wanted = [first + step * (seed + offset) for offset in range(3)] + [
        first + step * offset for offset in range(1, 12)
    ]
    if not shape.multiples and not integer:
        middle = (low + high) / 2 if low is not None and high is not None else start + Decimal("0.5")
        wanted = (
            [middle, start, start + Decimal("0.5") * (seed + 1), *wanted]
            if seed == 0
            else [*wanted, middle, start]
        )
    if high is not None:
        wanted += [
            (high / step).to_integral_value(rounding="ROUND_FLOOR") * step,
            (high / step).to_integral_value(rounding="ROUND_FLOOR") * step - step,
        ]
    if low is None or low <= 0:
        wanted.append(Decimal(0))
    for number in wanted:
        yield (
            int(number)
            if number == number.to_integral_value() and abs(number) < Decimal(10) ** 300
            else float(number)
        )


def texts(shape: Shape, seed: int) -> Iterator[str]:
    """Texts by format, pattern and length."""
    least, most = int(shape.limits.get("minLength", 0)), shape.limits.get("maxLength")
    if least > 1_000_000:
        raise Impossible(f"{least} characters are too many to make")
    for name in shape.formats:
        known = SAMPLES.get(name, ())
        yield from known[seed % len(known) :] if known else ()
        yield from _numbered(name, seed)
    for pattern in shape.patterns:
        yield from matching_texts(pattern.tree, least=least, seed=seed)
    for word in (
        WORDS[seed % len(WORDS)] + (str(seed // len(WORDS)) if seed >= len(WORDS) else ""),
        WORDS[(seed + 1) % len(WORDS)],
    ):
        text = word
        while len(text) < least:
            text = (
                f"{text} {word}" if len(text) + 1 + len(word) <= least else text + word[: least - len(text)]
            )
        yield text[: int(most)] if most is not None else text


def _numbered(name: str, seed: int) -> Iterator[str]:
    """Further samples of the formats that lists of unique items often have."""
    match name:
        case "uuid":
            yield f"6f1d2c3a-58b4-4e7a-9d10-{seed:012x}"
        case "date":
            yield f"2026-{seed % 12 + 1:02d}-{seed % 28 + 1:02d}"
        case "date-time":
            yield f"2026-{seed % 12 + 1:02d}-{seed % 28 + 1:02d}T06:30:00Z"
        case "email":
            yield f"berth.{seed}@port-of-merrow.example"
        case "uri" | "iri" | "uri-reference" | "iri-reference":
            yield f"https://port-of-merrow.example/berths/{seed}"
        case "ipv4":
            yield f"192.0.2.{seed % 255}"
        case "hostname":
            yield f"quay-{seed}.port-of-merrow.example"


def _common_multiple(one: Decimal, other: Decimal) -> Decimal:
    from fractions import Fraction

    first, second = Fraction(one), Fraction(other)
    common = math.lcm(first.numerator * second.denominator, second.numerator * first.denominator)
    return Decimal(common) / Decimal(first.denominator * second.denominator)
