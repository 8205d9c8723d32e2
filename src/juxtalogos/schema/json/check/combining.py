"""The operators that apply further schemas to the same value: references, combinations, conditions,
`unevaluated`.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any
from urllib.parse import quote

from juxtalogos.documents.jsonvalues import in_words, seen
from juxtalogos.model.findings import Deviation
from juxtalogos.model.location import escape_key
from juxtalogos.schema.json.check.interpreter import (
    Context,
    Evaluated,
    Path,
    Visit,
    accepts,
    add,
    attempt,
    check_node,
    follow,
    operator,
    render,
)
from juxtalogos.schema.json.tell.words import declared, node_in_words
from juxtalogos.schema.json.tree.nodes import Conditional, Discriminator, Node, Rule
from juxtalogos.schema.json.tree.store import BadReference


@operator("ref")
def _ref(rule: Rule, value: Any, at: Visit) -> None:
    before = len(at.context.deviations)
    check_node(follow(rule.operand, at.context), value, at.path, at.context, at.evaluated, at.home)
    _as_meant(value, at, before)


def _as_meant(value: Any, at: Visit, before: int) -> None:
    """`nullable` beside a reference or `allOf` has no effect (OpenAPI 3.0.3, schema object), and still tells
    what its author meant: what was found of null since is only advisory.
    """
    if value is None and at.node.notes.nullable:
        found = at.context.deviations
        found[before:] = [replace(one, advisory=True) for one in found[before:]]


@operator("allOf")
def _all_of(rule: Rule, value: Any, at: Visit) -> None:
    before = len(at.context.deviations)
    for child in rule.operand:
        check_node(child, value, at.path, at.context, at.evaluated, at.home)
    _as_meant(value, at, before)


def _branches(
    rule: Rule, value: Any, path: Path, context: Context, evaluated: Evaluated | None
) -> tuple[list[int], list[list[Deviation]]]:
    fitting: list[int] = []
    failures: list[list[Deviation]] = []
    for index, child in enumerate(rule.operand):
        found, looked = attempt(child, value, path, context, evaluated is not None, hits=True)
        failures.append(found)
        if not any(not deviation.advisory for deviation in found):
            fitting.append(index)
            if context.hits is not None and context.compiler is not None:
                context.hits.append(context.compiler.branch_number(child))
            context.deviations += found
            if evaluated is not None and looked is not None:
                evaluated.add(looked)
    return fitting, failures


@operator("anyOf")
def _any_of(rule: Rule, value: Any, at: Visit) -> None:
    fitting, failures = _branches(rule, value, at.path, at.context, at.evaluated)
    if not fitting:
        add_branch(rule, at.node, value, at.path, at.context, failures)


@operator("oneOf")
def _one_of(rule: Rule, value: Any, at: Visit) -> None:
    fitting, failures = _branches(rule, value, at.path, at.context, at.evaluated)
    if not fitting:
        add_branch(rule, at.node, value, at.path, at.context, failures)
    elif len(fitting) > 1:
        chosen = _told_branch(rule, at.node, value, at.context)
        if chosen is None or chosen not in fitting:
            add(
                at.context,
                at.path,
                rule,
                declared(rule),
                "fits several: " + ", ".join(_branch_name(rule.operand[index]) for index in fitting),
            )


def _branch_name(node: Node) -> str:

    return node_in_words(node)


def add_branch(
    rule: Rule, node: Node, value: Any, path: Path, context: Context, failures: list[list[Deviation]]
) -> None:
    """No branch fits: names the nearest one and why that one failed."""
    if not failures:
        return
    told = _told_branch(rule, node, value, context)
    nearest = (
        told
        if told is not None
        else min(range(len(failures)), key=lambda index: _distance(failures[index], path))
    )
    because = tuple(failures[nearest])
    first = because[0] if because else None
    name = _branch_name(rule.operand[nearest])
    got = (
        f"{seen(value)}; nearest is {name}, but {first.path or 'the value'}: {first.declared}, and it is"
        f" {first.observed}"
        if first
        else seen(value)
    )
    add(context, path, rule, declared(rule), got, because=because)


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
        if reference and (
            reference.operand.uri == uri if uri else reference.operand.uri.rpartition("/")[2] == told
        ):
            return index
    return None


def told_schema(rule: Rule, value: Any, context: Context) -> Node | None:
    """The schema that a value names by the discriminator of a common parent; BadReference when there is none
    of that name.
    """
    discriminator: Discriminator = rule.operand
    told = value.get(discriminator.property) if type(value) is dict else None
    if type(told) is not str:
        return None
    return context.store.resolve(
        discriminator.mapping.get(told) or discriminator.family + quote(escape_key(told))
    )


@operator("discriminator")
def _discriminator(rule: Rule, value: Any, at: Visit) -> None:
    """The value is also what it says it is (OpenAPI 3.0.3, discriminator object; 2.0, schema object)."""
    try:
        child = told_schema(rule, value, at.context)
    except BadReference:
        told = value[rule.operand.property]
        known = ", ".join(rule.operand.mapping)
        wanted = f"one of {known}" if known else "the name of a schema"
        add(
            at.context,
            (at.path, rule.operand.property),
            rule,
            wanted,
            seen(told),
            advisory=not rule.operand.strict,
        )
        return
    telling = at.context.telling
    if child is None or child is at.node or id(rule) in telling.get(id(value), ()):
        return
    telling.setdefault(id(value), set()).add(id(rule))
    check_node(child, value, at.path, at.context, at.evaluated, at.home)
    telling[id(value)].discard(id(rule))
    if not telling[id(value)]:
        del telling[id(value)]


@operator("not")
def _not(rule: Rule, value: Any, at: Visit) -> None:
    if accepts(rule.operand, value, at.context):
        add(at.context, at.path, rule, declared(rule), seen(value))


@operator("if")
def _if(rule: Rule, value: Any, at: Visit) -> None:
    condition: Conditional = rule.operand
    found, looked = attempt(condition.test, value, at.path, at.context, at.evaluated is not None)
    holds = not any(not deviation.advisory for deviation in found)
    if holds and at.evaluated is not None and looked is not None:
        at.evaluated.add(looked)
    branch = condition.then if holds else condition.otherwise
    if branch is not None:
        check_node(branch, value, at.path, at.context, at.evaluated, at.home)


@operator("unevaluatedProperties")
def _unevaluated_properties(rule: Rule, value: Any, at: Visit) -> None:
    if type(value) is not dict or at.evaluated is None:
        return
    for name, item in value.items():
        if name not in at.evaluated.names:
            if rule.operand.constant is False:
                add(
                    at.context,
                    (at.path, name),
                    rule,
                    "no further property",
                    f"property {name} = {in_words(item, 40)}",
                )
            else:
                check_node(rule.operand, item, (at.path, name), at.context)
    at.evaluated.names.update(value)


@operator("unevaluatedItems")
def _unevaluated_items(rule: Rule, value: Any, at: Visit) -> None:
    if type(value) is not list or at.evaluated is None or at.evaluated.all_items:
        return
    for index, item in enumerate(value):
        if index not in at.evaluated.items:
            if rule.operand.constant is False:
                add(
                    at.context,
                    (at.path, index),
                    rule,
                    "no further item",
                    f"item {index} = {in_words(item, 40)}",
                )
            else:
                check_node(rule.operand, item, (at.path, index), at.context)
    at.evaluated.all_items = True
