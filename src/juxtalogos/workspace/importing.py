"""Import: a source -> a contract kept in `definitions/NAME/`, with where it came from."""

from __future__ import annotations

import hashlib
import json
import os
import re
import shlex
import shutil
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath
from typing import Any
from urllib.parse import unquote

from juxtalogos.documents.uris import origin
from juxtalogos.formats import format_of, read_contract
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import ConfigError, DocumentError, JuxtalogosError, UsageError, nearest, quoted
from juxtalogos.workspace import cache
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.remote import MASKED, Access
from juxtalogos.workspace.sources import find_root, open_source
from juxtalogos.workspace.trust import NOTHING_GRANTED, Grant, Trust
from juxtalogos.workspace.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Imported:
    """What one source, or one entry of a catalogue, gave: a contract, or why there is none."""

    source: str
    contract: Contract | None
    access: Access
    root: str = ""
    error: JuxtalogosError | None = None
    base: str = ""
    """Where its catalogue says that the service is."""


MAX_DEEP = 5
"""Catalogues that list one another, deep."""
MAX_LISTED = 1_000
"""Definitions of one catalogue, those of the catalogues that it lists among them."""


def read_source(
    text: str, access: Access, root: str = "", name: str = "", entries: Sequence[str] = ()
) -> Iterator[Imported]:
    """The contract of a source, or those of a catalogue: all, or those whose number is among `entries`, or in
    whose address one of them stands. Nothing is written.
    """
    yield from _read(text, access, root, name, (), [MAX_LISTED], entries)


def _read(
    text: str,
    access: Access,
    root: str,
    name: str,
    above: tuple[str, ...],
    left: list[int],
    entries: Sequence[str] = (),
    base: str = "",
) -> Iterator[Imported]:
    """`above`: the catalogues that led here; `left`: how many more definitions may be read."""
    with open_source(text, access) as source:
        if not source.listed:
            if entries and not above:
                raise UsageError(
                    "this is no catalogue, so it has no entries", where=text, mend="leave --entry out"
                )
            others = source.names() if source.names is not None else []
            yield Imported(
                source.told,
                _contract(source.fetch, root or find_root(source), name, others, text),
                access,
                root,
                base=base,
            )
            return
        listed = {item.address: item.base for item in source.listed}
    listed = _chosen(listed, entries, text) if entries and not above else listed
    if not access.signed_at:  # what is given for the catalogue goes to no other place
        at = origin(text) if text.startswith(("http://", "https://")) else "nowhere"
        access = replace(access, signed_at=at)
    if name and len(listed) > 1:
        raise UsageError(
            f"the catalogue lists {len(listed)} definitions, which cannot all be called {name}",
            where=text,
            mend="leave --name out, or import one of them: " + ", ".join(list(listed)[:5]),
        )
    for address, served in listed.items():
        try:
            _allowed(address, text, access)
            if address in (text, *above) or len(above) >= MAX_DEEP:
                raise DocumentError(
                    "the catalogue leads back to itself, or too deep",
                    where=address,
                    mend="import the definition itself by its address",
                )
            left[0] -= 1
            if left[0] < 0:
                raise DocumentError(
                    f"more than {MAX_LISTED:,} definitions are listed",
                    where=address,
                    mend="choose some with --entry",
                )
            yield from _read(address, access, root, name, (*above, text), left, entries, served)
        except DocumentError as error:
            yield Imported(address, None, access, error=error)


def _chosen(listed: Mapping[str, str], entries: Sequence[str], where: str) -> dict[str, str]:
    """Those whose number (from 1, in the catalogue's order) or a part of whose address is among the entries;
    UsageError for one that is neither.
    """
    numbers = {str(number): address for number, address in enumerate(listed, 1)}
    for entry in entries:
        if entry not in numbers and not any(entry in address for address in listed):
            names = [address.rstrip("/").rpartition("/")[2] for address in listed]
            raise UsageError(
                f"the catalogue lists nothing with {quoted(entry)} in its address",
                where=where,
                mend=nearest(entry, names),
            )
    chosen = {numbers[entry] for entry in entries if entry in numbers}
    parts = [entry for entry in entries if entry not in numbers]
    return {
        address: base
        for address, base in listed.items()
        if address in chosen or any(part in address for part in parts)
    }


def catalogue(text: str, access: Access) -> list[str]:
    """The addresses that a catalogue lists, in its order. UsageError where it is none."""
    with open_source(text, access) as source:
        if not source.listed:
            raise UsageError("this is no catalogue", where=text, mend="import it without --list")
        return list(dict.fromkeys(item.address for item in source.listed))


def _allowed(address: str, catalogue: str, access: Access) -> None:
    """DocumentError when a catalogue leads to where nobody allowed it to."""
    from juxtalogos.workspace.remote import Remote

    if not address.startswith(("http://", "https://")):
        raise DocumentError(
            "the catalogue leads to no address of the network",
            where=quoted(address),
            mend="have the catalogue corrected, or import the definition from its address",
        )
    if catalogue.startswith(("http://", "https://")):
        Remote(catalogue, access).check(address)


def _contract(fetch: Any, uri: str, name: str, others: list[str], typed: str) -> Contract:
    """`typed`: the source as the person named it."""
    value = fetch(uri).value
    if isinstance(value, dict) and isinstance(value.get("log"), dict) and "entries" in value["log"]:
        raise DocumentError(
            "this is a recording of exchanges (HAR), and no definition",
            where=quoted(typed),
            mend=f"judge it: juxtalogos audit {shlex.quote(typed)}",
        )
    if isinstance(value, dict) and isinstance(value.get("arazzo"), str):
        raise DocumentError(
            "this is a suite (Arazzo), and no definition",
            where=quoted(typed),
            mend="put it into the folder suites of the workspace, under a name that ends in .arazzo.yaml",
        )
    form = format_of(fetch(uri))
    stem = Path(unquote(uri)).stem
    if not name and stem.lower() in form.plain_names:
        title = form.read("draft", uri, fetch, others).title
        stem = title or stem
    chosen = name or _name_of(stem)
    check_name(chosen)
    return read_contract(fetch(uri), chosen, uri, fetch, others)


def check_name(name: str) -> None:
    """UsageError when it is no contract's name."""
    if not re.fullmatch(r"[A-Za-z0-9_-]{1,80}", name):
        raise UsageError(f"{quoted(name)} is no contract name", mend="use letters, digits, - and _")


def _name_of(stem: str) -> str:
    return re.sub(r"[^A-Za-z0-9_]+", "-", stem).strip("-")[:80].lower() or "contract"


def keep(workspace: Workspace, imported: Imported) -> bool:
    """Writes the contract's documents into the workspace, whole or not at all.

    True when it took an older one's place.
    """
    contract = imported.contract
    assert contract is not None
    folder = workspace.definitions / contract.name
    workspace.definitions.mkdir(exist_ok=True)
    fresh = Path(tempfile.mkdtemp(dir=workspace.definitions, prefix=f".{contract.name}."))
    try:
        documents: dict[str, dict[str, str]] = {}
        for uri, document in contract.documents.items():
            file = _file_of(uri)
            write_whole(fresh / file, document.text)
            documents[uri] = {"sha256": hashlib.sha256(document.text).hexdigest()}
            if file != uri:
                documents[uri]["file"] = file
        origin = {
            "version": 1,
            "root": contract.root,
            "source": _told(imported.source, workspace),
            "imported": datetime.now(UTC).isoformat(timespec="seconds"),
            **({"rootOption": imported.root} if imported.root else {}),
            **({"access": kept} if (kept := imported.access.kept()) else {}),
            "documents": documents,
        }
        if "://" not in imported.source and Path(imported.source).resolve() == folder.resolve():
            _copy_others(folder, fresh)
        write_whole(fresh / "origin.json", (json.dumps(origin, indent=2) + "\n").encode())
        fresh.chmod(0o755)
        replaced = folder.exists()
        if replaced:
            old = Path(tempfile.mkdtemp(dir=workspace.definitions, prefix=f".{contract.name}.old."))
            folder.rename(old / "kept")
            fresh.rename(folder)
            shutil.rmtree(old)
        else:
            fresh.rename(folder)
        cache.save(contract)
        return replaced
    finally:
        shutil.rmtree(fresh, ignore_errors=True)


def _copy_others(folder: Path, fresh: Path) -> None:
    """What lies in a folder of messages beside those that could be read stays there."""
    for path in folder.rglob("*") if folder.is_dir() else ():
        place = fresh / path.relative_to(folder)
        if path.is_file() and not path.is_symlink() and not place.exists():
            write_whole(place, path.read_bytes())


def other_source(workspace: Workspace, imported: Imported) -> str:
    """Where the contract of that name came from, when it was from elsewhere; empty when there is none, or it
    is the same.
    """
    contract = imported.contract
    if contract is None or contract.name not in workspace.contract_names():
        return ""
    try:
        before = str(workspace.origin(contract.name).get("source", ""))
    except ConfigError:
        return ""  # what is damaged may be replaced
    same = before.split(MASKED)[0] == _told(imported.source, workspace).split(MASKED)[0]
    return "" if same else before or "an unknown place"


def _told(source: str, workspace: Workspace) -> str:
    """A path as it is seen from the workspace, so that it holds wherever a command is called."""
    return source if "://" in source else os.path.relpath(source, workspace.root)


def _file_of(uri: str) -> str:
    """Where a document is kept: by its own path within the folder; what came from elsewhere under a name made
    of its URI.
    """
    path = PurePosixPath(unquote(uri))
    sound = "://" not in uri and not path.is_absolute() and ".." not in path.parts and "\x00" not in uri
    if sound and uri != "origin.json" and len(uri) < 200 and all(char.isprintable() for char in uri):
        return str(path)
    stem = re.sub(r"[^A-Za-z0-9._-]+", "-", path.name)[-60:].lstrip(".") or "document"
    return f"elsewhere/{hashlib.sha256(uri.encode('utf-8', 'surrogatepass')).hexdigest()[:12]}-{stem}"


def read_again(
    workspace: Workspace, name: str, given: Access | None, grant: Grant = NOTHING_GRANTED
) -> Imported:
    """What the source of a contract holds now; `given` takes the place of how it was reached. NotSent when
    that names secrets that nobody allowed to go there.
    """
    origin = workspace.origin(name)
    source, root = origin.get("source"), origin.get("rootOption", "")
    if not isinstance(source, str) or not source:
        raise UsageError(
            f"the source of {name} was not recorded", mend="import it again: juxtalogos import SOURCE"
        )
    if f"={MASKED}" in source:
        raise UsageError(
            f"the address of {name} contained a secret, which was not stored",
            mend=f"give it again: juxtalogos import URL --name {name}",
        )
    source = source if "://" in source else str(workspace.root / source)
    access = given or Access.of(origin.get("access"))
    if given is None:
        trust = Trust(workspace.root, grant)
        where = f"definitions/{name}/origin.json"
        try:
            sends = list(access.sends(source))
        except ValueError:
            raise ConfigError(
                "how the source is reached holds no URL", where=where, mend="import it again"
            ) from None
        for reference, place in sends:
            trust.require_send(reference, (place,), where)
    found, *_ = read_source(source, access, str(root), name)
    if found.error:
        raise found.error
    return found
