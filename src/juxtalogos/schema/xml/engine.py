"""The library's face: XSD files (or the schemas inside WSDL files) -> what checks, accepts and samples
documents.
"""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any

from juxtalogos.documents.bounds import MAX_BYTES
from juxtalogos.documents.uris import join_uri
from juxtalogos.documents.xmltext import NotXml, local
from juxtalogos.documents.xmltree import XmlTree, read_tree
from juxtalogos.model.contract import DefinitionFault
from juxtalogos.model.errors import DocumentError, UsageError, nearest
from juxtalogos.model.findings import Deviation
from juxtalogos.schema.xml.check.soundness import warn
from juxtalogos.schema.xml.compile.fast_check import Fast, examine
from juxtalogos.schema.xml.make.sample import sample_element
from juxtalogos.schema.xml.tell.text import to_text
from juxtalogos.schema.xml.tree.builtins import nowhere
from juxtalogos.schema.xml.tree.components import ElementDecl
from juxtalogos.schema.xml.tree.reader import SchemaReader
from juxtalogos.schema.xml.tree.simple_types import XSD
from juxtalogos.schema.xml.tree.sources import Sources, schemas_in
from juxtalogos.schema.xml.tree.xml_attributes import add_well_known

_LEADS = tuple(f"{{{XSD}}}{kind}" for kind in ("include", "import", "redefine"))


class SchemaSet:
    """Schemas compiled together.

    Documents are bytes or parsed elements; any global element may be the root.
    """

    def __init__(self, reader: SchemaReader) -> None:
        self.reader = reader
        self.fast = Fast(reader)

    @property
    def faults(self) -> tuple[DefinitionFault, ...]:
        """What is wrong with the schemas themselves."""
        return tuple(self.reader.sources.faults)

    def check(self, document: bytes | str | ET.Element) -> tuple[Deviation, ...]:
        """Every deviation, its `path` an XPath of local names from the root on; NotXml when it is no XML."""
        return self.examine(_tree(document))[0]

    def examine(self, tree: XmlTree) -> tuple[tuple[Deviation, ...], set[Any]]:
        """(deviations, what was exercised) of a document that was parsed."""
        root = tree.root
        name, declared = local(root.tag), self.reader.element(root.tag)
        if declared is None:
            known = [local(one) for kind, one in self.reader.sources.entries if kind == "element"]
            what = f"an element that a schema declares ({nearest(name, known)})"
            return (Deviation(f"/{name}", "undeclared", nowhere(), what, root.tag),), set()
        found, hits = examine(self.fast, root, declared, tree.scope)
        return tuple(replace(item, path=f"/{name}{item.path}") for item in found), hits

    def accepts(self, document: bytes | str | ET.Element) -> bool:
        """Whether a document has no deviation."""
        try:
            return all(one.advisory for one in self.check(document))
        except NotXml:
            return False

    def sample(self, name: str, *, full: bool = False, seed: int = 0) -> bytes:
        """A document with that root, valid; UsageError when there is no such element, Unsampleable when none
        is found.
        """
        made = sample_element(self.reader, self.element(name), full=full, seed=seed)
        return to_text(made, self.reader.prefixes).encode()

    def element(self, name: str) -> ElementDecl:
        """A global element by `{namespace}local`, or by its local name where that is unique.

        UsageError else.
        """
        known = [one for kind, one in self.reader.sources.entries if kind == "element"]
        likes = [entry for entry in known if name in (entry, local(entry))]
        found = self.reader.element(likes[0]) if len(likes) == 1 else None
        if found is None:
            raise UsageError(f"there is no one element {name}", mend=nearest(name, known))
        return found


def compile_schemas(paths: Iterable[str | Path]) -> SchemaSet:
    """A `SchemaSet` of XSD or WSDL files and all that they include and import.

    DocumentError when a file cannot be read.
    """
    trees: dict[str, XmlTree] = {}
    missing: dict[str, DocumentError] = {}

    def tree_of(uri: str) -> XmlTree | None:
        if uri not in trees and uri not in missing and "://" not in uri:
            try:
                trees[uri] = load_tree(Path(uri), uri)
            except DocumentError as error:
                missing[uri] = error
        return trees.get(uri)

    sources = Sources(tree_of)
    for path in paths:
        uri = Path(path).as_posix()
        trees[uri] = load_tree(Path(path), uri)
        sources.add(uri, trees[uri], schemas_in(trees[uri]))
        for node in trees[uri].root.iter("{http://schemas.xmlsoap.org/wsdl/}import"):
            below = tree_of(join_uri(uri, node.get("location", "")))
            if below is not None:
                sources.add(join_uri(uri, node.get("location", "")), below, schemas_in(below))
    add_well_known(sources)
    reader = SchemaReader(sources)
    reader.everything()
    warn(reader)
    return SchemaSet(reader)


def load_tree(path: Path, uri: str) -> XmlTree:
    """The tree of a file; DocumentError when it is no XML."""
    try:
        data = path.read_bytes()
    except OSError as error:
        raise DocumentError(
            f"the file cannot be read: {error.strerror}",
            where=str(path),
            mend="check its path and permissions",
        ) from None
    if len(data) > MAX_BYTES:
        raise DocumentError(
            f"{len(data):,} bytes is more than the limit of {MAX_BYTES:,}",
            where=str(path),
            mend="split it over several files",
        )
    try:
        return read_tree(data)
    except NotXml as error:
        where = f"{uri}:{error.line}" if error.line else uri
        raise DocumentError(f"not XML: {error}", where=where, mend="correct the text there") from None


def _tree(document: bytes | str | ET.Element) -> XmlTree:
    if isinstance(document, ET.Element):
        return XmlTree(document, {})
    return read_tree(document.encode() if isinstance(document, str) else document)
