"""Reading: metadata -> a Contract, every operation by the protocol, with all faults of the metadata."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import replace

from juxtalogos.documents.collector import collector_paused
from juxtalogos.documents.xmltree import XmlTree
from juxtalogos.formats.odata.csdl import Model
from juxtalogos.formats.odata.definition.builder import FORGERY, LOGIN, TOKEN, Builder
from juxtalogos.formats.odata.definition.calls import CallOperations
from juxtalogos.formats.odata.definition.documents import Documents
from juxtalogos.formats.odata.definition.model_reader import read_model
from juxtalogos.formats.odata.definition.operations import EntityOperations
from juxtalogos.formats.odata.schemas.engine import CsdlEngine
from juxtalogos.model.contract import Contract, Operation, SecurityScheme
from juxtalogos.model.errors import DocumentError
from juxtalogos.model.format import Fetch
from juxtalogos.model.location import Location

DEFAULT_FORGERY_HEADER = "X-CSRF-Token"


def read(name: str, root: str, fetch: Fetch, others: Iterable[str] = ()) -> Contract:
    """The contract of a service's metadata; DocumentError only when nothing of it can be used."""
    with collector_paused():
        documents = Documents(root, fetch)
        documents.load_all()
        model = read_model(documents)
        place = _top(documents)
        operations = tuple(_named(_operations(Builder(name, model), place)))
        if not operations:
            raise _unusable(documents)
        engine = CsdlEngine(documents.by_uri, "")
        return Contract(
            name,
            "odata",
            f"OData {model.version}",
            model.title,
            operations,
            documents.by_uri,
            root,
            engine,
            faults=documents.faults,
            security_schemes=_schemes(Location(root)),
            columns=("method", "path"),
            by_subject=True,
        )


def _top(documents: Documents) -> Location:
    value = documents.by_uri[documents.root].value
    return Location(documents.root, value.path(value.root) if isinstance(value, XmlTree) else "")


def _operations(builder: Builder, place: Location) -> Iterator[Operation]:
    model: Model = builder.model
    entities, calls = EntityOperations(builder), CallOperations(builder)
    for entity_set in model.sets.values():
        stop = builder.stop_of(entity_set)
        yield from entities.of_set(stop)
        if model.structured(entity_set.type) is not None:
            item = builder.item_path(stop) if stop.collection else (stop.path, stop.keys)
            yield from calls.bound(stop, item)
    for imported in model.imports.values():
        yield from calls.imported(imported)
    if model.sets or model.imports:
        yield from calls.batch(place)


def _named(operations: Iterable[Operation]) -> Iterator[Operation]:
    """Ids that are unique, and that everything may be called by."""
    taken: set[str] = set()
    for operation in operations:
        base = name = re.sub(r"[\s{}#]", "-", operation.id)
        number = 2
        while name in taken:
            name, number = f"{base}.{number}", number + 1
        taken.add(name)
        yield operation if name == operation.id else replace(operation, id=name, declared_id=name)


def _schemes(place: Location) -> tuple[SecurityScheme, ...]:
    """Metadata does not say how to sign in: these are the ways that a target may choose of."""
    return (
        SecurityScheme(LOGIN, "basic", "", "", place, "HTTP basic authentication"),
        SecurityScheme(TOKEN, "bearer", "", "", place, "a bearer token"),
        SecurityScheme(
            FORGERY,
            "anti-forgery",
            "header",
            DEFAULT_FORGERY_HEADER,
            place,
            "a token against forged requests, fetched before the first change",
        ),
    )


def _unusable(documents: Documents) -> DocumentError:
    first = next((fault for fault in documents.faults if fault.severity == "fault"), None)
    what = (
        f": {first.what}" if first else ": it has no entity set, singleton, action import or function import"
    )
    mend = (
        first.mend if first else "give the metadata that has the EntityContainer, with all that it refers to"
    )
    return DocumentError(f"no operation of this metadata can be used{what}", where=documents.root, mend=mend)
