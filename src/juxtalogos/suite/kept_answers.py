"""Whole answers kept and compared: `kept/NAME.json`, with rules for what may differ held
once per operation.
"""

from __future__ import annotations

import json
import re
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path
from typing import Any

from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.model.errors import SuiteError, UsageError, quoted
from juxtalogos.suite.comparing import MIN_CARRIED, MOMENT, Allowed, differences
from juxtalogos.suite.language.expressions import Scope
from juxtalogos.workspace.files import write_whole

MAX_DIFFERENCES = 50
MADE = "made."
"""How the names of values begin that an earlier step's answer told to be new."""


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
        found = differences(self.value, value, self.allowed, self.values, now)
        return [one.told() for one in islice(found, MAX_DIFFERENCES)]


def run_values(scope: Scope) -> dict[str, Any]:
    """The single values that a run knows, by where they came from: inputs, outputs, what
    was sent, the day.
    """
    found: dict[str, Any] = {"today": time.strftime("%Y-%m-%d", time.gmtime())}
    if scope.exchange is not None:
        found[MOMENT] = scope.exchange.timings.sent_at
    for name, value in scope.inputs.items():
        _gather(found, f"inputs.{name}", value)
    for step, outputs in scope.steps.items():
        for name, value in outputs.items():
            _gather(found, f"steps.{step}.{name}", value)
    for place, value in scope.made.items():
        _gather(found, f"{MADE}{place}", value)
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
        raise UsageError(
            f"{quoted(name)} cannot name a kept response", mend="use letters, digits, _, - and /"
        )
    return workspace / "kept" / f"{name}.json"


def rules_path(workspace: Path, contract: str, operation: str) -> Path:
    return workspace / "kept" / "rules" / f"{contract}.{re.sub(r'[^A-Za-z0-9_-]+', '-', operation)}.json"


def write_kept(
    workspace: Path, name: str, contract: str, operation: str, value: Any, values: Mapping[str, Any]
) -> Path:
    """Keeps a whole answer; gives its file."""
    path = kept_path(workspace, name)
    data = {
        "version": 1,
        "contract": contract,
        "operation": operation,
        "value": value,
        "values": dict(values),
    }
    write_whole(path, (dump_json(data, indent=2) + "\n").encode())
    return path


def write_rules(workspace: Path, contract: str, operation: str, allowed: Allowed) -> Path:
    """Keeps what may differ in answers of an operation; gives the file."""
    path = rules_path(workspace, contract, operation)
    data = {
        "version": 1,
        "ignore": list(allowed.ignore),
        "anyOfType": list(allowed.any_of_type),
        "near": [{"at": at, "by": by} for at, by in allowed.near],
        "unordered": list(allowed.unordered),
        "created": list(allowed.created),
        "carried": allowed.carried,
    }
    write_whole(path, (json.dumps(data, indent=2) + "\n").encode())
    return path


def read_kept(workspace: Path, name: str) -> KeptAnswer:
    """SuiteError when it is gone or is none."""
    path = kept_path(workspace, name)
    data = _read(path, "the kept response is missing", f"keep it again: juxtalogos pin --whole {name}")
    if "value" not in data or not isinstance(data.get("values", {}), dict):
        raise SuiteError(
            "this is not a kept response",
            where=str(path),
            mend=f"keep it again: juxtalogos pin --whole {name}",
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
    unknown = set(data) - {"version", "ignore", "anyOfType", "near", "unordered", "created", "carried"}
    try:
        if unknown:
            raise ValueError(f"unknown key {sorted(unknown)[0]}")
        near = tuple((str(one["at"]), float(one["by"])) for one in data.get("near", ()))
        lists = [
            tuple(map(str, data.get(key, ()))) for key in ("ignore", "anyOfType", "unordered", "created")
        ]
    except (ValueError, KeyError, TypeError) as error:
        raise SuiteError(
            f"these rules cannot be used: {error}",
            where=str(path),
            mend="known: ignore, anyOfType, near, unordered, created, carried",
        ) from None
    return Allowed(lists[0], lists[1], near, lists[2], lists[3], data.get("carried", True) is not False)


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
