"""The tables that packages and workspaces add to: formats, sign-in, reports, checks, laws and the like.

Everything enters by the same call, `Table.register`, the built-in entries too. What an installed package adds
stands
in its metadata, which is read only when a name is asked for that is not registered, or all entries are.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import lru_cache
from importlib import import_module
from typing import Any, Generic, TypeVar

from juxtalogos.model.errors import ConfigError, UsageError

Value = TypeVar("Value")


@lru_cache(maxsize=1)
def _entry_points() -> Mapping[str, Mapping[str, Any]]:
    """The entry points of our groups, by group and name: the metadata of all packages is read once."""
    from importlib.metadata import distributions

    entries = [entry for package in distributions() for entry in package.entry_points]
    found: dict[str, dict[str, Any]] = {}
    for entry in sorted(entries, key=lambda one: (one.name, one.value), reverse=True):
        if entry.group.startswith("juxtalogos."):
            found.setdefault(entry.group, {})[entry.name] = entry
    return found


class Table(Mapping[str, Value], Generic[Value]):
    """Values by name, each loaded when it is first asked for. A registered name is never replaced."""

    def __init__(self, group: str) -> None:
        """`group`: the group of entry points by which packages add to it."""
        self.group = group
        self._registered: dict[str, Value | str] = {}
        self._loaded: dict[str, Value] = {}

    def register(self, name: str, value: Value | str) -> None:
        """Adds a value, or where it is: `module:attribute`. Raises UsageError where the name is taken."""
        if name in self._registered:
            raise UsageError(f"{self.group} has {name} already", mend="give it another name")
        self._registered[name] = value

    @property
    def registered(self) -> tuple[str, ...]:
        """The names that were registered."""
        return tuple(self._registered)

    @property
    def added(self) -> Mapping[str, Any]:
        """Entry points of installed packages, by name."""
        found = _entry_points().get(self.group, {})
        return {name: entry for name, entry in sorted(found.items()) if name not in self._registered}

    def __getitem__(self, name: str) -> Value:
        if name not in self._loaded:
            if name in self._registered:
                value = self._registered[name]
                self._loaded[name] = _imported(value) if isinstance(value, str) else value
            else:
                self._loaded[name] = self._load(self.added[name])
        return self._loaded[name]

    def _load(self, entry: Any) -> Value:
        """Raises ConfigError when a plug-in cannot be loaded: it is named, and whoever
        wrote it must mend it.
        """
        try:
            return entry.load()  # type: ignore[no-any-return]
        except Exception as error:
            text = " ".join(f"{type(error).__name__}: {error}".split())[:200]
            raise ConfigError(
                f"the plug-in {entry.name} cannot be loaded: {text}",
                where=f"{self.group} = {entry.value}",
                mend="update the package that brings it, or uninstall it",
            ) from None

    def __iter__(self) -> Iterator[str]:
        yield from self._registered
        yield from self.added

    def __len__(self) -> int:
        return len(self._registered) + len(self.added)

    def __contains__(self, name: object) -> bool:
        return name in self._registered or name in self.added


def _imported(where: str) -> Any:
    module, _, attribute = where.partition(":")
    return getattr(import_module(module), attribute)
