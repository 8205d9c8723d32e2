"""What operations are for, and suites composed by that: tables of meanings, and random services that their
own suites must pass and leave clean.
"""

from __future__ import annotations

import itertools
import json
import random
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import answers, definition, read_contract
from juxtalogos.compose.composer import by_folder, compose
from juxtalogos.compose.dependencies import find_dependencies
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.conventions.naming import first_part, last_part, noun_of, only_reads, singular
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract, Intent
from juxtalogos.model.exchange import Request
from juxtalogos.suite.document.reader import read_suites, suite_paths
from juxtalogos.suite.document.writer import to_yaml
from juxtalogos.workspace.changes import changes
from juxtalogos.workspace.importing import keep, read_source
from juxtalogos.workspace.remote import Access
from scripted import BASE, Bench, Reply, reply

FEW = settings(max_examples=8, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
SOME = settings(max_examples=20, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])


@pytest.mark.parametrize(
    ("word", "expected"),
    [
        ("berths", "berth"),
        ("Ferries", "ferry"),
        ("boxes", "box"),
        ("glasses", "glass"),
        ("wishes", "wish"),
        ("coaches", "coach"),
        ("glass", "glass"),
        ("gas", "ga"),
        ("tide", "tide"),
        ("", ""),
    ],
)
def test_singular(word: str, expected: str) -> None:
    assert singular(word) == expected


@pytest.mark.parametrize(
    ("name", "reads", "noun"),
    [
        ("getPassage", True, "passage"),
        ("ListJobs", True, "job"),
        ("listen", False, ""),
        ("getting", False, ""),
        ("planPilotJob", False, "pilotjob"),
        ("GetETAs", True, "eta"),
        ("describe", True, ""),
        ("cancelPassages", False, "passage"),
    ],
)
def test_names_of_operations(name: str, reads: bool, noun: str) -> None:
    assert only_reads(name) is reads and noun_of(name) == noun


def test_parts_of_paths() -> None:
    assert last_part("/a/b/{id}") == "b" and last_part("/{id}") == "" and last_part("Vessels") == "Vessels"
    assert first_part("/{id}/b/c") == "b" and first_part("/") == ""


PATHS = {
    "/berths": ("get", "post", "put", "delete"),
    "/berths/{id}": ("get", "put", "patch", "delete", "post", "head"),
    "/berths/{id}/lines": ("get", "post"),
    "/berths/{id}/lines/{line}": ("get",),
    "/berths/{id}/close": ("post",),
    "/status": ("get", "options"),
    "/{any}": ("get",),
    "/": ("get", "post"),
    "/v1/ferries/": ("post",),
}
MEANT = {
    "GET /berths": ("list", "/berths", False, "berth"),
    "POST /berths": ("create", "/berths", False, "berth"),
    "PUT /berths": ("replace", "/berths", False, "berth"),
    "DELETE /berths": ("empty", "/berths", False, "berth"),
    "GET /berths/{id}": ("read", "/berths", True, "berth"),
    "PUT /berths/{id}": ("replace", "/berths", True, "berth"),
    "PATCH /berths/{id}": ("update", "/berths", True, "berth"),
    "DELETE /berths/{id}": ("delete", "/berths", True, "berth"),
    "POST /berths/{id}": ("act", "/berths", True, "berth"),
    "HEAD /berths/{id}": ("read", "/berths", True, "berth"),
    "GET /berths/{id}/lines": ("list", "/berths/{}/lines", False, "line"),
    "POST /berths/{id}/lines": ("create", "/berths/{}/lines", False, "line"),
    "GET /berths/{id}/lines/{line}": ("read", "/berths/{}/lines", True, "line"),
    "POST /berths/{id}/close": ("act", "/berths/{}/close", False, "close"),
    "GET /status": ("read", "/status", False, "statu"),
    "OPTIONS /status": ("read", "/status", False, "statu"),
    "GET /{any}": ("read", "/", True, ""),
    "GET /": ("list", "/", False, ""),
    "POST /": ("create", "/", False, ""),
    "POST /v1/ferries/": ("act", "/v1/ferries", False, "ferry"),
}


def _described(path: str) -> dict[str, Any]:
    names = re.findall(r"\{(\w+)\}", path)
    return {
        "parameters": [
            {"name": name, "in": "path", "required": True, "schema": {"type": "string"}} for name in names
        ]
    }


_BODY = {"put": {"requestBody": {"content": {"application/json": {"schema": {"type": "object"}}}}}}
"""Without a body, PUT replaces nothing."""


def test_what_operations_are_for() -> None:
    contract = read_contract(
        definition(
            {
                path: {
                    **_described(path),
                    **{method: {**_BODY.get(method, {}), "responses": answers()} for method in methods},
                }
                for path, methods in PATHS.items()
            }
        )
    )
    found = {one.id: (str(one.intent), one.resource, one.on_item, one.noun) for one in contract.operations}
    assert found == MEANT
    for one in contract.operations:
        assert one.safe is (one.method in ("GET", "HEAD", "OPTIONS")) and one.idempotent is (
            one.method in ("GET", "HEAD", "OPTIONS", "PUT", "DELETE")
        )
        assert all(bool(given.identifies) for given in one.inputs)
    lines = contract.operation("GET /berths/{id}/lines/{line}")
    assert lines is not None and [one.identifies for one in lines.inputs] == ["/berths", "/berths/{}/lines"]


# Random services, each with a store that does what its definition says.

NOUNS = ("berth", "vessel", "pilot", "ferry", "crane", "tug")
PLURALS = {noun: noun[:-1] + "ies" if noun.endswith("y") else noun + "s" for noun in NOUNS}


class Yard:
    """A definition with collections, some below others, some of which refer to others; and the service that
    it describes.
    """

    def __init__(self, seed: int) -> None:
        chance = random.Random(seed)
        self.nouns = chance.sample(NOUNS, chance.randint(1, 4))
        self.parent = {
            noun: chance.choice([None, *self.nouns[:index]]) for index, noun in enumerate(self.nouns)
        }
        self.refers = {
            noun: chance.choice([None, *self.nouns[:index]]) for index, noun in enumerate(self.nouns)
        }
        self.methods = {
            noun: ["get", "delete", *(one for one in ("put", "patch") if chance.random() < 0.5)]
            for noun in self.nouns
        }
        self.key = {noun: chance.choice(["id", f"{noun}Id", f"{noun}_id"]) for noun in self.nouns}
        self.store: dict[str, dict[int, dict[str, Any]]] = {noun: {} for noun in self.nouns}
        self.counter = itertools.count(100)

    def path(self, noun: str) -> str:
        parent = self.parent[noun]
        above = f"{self.path(parent)}/{{{self.variable(parent)}}}" if parent else ""
        return f"{above}/{PLURALS[noun]}"

    def variable(self, noun: str) -> str:
        return self.key[noun] if self.key[noun] != "id" else f"{noun}Id"

    def schema(self, noun: str) -> dict[str, Any]:
        refers = self.refers[noun]
        own: dict[str, Any] = {
            self.key[noun]: {"type": "integer", "readOnly": True},
            "name": {"type": "string", "minLength": 2},
            "depth": {"type": "number", "minimum": 1},
        }
        more = {f"{refers}Id": {"type": "integer"}} if refers else {}
        return {
            "type": "object",
            "required": [self.key[noun], "name", *more],
            "properties": {**own, **more},
            "additionalProperties": False,
        }

    def definition(self) -> str:
        paths: dict[str, Any] = {}
        for noun in self.nouns:
            path, ref = self.path(noun), {"$ref": f"#/components/schemas/{noun}"}
            body = {"required": True, "content": {"application/json": {"schema": ref}}}
            gone = {"404": {"description": "none"}}
            paths[path] = {
                **_described(path),
                "get": {
                    "operationId": f"list_{noun}",
                    "responses": {**answers({"type": "array", "items": ref}), **gone},
                },
                "post": {
                    "operationId": f"add_{noun}",
                    "requestBody": body,
                    "responses": {**answers(ref, "201"), **gone, "409": {"description": "no such thing"}},
                },
            }
            item = f"{path}/{{{self.variable(noun)}}}"
            paths[item] = _described(item)
            for method in self.methods[noun]:
                responses = {"204": {"description": "gone"}} if method == "delete" else answers(ref)
                more = {"requestBody": body} if method in ("put", "patch") else {}
                paths[item][method] = {
                    "operationId": f"{method}_{noun}",
                    "responses": {**responses, **gone},
                    **more,
                }
        return definition(paths, schemas={noun: self.schema(noun) for noun in self.nouns})

    def __call__(self, request: Request) -> Reply:
        parts = request.url.removeprefix(BASE).strip("/").split("/")
        nouns = {plural: noun for noun, plural in PLURALS.items()}
        for plural, number in zip(parts[:-1:2], parts[1::2]):
            if int(number) not in self.store[nouns[plural]] and (len(parts) % 2 or plural != parts[-2]):
                return reply(404)
        noun = nouns[parts[-1] if len(parts) % 2 else parts[-2]]
        items = self.store[noun]
        value = json.loads(request.body) if request.body else {}
        refers = self.refers[noun]
        if refers and value and value.get(f"{refers}Id") not in self.store[refers]:
            return reply(409)
        if len(parts) % 2:
            if request.method == "GET":
                return reply(200, list(items.values()))
            number = next(self.counter)
            items[number] = {**value, self.key[noun]: number}
            return reply(201, items[number])
        number = int(parts[-1])
        if number not in items:
            return reply(404)
        if request.method == "DELETE":
            del items[number]
            return reply(204)
        items[number] = {**items[number], **value, self.key[noun]: number}
        return reply(200, items[number])


def _bench(folder: Path, patch: pytest.MonkeyPatch, yard: Yard) -> tuple[Bench, Contract]:
    bench = Bench(folder, patch)
    (folder / "yard.yaml").write_text(yard.definition(), "utf-8")
    for imported in read_source(str(folder / "yard.yaml"), Access(), name="yard"):
        keep(bench.home, imported)
    return bench, bench.home.contract("yard")


@FEW
@given(st.integers(0, 2**32))
def test_a_composed_suite_passes_on_a_right_service_and_leaves_nothing(
    tmp_path_factory: pytest.TempPathFactory, seed: int
) -> None:
    yard = Yard(seed)
    with pytest.MonkeyPatch.context() as patch:
        bench, contract = _bench(tmp_path_factory.mktemp("yard") / "w", patch, yard)
        composed = compose(contract, find_dependencies(contract), "../definitions/yard/yard.yaml")
        again = compose(contract, find_dependencies(contract), "../definitions/yard/yard.yaml")
        assert composed.document == again.document and not composed.left_out
        text = to_yaml(composed.document)
        assert yaml.safe_load(text) == composed.document
        (bench.home.suites / "yard.arazzo.yaml").write_text(text, "utf-8")
        (suite,), _ = read_suites(bench.home, suite_paths(bench.home))
        for case in suite.cases:
            _only_looks_back(case)
        ran = bench.run(yard, jobs=1)
    bad = {one.case: one.reason for one in ran.cases if one.verdict != "passed"}
    assert not bad, (yard.nouns, yard.parent, yard.refers, bad)
    assert not any(yard.store.values()), (yard.store, ran.service.calls())
    called = {record.operation for record in ran.records if 200 <= record.status < 300}
    assert called == {one.id for one in contract.operations}
    assert {case.id for case in suite.cases} >= {re.sub(r"\W+", "-", one.id) for one in contract.operations}


def _only_looks_back(case: Any) -> None:
    seen: set[str] = set()
    for step in case.steps:
        for _, expression in step.flows:
            named = re.match(r"\$steps\.([^.]+)", expression)
            assert named is None or named[1] in seen, (case.id, step.id, expression)
        seen.add(step.id)


@SOME
@given(st.integers(0, 2**32))
def test_folders_hold_the_same_cases(seed: int) -> None:
    contract = read_contract(Yard(seed).definition())
    composed = compose(contract, find_dependencies(contract), "d.yaml")
    folders = by_folder(contract, composed, lambda name: f"../{name}")
    assert sorted(
        one["workflowId"] for document in folders.values() for one in document["workflows"]
    ) == sorted(one["workflowId"] for one in composed.document["workflows"])
    assert {name.partition("/")[2] for name in folders} == {one.group for one in contract.operations}


@SOME
@given(st.integers(0, 2**32))
def test_dependencies_lead_to_what_creates_and_never_round(seed: int) -> None:
    yard = Yard(seed)
    contract = read_contract(yard.definition())
    found = find_dependencies(contract)
    needs: dict[str, set[str]] = {}
    for one in found:
        needs.setdefault(one.operation, set()).add(one.source)
        source = contract.operation(one.source)
        assert source is not None and source.intent in (
            Intent.CREATE,
            Intent.LIST,
            Intent.READ,
            Intent.REPLACE,
            Intent.UPDATE,
        )
        if one.input.startswith("path."):
            assert source.intent is Intent.CREATE, one
    left = dict(needs)
    while left:
        free = [name for name, sources in left.items() if not sources & left.keys()]
        assert free, left
        for name in free:
            del left[name]
    for operation in contract.operations:
        for given_input in operation.inputs:
            assert any(one.operation == operation.id and one.input == given_input.address for one in found), (
                operation.id,
                given_input.address,
            )


@SOME
@given(st.integers(0, 2**32), st.integers(0, 2**32))
def test_changes_are_told_when_there_are_some(seed: int, other: int) -> None:
    old, new = read_contract(Yard(seed).definition()), read_contract(Yard(other).definition())
    assert not list(changes(old, read_contract(Yard(seed).definition())))
    same = Yard(seed).definition() == Yard(other).definition()
    assert bool(list(changes(old, new))) is not same
    told = [operation for operation, what in changes(old, new) if what.startswith(("new:", "gone:"))]
    assert set(told) == {one.id for one in old.operations} ^ {one.id for one in new.operations}


@SOME
@given(st.integers(0, 2**32), st.booleans(), st.integers(0, 50))
def test_sampled_requests_are_what_the_definition_allows(seed: int, full: bool, turn: int) -> None:
    contract = read_contract(Yard(seed).definition())
    wire = wire_of(contract)
    for operation in contract.operations:
        inputs = sample_inputs(contract, operation, full=full, seed=turn)
        request = wire.encode(operation, inputs, BASE)
        assert operation in wire.match(request, BASE)
        for one in _bodies(operation):
            schema = contract.schema(one)
            assert schema.accepts(json.loads(request.body or b"null"))


def _bodies(operation: Any) -> Iterator[Any]:
    for media in operation.body.media if operation.body else ():
        if media.schema:
            yield media.schema
