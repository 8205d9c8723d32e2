"""The schema engine of OData contracts: what a `SchemaRef` with its role means, made when it is first asked
for.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

from juxtalogos.formats.odata.csdl import Callable, Model, Property
from juxtalogos.formats.odata.definition.model_reader import model_of
from juxtalogos.formats.odata.schemas.envelopes import Envelopes
from juxtalogos.formats.odata.schemas.lowering import Lowering
from juxtalogos.model.document import Document
from juxtalogos.model.location import Location
from juxtalogos.model.schema import SchemaRef
from juxtalogos.schema.json import JsonSchema
from juxtalogos.schema.json.tree.nodes import Node
from juxtalogos.schema.json.tree.store import BadReference, SchemaStore


class CsdlStore(SchemaStore):
    """Nodes by the URIs that lowering gives them (`FORM:PURPOSE/TYPE`), each made once."""

    def __init__(self, model: Model) -> None:
        super().__init__({}, "2020-12")
        self.model = model
        self.lowerings: dict[str, Lowering] = {}
        self._made: dict[str, Node] = {}
        self.places: dict[tuple[str, str], Node] = {}

    def lowering(self, form: str) -> Lowering:
        """What lowers types to one wire form."""
        found = self.lowerings.get(form)
        if found is None:
            found = self.lowerings[form] = Lowering(self.model, form)
        return found

    def resolve(self, uri: str) -> Node:
        """The node of a URI that lowering made; BadReference where it names no type."""
        found = self._made.get(uri)
        if found is None:
            form, _, rest = uri.partition(":")
            purpose, _, name = rest.partition("/")
            if name.rstrip("?!") not in self.model.types:
                raise BadReference(uri)
            found = self._made[uri] = self.lowering(form).structured(name, purpose)
            self._note(found)
        return found

    def _note(self, node: Node) -> None:
        """Remembers properties by their place, for whoever asks about one of them."""
        members = node.rule("members")
        for child in members.operand.properties.values() if members else ():
            self.places.setdefault((child.location.document, child.location.pointer), child)

    def node(self, document: str, pointer: str, dialect: str | None = None) -> Node:
        """The node of a property at its place, as it was lowered last; BadReference where none was."""
        found = self.places.get((document, pointer))
        if found is None:
            raise BadReference(f"{document}#{pointer}")
        return found


class CsdlEngine:
    """See `SchemaEngine`."""

    def __init__(self, documents: Mapping[str, Document], dialect: str) -> None:
        self.documents = documents
        self._schemas: dict[SchemaRef, JsonSchema] = {}
        self._asserts_format: bool | None = None

    @cached_property
    def model(self) -> Model:
        return model_of(self.documents)

    @cached_property
    def store(self) -> CsdlStore:
        return CsdlStore(self.model)

    @cached_property
    def _single(self) -> dict[Location, Property | Callable]:
        """Properties and callables by their place."""
        found: dict[Location, Property | Callable] = {}
        for name in self.model.types:
            named = self.model.structured(name)
            for prop in named.own_properties if named else ():
                found[prop.place] = prop
        for overloads in self.model.callables.values():
            for each in overloads:
                found[each.place] = each
                for given in each.parameters:
                    found[given.place] = Property(given.name, given.type, given.place, given.annotations)
        return found

    def assert_formats(self, asserted: bool) -> None:
        """Formats are the type system here, and always count."""

    def schema(self, ref: SchemaRef) -> JsonSchema:
        """BadReference when nothing of the metadata is meant."""
        found = self._schemas.get(ref)
        if found is None:
            envelopes = Envelopes(self.store.lowering(ref.dialect), self._single)
            node = envelopes.node(ref)
            self.store.places.setdefault((ref.document, ref.pointer), node)
            found = self._schemas[ref] = JsonSchema(self.store, node, ref.direction, None)
        return found


def engine(documents: Mapping[str, Document], dialect: str) -> CsdlEngine:
    """What makes schemas for a contract that was read before."""
    return CsdlEngine(documents, dialect)
