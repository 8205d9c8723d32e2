"""The store of schemas: documents by URI, references followed, nodes lowered once each when first needed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any
from urllib.parse import unquote

from juxtalogos.documents.uris import defragmented
from juxtalogos.model.location import Location, escape_key, follow_pointer, split_pointer
from juxtalogos.schema.json.tree.dialects import BY_URI, DIALECTS, VALIDATION, Dialect, enter
from juxtalogos.schema.json.tree.lowering import lower
from juxtalogos.schema.json.tree.nodes import Node

_NO_SCHEMAS_BELOW = frozenset(("enum", "const", "default", "example", "examples"))


class BadReference(LookupError):
    """A reference that leads nowhere."""

    def __init__(self, uri: str) -> None:
        super().__init__(f"nothing at {uri!r}")
        self.uri = uri


class SchemaStore:
    """Documents by URI.

    URIs may be relative (files of one definition); an `$id` makes a resource of its own.
    """

    def __init__(self, documents: Mapping[str, Any], dialect: str) -> None:
        self.documents = documents
        self.dialect = dialect
        self._nodes: dict[tuple[str, str, str], Node] = {}
        self._resources: dict[str, tuple[str, str, str]] = {}
        """Resource URI -> (document, pointer, dialect)."""
        self._anchors: dict[tuple[str, str], tuple[str, str]] = {}
        """(resource URI, anchor) -> (document, pointer)."""
        self._dynamic: dict[tuple[str, str], tuple[str, str]] = {}
        self._recursive: set[str] = set()
        self.dialects: dict[str, Dialect] = dict(DIALECTS)
        self._indexed: set[str] = set()
        self.notes: dict[Node, tuple[bool, bool]] = {}
        """(readOnly, writeOnly) of nodes, references followed."""
        self.compilers: dict[Any, Any] = {}
        """Compilers by direction and treatment of formats; filled by the face."""

    def node(self, document: str, pointer: str, dialect: str | None = None) -> Node:
        """The node at a place, lowered in the dialect in force there; BadReference when nothing is there."""
        base, found, value = self._descend(document, pointer, dialect or self.dialect)
        key = (document, pointer, found.name)
        node = self._nodes.get(key)
        if node is None:
            node = self._nodes[key] = lower(value, Location(document, pointer), base, found)
        return node

    def resolve(self, uri: str) -> Node:
        """The node that an absolute reference names."""
        document, pointer, dialect = self._place(uri)
        return self.node(document, pointer, dialect)

    def resolve_dynamic(self, uri: str, scope: tuple[str, ...]) -> Node:
        """`$dynamicRef` (2020-12, section 8.2.3.2): the outermost resource in scope with the same dynamic
        anchor.
        """
        resource, fragment = defragmented(uri)
        for document in self.documents:
            self._index(document)
        if (resource, fragment) in self._dynamic:
            for outer in scope:
                place = self._dynamic.get((outer, fragment))
                if place:
                    return self.node(
                        place[0], place[1], self._resources.get(outer, ("", "", self.dialect))[2]
                    )
        return self.resolve(uri)

    def resolve_recursive(self, uri: str, scope: tuple[str, ...]) -> Node:
        """`$recursiveRef` (2019-09, section 8.2.4.2.1)."""
        for document in self.documents:
            self._index(document)
        resource = defragmented(uri)[0]
        if resource in self._recursive:
            # The outermost of the unbroken run of dynamic scopes that carry $recursiveAnchor.
            for outer in scope:
                if outer in self._recursive:
                    return self.resolve(outer)
        return self.resolve(uri)

    def _place(self, uri: str) -> tuple[str, str, str | None]:
        resource, fragment = defragmented(uri)
        fragment = unquote(fragment)
        document, root, dialect = resource, "", None
        if resource not in self.documents or (resource in self._resources):
            for name in self.documents:
                self._index(name)
            if resource in self._resources:
                document, root, dialect = self._resources[resource]
            elif resource not in self.documents:
                raise BadReference(uri)
        if fragment == "" or fragment.startswith("/"):
            return document, root + fragment, dialect
        for name in self.documents:
            self._index(name)
        place = self._anchors.get((resource, fragment)) or self._dynamic.get((resource, fragment))
        if place is None:
            raise BadReference(uri)
        return place[0], place[1], dialect

    def _descend(self, document: str, pointer: str, dialect: str) -> tuple[str, Dialect, Any]:
        """(base URI, dialect, value) at a place: each `$id` and `$schema` on the way down changes them."""
        if document not in self.documents:
            raise BadReference(document)
        value = self.documents[document]
        base, current = document, self.dialects[dialect]
        base, current = self.enter(value, base, current)
        try:
            tokens = split_pointer(pointer)
            for token in tokens:
                value = follow_pointer(value, "/" + escape_key(token))
                base, current = self.enter(value, base, current)
        except (LookupError, ValueError):
            raise BadReference(f"{document}#{pointer}") from None
        return base, current, value

    def enter(self, value: Any, base: str, dialect: Dialect) -> tuple[str, Dialect]:
        """`enter`, and the dialects of metaschemas among the documents: those without the validation
        vocabulary assert nothing.
        """
        base, found = enter(value, base, dialect)
        named = value.get("$schema") if isinstance(value, dict) else None
        metaschema = (
            self.documents.get(named.rstrip("#"))
            if isinstance(named, str) and named.rstrip("#") not in BY_URI
            else None
        )
        vocabularies = metaschema.get("$vocabulary") if isinstance(metaschema, dict) else None
        if isinstance(vocabularies, dict) and not any(
            uri.endswith("/vocab/validation") for uri in vocabularies
        ):
            name = f"{found.name} without validation"
            found = self.dialects[name] = replace(found, name=name, keywords=found.keywords - VALIDATION)
        return base, found

    def _index(self, document: str) -> None:
        """Finds the resources and anchors inside a document, once, when a reference first needs them."""
        if document in self._indexed:
            return
        self._indexed.add(document)
        dialect = self.dialects[self.dialect]
        stack: list[tuple[Any, str, str, Dialect]] = [(self.documents[document], "", document, dialect)]
        while stack:
            value, pointer, base, current = stack.pop()
            if isinstance(value, list):
                stack += [(item, f"{pointer}/{index}", base, current) for index, item in enumerate(value)]
                continue
            if not isinstance(value, dict):
                continue
            entered, current = self.enter(value, base, current)
            if entered != base or pointer == "":
                self._resources.setdefault(entered, (document, pointer, current.name))
                base = entered
            self._note_anchors(value, document, pointer, base, current)
            stack += [
                (item, f"{pointer}/{escape_key(key)}", base, current)
                for key, item in value.items()
                if key not in _NO_SCHEMAS_BELOW
            ]

    def _note_anchors(
        self, value: dict[str, Any], document: str, pointer: str, base: str, dialect: Dialect
    ) -> None:
        for key, table in (("$anchor", self._anchors), ("$dynamicAnchor", self._dynamic)):
            name = value.get(key)
            if isinstance(name, str):
                table.setdefault((base, name), (document, pointer))
        if value.get("$recursiveAnchor") is True:
            self._recursive.add(base)
        own = value.get(dialect.id_key) if dialect.id_key else None
        if isinstance(own, str) and own.startswith("#") and len(own) > 1 and dialect.ref_alone:
            self._anchors.setdefault((base, own[1:]), (document, pointer))
