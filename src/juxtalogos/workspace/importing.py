"""Import: a definition from a file or folder -> `definitions/NAME/`, with where it came from."""

from __future__ import annotations

import hashlib
import json
import re
import shutil
import tempfile
from datetime import UTC, datetime
from pathlib import Path

from juxtalogos.formats import FORMATS, format_of
from juxtalogos.model.contract import Contract, Document
from juxtalogos.model.errors import DocumentError, UsageError, quoted
from juxtalogos.workspace.files import folder_fetch, write_whole
from juxtalogos.workspace.workspace import Workspace

_ENDINGS = (".yaml", ".yml", ".json")
MAX_FILES = 5_000


def read_source(source: Path, root: str | None, name: str | None) -> Contract:
    """The contract of a definition outside the workspace; nothing is written."""
    if not source.exists():
        raise DocumentError("there is no such file or folder", where=str(source), mend="check the path")
    folder, uri = (source, root or _find_root(source)) if source.is_dir() else (source.parent, source.name)
    fetch = folder_fetch(folder)
    document = fetch(uri)
    chosen = name or _name_of(uri, document)
    if not re.fullmatch(r"[A-Za-z0-9_-]{1,80}", chosen):
        raise UsageError(f"{quoted(chosen)} is no contract name", mend="use letters, digits, - and _")
    return format_of(document).read(chosen, uri, fetch)


def _find_root(folder: Path) -> str:
    """The one file in a folder that is a definition; UsageError when there are several."""
    found = []
    files = sorted(path for path in folder.rglob("*") if path.suffix.lower() in _ENDINGS and path.is_file())
    for path in files[:MAX_FILES]:
        uri = path.relative_to(folder).as_posix()
        try:
            document = folder_fetch(folder)(uri)
        except DocumentError:
            continue
        if any(candidate.claims(document) for candidate in FORMATS.values()):
            found.append(uri)
    if not found:
        raise DocumentError(
            "no definition is in this folder", where=str(folder), mend=f"{len(files)} files were looked at"
        )
    if len(found) > 1:
        raise UsageError(
            "several definitions are in this folder",
            where=str(folder),
            mend="name one with --root: " + ", ".join(found[:10]),
        )
    return found[0]


def _name_of(uri: str, document: Document) -> str:
    stem = Path(uri).stem
    if stem.lower() in ("openapi", "api", "spec", "definition", "index", "main") and isinstance(document.value, dict):
        info = document.value.get("info")
        title = info.get("title") if isinstance(info, dict) else None
        stem = title if isinstance(title, str) else stem
    return re.sub(r"[^A-Za-z0-9_]+", "-", stem).strip("-")[:80].lower() or "contract"


def keep(workspace: Workspace, contract: Contract, source: str) -> bool:
    """Writes the contract's documents into the workspace, whole or not at all. True when it took an older one's place."""
    folder = workspace.definitions / contract.name
    workspace.definitions.mkdir(exist_ok=True)
    fresh = Path(tempfile.mkdtemp(dir=workspace.definitions, prefix=f".{contract.name}."))
    try:
        for uri, document in contract.documents.items():
            write_whole(fresh / uri, document.text)
        origin = {
            "version": 1,
            "root": contract.root,
            "source": source,
            "imported": datetime.now(UTC).isoformat(timespec="seconds"),
            "documents": {
                uri: {"sha256": hashlib.sha256(document.text).hexdigest()}
                for uri, document in contract.documents.items()
            },
        }
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
        return replaced
    finally:
        shutil.rmtree(fresh, ignore_errors=True)
