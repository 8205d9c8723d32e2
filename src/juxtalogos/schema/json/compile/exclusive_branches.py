"""Which branches no value can fit two of: told apart by a property's constant, or by type."""

from __future__ import annotations

from juxtalogos.schema.json.check.interpreter import Context, deep_notes, follow
from juxtalogos.schema.json.tree.nodes import Node

JSON_TYPES = {"object": "dict", "array": "list", "string": "str", "boolean": "bool", "null": "_none"}
"""Python types by JSON type, as they are written in compiled source."""


def resolved(node: Node, context: Context) -> Node:
    """The schema behind plain references."""
    for _ in range(20):
        reference = node.rule("ref")
        if reference is None or len(node.rules) > 1:
            return node
        node = follow(reference.operand, context)
    return node


def python_types(node: Node) -> set[str]:
    """Python types of the values a schema can fit, when its `type` says so; numbers are told as one."""
    rule = node.rule("type")
    if rule is None:
        return set()
    names = {"number": ("int", "float"), "integer": ("int", "float"), "strict integer": ("int",)}
    return {kind for name in rule.operand for kind in names.get(name, (JSON_TYPES.get(name, "_none"),))}


def telling_property(nodes: list[Node], context: Context) -> tuple[str | None, list[set[str]]]:
    """A property that each branch demands with texts of its own."""
    first = nodes[0].rule("required") if nodes else None
    for name in first.operand if first else ():
        found = [_demanded(node, name, context) for node in nodes]
        if all(found) and sum(map(len, found)) == len(set().union(*found)):
            return name, found
    return None, []


def _demanded(node: Node, name: str, context: Context) -> set[str]:
    required, members, kind = node.rule("required"), node.rule("members"), node.rule("type")
    if (
        required is None
        or name not in required.operand
        or members is None
        or kind is None
        or kind.operand != ("object",)
    ):
        return set()
    child = members.operand.properties.get(name)
    if child is None or any(deep_notes(child, context)):
        return set()
    child = resolved(child, context)
    constant, choices = child.rule("const"), child.rule("enum")
    values = (constant.operand,) if constant else choices.operand if choices else ()
    return set(values) if values and all(type(value) is str for value in values) else set()
