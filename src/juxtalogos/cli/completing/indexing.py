"""The index of a contract's operations, their inputs and allowed values: what completion offers of it."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from juxtalogos.cli.completing.known import INDEX
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.schema import OutlineRow
from juxtalogos.workspace.files import write_whole
from juxtalogos.workspace.workspace import Workspace

MOST_INPUTS, MOST_VALUES = 300, 100


def index_contract(home: Workspace, contract: Contract) -> None:
    """Writes the index of a contract; where it cannot be written, none is offered."""
    _write(home, contract.name, {one.id: list(_inputs(contract, one)) for one in contract.operations})


def _write(home: Workspace, name: str, operations: Mapping[str, Any]) -> None:
    path = home.state / INDEX / f"{name}.json"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        text = json.dumps({"version": 1, "operations": operations}, separators=(",", ":"))
        write_whole(path, text.encode(), private=True)
    except OSError:
        return


def index_contracts(root: Path, names: Iterable[str]) -> None:
    """Writes the index of some contracts of a workspace; of one that cannot be read an empty one, so that it
    is not tried again at every key.
    """
    home = Workspace(root)
    for name in names:
        try:
            index_contract(home, home.contract(name))
        except JuxtalogosError:
            _write(home, name, {})


def _inputs(contract: Contract, operation: Operation) -> list[tuple[str, list[str]]]:
    found = []
    for one in operation.inputs:
        rows = list(contract.schema(one.schema).outline()) if one.schema else []
        found.append((one.address, _choices(rows[0]) if rows else []))
    media = operation.body.media[0] if operation.body and operation.body.media else None
    for row in contract.schema(media.schema).outline() if media is not None and media.schema else ():
        if row.scalar and row.path and len(found) < MOST_INPUTS:
            found.append((f"body{row.path}", _choices(row)))
    return found[:MOST_INPUTS]


def _choices(row: OutlineRow) -> list[str]:
    return [one if isinstance(one, str) else json.dumps(one) for one in row.choices][:MOST_VALUES]
