"""CSDL JSON 4.01 -> model.

Defaults differ from those of XML: nothing is nullable, and a type is a text, unless it says otherwise.
"""

from __future__ import annotations

from typing import Any

from juxtalogos.formats.odata.csdl import (
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
from juxtalogos.formats.odata.definition.documents import Documents, Names, names_of
from juxtalogos.formats.odata.definition.facets import facets_of
from juxtalogos.model.document import Document
from juxtalogos.model.location import Location

MAX_DEPTH = 20


class JsonReader:
    """Reads the schemas of one document into a model."""

    def __init__(self, model: Model, documents: Documents, document: Document) -> None:
        self.model = model
        self.documents = documents
        self.document = document
        self.names: Names = names_of(document)
        self.apart = documents.apart

    def schemas(self) -> dict[str, dict[str, Any]]:
        return {
            space: schema
            for space, schema in self.document.value.items()
            if not space.startswith("$") and "@" not in space and isinstance(schema, dict)
        }

    def gather(self) -> None:
        """Annotations that stand apart."""
        for schema in self.schemas().values():
            apart = schema.get("$Annotations")
            for target, notes in apart.items() if isinstance(apart, dict) else ():
                if isinstance(notes, dict):
                    known = self.apart.annotations.setdefault(self.names.qualified_path(target), {})
                    known.update(self.inner(notes))

    def read(self) -> None:
        """Everything that is declared; to be called when all documents were gathered."""
        root = Location(self.document.uri)
        for space, schema in self.schemas().items():
            for name, value in schema.items():
                if not name.startswith("$") and "@" not in name:
                    self.declaration(f"{space}.{name}", value, root.child(space, name))

    def fault(self, what: str, place: Location, mend: str, severity: str = "fault") -> None:
        self.documents.fault(what, place, mend, severity)

    def declaration(self, name: str, value: Any, place: Location) -> None:
        """One member of a schema, by its `$Kind` (CSDL JSON 4.01, section 5)."""
        if isinstance(value, list):
            self.model.callables.setdefault(name, []).extend(
                self.callable(name, one, place.child(index))
                for index, one in enumerate(value)
                if isinstance(one, dict)
            )
            return
        kind = value.get("$Kind") if isinstance(value, dict) else None
        if kind in ("EntityType", "ComplexType"):
            self.model.types[name] = self.structured(name, value, place, kind == "EntityType")
        elif kind == "EnumType":
            self.model.types[name] = self.enumeration(name, value, place)
        elif kind == "TypeDefinition":
            use = facets_of(
                TypeUse(self.names.qualified(_text(value, "$UnderlyingType") or "Edm.String")), _facets(value)
            )
            self.model.types[name] = TypeDefinition(name, use, place, self.notes(value, name))
        elif kind == "EntityContainer":
            self.container(name, value, place)
        elif kind != "Term":
            self.fault(f"{name} is of no known kind", place, "give it a $Kind such as EntityType", "warning")

    def structured(self, name: str, value: dict[str, Any], place: Location, entity: bool) -> StructuredType:
        """An entity or complex type (sections 6 and 9)."""
        properties, navigation, key = [], [], []
        for part in value.get("$Key") or () if isinstance(value.get("$Key"), list) else ():
            if isinstance(part, str):
                key.append(KeyPart(part.replace("/", "_"), part))
            elif isinstance(part, dict):
                key += [KeyPart(alias, str(path)) for alias, path in part.items()]
        for inner, one in value.items():
            if inner.startswith("$") or "@" in inner or not isinstance(one, dict):
                continue
            at, notes = place.child(inner), self.notes(one, f"{name}/{inner}")
            if one.get("$Kind") == "NavigationProperty":
                navigation.append(self.navigation(inner, one, at, notes))
            else:
                properties.append(Property(inner, self.use(one), at, notes))
        base = self.names.qualified(_text(value, "$BaseType"))
        return StructuredType(
            name,
            entity,
            base,
            value.get("$Abstract") is True,
            value.get("$OpenType") is True,
            value.get("$HasStream") is True,
            tuple(key),
            tuple(properties),
            tuple(navigation),
            place,
            self.notes(value, name),
        )

    def navigation(
        self, name: str, value: dict[str, Any], place: Location, notes: dict[str, Any]
    ) -> Navigation:
        """A navigation property (section 8)."""
        found = value.get("$ReferentialConstraint")
        pairs = found.items() if isinstance(found, dict) else ()
        use = self.use(value)
        return Navigation(
            name,
            use.name,
            use.collection,
            use.nullable and not use.collection,
            value.get("$ContainsTarget") is True,
            place,
            _text(value, "$Partner"),
            tuple((one, str(other)) for one, other in pairs if "@" not in one),
            "",
            notes,
        )

    def use(self, value: dict[str, Any]) -> TypeUse:
        """The type that a member is declared with (section 7.1)."""
        name = self.names.qualified(_text(value, "$Type") or "Edm.String")
        return facets_of(TypeUse(name, value.get("$Collection") is True), _facets(value))

    def enumeration(self, name: str, value: dict[str, Any], place: Location) -> EnumType:
        """An enumeration (section 10)."""
        members = tuple(
            (member, number, place.child(member))
            for member, number in value.items()
            if isinstance(number, int) and not isinstance(number, bool) and "@" not in member
        )
        return EnumType(
            name,
            _text(value, "$UnderlyingType") or "Edm.Int32",
            value.get("$IsFlags") is True,
            members,
            place,
        )

    def callable(self, name: str, value: dict[str, Any], place: Location) -> Callable:
        """One overload of an action or function (section 12)."""
        parameters = []
        given = value.get("$Parameter")
        for index, one in enumerate(given if isinstance(given, list) else ()):
            if isinstance(one, dict):
                notes = self.inner(one)
                at = place.child("$Parameter", index)
                parameters.append(
                    Parameter(
                        _text(one, "$Name"), self.use(one), at, "Core.OptionalParameter" in notes, notes
                    )
                )
        returned = value.get("$ReturnType")
        return Callable(
            name,
            value.get("$Kind") == "Action",
            value.get("$IsBound") is True,
            value.get("$IsComposable") is True,
            tuple(parameters),
            self.use(returned) if isinstance(returned, dict) else None,
            place,
            _text(value, "$EntitySetPath"),
            "",
            self.notes(value, name),
        )

    def container(self, name: str, value: dict[str, Any], place: Location) -> None:
        """The entity container (section 13)."""
        self.model.title = self.model.title or name.rpartition(".")[2]
        self.model.container = {**self.model.container, **self.notes(value, name)}
        for inner, one in value.items():
            if inner.startswith("$") or "@" in inner or not isinstance(one, dict):
                continue
            at = place.child(inner)
            target = one.get("$Action") or one.get("$Function")
            if isinstance(target, str):
                self.model.imports[inner] = Import(
                    inner, self.names.qualified(target), _text(one, "$EntitySet").rpartition("/")[2], at
                )
                continue
            bound = one.get("$NavigationPropertyBinding")
            pairs = bound.items() if isinstance(bound, dict) else ()
            self.model.sets[inner] = EntitySet(
                inner,
                self.names.qualified(_text(one, "$Type")),
                one.get("$Collection") is not True,
                tuple((path, str(other).rpartition("/")[2]) for path, other in pairs),
                at,
                self.notes(one, f"{name}/{inner}"),
            )

    def notes(self, value: dict[str, Any], target: str) -> dict[str, Any]:
        return {**self.apart.annotations.get(target, {}), **self.inner(value)}

    def inner(self, value: dict[str, Any]) -> dict[str, Any]:
        """The annotations among a value's members."""
        return {
            "@".join(map(self.names.term, key[1:].split("@"))): _plain(item)
            for key, item in value.items()
            if key[:1] == "@" and "#" not in key
        }


def _plain(value: Any, depth: int = 0) -> Any:
    """An annotation's value: paths as texts, members of enumerations by name (CSDL JSON 4.01, section 14)."""
    if depth > MAX_DEPTH:
        return None
    if isinstance(value, list):
        return [_plain(member, depth + 1) for member in value]
    if isinstance(value, dict):
        if len(value) == 1 and isinstance(value.get("$Path"), str):
            return value["$Path"]
        return {key: _plain(one, depth + 1) for key, one in value.items() if "@" not in key}
    return value


def _facets(value: dict[str, Any]) -> dict[str, Any]:
    found = {key[1:]: one for key, one in value.items() if key[:1] == "$"}
    found["Nullable"] = value.get("$Nullable") is True
    return found


def _text(value: dict[str, Any], key: str) -> str:
    found = value.get(key)
    return found if isinstance(found, str) else ""
