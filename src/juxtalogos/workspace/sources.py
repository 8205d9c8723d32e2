"""Where a definition comes from: a file, a folder, a zip archive, a URL, a catalogue. All give documents by
URI.
"""

from __future__ import annotations

import io
import stat
import struct
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any
from urllib.parse import urljoin, urlsplit

from juxtalogos.documents.bounds import MAX_BYTES
from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.documents.load import load_document
from juxtalogos.formats import claiming, file_endings, formats
from juxtalogos.model.document import Document
from juxtalogos.model.errors import DocumentError, UsageError
from juxtalogos.model.format import Fetch
from juxtalogos.workspace.files import folder_fetch
from juxtalogos.workspace.remote import Access, Remote, without_secrets

MAX_FILES = 5_000
MAX_ARCHIVE = 256 * 1024 * 1024
"""Bytes of an archive's files, unpacked."""
CATALOGUE = "/.well-known/api-catalog"


@dataclass(frozen=True, slots=True)
class Entry:
    """A definition that a catalogue lists."""

    address: str
    base: str = ""
    """The address of the service itself, where the catalogue says it (RFC 9727, section 4: the link's
    context)."""


@dataclass(frozen=True, slots=True)
class Source:
    """Documents to be read; `root` is the one to begin with, empty where it is to be found among `names`."""

    told: str
    """Where it is, as it may be written down."""
    fetch: Fetch
    root: str = ""
    names: Callable[[], list[str]] | None = None
    listed: tuple[Entry, ...] = ()
    """For a catalogue: the definitions that it lists."""


@contextmanager
def open_source(text: str, access: Access) -> Iterator[Source]:
    """The documents of a file, folder, archive, URL or catalogue."""
    if text.startswith(("http://", "https://")):
        with Remote(text, access) as remote:
            yield _remote(remote)
        return
    path = Path(text)
    if not path.exists():
        raise DocumentError("there is no such file or folder", where=text, mend="check the path")
    if path.is_dir():
        yield Source(text, folder_fetch(path), names=lambda: _files(path))
        return
    with path.open("rb") as file:
        start = file.read(2048)
    if start.startswith(b"PK\x03\x04"):
        if path.stat().st_size > MAX_ARCHIVE:
            raise DocumentError(
                f"an archive of more than {MAX_ARCHIVE:,} bytes",
                where=text,
                mend="unpack it and import the file or folder",
            )
        yield _archive(path.read_bytes(), text)
    else:
        listed = tuple(_listed(path.read_bytes(), "")) if b'"linkset"' in start else ()
        yield Source(text, folder_fetch(path.parent), path.name, listed=listed)


def _files(folder: Path) -> list[str]:
    endings = file_endings()
    found = (path for path in folder.rglob("*") if path.suffix.lower() in endings and path.is_file())
    return sorted(path.relative_to(folder).as_posix() for path in found)


def find_root(source: Source) -> str:
    """The one document that is a definition; UsageError when there are several."""
    if source.root or source.names is None:
        return source.root
    names, found, forms = source.names(), [], set()
    for uri in names[:MAX_FILES]:
        try:
            document = source.fetch(uri)
        except DocumentError:
            continue
        form = claiming(document)
        if form is not None and (form.is_root is None or form.is_root(document)):
            found.append(uri)
            forms.add(form.name if form.whole_folder else "")
    if not found:
        raise DocumentError(
            "no definition is in this folder or archive",
            where=source.told,
            mend=f"{len(names)} files were looked at",
        )
    if len(found) > 1 and (len(forms) > 1 or "" in forms):
        mend = "name one with --root: " + ", ".join(found[:10])
        raise UsageError("several definitions are in this folder or archive", where=source.told, mend=mend)
    return found[0]


def _archive(data: bytes, told: str) -> Source:
    """A zip archive, unpacked in memory: regular files with sound names, so many and so
    large as is bearable.
    """
    files: dict[str, bytes] = {}
    total = 0
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            entries = [one for one in archive.infolist() if not one.is_dir()]
            if len(entries) > MAX_FILES:
                raise DocumentError(
                    f"an archive of more than {MAX_FILES:,} files",
                    where=told,
                    mend="unpack it and import the file or folder",
                )
            for entry in entries:
                _check_entry(entry, told)
                with archive.open(entry) as file:
                    content = file.read(MAX_BYTES + 1)
                total += len(content)
                if total > MAX_ARCHIVE or len(content) > MAX_BYTES:
                    raise DocumentError(
                        "the archive unpacks to more than the limit",
                        where=f"{told}: {entry.filename}",
                        mend="unpack it and import the file or folder",
                    )
                files[entry.filename] = content
    except (
        zipfile.BadZipFile,
        NotImplementedError,
        RuntimeError,
        EOFError,
        OSError,
        ValueError,
        OverflowError,
        zlib.error,
        struct.error,
    ) as error:
        raise DocumentError(
            f"the archive cannot be read: {error}", where=told, mend="pack it again, without a password"
        ) from None
    common = _common_folder(list(files))
    named = {name[len(common) :]: content for name, content in files.items()}

    def fetch(uri: str) -> Document:
        if uri not in named:
            raise DocumentError(
                "there is no such file in the archive",
                where=f"{told}: {uri}",
                mend="correct the reference or add the file",
            )
        return load_document(uri, named[uri])

    endings = file_endings()
    return Source(
        told, _once(fetch), names=lambda: sorted(name for name in named if name.lower().endswith(endings))
    )


def _check_entry(entry: zipfile.ZipInfo, told: str) -> None:
    path = PurePosixPath(entry.filename.replace("\\", "/"))
    if path.is_absolute() or ".." in path.parts or ":" in path.parts[0] or "\x00" in entry.filename:
        raise DocumentError(
            "the archive holds a path that leads out of it",
            where=f"{told}: {entry.filename[:80]!r}",
            mend="pack it again",
        )
    if stat.S_ISLNK(entry.external_attr >> 16):
        raise DocumentError(
            "the archive holds a symbolic link",
            where=f"{told}: {entry.filename[:80]!r}",
            mend="pack the file itself",
        )


def _common_folder(names: list[str]) -> str:
    tops = {name.partition("/")[0] for name in names}
    return f"{tops.pop()}/" if len(tops) == 1 and all("/" in name for name in names) else ""


def _once(fetch: Fetch) -> Fetch:
    known: dict[str, Document] = {}

    def remembered(uri: str) -> Document:
        if uri not in known:
            known[uri] = fetch(uri)
        return known[uri]

    return remembered


def _remote(remote: Remote) -> Source:
    told = without_secrets(remote.url)
    data, media_type = remote.get(remote.url)
    if data[:4] == b"PK\x03\x04":
        return _archive(data, told)
    if media_type.partition(";")[0].strip().lower() == "application/linkset+json" or urlsplit(
        remote.url
    ).path.endswith(CATALOGUE):
        listed = tuple(_listed(data, remote.url))
        if not listed:
            raise DocumentError(
                "this catalogue lists no definition",
                where=told,
                mend="it needs service-desc links (RFC 9727)",
            )
        return Source(told, lambda uri: load_document(uri, data), "catalogue", listed=listed)
    url, data = _definition(remote, data, told)
    root = PurePosixPath(urlsplit(url).path).name or "definition"

    def fetch(uri: str) -> Document:
        if uri == root:
            return _loaded(root, data, told)
        content, _ = remote.get(urljoin(url, uri))
        return load_document(uri, content)

    return Source(told, _once(fetch), root)


def _definition(remote: Remote, data: bytes, told: str) -> tuple[str, bytes]:
    """(URL, bytes) of the definition: of the document itself, or of what it leads to, as a service's root
    does.
    """
    try:
        document = load_document("document", data)
    except DocumentError:
        return remote.url, data
    if claiming(document) is None:
        for form in formats():
            target = form.leads_to(document, remote.url) if form.leads_to else ""
            if target:
                remote.check(target)
                return target, remote.get(target)[0]
    return remote.url, data


def _loaded(uri: str, data: bytes, told: str) -> Document:
    try:
        return load_document(uri, data)
    except DocumentError as error:
        if "HTML" in error.what:
            mend = (
                "this may be a login page, or a page for readers: sign in with --credential or --header, or"
                " give the definition's own address"
            )
            raise DocumentError(error.what, where=told, mend=mend) from None
        raise


def _listed(data: bytes, base: str) -> Iterator[Entry]:
    """The definitions in a linkset (RFC 9264, section 4.2; RFC 9727): its `service-desc` links."""
    try:
        value: Any = parse_json(data)
    except NotJson:
        return
    contexts = value.get("linkset") if isinstance(value, dict) else None
    for context in contexts if isinstance(contexts, list) else ():
        links = context.get("service-desc") if isinstance(context, dict) else None
        anchor = context.get("anchor") if isinstance(context, dict) else None
        served = urljoin(base, anchor) if isinstance(anchor, str) else ""
        for link in links if isinstance(links, list) else ():
            if isinstance(link, dict) and isinstance(link.get("href"), str):
                yield Entry(
                    urljoin(base, link["href"]), served if served.startswith(("http://", "https://")) else ""
                )
