"""What testers know of a contract beyond its definition, and what a service has shown: values, dependencies,
what to leave out, what operations do.

The same tables stand in `juxtalogos.toml` (`[[contracts.NAME.known]]` and so on), where people write them,
and in
`learned/TARGET/CONTRACT.toml`, which `compose --learn` writes. What people write comes first.
"""

from __future__ import annotations

import fnmatch
import re
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from juxtalogos.documents.charsets import encodable
from juxtalogos.model.errors import ConfigError, nearest, quoted
from juxtalogos.workspace.config_form import check_form

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
    """A value for inputs: by address or pattern of addresses, by property name, by the name of a shared
    schema.
    """

    at: str
    operation: str = "*"
    value: Any = None
    formula: str = ""
    learned: bool = False
    by_hand: bool = False
    """Whether a call by hand succeeded with it: it takes the place of a sample, and of nothing better."""

    @property
    def given(self) -> Any:
        """The value, or `{formula = TEXT}` for one that is computed: as variables have it."""
        return {"formula": self.formula} if self.formula else self.value

    @property
    def name(self) -> str:
        """What suites call it: `known('NAME')`."""
        return self.at if self.operation == "*" else f"{self.operation} {self.at}"

    def fits(self, operation: str, address: str, shared: str = "") -> bool:
        """Whether it is meant for an input: `*.callId` and `*/callId`, `callId`, or the
        name of its schema.
        """
        if not fnmatch.fnmatchcase(operation, self.operation):
            return False
        last = re.split(r"[./]", address)[-1]
        return (
            self.at in (address, last)
            or (bool(shared) and self.at == shared)
            or fnmatch.fnmatchcase(address, self.at)
            or fnmatch.fnmatchcase(address.replace("/", "."), self.at)
        )


@dataclass(frozen=True, slots=True)
class LeftOut:
    """An optional input that is not sent, with the reason."""

    operation: str
    input: str
    reason: str = ""


@dataclass(frozen=True, slots=True)
class SentToo:
    """An optional input that is sent as compose makes it up, though only what is required was asked for;
    `body` for the whole of it.
    """

    operation: str
    input: str


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
    sent: tuple[SentToo, ...] = ()

    def and_then(self, other: Hints) -> Hints:
        """These, and behind them others."""
        return Hints(
            self.dependencies + other.dependencies,
            self.known + other.known,
            self.left_out + other.left_out,
            self.meanings + other.meanings,
            self.sent + other.sent,
        )

    @property
    def means_the_same(self) -> tuple[frozenset[object], ...]:
        """What tells these from others that would make another request: no reasons, and no order."""
        return (
            frozenset(
                (one.operation, one.input, one.source, one.value, one.drop) for one in self.dependencies
            ),
            frozenset((one.operation, one.at, one.formula or repr(one.value)) for one in self.known),
            frozenset((one.operation, one.input) for one in self.left_out),
            frozenset((one.operation, one.input) for one in self.sent),
        )

    @property
    def count(self) -> int:
        return (
            len(self.dependencies)
            + len(self.known)
            + len(self.left_out)
            + len(self.meanings)
            + len(self.sent)
        )

    def value_for(self, operation: str, address: str, shared: str = "") -> KnownValue | None:
        """The first that is meant for an input."""
        return next((entry for entry in self.known if entry.fits(operation, address, shared)), None)

    def means(self, operation: str) -> str:
        """What a person, or the service, said that an operation does; empty for nothing."""
        return next((one.does for one in self.meanings if one.operation == operation), "")

    def leaves_out(self, operation: str, address: str) -> bool:
        """Whether an optional input is not sent."""
        return _names(self.left_out, operation, address)

    def sends(self, operation: str, address: str) -> bool:
        """Whether an optional input is sent also where only what is required is."""
        return _names(self.sent, operation, address)


NO_HINTS = Hints()


def _names(listed: Iterable[LeftOut | SentToo], operation: str, address: str) -> bool:
    return any(
        fnmatch.fnmatchcase(operation, item.operation) and fnmatch.fnmatchcase(address, item.input)
        for item in listed
    )


def hints_of(table: Mapping[str, Any], *, learned: bool = False) -> Hints:
    """From the tables of a contract, in the form that the configuration's schema has checked."""
    return Hints(
        tuple(
            DependencyRule(
                dependency["operation"],
                dependency["input"],
                dependency.get("from", ""),
                dependency.get("value", ""),
                dependency.get("drop", False),
                learned,
            )
            for dependency in table.get("dependencies", ())
        ),
        tuple(
            KnownValue(
                entry["at"],
                entry.get("operation", "*"),
                entry.get("value"),
                entry.get("formula", ""),
                learned,
                entry.get("by-hand", False),
            )
            for entry in table.get("known", ())
        ),
        tuple(
            LeftOut(one["operation"], one["input"], one.get("reason", ""))
            for one in table.get("leave-out", ())
        ),
        tuple(
            Meaning(meaning["operation"], meaning["does"], meaning.get("noun", ""))
            for meaning in table.get("meanings", ())
        ),
        tuple(SentToo(one["operation"], one["input"]) for one in table.get("send", ())),
    )


def entries_of(hints: Hints) -> dict[str, list[Mapping[str, Any]]]:
    """The tables of some hints, by name, in their order: what `hints_of` reads."""
    return {
        "dependencies": [_dependency(dependency) for dependency in hints.dependencies],
        "known": [
            {
                "at": entry.at,
                **({} if entry.operation == "*" else {"operation": entry.operation}),
                **({"formula": entry.formula} if entry.formula else {"value": entry.value}),
                **({"by-hand": True} if entry.by_hand else {}),
            }
            for entry in hints.known
        ],
        "leave-out": [
            {
                "operation": candidate.operation,
                "input": candidate.input,
                **({"reason": candidate.reason} if candidate.reason else {}),
            }
            for candidate in hints.left_out
        ],
        "send": [{"operation": sent_row.operation, "input": sent_row.input} for sent_row in hints.sent],
        "meanings": [
            {
                "operation": meaning.operation,
                "does": meaning.does,
                **({"noun": meaning.noun} if meaning.noun else {}),
            }
            for meaning in hints.meanings
        ],
    }


def _dependency(rule: DependencyRule) -> dict[str, Any]:
    if rule.drop:
        return {"operation": rule.operation, "input": rule.input, "drop": True}
    return {"operation": rule.operation, "input": rule.input, "from": rule.source, "value": rule.value}


@dataclass(slots=True)
class Learned:
    """A file of what a service has shown."""

    path: Path
    hints: Hints = NO_HINTS

    @classmethod
    def read(cls, root: Path, target: str, contract: str) -> Learned:
        """Empty where there is none yet; ConfigError where it cannot be used."""
        path = learned_path(root, target, contract)
        mend = "correct it there, or remove it and learn anew"
        if path.is_symlink() or path.parent.is_symlink():
            raise ConfigError(
                "what was learned is not read through a symbolic link", where=str(path), mend=mend
            )
        if not path.exists():
            return cls(path)
        try:
            if path.stat().st_size > MAX_FILE:
                raise ConfigError(f"more than {MAX_FILE:,} bytes", where=str(path), mend=mend)
            text = path.read_text("utf-8")
            found = tomllib.loads(text)
        except (OSError, ValueError, RecursionError) as error:
            raise ConfigError(f"cannot be read: {error}", where=str(path), mend=mend) from None
        for name in found:
            if name not in _TABLES:
                raise ConfigError(
                    f"unknown table {quoted(name)}", where=str(path), mend=nearest(name, _TABLES)
                )
        check_form(found, text, path, table="contract")
        return cls(path, hints_of(found, learned=True))

    def add_by_hand(self, values: Iterable[KnownValue]) -> list[str]:
        """Puts values of a call by hand behind what the service has shown, in place of earlier such values;
        the addresses of those that are new.
        """
        fresh = {(one.operation, one.at): one for one in values}
        shown = {(one.operation, one.at) for one in self.hints.known if not one.by_hand}
        before = {(one.operation, one.at): one.value for one in self.hints.known if one.by_hand}
        fresh = {key: one for key, one in fresh.items() if key not in shown and before.get(key) != one.value}
        others = [one for one in self.hints.known if (one.operation, one.at) not in fresh]
        self.hints = replace(self.hints, known=(*others, *fresh.values()))
        return [one.at for one in fresh.values()]

    def text(self) -> str:
        """The file: each thing once, in an order that does not hang on when it was learned."""
        import tomlkit

        document = tomlkit.document()
        document.add(
            tomlkit.comment(
                "What `juxtalogos compose --learn` and calls by hand have shown; edit it freely, it is kept"
                " and added to."
            )
        )
        for name, entries in entries_of(self.hints).items():
            listed = tomlkit.aot()
            for one in _each_once(entries):
                made = tomlkit.table()
                made.update(one)
                listed.append(made)
            if len(listed):
                document.add(name, listed)
        return encodable(tomlkit.dumps(document))


def _each_once(entries: Iterable[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """Entries by what they are about, the first of each, without what TOML has no word for."""
    found: dict[tuple[str, str], dict[str, Any]] = {}
    for item in entries:
        if item.get("value", "") is not None:
            found.setdefault(
                (item.get("operation", ""), item.get("input") or item.get("at", "")), _without_null(item)
            )
    return [found[key] for key in sorted(found)]


def _without_null(value: Any) -> Any:
    """A value without members and items that are null."""
    if isinstance(value, dict):
        return {name: _without_null(one) for name, one in value.items() if one is not None}
    return (
        [_without_null(member) for member in value if member is not None]
        if isinstance(value, list)
        else value
    )


_TABLES = ("known", "dependencies", "leave-out", "send", "meanings")


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
