"""Which schemas a compiled function would go through too often: one part of a value by several ways, and each
again below.

The interpreter remembers what it found of a part and stays linear; such schemas are left to it.
"""

from __future__ import annotations

from collections.abc import Iterator

from juxtalogos.schema.json.check.interpreter import Context, follow
from juxtalogos.schema.json.tree.nodes import Node
from juxtalogos.schema.json.tree.store import BadReference

MOST_SCHEMAS = 500
"""Schemas that may apply to one value together, each counted as often as it is led to."""
MOST_WAYS = 1_000
"""Ways that may lead to one part of a value."""

Edges = dict[int, list[list[int]]]
"""By schema, for each part of its values the schemas that apply there, with how often."""


def grows(node: Node, context: Context) -> bool:
    """Whether the work of a compiled function could be exponential in a value or in the definition."""
    edges = _edges(node, context)
    if edges is None:
        return True
    ways: dict[int, int] = {}
    home: dict[int, int] = {}
    for number, component in enumerate(_components(id(node), edges)):
        home.update(dict.fromkeys(component, number))
        most = 1
        for particle in component:
            for children in edges[particle]:
                inside = sum(home.get(child) == number for child in children)
                if inside > 1:
                    return True  # round in a circle, twice each time
                most = max(most, sum(ways[home[child]] for child in children if home.get(child) != number))
        ways[number] = most
        if most > MOST_WAYS:
            return True
    return False


def _edges(start: Node, context: Context) -> Edges | None:
    """None when too many schemas apply to one value."""
    edges: Edges = {}
    waiting = [start]
    while waiting:
        node = waiting.pop()
        if id(node) in edges:
            continue
        together = []
        for one in _together(node, context):
            together.append(one)
            if len(together) > MOST_SCHEMAS:
                return None
        lists = list(_parts(together))
        edges[id(node)] = [[id(child) for child in found] for found in lists]
        waiting += [child for found in lists for child in found]
    return edges


def _together(node: Node, context: Context) -> Iterator[Node]:
    """The schemas that apply to the same value whenever a schema does, again for each way
    that leads to them.
    """
    waiting = [node]
    while waiting:
        one = waiting.pop()
        yield one
        for rule in one.rules:
            match rule.op:
                case "ref":
                    try:
                        waiting.append(follow(rule.operand, context))
                    except BadReference:
                        continue
                case "allOf":
                    waiting += rule.operand
                case "if":
                    waiting += [branch for branch in (rule.operand.then, rule.operand.otherwise) if branch]
                case "dependentSchemas":
                    waiting += rule.operand.values()
                case "anyOf" | "oneOf":
                    # Trials are remembered; what is told apart takes one branch.
                    waiting += rule.operand[:1]


def _parts(together: list[Node]) -> Iterator[list[Node]]:
    """For each part that a value may have, the schemas of some that apply there."""
    members = [rule.operand for schema in together for rule in schema.rules if rule.op == "members"]
    names = {name for member in members for name in member.properties}
    for name in (*names, None):
        found = []
        for one in members:
            own = one.properties.get(name) if name is not None else None
            found += [own] if own is not None else [one.additional] if one.additional is not None else []
            found += [child for _, child in one.patterns]
        yield found
    items = [rule.operand for schema in together for rule in schema.rules if rule.op == "items"]
    for place in range(max((len(item.prefix) for item in items), default=0)):
        yield [item.prefix[place] for item in items if place < len(item.prefix)]
    yield [item.rest for item in items if item.rest is not None]


def _components(start: int, edges: Edges) -> Iterator[list[int]]:
    """Schemas that lead to one another, those that others lead to first (Tarjan's algorithm, without
    recursion).
    """
    index: dict[int, int] = {}
    low: dict[int, int] = {}
    stack: list[int] = []
    under_way: list[tuple[int, Iterator[int]]] = [(start, _all(edges[start]))]
    index[start] = low[start] = 0
    stack.append(start)
    on_stack = {start}
    while under_way:
        one, children = under_way[-1]
        for child in children:
            if child not in index:
                index[child] = low[child] = len(index)
                stack.append(child)
                on_stack.add(child)
                under_way.append((child, _all(edges[child])))
                break
            if child in on_stack:
                low[one] = min(low[one], index[child])
        else:
            under_way.pop()
            if under_way:
                above = under_way[-1][0]
                low[above] = min(low[above], low[one])
            if low[one] == index[one]:
                component = []
                while True:
                    member = stack.pop()
                    on_stack.discard(member)
                    component.append(member)
                    if member == one:
                        break
                yield component


def _all(lists: list[list[int]]) -> Iterator[int]:
    return (child for found in lists for child in found)
