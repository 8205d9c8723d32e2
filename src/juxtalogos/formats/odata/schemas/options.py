"""Query options as schemas: numbers, lists of declared names, expressions as texts (URL conventions 4.0,
section 5.1).
"""

from __future__ import annotations

from collections.abc import Callable

from juxtalogos.model.location import Location
from juxtalogos.schema.json.tree.nodes import Items, Node, Notes, Rule

ORDERS = ("", " asc", " desc")


def _number(place: Location, words: list[str]) -> Node:
    rules = (Rule("type", ("integer",), "type", place), Rule("minimum", 0, "minimum", place))
    return Node(place, "", rules)


def _text(place: Location, words: list[str]) -> Node:
    return Node(
        place, "", (Rule("type", ("string",), "type", place), Rule("minLength", 1, "minLength", place))
    )


def _names(place: Location, words: list[str]) -> Node:
    """A list of names, some of those that are declared; more may be said of each (`Certificates($top=1)`)."""
    item = Node(
        place,
        "",
        (Rule("type", ("string",), "type", place), Rule("minLength", 1, "minLength", place)),
        notes=Notes(examples=tuple(words)),
    )
    rules = (
        Rule("type", ("array",), "type", place),
        Rule("minItems", 1, "minItems", place),
        Rule("items", Items((), item), "items", place),
    )
    return Node(place, "", rules)


def _flag(place: Location, words: list[str]) -> Node:
    return Node(place, "", (Rule("type", ("boolean",), "type", place),))


def _one_of(place: Location, words: list[str]) -> Node:
    return Node(
        place, "", (Rule("type", ("string",), "type", place), Rule("enum", tuple(words), "enum", place))
    )


OPTIONS: dict[str, Callable[[Location, list[str]], Node]] = {
    "option-number": _number,
    "option-text": _text,
    "option-names": _names,
    "option-flag": _flag,
    "option-word": _one_of,
}
