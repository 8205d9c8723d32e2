"""A log book that wants a sign-in: what the stand-ins of ways to sign in share."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any, ClassVar

from conftest import answers

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
        "post": {"operationId": "addLog", **body(NOTE), "responses": answers(LOGS["items"], "201")},
    },
    "/vault": {"get": {"operationId": "readVault", "responses": answers(LOGS)}},
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


class Desk(BaseHTTPRequestHandler):
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
        if self.path == "/vault":
            return self.send(403, {"title": "for the harbour master only"})
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


@contextmanager
def listening(handler: type[BaseHTTPRequestHandler]) -> Iterator[str]:
    """The base URL of a server on a loopback port."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()


@contextmanager
def desk(kind: type[Desk]) -> Iterator[tuple[str, type[Desk]]]:
    """(base URL, handler) of a fresh log book."""
    made = {"lock": threading.Lock(), "logs": {"old": "fog"}, "sessions": {}, "seen": []}
    handler = type(kind.__name__, (kind,), made)
    with listening(handler) as url:
        yield url, handler
