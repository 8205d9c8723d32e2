"""Walking the tree of schemas."""

from __future__ import annotations

from collections.abc import Iterator

from juxtalogos.schema.json.tree.nodes import Node, Rule


def children(rule: Rule) -> Iterator[Node]:
    """The schemas directly inside a rule."""
    operand = rule.operand
    match rule.op:
        case "members":
            yield from operand.properties.values()
            yield from (child for _, child in operand.patterns)
            yield from [operand.additional] if operand.additional else []
        case "items":
            yield from operand.prefix
            yield from [operand.rest] if operand.rest else []
        case "allOf" | "anyOf" | "oneOf":
            yield from operand
        case "contains":
            yield operand.node
        case "not" | "propertyNames" | "unevaluatedItems" | "unevaluatedProperties":
            yield operand
        case "if":
            yield from (child for child in (operand.test, operand.then, operand.otherwise) if child)
        case "dependentSchemas":
            yield from operand.values()


def iter_nodes(node: Node) -> Iterator[tuple[str, Node]]:
    """(op, child) of the schemas that apply to the very same value."""
    for rule in node.rules:
        if rule.op in ("allOf", "anyOf", "oneOf"):
            for child in rule.operand:
                yield rule.op, child
        elif rule.op == "if":
            for child in (rule.operand.then, rule.operand.otherwise):
                if child is not None:
                    yield rule.op, child
        elif rule.op == "dependentSchemas":
            for child in rule.operand.values():
                yield rule.op, child
