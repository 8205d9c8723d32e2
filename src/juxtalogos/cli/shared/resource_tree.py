"""The tree of a contract's resources, for a person."""

from __future__ import annotations

from juxtalogos.cli.shared.options import EXIT_HELD
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.compose.outlines import Rows
from juxtalogos.compose.resources import Resource, Resources
from juxtalogos.model.contract import Contract, Operation


def show_resources(out: Terminal, contract: Contract, *, as_json: bool) -> int:
    """A line a resource, indented below what it belongs to, with what can be done to it."""
    resources = Resources(contract, Rows(contract))
    if as_json:
        found = [
            {
                "resource": one.key,
                "noun": one.noun,
                "below": resources.parent(one.key),
                "operations": [
                    {"id": operation.id, "does": does(resources, one, operation)}
                    for operation in one.operations
                ],
            }
            for _, one in resources.tree()
        ]
        out.json({"version": 1, "contract": contract.name, "resources": found})
        return EXIT_HELD
    for depth, one in resources.tree():
        parent = resources.parent(one.key)
        name = one.key.removeprefix(parent).removeprefix("/{}") if parent else one.key
        out.line((name or one.key, "name"), (f"   {kind(one)}", "note"), indent=4 * depth)
        for operation in one.operations:
            out.line((f"{does(resources, one, operation):9}", "note"), operation.id, indent=4 * depth + 4)
    about_nothing = [candidate.id for candidate in contract.operations if resources.of(candidate) is None]
    if about_nothing:
        out.line(("without a resource: ", "note"), ", ".join(about_nothing))
    return EXIT_HELD


def kind(resource: Resource) -> str:
    """What sort of resource it is, in a word."""
    if resource.is_singleton:
        return "one"
    return "collection" if resource.items else "place"


def does(resources: Resources, resource: Resource, operation: Operation) -> str:
    """What an operation does to it; what puts an item under an id of the caller's creates it."""
    if any(creator.id == operation.id for creator in resources.creators(resource)):
        return "create"
    return str(operation.intent)
