"""A schema as a person reads it: a row a property, with type, need, limits and meaning."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from juxtalogos.model.location import Location, escape_key
from juxtalogos.model.schema import OutlineRow
from juxtalogos.schema.json.check.interpreter import Context, deep_notes
from juxtalogos.schema.json.check.node_schema import NodeSchema
from juxtalogos.schema.json.tell.profile import same_value
from juxtalogos.schema.json.tell.words import limits_in_words
from juxtalogos.schema.json.tree.nodes import Node

MAX_ROWS = 400
_SCALARS = ("string", "integer", "number", "boolean", "null")


def outline(schema: NodeSchema, *, depth: int) -> Iterator[OutlineRow]:
    """Rows from the top; the first is the value itself. A schema met again inside itself is named, not
    repeated.
    """
    rows = _rows(schema.node, schema.context(), 0, "", "", False, (), depth)
    for count, row in enumerate(rows):
        if count >= MAX_ROWS:
            yield OutlineRow(0, "…", "", "", False, "more rows left out")
            return
        yield row


def _rows(
    node: Node,
    context: Context,
    depth: int,
    name: str,
    path: str,
    required: bool,
    above: tuple[int, ...],
    deepest: int,
) -> Iterator[OutlineRow]:
    parts = same_value(node, context)
    if any(id(part) in above for part in parts):
        kind = f"{_type(parts)} (as {parts[-1].name()} above)"
        yield OutlineRow(depth, name, path, kind, required, "", _description(parts))
        return
    above = (*above, *(id(part) for part in parts))
    allowed = [*dict.fromkeys(map(limits_in_words, parts))]
    read_only, write_only = deep_notes(parts[0], context)
    allowed += ["read-only"] * read_only + ["write-only"] * write_only
    text = "; ".join(filter(None, allowed))
    kind, where = _type(parts), parts[-1].location
    scalar = kind.split(" ")[0] in _SCALARS
    yield OutlineRow(
        depth,
        name,
        path,
        kind,
        required,
        text,
        _description(parts),
        where,
        scalar,
        _shared(where),
        read_only=read_only,
        write_only=write_only,
        choices=_choices(parts, kind) if scalar else (),
    )
    if depth < deepest:
        for child, key, place, needed in _inner(parts, path):
            yield from _rows(child, context, depth + 1, key, place, needed, above, deepest)


def _shared(place: Location) -> str:
    """The name of a schema of `components` that others may refer to."""
    pointer = place.pointer
    return pointer.rpartition("/")[2] if "/schemas/" in pointer and "/properties/" not in pointer else ""


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


def _choices(parts: list[Node], kind: str) -> tuple[Any, ...]:
    """The values that an enumeration leaves; of a truth value both."""
    for part in parts:
        rule = part.rule("enum")
        if rule:
            return tuple(rule.operand)
    return (True, False) if kind == "boolean" else ()


def _type(parts: list[Node]) -> str:
    for part in parts:
        rule = part.rule("type")
        if rule:
            kind = " or ".join(name.replace("strict ", "") for name in rule.operand)
            form = next(
                (other.operand[0] for part in parts for other in part.rules if other.op == "format"), ""
            )
            return f"{kind} ({form})" if form else kind
    meant = next((part.notes.meant for part in parts if part.notes.meant), ())
    if meant:
        return " or ".join(meant)
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
        (
            part.notes.description or part.notes.title
            for part in parts
            if part.notes.description or part.notes.title
        ),
        "",
    )
    return " ".join(text.split())
