"""Whole answers kept and compared: `kept/NAME.json`, with rules for what may differ held once per operation."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.model.errors import SuiteError, UsageError, quoted
from juxtalogos.model.location import escape_key
from juxtalogos.model.schema import ABSENT
from juxtalogos.schema.json.tree.values import equal, in_words, key_of, type_of
from juxtalogos.suite.language.expressions import Scope
from juxtalogos.workspace.files import write_whole

MAX_DIFFERENCES = 50
MIN_CARRIED = 3
"""Shorter texts are no values of a run: they occur by chance."""


@dataclass(frozen=True, slots=True)
class Allowed:
    """What may differ; a path may have `*` for any name or index."""

    ignore: tuple[str, ...] = ()
    any_of_type: tuple[str, ...] = ()
    near: tuple[tuple[str, float], ...] = ()
    unordered: tuple[str, ...] = ()
    carried: bool = True


@dataclass(frozen=True, slots=True)
class KeptAnswer:
    name: str
    operation: str
    value: Any
    values: Mapping[str, Any]
    """Values of the run in which it was kept, by where they came from."""
    allowed: Allowed = field(default_factory=Allowed)

    def differences(self, value: Any, now: Mapping[str, Any]) -> list[str]:
        """In words, each with its path; empty when the answer is as it was kept."""
        carried = (
            {_as_key(old): now[name] for name, old in self.values.items() if name in now}
            if self.allowed.carried
            else {}
        )
        comparing = _Comparing(self.allowed, carried)
        found = []
        for text in comparing.compare(self.value, value, ""):
            found.append(text)
            if len(found) >= MAX_DIFFERENCES:
                break
        return found


def _as_key(value: Any) -> Any:
    return key_of(value)


class _Comparing:
    def __init__(self, allowed: Allowed, carried: Mapping[Any, Any]) -> None:
        self.ignore = _patterns(allowed.ignore)
        self.types = _patterns(allowed.any_of_type)
        self.near = [(_patterns((path,)), by) for path, by in allowed.near]
        self.unordered = _patterns(allowed.unordered)
        self.carried = carried

    def compare(self, kept: Any, came: Any, path: str) -> Iterator[str]:
        if _fits(self.ignore, path):
            return
        where = path or "the body"
        if came is ABSENT or kept is ABSENT:
            yield f"{where}: {'gone, was ' + in_words(kept, 60) if came is ABSENT else 'new, ' + in_words(came, 60)}"
        elif _fits(self.types, path):
            if type_of(kept) != type_of(came):
                yield f"{where}: kept {type_of(kept)}, came {type_of(came)}"
        elif isinstance(kept, dict) and isinstance(came, dict):
            for key in dict.fromkeys([*kept, *came]):
                yield from self.compare(kept.get(key, ABSENT), came.get(key, ABSENT), f"{path}/{escape_key(key)}")
        elif isinstance(kept, list) and isinstance(came, list):
            yield from self.lists(kept, came, path)
        elif not self.same(kept, came, path):
            yield f"{where}: kept {in_words(kept, 60)}, came {in_words(came, 60)}"

    def lists(self, kept: list[Any], came: list[Any], path: str) -> Iterator[str]:
        if _fits(self.unordered, path):
            left = list(came)
            for item in kept:
                found = next(
                    (index for index, one in enumerate(left) if not any(self.compare(item, one, f"{path}/0"))), None
                )
                if found is None:
                    yield f"{path or 'the body'}: gone, was {in_words(item, 60)}"
                else:
                    del left[found]
            yield from (f"{path or 'the body'}: new, {in_words(item, 60)}" for item in left)
            return
        for index in range(max(len(kept), len(came))):
            one = kept[index] if index < len(kept) else ABSENT
            other = came[index] if index < len(came) else ABSENT
            yield from self.compare(one, other, f"{path}/{index}")

    def same(self, kept: Any, came: Any, path: str) -> bool:
        if equal(kept, came):
            return True
        numbers = all(isinstance(one, int | float) and not isinstance(one, bool) for one in (kept, came))
        if numbers and any(_fits(pattern, path) and abs(kept - came) <= by for pattern, by in self.near):
            return True
        if key_of(kept) in self.carried and equal(self.carried[key_of(kept)], came):
            return True
        return isinstance(kept, str) and isinstance(came, str) and self.told_anew(kept) == came

    def told_anew(self, text: str) -> str:
        """A kept text with the values of that run replaced by those of this one."""
        for old, new in self.carried.items():
            if isinstance(old, str) and len(old) >= MIN_CARRIED and isinstance(new, str):
                text = text.replace(old, new)
        return text


def _patterns(paths: tuple[str, ...]) -> list[re.Pattern[str]]:
    return [
        re.compile("/".join("[^/]+" if token == "*" else re.escape(token) for token in path.split("/")))
        for path in paths
    ]


def _fits(patterns: list[re.Pattern[str]], path: str) -> bool:
    return any(pattern.fullmatch(path) for pattern in patterns)


def run_values(scope: Scope) -> dict[str, Any]:
    """The single values that a run knows, by where they came from: inputs, outputs, what was sent, the day."""
    found: dict[str, Any] = {"today": time.strftime("%Y-%m-%d", time.gmtime())}
    for name, value in scope.inputs.items():
        _gather(found, f"inputs.{name}", value)
    for step, outputs in scope.steps.items():
        for name, value in outputs.items():
            _gather(found, f"steps.{step}.{name}", value)
    for address, value in scope.request_values.items():
        _gather(found, address, value)
    return found


def _gather(found: dict[str, Any], name: str, value: Any) -> None:
    if (isinstance(value, str) and len(value) >= MIN_CARRIED) or (
        isinstance(value, int | float) and not isinstance(value, bool) and abs(value) >= 100
    ):
        found[name] = value


def kept_path(workspace: Path, name: str) -> Path:
    """The file of a kept answer; UsageError when its name is none."""
    if not re.fullmatch(r"[A-Za-z0-9_\-]+(/[A-Za-z0-9_\-]+)*", name):
        raise UsageError(f"{quoted(name)} is no name for a kept answer", mend="use letters, digits, _, - and /")
    return workspace / "kept" / f"{name}.json"


def rules_path(workspace: Path, contract: str, operation: str) -> Path:
    return workspace / "kept" / "rules" / f"{contract}.{re.sub(r'[^A-Za-z0-9_-]+', '-', operation)}.json"


def write_kept(
    workspace: Path, name: str, contract: str, operation: str, value: Any, values: Mapping[str, Any]
) -> Path:
    """Keeps a whole answer; gives its file."""
    path = kept_path(workspace, name)
    data = {"version": 1, "contract": contract, "operation": operation, "value": value, "values": dict(values)}
    write_whole(path, (dump_json(data, indent=2) + "\n").encode())
    return path


def write_rules(workspace: Path, contract: str, operation: str, allowed: Allowed) -> Path:
    """Keeps what may differ in answers of an operation; gives the file."""
    path = rules_path(workspace, contract, operation)
    data = {
        "version": 1, "ignore": list(allowed.ignore), "anyOfType": list(allowed.any_of_type), "near": [{"at": at, "by": by} for at, by in allowed.near],
        "unordered": list(allowed.unordered), "carried": allowed.carried,
    }  # fmt: skip
    write_whole(path, (json.dumps(data, indent=2) + "\n").encode())
    return path


def read_kept(workspace: Path, name: str) -> KeptAnswer:
    """SuiteError when it is gone or is none."""
    path = kept_path(workspace, name)
    data = _read(path, "the kept answer is gone", f"keep it again: juxtalogos pin --whole {name}")
    if "value" not in data or not isinstance(data.get("values", {}), dict):
        raise SuiteError(
            "this is no kept answer", where=str(path), mend=f"keep it again: juxtalogos pin --whole {name}"
        )
    contract, operation = str(data.get("contract", "")), str(data.get("operation", ""))
    return KeptAnswer(
        name, operation, data["value"], data.get("values", {}), read_rules(workspace, contract, operation)
    )


def read_rules(workspace: Path, contract: str, operation: str) -> Allowed:
    """What may differ in answers of an operation."""
    path = rules_path(workspace, contract, operation)
    if not path.exists():
        return Allowed()
    data = _read(path, "the rules are gone", "")
    unknown = set(data) - {"version", "ignore", "anyOfType", "near", "unordered", "carried"}
    try:
        if unknown:
            raise ValueError(f"unknown key {sorted(unknown)[0]}")
        near = tuple((str(one["at"]), float(one["by"])) for one in data.get("near", ()))
        lists = [tuple(map(str, data.get(key, ()))) for key in ("ignore", "anyOfType", "unordered")]
    except (ValueError, KeyError, TypeError) as error:
        raise SuiteError(
            f"these rules cannot be used: {error}",
            where=str(path),
            mend="known: ignore, anyOfType, near, unordered, carried",
        ) from None
    return Allowed(lists[0], lists[1], near, lists[2], data.get("carried", True) is not False)


def _read(path: Path, gone: str, mend: str) -> dict[str, Any]:
    try:
        data = parse_json(path.read_bytes())
    except FileNotFoundError:
        raise SuiteError(gone, where=str(path), mend=mend) from None
    except (OSError, NotJson) as error:
        raise SuiteError(f"cannot be read: {error}", where=str(path), mend=mend) from None
    if not isinstance(data, dict):
        raise SuiteError("this is no object", where=str(path), mend=mend)
    return data


def proposed(one: Any, other: Any, before: Allowed) -> Allowed:
    """Rules under which two answers of the same call are the same: what differed may be any value of its type, or is left out."""
    types, ignored = list(before.any_of_type), list(before.ignore)
    for _ in range(200):
        allowed = Allowed(tuple(ignored), tuple(types), before.near, before.unordered, before.carried)
        text = next(iter(_Comparing(allowed, {}).compare(one, other, "")), None)
        if text is None:
            return allowed
        path = text.partition(": ")[0]
        path = "" if path == "the body" else re.sub(r"/\d+(?=/|$)", "/*", path)
        if ": kept " in text and path not in types:
            types.append(path)
        elif path not in ignored:
            ignored.append(path)
        else:
            return allowed
    return Allowed(tuple(ignored), tuple(types), before.near, before.unordered, before.carried)
