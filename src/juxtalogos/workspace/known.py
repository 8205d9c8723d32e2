"""What testers know of a contract beyond its definition, and what a service has shown: values, dependencies, what to leave out, what operations do.

The same tables stand in `juxtalogos.toml` (`[[contracts.NAME.known]]` and so on), where people write them, and in
`learned/TARGET/CONTRACT.toml`, which `compose --learn` writes. What people write comes first.
"""

from __future__ import annotations

import fnmatch
import re
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from juxtalogos.model.errors import ConfigError, nearest, quoted

LEARNED = "learned"
"""The folder of what services have shown, a file a target and contract."""
MAX_FILE = 4 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class DependencyRule:
    operation: str
    input: str
    source: str = ""
    value: str = ""
    drop: bool = False
    learned: bool = False
    """Whether a service showed it, and nobody wrote it."""


@dataclass(frozen=True, slots=True)
class KnownValue:
    """A value for inputs: by address or pattern of addresses, by property name, by the name of a shared schema."""

    at: str
    operation: str = "*"
    value: Any = None
    formula: str = ""
    learned: bool = False

    @property
    def name(self) -> str:
        """What suites call it: `known('NAME')`."""
        return self.at if self.operation == "*" else f"{self.operation} {self.at}"

    def fits(self, operation: str, address: str, shared: str = "") -> bool:
        """Whether it is meant for an input: `*.callId` and `*/callId`, `callId`, or the name of its schema."""
        if not fnmatch.fnmatchcase(operation, self.operation):
            return False
        last = re.split(r"[./]", address)[-1]
        return self.at in (address, last) or (bool(shared) and self.at == shared) or fnmatch.fnmatchcase(address, self.at) or fnmatch.fnmatchcase(address.replace("/", "."), self.at)  # fmt: skip


@dataclass(frozen=True, slots=True)
class LeftOut:
    """An optional input that is not sent, with the reason."""

    operation: str
    input: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class Meaning:
    """What an operation does, where its name and method mislead."""

    operation: str
    does: str
    noun: str = ""


@dataclass(frozen=True, slots=True)
class Hints:
    """All that is known of one contract."""

    dependencies: tuple[DependencyRule, ...] = ()
    known: tuple[KnownValue, ...] = ()
    left_out: tuple[LeftOut, ...] = ()
    meanings: tuple[Meaning, ...] = ()

    def and_then(self, other: Hints) -> Hints:
        """These, and behind them others."""
        return Hints(self.dependencies + other.dependencies, self.known + other.known, self.left_out + other.left_out, self.meanings + other.meanings)  # fmt: skip

    def value_for(self, operation: str, address: str, shared: str = "") -> KnownValue | None:
        """The first that is meant for an input."""
        return next((one for one in self.known if one.fits(operation, address, shared)), None)

    def leaves_out(self, operation: str, address: str) -> bool:
        return any(fnmatch.fnmatchcase(operation, one.operation) and fnmatch.fnmatchcase(address, one.input) for one in self.left_out)  # fmt: skip


NO_HINTS = Hints()


def hints_of(table: Mapping[str, Any], *, learned: bool = False) -> Hints:
    """From the tables of a contract, in the form that the configuration's schema has checked."""
    return Hints(
        tuple(DependencyRule(one["operation"], one["input"], one.get("from", ""), one.get("value", ""), one.get("drop", False), learned) for one in table.get("dependencies", ())),
        tuple(KnownValue(one["at"], one.get("operation", "*"), one.get("value"), one.get("formula", ""), learned) for one in table.get("known", ())),
        tuple(LeftOut(one["operation"], one["input"], one.get("reason", "")) for one in table.get("leave-out", ())),
        tuple(Meaning(one["operation"], one["does"], one.get("noun", "")) for one in table.get("meanings", ())),
    )  # fmt: skip


@dataclass(slots=True)
class Learned:
    """A file of what a service has shown."""

    path: Path
    tables: dict[str, list[dict[str, Any]]] = field(default_factory=dict)

    @classmethod
    def read(cls, root: Path, target: str, contract: str) -> Learned:
        """Empty where there is none yet; ConfigError where it cannot be used."""
        path = learned_path(root, target, contract)
        if not path.exists():
            return cls(path)
        mend = "correct it there, or remove it and learn anew"
        try:
            if path.stat().st_size > MAX_FILE:
                raise ConfigError(f"more than {MAX_FILE:,} bytes", where=str(path), mend=mend)
            found = tomllib.loads(path.read_text("utf-8"))
        except (OSError, ValueError, RecursionError) as error:
            raise ConfigError(f"cannot be read: {error}", where=str(path), mend=mend) from None
        for name, listed in found.items():
            if name not in _FORMS:
                raise ConfigError(f"unknown table {quoted(name)}", where=str(path), mend=nearest(name, _FORMS))
            for one in listed if isinstance(listed, list) else [None]:
                _check(name, one, path, mend)
        return cls(path, {name: [dict(one) for one in listed] for name, listed in found.items()})

    @property
    def hints(self) -> Hints:
        return hints_of(self.tables, learned=True)

    def text(self) -> str:
        """The file, the tables in a fixed order."""
        import tomlkit

        document = tomlkit.document()
        document.add(
            tomlkit.comment("What `juxtalogos compose --learn` has seen; edit it freely, it is kept and added to.")
        )
        for name in _FORMS:
            if self.tables.get(name):
                listed = tomlkit.aot()
                for one in self.tables[name]:
                    made = tomlkit.table()
                    made.update(one)
                    listed.append(made)
                document.add(name, listed)
        return tomlkit.dumps(document)


_FORMS: dict[str, tuple[str, ...]] = {
    "known": ("at",),
    "dependencies": ("operation", "input"),
    "leave-out": ("operation", "input"),
    "meanings": ("operation", "does"),
}
"""By table the keys that an entry must have."""


def _check(name: str, entry: Any, path: Path, mend: str) -> None:
    if not isinstance(entry, dict) or any(not isinstance(entry.get(key), str) for key in _FORMS[name]):
        raise ConfigError(
            f"an entry of {name} needs the texts {' and '.join(_FORMS[name])}", where=str(path), mend=mend
        )


def learned_path(root: Path, target: str, contract: str) -> Path:
    """Where what a target has shown of a contract is kept."""
    safe = re.sub(r"[^A-Za-z0-9_.-]+", "-", target).strip("-.") or "target"
    return root / LEARNED / safe / f"{contract}.toml"


def values_by_name(hints: Iterable[Hints]) -> dict[str, KnownValue]:
    """Known values by the name that suites call them by, the earlier the stronger."""
    found: dict[str, KnownValue] = {}
    for one in hints:
        for value in one.known:
            found.setdefault(value.name, value)
    return found
