"""What a rule declares, in words that a person understands."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from juxtalogos.documents.jsonvalues import in_words
from juxtalogos.schema.json.tree.nodes import Node, Rule


def _types(operand: Any) -> str:
    return " or ".join(name.replace("strict ", "") for name in operand)


def _members(operand: Any) -> str:
    return "only " + ", ".join(list(operand.properties)[:12]) if operand.properties else "no further property"


WORDS: dict[str, Callable[[Any], str]] = {
    "type": _types,
    "enum": lambda values: (
        "one of "
        + ", ".join(in_words(value, 40) for value in values[:12])
        + (" …" if len(values) > 12 else "")
    ),
    "const": lambda value: in_words(value),
    "multipleOf": lambda number: f"a multiple of {number}",
    "minimum": lambda number: f"at least {number}",
    "maximum": lambda number: f"at most {number}",
    "exclusiveMinimum": lambda number: f"more than {number}",
    "exclusiveMaximum": lambda number: f"less than {number}",
    "minLength": lambda number: f"{number} or more characters",
    "maxLength": lambda number: f"at most {number} characters",
    "minItems": lambda number: f"{number} or more items",
    "maxItems": lambda number: f"at most {number} items",
    "minProperties": lambda number: f"{number} or more properties",
    "maxProperties": lambda number: f"at most {number} properties",
    "pattern": lambda pattern: f"text matching {pattern.source}",
    "format": lambda operand: f"{operand[0]} format",
    "uniqueItems": lambda _: "items that all differ",
    "members": _members,
    "not": lambda node: f"not {node_in_words(node)}",
    "allOf": lambda nodes: "all of " + ", ".join(map(node_in_words, nodes)),
    "anyOf": lambda nodes: "any of " + ", ".join(map(node_in_words, nodes)),
    "oneOf": lambda nodes: "exactly one of " + ", ".join(map(node_in_words, nodes)),
}

LIMITS = [
    "enum",
    "const",
    "minimum",
    "exclusiveMinimum",
    "maximum",
    "exclusiveMaximum",
    "multipleOf",
    "minLength",
    "maxLength",
    "pattern",
    "minItems",
    "maxItems",
    "uniqueItems",
    "minProperties",
    "maxProperties",
]
"""The operators that `show` lists as allowed values and limits."""


_known: dict[int, tuple[Rule, str]] = {}
"""Words by rule; the rule is kept, so that its identity stays its own."""
MAX_KNOWN = 20_000


def declared(rule: Rule) -> str:
    """What a rule declares, in words."""
    found = _known.get(id(rule))
    if found is None:
        writer = WORDS.get(rule.op)
        if len(_known) >= MAX_KNOWN:
            _known.clear()
        found = _known[id(rule)] = rule, writer(rule.operand) if writer else rule.keyword
    return found[1]


def node_in_words(node: Node) -> str:
    """A schema in a few words."""
    if node.constant is not None:
        return "anything" if node.constant else "nothing"
    kind = node.rule("type")
    parts = [_types(kind.operand)] if kind else []
    parts += [declared(rule) for rule in node.rules if rule.op in LIMITS][:3]
    name = node.location.pointer.rpartition("/")[2]
    reference = node.rule("ref")
    if reference:
        return str(reference.operand.uri).rpartition("/")[2] or str(reference.operand.uri)
    if parts and not (kind and "object" in kind.operand):
        return ", ".join(parts)
    return name if not name.isdigit() else (node.notes.title or "a schema")


def limits_in_words(node: Node) -> str:
    """Allowed values and limits of a node, for a table."""
    return "; ".join(declared(rule) for rule in node.rules if rule.op in LIMITS)
