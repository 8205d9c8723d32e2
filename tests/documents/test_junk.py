"""Documents damaged at random places: whatever is read from outside ends in an error of ours or is used,
never in a fault of the program.
"""

from __future__ import annotations

import copy
import json
import sys
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from test_arazzo import GET, HEAD, REGISTER
from test_audit import BASE, entry, har

from conftest import BERTHS
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.documents.load import load_document
from juxtalogos.exchange.har import read_har
from juxtalogos.formats import FORMATS, wire_of
from juxtalogos.formats.openapi import OPENAPI
from juxtalogos.model.errors import JuxtalogosError
from juxtalogos.model.wire import Inputs
from juxtalogos.run.judging.audit import ServedAt, audit
from juxtalogos.suite.document.reader import read_suites
from juxtalogos.workspace.importing import keep, read_source
from juxtalogos.workspace.remote import Access
from juxtalogos.workspace.workspace import Workspace, init_workspace
from recorded import OLD, V31, definition_of

JUNK = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-3, 10**20),
    st.floats(allow_nan=False),
    st.text(max_size=6),
    st.just([]),
    st.just({}),
    st.just([None, {"a": []}]),
    st.just({"$ref": "#"}),
    st.just({"$ref": "nowhere.yaml#/x"}),
    st.just("$steps.x.outputs.y"),
    st.just("{$inputs.x}"),
    st.just("$response.body#/a"),
    st.just({"type": "object", "properties": 4}),
)


def _places(value: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    found = [path] if path else []
    members = (
        value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    )
    for key, item in members:
        found += _places(item, (*path, key))
    return found


def damaged(data: st.DataObject, value: Any, most: int = 3) -> Any:
    """A copy with some places replaced, taken out, or given another name."""
    value = json.loads(json.dumps(value))  # a copy that shares nothing within itself
    for _ in range(data.draw(st.integers(1, most))):
        places = _places(value)
        path = places[data.draw(st.integers(0, len(places) - 1))]
        holder = value
        for key in path[:-1]:
            holder = holder[key]
        how = data.draw(st.sampled_from(["replace", "remove", "rename"]))
        if how == "remove":
            del holder[path[-1]]
        elif how == "rename" and isinstance(holder, dict):
            holder[data.draw(st.text(max_size=4))] = holder.pop(path[-1])
        else:
            holder[path[-1]] = copy.deepcopy(data.draw(JUNK))
        if not _places(value):
            return value
    return value


@pytest.fixture(scope="module", autouse=True)
def _deep() -> None:
    sys.setrecursionlimit(12_000)  # as the command line has it


_DEFINITIONS = [yaml.safe_load(BERTHS), definition_of(OLD), definition_of(V31)]


def _use(contract: Any) -> None:
    """What `show`, `skeleton` and `coverage` would do with it."""
    for operation in list(contract.operations)[:40]:
        list(wire_of(contract).elements(operation))
        for ref in contract.schema_refs(operation):
            list(contract.schema(ref).outline())
        try:
            inputs = sample_inputs(contract, operation, full=True)
            request = wire_of(contract).encode(operation, inputs, "http://h/v1")
            wire_of(contract).match(request, "http://h/v1")
            wire_of(contract).encode(operation, Inputs({}), "http://h")
        except JuxtalogosError:
            continue


@settings(max_examples=120, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.data())
def test_damaged_definitions(data: st.DataObject) -> None:
    value = damaged(data, data.draw(st.sampled_from(_DEFINITIONS)))
    text = json.dumps(value).encode()

    def fetch(uri: str) -> Any:
        if uri != "x.json":
            from juxtalogos.model.errors import DocumentError

            raise DocumentError("there is no such file", where=uri)
        return load_document(uri, text)

    try:
        document = fetch("x.json")
        if not any(form.claims(document) for form in FORMATS.values()):
            return
        contract = OPENAPI.read("x", "x.json", fetch)
    except JuxtalogosError:
        return
    _use(contract)


@pytest.fixture(scope="module")
def work(tmp_path_factory: pytest.TempPathFactory) -> Workspace:
    folder = tmp_path_factory.mktemp("junk")
    (folder / "berths.yaml").write_text(BERTHS, "utf-8")
    home = init_workspace(folder / "work")
    [imported] = read_source(str(folder / "berths.yaml"), Access())
    keep(home, imported)
    (home.root / "tables").mkdir()
    (home.root / "tables/t.csv").write_text("name\nSkerry\n", "utf-8")
    return home


_SUITE: dict[str, Any] = {
    **HEAD,
    "workflows": [
        {
            "workflowId": "first",
            "inputs": {
                "type": "object",
                "properties": {
                    "name": {"type": "string", "default": "x", "x-juxtalogos-value": "upper('a')"}
                },
            },
            "steps": [
                {
                    **REGISTER,
                    "x-juxtalogos-checks": [
                        {"at": "body/name", "equals": "x"},
                        {"jsonpath": "$.a", "every": {"at": "/b", "above": 1}},
                        {"at": "body", "computed": "1 + inputs.name"},
                        {"at": "body", "fits": {"type": "object"}},
                    ],
                },
                {
                    **GET,
                    "onFailure": [
                        {
                            "name": "r",
                            "type": "retry",
                            "retryAfter": 1,
                            "criteria": [{"condition": "$statusCode == 503"}],
                        }
                    ],
                    "onSuccess": [{"reference": "$components.successActions.s"}],
                },
                {
                    "stepId": "call",
                    "workflowId": "second",
                    "parameters": [{"name": "a", "value": "{$steps.register.outputs.id}!"}],
                },
            ],
            "outputs": {"id": "$steps.register.outputs.id"},
            "x-juxtalogos-table": {"file": "t.csv"},
            "x-juxtalogos-setup": ["register"],
        },
        {
            "workflowId": "second",
            "dependsOn": ["first"],
            "steps": [
                {
                    "stepId": "x",
                    "operationPath": "{$sourceDescriptions.berths.url}#/paths/~1berths/get",
                    "successCriteria": [
                        {
                            "context": "$response.body",
                            "type": {"type": "xpath", "version": "xpath-30"},
                            "condition": "//a[1]",
                        }
                    ],
                }
            ],
        },
    ],
    "components": {
        "successActions": {"s": {"name": "s", "type": "end"}},
        "inputs": {"i": {"type": "object"}},
        "parameters": {"p": {"name": "x", "value": 1}},
    },
}


@settings(max_examples=250, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_damaged_suites(data: st.DataObject, work: Workspace) -> None:
    path = work.suites / "junk.arazzo.json"
    path.write_text(json.dumps(damaged(data, _SUITE)), "utf-8")
    try:
        read_suites(work, [path])
    except JuxtalogosError as error:
        assert str(error) and len(str(error)) < 2_000


_HAR = json.loads(
    har(
        entry("GET", BASE + "/berths", 200, "application/json", [], {"Content-Encoding": "gzip"}),
        entry(
            "POST",
            BASE + "/vessels",
            201,
            "application/json",
            {"name": "x"},
            postData={"mimeType": "application/json", "text": "{}"},
        ),
        entry("GET", BASE + "/tides?day=2026-03-14", 200, None, b"x"),
        entry("GET", BASE + "/berths/B1", 200, "application/json", ...),
    )
)


@settings(max_examples=250, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_damaged_recordings(data: st.DataObject, work: Workspace) -> None:
    try:
        entries = read_har(json.dumps(damaged(data, _HAR, 4)).encode(), "x.har")
    except JuxtalogosError:
        return
    records = list(audit(entries, [ServedAt(work.contract("berths"), BASE)]))
    assert [record.step for record in records] == [str(index) for index in range(len(entries))]


@settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_damaged_origins_and_caches(data: st.DataObject, work: Workspace) -> None:
    """A workspace is data too: its own notes may be damaged."""
    path: Path = work.definitions / "berths" / "origin.json"
    kept = path.read_bytes()
    try:
        path.write_text(json.dumps(damaged(data, json.loads(kept))), "utf-8")
        try:
            Workspace(work.root).contract("berths")
        except JuxtalogosError:
            return
    finally:
        path.write_bytes(kept)
