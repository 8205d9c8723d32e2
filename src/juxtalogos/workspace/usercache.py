"""The user's own cache directory: private, nothing in it is executed, and all of it may be thrown away."""

from __future__ import annotations

import contextlib
import hashlib
from pathlib import Path

from juxtalogos._version import VERSION


def cache_folder(kind: str) -> Path:
    """The folder of a kind of cache."""
    import platformdirs

    return Path(platformdirs.user_cache_dir("juxtalogos")) / kind


def private(folder: Path) -> Path:
    """The folder, made for the user's eyes only where it is not there."""
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    return folder


def was_sound(kind: str, text: str) -> bool:
    """Whether this very text was checked by this version and found sound."""
    return (cache_folder(kind) / _digest(text)).is_file()


def note_sound(kind: str, text: str) -> None:
    """Notes that a text was found sound."""
    with contextlib.suppress(OSError):
        folder = private(cache_folder(kind))
        known = sorted(folder.iterdir(), key=lambda path: path.stat().st_mtime)
        for path in known[:-200]:
            path.unlink()
        (folder / _digest(text)).touch()


def _digest(text: str) -> str:
    return hashlib.sha256(f"{VERSION}\0{text}".encode("utf-8", "surrogatepass")).hexdigest()
