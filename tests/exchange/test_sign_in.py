"""Signing in as services want it: by an operation that gives a token or cookies, by digest, with a certificate,
by the grants of OAuth; tokens that end in the midst of a run.
"""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar

import pytest

from conftest import answers, definition
from styles.desk import Jux

PIN = "ebb-and-flow-77"
LOGS = {"type": "array", "items": {"type": "object", "properties": {"id": {"type": "string"}}}}
NOTE = {"type": "object", "required": ["text"], "properties": {"text": {"type": "string"}}}
SIGN = {
    "type": "object",
    "required": ["user", "pin"],
    "properties": {"user": {"type": "string"}, "pin": {"type": "string", "format": "password"}},
}


def body(schema: Any) -> dict[str, Any]:
    return {"requestBody": {"required": True, "content": {"application/json": {"schema": schema}}}}


PATHS = {
    "/session": {
        "post": {"operationId": "openSession", **body(SIGN), "responses": answers({"type": "object"})}
    },
    "/logs": {
        "get": {"operationId": "listLogs", "responses": answers(LOGS)},
        "post": {"operationId": "addLog", **body(NOTE), "responses": answers({"type": "object"}, "201")},
    },
    "/logs/{id}": {
        "get": {
            "operationId": "readLog",
            "parameters": [{"name": "id", "in": "path", "required": True, "schema": {"type": "string"}}],
            "responses": answers({"type": "object"}),
        },
        "delete": {
            "operationId": "dropLog",
            "parameters": [{"name": "id", "in": "path", "required": True, "schema": {"type": "string"}}],
            "responses": {"204": {"description": "gone"}},
        },
    },
}


class _Desk(BaseHTTPRequestHandler):
    """A log book. Who may read and write it, the kind of desk says."""

    protocol_version = "HTTP/1.1"
    lock: ClassVar[threading.Lock]
    logs: ClassVar[dict[str, str]]
    sessions: ClassVar[dict[str, int]]
    """By token, for how many requests it still holds."""
    seen: ClassVar[list[tuple[str, int]]]
    holds: ClassVar[int] = 10**9

    def lets_in(self) -> bool:
        raise NotImplementedError

    def signed_in(self, name: str) -> tuple[dict[str, Any], list[tuple[str, str]]]:
        raise NotImplementedError

    def use(self, token: str) -> bool:
        with self.lock:
            left = self.sessions.get(token, 0)
            if left:
                self.sessions[token] = left - 1
            return bool(left)

    def _answer(self) -> None:
        data = self.rfile.read(int(self.headers.get("Content-Length", 0)))
        if self.path == "/session":
            given = json.loads(data)
            if given != {"user": "desk", "pin": PIN}:
                return self.send(401, {"title": "wrong pin"})
            with self.lock:
                name = f"pass-{len(self.sessions) + 1}-gate-7f3a"
                self.sessions[name] = self.holds
            told, fields = self.signed_in(name)
            return self.send(200, told, *fields)
        if not self.lets_in():
            return self.send(401, {"title": "sign in"})
        with self.lock:
            key = self.path.rpartition("/")[2]
            if self.command == "POST":
                key = str(len(self.seen))
                self.logs[key] = json.loads(data)["text"]
                return self.send(201, {"id": key, "text": self.logs[key]})
            if self.path == "/logs":
                return self.send(200, [{"id": key} for key in self.logs])
            if key not in self.logs:
                return self.send(404, {})
            if self.command == "DELETE":
                del self.logs[key]
                return self.send(204, None)
            return self.send(200, {"id": key, "text": self.logs[key]})

    def send(self, status: int, value: Any, *fields: tuple[str, str]) -> None:
        data = b"" if value is None else json.dumps(value).encode()
        self.seen.append((f"{self.command} {self.path.partition('?')[0]}", status))
        self.send_response(status)
        if data:
            self.send_header("Content-Type", "application/json")
        for name, text in fields:
            self.send_header(name, text)
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    do_GET = do_POST = do_DELETE = _answer

    def log_message(self, *words: Any) -> None:
        pass


class Bearer(_Desk):
    def lets_in(self) -> bool:
        return self.use(self.headers.get("Authorization", "").removeprefix("Bearer "))

    def signed_in(self, name: str) -> tuple[dict[str, Any], list[tuple[str, str]]]:
        return {"session": {"access_token": name}}, []


class ShortLived(Bearer):
    """Its tokens hold for twenty requests."""

    holds = 20


class Guarded(_Desk):
    """A cookie, and beside it an anti-forgery value for what changes something."""

    def lets_in(self) -> bool:
        cookies = dict(
            pair.strip().split("=", 1) for pair in self.headers.get("Cookie", "").split(";") if pair.strip()
        )
        guarded = self.command == "GET" or self.headers.get("X-Guard") == f"guard-{cookies.get('desk')}"
        return guarded and self.use(cookies.get("desk", ""))

    def signed_in(self, name: str) -> tuple[dict[str, Any], list[tuple[str, str]]]:
        fields = [
            ("Set-Cookie", f"desk={name}; Path=/; HttpOnly"),
            ("Set-Cookie", f"guard=guard-{name}; Path=/"),
            ("Set-Cookie", "old=; Max-Age=0"),
        ]
        return {}, fields


class OwnField(_Desk):
    def lets_in(self) -> bool:
        return self.use(self.headers.get("X-Watch", "").removeprefix("Pass "))

    def signed_in(self, name: str) -> tuple[dict[str, Any], list[tuple[str, str]]]:
        return {}, [("X-Pass", name)]


@contextmanager
def desk(kind: type[_Desk]) -> Iterator[tuple[str, type[_Desk]]]:
    made = {"lock": threading.Lock(), "logs": {"old": "fog"}, "sessions": {}, "seen": []}
    handler = type(kind.__name__, (kind,), made)
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}", handler
    finally:
        server.shutdown()
        server.server_close()


def workspace(tmp_path: Path, jux: Jux, url: str, sign_in: str) -> Path:
    home = tmp_path / "w"
    (tmp_path / "logs.json").write_text(definition(PATHS))
    jux("init", home)
    jux("import", tmp_path / "logs.json", "-C", home)
    jux("targets", "set", "desk", url, "-C", home)
    with (home / "juxtalogos.toml").open("a") as config:
        config.write(sign_in)
    jux("trust", "--send", f"DESK_PIN={url}", "-C", home)
    return home


SIGN_IN = """
[targets.desk.sign-in]
operation = "openSession"
{more}
[targets.desk.sign-in.inputs]
"body/user" = "desk"
"body/pin" = "env:DESK_PIN"
"""


@pytest.mark.parametrize(
    ("kind", "more"),
    [
        (Bearer, ""),
        (ShortLived, 'token = "$response.body#/session/access_token"'),
        (Guarded, 'guard = "cookie.guard"\nguard-field = "X-Guard"'),
        (OwnField, 'token = "$response.header.X-Pass"\nfield = "X-Watch: Pass"'),
    ],
)
def test_sign_in_by_an_operation(kind: type[_Desk], more: str, tmp_path: Path, jux: Jux) -> None:
    env = {"DESK_PIN": PIN}
    with desk(kind) as (url, served):
        home = workspace(tmp_path, jux, url, SIGN_IN.format(more=more))
        served.seen.clear()  # writing the target tried the address, with nothing
        assert jux("call", "listLogs", "-C", home, env=env).status == 0
        learned = jux("compose", "logs", "--learn=writing", "--json", "-C", home, env=env).json["learned"]
        assert not [one for one in learned["notReached"] if one["operation"] != "openSession"]
        found = jux(
            "run", "logs", "--jobs", "8", "--repeat", "3", "--json", "-C", home, env=env, status=None
        ).json
        own = [one for one in found["cases"] if "openSession" not in one["case"]]
        assert {one["verdict"] for one in own} == {"passed"}, own
        assert served.logs == {"old": "fog"}
        refused = [row for row in served.seen if row[1] == 401 and row[0] != "POST /session"]
        assert bool(refused) is (kind is ShortLived)
        signed = sum(row == ("POST /session", 200) for row in served.seen)
        assert signed <= 3 + (len(served.seen) // 10 if kind is ShortLived else 0)
    for path in home.rglob("*"):
        if path.is_file():
            data = path.read_bytes()
            assert PIN.encode() not in data and b"-gate-7f3a" not in data, path


@pytest.mark.parametrize(
    ("sign_in", "told"),
    [
        (SIGN_IN.format(more='token = "$response.body#/nowhere"'), "gave no token at"),
        (
            SIGN_IN.format(more="").replace('"desk"\n"body/pin"', '"mate"\n"body/pin"'),
            "returned 401: wrong pin",
        ),
        (SIGN_IN.format(more="").replace("body/user", "body/usr"), "there is no body/usr"),
        (SIGN_IN.format(more='tokn = "x"'), "unknown key"),
    ],
)
def test_what_is_wrong_with_a_sign_in(sign_in: str, told: str, tmp_path: Path, jux: Jux) -> None:
    with desk(Bearer) as (url, _):
        home = tmp_path / "w"
        (tmp_path / "logs.json").write_text(definition(PATHS))
        jux("init", home)
        jux("import", tmp_path / "logs.json", "-C", home)
        jux("targets", "set", "desk", url, "--credential", "x=env:DESK_PIN", "-C", home, status=None)
        jux("targets", "set", "desk", url, "-C", home)
        with (home / "juxtalogos.toml").open("a") as config:
            config.write(sign_in)
        jux("trust", "--send", f"DESK_PIN={url}", "-C", home, status=None)
        done = jux("call", "listLogs", "-C", home, env={"DESK_PIN": PIN}, status=None)
        assert done.status in (2, 3) and told in done.err + done.out, (done.out, done.err)
