"""Definitions from anywhere: folders, archives, the network with its logins, catalogues; and what must not be
followed or kept.
"""

from __future__ import annotations

import base64
import io
import json
import re
import threading
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
import yaml

from conftest import Result, answers, definition, read_contract
from juxtalogos.exchange.guard import is_public

_SPLIT = definition(
    {
        "/berths": {
            "get": {
                "operationId": "listBerths",
                "responses": {
                    "200": {
                        "description": "x",
                        "content": {"application/json": {"schema": {"$ref": "parts/berth.yaml"}}},
                    }
                },
            }
        }
    }
)
_PART = "type: object\nproperties: {depth: {type: number}}\n"
SECRET = "tide-gate-7431"


class _Handler(BaseHTTPRequestHandler):
    """Serves what `pages` holds: path -> (status, headers, body); asks for a login where `login` says so."""

    pages: dict[str, tuple[int, dict[str, str], bytes]] = {}  # noqa: RUF012
    login = ""
    proxy_login = ""
    seen: list[tuple[str, dict[str, str]]] = []  # noqa: RUF012

    def do_GET(self) -> None:
        self.seen.append((self.path, dict(self.headers)))
        path = "/" + self.path.split("/", 3)[3] if self.path.startswith("http://") else self.path
        status, headers, body = self.pages.get(path, (404, {}, b"none"))
        if self.login and self.headers.get("Authorization") != self.login:
            status, headers, body = 401, {"WWW-Authenticate": "Basic"}, b"<html>login</html>"
        if self.proxy_login and self.headers.get("Proxy-Authorization") != self.proxy_login:
            status, headers, body = 407, {"Proxy-Authenticate": "Basic"}, b""
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: object) -> None:
        pass


def _basic(user: str, password: str) -> str:
    return "Basic " + base64.b64encode(f"{user}:{password}".encode()).decode()


@contextmanager
def web(**pages: Any) -> Iterator[Any]:
    """(URL, handler) of a server; a page is bytes, a text, or (status, headers, body)."""
    handler = type("Handler", (_Handler,), {"pages": {}, "seen": []})
    for name, page in pages.items():
        whole = page if isinstance(page, tuple) else (200, {}, page)
        handler.pages["/" + name] = (*whole[:2], whole[2].encode() if isinstance(whole[2], str) else whole[2])  # type: ignore[attr-defined]
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}", handler
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


@pytest.fixture
def home(tmp_path: Path, jux: Callable[..., Result]) -> Path:
    jux("init", tmp_path / "work")
    return tmp_path / "work"


def _everything(folder: Path) -> bytes:
    return b"".join(path.read_bytes() for path in folder.rglob("*") if path.is_file())


def test_a_url_behind_a_login_with_parts_and_nothing_secret_kept(
    home: Path, jux: Callable[..., Result]
) -> None:
    with web(**{"v1/quay.yaml?version=2": _SPLIT, "v1/parts/berth.yaml": _PART}) as (url, handler):
        handler.login = _basic("office", SECRET)
        address = url + "/v1/quay.yaml?version=2"
        words = ("--credential", "basic=office:env:GATE", "--header", "X-Office: env:GATE", "-C", home)
        assert "401" in jux("import", address, "-C", home, status=2).err
        assert "GATE is not set" in jux("import", address, *words, status=2).err
        found = jux("import", address, *words, "--json", env={"GATE": SECRET}).json
        assert found == {
            "contract": "quay",
            "format": "openapi",
            "version": "3.0.3",
            "operations": 1,
            "problems": [],
        }
        assert all(seen["X-Office"] == SECRET for _, seen in handler.seen[-2:])
        origin = json.loads((home / "definitions/quay/origin.json").read_text("utf-8"))
        assert origin["source"] == address and set(origin["documents"]) == {"quay.yaml", "parts/berth.yaml"}
        assert SECRET.encode() not in _everything(home) and base64.b64encode(
            SECRET.encode()
        ) not in _everything(home)
        handler.pages["/v1/parts/berth.yaml"] = (200, {}, _PART.replace("number", "integer").encode())
        again = jux("import", "--refresh", "quay", "-C", home, "--json", env={"GATE": SECRET}).json
        assert [(one["operation"], one["what"]) for one in again["changes"]] == [
            ("listBerths", "response 200 application/json /depth: was number, now integer")
        ]
        assert "nothing changed" in jux("import", "--refresh", "-C", home, env={"GATE": SECRET}).out
        jux(
            "import",
            address.replace("//", f"//office:{SECRET}@") + "&token=abc123",
            "--name",
            "other",
            "-C",
            home,
            status=2,
        )
        handler.pages["/v1/quay.yaml?version=2&token=abc123"] = handler.pages["/v1/quay.yaml?version=2"]
        jux(
            "import",
            address.replace("//", f"//office:{SECRET}@") + "&token=abc123",
            "--name",
            "other",
            "-C",
            home,
        )
        assert not {SECRET.encode(), b"abc123"} & {
            text for text in (SECRET.encode(), b"abc123") if text in _everything(home)
        }
        assert "give it again" in jux("import", "--refresh", "other", "-C", home, status=2).err


def test_a_proxy_with_its_own_login(home: Path, jux: Callable[..., Result]) -> None:
    with web(**{"quay.yaml": definition({"/a": {"get": {"responses": answers()}}})}) as (proxy, handler):
        handler.proxy_login = _basic("gate", SECRET)
        words = ("import", "http://merrow.invalid/quay.yaml", "--proxy", proxy, "-C", home)
        assert "407" in jux(*words, status=2).err
        jux(*words, "--proxy-credential", "basic=gate:env:GATE", env={"GATE": SECRET})
        assert handler.seen[-1][0] == "http://merrow.invalid/quay.yaml"
        assert SECRET.encode() not in _everything(home)


def test_a_catalogue(home: Path, jux: Callable[..., Result]) -> None:
    quay = definition({"/a": {"get": {"responses": answers()}}})
    links = [
        {"href": "/quay.yaml"},
        {"href": "deep/tides.yaml"},
        {"href": "http://10.0.0.1/x.yaml"},
        {"href": "/none.yaml"},
    ]
    linkset = json.dumps(
        {
            "linkset": [
                {"anchor": "x", "service-desc": links},
                {"anchor": "y", "service-doc": [{"href": "/doc"}]},
            ]
        }
    )
    kind = {"Content-Type": 'application/linkset+json; profile="https://www.rfc-editor.org/info/rfc9727"'}
    with web(**{"cat": (200, kind, linkset), "quay.yaml": quay, "deep/tides.yaml": quay}) as (url, handler):
        found = jux("import", url + "/cat", "-C", home, status=1)
        assert "read quay" in found.out and "read tides" in found.out
        assert "other origins are not followed" in found.err and "404" in found.err
        listed = jux("import", url + "/cat", "--list", "-C", home)
        assert re.search(r"2 +\S+/deep/tides.yaml", listed.out)
        by_number = jux("import", url + "/cat", "--entry", "2", "--replace", "-C", home)
        assert "read again tides" in by_number.out and "quay" not in by_number.out
        some = jux("import", url + "/cat", "--entry", "tides", "--replace", "-C", home)
        assert "read again tides" in some.out and "quay" not in some.out
        assert f"targets set NAME {url}/x --contract tides" in some.err
        assert (
            "did you mean tides.yaml"
            in jux("import", url + "/cat", "--entry", "tydes.yaml", "-C", home, status=2).err
        )
        assert (
            "no catalogue" in jux("import", url + "/quay.yaml", "--entry", "quay", "-C", home, status=2).err
        )
        handler.pages["/.well-known/api-catalog"] = (
            200,
            {},
            linkset.replace("deep/tides", "/deep/tides").encode(),
        )
        found = jux("import", url + "/.well-known/api-catalog", "-C", home, "--json", status=1)
        assert [one["contract"] for one in found.json["contracts"]] == ["quay", "tides"]


@pytest.mark.parametrize(
    ("page", "words"),
    [
        (
            (200, {"Content-Type": "text/html"}, "<!DOCTYPE html><html>sign in</html>"),
            "this may be a login page",
        ),
        ((302, {"Location": "http://login.invalid/?back=1"}, ""), "has moved to http://login.invalid/"),
        ((302, {"Location": "/quay.yaml"}, ""), "redirects"),
        ((403, {}, ""), "a login is needed"),
        ((503, {}, "later"), "the response is 503"),
        ((200, {"Content-Encoding": "gzip"}, b"\x1f\x8bnot gzip"), "not gzip"),
        ((200, {"Content-Encoding": "zstd"}, b"x"), "'zstd' was not asked for"),
        ((200, {}, b"\xff\xfe\x00"), "not UTF-8"),
    ],
)
def test_what_comes_in_place_of_a_definition(
    page: Any, words: str, home: Path, jux: Callable[..., Result]
) -> None:
    with web(**{"quay.yaml": page}) as (url, _):
        found = jux("import", url + "/quay.yaml", "-C", home, status=2)
        assert (words in found.err and len(found.err.splitlines()) == 2) or words in found.err.splitlines()[0]
    assert list((home / "definitions").iterdir()) == []


def test_references_keep_to_their_origin_and_to_public_addresses(
    home: Path, jux: Callable[..., Result]
) -> None:
    with web(**{"berth.yaml": _PART}) as (other, handler):
        port = other.rpartition(":")[2]
        for reference, words, more in [
            (other + "/berth.yaml", "other origins", ()),
            ("file:///etc/passwd", "other origins", ()),
            ("//169.254.169.254/latest", "other origins", ()),
            (
                f"http://localhost:{port}/berth.yaml",
                "not public",
                ("--allow-origin", f"http://localhost:{port}"),
            ),
            ("http://10.1.2.3/berth.yaml", "not public", ("--allow-origin", "http://10.1.2.3")),
        ]:
            text = _SPLIT.replace("parts/berth.yaml", reference)
            with web(**{"quay.yaml": text}) as (url, _):
                found = jux("import", url + "/quay.yaml", "--replace", "-C", home, *more, status=1)
                assert words in found.out, (reference, found.out)
        assert handler.seen == []
        with web(
            **{"quay.yaml": _SPLIT.replace("parts/berth.yaml", f"http://localhost:{port}/berth.yaml")}
        ) as (
            url,
            _,
        ):
            jux(
                "import",
                url + "/quay.yaml",
                "--replace",
                "-C",
                home,
                "--allow-origin",
                f"http://localhost:{port}",
                "--allow-private",
            )
    assert list((home / "definitions/quay/elsewhere").iterdir())
    assert "depth" in jux("show", "listBerths", "-C", home).out


@pytest.mark.parametrize(
    ("address", "public"),
    [
        ("8.8.8.8", True),
        ("2001:4860:4860::8888", True),
        ("127.0.0.1", False),
        ("10.0.0.1", False),
        ("169.254.169.254", False),
        ("::1", False),
        ("fe80::1%eth0", False),
        ("::ffff:10.0.0.1", False),
        ("100.64.0.1", False),
        ("224.0.0.1", False),
        ("0.0.0.0", False),
        ("", False),
    ],
)
def test_public_addresses(address: str, public: bool) -> None:
    assert is_public(address) is public


def _zip(*files: tuple[str, bytes], link: str = "") -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files:
            archive.writestr(name, data)
        if link:
            entry = zipfile.ZipInfo(link)
            entry.external_attr = 0o120777 << 16
            archive.writestr(entry, "/etc/passwd")
    return out.getvalue()


def test_archives(tmp_path: Path, home: Path, jux: Callable[..., Result]) -> None:
    files = (
        ("quay/quay.yaml", _SPLIT.encode()),
        ("quay/parts/berth.yaml", _PART.encode()),
        ("quay/read.me", b"x"),
    )
    (tmp_path / "quay.zip").write_bytes(_zip(*files))
    assert "1 operation" in jux("import", "quay.zip", "-C", home).out
    with web(download=_zip(*files)) as (url, _):
        assert (
            "listBerths"
            in jux("import", url + "/download", "-C", home, "--name", "again").out
            + jux("show", "again", "-C", home).out
        )
    two = _zip(("a.yaml", _SPLIT.encode()), ("b.yaml", _SPLIT.encode()), ("parts/berth.yaml", _PART.encode()))
    (tmp_path / "two.zip").write_bytes(two)
    assert "--root: a.yaml, b.yaml" in jux("import", "two.zip", "-C", home, status=2).err
    jux("import", "two.zip", "--root", "b.yaml", "-C", home)
    assert json.loads((home / "definitions/b/origin.json").read_text("utf-8"))["rootOption"] == "b.yaml"
    jux("import", "--refresh", "b", "-C", home)


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (lambda: _zip(("../../etc/x.yaml", b"a: 1")), "leads out of it"),
        (lambda: _zip(("/etc/x.yaml", b"a: 1")), "leads out of it"),
        (lambda: _zip(("c:\\x.yaml", b"a: 1")), "leads out of it"),
        (lambda: _zip(link="quay.yaml"), "symbolic link"),
        (lambda: _zip(("a.yaml", b"a: 1")), "no definition is in this"),
        (lambda: _zip(*((f"{n}.yaml", b"") for n in range(5_001))), "more than 5,000 files"),
        (lambda: _zip(("quay.yaml", b" " * 70_000_000)), "unpacks to more"),
        (lambda: _zip(*((f"{n}.yaml", b" " * 60_000_000) for n in range(5))), "unpacks to more"),
        (lambda: _zip(("a.yaml", b"a: 1"))[:40], "cannot be read"),
    ],
)
def test_hostile_archives(
    data: Callable[[], bytes], words: str, tmp_path: Path, home: Path, jux: Callable[..., Result]
) -> None:
    (tmp_path / "quay.zip").write_bytes(data())
    found = jux("import", "quay.zip", "-C", home, status=2)
    assert words in found.err and len(found.err.splitlines()) <= 2


def test_hostile_definitions(tmp_path: Path, home: Path, jux: Callable[..., Result]) -> None:
    """Each ends in one clear message, within bounds."""
    bombs = {
        "alias": (
            "a: &a [x,x,x,x,x,x,x,x,x,x]\n"
            + "".join(
                f"{chr(98 + n)}: &{chr(98 + n)} [{', '.join(['*' + chr(97 + n)] * 10)}]\n" for n in range(9)
            )
        ),
        "deep": "[" * 100_000,
        "deep-yaml": "openapi: 3.0.3\nx: " + "{a: " * 50_000,
        "large": "openapi: 3.0.3\n# " + "x" * 70_000_000,
        "entity": '<!DOCTYPE a [<!ENTITY a "b">]><a>&a;</a>',
        "chain": definition(
            {"/a": {"get": {"parameters": [{"$ref": "#/components/parameters/P0"}], "responses": answers()}}},
            parameters={f"P{n}": {"$ref": f"#/components/parameters/P{n + 1}"} for n in range(3_000)},
        ),
        "circle": definition({"/a": {"$ref": "#/paths/~1b"}, "/b": {"$ref": "#/paths/~1a"}}),
    }
    for name, text in bombs.items():
        (tmp_path / f"{name}.yaml").write_text(text, "utf-8")
        found = jux("import", f"{name}.yaml", "-C", home, status=1 if name == "chain" else 2)
        assert 1 <= len((found.err + found.out).splitlines()) <= 8, (name, found)
    many = yaml.safe_dump(
        {"openapi": "3.0.3", "paths": {f"/{n}": {"$ref": f"p{n}.yaml"} for n in range(2_100)}}
    )
    folder = tmp_path / "many"
    folder.mkdir()
    (folder / "quay.yaml").write_text(many, "utf-8")
    for n in range(2_100):
        (folder / f"p{n}.yaml").write_text("get: {}", "utf-8")
    assert "more than 2000 documents" in jux("import", "many/quay.yaml", "-C", home, status=2).err


def test_a_source_is_kept_as_it_was_typed_and_another_asks_before_it_takes_a_place(
    home: Path, tmp_path: Path, jux: Callable[..., Result]
) -> None:
    text = definition({"/q": {"get": {"operationId": "q", "responses": {"200": {"description": "x"}}}}})
    with web(**{"quay.yaml": text}) as (url, handler):
        for query in ("?wsdl", "?a=1&flag&b=%2F", "?token=abc&wsdl"):
            handler.pages[f"/quay.yaml{query}"] = (200, {}, text.encode())
        for query in ("?wsdl", "?a=1&flag&b=%2F", "?token=abc&wsdl"):
            jux("import", f"{url}/quay.yaml{query}", "--replace", "-C", home)
            kept = json.loads((home / "definitions" / "quay" / "origin.json").read_text())["source"]
            assert kept == f"{url}/quay.yaml{query}".replace("token=abc", "token=given-again")
        jux("import", f"{url}/quay.yaml?wsdl", "--replace", "-C", home)
        jux("import", f"{url}/quay.yaml?wsdl", "-C", home)  # the same source: read again
        jux("import", "--refresh", "quay", "-C", home)
        (tmp_path / "quay.yaml").write_text(text.replace("operationId: q", "operationId: other"))
        told = jux("import", tmp_path / "quay.yaml", "-C", home, status=2).err
        assert (
            "the contract quay exists already, from http" in told and "--replace" in told and "--name" in told
        )
        assert jux("show", "quay", "--json", "-C", home).json["operations"][0]["id"] == "q"
        jux("import", tmp_path / "quay.yaml", "--replace", "-C", home)
        assert jux("show", "quay", "--json", "-C", home).json["operations"][0]["id"] == "other"


ODD = """
openapi: 3.0.3
info: {title: Quay, version: "1"}
paths:
  /a: {get: {responses: {"200": {description: ok, content: {application/json: {schema: {$ref: "#/components/schemas/A"}}}}}}}
components:
  securitySchemes:
    watch: {type: oauth2, flows: {clientCredentials: {tokenUrl: "http://merrow.example/t"}}}
  schemas:
    A:
      type: object
      properties:
        n: {type: integer, minLength: 3}
        e: {type: string, enum: []}
        r: {nullable: true, $ref: "#/components/schemas/B"}
        s: {nullable: true, allOf: [{$ref: "#/components/schemas/B"}]}
        c: {type: string, const: x}
    B: {type: string, maximum: 5}
    Unused: {$ref: "#/components/schemas/Nowhere"}
    P: {allOf: [{$ref: "#/components/schemas/Q"}]}
    Q: {allOf: [{$ref: "#/components/schemas/P"}]}
  responses:
    R: {description: d, content: {application/json: {schema: {$ref: "#/components/schemas/Gone"}}}}
  x-notes: {$ref: "#/what/is/not/a/reference"}
"""
TOLD = {
    8: "without `scopes`",
    13: "`minLength` is about texts, and the type is integer",
    14: "`enum` is empty",
    15: "`nullable` beside `$ref` has no effect",
    16: "`nullable` beside `allOf` has no effect",
    17: "`const` has no meaning in OpenAPI 3.0",
    18: "`maximum` is about numbers",
    19: "Nowhere, which does not exist",
    20: "defined by itself alone",
    21: "defined by itself alone",
    23: "Gone, which does not exist",
}


def test_what_has_no_effect_and_leads_nowhere_is_told_once(home: Path, jux: Callable[..., Result]) -> None:
    (home / "odd.yaml").write_text(ODD)
    told = jux("import", home / "odd.yaml", "-C", home, status=1)
    lines = {
        int(found[1]): found[2]
        for found in re.finditer(r"odd\.yaml:(\d+):?\S*  (?:fault|warning)  (.*)", told.out + told.err)
    }
    assert lines.keys() == TOLD.keys()
    assert all(text in lines[number] for number, text in TOLD.items()), lines


def test_null_that_an_author_meant_is_no_finding(home: Path) -> None:
    """Beside a reference `nullable` has no effect: the definition is at fault, and not each response."""
    contract = read_contract(ODD)
    schema = contract.schema(contract.operations[0].answers[0].media[0].schema)
    for name in ("r", "s"):
        assert [one.advisory for one in schema.check({name: None})] == [True]
        assert not schema.accepts({name: 1})
    assert not schema.accepts({"n": None})
