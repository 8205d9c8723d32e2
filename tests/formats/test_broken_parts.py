"""A broken part never takes its operation with it: told, shown and counted as not checkable, and everything
beside it as ever.
"""

from __future__ import annotations

import copy
import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
import yaml

from conftest import BERTHS, Result, add_target, answers, definition, read_contract
from juxtalogos.compose.composer import compose
from juxtalogos.compose.dependencies import find_dependencies
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.formats import wire_of
from juxtalogos.model.contract import Contract, Operation
from juxtalogos.model.errors import DocumentError, Unsampleable, UsageError
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.run.judging.judge import Judgement, judge

BASE = "http://quay.test"
NO = {"$ref": "#/components/schemas/No"}
SOUND = {"type": "object", "properties": {"id": {"type": "integer"}}, "required": ["id"]}


def answered(contract: Contract, name: str, status: int, body: Any, sent: Any = None) -> Judgement:
    operation = contract.operation(name)
    assert operation
    fields = (("Content-Type", "application/json"),)
    data = json.dumps(body).encode() if body is not None else b""
    request = Request(
        operation.method,
        BASE + "/q",
        fields if sent is not None else (),
        json.dumps(sent).encode() if sent is not None else None,
    )
    return judge(
        wire_of(contract),
        operation,
        Exchange(request, Response(status, "", fields if data else (), data), Timings(0, 0, 0)),
        BASE,
    )


def one(**operation: Any) -> Contract:
    return read_contract(
        definition({"/q": {"post": {"operationId": "q", "responses": answers(SOUND), **operation}}})
    )


BROKEN: list[tuple[str, dict[str, Any], str]] = [
    # what, the operation, the part that is not checkable
    (
        "an answer's schema",
        {"responses": {**answers(NO), **answers(SOUND, "201")}},
        "response 200 application/json",
    ),
    (
        "a schema within",
        {"responses": {**answers({"type": "object", "properties": {"a": NO}}), **answers(SOUND, "201")}},
        "response 200 application/json",
    ),
    (
        "a reference to no file",
        {"responses": {**answers({"$ref": "gone.yaml"}), **answers(SOUND, "201")}},
        "response 200 application/json",
    ),
    (
        "a circle",
        {
            "responses": {
                **answers(
                    {"allOf": [{"$ref": "#/paths/~1q/post/responses/200/content/application~1json/schema"}]}
                ),
                **answers(SOUND, "201"),
            }
        },
        "response 200 application/json",
    ),
    (
        "a whole answer",
        {"responses": {"200": {"$ref": "#/components/responses/No"}, **answers(SOUND, "201")}},
        "response 200",
    ),
    ("null for an answer", {"responses": {"200": None, **answers(SOUND, "201")}}, "response 200"),
    ("a text for an answer", {"responses": {"200": "fine", **answers(SOUND, "201")}}, "response 200"),
]


@pytest.mark.parametrize(("what", "operation", "part"), BROKEN, ids=[row[0] for row in BROKEN])
def test_what_comes_over_a_broken_part_is_unproven_and_the_rest_is_judged(
    what: str, operation: Any, part: str
) -> None:
    contract = one(**operation)
    found = contract.operation("q")
    assert found and [name for name, _ in found.not_checkable()] == [part] and contract.faults
    lost = answered(contract, "q", 200, {"id": "x"})
    assert str(lost.verdict) == "unproven" and "cannot be read" in lost.reason
    assert str(answered(contract, "q", 201, {"id": 1}).verdict) == "passed"
    assert str(answered(contract, "q", 201, {"id": "x"}).verdict) == "failed"
    assert str(answered(contract, "q", 404, None).verdict) == "failed"
    assert all(True for _ in wire_of(contract).elements(found))


def test_broken_requests() -> None:
    """A body that cannot be read is not made up; a variable that nobody declares is still an input; both stay
    in the contract.
    """
    for lost in (
        {"requestBody": {"$ref": "#/components/requestBodies/No"}},
        {"requestBody": {"required": True, "content": {"application/json": {"schema": NO}}}},
        {"requestBody": None, "parameters": [{"$ref": "#/components/parameters/No"}]},
    ):
        contract = one(**lost)
        assert contract.operation("q") and contract.faults
    contract = one(requestBody={"required": True, "content": {"application/json": {"schema": NO}}})
    operation = contract.operation("q")
    assert operation
    with pytest.raises(Unsampleable, match="cannot be read"):
        sample_inputs(contract, operation, full=False)
    assert str(answered(contract, "q", 200, {"id": 1}, sent={"a": 1}).verdict) == "unproven"
    composed = compose(contract, find_dependencies(contract), "x")
    assert composed.left_out and composed.left_out[0][0] == "q"
    contract = read_contract(definition({"/q/{id}": {"get": {"responses": answers(SOUND)}}}))
    operation = contract.operations[0]
    assert dict(operation.not_checkable()) == {"path.id": "no parameter is declared for {id}"}
    request = wire_of(contract).encode(operation, sample_inputs(contract, operation, full=False), BASE)
    assert wire_of(contract).match(request, BASE)[0] is operation


def nodes(value: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """The places of all values within `paths` and `components`, below the operations."""
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, item in items:
        if len(path) > 2 or (path and path[0] == "components" and len(path) > 1):
            yield (*path, key)
        if path or key in ("paths", "components"):
            yield from nodes(item, (*path, key))


def _named(value: Any) -> set[tuple[str, str]]:
    """(path, method) of the operations that a definition has."""
    methods = ("get", "put", "post", "delete", "patch")
    return {
        (path, method.upper())
        for path, item in value["paths"].items()
        for method in item
        if method in methods
    }


BREAKAGES = (None, "x", ["x"], {"x": {}}, {"$ref": "#/components/nothing"})


def test_every_node_of_a_definition_replaced_in_turn() -> None:
    """No operation goes; no exchange over what is broken passes unseen; few are unproven. A sample here, all
    of it in `benchmarks`.
    """
    sound = yaml.safe_load(BERTHS)
    places = list(nodes(sound))
    wanted = _named(sound)
    unproven = judged = 0
    for number, path in enumerate(places):
        if number % 9:
            continue
        broken = copy.deepcopy(sound)
        at = broken
        for key in path[:-1]:
            at = at[key]
        at[path[-1]] = BREAKAGES[number // 9 % len(BREAKAGES)]
        contract = read_contract(json.dumps(broken))
        assert {(one.path, one.method) for one in contract.operations} == wanted, path
        for operation in contract.operations:
            list(wire_of(contract).elements(operation))
            judged += 1
            unproven += _unproven(contract, operation)
    assert 0 < unproven < 0.1 * judged


def _unproven(contract: Contract, operation: Operation) -> bool:
    """Whether a sound answer of an operation proves nothing; it never fails for what is broken in the
    definition alone.
    """
    lost = dict(operation.not_checkable())
    try:
        request = wire_of(contract).encode(operation, sample_inputs(contract, operation, full=False), BASE)
    except (Unsampleable, UsageError):
        return True
    answer = next((one for one in operation.answers if one.status.startswith("2")), None)
    media = next((one for one in answer.media if "json" in one.media_type), None) if answer else None
    if answer is None or media is None:
        return bool(lost)
    schema = contract.schema(media.schema) if media.schema else None
    try:
        body = schema.sample() if schema else {}
    except Unsampleable:
        return True
    fields = (("Content-Type", "application/json"), *((one.name, "5") for one in answer.headers))
    one_exchange = Exchange(
        request, Response(int(answer.status), "", fields, json.dumps(body).encode()), Timings(0, 0, 0)
    )
    found = judge(wire_of(contract), operation, one_exchange, BASE)
    if media.unreadable or answer.unreadable:
        assert str(found.verdict) == "unproven", (operation.id, found)
    return str(found.verdict) == "unproven"


def test_the_user_sees_what_is_broken(jux: Callable[..., Result], tmp_path: Path, harbour: str) -> None:
    """Import tells it with its line; `show` and coverage have it; a run does not pass for it; an audit knows
    the operation.
    """
    broken = yaml.safe_load(BERTHS)
    broken["paths"]["/notices"]["get"]["responses"]["200"]["content"]["application/json"]["schema"] = {
        "$ref": "http://127.0.0.1:9/gone.yaml"
    }
    (tmp_path / "berths.yaml").write_text(yaml.safe_dump(broken, sort_keys=False))
    home = tmp_path / "work"
    jux("init", home)
    told = jux("import", "berths.yaml", "-C", home, status=1).out
    assert "berths.yaml:" in told and "not followed" in told
    add_target(home, harbour)
    env = {"MERROW_KEY": "merrow-office-7431"}
    assert "1 part not checkable" in jux("show", "berths", "-C", home, env={"COLUMNS": "200"}).out
    assert "not checkable: response 200 application/json" in jux("show", "listNotices", "-C", home).out
    called = jux("call", "listNotices", "-C", home, env=env)
    assert "unproven" in called.out and "cannot be read" in called.out and "no deviation" not in called.out
    jux("compose", "berths", "-C", home)
    run = jux("run", "berths", "-C", home, env=env)
    assert "unproven" in run.out
    assert jux("run", "berths", "--strict", "-C", home, env=env, status=1)
    gaps = jux("coverage", "-C", home, "--json").json
    assert gaps


def test_a_definition_without_anything_to_call_says_so() -> None:
    with pytest.raises(DocumentError):
        read_contract("openapi: 9.9.9\n")


def test_a_definition_of_webhooks_only_is_read(jux: Callable[..., Result], tmp_path: Path) -> None:
    """Valid in 3.1: nothing is there to call, and what the service sends itself is listed."""
    hooks = {
        "moored": {"post": {"summary": "a vessel is moored", "responses": {"200": {"description": "x"}}}}
    }
    text = yaml.safe_dump({"openapi": "3.1.0", "info": {"title": "Quay", "version": "1"}, "webhooks": hooks})
    (tmp_path / "hooks.yaml").write_text(text)
    jux("init", "w")
    assert "0 operations" in jux("import", "hooks.yaml", "-C", "w").out
    assert "webhook moored" in jux("show", "hooks", "-C", "w").out
