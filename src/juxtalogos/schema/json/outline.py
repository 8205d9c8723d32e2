"""A schema as a person reads it: a row a property, with type, need, limits and meaning."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from juxtalogos.model.location import escape_key, split_pointer
from juxtalogos.model.seams import OutlineRow
from juxtalogos.schema.json.interpret import Context, deep_notes, follow
from juxtalogos.schema.json.nodes import Node
from juxtalogos.schema.json.store import BadReference
from juxtalogos.schema.json.values import type_of
from juxtalogos.schema.json.words import limits_in_words

if TYPE_CHECKING:
    from juxtalogos.schema.json.face import JsonSchema

MAX_ROWS = 400


def outline(schema: JsonSchema, *, depth: int) -> Iterator[OutlineRow]:
    """Rows from the top; the first is the value itself. A schema met again inside itself is named, not repeated."""
    rows = _rows(schema.node, schema.context(), 0, "", "", False, (), depth)
    for count, row in enumerate(rows):
        if count >= MAX_ROWS:
            yield OutlineRow(0, "…", "", "", False, "more rows left out")
            return
        yield row


def _rows(
    node: Node, context: Context, depth: int, name: str, path: str, required: bool, above: tuple[int, ...], deepest: int
) -> Iterator[OutlineRow]:
    parts = _same_value(node, context)
    if any(id(part) in above for part in parts):
        kind = f"{_type(parts)} (as {parts[-1].name()} above)"
        yield OutlineRow(depth, name, path, kind, required, "", _description(parts))
        return
    above = (*above, *(id(part) for part in parts))
    allowed = [*dict.fromkeys(map(limits_in_words, parts))]
    read_only, write_only = deep_notes(parts[0], context)
    allowed += ["read-only"] * read_only + ["write-only"] * write_only
    text = "; ".join(filter(None, allowed))
    yield OutlineRow(depth, name, path, _type(parts), required, text, _description(parts), parts[-1].location)
    if depth < deepest:
        for child, key, place, needed in _inner(parts, path):
            yield from _rows(child, context, depth + 1, key, place, needed, above, deepest)


def _inner(parts: list[Node], path: str) -> Iterator[tuple[Node, str, str, bool]]:
    """(schema, name, path, whether required) of what stands below some schemas of one value."""
    wanted = {name for part in parts for rule in part.rules if rule.op == "required" for name in rule.operand}
    for rule in (rule for part in parts for rule in part.rules):
        operand = rule.operand
        match rule.op:
            case "members":
                for key, child in operand.properties.items():
                    yield child, key, f"{path}/{escape_key(key)}", key in wanted
                if operand.additional is not None and operand.additional.rules:
                    yield operand.additional, "any other name", f"{path}/NAME", False
            case "items":
                for index, child in enumerate(operand.prefix):
                    yield child, f"item {index}", f"{path}/{index}", False
                if operand.rest is not None and operand.rest.rules:
                    yield operand.rest, "each item", f"{path}/0", False
            case "anyOf" | "oneOf":
                for index, child in enumerate(operand, 1):
                    yield child, f"choice {index}", path, False


def _same_value(node: Node, context: Context) -> list[Node]:
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


def _type(parts: list[Node]) -> str:
    for part in parts:
        rule = part.rule("type")
        if rule:
            kind = " or ".join(name.replace("strict ", "") for name in rule.operand)
            form = next((other.operand[0] for part in parts for other in part.rules if other.op == "format"), "")
            return f"{kind} ({form})" if form else kind
    ops = {rule.op for part in parts for rule in part.rules}
    if "members" in ops:
        return "object"
    if "items" in ops:
        return "array"
    if "oneOf" in ops:
        return "one of"
    if "anyOf" in ops:
        return "any of"
    return "any"


def _description(parts: list[Node]) -> str:
    text = next(
        (part.notes.description or part.notes.title for part in parts if part.notes.description or part.notes.title), ""
    )
    return " ".join(text.split())


def declared_kinds(
    schema: JsonSchema, pointer: str = ""
) -> tuple[tuple[str, ...], tuple[str, ...], dict[str, tuple[str, ...]]]:
    """(types of the value, types of its items, types by property) at a place in the value, for reading texts as values."""
    context = schema.context()
    parts = _same_value(schema.node, context)
    for token in split_pointer(pointer):
        parts = [part for child in _below(parts, token, context) for part in _same_value(child, context)]
    items: list[str] = []
    properties: dict[str, tuple[str, ...]] = {}
    for part in parts:
        for rule in part.rules:
            if rule.op == "items" and rule.operand.rest is not None:
                items += _kinds(rule.operand.rest, context)
            elif rule.op == "members":
                for name, child in rule.operand.properties.items():
                    properties[name] = properties.get(name, ()) + _kinds(child, context)
    kinds = tuple(kind for part in parts for kind in _kinds(part, context))
    return kinds + (("object",) if properties and not kinds else ()), tuple(items), properties


def _below(parts: list[Node], token: str, context: Context, depth: int = 0) -> Iterator[Node]:
    """The schemas of the member of that name or index."""
    for part in parts:
        for rule in part.rules:
            if rule.op == "members":
                child = rule.operand.properties.get(token) or rule.operand.additional
                if child is not None:
                    yield child
            elif rule.op == "items" and token.isdigit():
                index = int(token)
                if index < len(rule.operand.prefix):
                    yield rule.operand.prefix[index]
                elif rule.operand.rest is not None:
                    yield rule.operand.rest
            elif rule.op in ("anyOf", "oneOf") and depth < 5:
                for child in rule.operand:
                    yield from _below(_same_value(child, context), token, context, depth + 1)


def _kinds(node: Node, context: Context, depth: int = 0) -> tuple[str, ...]:
    found: list[str] = []
    for part in _same_value(node, context):
        for rule in part.rules:
            if rule.op == "type":
                found += [name.replace("strict ", "") for name in rule.operand]
            elif rule.op in ("enum", "const") and part.rule("type") is None:
                found += [type_of(member) for member in (rule.operand if rule.op == "enum" else (rule.operand,))]
            elif rule.op in ("anyOf", "oneOf") and depth < 5:
                found += [kind for child in rule.operand for kind in _kinds(child, context, depth + 1)]
    return tuple(dict.fromkeys(found))
