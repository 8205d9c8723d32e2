"""Calls as they are made by hand: without a contract, asked for, with values of earlier answers, in every
media type; and handovers.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from html.parser import HTMLParser
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
import yaml

from conftest import KEY, KEY_ENV, Result, add_target, answers, definition


@pytest.fixture
def work(berths: Path, harbour: str, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("MERROW_KEY", KEY)
    add_target(berths, harbour)
    return berths


def test_a_call_without_a_contract(
    work: Path, harbour: str, tmp_path: Path, jux: Callable[..., Result]
) -> None:
    found = jux(
        "call",
        "--url",
        harbour + "/berths",
        "--header",
        "Authorization: Bearer tide-secret-9",
        "--json",
        "-C",
        work,
    ).json
    assert found["verdict"] == "unproven" and found["response"]["status"] == 200 and found["checks"] == []
    kept = jux("exchanges", found["exchange"], "-C", work).out
    assert "no contract declares" in kept and "tide-secret" not in kept + json.dumps(found)
    (tmp_path / "v.json").write_text('{"name": "Tern", "kind": "bulk", "lengthMetres": 80}', "utf-8")
    words = (
        "call",
        "--url",
        harbour + "/vessels",
        "--method",
        "post",
        "--header",
        "Content-Type: application/json",
        "--body-file",
        tmp_path / "v.json",
    )
    made = jux(*words, "--json", cwd=tmp_path).json
    assert made["response"]["status"] == 201 and made["exchange"] is None  # no workspace here to keep it
    assert "refused the connection" in jux("call", "--url", "http://127.0.0.1:1/", "-C", work, status=3).out
    for words, message in [
        (("--url", "nonsense"), "is no base URL"),
        (("--url", harbour, "--method", "a b"), "not a method"),
        (("--url", harbour, "--set", "a=1"), "without a contract"),
        ((), "no operation given"),
    ]:
        assert message in jux("call", *words, "-C", work, status=2).err


def test_a_host_name_answered_by_another_address(
    work: Path, harbour: str, jux: Callable[..., Result]
) -> None:
    port = harbour.rpartition(":")[2].partition("/")[0]
    found = jux(
        "call",
        "--url",
        "http://merrow.invalid/v1/berths",
        "--at",
        f"merrow.invalid=127.0.0.1:{port}",
        "--json",
        "-C",
        work,
    ).json
    assert (
        dict(found["request"]["headers"])["Host"] == "merrow.invalid" and found["response"]["status"] == 200
    )
    with (work / "juxtalogos.toml").open("a", encoding="utf-8") as out:
        out.write(
            '\n[targets.named]\nurl = "http://merrow.invalid/v1"\naddresses = { "merrow.invalid" ='
            f' "127.0.0.1:{port}" }}\n'
        )
    assert jux("call", "listBerths", "--target", "named", "--json", "-C", work).json["verdict"] == "passed"
    (work / "m.http").write_bytes(b"GET /v1/berths HTTP/1.1\r\nHost: merrow.invalid\r\n\r\n")
    assert (
        jux("call", "listBerths", "--target", "named", "--message", work / "m.http", "-C", work).status == 0
    )
    assert (
        "has no address"
        in jux("call", "listBerths", "--at", "x", "--target", "local", "-C", work, status=2).err
    )


def test_values_of_an_earlier_answer_are_saved_as_links(work: Path, jux: Callable[..., Result]) -> None:
    made = jux(
        "call", "registerVessel", "--save", "first#port", "--json", "--target", "local", "-C", work
    ).json["exchange"]
    got = jux(
        "call",
        "getVessel",
        "--set",
        f"vesselId=@{made}#/vesselId",
        "--save",
        "first#port",
        "--json",
        "-C",
        work,
    ).json
    assert got["verdict"] == "passed"
    jux(
        "call",
        "announcePortCall",
        "--set",
        f"body/vesselId=@{got['exchange']}#/vesselId",
        "--save",
        "first#port",
        "-C",
        work,
    )
    [case] = yaml.safe_load((work / "suites/first.arazzo.yaml").read_text("utf-8"))["workflows"]
    made_step, got_step, call = case["steps"]
    assert made_step["outputs"] == {"vesselId": "$response.body#/vesselId"} == got_step["outputs"]
    assert got_step["parameters"][0]["value"] == "$steps.registerVessel.outputs.vesselId"
    assert call["requestBody"]["payload"]["vesselId"] == "$steps.getVessel.outputs.vesselId"
    assert jux("run", "first", "--json", "-C", work).json["verdict"] == "passed"
    loose = jux("call", "listVessels", "--json", "-C", work).json["exchange"]
    for value, message in [
        (f"@{made}#/none", "no value at /none"),
        ("@9999#/x", "there is no exchange 9999"),
        (f"@{made}#header.X-None", "no header.X-None"),
    ]:
        assert message in jux("call", "getVessel", "--set", f"vesselId={value}", "-C", work, status=2).err
    words = ("call", "getVessel", "--set", f"vesselId=@{loose}#/items/0/vesselId", "-C", work)
    assert "is not a step of first#port" in jux(*words, "--save", "first#port", status=2).err
    assert jux(*words, status=None).status in (0, 2)  # without saving, the value is simply taken
    assert "@V" in jux("call", "getVessel", "--set", "vesselId=@@V", "--json", "-C", work, status=None).json[
        "request"
    ]["url"].replace("%40", "@")


def _ask(work: Path, lines: str, *words: str) -> subprocess.CompletedProcess[str]:
    environment = {**os.environ, **KEY_ENV, "NO_COLOR": "1", "HOME": str(work.parent / "home")}
    return subprocess.run(
        [
            sys.executable,
            "-m",
            "juxtalogos",
            "call",
            *words,
            "--ask",
            "--json",
            "--target",
            "local",
            "-C",
            str(work),
        ],
        input=lines,
        capture_output=True,
        text=True,
        env=environment,
        timeout=60,
    )


def test_asking_for_each_input(work: Path) -> None:
    #  name, kind (wrong first), length (text, too short), draught, ...
    done = _ask(work, "Tern\nferry\nbulk\nlong\n4\n80\n" + "\n" * 12, "registerVessel")
    assert done.returncode == 0, done.stderr
    sent = json.loads(json.loads(done.stdout)["request"]["body"])
    assert sent["name"] == "Tern" and sent["kind"] == "bulk" and sent["lengthMetres"] == 80
    for words in ('one of "bulk"', 'string "ferry" given', "number expected", "at least 5"):
        assert words in done.stderr
    done = _ask(work, "!x\n-\n!-\n" + "\n" * 12, "registerVessel")
    sent = json.loads(json.loads(done.stdout)["request"]["body"])
    assert (
        done.returncode == 0
        and "it is required" in done.stderr
        and sent["name"] == "x"
        and "kind" not in sent
    )
    done = _ask(work, "Tern\n", "registerVessel")
    assert done.returncode == 2 and "the input ended" in done.stderr
    # Choices by number, back twice, the request before it is sent, and back from there.
    done = _ask(work, "<\nTern\n2\n<\n<\nKnot\n3\n" + "\n" * 6 + "<\n\n\n", "registerVessel")
    sent = json.loads(json.loads(done.stdout)["request"]["body"])
    assert sent["name"] == "Knot" and sent["kind"] == "tanker"
    assert "1 bulk   2 container   3 tanker" in done.stderr and "this is the first input" in done.stderr
    shown = done.stderr.rpartition("the request")[2]
    assert '"kind": "tanker"' in shown and "POST http" in shown
    done = _ask(work, "\n" * 8 + "q\n", "registerVessel")
    assert done.returncode == 2 and "nothing was sent" in done.stderr


class _Shapes(BaseHTTPRequestHandler):
    berth = {"id": 4, "name": "Skerry"}  # noqa: RUF012
    xml = '<berth id="4"><name>Skerry</name></berth>'

    def do_GET(self) -> None:
        kind = self.headers["Accept"]
        body = {"application/json": json.dumps(self.berth), "application/xml": self.xml}.get(kind, "4,Skerry")
        self.send_response(200)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body.encode())

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture
def shapes() -> Iterator[Any]:
    handler = type("Shapes", (_Shapes,), {})
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True)
    thread.start()
    yield f"http://127.0.0.1:{server.server_port}", handler
    server.shutdown()
    server.server_close()
    thread.join()


def test_the_same_call_in_every_media_type(shapes: Any, tmp_path: Path, jux: Callable[..., Result]) -> None:
    url, handler = shapes
    schema = {
        "type": "object",
        "xml": {"name": "berth"},
        "properties": {"id": {"type": "integer", "xml": {"attribute": True}}, "name": {"type": "string"}},
    }
    content = {kind: {"schema": schema} for kind in ("application/json", "application/xml")} | {
        "text/csv": {"schema": {"type": "string"}},
        "image/png": {},
    }
    (tmp_path / "quay.yaml").write_text(
        definition(
            {
                "/b": {
                    "get": {
                        "operationId": "getB",
                        "responses": {"200": {"description": "x", "content": content}},
                    },
                    "post": {"operationId": "one", "responses": answers(schema)},
                }
            }
        ),
        "utf-8",
    )
    jux("init")
    jux("import", "quay.yaml")
    found = jux("call", "getB", "--each-media", "--target", url, "--json", status=1).json["calls"]
    assert [(one["asked"], one["status"], bool(one["differences"])) for one in found] == [
        ("application/json", 200, False),
        ("application/xml", 200, False),
        ("text/csv", 200, True),
        ("image/png", 200, False),
    ]
    assert found[1]["note"] == "the same values" and "not compared" in found[3]["note"]
    handler.xml = '<berth id="5"><name>Skerry</name><more/></berth>'
    told = jux("call", "getB", "--each-media", "--target", url, status=1).out
    assert "/id: 4 in the first, 5 in the other" in told and "/more: only in the other" in told
    assert "nothing to compare" in jux("call", "one", "--each-media", "--target", url, status=2).err


class _Text(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.text = ""
        self.tags: set[str] = set()

    def handle_starttag(self, tag: str, attrs: object) -> None:
        self.tags.add(tag)

    def handle_data(self, data: str) -> None:
        self.text += data


def test_handover(berths: Path, tmp_path: Path, jux: Callable[..., Result]) -> None:
    jux("targets", "set", "quayside", "http://127.0.0.1:8480/v1", "-C", berths, status=None)
    text = jux("show", "berths", "--form", "handover", "-C", berths).out
    for words in (
        "http://127.0.0.1:8480/v1/port-calls",
        "X\\-Harbour\\-Key",
        "at most 420",
        "POST /v1/port-calls HTTP/1.1",
        "A sample response",
        "`vesselId`",
    ):
        assert words.replace("\\-", "-") in text, words
    assert KEY not in text
    jux("show", "berths", "--form", "handover", "--target", "quayside", "--output", "h.html", "-C", berths)
    page = _Text()
    page.feed((tmp_path / "h.html").read_text("utf-8"))
    assert "base URL" in page.text and "announcePortCall" in page.text and "script" not in page.tags
    evil = "</pre><script>x</script> | `a` \u202e <b>"
    (tmp_path / "evil.yaml").write_text(
        yaml.safe_dump(
            {
                "openapi": "3.0.3",
                "info": {"title": evil, "version": "1", "description": evil},
                "paths": {
                    "/x": {
                        "get": {
                            "summary": evil,
                            "operationId": evil,
                            "parameters": [
                                {
                                    "name": evil,
                                    "in": "query",
                                    "description": evil,
                                    "schema": {"type": "string", "enum": [evil]},
                                }
                            ],
                            "responses": answers(
                                {"type": "object", "properties": {evil: {"type": "string", "example": evil}}}
                            ),
                        }
                    }
                },
            }
        ),
        "utf-8",
    )
    jux("import", "evil.yaml", "-C", berths)
    jux("show", "evil", "--form", "handover", "--output", "e.html", "-C", berths)
    page = _Text()
    page.feed((tmp_path / "e.html").read_text("utf-8"))
    assert (
        "script" not in page.tags
        and "b" not in page.tags
        and "\u202e" not in page.text
        and "<script>x" in page.text
    )
    text = jux("show", "evil", "--form", "handover", "-C", berths).out
    assert "\u202e" not in text and "\n<script>" not in text
    assert "need --form handover" in jux("show", "berths", "--output", "x", "-C", berths, status=2).err
