"""What reach is made of: names and meanings, dependencies by evidence, names of one's own, refusals read,
pace.
"""

from __future__ import annotations

import asyncio
import json
import time
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import KEY_ENV, Result, add_target, answers, definition, read_contract, serving
from juxtalogos.compose.composer import ComposeScope, compose
from juxtalogos.compose.dependencies import LIMIT, Finder
from juxtalogos.compose.relating import field_rank
from juxtalogos.compose.unique import names_something, room, unique_formula
from juxtalogos.conventions.naming import intent_of
from juxtalogos.exchange.transport import Transport, TransportOptions
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.model.wire import Inputs
from juxtalogos.run.judging.refusals import words_of
from juxtalogos.run.learning.reading import Named, named_inputs, wanted_values
from juxtalogos.schema.json import compile_schema
from juxtalogos.suite.language.expressions import Scope
from juxtalogos.suite.language.formulas import FormulaContext, compute, parse_formula
from juxtalogos.workspace.known import DependencyRule, Hints, KnownValue


@pytest.mark.parametrize(
    ("name", "does"),
    [
        ("listCranes", "list"),
        ("GetPassage", "read"),
        ("addCrane", "create"),
        ("rename_crane", "update"),
        ("RemoveShift", "delete"),
        ("removeAllCranes", "empty"),
        ("bulk_delete", "empty"),
        ("deleteEvery", "empty"),
        ("purge", "empty"),
        ("shutDown", "empty"),
        ("assignTugs", "act"),
        ("tideGate", "unknown"),
        ("listen", "unknown"),
        ("", "unknown"),
        ("isOpen", "unknown"),
        ("validateSeal", "read"),
    ],
)
def test_what_a_name_says_that_is_done(name: str, does: str) -> None:
    assert intent_of(name) == does


PATHS = {
    ("GET", "/api/v2/yards/"): ("list", "/api/v2/yards", False),
    ("DELETE", "/api/v2/yards/{id}/"): ("delete", "/api/v2/yards", True),
    ("GET", "/api/v2/yards/{yard_id}/stacks/"): ("list", "/api/v2/yards/{}/stacks", False),
    ("POST", "/api/v2/yards/{yard_id}/stacks/"): ("create", "/api/v2/yards/{}/stacks", False),
    ("GET", "/api/v2/yards/{yard_id}/stacks/{stack_id}/"): ("read", "/api/v2/yards/{}/stacks", True),
    ("POST", "/api/v2/yards/bulk_delete/"): ("empty", "/api/v2/yards/bulk_delete", False),
    ("POST", "/api/v2/yards/create"): ("create", "/api/v2/yards", False),
    ("POST", "/api/v2/yards/{id}/remove"): ("delete", "/api/v2/yards", True),
    ("POST", "/api/v2/yards/{id}/clear"): ("act", "/api/v2/yards/{}/clear", False),
    ("GET", "/getCrane"): ("read", "", False),
    ("GET", "/moveCrane"): ("update", "", False),
    ("POST", "/addCrane"): ("create", "", False),
    ("GET", "/settings"): ("read", "/settings", False),
    ("POST", "/plan"): ("act", "/plan", False),
    ("POST", "/api/v2/yards/{id}/open"): ("act", "/api/v2/yards/{}/open", False),
    ("DELETE", "/slips/{id}"): ("delete", "/slips", True),
    ("POST", "/slips/{id}/cancel"): ("act", "/slips/{}/cancel", False),
    ("GET", "/check-ins"): ("list", "/check-ins", False),
    ("GET", "/check-ins/{id}"): ("read", "/check-ins", True),
    ("GET", "/issue-types"): ("read", "/issue-types", False),
    ("POST", "/set-points"): ("create", "/set-points", False),
    ("GET", "/set-points/{id}"): ("read", "/set-points", True),
}


def test_verbs_count_and_not_methods() -> None:
    paths: dict[str, Any] = {}
    for method, path in PATHS:
        names = [part[1:-1] for part in path.split("/") if part[:1] == "{"]
        given_ = [
            {"name": name, "in": "path", "required": True, "schema": {"type": "string"}} for name in names
        ]
        given_ += [{"name": "to", "in": "query", "required": True, "schema": {"type": "string"}}] * (
            path == "/moveCrane"
        )
        paths.setdefault(path, {})[method.lower()] = {"parameters": given_, "responses": answers()}
    contract = read_contract(definition(paths))
    assert {
        (one.method, one.path): (str(one.intent), one.resource, one.on_item) for one in contract.operations
    } == PATHS
    assert not next(one for one in contract.operations if one.path == "/moveCrane").safe


def _object(*required: str, **properties: Any) -> dict[str, Any]:
    return {
        "type": "object",
        "required": list(required),
        "properties": {
            name: {"type": kind} if isinstance(kind, str) else kind for name, kind in properties.items()
        },
    }


def _body(schema: Any) -> dict[str, Any]:
    return {"required": True, "content": {"application/json": {"schema": schema}}}


def test_dependencies_by_evidence() -> None:
    ship = _object("id", id="integer", name="string", code="string", type="string")
    log = {
        "type": "array",
        "items": _object(id="integer", path="string", type="string", name="string", code="string"),
    }
    path = [{"name": "shipId", "in": "path", "required": True, "schema": {"type": "integer"}}]
    tag = {"name": "If-Match", "in": "header", "schema": {"type": "string"}}
    paths = {
        "/log": {"get": {"operationId": "log", "responses": answers(log)}},
        "/ships": {
            "get": {"operationId": "ships", "responses": answers({"type": "array", "items": ship})},
            "post": {
                "operationId": "addShip",
                "requestBody": _body(_object("name", name="string")),
                "responses": answers(ship, "201"),
            },
        },
        "/ships/{shipId}": {
            "parameters": path,
            "get": {
                "operationId": "ship",
                "responses": {
                    "200": {
                        "description": "x",
                        "headers": {"ETag": {"schema": {"type": "string"}}},
                        "content": {"application/json": {"schema": ship}},
                    }
                },
            },
            "put": {
                "operationId": "putShip",
                "parameters": [tag],
                "requestBody": _body(_object("name", name="string")),
                "responses": answers(ship),
            },
            "delete": {"operationId": "dropShip", "responses": {"204": {"description": "x"}}},
        },
        "/berth": {
            "post": {
                "operationId": "berth",
                "requestBody": _body(_object("ship_id", "code", ship_id="integer", code="string")),
                "responses": answers(),
            }
        },
        "/jobs": {
            "post": {
                "operationId": "addJob",
                "requestBody": _body(_object()),
                "responses": {
                    "202": {"description": "x", "headers": {"Location": {"schema": {"type": "string"}}}}
                },
            }
        },
        "/jobs/{jobId}": {
            "parameters": [{**path[0], "name": "jobId"}],
            "get": {"operationId": "job", "responses": answers()},
        },
    }
    contract = read_contract(definition(paths))
    found = {(one.operation, one.input): one for one in Finder(contract).found()}
    used = {key: (one.source, one.value) for key, one in found.items() if one.sure >= LIMIT}
    created = ("addShip", "$response.body#/id")
    assert used == {
        ("ship", "path.shipId"): created,
        ("putShip", "path.shipId"): created,
        ("dropShip", "path.shipId"): created,
        ("berth", "body/ship_id"): created,
        ("putShip", "header.If-Match"): ("ship", "$response.header.ETag"),
        ("job", "path.jobId"): ("addJob", "$response.header.Location segment -1"),
    }
    assert found[("berth", "body/code")].sure < LIMIT, "a name that is any thing's is a suggestion"
    reading = {
        one.operation: one.source for one in Finder(contract, only_reading=True).found() if one.sure >= LIMIT
    }
    assert reading == {"ship": "ships", "putShip": "ships", "dropShip": "ships", "berth": "ships"}
    rule = DependencyRule("*", "path.shipId", "ships", "$response.body#/0/id")
    ruled = {
        one.operation: one.source for one in Finder(contract, [rule]).found() if one.input == "path.shipId"
    }
    assert ruled == {"ship": "ships", "putShip": "ships", "dropShip": "ships"}
    composed = compose(contract, Finder(contract).found(), "x")
    full = next(case for case in composed.document["workflows"] if case["workflowId"] == "putShip")
    assert [step["stepId"] for step in full["steps"]] == ["addShip", "ship", "putShip", "dropShip"]
    learned = [DependencyRule("dropShip", "path.shipId", "ships", "$response.body#/0/id", learned=True)]
    scope = ComposeScope(Hints(tuple(learned)))
    withheld = dict(compose(contract, Finder(contract, learned).found(), "x", scope).withheld)
    assert "destroy" in withheld["dropShip"], (
        "what a service showed is no leave to delete what is somebody else's"
    )


TEXTS = st.fixed_dictionaries(
    {"type": st.just("string")}, optional={"minLength": st.integers(0, 12), "maxLength": st.integers(12, 60)}
) | st.sampled_from(
    [
        {"type": "string", "pattern": pattern}
        for pattern in (
            r"^[a-z][a-z0-9-]{2,30}$",
            r"^[A-Z]{3}$",
            r"^V-\d{4}$",
            r"^[A-Z]{2}\d{6}$",
            r"^\w+@\w+\.\w+$",
            r"^\d{9}$",
            r"^[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$",
        )
    ]
)


@settings(max_examples=60, deadline=None)
@given(TEXTS, st.integers(0, 5))
def test_names_of_ones_own_fit_their_schema_and_never_meet(schema: Any, seed: int) -> None:
    compiled = compile_schema(schema, uri="urn:x")
    accepts = compiled.accepts
    formula = unique_formula(compiled.sample(seed=seed), accepts)
    assert formula, schema
    made = [
        compute(parse_formula(formula), Scope({}), FormulaContext(token=token, label=label))
        for token in ("a", "b")
        for label in ("one", "two", "one[row 2]")
    ]
    assert all(map(accepts, made))
    assert len(set(made)) == len(made) or room(formula) < 10**5
    again = compute(parse_formula(formula), Scope({}), FormulaContext(token="a", label="one"))
    assert again == made[0]


def test_where_a_schema_leaves_no_room() -> None:
    assert unique_formula("quay", {"quay"}.__contains__) == "" and unique_formula(True, bool) == ""
    assert (
        names_something("vesselName")
        and names_something("e-mail")
        and not names_something("named")
        and not names_something("")
    )


def _refused(body: Any, status: int = 422) -> Exchange:
    data = body if isinstance(body, bytes) else json.dumps(body).encode()
    return Exchange(Request("POST", "http://h/x"), Response(status, "No", (), data), Timings(0, 0, 0))


SENT = Inputs(
    {"query.zone": "north", "header.X-Desk": "quay"},
    {"purpose": "quay", "draught": 1.5, "starts": "2026-03-14T06:30:00Z", "owner": {"mail": "tern@x"}},
)
ADDRESSES = [
    "query.zone",
    "header.X-Desk",
    "body/purpose",
    "body/draught",
    "body/starts",
    "body/owner/mail",
    "body/callback",
]
LATER = "format(now() + days(30), 'YYYY-MM-DDThh:mm:ssZ')"


@pytest.mark.parametrize(
    ("body", "first", "value"),
    [
        (
            {"errors": [{"pointer": "/draught", "detail": "must lie between 2 and 25"}]},
            "body/draught",
            ("value", 13.5),
        ),
        (
            {"detail": [{"loc": ["body", "purpose"], "msg": "must be one of 'dredging', 'wreck search'"}]},
            "body/purpose",
            ("value", "dredging"),
        ),
        ({"errors": {"starts": ["must be in the future"]}}, "body/starts", ("formula", LATER)),
        ({"message": "purpose: allowed are dredging, wreck search"}, "body/purpose", ("value", "dredging")),
        (
            {"error": 'The parameter "zone" is unknown; choose from: east, west'},
            "query.zone",
            ("value", "east"),
        ),
        (
            b"<f:Fault xmlns:f='x'><faultstring>draught must be at least 3</faultstring></f:Fault>",
            "body/draught",
            ("value", 4),
        ),
        ({"detail": "'tern@x' is no e-mail address"}, "body/owner/mail", ("value", "desk@harbour.test")),
        ({"title": "callback is missing"}, "body/callback", None),
        (b"no", None, None),
        (b"\xff\xfe", None, None),
        ([[["deep"]]], None, None),
        (b"[" * 5000, None, None),
    ],
)
def test_what_a_refusal_names(body: Any, first: str | None, value: Any) -> None:
    exchange = _refused(body)
    found = named_inputs(exchange, SENT, ADDRESSES)
    assert (found[0].address if found else None) == first
    assert len(words_of(exchange)) <= 200
    if value is not None:
        sent = {
            "body/draught": 1.5,
            "body/purpose": "quay",
            "body/starts": "2026-03-14T06:30:00Z",
            "query.zone": "north",
            "body/owner/mail": "tern@x",
        }
        named = Named(found[0].address, found[0].text)
        assert value in list(wanted_values(named, sent[found[0].address]))[:3]


def test_known_values_are_found_by_address_pattern_name_and_schema() -> None:
    for at, fits in (
        ("query.zone", True),
        ("zone", True),
        ("*.zone", True),
        ("Zone", True),
        ("query.z", False),
        ("body/*", False),
    ):
        assert KnownValue(at).fits("listShips", "query.zone", "Zone") is fits, at
    assert not KnownValue("zone", operation="add*").fits("listShips", "query.zone")


async def _timed(count: int, options: TransportOptions, first: int) -> tuple[float, list[int], int]:
    seen: list[float] = []

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        while await reader.read(4096):
            seen.append(time.monotonic())
            head = b"HTTP/1.1 429 No\r\nRetry-After: 1\r\n" if len(seen) <= first else b"HTTP/1.1 200 OK\r\n"
            writer.write(head + b"Content-Length: 0\r\n\r\n")
        writer.close()

    server = await asyncio.start_server(serve, "127.0.0.1", 0)
    url = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}/"
    async with Transport(options) as transport:
        found = await asyncio.gather(*(transport.send(Request("GET", url)) for _ in range(count)))
    server.close()
    return seen[-1] - seen[0], [one.response.status for one in found if one.response], len(seen)


def test_pace_is_kept_and_a_service_may_ask_for_time() -> None:
    spent, statuses, _ = asyncio.run(_timed(5, TransportOptions(pace=0.1), 0))
    assert spent >= 0.38 and statuses == [200] * 5
    spent, statuses, sent = asyncio.run(_timed(1, TransportOptions(patient=True), 1))
    assert spent >= 0.9 and statuses == [200] and sent == 2
    assert asyncio.run(_timed(1, TransportOptions(), 1))[1] == [429]


def test_a_target_that_is_only_read(berths: Path, jux: Any) -> None:
    with serving() as url:
        add_target(berths, url)
        path = berths / "juxtalogos.toml"
        path.write_text(path.read_text().replace("[targets.local]", "[targets.local]\nonly-reading = true"))
        jux("call", "getBerth", "--no-credentials", "-C", berths)
        told: Result = jux("call", "registerVessel", "--no-credentials", "-C", berths, status=2)
        assert "does not only read" in told.err and "take only-reading out" in told.err
        jux("compose", "berths", "-C", berths)
        ran = jux("run", "--no-credentials", "--json", "-C", berths, status=1).json
        assert {one["verdict"] for one in ran["cases"] if "register" in one["case"]} == {"error"}
        assert any(one["verdict"] == "passed" for one in ran["cases"])


@pytest.mark.parametrize("deviation", ["length", "lines", "services", "office"])
def test_a_deviation_fails_its_own_cases_only(deviation: str, berths: Path, jux: Any) -> None:
    from juxtalogos.demo.planted import PLANTED
    from juxtalogos.suite.document.reader import read_suites, suite_paths
    from juxtalogos.workspace.workspace import Workspace

    planted = next(one for one in PLANTED if one.name == deviation)
    with serving(deviation) as url:
        add_target(berths, url)
        jux("compose", "berths", "-C", berths)
        sign_in = ("--credential", "harbourKey=env:MERROW_KEY")
        ran = jux("run", *sign_in, "--json", "-C", berths, env=KEY_ENV, status=1).json
    home = Workspace(berths)
    (suite,), _ = read_suites(home, suite_paths(home))
    own = {
        case.id
        for case in suite.cases
        if any(
            step.operation and step.operation.id == planted.operation and not step.needed and not step.always
            for step in case.steps
        )
    }
    failed = {one["case"] for one in ran["cases"] if one["verdict"] == "failed"}
    assert failed and failed == own


@pytest.mark.parametrize(
    ("wanted", "noun", "field", "rank"),
    [
        ("vesselId", "vessel", "vesselId", 0),
        ("vesselId", "vessel", "vessel_id", 0),
        ("ref", "vessel", "vesselNo", 1),
        ("vesselRef", "vessel", "id", 2),
        ("vesselRef", "vessel", "ref", 3),
        ("vesselRef", "vessel", "name", 5),
        ("vesselRef", "vessel", "length", None),
        ("vesselRef", "vessel", "crew", None),
    ],
)
def test_which_field_a_reference_means(wanted: str, noun: str, field: str, rank: int | None) -> None:
    assert field_rank(wanted, noun, field) == rank
