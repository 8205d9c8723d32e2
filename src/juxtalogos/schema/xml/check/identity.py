"""Identity constraints: unique, key and keyref (XSD 1.0 part 1, section 3.11.4)."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Callable, Iterator
from typing import Any

from juxtalogos.documents.xmltext import local
from juxtalogos.model.errors import quoted
from juxtalogos.model.findings import Deviation
from juxtalogos.schema.xml.tree.components import ComplexType, Constraint, Path, Type
from juxtalogos.schema.xml.tree.identity_paths import selected
from juxtalogos.schema.xml.tree.simple_types import Where
from juxtalogos.schema.xml.tree.value_spaces import Scope

XSI = "http://www.w3.org/2001/XMLSchema-instance"
NIL, TYPE = f"{{{XSI}}}nil", f"{{{XSI}}}type"
ScopeOf = Callable[[ET.Element], Scope]
SEVERAL = ("several",)
"""Instead of a value: the field stands there more than once."""


class KeyChecker:
    """The part of the checker that compares keys; types of elements are noted by the
    other part as it goes.
    """

    def __init__(self, scope_of: ScopeOf) -> None:
        self.scope_of = scope_of
        self.deviations: list[Deviation] = []
        self.trail: list[ET.Element] = []
        self.types: dict[ET.Element, Type] = {}
        self.tables: dict[ET.Element, dict[str, set[Any]]] = {}
        self.keys: list[tuple[ET.Element, Constraint]] = []
        self.keyrefs: list[tuple[ET.Element, Constraint]] = []

    def note(
        self,
        keyword: str,
        where: Where,
        declared: str,
        observed: str,
        attribute: str = "",
        *,
        undecided: bool = False,
    ) -> None:
        """Adds a deviation at the element in hand."""
        raise NotImplementedError

    def key(self, element: ET.Element, one: Constraint) -> None:
        """Checks a key or a unique constraint."""
        seen: set[Any] = set()
        self.keys.append((element, one))
        for node, key in self.tuples(element, one):
            if self.crowded(node, element, one, key):
                continue
            if None in key:
                if one.kind == "key":
                    self.at(
                        node,
                        element,
                        "key",
                        one,
                        f"all fields of the key {local(one.name)}",
                        "one is missing",
                    )
                continue
            if key in seen:
                told = ", ".join(str(part[1]) for part in key)
                self.at(
                    node, element, "unique", one, f"{one.kind} {local(one.name)}: no two alike", quoted(told)
                )
            seen.add(key)
        tables = self.tables.setdefault(element, {})
        tables[one.name] = tables.get(one.name, set()) | seen

    def keyref(self, element: ET.Element, one: Constraint) -> None:
        """Checks a reference to a key."""
        self.keyrefs.append((element, one))
        known = self.tables.get(element, {}).get(one.refers, set())
        for node, key in self.tuples(element, one):
            if self.crowded(node, element, one, key):
                continue
            if None not in key and key not in known:
                told = ", ".join(str(part[1]) for part in key)
                self.at(node, element, "keyref", one, f"a value of the key {local(one.refers)}", quoted(told))

    def crowded(self, node: ET.Element, top: ET.Element, one: Constraint, key: tuple[Any, ...]) -> bool:
        """Notes a field that stands there more than once (cvc-identity-constraint, 3)."""
        if SEVERAL not in key:
            return False
        self.at(
            node,
            top,
            "key",
            one,
            f"each field of the {one.kind} {local(one.name)} once",
            "a field stands twice",
        )
        return True

    def at(
        self, node: ET.Element, top: ET.Element, keyword: str, one: Constraint, declared: str, observed: str
    ) -> None:
        """Notes a deviation at a node."""
        trail, self.trail = self.trail, [*self.trail, *_way(top, node)]
        self.note(keyword, one.where, declared, observed)
        self.trail = trail

    def tuples(self, element: ET.Element, one: Constraint) -> Iterator[tuple[ET.Element, tuple[Any, ...]]]:
        """(node, values of its fields) that a constraint selects."""
        nodes = dict.fromkeys(node for path in one.selector for node in selected(path, element))
        for node in nodes:
            yield node, tuple(self.field(node, paths) for paths in one.fields)

    def field(self, node: ET.Element, paths: tuple[Any, ...]) -> Any:
        """The value of a field; None where it is not there or nil, SEVERAL where it is
        there more than once.
        """
        values: dict[tuple[ET.Element, str], Any] = {}
        for path in paths:
            for found in selected(path, node):
                kind = self.types.get(found)
                text: str | None = found.text or ""
                if path.attribute:
                    text = found.get(path.attribute)
                    attribute = kind.attributes.get(path.attribute) if isinstance(kind, ComplexType) else None
                    kind = attribute.type if attribute else None
                    if text is None and attribute is not None:
                        text = attribute.default if attribute.fixed is None else attribute.fixed
                    if text is None:
                        continue
                elif found.get(NIL, "").strip() in ("true", "1"):
                    text = None
                simple = kind.simple if isinstance(kind, ComplexType) else kind
                values[found, path.attribute] = self._value(found, simple, text)
        return SEVERAL if len(values) > 1 else next(iter(values.values()), None)

    def _value(self, node: ET.Element, simple: Any, text: str | None) -> Any:
        if text is None:
            return None
        try:
            return simple.value(text, self.scope_of(node)) if simple else ("string", text)
        except (ValueError, ArithmeticError):
            return "string", text

    def point_to_keys(self) -> None:
        """Gives every `keyref` of the document, which was checked before, the fields of a
        key that is there.
        """
        for element, one in self.keyrefs:
            keys = next(
                (
                    list(self.tuples(top, key))
                    for top, key in self.keys
                    if key.name == one.refers
                    and (top is element or any(inner is top for inner in element.iter()))
                ),
                [],
            )
            for (node, _), (target, _) in zip(list(self.tuples(element, one)), keys * 1_000):
                for paths, wanted in zip(one.fields, self._key(one.refers).fields):
                    self._copy_field(target, wanted, node, paths)

    def _key(self, name: str) -> Constraint:
        return next(key for _, key in self.keys if key.name == name)

    @staticmethod
    def _copy_field(
        source: ET.Element, wanted: tuple[Path, ...], node: ET.Element, paths: tuple[Path, ...]
    ) -> None:
        values = [
            found.get(path.attribute) if path.attribute else found.text
            for path in wanted
            for found in selected(path, source)
        ]
        for path in paths:
            for found in selected(path, node):
                if path.attribute and path.attribute in found.attrib and values:
                    found.set(path.attribute, values[0] or "")
                elif not path.attribute and values:
                    found.text = values[0]


def _way(top: ET.Element, node: ET.Element) -> list[ET.Element]:
    """The elements from below `top` down to a node."""
    waiting: list[tuple[ET.Element, list[ET.Element]]] = [(top, [])]
    while waiting:
        at, way = waiting.pop()
        if at is node:
            return way
        waiting += [(child, [*way, child]) for child in at]
    return []
