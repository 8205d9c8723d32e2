"""A proxy between the program and the harbour damages right answers in one seeded place each.

What the definition forbids must be found, with its kind and place; what it allows must give no finding.
"""

from __future__ import annotations

import http.client
import json
import random
import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import pytest

from conftest import BERTHS, KEY_ENV, Result, add_target
from juxtalogos.model.findings import general_path


class Proxy(ThreadingHTTPServer):
    """Passes everything on; `damage` changes (status, headers, body) of the answers it is meant for."""

    daemon_threads = True

    def __init__(self, upstream: str) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.upstream = urlsplit(upstream)
        self.damage: (
            Callable[[str, str, int, dict[str, str], bytes], tuple[int, dict[str, str], bytes]] | None
        ) = None

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.server_address[1]}{self.upstream.path}"


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True
    server: Proxy

    def pass_on(self) -> None:
        body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
        connection = http.client.HTTPConnection(self.server.upstream.netloc, timeout=10)
        connection.request(self.command, self.path, body or None, dict(self.headers))
        answer = connection.getresponse()
        status, headers, content = answer.status, dict(answer.getheaders()), answer.read()
        connection.close()
        if self.server.damage:
            status, headers, content = self.server.damage(self.command, self.path, status, headers, content)
        self.send_response_only(status)
        for name, value in headers.items():
            if name.lower() not in ("content-length", "connection"):
                self.send_header(name, value)
        if status != 204:
            self.send_header("Content-Length", str(len(content)))
        self.end_headers()
        self.wfile.write(content)

    do_GET = do_POST = do_PUT = do_PATCH = do_DELETE = pass_on

    def log_message(self, format: str, *args: object) -> None:
        pass


@pytest.fixture
def proxy(harbour: str) -> Iterator[Proxy]:
    server = Proxy(harbour)
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True)
    thread.start()
    yield server
    server.shutdown()
    server.server_close()
    thread.join()


Change = Callable[[Any, random.Random], Any]


def _drop(name: str) -> Change:
    return lambda value, rng: {key: item for key, item in value.items() if key != name}


def _set(name: str, item: Any) -> Change:
    return lambda value, rng: {**value, name: item}


def _rename(name: str, other: str) -> Change:
    return lambda value, rng: {(other if key == name else key): item for key, item in value.items()}


def _shuffled(value: Any, rng: random.Random) -> Any:
    return rng.sample(value, len(value))


def _first(change: Change) -> Change:
    return lambda value, rng: [change(value[0], rng), *value[1:]]


# (call, change of the body, finding kind or "" where the definition allows it, place)
BODIES: list[tuple[str, Change, str, str]] = [
    ("getBerth", _drop("quay"), "body.required", "body/quay"),
    ("getBerth", _drop("free"), "", ""),
    ("getBerth", _rename("quay", "mole"), "body.required", "body/quay"),
    ("getBerth", _rename("free", "vacant"), "", ""),
    ("getBerth", _set("depthMetres", "9.0"), "body.type", "body/depthMetres"),
    ("getBerth", _set("depthMetres", 9), "", ""),
    ("getBerth", _set("depthMetres", 9.25), "", ""),
    ("getBerth", _set("depthMetres", 41), "body.range", "body/depthMetres"),
    ("getBerth", _set("depthMetres", None), "body.type", "body/depthMetres"),
    ("getBerth", _set("free", "true"), "body.type", "body/free"),
    ("getBerth", _set("surface", "gravel"), "body.enum", "body/surface"),
    ("getBerth", _set("surface", "stone"), "", ""),
    ("getBerth", _set("note", "swept on Monday"), "", ""),
    ("getBerth", _set("berthId", "Q4"), "body.pattern", "body/berthId"),
    ("getBerth", _set("services", ["water", "water"]), "body.unique", "body/services/*"),
    ("getBerth", _set("services", []), "", ""),
    ("getBerth", _set("services", ["tea"]), "body.enum", "body/services/*"),
    ("listBerths", _shuffled, "", ""),
    ("listBerths", lambda value, rng: [], "", ""),
    ("listBerths", _first(_drop("surface")), "body.required", "body/*/surface"),
    ("listBerths", lambda value, rng: {"berths": value}, "body.type", "body"),
    ("listVessels", _set("total", -1), "body.range", "body/total"),
    ("listVessels", _set("total", 3.0), "", ""),
    ("listVessels", _set("total", 3.5), "body.type", "body/total"),
    ("listVessels", _set("items", None), "body.type", "body/items"),
    ("getVessel", _set("agentCode", None), "", ""),
    ("getVessel", _set("agentCode", "mrw"), "body.pattern", "body/agentCode"),
    ("getVessel", _set("name", "x"), "body.length", "body/name"),
    ("getVessel", _set("built", "21.05.2009"), "body.format", "body/built"),
    ("getVessel", _set("built", "2009-05-21"), "", ""),
    ("getVessel", _set("owner", {}), "body.required", "body/owner/name"),
    ("getVessel", _set("name", None), "body.type", "body/name"),
    ("listPortCalls", _set("shard", 1), "body.extra", "body/shard"),
    ("listPortCalls", _set("next", None), "", ""),
    ("listPortCalls", _drop("next"), "", ""),
    ("getPortCall", _set("arrives", "2026-03-14 06:30"), "body.format", "body/arrives"),
    ("getPortCall", _set("arrives", "2026-03-14T06:30:00.125+01:00"), "", ""),
    ("getPortCall", _set("berthId", None), "", ""),
    ("getPortCall", _set("cargo", [{"goods": "ore", "tonnes": 0}]), "body.range", "body/cargo/*/tonnes"),
    ("listTides", lambda value, rng: value[:1], "body.count", "body"),
    ("listTides", _shuffled, "", ""),
]

Whole = Callable[[int, dict[str, str], bytes], tuple[int, dict[str, str], bytes]]

# (call, change of the whole answer, finding kind or "", place)
MESSAGES: list[tuple[str, Whole, str, str]] = [
    ("getBerth", lambda status, headers, body: (203, headers, body), "status.undeclared", "status"),
    ("getBerth", lambda status, headers, body: (503, headers, body), "status.server-error", "status"),
    (
        "getBerth",
        lambda status, headers, body: (status, {**headers, "Content-Type": "text/html"}, body),
        "media.undeclared",
        "header.Content-Type",
    ),
    (
        "getBerth",
        lambda status, headers, body: (
            status,
            {**headers, "Content-Type": "Application/JSON; Charset=UTF-8"},
            body,
        ),
        "",
        "",
    ),
    ("getBerth", lambda status, headers, body: (status, {**headers, "X-Trace": "7"}, body), "", ""),
    ("getBerth", lambda status, headers, body: (status, headers, body[:-5]), "media.untrue", "body"),
    ("getBerth", lambda status, headers, body: (status, headers, b""), "body.missing", "body"),
    ("getBerth", lambda status, headers, body: (status, headers, b"  \n" + body), "", ""),
    (
        "getBerth",
        lambda status, headers, body: (
            status,
            headers,
            json.dumps(json.loads(body), ensure_ascii=True, indent=4).encode(),
        ),
        "",
        "",
    ),
    ("getBerth", lambda status, headers, body: (status, headers, b"{'quay': 1}"), "media.untrue", "body"),
    (
        "getBerth",
        lambda status, headers, body: (status, headers, body.decode().encode("utf-16")),
        "media.untrue",
        "body",
    ),
    (
        "listVessels",
        lambda status, headers, body: (
            status,
            {key: value for key, value in headers.items() if key != "X-Total-Count"},
            body,
        ),
        "header.missing",
        "header.X-Total-Count",
    ),
    (
        "listVessels",
        lambda status, headers, body: (status, {**headers, "X-Total-Count": "many"}, body),
        "header.malformed",
        "header.X-Total-Count",
    ),
    (
        "listVessels",
        lambda status, headers, body: (
            404,
            {"Content-Type": "application/problem+json"},
            b'{"title": "none", "status": 404}',
        ),
        "",
        "",
    ),
    (
        "listVessels",
        lambda status, headers, body: (
            404,
            {"Content-Type": "application/problem+json"},
            b'{"title": 4, "status": 404}',
        ),
        "body.type",
        "body/title",
    ),
    (
        "getBerth",
        lambda status, headers, body: (
            404,
            {"Content-Type": "application/problem+json"},
            b'{"title": "none", "status": 404}',
        ),
        "",
        "",
    ),
    (
        "getBerth",
        lambda status, headers, body: (
            404,
            {"Content-Type": "application/json"},
            b'{"title": "none", "status": 404}',
        ),
        "media.undeclared",
        "header.Content-Type",
    ),
]

_VALUES = {
    "getBerth": ["path.berthId=B2"],
    "getVessel": ["path.vesselId=V-1001"],
    "getPortCall": ["path.callId=PC-1001"],
    "listTides": ["day=2026-03-14"],
}


def _call(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], home: Path, operation: str
) -> dict[str, Any]:
    from juxtalogos.cli.main import main

    monkeypatch.setenv("MERROW_KEY", KEY_ENV["MERROW_KEY"])
    words = [word for setting in _VALUES.get(operation, []) for word in ("--set", setting)]
    capsys.readouterr()
    status = main(["call", operation, *words, "--json", "--trial", "-C", str(home)])
    data: dict[str, Any] = json.loads(capsys.readouterr().out)
    failing = [check for check in data["checks"] if not check["held"] and check["severity"] == "deviation"]
    assert status == (1 if failing else 0)
    assert data["verdict"] == ("failed" if failing else data["verdict"])
    data["failing"] = [(check["kind"], general_path(check["at"])) for check in failing]
    return data


@pytest.fixture
def home(tmp_path: Path, jux: Callable[..., Result], proxy: Proxy, berths: Path) -> Path:
    add_target(berths, proxy.url)
    return berths


def test_damaged_bodies(
    home: Path, proxy: Proxy, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    wrong = []
    for seed, (operation, change, kind, at) in enumerate(BODIES):
        rng = random.Random(seed)

        def damage(
            method: str,
            path: str,
            status: int,
            headers: dict[str, str],
            body: bytes,
            change: Change = change,
            rng: random.Random = rng,
        ) -> Any:
            return status, headers, json.dumps(change(json.loads(body), rng)).encode()

        proxy.damage = damage
        found = set(_call(monkeypatch, capsys, home, operation)["failing"])
        if found != ({(kind, at)} if kind else set()):
            wrong.append((seed, operation, kind, at, found))
    assert wrong == []


def test_damaged_messages(
    home: Path, proxy: Proxy, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    wrong = []
    for number, (operation, whole, kind, at) in enumerate(MESSAGES):

        def damage(
            method: str, path: str, status: int, headers: dict[str, str], body: bytes, whole: Whole = whole
        ) -> Any:
            return whole(status, headers, body)

        proxy.damage = damage
        found = set(_call(monkeypatch, capsys, home, operation)["failing"])
        if found != ({(kind, at)} if kind else set()):
            wrong.append((number, operation, kind, at, found))
    assert wrong == []


def test_undamaged_answers_give_no_finding(
    home: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    for operation in (
        "listVessels",
        "getVessel",
        "listBerths",
        "getBerth",
        "listPortCalls",
        "getPortCall",
        "listTides",
        "listNotices",
    ):
        data = _call(monkeypatch, capsys, home, operation)
        assert (data["failing"], data["verdict"]) == ([], "passed"), operation


def test_every_place_of_the_definition_is_a_real_line(
    home: Path, proxy: Proxy, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    proxy.damage = lambda method, path, status, headers, body: (
        status,
        headers,
        b'{"berthId": "B1", "depthMetres": 99}',
    )
    data = _call(monkeypatch, capsys, home, "getBerth")
    lines = BERTHS.split("\n")
    by_kind = {check["kind"]: lines[check["line"] - 1] for check in data["checks"] if not check["held"]}
    assert "required: [berthId, quay" in by_kind["body.required"]
    assert "maximum: 40" in by_kind["body.range"]
