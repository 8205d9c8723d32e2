"""CSDL XML -> model: EDMX of V2, V3, V4 and 4.01. Names of elements count, not their namespaces: real
metadata mixes versions.
"""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from collections.abc import Iterator
from typing import Any

from juxtalogos.documents.xmltext import local
from juxtalogos.documents.xmltree import XmlTree
from juxtalogos.formats.odata.csdl import (
    Annotations,
    Callable,
    EntitySet,
    EnumType,
    Import,
    KeyPart,
    Model,
    Navigation,
    Parameter,
    Property,
    StructuredType,
    TypeDefinition,
    TypeUse,
)
from juxtalogos.formats.odata.definition.annotation_values import value_of
from juxtalogos.formats.odata.definition.documents import Documents, Names, names_of, schemas_of
from juxtalogos.formats.odata.definition.facets import facets_of
from juxtalogos.model.document import Document
from juxtalogos.model.errors import quoted
from juxtalogos.model.location import Location

_COLLECTION = re.compile(r"\s*(?:Collection\((.*)\)|(.*?))\s*")
_GENERATED = "{http://schemas.microsoft.com/ado/2009/02/edm/annotation}StoreGeneratedPattern"


class XmlReader:
    """Reads the schemas of one document into a model."""

    def __init__(self, model: Model, documents: Documents, document: Document) -> None:
        self.model = model
        self.documents = documents
        self.document = document
        self.tree: XmlTree = document.value
        self.names: Names = names_of(document)
        self.apart = documents.apart

    def gather(self) -> None:
        """Associations, and annotations that stand apart."""
        for schema in schemas_of(self.tree):
            if schema.get("Namespace") is None:
                self.fault("this schema has no Namespace", schema, "give it one", "warning")
            for node in schema:
                kind = local(node.tag)
                if kind == "Association":
                    self.association(node, self.qualified(schema, node))
                elif kind == "Annotations":
                    target = self.names.qualified_path(node.get("Target", ""))
                    self.apart.annotations.setdefault(target, {}).update(self.inner_annotations(node))

    def read(self) -> None:
        """Everything that is declared; to be called when all documents were gathered."""
        for schema in schemas_of(self.tree):
            for node in schema:
                self.declaration(schema, node)

    def place(self, node: ET.Element) -> Location:
        return Location(self.document.uri, self.tree.path(node))

    def fault(self, what: str, node: ET.Element, mend: str, severity: str = "fault") -> None:
        self.documents.fault(what, self.place(node), mend, severity)

    @staticmethod
    def qualified(schema: ET.Element, node: ET.Element) -> str:
        """The qualified name of what a schema declares."""
        space, name = schema.get("Namespace", ""), node.get("Name", "")
        return f"{space}.{name}" if space else name

    # What a schema declares.

    def declaration(self, schema: ET.Element, node: ET.Element) -> None:
        """One element of a schema (CSDL 4.0, section 5)."""
        kind, name = local(node.tag), self.qualified(schema, node)
        if kind in ("EntityType", "ComplexType"):
            self.declare(name, self.structured(node, name, kind == "EntityType"), node)
        elif kind == "EnumType":
            self.declare(name, self.enumeration(node, name), node)
        elif kind == "TypeDefinition":
            underlying = self.names.qualified(node.get("UnderlyingType", "Edm.String"))
            use = facets_of(TypeUse(underlying), node.attrib)
            self.declare(
                name, TypeDefinition(name, use, self.place(node), self.annotations(node, name)), node
            )
        elif kind in ("Action", "Function") and self.model.is_v4:
            self.model.callables.setdefault(name, []).append(self.callable(node, name, kind == "Action"))
        elif kind == "EntityContainer":
            self.container(node, name)

    def declare(self, name: str, what: StructuredType | EnumType | TypeDefinition, node: ET.Element) -> None:
        """Puts a type into the model, once."""
        if not node.get("Name"):
            self.fault(f"this {local(node.tag)} has no Name", node, "give it one")
        elif name in self.model.types:
            self.fault(f"{name} is declared twice; the first counts", node, "rename one of them", "warning")
        else:
            self.model.types[name] = what

    def structured(self, node: ET.Element, name: str, entity: bool) -> StructuredType:
        """An entity or complex type (sections 8 and 9)."""
        properties, navigation, key = [], [], []
        for child in node:
            kind = local(child.tag)
            if kind == "Key":
                key = [
                    KeyPart(part.get("Alias") or part.get("Name", "").replace("/", "_"), part.get("Name", ""))
                    for part in child
                    if local(part.tag) == "PropertyRef"
                ]
            elif kind == "Property":
                properties.append(self.property(child, name))
            elif kind == "NavigationProperty":
                navigation.append(self.navigation(child, name))
        base = self.names.qualified(node.get("BaseType", ""))
        return StructuredType(
            name,
            entity,
            base,
            _true(node.get("Abstract")),
            _true(node.get("OpenType")),
            _true(node.get("HasStream")) or _true(_meta(node, "HasStream")),
            tuple(key),
            tuple(properties),
            tuple(navigation),
            self.place(node),
            self.annotations(node, name),
        )

    def property(self, node: ET.Element, owner: str) -> Property:
        """A structural property (section 6)."""
        name = node.get("Name", "")
        notes = self.annotations(node, f"{owner}/{name}")
        if node.get(_GENERATED) in ("Identity", "Computed"):  # as V2 and V3 say what V4 calls Core.Computed
            notes = {"Core.Computed": True, **notes}
        return Property(
            name,
            self.use(node),
            self.place(node),
            notes,
            node.get("ConcurrencyMode") == "Fixed",
        )

    def use(self, node: ET.Element, attribute: str = "Type") -> TypeUse:
        """The type that an element is declared with; of `<ReturnType><CollectionType>`
        forms the type within.
        """
        text = node.get(attribute)
        if text is None:
            inner = next(
                (
                    child
                    for child in node
                    if local(child.tag) in ("CollectionType", "TypeRef", "ReferenceType")
                ),
                None,
            )
            if inner is not None:
                use = self.use(inner, "ElementType" if inner.get("ElementType") else "Type")
                return TypeUse(use.name, local(inner.tag) == "CollectionType" or use.collection)
            self.fault(
                f"{node.get('Name') or local(node.tag)} has no type",
                node,
                "give it one; its values are not checkable till then",
                "warning",
            )
            return TypeUse("")
        found = _COLLECTION.fullmatch(text)
        assert found is not None
        collection = found[1] is not None or node.get("CollectionKind") in ("List", "Bag")
        name = self.names.qualified((found[1] if found[1] is not None else found[2]).strip())
        if "." not in name and name:
            name = f"Edm.{name}"  # V1 to V3: primitive types may stand without their namespace
        # A collection in V4 that says nothing of null: its items may be null only where Nullable says so or
        # is not said.
        return facets_of(TypeUse(name, collection), node.attrib)

    def navigation(self, node: ET.Element, owner: str) -> Navigation:
        """A navigation property (section 7)."""
        name, place = node.get("Name", ""), self.place(node)
        notes = self.annotations(node, f"{owner}/{name}")
        if node.get("Relationship") is not None:
            return self.old_navigation(node, name, place, notes)
        use = self.use(node)
        pairs = tuple(
            (child.get("Property", ""), child.get("ReferencedProperty", ""))
            for child in node
            if local(child.tag) == "ReferentialConstraint"
        )
        return Navigation(
            name,
            use.name,
            use.collection,
            use.nullable and not use.collection,
            _true(node.get("ContainsTarget")),
            place,
            node.get("Partner", ""),
            pairs,
            "",
            notes,
        )

    def old_navigation(self, node: ET.Element, name: str, place: Location, notes: Annotations) -> Navigation:
        """V2 and V3: by an association and its ends (CSDL 2.0, section 2.1.7)."""
        association = self.names.qualified(node.get("Relationship", ""))
        end, other = node.get("ToRole", ""), node.get("FromRole", "")
        target, multiplicity = self.apart.ends.get((association, end), ("", ""))
        if not target:
            what = (
                f"the association {quoted(node.get('Relationship', ''))} of {name} is not there, or has no"
                f" end {quoted(end)}"
            )
            self.fault(
                what, node, "add it; what the navigation leads to is not checkable till then", "warning"
            )
        dependent, pairs = self.apart.constraints.get(association, ("", ()))
        return Navigation(
            name,
            target,
            multiplicity == "*",
            multiplicity != "1",
            False,
            place,
            "",
            pairs if dependent == other else (),
            f"{association}/{end}",
            notes,
            multiplicity == "*" and self.apart.ends.get((association, other), ("", ""))[1] == "1",
        )

    def association(self, node: ET.Element, name: str) -> None:
        """V2 and V3: the ends of an association, and what must be the same at both (CSDL 2.0, section
        2.1.10).
        """
        for child in node:
            if local(child.tag) == "End":
                target = self.names.qualified(child.get("Type", ""))
                self.apart.ends[name, child.get("Role", "")] = target, child.get("Multiplicity", "")
            elif local(child.tag) == "ReferentialConstraint":
                sides = {local(side.tag): side for side in child}
                principal, dependent = sides.get("Principal"), sides.get("Dependent")
                if principal is not None and dependent is not None:
                    pairs = zip(_names(dependent), _names(principal))
                    self.apart.constraints[name] = dependent.get("Role", ""), tuple(pairs)

    def enumeration(self, node: ET.Element, name: str) -> EnumType:
        """An enumeration (section 10)."""
        members: list[tuple[str, int, Location]] = []
        for child in node:
            if local(child.tag) == "Member":
                text = child.get("Value", "")
                value = (
                    int(text) if re.fullmatch(r"-?\d{1,20}", text) else (members[-1][1] + 1 if members else 0)
                )
                members.append((child.get("Name", ""), value, self.place(child)))
        underlying = self.names.qualified(node.get("UnderlyingType", "Edm.Int32"))
        return EnumType(name, underlying, _true(node.get("IsFlags")), tuple(members), self.place(node))

    def callable(self, node: ET.Element, name: str, action: bool) -> Callable:
        """One overload of an action or function (section 12)."""
        parameters, returns = [], None
        for child in node:
            if local(child.tag) == "Parameter":
                notes = self.annotations(child, "")
                optional = "Core.OptionalParameter" in notes
                parameters.append(
                    Parameter(child.get("Name", ""), self.use(child), self.place(child), optional, notes)
                )
            elif local(child.tag) == "ReturnType":
                returns = self.use(child)
        return Callable(
            name,
            action,
            _true(node.get("IsBound")),
            _true(node.get("IsComposable")),
            tuple(parameters),
            returns,
            self.place(node),
            node.get("EntitySetPath", ""),
            "",
            self.annotations(node, name),
        )

    # The container.

    def container(self, node: ET.Element, name: str) -> None:
        """The entity container (section 13)."""
        self.model.title = self.model.title or node.get("Name", "")
        self.model.container = {**self.model.container, **self.annotations(node, name)}
        ends = {
            (self.names.qualified(child.get("Association", "")), end.get("Role", "")): end.get(
                "EntitySet", ""
            )
            for child in node
            if local(child.tag) == "AssociationSet"
            for end in child
        }
        for one in node:
            kind = local(one.tag)
            if kind in ("EntitySet", "Singleton"):
                self.entity_set(one, name, kind == "Singleton", ends)
            elif kind in ("ActionImport", "FunctionImport"):
                self.imported(one, name, kind)

    def entity_set(
        self, node: ET.Element, container: str, singleton: bool, ends: dict[tuple[str, str], str]
    ) -> None:
        """An entity set or singleton (sections 13.2 and 13.3)."""
        name = node.get("Name", "")
        type_name = self.names.qualified(node.get("EntityType") or node.get("Type") or "")
        bindings = [
            (child.get("Path", ""), child.get("Target", "").rpartition("/")[2])
            for child in node
            if local(child.tag) == "NavigationPropertyBinding"
        ]
        bindings += [(f"{association}/{role}", target) for (association, role), target in ends.items()]
        if name in self.model.sets:
            self.fault(f"{name} is declared twice; the first counts", node, "rename one of them", "warning")
            return
        notes = self.annotations(node, f"{container}/{name}")
        self.model.sets[name] = EntitySet(
            name, type_name, singleton, tuple(bindings), self.place(node), notes
        )

    def imported(self, node: ET.Element, container: str, kind: str) -> None:
        """An action or function import (sections 13.5 and 13.6), or a function import of V2, which declares
        all by itself.
        """
        name = node.get("Name", "")
        target = node.get("Action") or node.get("Function")
        place = self.place(node)
        if target is not None:
            self.model.imports[name] = Import(
                name, self.names.qualified(target), node.get("EntitySet", "").rpartition("/")[2], place
            )
            return
        parameters = [
            Parameter(child.get("Name", ""), self.use(child), self.place(child), _true(child.get("Nullable")))
            for child in node
            if local(child.tag) == "Parameter" and child.get("Mode", "In") != "Out"
        ]
        inner = next((child for child in node if local(child.tag) == "ReturnType"), None)
        returns = (
            self.use(node, "ReturnType")
            if node.get("ReturnType")
            else self.use(inner)
            if inner is not None
            else None
        )
        method = (_meta(node, "HttpMethod") or "GET").upper()
        action = method not in ("GET", "HEAD") or _true(node.get("IsSideEffecting"))
        notes = self.annotations(node, f"{container}/{name}")
        one = Callable(name, action, False, False, tuple(parameters), returns, place, "", method, notes)
        self.model.callables.setdefault(name, []).append(one)
        self.model.imports[name] = Import(name, name, node.get("EntitySet", ""), place)

    # Annotations.

    def annotations(self, node: ET.Element, target: str) -> dict[str, Any]:
        return (
            {**self.apart.annotations.get(target, {}), **self.inner_annotations(node)}
            if target
            else self.inner_annotations(node)
        )

    def inner_annotations(self, node: ET.Element) -> dict[str, Any]:
        """The annotations within an element, and those of annotations as `TERM@TERM`."""
        found: dict[str, Any] = {}
        for child in node:
            if local(child.tag) == "Annotation" and not child.get("Qualifier"):
                term = self.names.term(child.get("Term", ""))
                found[term] = value_of(child, self.names)
                for about in child:  # an annotation of an annotation
                    if local(about.tag) == "Annotation":
                        found[f"{term}@{self.names.term(about.get('Term', ''))}"] = value_of(
                            about, self.names
                        )
        return found


def _names(node: ET.Element) -> Iterator[str]:
    return (child.get("Name", "") for child in node if local(child.tag) == "PropertyRef")


def _true(text: str | None) -> bool:
    return text is not None and text.strip().lower() in ("true", "1")


def _meta(node: ET.Element, name: str) -> str | None:
    """An attribute of the metadata namespace of V1 to V3 (`m:HttpMethod`)."""
    return next((text for key, text in node.attrib.items() if local(key) == name), None)
