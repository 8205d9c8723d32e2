"""A workspace on disk: where its parts are, and its contracts read back."""

from __future__ import annotations

import json
import os
import shlex
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

from juxtalogos.conventions import words
from juxtalogos.conventions.danger import said_to_do
from juxtalogos.documents.uris import origin
from juxtalogos.formats import read_contract
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import ConfigError, UsageError, nearest, quoted
from juxtalogos.workspace import cache
from juxtalogos.workspace.config import (
    CONFIG_NAME,
    GIVEN,
    Config,
    ContractSettings,
    Target,
    check_url,
    read_config,
)
from juxtalogos.workspace.config_writing import WritesConfig
from juxtalogos.workspace.files import folder_fetch, read_inside, write_whole
from juxtalogos.workspace.known import NO_HINTS, Hints, Learned

_NEW_CONFIG = """\
# A Juxtalogos workspace. Its form: docs/configuration.md

version = 1

[defaults]
jobs = 4
"""


def _meant(operation: Operation, hints: Hints) -> Operation:
    """The operation as a person says that it is meant."""
    for meaning in hints.meanings:
        if meaning.operation == operation.id:
            meant = replace(operation, **said_to_do(meaning.does))
            return replace(meant, noun=meaning.noun, resource="") if meaning.noun else meant
    return operation


@dataclass
class Workspace(WritesConfig):
    """The folder that holds `juxtalogos.toml`."""

    root: Path
    _contracts: dict[str, Contract] = field(default_factory=dict)

    @cached_property
    def config(self) -> Config:
        """The configuration; the words that it adds are understood from then on."""
        config = read_config(self.root / CONFIG_NAME)
        words.extend(config.conventions)
        return config

    @property
    def definitions(self) -> Path:
        return self.root / "definitions"

    @property
    def suites(self) -> Path:
        return self.root / "suites"

    @property
    def state(self) -> Path:
        return self.root / ".juxtalogos"

    @property
    def ledger_path(self) -> Path:
        return self.state / "ledger.sqlite"

    def contract_names(self) -> list[str]:
        return sorted(path.parent.name for path in self.definitions.glob("*/origin.json"))

    def contract(self, name: str) -> Contract:
        """UsageError when there is none of that name."""
        if name not in self._contracts:
            if name not in self.contract_names():
                raise UsageError(
                    f"there is no contract {quoted(name)}",
                    mend=nearest(name, self.contract_names())
                    or "import a definition: juxtalogos import FILE",
                )
            settings = self.config.contracts.get(name, ContractSettings())  # first: it adds words
            contract = self._read(name)
            if settings.formats:
                contract.engine.assert_formats(settings.formats == "assert")
            if settings.hints.meanings:
                contract = replace(
                    contract,
                    operations=[_meant(operation, settings.hints) for operation in contract.operations],
                    _index={},
                )
            if settings.secrets:
                contract = replace(contract, secret_fields=(*contract.secret_fields, *settings.secrets))
            self._contracts[name] = contract
        return self._contracts[name]

    def take(self, contract: Contract) -> None:
        """Takes a contract that was just read or written for the one of its name."""
        self._contracts[contract.name] = contract

    def _read(self, name: str) -> Contract:
        """From the cache where the same documents were read before."""
        folder, origin = self.definitions / name, self.origin(name)
        root, files = origin["root"], _files(origin.get("documents"))
        kept = cache.CachedDocuments(
            name, root, {uri: read_inside(folder, file) for uri, file in files.items()}
        )
        found = cache.load(kept)
        if found is None:
            fetch = folder_fetch(folder, files)
            found = read_contract(fetch(root), name, root, fetch, files)
            cache.save(found)
        return found

    def written_hints(self, name: str, target: Target | None = None) -> Hints:
        """What people wrote down of a contract, at a target before elsewhere."""
        settings = self.config.contracts.get(name, ContractSettings())
        here = target.known if target is not None else {}
        return here.get(name, NO_HINTS).and_then(here.get("", NO_HINTS)).and_then(settings.hints)

    def hints(self, name: str, target: Target | None) -> Hints:
        """All that is known of a contract: what people wrote, and what a target has shown."""
        learned = Learned.read(self.root, target.name, name).hints if target is not None else NO_HINTS
        return self.written_hints(name, target).and_then(learned)

    def origin(self, name: str) -> dict[str, Any]:
        """What was written down of where a contract came from."""
        folder = self.definitions / name
        try:
            found = json.loads((folder / "origin.json").read_text("utf-8"))
            if not isinstance(found["root"], str):
                raise ValueError("its root is no text")
            return dict(found)
        except (OSError, ValueError, KeyError, TypeError) as error:
            mend = "import the definition again"
            raise ConfigError(f"origin.json cannot be used: {error}", where=str(folder), mend=mend) from None

    def contracts(self) -> list[Contract]:
        return [self.contract(name) for name in self.contract_names()]

    def operation(self, text: str) -> tuple[Contract, Operation]:
        """An operation by its id, `contract:id`, or `METHOD path`; UsageError with the nearest names."""
        name, colon, rest = text.partition(":")
        if colon and name in self.contract_names():
            contract = self.contract(name)
            return contract, _find(contract, rest)
        found = [
            (contract, operation) for contract in self.contracts() if (operation := _lookup(contract, text))
        ]
        if len(found) == 1:
            return found[0]
        if found:
            raise UsageError(
                f"several contracts have an operation {quoted(text)}",
                mend="write " + " or ".join(operation.full_id for _, operation in found),
            )
        known = [operation.id for contract in self.contracts() for operation in contract.operations]
        mend = nearest(text, known) if known else "import a definition first: juxtalogos import FILE"
        raise UsageError(f"there is no operation {quoted(text)}", mend=mend)

    def target(self, name: str | None, contracts: Iterable[str] = ()) -> Target:
        """A target by name or, where `name` is a URL, one made of it.

        Without a name the one that was set as default, or the only one that serves the contracts; never the
        one that was used last.
        """
        targets = self.config.targets
        if name and "://" in name:
            guarded = self.guarded_at(name)
            return Target(GIVEN, check_url(name), variables=self.config.variables, guarded=guarded)
        wanted = list(contracts)
        chosen = name or self.config.default_target
        for serving in (
            [one.name for one in targets.values() if wanted and all(at in one.urls for at in wanted)],
            [one.name for one in targets.values() if all(map(one.serves, wanted))],
            list(targets),
        ):
            if not chosen and len(serving) == 1:
                chosen = serving[0]
        if not chosen:
            servers = [server for contract in self.contracts() for server in contract.servers]
            url = next((one for one in servers if one.startswith("http")), "URL")
            hint = "  (the definition names it)" if url != "URL" else ""
            known = f"--target {' or '.join(targets)}; or for always: juxtalogos targets set NAME --default"
            raise ConfigError(
                "no target is named",
                where=str(self.root / CONFIG_NAME),
                mend=known
                if targets
                else f"juxtalogos targets set NAME {shlex.quote(url)}{hint}; or for once --target URL",
            )
        return self.config.target(chosen)

    def guarded_at(self, url: str) -> str:
        """The guarded target at the origin of a URL; empty for none."""
        targets, place = self.config.targets.values(), origin(url)
        return next((one.name for one in targets if one.guarded and place in one.origins()), "")

    def forget_contracts(self) -> None:
        """Reads contracts and configuration anew when they are asked for again."""
        self._contracts.clear()
        self.__dict__.pop("config", None)


def _files(documents: Any) -> dict[str, str]:
    """Where each document is kept: by its own path, unless it says otherwise."""
    found = documents.items() if isinstance(documents, dict) else ()
    return {uri: str(one.get("file", uri)) if isinstance(one, dict) else uri for uri, one in found}


def _lookup(contract: Contract, text: str) -> Operation | None:
    found = contract.operation(text)
    if found:
        return found
    method, _, path = text.partition(" ")
    return next(
        (operation for operation in contract.operations if operation.call == f"{method.upper()} {path}"),
        None,
    )


def _find(contract: Contract, text: str) -> Operation:
    found = _lookup(contract, text)
    if found is None:
        raise UsageError(
            f"the contract {contract.name} has no operation {quoted(text)}",
            mend=nearest(text, [operation.id for operation in contract.operations]),
        )
    return found


def init_workspace(folder: Path) -> Workspace:
    """A new workspace; UsageError when there is one already."""
    path = folder / CONFIG_NAME
    if path.exists():
        raise UsageError(
            "this folder is a workspace already",
            where=str(path),
            mend="import into it, or choose another folder",
        )
    try:
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "suites").mkdir(exist_ok=True)
        (folder / "definitions").mkdir(exist_ok=True)
        write_whole(path, _NEW_CONFIG.encode())
    except OSError as error:
        raise UsageError(
            f"the folder cannot be written: {error.strerror}",
            where=str(folder),
            mend="check its path and permissions",
        ) from None
    return Workspace(folder)


_PLACES = ("suites", "definitions", "tables", "kept", "reports", ".juxtalogos")
_MOST_FOLDERS = 20_000


def _check_places(root: Path) -> None:
    """ConfigError where a symbolic link leads what is written out of the workspace."""
    whole = root.resolve()
    links = [path for name in _PLACES if (path := root / name).is_symlink()]
    links += [path for path in (root / ".juxtalogos").glob("*") if path.is_symlink()]
    for name in _PLACES[:-1]:
        for count, (folder, names, _) in enumerate(os.walk(root / name)):
            links += [path for word in names if (path := Path(folder, word)).is_symlink()]
            if count > _MOST_FOLDERS:
                break
    for path in links:
        if not path.resolve().is_relative_to(whole):
            raise ConfigError(
                f"{path.relative_to(root)} leads out of the workspace, to {path.resolve()}",
                where=str(root),
                mend="take the link away, and keep what it holds inside",
            )


def find_workspace(start: Path) -> Workspace:
    """The workspace of a folder or of one above it."""
    start = start.resolve()
    for folder in (start, *start.parents):
        if (folder / CONFIG_NAME).is_file():
            _check_places(folder)
            return Workspace(folder)
    raise UsageError("there is no workspace here", where=str(start), mend="make one: juxtalogos init")
