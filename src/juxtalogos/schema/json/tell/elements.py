"""What in a schema a value can exercise, and what a value did exercise."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import Any

from juxtalogos.documents.jsontext import dump_json
from juxtalogos.documents.jsonvalues import key_of
from juxtalogos.model.elements import Element
from juxtalogos.model.location import split_pointer
from juxtalogos.model.schema import Direction
from juxtalogos.schema.json.check.combining import told_schema
from juxtalogos.schema.json.check.interpreter import Context, accepts, deep_notes, follow
from juxtalogos.schema.json.check.node_schema import NodeSchema
from juxtalogos.schema.json.tell.value_classes import branch_element, facet_element, facets
from juxtalogos.schema.json.tree.nodes import Node, Rule
from juxtalogos.schema.json.tree.store import BadReference
from juxtalogos.schema.patterns import Pattern, PatternTimeout


def elements(schema: NodeSchema) -> Iterator[Element]:
    """Properties and enum members, each once, however often it is referred to."""
    context = schema.context()
    seen: set[int] = set()
    waiting = [schema.node]
    while waiting:
        node = waiting.pop()
        if id(node) in seen:
            continue
        seen.add(id(node))
        for rule in node.rules:
            for facet in facets(rule):
                yield facet_element(rule, facet, context, f"{_label(node)} {facet.name}")
            match rule.op:
                case "ref":
                    try:
                        waiting.append(follow(rule.operand, context))
                    except BadReference:
                        continue
                case "enum":
                    for member in rule.operand:
                        yield Element(
                            "enum",
                            rule.location,
                            dump_json(member),
                            context.direction,
                            f"{node.name()} = {dump_json(member)}",
                        )
                case "members":
                    for name, child in rule.operand.properties.items():
                        if not _other_way(child, context):
                            yield property_element(child, context, f"{_owner(node)}{name}")
                            waiting.append(child)
                    waiting += [child for _, child in rule.operand.patterns]
                    waiting += [rule.operand.additional] if rule.operand.additional else []
                case "items":
                    waiting += rule.operand.prefix
                    waiting += [rule.operand.rest] if rule.operand.rest else []
                case "anyOf" | "oneOf":
                    yield from (
                        branch_element(child, context, _branch_label(node, number, child))
                        for number, child in enumerate(rule.operand, 1)
                    )
                    waiting += rule.operand
                case "allOf":
                    waiting += rule.operand
                case "if":
                    waiting += [child for child in (rule.operand.then, rule.operand.otherwise) if child]
                case "dependentSchemas":
                    waiting += rule.operand.values()
                case "discriminator":
                    for uri in rule.operand.mapping.values():
                        with contextlib.suppress(BadReference):
                            waiting.append(context.store.resolve(uri))


def hits(schema: NodeSchema, value: Any) -> Iterator[str]:
    """Ids of the elements that a value exercises; those of branches only where the branch fits."""
    context = schema.context()
    waiting: list[tuple[Node, Any]] = [(schema.node, value)]
    seen: set[tuple[int, int]] = set()
    while waiting:
        node, value = waiting.pop()
        if (id(node), id(value)) in seen:
            continue
        seen.add((id(node), id(value)))
        for rule in node.rules:
            operand = rule.operand
            yield from (facet_element(rule, facet, context).id for facet in facets(rule) if facet.test(value))
            match rule.op:
                case "ref":
                    waiting.append((follow(operand, context), value))
                case "enum":
                    key = key_of(value)
                    for member in operand:
                        if key_of(member) == key:
                            yield enum_element(rule, member, context).id
                case "members" if type(value) is dict:
                    for name, item in value.items():
                        child = operand.properties.get(name)
                        if child is not None:
                            yield property_element(child, context).id
                            waiting.append((child, item))
                        matching = [node for pattern, node in operand.patterns if _matches(pattern, name)]
                        waiting += [(node, item) for node in matching]
                        if child is None and not matching and operand.additional is not None:
                            waiting.append((operand.additional, item))
                case "items" if type(value) is list:
                    waiting += zip(operand.prefix, value, strict=False)
                    if operand.rest is not None:
                        waiting += [(operand.rest, item) for item in value[len(operand.prefix) :]]
                case "allOf":
                    waiting += [(child, value) for child in operand]
                case "anyOf" | "oneOf":
                    fitting = [child for child in operand if accepts(child, value, context)]
                    yield from (branch_element(child, context).id for child in fitting)
                    waiting += [(child, value) for child in fitting]
                case "if":
                    branch = operand.then if accepts(operand.test, value, context) else operand.otherwise
                    waiting += [(branch, value)] if branch else []
                case "discriminator":
                    with contextlib.suppress(BadReference):
                        told = told_schema(rule, value, context)
                        waiting += [(told, value)] if told else []
                case "dependentSchemas" if type(value) is dict:
                    waiting += [(child, value) for name, child in operand.items() if name in value]


def property_element(node: Node, context: Context, label: str = "") -> Element:
    return Element(f"{context.direction}-property", node.location, "", context.direction, label)


def enum_element(rule: Rule, member: Any, context: Context, label: str = "") -> Element:
    return Element("enum", rule.location, dump_json(member), context.direction, label)


def _label(node: Node) -> str:
    """What a person calls a schema: its name, behind that of the schema it is a property of."""
    if node.notes.called:
        return node.notes.called
    tokens = split_pointer(node.location.pointer)
    if len(tokens) > 2 and tokens[-2] == "properties":
        return f"{tokens[-3]}.{tokens[-1]}"
    if len(tokens) > 1 and tokens[-1] == "items":
        return f"items of {tokens[-2]}"
    return node.name()


def _branch_label(node: Node, number: int, child: Node) -> str:
    reference = child.rule("ref")
    name = (
        reference.operand.uri.rpartition("/")[2]
        if reference
        else child.notes.title or f"alternative {number}"
    )
    return f"{_label(node)}: {name}"


def _matches(pattern: Pattern, name: str) -> bool:
    try:
        return pattern.search(name)
    except PatternTimeout:
        return False


def _owner(node: Node) -> str:
    """The name before a property's: its schema's, where that has one of its own."""
    if node.notes.called:
        return f"{node.notes.called}."
    tokens = node.location.pointer.split("/")
    if len(tokens) > 2 and tokens[-2] in ("schemas", "definitions", "$defs"):
        return f"{tokens[-1]}."
    if len(tokens) > 2 and tokens[-2] == "properties":
        return f"{tokens[-1]}."
    return f"{tokens[-2]}." if len(tokens) > 3 and tokens[-1] == "items" else ""


def _other_way(node: Node, context: Context) -> bool:
    """Whether a property does not go this way, or not as a matter of course."""
    if node.notes.seldom:
        return True
    try:
        read_only, write_only = deep_notes(node, context)
    except BadReference:
        return False
    return read_only if context.direction is Direction.REQUEST else write_only
