"""What the stand-ins of REST services share: routes with their declarations, a server, a definition made of
the routes.
"""

from __future__ import annotations

import copy
import json
import re
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any, ClassVar
from urllib.parse import parse_qs, unquote, urlsplit

Schema = dict[str, Any]
TEXT: Schema = {"type": "string"}
WHOLE: Schema = {"type": "integer"}


class Refused(Exception):
    """A refusal: a status and problem details (RFC 9457)."""

    def __init__(self, status: int, detail: str, **more: Any) -> None:
        super().__init__(detail)
        self.status, self.detail, self.more = status, detail, more


@dataclass
class Call:
    path: dict[str, str]
    query: dict[str, str]
    headers: Any
    body: Any


Handler = Callable[[Call], tuple[Any, ...]]
"""Gives (status, body) or (status, body, headers)."""


@dataclass
class Route:
    method: str
    path: str
    does: Handler
    answer: Schema | None = None
    body: Schema | None = None
    status: int = 200
    query: dict[str, Schema] = field(default_factory=dict)
    headers: dict[str, Schema] = field(default_factory=dict)
    needed: tuple[str, ...] = ()
    """Names of query and header parameters that are required."""
    refuses: tuple[int, ...] = (400, 404, 409, 422)
    summary: str = ""
    ids: Schema = field(default_factory=lambda: dict(TEXT))

    def declared(self) -> Schema:
        """The operation object."""
        parameters = [
            {"name": name, "in": "path", "required": True, "schema": self.ids}
            for name in re.findall(r"\{(\w+)\}", self.path)
        ]
        for place, names in (("query", self.query), ("header", self.headers)):
            parameters += [
                {"name": name, "in": place, "required": name in self.needed, "schema": schema}
                for name, schema in names.items()
            ]
        content = (
            {"content": {"application/json": {"schema": self.answer}}} if self.answer is not None else {}
        )
        problem = {
            "description": "refused",
            "content": {"application/problem+json": {"schema": {"type": "object"}}},
        }
        found: Schema = {
            "parameters": parameters,
            "responses": {
                str(self.status): {"description": "done", **content},
                **{str(status): problem for status in self.refuses},
            },
        }
        if self.summary:
            found["summary"] = self.summary
        if self.body is not None:
            found["requestBody"] = {"required": True, "content": {"application/json": {"schema": self.body}}}
        return found


class Service:
    """A stand-in: its routes, and its store, which a test compares before and after."""

    broken: ClassVar[frozenset[str]] = frozenset()

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.counter = 1000
        self.seen: list[tuple[str, str, int]] = []
        self.deletes_fail = False

    def routes(self) -> list[Route]:
        raise NotImplementedError

    def kept(self) -> Any:
        """The store."""
        raise NotImplementedError

    def state(self) -> Any:
        with self.lock:
            return copy.deepcopy(self.kept())

    def number(self) -> int:
        self.counter += 1
        return self.counter

    def definition(self) -> str:
        paths: dict[str, Any] = {}
        for route in self.routes():
            paths.setdefault(route.path, {})[route.method.lower()] = route.declared()
        return json.dumps(
            {"openapi": "3.0.3", "info": {"title": type(self).__name__, "version": "1"}, "paths": paths}
        )

    def answer(self, method: str, target: str, headers: Any, data: bytes) -> tuple[int, Any, dict[str, str]]:
        parts = urlsplit(target)
        for route in sorted(self.routes(), key=lambda one: one.path.count("{")):
            pattern = re.sub(r"\\\{(\w+)\\\}", r"(?P<\1>[^/]+)", re.escape(route.path))
            found = re.fullmatch(pattern, parts.path)
            if route.method != method or not found:
                continue
            query = {
                name: values[0] for name, values in parse_qs(parts.query, keep_blank_values=True).items()
            }
            try:
                body = json.loads(data) if data else None
                call = Call(
                    {name: unquote(value) for name, value in found.groupdict().items()}, query, headers, body
                )
                with self.lock:
                    if (
                        self.deletes_fail
                        and route.status in (200, 204)
                        and (method == "DELETE" or "remove" in route.path.lower())
                    ):
                        raise Refused(500, "the store is being mended")
                    _required(route, call)
                    done = route.does(call)
            except Refused as refusal:
                told = {
                    "title": "refused",
                    "status": refusal.status,
                    "detail": refusal.detail,
                    **refusal.more,
                }
                return refusal.status, told, {"Content-Type": "application/problem+json"}
            except (ValueError, KeyError, TypeError) as error:
                return (
                    400,
                    {"title": "refused", "status": 400, "detail": f"not understood: {error}"},
                    {"Content-Type": "application/problem+json"},
                )
            return done[0], done[1], dict(done[2]) if len(done) > 2 else {}
        return 404, {"title": "no such address"}, {"Content-Type": "application/problem+json"}

    @contextmanager
    def serving(self) -> Iterator[str]:
        """Its base URL while it is served."""
        service = self

        class Desk(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"
            wbufsize = (
                -1
            )  # head and body in one packet: else each answer waits for the other side's acknowledgement

            def do_GET(self) -> None:
                data = self.rfile.read(int(self.headers.get("Content-Length") or 0))
                status, body, headers = service.answer(self.command, self.path, self.headers, data)
                service.seen.append((self.command, self.path, status))
                sent = b"" if body is None else body if isinstance(body, bytes) else json.dumps(body).encode()
                self.send_response(status)
                for name, value in (
                    {"Content-Type": "application/json"} | headers if sent else headers
                ).items():
                    self.send_header(name, value)
                if status != 204:
                    self.send_header("Content-Length", str(len(sent)))
                self.end_headers()
                self.wfile.write(sent)

            do_POST = do_PUT = do_PATCH = do_DELETE = do_GET

            def log_message(self, *words: Any) -> None: ...

        class Quiet(ThreadingHTTPServer):
            def handle_error(
                self, request: Any, client_address: Any
            ) -> None: ...  # clients are killed in tests

        server = Quiet(("127.0.0.1", 0), Desk)
        server.daemon_threads = True
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
        try:
            yield f"http://127.0.0.1:{server.server_address[1]}"
        finally:
            server.shutdown()
            server.server_close()


def _required(route: Route, call: Call) -> None:
    for name in route.needed:
        if name in route.query and name not in call.query:
            raise Refused(400, f"the query parameter '{name}' is missing")
    if route.body is not None:
        for name in route.body.get("required", ()):
            if not isinstance(call.body, dict) or name not in call.body:
                raise Refused(
                    422, f"{name} is missing", errors=[{"pointer": f"/{name}", "detail": "is required"}]
                )


def shape(required: tuple[str, ...] = (), **properties: Schema) -> Schema:
    """An object's schema."""
    return {"type": "object", "required": list(required), "properties": properties}


def many(item: Schema) -> Schema:
    return {"type": "array", "items": item}
