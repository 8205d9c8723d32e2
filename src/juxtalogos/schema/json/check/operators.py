"""The operators on scalars, objects and arrays: one small function each, in the interpreter's table."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from juxtalogos.documents.jsonvalues import equal, in_words, is_multiple, is_of_type, key_of, seen
from juxtalogos.model.schema import Direction
from juxtalogos.schema.json.check.formats import format_holds
from juxtalogos.schema.json.check.interpreter import (
    OPERATORS,
    Context,
    Operator,
    Path,
    Visit,
    accepts,
    add,
    add_undecided,
    attempt,
    check_node,
    deep_notes,
    is_other_direction,
    operator,
)
from juxtalogos.schema.json.tell.words import declared
from juxtalogos.schema.json.tree.nodes import Contains, Items, Members, Node, Rule
from juxtalogos.schema.patterns import Pattern, PatternTimeout


@operator("type")
def _type(rule: Rule, value: Any, at: Visit) -> None:
    if not any(is_of_type(value, name) for name in rule.operand):
        # `nullable` where the dialect does not know it (OpenAPI 3.1) still tells what its author meant.
        add(
            at.context,
            at.path,
            rule,
            declared(rule),
            seen(value),
            advisory=value is None and at.node.notes.nullable,
        )


@operator("enum")
def _enum(rule: Rule, value: Any, at: Visit) -> None:
    member = next((index for index, member in enumerate(rule.operand) if equal(value, member)), None)
    if member is not None:
        if at.context.hits is not None and at.context.compiler is not None:
            at.context.hits.append(at.context.compiler.enum_number(rule, rule.operand[member]))
    else:
        # `nullable` beside an enumeration without null: the versions of OpenAPI 3.0 read it in two ways.
        add(
            at.context,
            at.path,
            rule,
            declared(rule),
            seen(value),
            advisory=value is None and at.node.notes.nullable,
        )


@operator("const")
def _const(rule: Rule, value: Any, at: Visit) -> None:
    if not equal(value, rule.operand):
        add(at.context, at.path, rule, declared(rule), seen(value))


def _limit(
    holds: Callable[[Any, Any], bool],
    applies: Callable[[Any], bool],
    measure: Callable[[Any], Any],
    noun: str,
) -> Operator:
    def operate(rule: Rule, value: Any, at: Visit) -> None:
        if applies(value) and not holds(measure(value), rule.operand):
            got = (
                f"{measure(value)} {noun}: {in_words(value, 40)}"
                if noun == "characters"
                else f"{measure(value)} {noun}"
                if noun
                else seen(value)
            )
            add(at.context, at.path, rule, declared(rule), got)

    return operate


def _number(value: Any) -> bool:
    return type(value) in (int, float)


def _same(value: Any) -> Any:
    return value


def _at_least(value: Any, limit: Any) -> bool:
    return bool(value >= limit)


def _at_most(value: Any, limit: Any) -> bool:
    return bool(value <= limit)


def _is(kind: type) -> Callable[[Any], bool]:
    return lambda value: type(value) is kind


OPERATORS |= {
    "minimum": _limit(_at_least, _number, _same, ""),
    "maximum": _limit(_at_most, _number, _same, ""),
    "exclusiveMinimum": _limit(lambda value, limit: value > limit, _number, _same, ""),
    "exclusiveMaximum": _limit(lambda value, limit: value < limit, _number, _same, ""),
    "multipleOf": _limit(is_multiple, _number, _same, ""),
    "minLength": _limit(_at_least, _is(str), len, "characters"),
    "maxLength": _limit(_at_most, _is(str), len, "characters"),
    "minItems": _limit(_at_least, _is(list), len, "items"),
    "maxItems": _limit(_at_most, _is(list), len, "items"),
    "minProperties": _limit(_at_least, _is(dict), len, "properties"),
    "maxProperties": _limit(_at_most, _is(dict), len, "properties"),
}


@operator("pattern")
def _pattern(rule: Rule, value: Any, at: Visit) -> None:
    if type(value) is str:
        try:
            if not rule.operand.search(value):
                add(at.context, at.path, rule, declared(rule), seen(value))
        except PatternTimeout:
            add_undecided(at.context, at.path, rule.operand, rule.location)


@operator("format")
def _format(rule: Rule, value: Any, at: Visit) -> None:
    name, asserted = rule.operand
    if not format_holds(name, value):
        asserted = asserted if at.context.asserts_format is None else at.context.asserts_format
        add(at.context, at.path, rule, declared(rule), seen(value), advisory=not asserted)


MOST_DOUBLES = 1_000
"""Items of one list that are told to be there before."""


@operator("uniqueItems")
def _unique(rule: Rule, value: Any, at: Visit) -> None:
    if type(value) is not list:
        return
    first: dict[Any, int] = {}
    told = 0
    for index, item in enumerate(value):
        before = first.setdefault(key_of(item), index)
        if before != index:
            told += 1
            if told > MOST_DOUBLES:
                return
            add(
                at.context,
                (at.path, index),
                rule,
                declared(rule),
                f"the same as item {before}: {in_words(item, 40)}",
            )


@operator("required")
def _required(rule: Rule, value: Any, at: Visit) -> None:
    if type(value) is not dict:
        return
    for name in rule.operand:
        if name not in value and not is_other_direction(name, at.home, at.context):
            add(at.context, (at.path, name), rule, f"property {name} is required", "missing")


@operator("members")
def _members(rule: Rule, value: Any, at: Visit) -> None:
    if type(value) is not dict:
        return
    members: Members = rule.operand
    for name, item in value.items():
        declared_here = members.properties.get(name)
        matched = declared_here is not None
        if declared_here is not None:
            if at.context.hits is not None and at.context.compiler is not None:
                at.context.hits.append(at.context.compiler.property_number(declared_here))
            if at.context.direction is Direction.RESPONSE and deep_notes(declared_here, at.context)[1]:
                _write_only(declared_here, (at.path, name), at.context)
            _check_part(declared_here, item, name, at)
        for pattern, child in members.patterns:
            if _matches(pattern, name, at):
                matched = True
                check_node(child, item, (at.path, name), at.context)
        if not matched and members.additional is not None:
            matched = True
            if members.additional.constant is False:
                closed = Rule(
                    "additionalProperties", None, "additionalProperties", members.additional.location
                )
                add(
                    at.context,
                    (at.path, name),
                    closed,
                    declared(rule),
                    f"property {name} = {in_words(item, 40)}",
                )
            else:
                check_node(members.additional, item, (at.path, name), at.context)
        if matched and at.evaluated is not None:
            at.evaluated.names.add(name)


def _write_only(node: Node, path: Path, context: Context) -> None:
    # "SHOULD NOT be sent as part of the response": doubtful, not forbidden.
    rule = Rule("writeOnly", True, "writeOnly", node.location)
    add(context, path, rule, "write-only: not part of a response", "present", advisory=True)


def _matches(pattern: Pattern, name: str, at: Visit) -> bool:
    try:
        return bool(pattern.search(name))
    except PatternTimeout:
        add_undecided(at.context, (at.path, name), pattern, at.node.location)
        return False


@operator("propertyNames")
def _property_names(rule: Rule, value: Any, at: Visit) -> None:
    if type(value) is dict:
        for name in value:
            found, _ = attempt(rule.operand, name, (at.path, name), at.context)
            if found:
                add(
                    at.context,
                    (at.path, name),
                    rule,
                    found[0].declared,
                    f"property name {in_words(name, 40)}",
                    because=tuple(found),
                )


@operator("dependentRequired")
def _dependent_required(rule: Rule, value: Any, at: Visit) -> None:
    if type(value) is dict:
        for name, needed in rule.operand.items():
            for other in needed if name in value else ():
                if other not in value:
                    add(at.context, (at.path, other), rule, f"{other}, since {name} is there", "missing")


@operator("dependentSchemas")
def _dependent_schemas(rule: Rule, value: Any, at: Visit) -> None:
    if type(value) is dict:
        for name, child in rule.operand.items():
            if name in value:
                check_node(child, value, at.path, at.context, at.evaluated, at.home)


@operator("items")
def _items(rule: Rule, value: Any, at: Visit) -> None:
    if type(value) is not list:
        return
    items: Items = rule.operand
    for index, child in enumerate(items.prefix[: len(value)]):
        check_node(child, value[index], (at.path, index), at.context)
    count = len(items.prefix)
    if items.rest is not None:
        if items.rest.constant is False:
            for index in range(count, len(value)):
                closed = Rule(
                    "items", None, items.rest.location.pointer.rpartition("/")[2], items.rest.location
                )
                add(
                    at.context,
                    (at.path, index),
                    closed,
                    f"at most {count} items",
                    f"item {index} = {in_words(value[index], 40)}",
                )
        else:
            _check_rest(items.rest, value, count, at)
    if at.evaluated is not None:
        at.evaluated.all_items |= items.rest is not None
        at.evaluated.items.update(range(min(count, len(value))))


def _check_rest(node: Node, value: list[Any], start: int, at: Visit) -> None:
    """Items from an index on: the sound ones are passed over by the compiled function."""
    for index in range(start, len(value)):
        _check_part(node, value[index], index, at)


def _check_part(node: Node, item: Any, key: str | int, at: Visit) -> None:
    """A member or an item; a path is only made where it is not sound."""
    context = at.context
    if context.compiler is None or node.constant is not None:
        check_node(node, item, (at.path, key), context)
    elif not context.compiler.passes(node, item, context.hits):
        # `home` tells that the compiled function was tried already.
        check_node(node, item, (at.path, key), context, home=node)


@operator("contains")
def _contains(rule: Rule, value: Any, at: Visit) -> None:
    if type(value) is not list:
        return
    contains: Contains = rule.operand
    fitting = {index for index, item in enumerate(value) if accepts(contains.node, item, at.context)}
    if len(fitting) < contains.least:
        add(
            at.context,
            at.path,
            rule,
            f"{contains.least} or more items that fit",
            f"{len(fitting)} of {len(value)} items fit",
        )
    if contains.most is not None and len(fitting) > contains.most:
        add(
            at.context,
            at.path,
            rule,
            f"at most {contains.most} items that fit",
            f"{len(fitting)} of {len(value)} items fit",
        )
    if at.evaluated is not None and contains.evaluates:
        at.evaluated.items |= fitting
