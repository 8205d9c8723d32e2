"""A contract read from the cache is the same as a fresh one for everything that it can be asked, in whatever
order.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import fields
from importlib import resources
from itertools import islice
from pathlib import Path
from typing import Any

import pytest

from conftest import TESTS
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import Unsampleable, UsageError
from juxtalogos.workspace import cache
from juxtalogos.workspace.importing import keep, read_source
from juxtalogos.workspace.remote import Access
from juxtalogos.workspace.workspace import Workspace, init_workspace

HERE = TESTS
DEMO = resources.files("juxtalogos.demo")
SOURCES = [
    "berths.yaml",
    "pilotage.wsdl",
    "registry.edmx",
    "registry-v2.edmx",
    "data/tugs.wsdl",
    "odata/quays.edmx",
    "odata/stores.edmx",
    "odata/yard.edmx",
    "odata/yard.json",
]
BASE = "http://quay.test/v1"
UNLIKE = re.compile(rb"urn:uuid:[0-9a-f-]+|(?:batch|changeset)_[0-9a-f]+|boundary=\S+|--[0-9a-f]{16,}")


def told(contract: Contract, operation: Operation) -> dict[str, Any]:
    """All that a contract can be asked of one operation."""
    wire = wire_of(contract)
    found: dict[str, Any] = {
        "operation": str(operation),
        "elements": [str(one) for one in wire.elements(operation)],
    }
    for full in (False, True):
        for seed in (0, 3):
            try:
                inputs = sample_inputs(contract, operation, full=full, seed=seed)
                request = wire.encode(operation, inputs, BASE)
                found[f"sent {full} {seed}"] = (
                    request.method,
                    UNLIKE.sub(b"", request.url.encode()),
                    UNLIKE.sub(b"", request.body or b""),
                )
                found[f"matched {full} {seed}"] = [one.id for one in wire.match(request, BASE)]
            except (Unsampleable, UsageError) as error:
                found[f"sent {full} {seed}"] = str(error)
    for ref in contract.schema_refs(operation):
        found[str(ref)] = list(of_schema(contract.schema(ref)))
    return found


def of_schema(schema: Any) -> Iterator[Any]:
    yield [str(row) for row in schema.outline(4)]
    yield sorted(str(one) for one in schema.elements())
    try:
        value = schema.sample(full=True)
    except Unsampleable as error:
        yield str(error)
        return
    yield str(value), schema.accepts(value)
    for one in islice(schema.mutate(value), 25):
        yield (
            one.path,
            one.keyword,
            str(one.location),
            [str(deviation) for deviation in schema.check(one.value)],
        )
    for limit in islice(schema.boundaries(value), 10):
        yield limit.path, limit.keyword, schema.accepts(limit.value)


@pytest.mark.parametrize("name", SOURCES)
def test_the_same_for_everything_that_can_be_asked(
    name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    path = HERE / name if (HERE / name).is_file() else Path(str(DEMO.joinpath(name)))
    home = init_workspace(tmp_path / "w")
    (imported,) = read_source(str(path), Access(), name="quay")
    keep(home, imported)
    fresh = imported.contract
    assert fresh is not None
    loads = []
    original = cache.load
    monkeypatch.setattr(cache, "load", lambda kept: (loads.append(original(kept)), loads[-1])[1])
    cached = Workspace(home.root).contract("quay")
    assert loads and loads[-1] is not None, "it came from the cache"
    count = len(fresh.operations)
    picked = list(range(0, count, max(1, count // 40)))
    first = {index: told(fresh, fresh.operations[index]) for index in picked}
    for index in reversed(picked):  # asked the other way round, each with the last question first
        operation = cached.operations[index]
        for ref in reversed(list(cached.schema_refs(operation))):
            list(of_schema(cached.schema(ref)))
        assert told(cached, operation) == first[index], operation.id
    assert [str(one) for one in fresh.faults] == [str(one) for one in cached.faults]
    assert (fresh.security_schemes, fresh.servers, fresh.columns) == (
        cached.security_schemes,
        cached.servers,
        cached.columns,
    )


def test_all_of_a_contract_is_kept_in_the_cache() -> None:
    """A fact that is added to contracts and not to the cache would be there in the first command only."""
    made_anew = {"name", "root", "documents", "engine", "_index"}
    assert {one.name for one in fields(Contract)} == cache._PARTS.keys() | made_anew
