"""Contracts that were read before: their index and their documents' values, keyed by content, in the user's
own cache.

Everything in it is JSON and numbers, nothing is executed; what cannot be used is read anew.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import shutil
import tempfile
from array import array
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, overload

from juxtalogos._version import VERSION
from juxtalogos.conventions import words
from juxtalogos.documents.collector import collector_paused
from juxtalogos.formats import FORMATS
from juxtalogos.model.contract import Contract, DefinitionFault, Operation, Outgoing, SecurityScheme
from juxtalogos.model.document import Document, Parsed
from juxtalogos.model.location import Marks
from juxtalogos.model.schema import Schema, SchemaEngine, SchemaRef
from juxtalogos.workspace.codec import decode, decoder, encode
from juxtalogos.workspace.usercache import cache_folder, private

FORMAT = 21
MAX_BYTES = 1024 * 1024 * 1024
_PARTS: dict[str, Any] = {
    "format": str,
    "version": str,
    "dialect": str,
    "title": str,
    "description": str,
    "servers": tuple[str, ...],
    "secret_fields": tuple[str, ...],
    "operations": tuple[Operation, ...],
    "faults": tuple[DefinitionFault, ...],
    "security_schemes": tuple[SecurityScheme, ...],
    "outgoing": tuple[Outgoing, ...],
    "namespaces": tuple[tuple[str, str], ...],
    "columns": tuple[str, ...],
    "by_subject": bool,
}
"""What of a contract is kept, with its types."""


@dataclass(frozen=True, slots=True)
class CachedDocuments:
    """A contract's documents as they lie in the workspace: their bytes by URI."""

    name: str
    root: str
    texts: Mapping[str, bytes]

    @property
    def key(self) -> str:
        """What tells these documents from all others."""
        digest = hashlib.sha256(f"{FORMAT}\0{VERSION}\0{self.name}\0{self.root}\0{words.digest()}".encode())
        for uri, text in sorted(self.texts.items()):
            digest.update(uri.encode("utf-8", "surrogatepass") + b"\0" + hashlib.sha256(text).digest())
        return digest.hexdigest()


def load(kept: CachedDocuments) -> Contract | None:
    """The contract as it was read before; None when it was not, or what is kept of it cannot be used."""
    folder = cache_folder("contracts") / kept.key
    try:
        with collector_paused():
            index = json.loads((folder / "index.json").read_bytes())
            documents = {
                uri: _document(folder, uri, entry, kept.texts[uri])
                for uri, entry in index["documents"].items()
            }
            operations = Operations(index["operations"])
            parts = {name: decode(kind, index[name]) for name, kind in _PARTS.items() if name != "operations"}
        if index["formatVersion"] and FORMATS[parts["format"]].version != index["formatVersion"]:
            return None
        engine = _Later(parts["format"], documents, parts["dialect"])
        with contextlib.suppress(OSError):
            os.utime(folder)  # the oldest go first
        return Contract(
            name=kept.name,
            root=kept.root,
            documents=documents,
            engine=engine,
            operations=operations,
            _index=operations.by_id(),
            **parts,
        )
    except (OSError, ValueError, KeyError, TypeError, LookupError, RecursionError):
        return None


class Operations(Sequence[Operation]):
    """The operations of a contract, each made when it is first looked at."""

    def __init__(self, rows: list[list[Any]]) -> None:
        self._rows: list[Any] = rows
        self._make = decoder(Operation)

    def __len__(self) -> int:
        return len(self._rows)

    @overload
    def __getitem__(self, index: int) -> Operation: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[Operation]: ...
    def __getitem__(self, index: int | slice) -> Operation | Sequence[Operation]:
        if isinstance(index, slice):
            return tuple(self[one] for one in range(*index.indices(len(self._rows))))
        found = self._rows[index]
        if type(found) is list:
            found = self._rows[index] = self._make(found)
        return found  # type: ignore[no-any-return]

    def by_id(self) -> Mapping[str, Operation]:
        return _ById(self, {row[0]: index for index, row in enumerate(self._rows)})


class _ById(Mapping[str, Operation]):
    def __init__(self, operations: Operations, indices: dict[str, int]) -> None:
        self._operations = operations
        self._indices = indices

    def __getitem__(self, identity: str) -> Operation:
        return self._operations[self._indices[identity]]

    def __iter__(self) -> Iterator[str]:
        return iter(self._indices)

    def __len__(self) -> int:
        return len(self._indices)


class _Later:
    """A schema engine made when the first schema is asked for: to list a contract's operations takes none."""

    def __init__(self, form: str, documents: Mapping[str, Document], dialect: str) -> None:
        self._made_of = form, documents, dialect
        self._engine: SchemaEngine | None = None
        self._asserted: bool | None = None

    def schema(self, ref: SchemaRef) -> Schema:
        if self._engine is None:
            form, documents, dialect = self._made_of
            self._engine = FORMATS[form].engine(documents, dialect)
            if self._asserted is not None:
                self._engine.assert_formats(self._asserted)
        return self._engine.schema(ref)

    def assert_formats(self, asserted: bool) -> None:
        self._asserted = asserted


def _document(folder: Path, uri: str, entry: dict[str, str], text: bytes) -> Document:
    return Document(uri, entry["syntax"], text, _reader(folder, entry, uri, text))


def _reader(folder: Path, entry: dict[str, str], uri: str, text: bytes) -> Callable[[], Parsed]:
    def read() -> Parsed:
        try:
            with collector_paused():
                if entry["value"] == "":  # JSON, of which is known that no name stands twice
                    return Parsed(json.loads(text.decode("utf-8-sig")))
                marks = Marks()
                data = (folder / f"{entry['value']}.marks").read_bytes()
                half = len(data) // 2
                marks.lines.frombytes(data[:half])
                marks.columns.frombytes(data[half:])
                return Parsed(json.loads((folder / f"{entry['value']}.json").read_bytes()), marks)
        except (OSError, ValueError, RecursionError):
            from juxtalogos.documents.load import load_document

            return load_document(uri, text).parsed

    return read


def save(contract: Contract) -> None:
    """Keeps what was read; a cache that cannot be written is done without."""
    kept = CachedDocuments(
        contract.name, contract.root, {uri: document.text for uri, document in contract.documents.items()}
    )
    try:
        _write(kept.key, contract)
        _prune()
    except (OSError, ValueError, TypeError, RecursionError):
        return


def _write(key: str, contract: Contract) -> None:
    base = private(cache_folder("contracts"))
    fresh = Path(tempfile.mkdtemp(dir=base, prefix=".new-"))
    try:
        documents = {
            uri: _keep(fresh, number, one) for number, (uri, one) in enumerate(contract.documents.items())
        }
        index = {
            "documents": documents,
            "formatVersion": FORMATS[contract.format].version,
            **{name: encode(kind, getattr(contract, name)) for name, kind in _PARTS.items()},
        }
        (fresh / "index.json").write_text(json.dumps(index, separators=(",", ":")), "ascii")
        shutil.rmtree(base / key, ignore_errors=True)
        fresh.rename(base / key)
    finally:
        shutil.rmtree(fresh, ignore_errors=True)


def _keep(folder: Path, number: int, document: Document) -> dict[str, str]:
    """What is kept of one document: nothing of JSON, which is read as fast as it lies; nothing where an alias
    shares values.
    """
    marks = document.parsed.marks
    if document.syntax == "json":
        return {"syntax": "json", "value": ""}
    if marks is None or marks.aliased:
        return {"syntax": document.syntax, "value": "none"}
    (folder / f"{number}.json").write_text(json.dumps(document.value, separators=(",", ":")), "ascii")
    (folder / f"{number}.marks").write_bytes(_packed(marks.lines) + _packed(marks.columns))
    return {"syntax": document.syntax, "value": str(number)}


def _packed(numbers: array[int]) -> bytes:
    return numbers.tobytes()


def _prune() -> None:
    """The oldest go when all together grow too large."""
    found = sorted(
        (path for path in cache_folder("contracts").iterdir() if path.is_dir()),
        key=lambda path: -path.stat().st_mtime,
    )
    total = 0
    for path in found:
        total += sum(file.stat().st_size for file in path.iterdir())
        if total > MAX_BYTES:
            shutil.rmtree(path, ignore_errors=True)
