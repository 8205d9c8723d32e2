"""What a workspace has that can be named: read from its files as they stand, and of contracts from an index
that is made when one is imported. Nothing here is executed or fetched.
"""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path
from typing import Any

INDEX = "words"
"""The folder of the index in `.juxtalogos/`: a file for each contract."""
_CASE = re.compile(r"^\s*-?\s*(workflowId|stepId|operationId|x-juxtalogos-tags):\s*(.+?)\s*$", re.MULTILINE)
_FLOW = re.compile(r"\{\s*(workflowId|stepId):\s*([A-Za-z0-9_-]+)")
MAX_SUITE = 4 * 1024 * 1024


class Known:
    """The names of one workspace; all empty outside one."""

    def __init__(self, folder: Path) -> None:
        self.root = next(
            (one for one in (folder, *folder.parents) if (one / "juxtalogos.toml").is_file()), None
        )

    @cached_property
    def _config(self) -> dict[str, Any]:
        if self.root is None:
            return {}
        try:
            return tomllib.loads((self.root / "juxtalogos.toml").read_text("utf-8"))
        except (OSError, ValueError, RecursionError):
            return {}

    def _table(self, name: str) -> dict[str, Any]:
        found = self._config.get(name)
        return found if isinstance(found, dict) else {}

    def targets(self) -> list[str]:
        """Names of targets."""
        return list(self._table("targets"))

    def plans(self) -> list[str]:
        """Names of stored plans."""
        return list(self._table("plans"))

    def roles(self, target: str) -> list[str]:
        """Of a target, or of all."""
        tables = self._table("targets")
        chosen = [tables[target]] if target in tables else list(tables.values())
        return [name for one in chosen if isinstance(one, dict) for name in one.get("roles", {})]

    def parameters(self) -> list[str]:
        """Names of variables, of all places."""
        found = dict.fromkeys(self._table("variables"))
        for target in self._table("targets").values():
            if isinstance(target, dict) and isinstance(target.get("variables"), dict):
                found |= dict.fromkeys(target["variables"])
        for text in self._suite_texts().values():
            found |= dict.fromkeys(re.findall(r"\$inputs\.([A-Za-z0-9_-]+)", text))
        return list(found)

    def contracts(self) -> list[str]:
        """Names of contracts."""
        if self.root is None:
            return []
        return sorted(path.parent.name for path in (self.root / "definitions").glob("*/origin.json"))

    def without_index(self) -> list[str]:
        """The contracts that have no index, or an older one than their definition."""
        found = []
        for name in self.contracts():
            assert self.root is not None
            index = self.root / ".juxtalogos" / INDEX / f"{name}.json"
            try:
                made = index.stat().st_mtime_ns if index.exists() else 0
                if made < (self.root / "definitions" / name / "origin.json").stat().st_mtime_ns:
                    found.append(name)
            except OSError:
                continue
        return found

    @cached_property
    def _indexed(self) -> dict[str, dict[str, Any]]:
        found: dict[str, dict[str, Any]] = {}
        for name in self.contracts():
            assert self.root is not None
            try:
                data = json.loads((self.root / ".juxtalogos" / INDEX / f"{name}.json").read_text("utf-8"))
            except (OSError, ValueError):
                continue
            if isinstance(data, dict) and isinstance(data.get("operations"), dict):
                found[name] = data["operations"]
        return found

    def operations(self, contract: str) -> list[str]:
        """Ids of the operations of a contract."""
        return list(self._indexed.get(contract, {}))

    def inputs(self, operation: str) -> list[tuple[str, list[str]]]:
        """(address, allowed values) of an operation, `CONTRACT:ID` or an id."""
        contract, colon, name = operation.partition(":")
        for owner, operations in self._indexed.items():
            if colon and owner == contract and name in operations:
                return [(address, list(allowed)) for address, allowed in operations[name]]
            if operation in operations:
                return [(address, list(allowed)) for address, allowed in operations[operation]]
        return []

    def _suite_paths(self) -> dict[str, Path]:
        if self.root is None:
            return {}
        base = self.root / "suites"
        return {
            path.relative_to(base).as_posix().rpartition(".arazzo.")[0]: path
            for pattern in ("*.arazzo.yaml", "*.arazzo.yml", "*.arazzo.json")
            for path in sorted(base.rglob(pattern))
        }

    def suites(self) -> list[str]:
        """Names of suites, with their folders."""
        return list(self._suite_paths())

    def folders(self) -> list[str]:
        """Folders of suites, with a `/` at the end."""
        return list(dict.fromkeys(f"{name.rpartition('/')[0]}/" for name in self.suites() if "/" in name))

    def _suite_texts(self, only: str = "") -> dict[str, str]:
        found = {}
        for name, path in self._suite_paths().items():
            if only and name != only:
                continue
            try:
                if path.stat().st_size <= MAX_SUITE:
                    found[name] = path.read_text("utf-8")
            except (OSError, ValueError):
                continue
        return found

    def _lines(self, suite: str) -> Iterator[tuple[str, str]]:
        """(key, value) of what names something in a suite, in its order."""
        for text in self._suite_texts(suite).values():
            if text.lstrip().startswith("{"):
                yield from re.findall(r'"(workflowId|stepId|operationId)":\s*"([^"]+)"', text)
                continue
            found = [(one.start(), one[1], one[2].strip("'\"")) for one in _CASE.finditer(text)]
            found += [(one.start(), one[1], one[2]) for one in _FLOW.finditer(text)]
            yield from ((key, value) for _, key, value in sorted(found))

    def cases(self, suite: str) -> list[tuple[str, list[str]]]:
        """(case, its steps)."""
        found: list[tuple[str, list[str]]] = []
        for key, value in self._lines(suite):
            if key == "workflowId" and not value.startswith("$"):
                found.append((value, []))
            elif key == "stepId" and found:
                found[-1][1].append(value)
        return found

    def operation_of_step(self, place: str) -> str:
        """The operation that `SUITE#CASE#STEP` calls; empty where that is not known. A case stands for its
        first step.
        """
        suite, case, step = (*place.split("#"), "", "")[:3]
        here = now = ""
        for key, value in self._lines(suite):
            if key == "workflowId":
                here, now = value, ""
            elif key == "stepId":
                now = value
            elif key == "operationId" and here == case and (now == step or not step):
                return value.rpartition(".")[2]
        return ""

    def tags(self) -> list[str]:
        """Labels of cases."""
        found: dict[str, None] = {}
        for text in self._suite_texts().values():
            for block in re.findall(r"x-juxtalogos-tags:((?:\s*\n\s*-\s*\S+)+|\s*\[[^\]]*\])", text):
                found |= dict.fromkeys(re.findall(r"[A-Za-z0-9_.-]*[A-Za-z0-9_.]", block))
        return list(found)
