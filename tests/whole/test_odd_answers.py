"""A service whose answers no library likes, and whose definition leads elsewhere: every command ends in its own
words, loses nothing, and writes files that only their owner reads.
"""

from __future__ import annotations

import asyncio
import os
import resource
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

from conftest import Result, answers, definition
from juxtalogos.exchange.transport import Transport, TransportOptions
from juxtalogos.model.errors import TrustError
from juxtalogos.model.exchange import Request

Jux = Callable[..., Result]
DEPTH = 3_000
_THING = {
    "type": "object",
    "additionalProperties": False,
    "properties": {"id": {"type": "string"}, "mark": {"type": "string", "pattern": "[]"}},
}
_NEST = {"type": "object", "properties": {"a": {"$ref": "#/components/schemas/Nest"}}}
_ID = {"name": "id", "in": "path", "required": True, "schema": {"type": "string"}}
_BODY = {"required": True, "content": {"application/json": {"schema": _THING}}}


class _Odd(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    asked: list[str]

    def _answer(self) -> None:
        self.rfile.read(int(self.headers.get("Content-Length", 0)))
        self.asked.append(self.path)
        status, text = 200, '[{"id": "a", "\\udfff": 1, "e\\ud800": {"\\udfff": "\\udfff"}}]'
        if self.command == "POST":
            status, text = 201, '{"id": "b\\udfff", "\\udfff": 1}'
        elif self.path.startswith("/marks/"):
            text = '{"id": "a", "\\udfff": 1, "mark": "x\\ud800"}'
        elif self.path == "/nest":
            text = '{"a":' * DEPTH + "1" + "}" * DEPTH
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("X-Odd", "caf\udce9".encode("utf-8", "surrogateescape").decode("latin-1"))
        self.send_header("Content-Length", str(len(text)))
        self.end_headers()
        self.wfile.write(text.encode())

    do_GET = do_POST = do_DELETE = _answer

    def log_message(self, *words: Any) -> None:
        pass


@pytest.fixture
def odd() -> Iterator[tuple[str, list[str]]]:
    handler = type("Odd", (_Odd,), {"asked": []})
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}", handler.asked
    server.shutdown()
    server.server_close()


@pytest.fixture
def home(tmp_path: Path, jux: Jux, odd: tuple[str, list[str]]) -> Path:
    listed = answers({"type": "array", "items": _THING})
    paths = {
        "/marks": {
            "get": {"operationId": "listMarks", **listed},
            "post": {"operationId": "makeMark", "requestBody": _BODY, "responses": answers(_THING, "201")},
        },
        "/marks/{id}": {
            "get": {"operationId": "readMark", "parameters": [_ID], "responses": answers(_THING)}
        },
        "/nest": {
            "get": {"operationId": "readNest", "responses": answers({"$ref": "#/components/schemas/Nest"})}
        },
    }
    (tmp_path / "marks.json").write_text(definition(paths, schemas={"Nest": _NEST}))
    home = tmp_path / "desk"
    jux("init", home)
    jux("import", tmp_path / "marks.json", "-C", home)
    jux("targets", "set", "q", odd[0], "-C", home)
    return home


def test_no_answer_ends_a_command_or_is_lost(home: Path, jux: Jux) -> None:
    for words in (
        ("call", "readMark", "--set", "id=a"),
        ("call", "readNest"),
        ("compose", "marks", "--learn=writing"),
        ("run", "--log", home / "run.log"),
        ("explore", "marks", "--requests", "40", "--save", "found"),
        ("report",),
        ("report", "--form", "junit"),
        ("exchanges", "--har", home / "all.har"),
        ("coverage",),
    ):
        done = jux(*words, "-C", home, status=None)
        assert done.status in (0, 1), (words, done.err)
        assert "fault of juxtalogos" not in done.err
        assert "cannot be stored" not in done.out
    private = [
        home / "all.har",
        home / "run.log",
        *(home / "reports").iterdir(),
        *(home / ".juxtalogos").iterdir(),
    ]
    assert {oct(path.stat().st_mode & 0o777) for path in private if path.is_file()} == {"0o600"}
    assert {(home / name).stat().st_mode & 0o777 for name in (".juxtalogos", "reports")} == {0o700}


def test_nothing_goes_to_another_origin_than_the_targets(odd: tuple[str, list[str]]) -> None:
    async def send(options: TransportOptions) -> None:
        async with Transport(options) as transport:
            await transport.send(Request("GET", f"{odd[0]}/marks"))

    with pytest.raises(TrustError, match="not at the target's origins"):
        asyncio.run(send(TransportOptions(origins=frozenset(("http://127.0.0.1:9",)))))
    assert not odd[1]
    asyncio.run(send(TransportOptions(origins=frozenset((odd[0],)))))
    assert odd[1] == ["/marks"]


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('[[known]]\nat = "body/id"\nvalue = 1\noperation = 3\n', "known.0.operation"),
        ('[[dependencies]]\noperation = "a"\ninput = "b"\nfrom = ["c"]\n', "dependencies.0.from"),
        ('[[leave-out]]\noperation = "a"\ninput = "b"\nwhy = "c"\n', "unknown key"),
        ('[[meanings]]\noperation = "a"\ndoes = "fly"\n', "meanings.0.does"),
        ("known = 1\n", "known"),
        ("[[unknown]]\n", "unknown table"),
    ],
)
def test_what_was_learned_is_read_by_its_form(text: str, told: str, home: Path, jux: Jux) -> None:
    place = home / "learned" / "q" / "marks.toml"
    place.parent.mkdir(parents=True)
    place.write_text(text)
    done = jux("compose", "marks", "-C", home, status=2)
    assert told in done.err
    assert str(place) in done.err


def test_what_was_learned_is_no_link(home: Path, jux: Jux, tmp_path: Path) -> None:
    (tmp_path / "elsewhere.toml").write_text("")
    place = home / "learned" / "q" / "marks.toml"
    place.parent.mkdir(parents=True)
    place.symlink_to(tmp_path / "elsewhere.toml")
    assert "symbolic link" in jux("compose", "marks", "-C", home, status=2).err


def test_work_apart_where_little_processor_time_is_allowed() -> None:
    def limit() -> None:
        resource.setrlimit(resource.RLIMIT_CPU, (20, 20))

    done = subprocess.run(
        [sys.executable, "-c", "from juxtalogos.suite.apart import apart; print(apart('json:dumps', [1]))"],
        preexec_fn=limit,
        env=dict(os.environ),
        capture_output=True,
        text=True,
        timeout=60,
        check=True,
    )
    assert done.stdout == "[1]\n"
