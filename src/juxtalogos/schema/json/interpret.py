"""The interpreter: checks a value against a node, every deviation with its path.

One operator is one function in `OPERATORS`. All are plain functions that call one another directly, without
generators, so that deep values cost no C stack.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from juxtalogos.model.contract import Direction
from juxtalogos.model.findings import Deviation
from juxtalogos.model.location import join_pointer
from juxtalogos.schema.json.formats import format_holds
from juxtalogos.schema.json.nodes import Conditional, Contains, Items, Members, Node, Reference, Rule
from juxtalogos.schema.json.store import SchemaStore, iter_nodes
from juxtalogos.schema.json.values import equal, in_words, is_multiple, is_of_type, key_of, seen
from juxtalogos.schema.json.words import declared
from juxtalogos.schema.patterns import PatternTimeout

Path = tuple[Any, ...]
"""Linked: () or (path of the parent, key)."""


@dataclass(slots=True)
class Evaluated:
    """The names and indices that some rule has looked at, for the `unevaluated` keywords."""

    names: set[str] = field(default_factory=set)
    items: set[int] = field(default_factory=set)
    all_items: bool = False

    def add(self, other: Evaluated) -> None:
        self.names |= other.names
        self.items |= other.items
        self.all_items |= other.all_items


@dataclass(slots=True)
class Context:
    """One check under way."""

    store: SchemaStore
    direction: Direction
    asserts_format: bool | None
    scope: tuple[str, ...] = ()
    """Base URIs entered so far, outermost first."""
    deviations: list[Deviation] = field(default_factory=list)
    undecided: list[str] = field(default_factory=list)
    """Patterns whose time limit passed: the check proves nothing there."""


def render(path: Path) -> str:
    keys: list[str | int] = []
    while path:
        path, key = path
        keys.append(key)
    return join_pointer(reversed(keys))


def check_node(node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None = None, home: Node | None = None) -> None:
    """Adds the deviations of a value to the context. `home` is the schema at which the value was first met."""
    if node.constant is not None:
        if node.constant is False:
            _add(context, path, Rule("false", None, "false", node.location), "no value at all", seen(value))
        return
    entered = context.scope
    if not entered or entered[-1] != node.base:
        context.scope = (*entered, node.base)
    outer = evaluated
    if any(rule.op.startswith("unevaluated") for rule in node.rules):
        evaluated = Evaluated()  # what stands beside this schema is no concern of its `unevaluated` keywords
    home = home or node
    for rule in node.rules:
        OPERATORS[rule.op](rule, node, value, path, context, evaluated, home)
    if outer is not None and evaluated is not None and evaluated is not outer:
        outer.add(evaluated)
    context.scope = entered


def accepts(node: Node, value: Any, context: Context) -> bool:
    """Whether a value has no deviation, in a context like the given one."""
    return not [deviation for deviation in attempt(node, value, (), context)[0] if not deviation.advisory]


def attempt(node: Node, value: Any, path: Path, context: Context, track: bool = False) -> tuple[list[Deviation], Evaluated | None]:
    """The deviations alone, left out of the context."""
    kept, context.deviations = context.deviations, []
    evaluated = Evaluated() if track else None
    check_node(node, value, path, context, evaluated)
    found, context.deviations = context.deviations, kept
    return found, evaluated


def follow(reference: Reference, context: Context) -> Node:
    if reference.mode == "dynamic":
        return context.store.resolve_dynamic(reference.uri, context.scope)
    if reference.mode == "recursive":
        return context.store.resolve_recursive(reference.uri, context.scope)
    return context.store.resolve(reference.uri)


def _add(context: Context, path: Path, rule: Rule, wanted: str, got: str, *, advisory: bool = False, because: tuple[Deviation, ...] = ()) -> None:
    context.deviations.append(Deviation(render(path), rule.keyword if rule.op != "members" else "additionalProperties", rule.location, wanted, got, advisory, because))


Operator = Callable[[Rule, Node, Any, Path, Context, Evaluated | None, Node], None]
OPERATORS: dict[str, Operator] = {}


def _operator(name: str) -> Callable[[Operator], Operator]:
    def register(function: Operator) -> Operator:
        OPERATORS[name] = function
        return function

    return register


@_operator("ref")
def _ref(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    check_node(follow(rule.operand, context), value, path, context, evaluated, home)


@_operator("type")
def _type(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if not any(is_of_type(value, name) for name in rule.operand):
        _add(context, path, rule, declared(rule), seen(value))


@_operator("enum")
def _enum(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if not any(equal(value, member) for member in rule.operand):
        # `nullable` beside an enumeration without null: the versions of OpenAPI 3.0 read it in two ways.
        _add(context, path, rule, declared(rule), seen(value), advisory=value is None and node.notes.nullable)


@_operator("const")
def _const(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if not equal(value, rule.operand):
        _add(context, path, rule, declared(rule), seen(value))


def _limit(holds: Callable[[Any, Any], bool], applies: Callable[[Any], bool], measure: Callable[[Any], Any], noun: str) -> Operator:
    def operate(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
        if applies(value) and not holds(measure(value), rule.operand):
            got = f"{measure(value)} {noun}: {in_words(value, 40)}" if noun == "characters" else f"{measure(value)} {noun}" if noun else seen(value)
            _add(context, path, rule, declared(rule), got)

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


@_operator("pattern")
def _pattern(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if type(value) is str:
        try:
            if not rule.operand.search(value):
                _add(context, path, rule, declared(rule), seen(value))
        except PatternTimeout:
            context.undecided.append(f"the pattern at {rule.location} took too long")


@_operator("format")
def _format(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    name, asserted = rule.operand
    if not format_holds(name, value):
        asserted = asserted if context.asserts_format is None else context.asserts_format
        _add(context, path, rule, declared(rule), seen(value), advisory=not asserted)


@_operator("uniqueItems")
def _unique(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if type(value) is not list:
        return
    first: dict[Any, int] = {}
    for index, item in enumerate(value):
        before = first.setdefault(key_of(item), index)
        if before != index:
            _add(context, (path, index), rule, declared(rule), f"the same as item {before}: {in_words(item, 40)}")


@_operator("required")
def _required(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if type(value) is not dict:
        return
    for name in rule.operand:
        if name not in value and not _is_other_direction(name, home, context):
            _add(context, (path, name), rule, f"property {name} is required", "missing")


def _is_other_direction(name: str, home: Node, context: Context) -> bool:
    """A required readOnly property need not be in a request, nor a writeOnly one in a response (OpenAPI 3.0.3, schema object)."""
    for node in property_nodes(name, home, context):
        notes = deep_notes(node, context)
        if (notes[0] and context.direction is Direction.REQUEST) or (notes[1] and context.direction is Direction.RESPONSE):
            return True
    return False


def property_nodes(name: str, home: Node, context: Context) -> list[Node]:
    """Every declaration of a property in the schemas that apply to one object."""
    found: list[Node] = []
    for node in same_value_nodes(home, context):
        members = node.rule("members")
        if members and name in members.operand.properties:
            found.append(members.operand.properties[name])
    return found


def same_value_nodes(home: Node, context: Context, limit: int = 200) -> list[Node]:
    """A node and all that apply to the same value through references and combinations."""
    found: list[Node] = []
    waiting = [home]
    while waiting and len(found) < limit:
        node = waiting.pop(0)
        if any(node is other for other in found):
            continue
        found.append(node)
        reference = node.rule("ref")
        if reference:
            waiting.append(follow(reference.operand, context))
        waiting += [child for _, child in iter_nodes(node)]
    return found


def deep_notes(node: Node, context: Context) -> tuple[bool, bool]:
    """(readOnly, writeOnly), also where they stand behind a reference."""
    nodes = same_value_nodes(node, context, 20) if node.rule("ref") or node.rule("allOf") else [node]
    return any(one.notes.read_only for one in nodes), any(one.notes.write_only for one in nodes)


@_operator("members")
def _members(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if type(value) is not dict:
        return
    members: Members = rule.operand
    for name, item in value.items():
        declared_here = members.properties.get(name)
        matched = declared_here is not None
        if declared_here is not None:
            _check_direction(declared_here, item, (path, name), context)
            check_node(declared_here, item, (path, name), context)
        for pattern, child in members.patterns:
            if _matches(pattern, name, context):
                matched = True
                check_node(child, item, (path, name), context)
        if not matched and members.additional is not None:
            matched = True
            if members.additional.constant is False:
                closed = Rule("additionalProperties", None, "additionalProperties", members.additional.location)
                _add(context, (path, name), closed, declared(rule), f"property {name} = {in_words(item, 40)}")
            else:
                check_node(members.additional, item, (path, name), context)
        if matched and evaluated is not None:
            evaluated.names.add(name)


def _check_direction(node: Node, item: Any, path: Path, context: Context) -> None:
    if context.direction is Direction.RESPONSE and deep_notes(node, context)[1]:
        # "SHOULD NOT be sent as part of the response": doubtful, not forbidden.
        _add(context, path, Rule("writeOnly", True, "writeOnly", node.location), "write-only: not part of an answer", "present", advisory=True)


def _matches(pattern: Any, name: str, context: Context) -> bool:
    try:
        return bool(pattern.search(name))
    except PatternTimeout:
        context.undecided.append(f"the pattern {pattern.source} took too long")
        return False


@_operator("propertyNames")
def _property_names(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if type(value) is dict:
        for name in value:
            found, _ = attempt(rule.operand, name, (path, name), context)
            if found:
                _add(context, (path, name), rule, found[0].declared, f"property name {in_words(name, 40)}", because=tuple(found))


@_operator("dependentRequired")
def _dependent_required(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if type(value) is dict:
        for name, needed in rule.operand.items():
            for other in needed if name in value else ():
                if other not in value:
                    _add(context, (path, other), rule, f"{other}, since {name} is there", "missing")


@_operator("dependentSchemas")
def _dependent_schemas(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if type(value) is dict:
        for name, child in rule.operand.items():
            if name in value:
                check_node(child, value, path, context, evaluated, home)


@_operator("items")
def _items(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if type(value) is not list:
        return
    items: Items = rule.operand
    for index, child in enumerate(items.prefix[: len(value)]):
        check_node(child, value[index], (path, index), context)
    count = len(items.prefix)
    if items.rest is not None:
        if items.rest.constant is False:
            for index in range(count, len(value)):
                closed = Rule("items", None, items.rest.location.pointer.rpartition("/")[2], items.rest.location)
                _add(context, (path, index), closed, f"at most {count} items", f"item {index} = {in_words(value[index], 40)}")
        else:
            for index in range(count, len(value)):
                check_node(items.rest, value[index], (path, index), context)
    if evaluated is not None:
        evaluated.all_items |= items.rest is not None
        evaluated.items.update(range(min(count, len(value))))


@_operator("contains")
def _contains(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if type(value) is not list:
        return
    contains: Contains = rule.operand
    fitting = {index for index, item in enumerate(value) if accepts(contains.node, item, context)}
    if len(fitting) < contains.least:
        _add(context, path, rule, f"{contains.least} or more items that fit", f"{len(fitting)} of {len(value)} items fit")
    if contains.most is not None and len(fitting) > contains.most:
        _add(context, path, rule, f"at most {contains.most} items that fit", f"{len(fitting)} of {len(value)} items fit")
    if evaluated is not None and contains.evaluates:
        evaluated.items |= fitting


@_operator("allOf")
def _all_of(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    for child in rule.operand:
        check_node(child, value, path, context, evaluated, home)


def _branches(rule: Rule, value: Any, path: Path, context: Context, evaluated: Evaluated | None) -> tuple[list[int], list[list[Deviation]]]:
    fitting: list[int] = []
    failures: list[list[Deviation]] = []
    for index, child in enumerate(rule.operand):
        found, looked = attempt(child, value, path, context, evaluated is not None)
        failures.append(found)
        if not any(not deviation.advisory for deviation in found):
            fitting.append(index)
            context.deviations += found
            if evaluated is not None and looked is not None:
                evaluated.add(looked)
    return fitting, failures


@_operator("anyOf")
def _any_of(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    fitting, failures = _branches(rule, value, path, context, evaluated)
    if not fitting:
        _add_branch(rule, node, value, path, context, failures)


@_operator("oneOf")
def _one_of(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    fitting, failures = _branches(rule, value, path, context, evaluated)
    if not fitting:
        _add_branch(rule, node, value, path, context, failures)
    elif len(fitting) > 1:
        chosen = _told_branch(rule, node, value, context)
        if chosen is None or chosen not in fitting:
            _add(context, path, rule, declared(rule), "fits several: " + ", ".join(_branch_name(rule.operand[index]) for index in fitting))


def _branch_name(node: Node) -> str:
    from juxtalogos.schema.json.words import node_in_words

    return node_in_words(node)


def _add_branch(rule: Rule, node: Node, value: Any, path: Path, context: Context, failures: list[list[Deviation]]) -> None:
    """No branch fits: names the nearest one and why that one failed."""
    if not failures:
        return
    told = _told_branch(rule, node, value, context)
    nearest = told if told is not None else min(range(len(failures)), key=lambda index: _distance(failures[index], path))
    because = tuple(failures[nearest])
    first = because[0] if because else None
    name = _branch_name(rule.operand[nearest])
    got = f"{seen(value)}; nearest is {name}: at {first.path or 'the value itself'}, {first.declared} expected, {first.observed} found" if first else seen(value)
    _add(context, path, rule, declared(rule), got, because=because)


def _distance(found: list[Deviation], path: Path) -> tuple[int, int, int]:
    """Wrong type at the top or a wrong constant is far; few deviations are near."""
    here = render(path)
    top = sum(deviation.keyword == "type" and deviation.path == here for deviation in found)
    told = sum(deviation.keyword in ("const", "enum") for deviation in found)
    return top, told, len(found)


def _told_branch(rule: Rule, node: Node, value: Any, context: Context) -> int | None:
    """The branch that the discriminator's value names (OpenAPI, discriminator object)."""
    discriminator = node.discriminator
    if discriminator is None or type(value) is not dict:
        return None
    told = value.get(discriminator.property)
    if not isinstance(told, str):
        return None
    uri = discriminator.mapping.get(told)
    for index, child in enumerate(rule.operand):
        reference = child.rule("ref")
        if reference and (reference.operand.uri == uri if uri else reference.operand.uri.rpartition("/")[2] == told):
            return index
    return None


@_operator("not")
def _not(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if accepts(rule.operand, value, context):
        _add(context, path, rule, declared(rule), seen(value))


@_operator("if")
def _if(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    condition: Conditional = rule.operand
    found, looked = attempt(condition.test, value, path, context, evaluated is not None)
    holds = not any(not deviation.advisory for deviation in found)
    if holds and evaluated is not None and looked is not None:
        evaluated.add(looked)
    branch = condition.then if holds else condition.otherwise
    if branch is not None:
        check_node(branch, value, path, context, evaluated, home)


@_operator("unevaluatedProperties")
def _unevaluated_properties(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if type(value) is not dict or evaluated is None:
        return
    for name, item in value.items():
        if name not in evaluated.names:
            if rule.operand.constant is False:
                _add(context, (path, name), rule, "no further property", f"property {name} = {in_words(item, 40)}")
            else:
                check_node(rule.operand, item, (path, name), context)
    evaluated.names.update(value)


@_operator("unevaluatedItems")
def _unevaluated_items(rule: Rule, node: Node, value: Any, path: Path, context: Context, evaluated: Evaluated | None, home: Node) -> None:
    if type(value) is not list or evaluated is None or evaluated.all_items:
        return
    for index, item in enumerate(value):
        if index not in evaluated.items:
            if rule.operand.constant is False:
                _add(context, (path, index), rule, "no further item", f"item {index} = {in_words(item, 40)}")
            else:
                check_node(rule.operand, item, (path, index), context)
    evaluated.all_items = True


