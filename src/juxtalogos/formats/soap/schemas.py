"""The schemas of a WSDL's messages: what the parts of a message make of the body, as one element declaration.

A `SchemaRef` names the message part (its pointer), whose element or type it is; one with a `wrapper` is the
element that rpc
style puts around all parts of the message, its members being the parts, encoded or not.
"""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Iterator, Mapping
from dataclasses import replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

from juxtalogos.documents.xmltext import local
from juxtalogos.documents.xmltree import resolve_name
from juxtalogos.formats.soap.definition.documents import Documents
from juxtalogos.formats.soap.names import ADDRESSING, ENVELOPE_11, ENVELOPE_12
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.document import Document
from juxtalogos.model.elements import Element
from juxtalogos.model.findings import Deviation
from juxtalogos.model.location import split_pointer
from juxtalogos.model.schema import NOTHING, Boundary, Direction, Mutation, OutlineRow, SchemaRef, Wanted
from juxtalogos.schema.xml.check.identity import ScopeOf
from juxtalogos.schema.xml.tell.outline import outline
from juxtalogos.schema.xml.tell.plain_values import kind_at, plain, text_of, to_element, to_tree, xpath_of
from juxtalogos.schema.xml.tell.text import scope_of
from juxtalogos.schema.xml.tree.components import ComplexType, ElementDecl, ModelGroup, Particle, Type
from juxtalogos.schema.xml.tree.reader import SchemaReader
from juxtalogos.schema.xml.tree.simple_types import SimpleType
from juxtalogos.schema.xml.tree.sources import initial

if TYPE_CHECKING:
    from juxtalogos.schema.xml.compile.fast_check import Fast


class Seen:
    """What one pass over an element told."""

    __slots__ = ("_raw", "_schema", "deviations")

    def __init__(self, deviations: tuple[Deviation, ...], raw: set[Any], schema: ElementSchema) -> None:
        self.deviations = deviations
        self._raw = raw
        self._schema = schema

    @property
    def hits(self) -> frozenset[str]:
        """Ids of the elements that the element exercised."""
        from juxtalogos.schema.xml.tell.elements import ids_of

        return frozenset(ids_of(self._raw, self._schema.ref.direction))


class ElementSchema:
    """One declared element in one direction, as the rooms above know schemas.

    Values are elements, or plain values.
    """

    def __init__(
        self, reader: SchemaReader, declared: ElementDecl, ref: SchemaRef, of_type: bool = False
    ) -> None:
        self.reader = reader
        self.declared = declared
        self.ref = ref
        self.of_type = of_type
        """Whether a part names a type and no element: what stands within is the message."""

    def standing_in(self, name: str) -> ElementSchema:
        """The schema of an element of the substitution group."""
        return ElementSchema(self.reader, self.reader.substitutes(self.declared)[name], self.ref)

    def element(self, value: Any, at: str = "body", *, loose: bool = False) -> ET.Element:
        """A plain value as an element; UsageError when something has no place in it, unless it is sent
        `loose`.
        """
        return (
            value
            if isinstance(value, ET.Element)
            else to_element(value, self.declared, self.reader, at, loose=loose)
        )

    def tree(self, element: ET.Element, scope_of_element: ScopeOf) -> Any:
        return to_tree(element, self.declared, self.reader, scope_of_element)

    def examine(self, value: Any) -> Seen:
        """Deviations and hits of an element or plain value, in one pass."""
        prefixes = scope_of(self.reader.prefixes)
        return self.examined(self.element(value, loose=True), lambda _: prefixes)

    def examined(self, element: ET.Element, scope_of_element: ScopeOf, above: str = "") -> Seen:
        """`above` is what paths begin with. ValueError when it is nested too deep to follow."""
        from juxtalogos.schema.xml.compile.fast_check import examine

        found, hits = examine(fast_of(self.reader), element, self.declared, scope_of_element)
        if above:
            found = [replace(item, path=above + item.path) for item in found]
        return Seen(tuple(found), hits, self)

    def check(self, value: Any) -> tuple[Deviation, ...]:
        return self.examine(value).deviations

    def accepts(self, value: Any) -> bool:
        return all(one.advisory for one in self.check(value))

    @property
    def accepts_anything(self) -> bool:
        return self.declared.type is self.reader.any_type

    def sample(self, *, full: bool = False, seed: int = 0, wanted: Wanted = NOTHING) -> Any:
        """A valid plain value with the places that are wanted; Unsampleable when none is found."""
        from juxtalogos.schema.xml.make.sample import sample_element

        prefixes = scope_of(self.reader.prefixes)
        made = sample_element(self.reader, self.declared, full=full, seed=seed, wanted=wanted)
        return self.tree(made, lambda _: prefixes)

    def mutate(self, value: Any) -> Iterator[Mutation]:
        """Plain values that break the schema at one place each."""
        from juxtalogos.schema.xml.make.mutate import mutate

        prefixes = scope_of(self.reader.prefixes)
        for one in mutate(self.reader, self.declared, self.element(value)):
            yield replace(one, value=self.tree(one.value, lambda _: prefixes))

    def boundaries(self, value: Any) -> Iterator[Boundary]:
        """Plain values that just reach a limit at one place each."""
        from juxtalogos.schema.xml.make.boundary import boundaries

        return boundaries(self.declared, self.reader, value, self.accepts)

    def check_part(self, row: OutlineRow, value: Any) -> tuple[Deviation, ...]:
        """The deviations of a value for the place of a row."""
        kind, nillable = kind_at(self.declared, split_pointer(row.path), self.reader)
        simple = kind.simple if isinstance(kind, ComplexType) else kind
        if simple is None or (value is None and nillable):
            return ()
        text = text_of(value, simple, row.path)
        found = simple.wrongs(text, scope_of(self.reader.prefixes))
        return tuple(
            Deviation("", item.facet, item.where(), item.declared, text, bool(item.undecided))
            for item in found
        )

    def elements(self) -> Iterator[Element]:
        """Everything in the declaration that an element can exercise."""
        from juxtalogos.schema.xml.tell.elements import elements_of

        return elements_of(self.declared, self.reader, self.ref.direction)

    def hits(self, value: Any) -> Iterator[str]:
        return iter(self.examine(value).hits)

    def outline(self, depth: int = 100) -> Iterator[OutlineRow]:
        return outline(self.declared, self.reader, depth=depth)

    def read_text(self, keys: list[str], text: str) -> Any:
        """The text that a person wrote for a place, as the value that its type makes of it."""
        kind, nillable = kind_at(self.declared, keys, self.reader)
        if nillable and text == "null":
            return None
        simple = (
            kind if isinstance(kind, SimpleType) else kind.simple if isinstance(kind, ComplexType) else None
        )
        if simple is None:
            from juxtalogos.documents.jsontext import NotJson, parse_json

            if text[:1] in ("{", "["):
                try:
                    return parse_json(text)
                except NotJson:
                    return text
            return text
        return plain(simple, text) if simple.accepts(text, scope_of(self.reader.prefixes)) else text


class SoapEngine:
    """Compiles the schemas of a WSDL when they are first asked for."""

    def __init__(self, documents: Mapping[str, Document], whole: Documents | None = None) -> None:
        self.documents = documents
        self._whole = whole
        self._made: dict[SchemaRef, ElementSchema] = {}

    @cached_property
    def reader(self) -> SchemaReader:
        """What reads the schemas, made when it is first needed."""
        whole = self._whole or Documents.of("", dict(self.documents))
        reader = SchemaReader(whole.schemas())
        for uri, prefix in ((ENVELOPE_11, "env"), (ENVELOPE_12, "env12"), (ADDRESSING, "wsa")):
            reader.add_prefix(uri, prefix)
        return reader

    def assert_formats(self, asserted: bool) -> None:
        """Types of XML Schema always are asserted."""

    def schema(self, ref: SchemaRef) -> ElementSchema:
        """The schema of a reference, made once."""
        found = self._made.get(ref)
        if found is None:
            found = self._made[ref] = self._schema(ref)
        return found

    def _schema(self, ref: SchemaRef) -> ElementSchema:
        if ref.wrapper:
            return ElementSchema(self.reader, self._wrapper(ref), ref)
        node, named = self._named(ref)
        element = (
            self.reader.element(named or "") if node is not None and node.get("element") is not None else None
        )
        if (
            ref.direction is Direction.REQUEST
            and element is not None
            and element.abstract
            and self.reader.substitutes(element)
        ):
            return ElementSchema(self.reader, self._headed(ref, element), ref, of_type=True)
        if element is not None:
            return ElementSchema(self.reader, element, ref)
        return ElementSchema(self.reader, self._typed(ref, node, named), ref, of_type=True)

    def _typed(self, ref: SchemaRef, node: ET.Element | None, named: str | None) -> ElementDecl:
        if node is None:
            return ElementDecl("missing", lambda: ref.location, self.reader.any_type)
        kind = self.reader.type(named or "") or self.reader.any_type
        return ElementDecl(node.get("name", "part"), lambda: ref.location, kind)

    def _headed(self, ref: SchemaRef, head: ElementDecl) -> ElementDecl:
        """What holds one of the elements that stand in for an abstract one: which, is part of the value."""
        where = lambda: ref.location  # noqa: E731
        kind = ComplexType("", where, self.reader.any_type)
        kind.content = Particle(ModelGroup("sequence", (Particle(head, 1, 1, where),), where), 1, 1, where)
        return ElementDecl(local(head.name), where, kind)

    def _named(self, ref: SchemaRef) -> tuple[ET.Element | None, str | None]:
        """The part (or header) that a reference leads to, and the element or type that it names."""
        document = self.documents.get(ref.document)
        node = document.value.find(ref.pointer) if document is not None else None
        if node is None or document is None:
            return None, None
        text = node.get("element") or node.get("type") or ""
        return node, resolve_name(text, document.value.scope(node))

    def _wrapper(self, ref: SchemaRef) -> ElementDecl:
        """rpc style: an element called as the operation, an accessor a part, of no namespace (WSDL 1.1,
        section 3.5).
        """
        name = ref.wrapper
        where = lambda: ref.location  # noqa: E731
        if name.startswith("{"):
            uri = name[1:].partition("}")[0]
            self.reader.add_prefix(uri, initial(uri))
        kind = ComplexType("", where, self.reader.any_type)
        parts = []
        for part, inner, required in ref.members:
            _, named = self._named(inner)
            of_part: Type = self.reader.type(named or "") or self.reader.any_type
            at = inner.location
            decl = ElementDecl(part, lambda at=at: at, of_part, nillable=ref.encoded)  # type: ignore[misc]
            parts.append(Particle(decl, int(required), 1, decl.where))
        # An encoded struct has no order (SOAP 1.1, section 5.4.1).
        kind.content = Particle(
            ModelGroup("all" if ref.encoded else "sequence", tuple(parts), where), 1, 1, where
        )
        self.reader.finish()
        return ElementDecl(name, where, kind)


def engine(documents: Mapping[str, Document], dialect: str) -> SoapEngine:
    return SoapEngine(documents)


def fast_of(reader: SchemaReader) -> Fast:
    """What of a reader's schemas was compiled, kept as long as the reader."""
    if reader.compiled is None:
        from juxtalogos.schema.xml.compile.fast_check import Fast

        reader.compiled = Fast(reader)
    return reader.compiled  # type: ignore[no-any-return]


def soap_schema(contract: Contract, ref: SchemaRef) -> ElementSchema:
    """A contract's schema, known to be one of elements."""
    found = contract.schema(ref)
    assert isinstance(found, ElementSchema)
    return found


def reader_of(contract: Contract) -> SchemaReader:
    """What reads the schemas of a contract."""
    return soap_schema(contract, SchemaRef("xsd", contract.root, "", Direction.RESPONSE)).reader


def parse_text(contract: Contract, ref: SchemaRef | None, pointer: str, text: str) -> Any:
    """The text that a person wrote for a place of a body, by the type declared there."""
    return text if ref is None else soap_schema(contract, ref).read_text(split_pointer(pointer), text)


def selector(contract: Contract, operation: Operation, ref: SchemaRef, pointer: str) -> str:
    """An XPath, by the contract's prefixes, of a place in an answer's body."""
    schema = soap_schema(contract, ref)
    return xpath_of(schema.declared, split_pointer(pointer), schema.reader)
