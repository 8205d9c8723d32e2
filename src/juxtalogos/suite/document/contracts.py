"""A contract renamed or removed, with all in the workspace that refers to it."""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from juxtalogos.documents.load import load_document
from juxtalogos.model.errors import JuxtalogosError, UsageError, nearest, quoted
from juxtalogos.suite.document.editor import editing
from juxtalogos.suite.document.reader import read_suites, suite_name, suite_paths
from juxtalogos.suite.kept_answers import rules_path
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.importing import check_name
from juxtalogos.workspace.known import LEARNED
from juxtalogos.workspace.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Referring:
    """What of a workspace names a contract."""

    suites: tuple[Path, ...]
    targets: tuple[str, ...]
    """Those that have a base URL of its own for it."""
    learned: tuple[Path, ...]
    kept: tuple[Path, ...]
    """Kept responses, and rules for what may differ in them."""

    def told(self, home: Workspace) -> list[str]:
        """Each kind in words, for a person."""
        groups = (
            ("suites", [suite_name(path, home) for path in self.suites]),
            ("targets", list(self.targets)),
            ("learned", [str(path.relative_to(home.root)) for path in self.learned]),
            ("kept responses", [str(path.relative_to(home.root)) for path in self.kept]),
        )
        return [
            f"{what}: {', '.join(names[:6])}{' …' if len(names) > 6 else ''}"
            for what, names in groups
            if names
        ]


def referring(home: Workspace, name: str) -> Referring:
    """What names a contract. UsageError with the nearest where there is none of that name."""
    if name not in home.contract_names():
        raise UsageError(f"there is no contract {quoted(name)}", mend=nearest(name, home.contract_names()))
    return all_referring(home, [name])[name]


def all_referring(home: Workspace, names: Iterable[str]) -> dict[str, Referring]:
    """What names each of some contracts; every suite is read once. DocumentError for one that cannot be
    read.
    """
    read = ((path, load_document(str(path), path.read_bytes())) for path in suite_paths(home))
    sources = {path: _sources(document.value) for path, document in read}
    return {name: _referring(home, name, sources) for name in names}


def _referring(home: Workspace, name: str, sources: Mapping[Path, list[Any]]) -> Referring:
    suites = [
        path for path, listed in sources.items() if any(_leads_to(home, path, one, name) for one in listed)
    ]
    learned = sorted((home.root / LEARNED).glob(f"*/{name}.toml"))
    targets = [target.name for target in home.config.targets.values() if name in target.urls]
    return Referring(tuple(suites), tuple(targets), tuple(learned), tuple(_kept(home, name)))


def remove_contract(home: Workspace, name: str) -> None:
    """Removes a definition, its settings, its base URLs, what was learned of it and the rules for its kept
    responses. Suites, kept responses and runs stay.
    """
    found = referring(home, name)
    home.rename_in_config(name, "")
    shutil.rmtree(home.definitions / name)
    for path in (*found.learned, *(path for path in found.kept if path.parent.name == "rules")):
        path.unlink()


def rename_contract(home: Workspace, name: str, new: str) -> None:
    """Gives a contract another name; suites, configuration, what was learned and kept responses follow. The
    runs in the ledger keep the old one. UsageError where the name is none, or taken; what fails halfway
    changes nothing.
    """
    check_name(new)
    if (home.definitions / new).exists():
        raise UsageError(f"there is a contract {quoted(new)} already", mend="choose another name")
    found = referring(home, name)
    config = home.root / "juxtalogos.toml"
    before = {path: path.read_bytes() for path in (config, *found.suites, *found.kept)}
    moved = [(home.definitions / name, home.definitions / new)]
    moved += [(path, path.with_name(f"{new}.toml")) for path in found.learned]
    rules = [path for path in found.kept if path.parent.name == "rules"]
    moved += [(path, path.with_name(new + path.name[len(name) :])) for path in rules]
    done: list[tuple[Path, Path]] = []
    try:
        for source, target in moved:
            source.rename(target)
            done.append((source, target))
        home.rename_in_config(name, new)
        for path in found.suites:
            with editing(path) as document:
                for one in _sources(document):
                    if _leads_to(home, path, one, name):
                        one["url"] = _renamed(home, path, str(one["url"]), name, new)
        for path in (path for path in found.kept if path.parent.name != "rules"):
            data = json.loads(path.read_text("utf-8"))
            write_whole(
                path, (json.dumps({**data, "contract": new}, indent=2, ensure_ascii=False) + "\n").encode()
            )
        home.forget_contracts()
        read_suites(home, list(found.suites))
    except (OSError, ValueError, JuxtalogosError):
        for source, target in reversed(done):
            target.rename(source)
        for path, text in before.items():
            write_whole(path, text)
        home.forget_contracts()
        raise


def _kept(home: Workspace, name: str) -> Iterator[Path]:
    rules = rules_path(home.root, name, "x").parent
    yield from sorted(rules.glob(f"{name}.*.json"))
    for path in sorted((home.root / "kept").rglob("*.json")):
        if path.parent != rules:
            try:
                if json.loads(path.read_text("utf-8")).get("contract") == name:
                    yield path
            except (ValueError, AttributeError):
                continue  # no kept response


def _sources(document: Any) -> list[Any]:
    found = document.get("sourceDescriptions") if isinstance(document, dict) else None
    return [one for one in found if isinstance(one, dict)] if isinstance(found, list) else []


def _leads_to(home: Workspace, path: Path, source: Any, name: str) -> bool:
    """Whether a source description of a suite means a contract: by where its URL leads, else by its name."""
    if source.get("type") == "arazzo":
        return False
    place, folder = (path.parent / str(source.get("url", ""))).resolve(), home.definitions.resolve()
    if place.is_relative_to(folder) and place != folder:
        return place.relative_to(folder).parts[0] == name
    return str(source.get("name")) == name


def _renamed(home: Workspace, path: Path, url: str, name: str, new: str) -> str:
    """The URL of a source description, with the contract's folder renamed."""
    before, mark, after = url.rpartition(f"definitions/{name}/")
    return f"{before}definitions/{new}/{after}" if mark else url
