"""Tokens of a person's sign-in, kept between commands in the user's own directory, never in a workspace;
readable by the user alone, and only for the origins that the target had when the person signed in.
"""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from juxtalogos.workspace.files import private_folder, write_whole
from juxtalogos.workspace.secrets import READ

VERSION = 1
LONGEST, PAUSE = 30.0, 0.05
"""Seconds that another process is waited for at most, and between two looks."""
MOST = 1_000
"""Sign-ins that are kept; the oldest go first."""


@dataclass(frozen=True, slots=True)
class KeptSignIn:
    """Of one scheme, for one role at one target of a workspace. It is a `KeptTokens` of the flows."""

    root: Path
    target: str
    role: str
    scheme: str
    origins: frozenset[str]

    @property
    def key(self) -> str:
        return "\n".join((str(self.root.resolve()), self.target, self.role, self.scheme))

    @property
    def command(self) -> str:
        """What signs in."""
        role = f" --role {self.role}" if self.role else ""
        return f"juxtalogos targets sign-in {self.target} --scheme {self.scheme}{role}"

    def exists(self) -> bool:
        """Whether a person has signed in."""
        return self._entry() is not None

    @asynccontextmanager
    async def alone(self) -> AsyncIterator[None]:
        """Lets one process at a time renew, where the system has locks of files; nobody is waited for longer
        than a renewal may take.
        """
        path = _store().with_suffix(".lock")
        private_folder(path.parent)
        with path.open("a") as file:
            for _ in range(round(LONGEST / PAUSE)):
                if _locked(file):
                    break
                await asyncio.sleep(PAUSE)
            yield  # closing the file gives the lock up

    def _entry(self) -> Mapping[str, Any] | None:
        entry = _read().get(self.key)
        if entry is None or not self.origins or not self.origins <= set(entry.get("origins", ())):
            return None
        return entry

    def load(self) -> dict[str, Any]:
        """What a flow remembers of it: `token`, `until` (on the monotonic clock) and `refresh`."""
        entry = self._entry()
        if entry is None:
            return {}
        found: dict[str, Any] = {name: str(entry[name]) for name in ("token", "refresh") if entry.get(name)}
        READ.update(found.values())
        if "token" in found:
            ends = entry.get("ends")
            left = ends - time.time() if isinstance(ends, int | float) else float("inf")
            found["until"] = time.monotonic() + left
        return found

    def save(self, memory: Mapping[str, Any]) -> None:
        """Keeps the tokens of a flow's memory in place of what was kept before."""
        until = memory.get("until", 0.0)
        ends = None if until == float("inf") else time.time() + until - time.monotonic()
        entry = {
            "origins": sorted(self.origins),
            "token": memory.get("token", ""),
            "refresh": memory.get("refresh", ""),
            "ends": ends,
        }
        _write({**{name: one for name, one in _read().items() if name != self.key}, self.key: entry})

    def forget(self) -> bool:
        """Whether anything was kept; it is not any more."""
        found = _read()
        had = found.pop(self.key, None) is not None
        if had:
            _write(found)
        return had


def _locked(file: IO[str]) -> bool:
    """Whether the lock of a file is this process's now."""
    try:
        import fcntl
    except ImportError:
        return True
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True


def _store() -> Path:
    import platformdirs

    return Path(platformdirs.user_data_dir("juxtalogos")) / "sign-in.json"


def _read() -> dict[str, dict[str, Any]]:
    try:
        value = json.loads(_store().read_bytes())
        return dict(value["signIns"]) if value["version"] == VERSION else {}
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return {}


def _write(entries: dict[str, dict[str, Any]]) -> None:
    kept = dict(list(entries.items())[-MOST:])
    data = json.dumps({"version": VERSION, "signIns": kept}, indent=1).encode()
    write_whole(_store(), data, private=True)
