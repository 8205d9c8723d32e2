"""The documents of one WSDL: loaded as imports and includes lead to them, and what they define, by kind and
name.
"""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Iterable
from dataclasses import dataclass

from juxtalogos.documents.uris import join_uri
from juxtalogos.documents.xmltext import local
from juxtalogos.documents.xmltree import XmlTree, resolve_name
from juxtalogos.formats.soap.names import ENCODING_11, w
from juxtalogos.formats.soap.wire.encoding import add_encoding, array_items
from juxtalogos.model.contract import DefinitionFault
from juxtalogos.model.document import Document
from juxtalogos.model.errors import DocumentError, quoted
from juxtalogos.model.format import Fetch
from juxtalogos.model.location import Location
from juxtalogos.schema.xml.tree.builtins import BUILTINS
from juxtalogos.schema.xml.tree.simple_types import XSD
from juxtalogos.schema.xml.tree.sources import SCHEMA, Sources, schemas_in
from juxtalogos.schema.xml.tree.xml_attributes import WELL_KNOWN, add_well_known

MAX_DOCUMENTS = 2_000
_SCHEMA_LINKS = tuple(f"{{{XSD}}}{kind}" for kind in ("include", "import", "redefine"))
DEFINED = ("message", "portType", "binding", "service")


@dataclass(frozen=True, slots=True, eq=False)
class Defined:
    """A message, port type, binding or service where it stands."""

    node: ET.Element
    uri: str
    tree: XmlTree
    namespace: str

    def place(self, node: ET.Element | None = None, attribute: str = "") -> Location:
        """Where a node, or an attribute of it, stands; the definition itself without one."""
        path = self.tree.path(self.node if node is None else node)
        return Location(self.uri, path + (f"/@{attribute}" if attribute else ""))

    def name(self, node: ET.Element, attribute: str) -> str | None:
        """A name in an attribute as `{namespace}local`; None when it is not there or its prefix is not
        declared.
        """
        text = node.get(attribute)
        return resolve_name(text, self.tree.scope(node)) if text is not None else None


class Documents:
    """Documents by URI; definitions by kind and name; the faults met on the way."""

    def __init__(self, root: str) -> None:
        self.root = root
        self.by_uri: dict[str, Document] = {}
        self.missing: dict[str, DocumentError] = {}
        self.defined: dict[tuple[str, str], Defined] = {}
        self._faults: dict[DefinitionFault, None] = {}
        self._sources: Sources | None = None

    @classmethod
    def fetched(cls, root: str, fetch: Fetch, others: Iterable[str] = ()) -> Documents:
        """The documents of a WSDL, all imports and includes followed."""
        made = cls(root)
        made._load(fetch, [(root, None)])
        made._find(fetch, others)
        made._index()
        return made

    @classmethod
    def of(cls, root: str, documents: dict[str, Document]) -> Documents:
        """Of a contract that was read before."""
        made = cls(root)
        made.by_uri = documents
        made._index()
        return made

    def tree(self, uri: str) -> XmlTree | None:
        """A document as a tree; None when it cannot be read, which is noted."""
        document = self.by_uri.get(uri)
        return document.value if document is not None and isinstance(document.value, XmlTree) else None

    def fault(self, what: str, location: Location, mend: str, severity: str = "fault") -> None:
        """Notes something wrong with the definition, once."""
        self._faults[DefinitionFault(what, location, mend, severity)] = None

    @property
    def faults(self) -> tuple[DefinitionFault, ...]:
        return tuple(self._faults)

    def _load(self, fetch: Fetch, waiting: list[tuple[str, Location | None]]) -> None:
        """Documents and all that they lead to, each with the place that led to it."""
        while waiting:
            uri, place = waiting.pop(0)
            if uri in self.by_uri:
                continue
            if uri in self.missing:
                self._not_read(uri, place)
                continue
            if len(self.by_uri) >= MAX_DOCUMENTS:
                raise DocumentError(
                    f"more than {MAX_DOCUMENTS} documents",
                    where=self.root,
                    mend="import its parts one by one, from a file that refers to fewer",
                )
            try:
                document = fetch(uri)
                if not isinstance(document.value, XmlTree):
                    raise DocumentError(
                        f"this is {document.syntax.upper()}, not XML",
                        where=uri,
                        mend="give the file that is meant, or take the reference to it out",
                    )
            except DocumentError as error:
                if uri == self.root:
                    raise
                self.missing[uri] = error
                self._not_read(uri, place)
                continue
            self.by_uri[uri] = document
            waiting += _links(uri, document.value)

    def _find(self, fetch: Fetch, others: Iterable[str]) -> None:
        """Schemas that an import names by their namespace alone, among the documents at hand."""
        wanted = self._unlocated()
        for uri in others if wanted else ():
            if uri in self.by_uri or not uri.lower().endswith((".xsd", ".xml")):
                continue
            try:
                document = fetch(uri)
            except DocumentError:
                continue
            tree = document.value
            if (
                isinstance(tree, XmlTree)
                and tree.root.tag == SCHEMA
                and tree.root.get("targetNamespace", "") in wanted
            ):
                self._load(fetch, [(uri, None)])

    def _unlocated(self) -> set[str]:
        """Namespaces imported without a location that none of the documents has."""
        trees = [document.value for document in self.by_uri.values()]
        nodes = [
            node
            for tree in trees
            for node in tree.root.iter(f"{{{XSD}}}import")
            if not node.get("schemaLocation")
        ]
        known = {node.get("targetNamespace", "") for tree in trees for node in schemas_in(tree)}
        return {node.get("namespace", "") for node in nodes} - known - set(WELL_KNOWN) - {ENCODING_11}

    def _not_read(self, uri: str, place: Location | None) -> None:
        if place is not None:
            error = self.missing[uri]
            self.fault(
                f"{quoted(uri)}: {error.what}", place, error.mend or "correct the reference or add the file"
            )

    def _index(self) -> None:
        for uri, document in self.by_uri.items():
            tree = document.value
            if not isinstance(tree, XmlTree) or tree.root.tag != w("definitions"):
                continue
            namespace = tree.root.get("targetNamespace", "")
            for node in tree.root:
                kind = local(node.tag)
                name = node.get("name")
                if kind not in DEFINED or node.tag != w(kind) or not name:
                    continue
                one = Defined(node, uri, tree, namespace)
                key = (kind, f"{{{namespace}}}{name}" if namespace else name)
                if key in self.defined:
                    self.fault(
                        f"{kind} {quoted(name)} is defined twice", one.place(), "remove or rename one of them"
                    )
                else:
                    self.defined[key] = one

    def declared(self, kind: str, name: str) -> bool:
        """Whether a schema declares an element or type."""
        if kind == "type" and name.startswith(f"{{{XSD}}}"):
            return name.partition("}")[2] in BUILTINS or name.endswith("}anyType")
        return (kind, name) in self.schemas().entries

    def schemas(self) -> Sources:
        """Every schema in the documents, those that nobody refers to as well."""
        if self._sources is None:
            self._sources = self._read_schemas()
        return self._sources

    def _read_schemas(self) -> Sources:
        sources = Sources(self.tree, technical=frozenset((ENCODING_11,)))
        for uri in self.by_uri:
            tree = self.tree(uri)
            if tree is not None and ENCODING_11.encode() in self.by_uri[uri].text:
                array_items(tree)
            if tree is not None and tree.root.tag != SCHEMA:
                sources.add(uri, tree, schemas_in(tree))
        for uri in self.by_uri:  # those that were found by their namespace
            tree = self.tree(uri)
            if tree is not None and tree.root.tag == SCHEMA and uri not in sources.uris():
                sources.add(uri, tree, [tree.root])
        add_encoding(sources)
        add_well_known(sources)
        return sources


def _links(uri: str, tree: XmlTree) -> list[tuple[str, Location | None]]:
    """(document, the place that leads to it) of every import and include."""
    found: list[tuple[str, Location | None]] = []
    for node in tree.root.iter():
        if node.tag == w("import"):
            text = node.get("location")
        elif node.tag in _SCHEMA_LINKS:
            text = node.get("schemaLocation")
            if node.get("namespace") in (*WELL_KNOWN, ENCODING_11) and "://" in (text or ""):
                continue  # what is known of it needs no asking elsewhere
        else:
            continue
        if text and text.strip():
            where = "location" if node.tag == w("import") else "schemaLocation"
            found.append((join_uri(uri, text.strip()), Location(uri, f"{tree.path(node)}/@{where}")))
    return found
