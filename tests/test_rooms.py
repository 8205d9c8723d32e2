"""Rooms tested on their own: transport, redaction, conditions, the ledger and its writer, the report's
defences, the model.
"""

from __future__ import annotations

import asyncio
import gzip
import json
import re
import threading
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import answers, definition, read_contract
from juxtalogos.coverage import measure
from juxtalogos.exchange.media import best_match, parse_media_type
from juxtalogos.exchange.message import parse_request, ready_message, request_text
from juxtalogos.exchange.redact import MASK, Redactor
from juxtalogos.exchange.transport import Transport, TransportOptions
from juxtalogos.formats import element_kinds, wire_of
from juxtalogos.ledger import CaseRecord, ExchangeRecord, open_ledger
from juxtalogos.model.errors import UsageError
from juxtalogos.model.exchange import Exchange, Request, Response, Timings, header
from juxtalogos.model.findings import KEYWORD_KINDS, KINDS, CheckResult, Finding, Severity
from juxtalogos.model.location import Location, follow_pointer, join_pointer, split_pointer
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.verdict import Verdict, worst
from juxtalogos.report import REPORTERS, run_view
from juxtalogos.run.judging.judge import judge
from juxtalogos.suite.language.conditions import BadCondition, holds, parse_condition
from juxtalogos.suite.language.expressions import Scope, fill


@contextmanager
def answering(reply: bytes) -> Iterator[str]:
    """A server that answers every request with the same bytes."""

    class Handler(BaseHTTPRequestHandler):
        def handle(self) -> None:
            self.rfile.readline()
            while self.rfile.readline().strip():
                pass
            self.wfile.write(reply)

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()
    server.server_close()


def send(reply: bytes, **options: Any) -> Exchange:
    async def work(url: str) -> Exchange:
        async with Transport(TransportOptions(timeout=3, **options)) as transport:
            return await transport.send(Request("GET", f"{url}/q"))

    with answering(reply) as url:
        return asyncio.run(work(url))


def message(body: bytes, *lines: str) -> bytes:
    return (
        "\r\n".join(
            ["HTTP/1.1 200 OK", f"Content-Length: {len(body)}", "Connection: close", *lines, "", ""]
        ).encode()
        + body
    )


@pytest.mark.parametrize("coding", ["gzip", "deflate", "raw deflate", "deflate, gzip"])
def test_content_codings(coding: str) -> None:
    body = b"tide " * 100
    raw = zlib.compressobj(wbits=-15)
    packed = {
        "gzip": gzip.compress(body),
        "deflate": zlib.compress(body),
        "raw deflate": raw.compress(body) + raw.flush(),
        "deflate, gzip": gzip.compress(zlib.compress(body)),
    }[coding]
    exchange = send(message(packed, f"Content-Encoding: {coding.removeprefix('raw ')}"))
    assert exchange.response and exchange.response.body == body and not exchange.response.problem


def test_bodies_are_bounded_and_problems_told() -> None:
    bomb = send(message(gzip.compress(b"\0" * 50_000_000), "Content-Encoding: gzip"), max_body=100_000)
    assert bomb.response and bomb.response.truncated and len(bomb.response.body) <= 400_000
    large = send(message(b"x" * 300_000), max_body=100_000)
    assert large.response and large.response.truncated and len(large.response.body) == 100_000
    for reply, words in (
        (message(b"no gzip", "Content-Encoding: gzip"), "not gzip"),
        (message(b"x", "Content-Encoding: br"), "'br' was not asked for"),
        (b"HTTP/1.1 200 OK\r\nContent-Length: 900\r\n\r\nshort", "broke off after 5 bytes"),
    ):
        exchange = send(reply)
        assert exchange.response and words in exchange.response.problem


@pytest.mark.parametrize(
    ("reply", "words"),
    [
        (b"", "closed the connection"),
        (b"SSH-2.0-quay\r\n", "did not respond in HTTP"),
        (b"HTTP/1.1 2x0 OK\r\n\r\n", "did not respond in HTTP"),
    ],
)
def test_what_is_no_http_answer(reply: bytes, words: str) -> None:
    exchange = send(reply)
    assert exchange.response is None and words in exchange.error


def test_redirects_are_not_followed_and_headers_kept_in_order() -> None:
    exchange = send(
        b"HTTP/1.1 302 Found\r\nLocation: http://127.0.0.1:9/\r\nSet-Cookie: a=1\r\nSet-Cookie:"
        b" b=2\r\nContent-Length: 0\r\n\r\n"
    )
    assert exchange.response and exchange.response.status == 302
    assert [value for name, value in exchange.response.headers if name == "Set-Cookie"] == ["a=1", "b=2"]
    assert header(exchange.request.headers, "traceparent") and header(exchange.request.headers, "host")


def test_messages() -> None:
    request = Request("POST", "http://quay.test/v1/q?a=1", (("Accept", "*/*"), ("Host", "other")), b'{"a":1}')
    assert parse_request(request_text(request), "http://quay.test") == Request(
        "POST", "http://quay.test/v1/q?a=1", (("Host", "quay.test"), ("Accept", "*/*")), b'{"a":1}'
    )
    ready = ready_message(b"POST /q HTTP/1.1\nHost: x\n\n{}\n", (("X-Key", "k"), ("host", "y")))
    assert ready == b"POST /q HTTP/1.1\r\nHost: x\r\nX-Key: k\r\nContent-Length: 3\r\n\r\n{}\n"
    for text, words in (
        (b"hello", "m:1: this is no request line"),
        (b"GET / HTTP/1.1\nHost x\n\n", "m:2: this is no header field"),
    ):
        with pytest.raises(UsageError, match=re.escape(words)):
            parse_request(text, "http://x", "m")


@given(
    st.text(min_size=4, max_size=20).filter(lambda text: text.strip() == text and len(text.strip('"\\')) > 3)
)
def test_a_secret_is_hidden_in_all_its_forms(secret: str) -> None:
    from urllib.parse import quote

    redactor = Redactor.of([secret])
    forms = [
        secret,
        quote(secret, safe=""),
        json.dumps(secret)[1:-1],
        json.dumps(secret, ensure_ascii=False)[1:-1],
    ]
    for form in forms:
        assert form not in redactor.text(f"<{form}>").replace(MASK, "")
        body = (
            redactor.body(f"<{form}>".encode("utf-8", "surrogatepass"))
            if form.isascii() or form.isprintable()
            else b""
        )
        assert form.encode("utf-8", "surrogatepass") not in body.replace(MASK.encode(), b"")


def test_redaction_by_name() -> None:
    redactor = Redactor.of([], ["password", "X-Key"])
    exchange = Exchange(
        Request(
            "POST",
            "http://u:p@h/q?password=abc&x=1",
            (("Authorization", "Bearer abc"), ("X-Key", "k"), ("Cookie", "s=1; t=2"), ("Accept", "*/*")),
            b'{"password" : "a\\"b", "x": 1}',
        ),
        Response(200, "OK", (("Set-Cookie", "s=1; Path=/"),), b"user=1&password=abc"),
        Timings(0, 0, 0),
    )
    found = redactor.exchange(exchange)
    assert found.request.url == f"http://h/q?password={MASK}&x=1"
    assert found.request.headers == (
        ("Authorization", f"Bearer {MASK}"),
        ("X-Key", MASK),
        ("Cookie", f"s={MASK}; t={MASK}"),
        ("Accept", "*/*"),
    )
    assert found.request.body == f'{{"password" : "{MASK}", "x": 1}}'.encode()
    assert (
        found.response
        and found.response.body == f"user=1&password={MASK}".encode()
        and found.response.headers == (("Set-Cookie", f"s={MASK}; Path=/"),)
    )
    result = CheckResult("body.length", False, "body/password", "8 or more characters", '3 characters: "abc"')
    assert redactor.result(result).observed == MASK


@pytest.mark.parametrize(
    ("declared", "actual", "index"),
    [
        (["application/json"], "application/json; charset=utf-8", 0),
        (["application/json"], "Application/JSON", 0),
        (["application/json"], "application/problem+json", None),
        (["*/*", "text/*", "text/csv"], "text/csv", 2),
        (["*/*", "text/*"], "text/csv; header=present", 1),
        (["application/vnd.quay+json; version=2"], "application/vnd.quay+json; version=2", 0),
        (["application/vnd.quay+json; version=2"], "application/vnd.quay+json", None),
        (["application/json"], "json", None),
        (["application/json"], "", None),
    ],
)
def test_media_types(declared: list[str], actual: str, index: int | None) -> None:
    assert best_match(declared, actual) == index


def test_media_type_parts() -> None:
    parsed = parse_media_type('multipart/form-data; boundary="a;b"; charset=UTF-8')
    assert parsed and parsed.parameter("boundary") == "a;b" and parsed.is_multipart and not parsed.is_json


_SCOPE = Scope(
    {"berth": "B4", "n": 3},
    {"one": {"id": 7, "list": [{"name": "Tern"}]}},
    exchange=Exchange(
        Request("GET", "http://h/q"), Response(200, "OK", (("X-Count", "12"),), b""), Timings(0, 0, 0)
    ),
    request_values={"query.limit": 5},
    response_value={"items": [{"id": 1, "free": True, "none": None}], "name": "Grey Tern"},
)

CONDITIONS: list[tuple[str, bool]] = [
    ("$statusCode == 200", True),
    ("$statusCode >= 200 && $statusCode < 300", True),
    ("$statusCode == 201 || $method == 'GET'", True),
    ("!($statusCode == 200)", False),
    ("$response.body#/name == 'grey tern'", True),
    ("$response.body#/name != 'Grey'", True),
    ("$response.body#/items/0/id == 1", True),
    ("$response.body#/items/0/free == true", True),
    ("$response.body#/items/0/free == 1", False),
    ("$response.body#/items/0/none == null", True),
    ("$response.body#/nothing == null", False),
    ("$response.header.X-Count > 9", True),
    ("$response.header.x-count == 12", True),
    ("$steps.one.outputs.list[0].name == 'Tern'", True),
    ("$steps.one.outputs.list[4].name == 'Tern'", False),
    ("$inputs.n < 'x'", False),
    ("$inputs.n == 3.0", True),
    ("$request.query.limit == 5", True),
    ("$inputs.berth == 'it''s'", False),
    ("$url == 'http://h/q'", True),
    ("$response.body#/items/0/free", True),
]


@pytest.mark.parametrize(("text", "expected"), CONDITIONS)
def test_conditions(text: str, expected: bool) -> None:
    assert holds(parse_condition(text), _SCOPE) is expected


@pytest.mark.parametrize(
    "text",
    [
        "",
        "$statusCode ==",
        "(1 == 1",
        "1 == 1)",
        "$nothing == 1",
        "a == 1",
        "1 = 1",
        "'x",
        "!" * 500 + "true",
        "(" * 500,
    ],
)
def test_broken_conditions(text: str) -> None:
    with pytest.raises(BadCondition):
        parse_condition(text)


def test_expressions_in_values() -> None:
    missing: list[str] = []
    value = {
        "a": "$inputs.n",
        "b": "call {$inputs.berth} of {$steps.one.outputs.id}",
        "c": ["$steps.one.outputs.no"],
        "d": "$5 and {x}",
        "e": 1,
    }
    assert fill(value, _SCOPE, missing) == {
        "a": 3,
        "b": "call B4 of 7",
        "c": [ABSENT],
        "d": "$5 and {x}",
        "e": 1,
    }
    assert missing == ["$steps.one.outputs.no"]


def _record(
    case: str, body: bytes = b"{}", results: tuple[CheckResult, ...] = (), **more: Any
) -> ExchangeRecord:
    exchange = Exchange(
        Request("GET", "http://h/q", (("A", "1"),)),
        Response(200, "OK", (("Content-Type", "application/json"),), body),
        Timings(1, 0.1, 0.2),
    )
    return ExchangeRecord(
        case,
        "s",
        more.get("contract", "quay"),
        more.get("operation", "x"),
        exchange,
        Verdict.FAILED,
        more.get("reason", "why"),
        results,
        suite="suite",
    )


_HOSTILE = (
    '</pre></script><script>document.title="owned"</script><img src=x onerror="alert(1)"> \u202egnp.exe'
    " \x1b[31m {{ 127*127 }} ]]> &amp; \ud800 \x00"
)


def _hostile_report(tmp_path: Path) -> dict[str, bytes]:
    results = (CheckResult("body.type", False, f"body/{_HOSTILE}", _HOSTILE, _HOSTILE),)
    record = _record(
        "c",
        json.dumps({"x": _HOSTILE}).encode(),
        results,
        operation=_HOSTILE.replace("\ud800", ""),
        reason=_HOSTILE.replace("\ud800", ""),
    )
    with open_ledger(tmp_path / "l.sqlite", write=True) as ledger:
        run = ledger.begin("run", "t<b>", "what<b>")
        ledger.add(run, [record], [CaseRecord("suite", "c<i>", Verdict.FAILED, "why\x01", 0.5)])
        ledger.end(run, "failed")
        view = run_view(ledger, run, {})
        return {name: reporter.write(view) for name, reporter in REPORTERS.items()}


def test_reports_disarm_what_they_show(tmp_path: Path) -> None:
    reports = _hostile_report(tmp_path)
    html = reports["html"].decode()
    assert (
        html.count("<script>") == 1
        and html.count("<style>") == 1
        and "<img" not in html
        and "<b>" not in re.sub(r"<b>(\d+|GET|\d+ %)</b>", "", html)
    )
    assert "\u202e" not in html and "\x1b" not in html and "16129" not in html
    assert "http" not in re.sub(r"http://h/q|<meta http-equiv", "", html).split("<body>")[0]
    policy = re.search(r'Content-Security-Policy" content="([^"]*)"', html)
    assert (
        policy
        and policy.group(1).startswith("default-src &#39;none&#39;; style-src &#39;sha256-")
        and "unsafe" not in policy.group(1)
    )
    assert not re.search(r'(src|href)="(?!#)', html)
    suite = ElementTree.fromstring(reports["junit"])
    assert suite.find(".//failure") is not None


def test_the_report_in_a_browser(tmp_path: Path) -> None:
    import os
    import shutil
    import subprocess

    chromium = shutil.which("chromium")
    if chromium is None:
        if os.environ.get("CI"):
            pytest.fail("chromium is missing; .ci/run installs it")
        pytest.skip("chromium is missing (Debian package chromium)")
    page = tmp_path / "report.html"
    page.write_bytes(_hostile_report(tmp_path)["html"])
    command = [
        chromium,
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--disable-background-networking",
        f"--user-data-dir={tmp_path / 'profile'}",
        "--virtual-time-budget=2000",
        "--dump-dom",
        f"{page.as_uri()}#x1",
    ]
    done = subprocess.run(command, capture_output=True, timeout=90)
    dom = done.stdout.decode()
    assert "<title>Run 1: 1 findings</title>" in dom, done.stderr.decode()[-300:]
    # Our own script ran (the filter counted, the exchange named in the address is unfolded), the hostile one
    # did not.
    assert "1 of 1" in dom and re.search(r"<details class=\"exchange\"[^>]* open", dom)


def test_fingerprints_are_stable() -> None:
    def finding(**more: Any) -> str:
        values = {
            "kind": "body.type",
            "at": "body/items/3/length",
            "declared": "number",
            "observed": "x",
            "location": Location("b.yaml", "/x/type"),
            "status": 200,
            **more,
        }
        result = CheckResult(
            values["kind"], False, values["at"], values["declared"], values["observed"], values["location"]
        )
        return Finding(result, "berths", "getVessel", values["status"]).fingerprint

    assert finding() == finding(at="body/items/0/length", observed="y", declared="a number")
    assert (
        len(
            {
                finding(),
                finding(kind="body.enum"),
                finding(at="body/items/3/name"),
                finding(status=201),
                finding(location=Location("b.yaml", "/y")),
            }
        )
        == 5
    )
    assert set(KEYWORD_KINDS.values()) <= set(KINDS)


@given(st.lists(st.text(max_size=4), max_size=4))
def test_pointers(keys: list[str]) -> None:
    assert split_pointer(join_pointer(keys)) == keys
    value: Any = 1
    for key in reversed(keys):
        value = {key: value}
    assert follow_pointer(value, join_pointer(keys)) == 1


def test_verdicts() -> None:
    assert worst([]) is Verdict.SKIPPED
    assert worst([Verdict.PASSED, Verdict.SKIPPED]) is Verdict.SKIPPED
    assert worst([Verdict.UNPROVEN, Verdict.PASSED, Verdict.SKIPPED]) is Verdict.UNPROVEN
    assert worst([Verdict.FAILED, Verdict.ERROR]) is Verdict.ERROR


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


def test_coverage_counts_each_element_once() -> None:
    shared = {
        "schemas": {
            "Berth": {
                "type": "object",
                "properties": {"id": {"type": "integer"}, "kind": {"type": "string", "enum": ["a", "b"]}},
            }
        }
    }
    paths = {
        path: {"get": {"operationId": path[1:], "responses": answers({"$ref": "#/components/schemas/Berth"})}}
        for path in ("/one", "/two")
    }
    contract = read_contract(definition(paths, **shared))
    exchange = Exchange(
        Request("GET", "http://h/one"),
        Response(200, "OK", _JSON, b'{"id": 1, "kind": "a"}'),
        Timings(0, 0, 0),
    )
    judgement = judge(wire_of(contract), contract.operations[0], exchange, "http://h")

    class Row:
        def __init__(self, element: str) -> None:
            self.element, self.operation, self.count = element, contract.operations[0].id, 1

    coverage = measure(wire_of(contract), element_kinds(contract), [Row(hit) for hit in judgement.hits])
    shares = {name: (share.exercised, share.declared) for name, share in coverage.by_kind()}
    assert shares == {
        "operations": (1, 2),
        "status codes": (1, 2),
        "media types": (1, 2),
        "response properties": (2, 2),
        "enum members": (1, 2),
    }
    assert dict(coverage.by_operation())["two"].exercised == 0
    assert [row.element.label for row in coverage.gaps() if row.element.kind == "enum"] == ['kind = "b"']
