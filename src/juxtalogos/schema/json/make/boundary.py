"""Boundary samples: valid values that just reach a limit, one rule at one place each; every enumeration
member; null where it may be.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.location import join_pointer
from juxtalogos.model.schema import Boundary
from juxtalogos.schema.json.check.node_schema import NodeSchema
from juxtalogos.schema.json.make.mutate import MAX_GROWTH, Places, replaced, within_floats
from juxtalogos.schema.json.tree.nodes import Node, Rule
from juxtalogos.schema.patterns import matching_texts


def boundaries(schema: NodeSchema, value: Any) -> Iterator[Boundary]:
    """From a valid value, valid values at each limit that it comes by; a limit that cannot be reached is left
    out.
    """
    told: set[tuple[str, str, str]] = set()
    for node, part, keys in Places(schema).of(value):
        for rule in node.rules:
            for what, candidate in within_floats(_at_limit(rule, node, part, schema)):
                key = (join_pointer(keys), str(rule.location), what)
                whole = replaced(value, keys, candidate)
                if key not in told and schema.accepts(whole):
                    told.add(key)
                    yield Boundary(whole, key[0], rule.keyword, rule.location, what)


def _at_limit(rule: Rule, node: Node, part: Any, schema: NodeSchema) -> Iterator[tuple[str, Any]]:
    limit = rule.operand
    match rule.op:
        case "minimum" | "maximum":
            yield "at the limit", limit
        case "exclusiveMinimum" | "exclusiveMaximum":
            sign = 1 if rule.op == "exclusiveMinimum" else -1
            multiple = node.rule("multipleOf")
            steps = (multiple.operand,) if multiple else (1, 0.5, 0.01, 1e-6)
            yield from (("next to the limit", limit + sign * step) for step in steps)
        case "minLength" | "maxLength" if isinstance(part, str) and limit <= MAX_GROWTH:
            yield from (("at the limit", text) for text in _texts(node, part, limit))
        case "minItems" | "maxItems" if isinstance(part, list) and limit <= MAX_GROWTH:
            yield "at the limit", _items(node, part, limit, schema)
        case "enum":
            yield from ((f"member {index}", member) for index, member in enumerate(limit))
        case "type" if "null" in limit and len(limit) > 1:
            yield "null", None
        case "type" if "boolean" in limit:
            yield from (("true", True), ("false", False))


def _texts(node: Node, part: str, length: int) -> Iterator[str]:
    yield part[:length] if len(part) >= length else part + (part[-1:] or "a") * (length - len(part))
    pattern = node.rule("pattern")
    if pattern:
        for text in matching_texts(pattern.operand.tree, least=length):
            yield text[:length]


def _items(node: Node, part: list[Any], count: int, schema: NodeSchema) -> list[Any]:
    """The list cut or filled up; with further samples, since the items may have to differ."""
    made = list(part[:count])
    rule = node.rule("items")
    rest = rule.operand.rest if rule else None
    inner = schema.of(rest) if rest is not None else None
    seed = 0
    while len(made) < count and seed < count + 60:
        try:
            item = inner.sample(seed=seed) if inner else f"quay {seed}"
        except Unsampleable:
            break
        if node.rule("uniqueItems") is None or item not in made:
            made.append(item)
        seed += 1
    return made
