"""All documents of one service -> one model, with everything that cannot be resolved in it listed."""

from __future__ import annotations

import re
from collections.abc import Mapping
from weakref import WeakKeyDictionary

from juxtalogos.documents.xmltext import local
from juxtalogos.documents.xmltree import XmlTree
from juxtalogos.formats.odata.csdl import Model, Navigation, Property, StructuredType, TypeDefinition, TypeUse
from juxtalogos.formats.odata.definition.documents import Documents, schemas_of
from juxtalogos.formats.odata.definition.json_reader import JsonReader
from juxtalogos.formats.odata.definition.xml_reader import XmlReader
from juxtalogos.formats.odata.primitives import PRIMITIVES
from juxtalogos.model.document import Document
from juxtalogos.model.errors import nearest, quoted
from juxtalogos.model.location import Location

_models: WeakKeyDictionary[Document, Model] = WeakKeyDictionary()


def model_of(by_uri: Mapping[str, Document]) -> Model:
    """The model of documents that were read before, the root first; made once for them."""
    root = next(iter(by_uri.values()))
    found = _models.get(root)
    if found is None:
        documents = Documents(root.uri, None)
        documents.by_uri.update(by_uri)
        found = read_model(documents)
    return found


def read_model(documents: Documents) -> Model:
    """The model; what is wrong with the metadata is noted in `documents`."""
    root = documents.by_uri[documents.root]
    model = Model(_version(root, documents))
    readers: list[XmlReader | JsonReader] = []
    for document in documents.by_uri.values():
        if isinstance(document.value, XmlTree):
            readers.append(XmlReader(model, documents, document))
        elif isinstance(document.value, dict):
            readers.append(JsonReader(model, documents, document))
    for reader in readers:
        reader.gather()
    for reader in readers:
        reader.read()
    _Soundness(model, documents).look()
    _models[root] = model
    return model


def _version(root: Document, documents: Documents) -> str:
    """The protocol's version by which the service is spoken to (CSDL 4.0, section 3.1; CSDL 2.0 with its
    `DataServiceVersion`).
    """
    if not isinstance(root.value, XmlTree):
        told = str(root.value["$Version"])
        return told if told.startswith("4") else "4.01"
    node = root.value.root
    told = node.get("Version", "") if local(node.tag) == "Edmx" else ""
    if told.startswith("4"):
        return "4.01" if told != "4.0" else "4.0"
    spaces = {operation.tag[1:].partition("}")[0] for operation in schemas_of(root.value)}
    if any("docs.oasis-open.org/odata" in space for space in spaces):
        place = Location(documents.root, root.value.path(node))
        if told:
            documents.fault(
                f"the version is {quoted(told)}, the schema is one of V4",
                place,
                "correct the Version",
                "warning",
            )
        return "4.0"
    services = next((child for child in node.iter() if local(child.tag) == "DataServices"), node)
    data = " ".join(
        text for key, text in services.attrib.items() if local(key).endswith("DataServiceVersion")
    )
    third = re.search(r"(?:^|\s)3\.", data) or any("/2009/" in space for space in spaces)
    if told and not told.startswith(("1", "2", "3")):
        place = Location(documents.root, root.value.path(node))
        documents.fault(
            f"the version {quoted(told)} is none that is known", place, "it is read as V4", "warning"
        )
        return "4.01"
    return "3.0" if third else "2.0"


class _Soundness:
    """Names that lead nowhere and types that are derived from themselves: told once each,
    and not checkable.
    """

    def __init__(self, model: Model, documents: Documents) -> None:
        self.model = model
        self.documents = documents
        self.known = {type_.rpartition(".")[2].lower(): type_ for type_ in model.types}

    def look(self) -> None:
        for name, one in self.model.types.items():
            if isinstance(one, StructuredType):
                self.structured(name, one)
            elif isinstance(one, TypeDefinition):
                self.use(one.underlying, name, one.place)
        for name, overloads in self.model.callables.items():
            for each in overloads:
                for given in each.parameters:
                    self.use(given.type, f"the parameter {given.name} of {name}", given.place)
                if each.returns:
                    self.use(each.returns, f"what {name} returns", each.place)
        for name, one_set in self.model.sets.items():
            if self.model.structured(one_set.type) is None:
                self.nowhere(f"the type {quoted(one_set.type)} of {name}", one_set.type, one_set.place)
        for name, imported in self.model.imports.items():
            if imported.callable not in self.model.callables:
                self.nowhere(
                    f"what {name} calls, {quoted(imported.callable)},", imported.callable, imported.place
                )

    def structured(self, name: str, one: StructuredType) -> None:
        if one.base:
            if self.model.structured(one.base) is None:
                self.nowhere(f"the base type {quoted(one.base)} of {name}", one.base, one.place)
            self.model.derived.setdefault(one.base, []).append(name)
            if self.circular(name):
                self.documents.fault(
                    f"{name} is derived from itself",
                    one.place,
                    "correct its BaseType; what it inherits is left out",
                )
        if one.entity and not one.abstract and not self.model.key(name):
            self.documents.fault(
                f"the entity type {name} has no key",
                one.place,
                "give it one: its entities cannot be addressed",
                "warning",
            )
        names = [each.name for each in self.model.properties(name)]
        for part in one.key:
            if part.path.partition("/")[0] not in names:
                self.documents.fault(
                    f"the key of {name} names {quoted(part.path)}, which is no property of it",
                    one.place,
                    nearest(part.path, names),
                )
        seen: set[str] = set()
        members: tuple[Property | Navigation, ...] = (*one.own_properties, *one.own_navigation)
        for each in members:
            if each.name in seen:
                self.documents.fault(
                    f"{name} has {quoted(each.name)} twice", each.place, "rename one of them", "warning"
                )
            seen.add(each.name)
            self.member(name, each)

    def member(self, owner: str, one: Property | Navigation) -> None:
        if isinstance(one, Property):
            self.use(one.type, f"{owner}/{one.name}", one.place)
        elif one.target and self.model.structured(one.target) is None and one.target not in PRIMITIVES:
            self.nowhere(f"the type {quoted(one.target)} of {owner}/{one.name}", one.target, one.place)

    def circular(self, name: str) -> bool:
        seen, at = set(), name
        while at and at not in seen:
            seen.add(at)
            found = self.model.structured(at)
            at = found.base if found else ""
        return bool(at) and at == name

    def use(self, use: TypeUse, what: str, place: Location) -> None:
        if use.name and use.name not in self.model.types and use.name not in PRIMITIVES:
            self.nowhere(f"the type {quoted(use.name)} of {what}", use.name, place)

    def nowhere(self, what: str, name: str, place: Location) -> None:
        alike = self.known.get(name.rpartition(".")[2].lower())
        mend = f"did you mean {alike}?" if alike else "declare it, or add the document that does"
        self.documents.fault(f"{what} is not there: not checkable", place, mend)
