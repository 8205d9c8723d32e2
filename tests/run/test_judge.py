"""One exchange judged, by tables: right ones that look odd, and what is only doubtful."""

from __future__ import annotations

from typing import Any

import pytest

from conftest import answers, definition, read_contract
from juxtalogos.formats import wire_of
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.model.findings import Severity
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.judging.judge import judge


def _judged(responses: Any, response: Response, method: str = "get") -> tuple[str, list[tuple[str, str]]]:
    contract = read_contract(definition({"/q": {method: {"responses": responses}}}))
    exchange = Exchange(Request(method.upper(), "http://h/q"), response, Timings(0, 0, 0))
    found = judge(wire_of(contract), contract.operations[0], exchange, "http://h")
    return found.verdict, [(result.kind, str(result.severity)) for result in found.findings]


_JSON = (("Content-Type", "application/json"),)

ODD_BUT_RIGHT: list[tuple[str, Any, Response, str, str]] = [
    (
        "a HEAD answer without its body",
        answers({"type": "object"}),
        Response(200, "OK", _JSON, b""),
        "head",
        "passed",
    ),
    (
        "204 beside a declared body",
        {"204": {"description": "x", "content": {"application/json": {"schema": {"type": "object"}}}}},
        Response(204, "", (), b""),
        "get",
        "passed",
    ),
    ("an empty 200 without content", answers(None), Response(200, "OK", (), b""), "get", "passed"),
    ("a range", answers({"type": "integer"}, "2XX"), Response(202, "", _JSON, b"3"), "get", "passed"),
    (
        "a lower-case range",
        answers({"type": "integer"}, "2xx"),
        Response(202, "", _JSON, b"3"),
        "get",
        "passed",
    ),
    (
        "a default answer with a schema",
        answers({"type": "integer"}, "default"),
        Response(418, "", _JSON, b"3"),
        "get",
        "passed",
    ),
    (
        "a declared redirect",
        answers(None, "302"),
        Response(302, "Found", (("Location", "/x"),), b""),
        "get",
        "passed",
    ),
    (
        "an empty text",
        {"200": {"description": "x", "content": {"text/plain": {"schema": {"type": "string"}}}}},
        Response(200, "OK", (("Content-Type", "text/plain"),), b""),
        "get",
        "passed",
    ),
    (
        "any media type",
        {"200": {"description": "x", "content": {"*/*": {"schema": {"type": "object"}}}}},
        Response(200, "OK", (("Content-Type", "application/hal+json"),), b"{}"),
        "get",
        "passed",
    ),
    (
        "an integer written 1.0",
        answers({"type": "integer"}),
        Response(200, "OK", _JSON, b"1.0"),
        "get",
        "passed",
    ),
    (
        "an unknown format",
        answers({"type": "string", "format": "tide-table"}),
        Response(200, "OK", _JSON, b'"x"'),
        "get",
        "passed",
    ),
    (
        "a picture",
        {
            "200": {
                "description": "x",
                "content": {"image/*": {"schema": {"type": "string", "format": "binary"}}},
            }
        },
        Response(200, "OK", (("Content-Type", "image/png"),), b"\x89PNG"),
        "get",
        "passed",
    ),
]


@pytest.mark.parametrize(
    ("what", "responses", "response", "method", "verdict"),
    ODD_BUT_RIGHT,
    ids=[row[0] for row in ODD_BUT_RIGHT],
)
def test_right_answers_that_look_odd(
    what: str, responses: Any, response: Response, method: str, verdict: str
) -> None:
    assert _judged(responses, response, method) == (verdict, [])


def test_what_is_only_doubtful_is_a_remark() -> None:
    assert _judged(answers({"type": "integer"}), Response(200, "OK", (), b"1")) == (
        "passed",
        [("media.missing", "remark")],
    )
    assert _judged(answers({"type": "integer"}, "503"), Response(503, "", _JSON, b"1"))[1] == [
        ("status.server-error", "remark")
    ]
    text = definition(
        {"/q": {"get": {"responses": answers({"type": "string", "format": "date"})}}}, version="3.1.0"
    )
    contract = read_contract(text)
    exchange = Exchange(Request("GET", "http://h/q"), Response(200, "OK", _JSON, b'"soon"'), Timings(0, 0, 0))
    found = judge(wire_of(contract), contract.operations[0], exchange, "http://h")
    assert (found.verdict, [result.severity for result in found.findings]) == (
        Verdict.PASSED,
        [Severity.REMARK],
    )
    unread = Response(200, "OK", _JSON, b"[1", truncated=True)
    assert _judged(answers({"type": "array"}), unread)[0] == "failed"
