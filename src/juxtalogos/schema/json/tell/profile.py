"""A schema seen as what is known of its values: types, members, items; references and allOf followed."""

from __future__ import annotations

from collections.abc import Iterator

from juxtalogos.documents.jsonvalues import type_of
from juxtalogos.model.location import Location, split_pointer
from juxtalogos.model.schema import is_index
from juxtalogos.schema.json.check.interpreter import Context, follow
from juxtalogos.schema.json.check.node_schema import NodeSchema
from juxtalogos.schema.json.tree.nodes import Node, Xml
from juxtalogos.schema.json.tree.store import BadReference


class View:
    """What a schema says of the values it describes, all branches together."""

    def __init__(self, node: Node, context: Context) -> None:
        self.context = context
        self.parts = list(_with_branches(node, context))
        self.kinds = kinds_of(node, context)
        self.properties: dict[str, Node] = {}
        self.items: Node | None = None
        self.xml = next((part.notes.xml for part in self.parts if part.notes.xml), Xml())
        for part in self.parts:
            for rule in part.rules:
                if rule.op == "members":
                    for name, child in rule.operand.properties.items():
                        self.properties.setdefault(name, child)
                elif rule.op == "items" and rule.operand.rest is not None:
                    self.items = self.items or rule.operand.rest

    @classmethod
    def anything(cls, context: Context) -> View:
        """Of a value that nothing is declared of."""
        return cls(Node(Location(""), ""), context)

    def of(self, node: Node) -> View:
        return View(node, self.context)


def _with_branches(node: Node, context: Context, depth: int = 0) -> Iterator[Node]:
    for part in same_value(node, context):
        yield part
        for rule in part.rules if depth < 5 else ():
            if rule.op in ("anyOf", "oneOf"):
                for child in rule.operand:
                    yield from _with_branches(child, context, depth + 1)


def same_value(node: Node, context: Context) -> list[Node]:
    """The node and what it refers to or combines by allOf."""
    found: list[Node] = []
    waiting = [node]
    while waiting:
        current = waiting.pop(0)
        if any(current is other for other in found):
            continue
        found.append(current)
        for rule in current.rules:
            if rule.op == "ref":
                try:
                    waiting.append(follow(rule.operand, context))
                except BadReference:
                    continue
            elif rule.op == "allOf":
                waiting += rule.operand
    return found


def declared_kinds(
    schema: NodeSchema, pointer: str = ""
) -> tuple[tuple[str, ...], tuple[str, ...], dict[str, tuple[str, ...]]]:
    """(types of the value, types of its items, types by property) at a place in the value, for reading texts
    as values.
    """
    known = schema.kinds.get(pointer)
    found = known if known is not None else _declared_kinds(schema, pointer)
    if known is None and len(schema.kinds) < 1_000:
        schema.kinds[pointer] = found
    return found


def _declared_kinds(
    schema: NodeSchema, pointer: str
) -> tuple[tuple[str, ...], tuple[str, ...], dict[str, tuple[str, ...]]]:
    context = schema.context()
    parts = same_value(schema.node, context)
    for token in split_pointer(pointer):
        parts = [part for child in _below(parts, token, context) for part in same_value(child, context)]
    items: list[str] = []
    properties: dict[str, tuple[str, ...]] = {}
    for part in parts:
        for rule in part.rules:
            if rule.op == "items" and rule.operand.rest is not None:
                items += kinds_of(rule.operand.rest, context)
            elif rule.op == "members":
                for name, child in rule.operand.properties.items():
                    properties[name] = properties.get(name, ()) + kinds_of(child, context)
    kinds = tuple(kind for part in parts for kind in kinds_of(part, context))
    return kinds + (("object",) if properties and not kinds else ()), tuple(items), properties


def _below(parts: list[Node], token: str, context: Context, depth: int = 0) -> Iterator[Node]:
    """The schemas of the member of that name or index."""
    for part in parts:
        for rule in part.rules:
            if rule.op == "members":
                child = rule.operand.properties.get(token) or rule.operand.additional
                if child is not None:
                    yield child
            elif rule.op == "items" and is_index(token):
                index = int(token)
                if index < len(rule.operand.prefix):
                    yield rule.operand.prefix[index]
                elif rule.operand.rest is not None:
                    yield rule.operand.rest
            elif rule.op in ("anyOf", "oneOf") and depth < 5:
                for child in rule.operand:
                    yield from _below(same_value(child, context), token, context, depth + 1)


def kinds_of(node: Node, context: Context, depth: int = 0) -> tuple[str, ...]:
    """The types that a schema allows."""
    found: list[str] = []
    for part in same_value(node, context):
        for rule in part.rules:
            if rule.op == "type":
                found += [name.replace("strict ", "") for name in rule.operand]
            elif rule.op in ("enum", "const") and part.rule("type") is None:
                found += [
                    type_of(member) for member in (rule.operand if rule.op == "enum" else (rule.operand,))
                ]
            elif rule.op in ("anyOf", "oneOf") and depth < 5:
                found += [kind for child in rule.operand for kind in kinds_of(child, context, depth + 1)]
    return tuple(dict.fromkeys(found))
