"""Judging whole exchanges: random declarations and random answers against what an independent validator and
the standard say of them.
"""

from __future__ import annotations

import json
import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import jsonschema
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from test_schema_engine import _VALUES, _schemas

from conftest import answers, definition, read_contract
from juxtalogos.coverage import measure
from juxtalogos.exchange.har import read_har, write_har
from juxtalogos.formats import element_kinds, wire_of
from juxtalogos.ledger import ExchangeQuery, ExchangeRecord, open_ledger
from juxtalogos.ledger.records import HitRow
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.exchange import Exchange, Headers, Request, Response, Timings
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.judging.judge import Judgement, judge
from juxtalogos.schema.json import compile_schema

BASE = "http://quay.test"
SOME, MANY = settings(max_examples=60, deadline=None), settings(max_examples=150, deadline=None)
JSON = (("Content-Type", "application/json"),)


def _answered(status: int, body: bytes, headers: Headers = JSON, method: str = "GET") -> Exchange:
    return Exchange(
        Request(method, f"{BASE}/docks"), Response(status, "Fine", headers, body), Timings(1.0, 0.25, 0.5)
    )


def _judged(contract: Any, exchange: Exchange, operation: str = "GET /docks") -> Judgement:
    return judge(wire_of(contract), contract.operation(operation), exchange, BASE)


def _quay(schema: Any, **more: Any) -> Any:
    return read_contract(
        definition({"/docks": {"get": {"responses": answers(schema, **more)}}}, version="3.1.0")
    )


@MANY
@given(_schemas(), _VALUES, st.sampled_from([None, 1]), st.booleans())
def test_a_body_deviates_just_when_the_schema_forbids_it(
    schema: Any, value: Any, indent: int | None, odd: bool
) -> None:
    contract = _quay(schema)
    assume(not contract.faults)
    valid = jsonschema.Draft202012Validator(schema).is_valid(value)
    body = json.dumps(value, indent=indent, ensure_ascii=odd).encode()
    headers: Headers = (
        (("content-TYPE", "Application/JSON; Charset=UTF-8"), ("X-Tide", "low")) if odd else JSON
    )
    found = _judged(contract, _answered(200, body, headers))
    assert (found.verdict is Verdict.FAILED) is not valid and found.verdict is not Verdict.ERROR
    assert all(one.kind.startswith("body.") and one.at.startswith("body") for one in found.findings)
    assert all(one.location and one.location.document == "quay.yaml" for one in found.findings)
    assert found.answer and found.answer.media
    # Nothing but the answer decides: not its name for the method, not how it was written down.
    assert _kinds(_judged(contract, _answered(200, b" \n" + body + b"\r\n", headers))) == _kinds(found)


def _kinds(found: Judgement) -> list[tuple[str, str]]:
    return [(one.kind, one.at) for one in found.findings]


@SOME
@given(_schemas(), _VALUES, st.integers(200, 299))
def test_an_exchange_is_judged_alike_when_it_came_and_when_it_is_read_back(
    schema: Any, value: Any, status: int
) -> None:
    contract = _quay(schema, headers={"X-Tide": {"required": True, "schema": {"type": "integer"}}})
    came = _answered(status, json.dumps(value).encode(), (*JSON, ("X-Tide", "low")))
    fresh = _judged(contract, came)
    (entry,) = read_har(write_har([came]).encode(), "x.har")
    assert entry.exchange == came
    with tempfile.TemporaryDirectory() as folder, open_ledger(Path(folder, "l.sqlite"), write=True) as ledger:
        record = ExchangeRecord(
            "c", "s", "quay", "GET /docks", came, fresh.verdict, fresh.reason, fresh.results, fresh.hits
        )
        run = ledger.begin("run", "local", "suite")
        ledger.add(run, [record])
        (kept,) = ledger.exchanges(ExchangeQuery(run=run))
        assert {one.element for one in ledger.hits([run], "quay")} == set(fresh.hits)
    assert kept.exchange == came and kept.verdict is fresh.verdict and kept.results == fresh.results
    again = _judged(contract, kept.exchange)
    assert replace(again, answer=None) == replace(fresh, answer=None)


@SOME
@given(_schemas(), st.booleans(), st.integers(0, 3))
def test_samples_pass_and_each_change_of_them_is_found(schema: Any, full: bool, seed: int) -> None:
    compiled = compile_schema(schema)
    contract = _quay(schema)
    assume(not contract.faults)
    try:
        value = compiled.sample(full=full, seed=seed)
    except Unsampleable:
        return
    assert not _judged(contract, _answered(200, json.dumps(value).encode())).findings
    for number, change in enumerate(compiled.mutate(value)):
        found = _judged(contract, _answered(200, json.dumps(change.value).encode()))
        assert found.verdict is Verdict.FAILED and found.findings, change
        if number > 12:
            break


STATUSES = st.lists(
    st.sampled_from(["200", "201", "204", "404", "500", "2XX", "4XX", "5XX", "default"]),
    min_size=1,
    max_size=5,
    unique=True,
)


@MANY
@given(
    STATUSES,
    st.sampled_from([200, 201, 202, 204, 304, 404, 409, 500, 503]),
    st.sampled_from(["GET", "HEAD", "POST"]),
)
def test_the_declared_answer_is_the_most_specific_one(declared: list[str], status: int, method: str) -> None:
    """OpenAPI 3.1, Responses Object: a code stands over its range, and `default` covers what neither does."""
    each = {
        one: {"description": "x", "headers": {f"X-Of-{one}": {"required": True, "schema": {}}}}
        for one in declared
    }
    contract = read_contract(definition({"/docks": {method.lower(): {"responses": each}}}, version="3.1.0"))
    code, family = str(status), f"{str(status)[0]}XX"
    expected = next((one for one in (code, family, "default") if one in declared), None)
    found = _judged(contract, _answered(status, b"", (), method), f"{method} /docks")
    missing = [one.at for one in found.findings if one.kind == "header.missing"]
    assert missing == ([f"header.X-Of-{expected}"] if expected else [])
    told = [(one.kind, str(one.severity)) for one in found.findings if one.at == "status"]
    if expected is None:
        kind = "status.server-error" if status >= 500 else "status.undeclared"
        assert [kind] == [one for one, _ in told]
    else:
        assert told == ([("status.server-error", "remark")] if status >= 500 else [])
    assert (found.verdict is Verdict.FAILED) is bool(
        missing or (expected is None and told[0][1] == "deviation")
    )


HEADER_SCHEMAS = st.sampled_from(
    [
        {"type": "integer", "minimum": 2},
        {"type": "boolean"},
        {"type": "array", "items": {"type": "integer"}},
        {"enum": ["low", "high"]},
        {"type": "string", "maxLength": 3},
        {"type": ["integer", "null"]},
    ]
)


@MANY
@given(
    HEADER_SCHEMAS,
    st.booleans(),
    st.sampled_from([None, "1", "2", "true", "low", "1,2", "1, 2", "1,low", "", "-7", "007", "1.0"]),
)
def test_headers_are_there_and_of_their_schema(schema: Any, required: bool, text: str | None) -> None:
    contract = _quay({}, headers={"X-Tide": {"required": required, "schema": schema}})
    headers: Headers = (*JSON, *((("x-tide", text),) if text is not None else ()))
    found = [
        one
        for one in _judged(contract, _answered(200, b"{}", headers)).findings
        if one.at.startswith("header.")
    ]
    if text is None:
        assert [one.kind for one in found] == ["header.missing"] * required
        return
    # A header has no types of its own: its text is right when it can be read as any value that the schema
    # allows.
    readings: list[Any] = [
        text,
        *_read(text),
        [item for part in text.split(",") for item in _read(part.strip())[:1] or [part.strip()]],
    ]
    allowed = any(jsonschema.Draft202012Validator(schema).is_valid(one) for one in readings)
    if text == "":
        return  # no text or a list of none, nothing says which
    if not allowed:
        assert {one.kind for one in found} == {"header.malformed"}
    elif text not in ("1.0", "007"):  # whether these are integers nothing says
        assert not found


def _read(text: str) -> list[Any]:
    try:
        return [json.loads(text)]
    except ValueError:
        return []


@MANY
@given(
    st.lists(
        st.tuples(
            st.sampled_from(["GET", "POST"]),
            st.sampled_from([200, 204, 404, 418]),
            st.sampled_from([b"", b"{}", b'{"id": 1}', b'{"id": "x"}', b"[", b"\xff"]),
        ),
        max_size=8,
    )
)
def test_what_exchanges_exercise_is_declared_and_coverage_is_their_union(
    came: list[tuple[str, int, bytes]],
) -> None:
    item = {"type": "object", "properties": {"id": {"type": "integer"}, "tide": {"enum": ["low", "high"]}}}
    operation = {
        "parameters": [{"name": "dock", "in": "query", "schema": {"type": "integer"}}],
        "responses": {**answers(item), "404": {"description": "x"}},
    }
    contract = read_contract(definition({"/docks": {"get": operation, "post": operation}}, version="3.1.0"))
    wire, kinds = wire_of(contract), element_kinds(contract)
    hits: list[HitRow] = []
    for method, status, body in came:
        name = f"{method} /docks"
        exchange = _answered(status, body, JSON, method)
        exchange = replace(exchange, request=Request(method, f"{BASE}/docks?dock=4"))
        found = _judged(contract, exchange, name)
        declared = {one.id for one in wire.elements(contract.operation(name))}
        assert len(found.hits) == len(set(found.hits)) and set(found.hits) <= declared
        hits += [HitRow(element, name, status, "", 1, 1) for element in found.hits]
    whole = measure(wire, kinds, hits)
    assert {row.element.id for row in whole.rows if row.hits} == {one.element for one in hits}
    assert whole.total.exercised == len({one.element for one in hits}) and whole.total.declared == len(
        whole.rows
    )
    assert sum(row.hits for row in whole.rows) == len(hits)
    assert [row for row in whole.rows if not row.hits] == whole.gaps()
    assert sum(share.declared for _, share in whole.by_kind()) == whole.total.declared
    for name, share in whole.by_operation():
        assert share.exercised == len({one.element for one in hits if one.operation == name})
    # As many again changes how often, never how much.
    twice = measure(wire, kinds, [*hits, *hits])
    assert (
        twice.total == whole.total
        and twice.by_kind() == whole.by_kind()
        and twice.by_operation() == whole.by_operation()
    )


@SOME
@given(
    st.binary(max_size=40),
    st.sampled_from(
        [
            "application/json",
            "text/plain",
            "application/xml",
            "multipart/form-data; boundary=x",
            "application/x-www-form-urlencoded",
            "image/png",
            "nonsense",
            "",
        ]
    ),
    st.integers(100, 599),
)
def test_no_answer_is_too_odd_to_be_judged(body: bytes, kind: str, status: int) -> None:
    schema = {"type": "object", "required": ["id"], "properties": {"id": {"type": "integer"}}}
    content = {
        one: {"schema": schema}
        for one in (
            "application/json",
            "text/*",
            "application/xml",
            "multipart/form-data",
            "application/x-www-form-urlencoded",
            "image/png",
        )
    }
    contract = read_contract(
        definition(
            {"/docks": {"get": {"responses": {"2XX": {"description": "x", "content": content}}}}},
            version="3.1.0",
        )
    )
    found = _judged(contract, _answered(status, body, (("Content-Type", kind),) if kind else ()))
    assert found.verdict in (Verdict.PASSED, Verdict.FAILED, Verdict.UNPROVEN)
    if status >= 300 or 100 <= status < 200:
        assert any(one.at == "status" for one in found.findings)
    for one in found.results:
        assert one.at == "status" or one.at.split(".")[0].split("/")[0] in ("header", "body")
        assert "\n" not in one.observed
