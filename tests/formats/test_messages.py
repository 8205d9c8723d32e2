"""Calls that no definition declares, kept as messages; requests of all formats read back into the inputs they
were made with.
"""

from __future__ import annotations

from collections.abc import Callable
from importlib import resources
from pathlib import Path

import pytest
import yaml

from conftest import KEY_ENV, Result, serving
from juxtalogos.compose.requests import sample_inputs
from juxtalogos.formats import wire_of
from juxtalogos.formats.messages.message import guessed_template, path_template, without_secrets
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.exchange import Request
from juxtalogos.workspace.importing import read_source
from juxtalogos.workspace.remote import Access

Jux = Callable[..., Result]


@pytest.fixture
def workspace(jux: Jux, tmp_path: Path) -> Path:
    jux("init", tmp_path / "desk")
    return tmp_path / "desk"


TEMPLATES = (
    ("/berths", "/berths"),
    ("/v1/berths/B-12", "/v1/berths/{berth}"),
    ("/api/v2.1/quays/7/lines/12", "/api/v2.1/quays/{quay}/lines/{line}"),
    ("/2/jobs/7/8", "/2/jobs/{job}/{job2}"),
    ("/vessels/tern/tide%20gate", "/vessels/tern/{tern}"),
    ("/.well-known/x", "/{part}/x"),
    ("/", "/"),
)


@pytest.mark.parametrize(("path", "expected"), TEMPLATES)
def test_what_of_a_path_varies(path: str, expected: str) -> None:
    assert guessed_template(path) == expected


def test_the_folder_says_what_varies() -> None:
    assert path_template("vessels/{vessel}/GET.http", "/vessels/tern") == "/vessels/{vessel}"
    assert path_template("berths/b12/GET.http", "/berths/b12") == "/berths/b12"
    assert path_template("recorded/7.http", "/berths/b12") == "/berths/{berth}"


SECRETS = (
    (
        b"GET /a?x=1&api_key=tern4711 HTTP/1.1\nHost: h\n\n",
        b"GET /a?x=1&api_key= HTTP/1.1\r\nHost: h\n\n",
        [1],
    ),
    (
        b"GET / HTTP/1.1\r\nAuthorization: Bearer tern4711\r\n\r\n",
        b"GET / HTTP/1.1\r\nAuthorization: Bearer\r\n\r\n",
        [2],
    ),
    (
        b"GET / HTTP/1.1\r\nAuthorization: ternandgull\r\nA: b\r\n\r\nx",
        b"GET / HTTP/1.1\r\nAuthorization:\r\nA: b\r\n\r\nx",
        [2],
    ),
    (
        b"GET / HTTP/1.1\r\nX-Api-Key: tern4711\r\nCookie: s=tern4711\r\n\r\n",
        b"GET / HTTP/1.1\r\nX-Api-Key:\r\n\r\n",
        [2, 3],
    ),
    (b"GET / HTTP/1.1\r\nHost: h\r\n\r\nAuthorization: in the body", None, []),
)


@pytest.mark.parametrize(("data", "expected", "lines"), SECRETS)
def test_messages_are_kept_without_credentials(data: bytes, expected: bytes | None, lines: list[int]) -> None:
    assert without_secrets(data) == (expected or data, lines)
    assert without_secrets(expected or data) == (expected or data, [])


def test_a_call_without_a_definition_is_kept_checked_and_run(
    workspace: Path, jux: Jux, tmp_path: Path
) -> None:
    def go(*words: object, status: int | None = 0, **env: str) -> Result:
        return jux(*words, "-C", workspace, env={**KEY_ENV, **env}, status=status)

    key = ("--header", "X-Harbour-Key: env:MERROW_KEY")
    with serving() as url:
        go("call", "--url", f"{url}/berths?limit=2", *key, "--save", "desk#look")
        go("call", "--url", f"{url}/berths/B2", *key, "--save", "desk#look")
        go("call", "--url", f"{url}/berths/{{berth}}", "--set", "berth=B4", *key, "--save", "desk#look")
        (tmp_path / "b.json").write_text('{"name": "Tern", "lengthMetres": 80}')
        made = (
            "--method",
            "POST",
            "--header",
            "Content-Type: application/json",
            "--body-file",
            tmp_path / "b.json",
        )
        go("call", "--url", f"{url}/vessels", *made, *key, "--save", "desk#register", status=None)

        files = sorted(
            path.relative_to(workspace / "definitions").as_posix()
            for path in (workspace / "definitions").rglob("*.http")
        )
        assert files == [
            "calls/v1/berths/GET.http",
            "calls/v1/berths/{berth}/GET.http",
            "calls/v1/vessels/POST.http",
        ]
        written = [path for path in workspace.rglob("*") if path.is_file()]
        assert not any(KEY_ENV["MERROW_KEY"].encode() in path.read_bytes() for path in written)
        assert "calls = " in (workspace / "juxtalogos.toml").read_text()
        suite = yaml.safe_load((workspace / "suites" / "desk.arazzo.yaml").read_text())
        assert suite["workflows"][1]["steps"][0]["requestBody"]["payload"] == {
            "name": "Tern",
            "lengthMetres": 80,
        }

        # What is missing to sign in is told, then given; the same from the cache and without one.
        assert "targets set calls --credential x-harbour-key=env:NAME" in go("call", "GET /v1/berths").err
        go("targets", "set", "calls", "--credential", "x-harbour-key=env:MERROW_KEY")
        shown = [
            go("show", "GET /v1/berths/{berth}", "--json", XDG_CACHE_HOME=str(tmp_path / "cache")).json
            for _ in range(2)
        ]
        assert shown[0] == shown[1] and "path.berth" in str(shown[0])

        # Nothing is proven until it is checked; then what changes is seen.
        assert "unproven" in go("call", "GET /v1/berths/{berth}", "--set", "berth=B2").out
        go("pin", "body/berthId", "--exchange", "@3")
        assert "1 passed" in go("run", "desk#look").out
        go("suite", "set", "desk#look#GET-v1-berths-berth-2", "path.berth=B2")
        assert "body/berthId" in go("run", "desk#look", status=1).out

        # What no message has is refused before it is sent, with the nearest; `--unchecked` takes it.
        told = go("call", "POST /v1/vessels", "--set", "body/nmae=Heron", status=2).err
        assert "body/name" in told
        go("call", "POST /v1/vessels", "--set", "body/nmae=Heron", "--unchecked", status=None)
        assert (
            "not below it"
            in go(
                "call",
                "--url",
                "http://127.0.0.1:9/x",
                "--save",
                "desk#other",
                "--contract",
                "calls",
                "--target",
                "calls",
                status=2,
            ).err
        )
        told = go("call", "--url", f"{url}/berths?token=tern4711", "--save", "desk#look", status=2).err
        assert "carries a credential" in told and "tern4711" not in told

        shown = go("show", "POST /v1/vessels").out
        assert 'such as "Tern"' in shown and "x-harbour-key" in shown
        go("compose", "calls")
        go("run", "calls", status=None)
        assert go("suite", "check").status == 0
        assert "nothing changed" in go("import", "--refresh").out


def test_a_folder_of_messages(workspace: Path, jux: Jux, tmp_path: Path) -> None:
    folder = tmp_path / "recorded"
    folder.mkdir()
    (folder / "1.http").write_bytes(
        b"GET /berths/B1?state=free&state=held HTTP/1.1\r\nHost: h\r\nAuthorization: Bearer tern4711\r\n\r\n"
    )
    (folder / "2.http").write_bytes(b"GET /berths/B2 HTTP/1.1\nHost: h\n\n")
    (folder / "3.http").write_bytes(b"POST /tides HTTP/1.1\nHost: h\nthis is no field\n\n")
    (folder / "4.http").write_bytes(
        b"POST /plans HTTP/1.1\nContent-Type: application/x-www-form-urlencoded\n\na=1&b=2&b=3"
    )
    (folder / "5.http").write_bytes(b"PUT /plans/7 HTTP/1.1\nContent-Type: image/png\n\n\x89PNG\xff\x00")
    told = jux("import", folder, "--name", "desk", "-C", workspace, status=1)
    assert "3.http:3" in told.out and "a credential stood here" in told.out and "1.http:3" in told.out
    listed = jux("show", "desk", "--json", "-C", workspace).json
    assert [one["id"] for one in listed["operations"]] == [
        "GET /berths/{berth}",
        "POST /plans",
        "PUT /plans/{plan}",
    ]
    kept = workspace / "definitions" / "desk"
    assert b"tern4711" not in (kept / "1.http").read_bytes()
    one = jux("show", "GET /berths/{berth}", "-C", workspace).out
    assert "query.state" in one and "path.berth" in one
    jux("targets", "set", "quay", "http://127.0.0.1:9", "-C", workspace)
    sent = jux("skeleton", "POST /plans", "--set", "body/a=7", "-C", workspace).out
    assert sent.endswith("a=7&b=2&b=3") and "application/x-www-form-urlencoded" in sent
    sent = jux(
        "skeleton", "GET /berths/{berth}", "--set", "query.state=free", "--set", "berth=B 9", "-C", workspace
    ).out
    assert sent.startswith("GET /berths/B%209?state=free HTTP/1.1")
    # What a person adds or breaks in the folder itself: read again, nothing lost.
    (kept / "tides").mkdir()
    (kept / "tides" / "GET.http").write_bytes(b"GET /tides HTTP/1.1\nHost: h\n\n")
    (kept / "6.http").write_bytes(b"GET /x HTTP/1.1\nbroken\n\n")
    origin = (kept / "origin.json").read_text()
    (kept / "origin.json").write_text(
        origin.replace(str(folder), "definitions/desk").replace("../recorded", "definitions/desk")
    )
    again = jux("import", "--refresh", "desk", "-C", workspace, status=1).out
    assert "GET /tides" in again and (kept / "6.http").exists()


SOURCES = ("berths.yaml", "pilotage.wsdl", "registry.edmx", "registry-v2.edmx")


@pytest.mark.parametrize("name", SOURCES)
def test_a_request_is_read_back_into_its_inputs(name: str) -> None:
    """What was read back makes the same request: the same address, fields and body."""
    (found,) = read_source(str(resources.files("juxtalogos.demo").joinpath(name)), Access())
    contract = found.contract
    assert contract is not None
    wire, base, compared = wire_of(contract), "http://quay.test/v1", 0
    for operation in contract.operations:
        for full in (False, True):
            try:
                sent = wire.encode(operation, sample_inputs(contract, operation, full=full), base)
            except Unsampleable:
                continue
            recorded = Request(
                sent.method, sent.url, (*sent.headers, ("Authorization", "Bearer tern4711")), sent.body
            )
            again = wire.encode(operation, wire.inputs_of(operation, recorded, base), base)
            assert (again.method, again.url, again.body) == (sent.method, sent.url, sent.body), operation.id
            assert dict(again.headers) == dict(sent.headers), operation.id
            compared += 1
    assert compared >= len(contract.operations)
