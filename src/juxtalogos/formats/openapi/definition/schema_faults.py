"""Faults of the schemas in a definition: references that lead nowhere or in circles, keywords of the wrong
kind.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from typing import Any

from juxtalogos.formats.openapi.definition.documents import Documents
from juxtalogos.formats.openapi.definition.lost_parts import Lost
from juxtalogos.formats.openapi.definition.misplaced import misplaced
from juxtalogos.formats.openapi.definition.survey import TYPES, place
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import nearest, quoted
from juxtalogos.model.location import Location
from juxtalogos.schema.json import BadReference, JsonEngine
from juxtalogos.schema.json.tree.keyword_kinds import KINDS, wrong_kinds
from juxtalogos.schema.json.tree.lowering import meant_types
from juxtalogos.schema.json.tree.nodes import Node, Rule
from juxtalogos.schema.json.tree.walk import children
from juxtalogos.schema.patterns import PatternError, compile_pattern


def unsound_schemas(contract: Contract, engine: JsonEngine, documents: Documents) -> Lost:
    """The schemas of operations with a reference that leads nowhere, or in a circle."""
    graph = _Graph(engine, documents)
    refs = (ref for operation in contract.operations for ref in contract.schema_refs(operation))
    return frozenset(
        (ref.document, ref.pointer)
        for ref in refs
        if not graph.is_sound(ref.document, ref.pointer, ref.dialect)
    )


class _Graph:
    """Which nodes lead to which; soundness is known for each node once."""

    def __init__(self, engine: JsonEngine, documents: Documents) -> None:
        self.store = engine.store
        self.documents = documents
        self.next: dict[Node, list[Node]] = {}
        self.bad: set[Node] = set()
        self.known: dict[Node, bool] = {}

    def is_sound(self, document: str, pointer: str, dialect: str) -> bool:
        try:
            root = self.store.node(document, pointer, dialect)
        except BadReference:
            return False
        if root not in self.known:
            self.explore(root)
        return self.known[root]

    def explore(self, root: Node) -> None:
        fresh: list[Node] = []
        waiting = [root]
        while waiting:
            node = waiting.pop()
            if node in self.next:
                continue
            fresh.append(node)
            self.next[node] = list(self.successors(node))
            waiting += self.next[node]
        # A circle of references and allOf would check one value for ever.
        for node in fresh:
            if self.circles(node):
                self.documents.fault(
                    "this schema is defined by itself alone",
                    node.location,
                    "let it refer to another schema, or nest it in a property",
                )
                self.bad.add(node)
        before: dict[Node, list[Node]] = {}
        for node in fresh:
            for follower in self.next[node]:
                before.setdefault(follower, []).append(node)
        spoilt = {
            node
            for node in fresh
            if node in self.bad or any(self.known.get(follower) is False for follower in self.next[node])
        }
        waiting = list(spoilt)
        while waiting:
            for node in before.get(waiting.pop(), ()):
                if node not in spoilt:
                    spoilt.add(node)
                    waiting.append(node)
        self.known.update((node, node not in spoilt) for node in fresh)

    def successors(self, node: Node) -> Iterator[Node]:
        for rule in node.rules:
            if rule.op == "ref":
                try:
                    yield self.store.resolve(rule.operand.uri)
                except BadReference:
                    self.bad.add(node)
                    self.unresolved(rule)
            else:
                yield from children(rule)

    def unresolved(self, rule: Rule) -> None:
        parent = Location(rule.location.document, rule.location.pointer.rpartition("/")[0])
        document = self.documents.by_uri[parent.document]
        from juxtalogos.model.location import follow_pointer

        reference = follow_pointer(document.value, rule.location.pointer)
        if self.documents.place(str(reference), parent) is not None:
            self.documents.fault(
                f"reference to {quoted(reference)} cannot be followed", rule.location, "correct the reference"
            )

    def circles(self, start: Node) -> bool:
        seen: set[Node] = set()
        waiting = [start]
        while waiting:
            node = waiting.pop()
            for rule in node.rules:
                followers: Sequence[Node] = (
                    self.next[node] if rule.op == "ref" and len(node.rules) == 1 else ()
                )
                if rule.op == "ref" and not followers:
                    try:
                        followers = (self.store.resolve(rule.operand.uri),)
                    except BadReference:
                        followers = ()
                elif rule.op == "allOf":
                    followers = rule.operand
                for follower in followers:
                    if follower is start:
                        return True
                    if follower not in seen:
                        seen.add(follower)
                        waiting.append(follower)
        return False


def schema_faults(documents: Documents, dialect: str) -> None:
    """Keywords of the wrong kind in the schemas of all documents."""
    for uri, document in documents.by_uri.items():
        for link, value in documents.surveys[uri].suspects:
            _keyword_faults(value, place(document, link), documents, dialect)
        for link in documents.surveys[uri].no_schemas:
            what = "a schema is a mapping of keywords; this value is not"
            documents.fault(what, place(document, link), "write a schema such as `type: string`", "warning")


def _keyword_faults(value: dict[str, Any], location: Location, documents: Documents, dialect: str) -> None:
    def fault(key: str, what: str, mend: str) -> None:
        documents.fault(what, location.child(key), mend, "warning")

    named = value.get("type")
    types = [named] if isinstance(named, str) else named if isinstance(named, list) else []
    for name in types:
        if name not in TYPES:
            meant = meant_types(name)
            told = (
                f"samples are made as of {meant[0]}; it is not checked"
                if meant
                else "the keyword is left out"
            )
            mend = f"write {meant[0]}" if meant else nearest(str(name), TYPES)
            fault("type", f"unknown type {quoted(name)}; {told}", mend)
    for word in wrong_kinds(value):
        what = (
            f"`{word}` is {quoted(json.dumps(value[word], default=str))}, not {KINDS[word][1]}; it is"
            " left out"
        )
        fault(word, what, f"write {KINDS[word][1]}")
    if isinstance(named, list) and dialect == "openapi-3.0":
        fault(
            "type",
            "`type` is a list, which OpenAPI 3.0 does not know",
            "use one type, and `nullable: true` for null",
        )
    is_parameter = "in" in value and "name" in value  # of OpenAPI 2.0, where `required` is another keyword
    if "required" in value and not isinstance(value["required"], list) and not is_parameter:
        fault(
            "required",
            "`required` in a schema is a list of property names; it is left out",
            "list the names in the schema of the object",
        )
    if "enum" in value and not isinstance(value["enum"], list):
        fault("enum", "`enum` is no list; it is left out", "write a list of values")
    if "nullable" in value and dialect == "openapi-3.1":
        fault("nullable", "`nullable` has no meaning in OpenAPI 3.1", "write `type: [..., 'null']`")
    for word, what, mend in misplaced(value, dialect):
        fault(word, what, mend)
    pattern = value.get("pattern")
    if isinstance(pattern, str):
        try:
            compile_pattern(pattern)
        except PatternError as error:
            fault(
                "pattern",
                f"the pattern {quoted(pattern)} is no regular expression ({error}); it is left out",
                "correct the pattern",
            )
