"""Files of a workspace: read only inside their folder, written whole or not at all."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Mapping
from pathlib import Path
from urllib.parse import unquote

from juxtalogos.documents.bounds import MAX_BYTES
from juxtalogos.model.document import Document
from juxtalogos.model.errors import DocumentError
from juxtalogos.model.format import Fetch


def folder_fetch(folder: Path, files: Mapping[str, str] | None = None) -> Fetch:
    """Fetches documents by URI relative to a folder, each once, and from nowhere else; `files` names those
    that lie elsewhere in it.
    """
    from juxtalogos.documents.load import load_document

    known: dict[str, Document] = {}

    def fetch(uri: str) -> Document:
        if uri not in known:
            known[uri] = load_document(uri, read_inside(folder, (files or {}).get(uri, uri)))
        return known[uri]

    return fetch


def read_inside(folder: Path, uri: str) -> bytes:
    """The bytes of a file that, symbolic links followed, lies inside the folder."""
    if "://" in uri:
        raise DocumentError(
            "references over the network are not followed",
            where=uri,
            mend="save the document beside the definition and refer to the file",
        )
    path = folder / unquote(uri)
    try:
        resolved = path.resolve()
        if not resolved.is_relative_to(folder.resolve()):
            raise DocumentError(
                "this file lies outside the definition's folder",
                where=uri,
                mend="import the folder that holds all files, and name the root with --root",
            )
        if not resolved.is_file():
            raise DocumentError(
                "there is no such file", where=str(path), mend="correct the name or add the file"
            )
        size = resolved.stat().st_size
        if size > MAX_BYTES:
            raise DocumentError(
                f"{size:,} bytes is more than the limit of {MAX_BYTES:,}",
                where=str(path),
                mend="split the definition over several files",
            )
        return resolved.read_bytes()
    except (OSError, ValueError) as error:
        raise DocumentError(
            f"cannot be read: {error}", where=str(path), mend="check its path and permissions"
        ) from None


def private_folder(path: Path) -> None:
    """Makes a folder that only its owner may enter; one that is there keeps its rights."""
    if not path.is_dir():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.mkdir(mode=0o700, exist_ok=True)


def write_whole(path: Path, data: bytes, *, private: bool = False) -> None:
    """Writes beside the file first, then takes its place: a reader never sees half a file.

    `private`: what services responded is in it, so that only its owner may read it, and the folder is made
    so too.
    """
    if private:
        private_folder(path.parent)
    path.parent.mkdir(parents=True, exist_ok=True)
    handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name[:40]}.")
    try:
        with os.fdopen(handle, "wb") as out:
            out.write(data)
        Path(name).chmod(0o600 if private else 0o644)
        Path(name).replace(path)
    except BaseException:
        with contextlib.suppress(OSError):
            Path(name).unlink()
        raise
