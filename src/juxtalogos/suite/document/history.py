"""What was changed in suites, so that it can be taken back: the files as they were before each change."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path

from juxtalogos.model.errors import SuiteError, UsageError
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.workspace import Workspace

MOST = 20
"""Changes that are kept."""
MOST_BYTES = 32 * 1024 * 1024
"""Of all files of one change; a larger one cannot be taken back."""


@dataclass(frozen=True, slots=True)
class SuiteChange:
    """One change: what was done, and of each file its text before and its digest after."""

    path: Path
    what: str
    when: float
    before: dict[str, str | None]
    """By path below suites/; None where the file was not there."""
    after: dict[str, str]
    """Digests; empty where the file is not there."""


@contextmanager
def noted(home: Workspace, what: str) -> Iterator[None]:
    """Keeps what suites were before a change, if it changes any; one that fails halfway changes none. `what`:
    in words, such as the command.
    """
    before = dict(_files(home))
    try:
        yield
    except BaseException:
        _restore(home, before)
        raise
    after = dict(_files(home))
    changed = sorted(name for name in before.keys() | after.keys() if before.get(name) != after.get(name))
    if not changed or sum(len(before.get(name, b"")) for name in changed) > MOST_BYTES:
        return
    folder = _folder(home)
    folder.mkdir(parents=True, exist_ok=True)
    known = sorted(folder.glob("*.json"))
    number = int(known[-1].stem) + 1 if known and known[-1].stem.isdigit() else 1
    told = {
        "what": what,
        "when": time.time(),
        "before": {name: _text(before.get(name)) for name in changed},
        "after": {name: _digest(after.get(name)) for name in changed},
    }
    write_whole(folder / f"{number:06d}.json", json.dumps(told).encode(), private=True)
    for path in known[: max(0, len(known) + 1 - MOST)]:
        path.unlink(missing_ok=True)


def _restore(home: Workspace, before: Mapping[str, bytes]) -> None:
    """Writes the suites as they were; those that are new since go."""
    now = dict(_files(home))
    for name in now.keys() - before.keys():
        (home.suites / name).unlink()
    for name, content in before.items():
        if now.get(name) != content:
            write_whole(home.suites / name, content)


def changes(home: Workspace) -> list[SuiteChange]:
    """The changes that can be taken back, the latest first."""
    found = []
    for path in sorted(_folder(home).glob("*.json"), reverse=True):
        try:
            told = json.loads(path.read_bytes())
            before, after = dict(told["before"]), dict(told["after"])
            if not all(_is_inside(name) for name in before) or before.keys() != after.keys():
                continue
            found.append(SuiteChange(path, str(told["what"]), float(told["when"]), before, after))
        except (OSError, ValueError, KeyError, TypeError):
            continue  # a damaged file takes nothing else away
    return found


def take_back(home: Workspace) -> SuiteChange:
    """Writes the files of the latest change as they were before it. UsageError where there is none,
    SuiteError where a file was changed since.
    """
    latest = next(iter(changes(home)), None)
    if latest is None:
        raise UsageError("there is no change to undo", mend="see juxtalogos suite undo --list")
    now = dict(_files(home))
    for name, digest in latest.after.items():
        if _digest(now.get(name)) != digest:
            raise SuiteError(
                "the file was changed since, by hand",
                where=str(home.suites / name),
                mend="keep that change: remove " + str(latest.path.relative_to(home.root)),
            )
    for name, text in latest.before.items():
        path = home.suites / name
        if text is None:
            path.unlink()
        else:
            path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(path, text.encode("utf-8", "surrogateescape"))
    latest.path.unlink()
    return latest


def _folder(home: Workspace) -> Path:
    return home.state / "changes"


def _files(home: Workspace) -> Iterator[tuple[str, bytes]]:
    for path in sorted(home.suites.rglob("*.arazzo.*")):
        if path.is_file() and not path.is_symlink():
            yield path.relative_to(home.suites).as_posix(), path.read_bytes()


def _is_inside(name: str) -> bool:
    parts = Path(name).parts
    return ".arazzo." in name and ".." not in parts and not Path(name).is_absolute()


def _text(content: bytes | None) -> str | None:
    return None if content is None else content.decode("utf-8", "surrogateescape")


def _digest(content: bytes | None) -> str:
    return "" if content is None else sha256(content).hexdigest()
