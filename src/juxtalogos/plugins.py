"""Plug-ins: what other installed packages add to our tables, found by entry point when no
built-in is meant.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from importlib import import_module
from typing import Any, Generic, TypeVar

from juxtalogos.model.errors import ConfigError

Value = TypeVar("Value")


class Table(Mapping[str, Value], Generic[Value]):
    """Values by name, each loaded when it is first asked for: ours by `module:attribute`, then those of an
    entry point's group.

    A built-in is never replaced. To look for a name that is built in loads no plug-in.
    """

    def __init__(self, group: str, builtin: Mapping[str, str]) -> None:
        self.group = group
        self.builtin = builtin
        self._loaded: dict[str, Value] = {}
        self._added: dict[str, Any] | None = None

    @property
    def added(self) -> Mapping[str, Any]:
        """Entry points of other packages, by name."""
        if self._added is None:
            from importlib.metadata import entry_points

            found = sorted(entry_points(group=self.group), key=lambda one: (one.name, one.value))
            self._added = {item.name: item for item in reversed(found) if item.name not in self.builtin}
        return self._added

    def __getitem__(self, name: str) -> Value:
        if name not in self._loaded:
            if name in self.builtin:
                module, _, attribute = self.builtin[name].partition(":")
                self._loaded[name] = getattr(import_module(module), attribute)
            else:
                self._loaded[name] = self._load(self.added[name])
        return self._loaded[name]

    def _load(self, entry: Any) -> Value:
        """ConfigError when a plug-in cannot be loaded: it is named, and whoever wrote it must mend it."""
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
        yield from self.builtin
        yield from self.added

    def __len__(self) -> int:
        return len(self.builtin) + len(self.added)

    def __contains__(self, name: object) -> bool:
        return name in self.builtin or name in self.added
