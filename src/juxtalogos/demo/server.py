"""The harbour's services on one loopback port: berths (HTTP and JSON), pilotage (SOAP) and registry (OData
V4, with a V2 face).

Run it alone: python -m juxtalogos.demo.server --port 8480 --deviations none
"""

from __future__ import annotations

import argparse
import contextlib
import json
import re
from collections.abc import Callable, Mapping
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from importlib import resources
from types import MappingProxyType
from urllib.parse import parse_qs, unquote, urlsplit

from juxtalogos.demo.berths import KEY, PREFIX, ROUTES, Harbour
from juxtalogos.demo.berths_messages import Call, Refusal, Reply
from juxtalogos.demo.pilotage import PREFIX as PILOTAGE
from juxtalogos.demo.pilotage import PilotOffice
from juxtalogos.demo.planted import planted_names
from juxtalogos.demo.registry import PREFIX as REGISTRY
from juxtalogos.demo.registry import RegistryV4
from juxtalogos.demo.registry_store import Store
from juxtalogos.demo.registry_v2 import PREFIX as REGISTRY_V2
from juxtalogos.demo.registry_v2 import RegistryV2
from juxtalogos.demo.strict import Wrong, check_call

__all__ = ["KEY", "base_url", "make_server"]


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server_version = "Merrow/2.4"
    sys_version = ""
    # The head and the body are two writes: without this the second waits for the client's acknowledgement.
    disable_nagle_algorithm = True
    harbour: Harbour
    office: PilotOffice
    registry: RegistryV4
    old_registry: RegistryV2

    def answer(self) -> None:
        parts = urlsplit(self.path)
        length = self.headers.get("Content-Length", "0")
        body = self.rfile.read(int(length)) if length.isdigit() else b""
        if parts.path.startswith(PILOTAGE):
            self.reply(*self.office.answer(self.command, parts.path, parts.query, self.headers, body))
            return
        for prefix, face in ((REGISTRY, self.registry), (REGISTRY_V2, self.old_registry)):
            if parts.path.startswith(prefix):
                host = self.headers.get("Host", "")
                status, media_type, data, headers = face.answer(
                    self.command, parts.path, parts.query, self.headers, body, host
                )
                self.reply(status, media_type, data, headers)
                return
        try:
            with self.harbour.lock:
                query = parse_qs(parts.query, keep_blank_values=True)
                reply = self.dispatch(unquote(parts.path), Call(query, self.headers, body))
        except Refusal as refusal:
            problem = {
                "title": refusal.title,
                "status": refusal.status,
                **({"detail": refusal.detail} if refusal.detail else {}),
            }
            challenge = {"WWW-Authenticate": 'Key realm="harbour office"'} if refusal.status == 401 else {}
            reply = Reply(
                refusal.status, problem, "application/problem+json", {**challenge, **refusal.headers}
            )
        data = (
            reply.text.encode()
            if reply.text is not None
            else b""
            if reply.body is None
            else json.dumps(reply.body, ensure_ascii=False).encode()
        )
        self.reply(reply.status, reply.media_type, data, reply.headers)

    def reply(
        self, status: int, media_type: str, data: bytes, headers: Mapping[str, str] = MappingProxyType({})
    ) -> None:
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        if data:
            self.send_header("Content-Type", media_type)
        if status != 204:
            self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def dispatch(self, path: str, call: Call) -> Reply:
        if path == "/ready":
            return Reply(200, text="ready", media_type="text/plain")
        if path == f"{PREFIX}/berths.yaml" and self.command == "GET":
            text = resources.files("juxtalogos.demo").joinpath("berths.yaml").read_text("utf-8")
            return Reply(200, text=text, media_type="application/yaml")
        if path == "/reset" and self.command == "POST":
            self.harbour.reset()
            self.office.reset()
            self.registry.store.reset()
            return Reply(204)
        allowed = []
        for method, pattern, name in ROUTES:
            found = re.fullmatch(PREFIX + pattern, path)
            if found and method == self.command:
                if name == "post_notice" or (name == "list_notices" and "ajar" not in self.harbour.odd):
                    self.harbour.office(call)
                if not self.harbour.knows(name, found.groups()):
                    raise Refusal(404, "No such thing", path)
                try:
                    check_call(method, path.removeprefix(PREFIX), call.query, call.headers, call.body)
                except Wrong as wrong:
                    if self.harbour.tolerates(name, call, found.groups()):
                        return getattr(self.harbour, name)(call, *found.groups())  # type: ignore[no-any-return]
                    raise Refusal(wrong.status, "Not as declared", wrong.what) from None
                operation: Callable[..., Reply] = getattr(self.harbour, name)
                return operation(call, *found.groups())
            allowed += [method] if found else []
        if allowed:
            raise Refusal(405, "Not by this method", path, Allow=", ".join(allowed))
        raise Refusal(404, "Nothing here", path)

    do_GET = do_POST = do_PUT = do_PATCH = do_DELETE = do_MERGE = answer

    def log_message(self, format: str, *args: object) -> None:
        pass


def make_server(port: int, odd: frozenset[str]) -> ThreadingHTTPServer:
    """The service on a loopback port (0: any free one), not yet serving."""
    store = Store()
    state = {
        "harbour": Harbour(odd),
        "office": PilotOffice(odd),
        "registry": RegistryV4(store, odd),
        "old_registry": RegistryV2(store, odd),
    }
    server = ThreadingHTTPServer(("127.0.0.1", port), type("BoundHandler", (Handler,), state))
    server.daemon_threads = True
    return server


def base_url(server: ThreadingHTTPServer, contract: str = "berths") -> str:
    places = {"pilotage": PILOTAGE, "registry": REGISTRY, "registry-v2": REGISTRY_V2}
    return f"http://127.0.0.1:{server.server_address[1]}{places.get(contract, PREFIX)}"


def main() -> None:
    parser = argparse.ArgumentParser(description="the services of the Port of Merrow")
    parser.add_argument("--port", type=int, default=8480)
    parser.add_argument("--deviations", default="all", help="all, none, or names separated by commas")
    args = parser.parse_args()
    server = make_server(args.port, planted_names(args.deviations))
    print(base_url(server), flush=True)
    with contextlib.suppress(KeyboardInterrupt):
        server.serve_forever()


if __name__ == "__main__":
    main()
