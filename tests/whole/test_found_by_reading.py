"""Faults that were found by reading the code: each failed once."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
import yaml
from lxml import etree

from conftest import Result, answers, definition, read_contract
from juxtalogos.exchange.signing import Credential
from juxtalogos.formats import wire_of
from juxtalogos.formats.soap.wire.sign_in import with_text
from juxtalogos.model.exchange import Request
from juxtalogos.model.outcome import Outcome
from juxtalogos.workspace.changes import changes
from scripted import Bench, case, step

Jux = Callable[..., Result]
TABLE = {"inputs": {"type": "object", "properties": {"line": {"type": "integer"}}}}


@pytest.fixture
def bench(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Bench:
    return Bench(tmp_path / "work", monkeypatch)


def test_copying_into_another_workspace_takes_what_the_case_names_and_nothing_else(
    bench: Bench, jux: Jux, tmp_path: Path
) -> None:
    home, other = bench.home.root, tmp_path / "other"
    (home / "tables").mkdir()
    for name in ("lines.csv", "told.csv"):
        (home / "tables" / name).write_text("line\n1\n")
    (home / "suites" / "beside.csv").write_text("line\n2\n")
    outside = tmp_path / "outside.csv"
    outside.write_text("line\n3\n")
    bench.suite(
        case(
            "a",
            step("read", "readLine", line="$inputs.line"),
            description="see file: told.csv, kept: nothing",
            **TABLE,
            **{"x-juxtalogos-table": {"file": "lines.csv"}},
        ),
        case(
            "b",
            step("read", "readLine", line="$inputs.line"),
            **TABLE,
            **{"x-juxtalogos-table": {"file": "beside.csv"}},
        ),
        case(
            "c",
            step("read", "readLine", line="$inputs.line"),
            **TABLE,
            **{"x-juxtalogos-table": {"file": "../../outside.csv"}},
        ),
    )
    source = home / "suites" / "work.arazzo.yaml"
    source.write_text(source.read_text("utf-8") + "\n# a remark at the end\n", "utf-8")
    before = source.read_bytes(), source.stat().st_mtime_ns
    jux("init", other)
    jux("suite", "copy", "work#a", "mine#a", "--into", other, "-C", home)
    assert (other / "tables" / "lines.csv").exists() and not (other / "tables" / "told.csv").exists()
    jux("suite", "copy", "work#b", "mine#b", "--into", other, "-C", home)
    assert (other / "tables" / "beside.csv").exists()
    told = jux("suite", "copy", "work#c", "mine#c", "--into", other, "-C", home, status=2)
    assert "outside the workspace" in told.err and not list(tmp_path.glob("other*.csv"))
    assert {path.name for path in other.rglob("*.csv")} == {"lines.csv", "beside.csv"}
    assert (source.read_bytes(), source.stat().st_mtime_ns) == before, "what is copied is not rewritten"
    jux("suite", "copy", "work", "again", "-C", home)
    jux("suite", "copy", "work#a", "work#d", "-C", home)
    assert b"# a remark at the end" in source.read_bytes()


@contextmanager
def listing() -> Iterator[tuple[str, list[str]]]:
    """A catalogue that lists itself, another that lists it, and a definition."""
    asked: list[str] = []
    text = definition({"/q": {"get": {"operationId": "q", "responses": answers()}}})

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            asked.append(self.path)
            base = f"http://127.0.0.1:{self.server.server_address[1]}"  # type: ignore[misc]
            hrefs = {"/list": ("/list", "/more", "/quay.yaml"), "/more": ("/list", "/deep/0")}.get(self.path)
            if self.path.startswith("/deep/"):
                hrefs = (f"/deep/{int(self.path.rpartition('/')[2]) + 1}",)
            if hrefs:
                linkset = {
                    "linkset": [
                        {"anchor": f"{base}/", "service-desc": [{"href": base + href} for href in hrefs]}
                    ]
                }
                body, kind = json.dumps(linkset).encode(), "application/linkset+json"
            else:
                body, kind = text.encode(), "application/yaml"
            self.send_response(200)
            self.send_header("Content-Type", kind)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}/list", asked
    server.shutdown()
    server.server_close()


def test_a_catalogue_that_lists_itself_ends(jux: Jux, tmp_path: Path) -> None:
    jux("init", tmp_path / "w")
    with listing() as (url, asked):
        told = jux("import", url, "--allow-private", "-C", tmp_path / "w", status=None)
    assert "leads back to itself, or too deep" in told.out + told.err and len(asked) < 20
    assert "quay" in jux("show", "-C", tmp_path / "w").out, "what else it lists is imported"


PAYLOAD = '<p:Note xmlns:p="urn:q"><p:Header>ballast</p:Header><p:Body/></p:Note>'


@pytest.mark.parametrize(
    "text",
    [
        f'<e:Envelope xmlns:e="E"><e:Body>{PAYLOAD}</e:Body></e:Envelope>',
        (
            '<?xml version="1.0"?>\n<!-- <e:Header/> --><Envelope xmlns="E" a="x > y">\n<!-- <Header>'
            f" --><Body>{PAYLOAD}</Body></Envelope>"
        ),
        f'<e:Envelope xmlns:e="E"><e:Header/><e:Body>{PAYLOAD}</e:Body></e:Envelope>',
        f'<e:Envelope xmlns:e="E"><e:Header a="1"><x>1</x></e:Header><e:Body>{PAYLOAD}</e:Body></e:Envelope>',
    ],
)
def test_the_token_stands_in_the_envelopes_own_header(text: str) -> None:
    from juxtalogos.model.contract import SecurityScheme
    from juxtalogos.model.location import Location

    scheme = SecurityScheme("token", "wss-text", "", "", Location("w"))
    signed = with_text(
        Request("POST", "http://h", (), text.encode()), scheme, Credential("s<cret", "desk"), {}
    )
    root = [one for one in etree.fromstring(signed.body) if isinstance(one.tag, str)]
    assert root[0].tag == "{E}Header" and root[1].tag == "{E}Body" and len(root) == 2
    assert root[0].find("{*}Security") is not None and root[1].find(".//{*}Security") is None
    assert etree.tostring(root[1]).decode().count("ballast") == 1
    plain = with_text(
        Request("POST", "http://h", (), PAYLOAD.encode()), scheme, Credential("s<cret", "desk"), {}
    )
    assert plain.body == PAYLOAD.encode()


def test_faults_come_in_one_order_whatever_the_hash_seed(jux: Jux, tmp_path: Path) -> None:
    security = [{f"key{number}": [], f"gate{number}": []} for number in range(6)]
    (tmp_path / "q.yaml").write_text(
        definition({"/q": {"get": {"security": security, "responses": answers()}}}), "utf-8"
    )
    told = set()
    for seed in ("1", "2", "3"):
        jux("init", tmp_path / seed)
        found = jux(
            "import",
            tmp_path / "q.yaml",
            "-C",
            tmp_path / seed,
            status=None,
            env={"PYTHONHASHSEED": seed, "XDG_CACHE_HOME": str(tmp_path / seed)},
        )
        told.add((found.out + found.err).replace(str(tmp_path / seed), "W"))
    assert len(told) == 1


@pytest.mark.parametrize(
    ("statuses", "condition"),
    [
        (("404", "303"), "$statusCode == 303"),
        (("303", "404"), "$statusCode == 303"),
        (("303", "200"), "$statusCode >= 200 && $statusCode < 300"),
        (("303", "default"), "$statusCode >= 200 && $statusCode < 300"),
        (("404",), "$statusCode >= 200 && $statusCode < 300"),
    ],
)
def test_the_criterion_of_a_declared_redirect(statuses: tuple[str, ...], condition: str) -> None:
    found = {status: {"description": "x"} for status in statuses}
    contract = read_contract(definition({"/q": {"get": {"responses": found}}}))
    assert wire_of(contract).condition(contract.operations[0], Outcome.SUCCEEDED) == condition


def _of(schema: Any) -> Any:
    return read_contract(
        definition({"/q": {"get": {"operationId": "q", "responses": answers(schema)}}}, version="3.1.0")
    )


BASE = {
    "oneOf": [
        {"type": "object", "properties": {"a": {"type": "string"}}},
        {"type": "object", "properties": {"a": {"type": "integer"}}},
    ]
}


@pytest.mark.parametrize(
    "change",
    [
        lambda schema: schema["oneOf"].append({"type": "array"}),
        lambda schema: schema["oneOf"].append({"type": "object", "properties": {"a": {"type": "string"}}}),
        lambda schema: schema["oneOf"].pop(),
        lambda schema: schema["oneOf"][0]["properties"].update(b={"type": "string"}),
        lambda schema: schema["oneOf"][0]["properties"].update(a={"type": "integer"}),
        lambda schema: schema["oneOf"][1]["properties"].update(
            a={"oneOf": [{"type": "integer"}, {"type": "null"}]}
        ),
    ],
)
def test_a_changed_alternative_is_a_change(change: Callable[[Any], Any]) -> None:
    new = yaml.safe_load(yaml.safe_dump(BASE))
    change(new)
    assert list(changes(_of(BASE), _of(new))) and not list(changes(_of(BASE), _of(BASE)))
