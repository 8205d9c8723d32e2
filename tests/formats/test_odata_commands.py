"""OData through the program: the registry and small services of our own, from the root to
a judged recording.
"""

from __future__ import annotations

import json
import re
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

from conftest import Result, read_contract, serving
from juxtalogos.cli.shared.matrix import ITSELF, matrices
from juxtalogos.formats import wire_of
from juxtalogos.formats.odata.definition.model_reader import model_of
from juxtalogos.formats.odata.wire.items import bare
from juxtalogos.ledger import open_ledger
from juxtalogos.model.errors import UsageError
from juxtalogos.model.wire import Inputs
from juxtalogos.workspace.workspace import Workspace
from odata_help import edmx

Jux = Callable[..., Result]
Answer = tuple[int, dict[str, str], bytes]
Serve = Callable[[str, str, Any, bytes], Answer]
METADATA = edmx(
    '<EntityType Name="Rope"><Key><PropertyRef Name="Id"/></Key><Property Name="Id" Type="Edm.Int32"'
    ' Nullable="false"/><Property Name="Kind" Type="Edm.String"/></EntityType>',
    '<EntitySet Name="Ropes" EntityType="N.Rope"/>',
)
HEAD = {"OData-Version": "4.0", "Content-Type": "application/json;odata.metadata=minimal"}


@contextmanager
def service(serve: Serve) -> Iterator[str]:
    """A service that is a function of method, path, headers and body."""

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def answer(self) -> None:
            body = self.rfile.read(int(self.headers.get("Content-Length", "0")))
            status, headers, data = serve(self.command, self.path, self.headers, body)
            self.send_response(status)
            for name, value in headers.items():
                self.send_header(name, value)
            self.send_header("Content-Length", str(len(data)))
            self.end_headers()
            self.wfile.write(data)

        do_GET = do_POST = do_PATCH = do_DELETE = do_PUT = answer

        def log_message(self, format: str, *args: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}/data"
    finally:
        server.shutdown()
        server.server_close()


def root(path: str) -> Answer | None:
    """The service document and the metadata."""
    if path.rstrip("/") == "/data":
        return (
            200,
            HEAD,
            json.dumps(
                {"@odata.context": "$metadata", "value": [{"name": "Ropes", "url": "Ropes"}]}
            ).encode(),
        )
    if path == "/data/$metadata":
        return 200, {"Content-Type": "application/xml"}, METADATA
    return None


def ropes(*rows: dict[str, Any], **more: Any) -> Answer:
    value = {
        "@odata.context": "$metadata#Ropes",
        **{f"@odata.{key}": one for key, one in more.items()},
        "value": list(rows),
    }
    return 200, HEAD, json.dumps(value).encode()


def home_of(jux: Jux, tmp_path: Path, url: str, *access: str) -> Path:
    home = tmp_path / "work"
    jux("init", home)
    jux("import", url, "--name", "yard", *access, "-C", home, env={"YARD": "s3cret"})
    jux("targets", "set", "local", url, "-C", home)
    return home


def test_the_life_of_an_entity_by_hand(jux: Jux, tmp_path: Path) -> None:
    """What an engineer does first: look, read by key, create with its parts, read it back, call, keep and
    hand over.
    """
    with serving() as address:
        url = address.replace("/v1", "/registry/v4")
        home = tmp_path / "work"
        jux("init", home)
        first = jux("import", url, "-C", home)
        assert "Registry, odata OData 4.0, 73 operations" in first.out
        jux("targets", "set", "local", url, "-C", home)
        shown = jux("show", "Vessels.list", "-C", home).out
        assert (
            "query.$filter" in shown
            and "which properties come: VesselId, Name" in shown
            and '"Sound"' in shown
        )
        read = jux("call", "Vessels.read", "--set", "VesselId=103", "--set", "$expand=Owner", "-C", home)
        assert (
            "/Vessels(103)?$expand=Owner" in read.out and '"Aster Lines"' in read.out and "passed" in read.out
        )
        made = jux(
            "call",
            "Inspections.create",
            "--full",
            "--set",
            "body/VesselId=103",
            "--save",
            "byhand#made",
            "-C",
            home,
        )
        assert "201" in made.out and "W/" in made.out
        number = jux("exchanges", "--json", "-C", home).json["exchanges"][-1]["exchange"]
        jux("pin", "body/Minutes", "--exchange", number, "-C", home)
        missing = jux("call", "Vessels.read", "--set", "VesselId=9", "-C", home)
        assert "404" in missing.out and "\ndeviation" not in missing.out
        jux("call", "Owners.create", "--set", "body/Code=ANY", "--set", "body/Name=Any", "-C", home)
        assert (
            "409"
            in jux(
                "call", "Owners.create", "--set", "body/Code=ANY", "--set", "body/Name=Any", "-C", home
            ).out
        )
        detained = jux(
            "call", "Vessels.Detain", "--set", "VesselId=103", "--set", "body/Reason=fouled", "-C", home
        ).out
        assert '"Detained": true' in detained
        assert '"value": 14.62' in jux("call", "Fee", "--set", "Length=4.5", "-C", home).out
        unknown = jux("call", "Vessels.read", "--set", "$expnd=Owner", "-C", home, status=2)
        assert "did you mean query.$expand" in unknown.err
        handed = jux("show", "registry", "--form", "handover", "--target", "local", "-C", home).out
        assert "/Vessels({VesselId})" in handed and "Detain" in handed and url in handed
        kept = jux("run", "byhand", "-C", home)
        assert "passed" in kept.out
        har = tmp_path / "kept.har"
        jux("exchanges", "--har", har, "-C", home)
        judged = jux("audit", har, "--contract", "registry", "--base-url", url, "-C", home, status=None).out
        assert "no findings" in judged and "1 recorded exchanges: 1 passed" in judged


def test_what_planted_deviations_do_to_audits(jux: Jux, tmp_path: Path) -> None:
    """A recording is judged as what was sent: the operation is found by its path, options are looked at."""
    entries = []
    for method, path, status, body in (
        (
            "GET",
            "/data/Ropes?$top=1",
            200,
            {"@odata.context": "$metadata#Ropes", "value": [{"Id": 1}, {"Id": 2}]},
        ),
        ("GET", "/data/Ropes(7)", 200, {"@odata.context": "$metadata#Ropes/$entity", "Id": 8, "Kind": "x"}),
        ("GET", "/data/Hawsers", 404, None),
    ):
        text = json.dumps(body) if body else ""
        fields = [{"name": name, "value": value} for name, value in (HEAD if body else {}).items()]
        entries.append(
            {
                "startedDateTime": "2026-11-01T00:00:00Z",
                "time": 1,
                "cache": {},
                "timings": {"send": 0, "wait": 1, "receive": 0},
                "request": {
                    "method": method,
                    "url": f"http://yard.test{path}",
                    "httpVersion": "HTTP/1.1",
                    "headers": [],
                    "cookies": [],
                    "queryString": [],
                    "headersSize": -1,
                    "bodySize": 0,
                },
                "response": {
                    "status": status,
                    "statusText": "",
                    "httpVersion": "HTTP/1.1",
                    "headers": fields,
                    "cookies": [],
                    "redirectURL": "",
                    "headersSize": -1,
                    "bodySize": len(text),
                    "content": {"size": len(text), "mimeType": HEAD["Content-Type"], "text": text},
                },
            }
        )
    (tmp_path / "yard.edmx").write_bytes(METADATA)
    (tmp_path / "seen.har").write_text(
        json.dumps({"log": {"version": "1.2", "creator": {"name": "x", "version": "1"}, "entries": entries}})
    )
    home = tmp_path / "work"
    jux("init", home)
    jux("import", tmp_path / "yard.edmx", "-C", home)
    out = jux(
        "audit", tmp_path / "seen.har", "--base-url", "http://yard.test/data", "-C", home, status=None
    ).out
    assert "option.dropped" in out and "body.other" in out and "operation.undeclared" in out, out


def test_pages_are_followed_within_the_targets_origins(jux: Jux, tmp_path: Path) -> None:
    """Each page is judged by itself; a link to elsewhere is not followed, nor one that leads back."""
    asked: list[str] = []

    def serve(method: str, path: str, headers: Any, body: bytes) -> Answer:
        asked.append(path)
        if found := root(path):
            return found
        if "page=3" in path:
            return ropes({"Id": 5}, nextLink="http://127.0.0.1:1/data/Ropes?page=4")
        if "page=2" in path:
            return ropes({"Id": "three"}, nextLink="Ropes?page=3")
        return ropes({"Id": 1}, {"Id": 2}, nextLink="Ropes?page=2")

    with service(serve) as url:
        home = home_of(jux, tmp_path, url)
        (home / "suites").mkdir(exist_ok=True)
        jux("call", "Ropes.list", "--save", "pages#all", "-C", home)
        asked.clear()
        out = jux("run", "pages", "-C", home, status=1).out
    assert asked == ["/data/Ropes", "/data/Ropes?page=2", "/data/Ropes?page=3"]
    assert "body.type" in out and "body/value/0/Id" in out


@pytest.mark.parametrize("known", [True, False], ids=["declared by now", "declared nowhere"])
def test_before_a_property_is_told_the_metadata_is_fetched_again(
    known: bool, jux: Jux, tmp_path: Path
) -> None:
    newer = (
        METADATA.replace(b'Name="Kind"', b'Name="Flag" Type="Edm.String"/><Property Name="Kind"')
        if known
        else METADATA
    )
    asked: list[str] = []

    def serve(method: str, path: str, headers: Any, body: bytes) -> Answer:
        asked.append(path)
        if path == "/data/$metadata" and len(asked) > 2:
            return 200, {"Content-Type": "application/xml"}, newer
        return root(path) or ropes({"Id": 1, "Flag": "x"}, {"Id": 2, "Flag": "y"})

    with service(serve) as url:
        home = home_of(jux, tmp_path, url)
        asked.clear()
        asked += ["", ""]
        out = jux("call", "Ropes.list", "-C", home, status=0 if known else 1, env={"COLUMNS": "300"}).out
    assert asked[2:] == ["/data/Ropes", "/data/$metadata"]
    assert ("read it again with import --refresh" in out) is known
    assert ("fetched again, and does not declare it" in out) is not known


def test_tokens_against_forgery_are_fetched_where_the_target_asks_for_them(jux: Jux, tmp_path: Path) -> None:
    """One first GET, its session kept; a token that is refused is fetched anew; it is never shown."""
    valid, fetched, made = ["t0ken-one"], [], []

    def serve(method: str, path: str, headers: Any, body: bytes) -> Answer:
        if headers.get("Authorization") != "Basic ZGVzazpzM2NyZXQ=":
            return 401, {"WWW-Authenticate": "Basic"}, b""
        if headers.get("X-Yard-Token") == "Fetch":
            fetched.append(path)
            status, fields, data = root("/data") or (404, {}, b"")
            return (
                status,
                {**fields, "X-Yard-Token": valid[0], "Set-Cookie": f"session={valid[0]}; Path=/"},
                data,
            )
        if method == "POST":
            if headers.get("X-Yard-Token") != valid[0] or f"session={valid[0]}" not in (
                headers.get("Cookie") or ""
            ):
                return 403, {"X-Yard-Token": "Required"}, b""
            made.append(path)
            entity = {"@odata.context": "$metadata#Ropes/$entity", "Id": 1, "Kind": None}
            if len(made) == 1:
                valid[0] = "t0ken-two"
            return 201, {**HEAD, "Location": "Ropes(1)"}, json.dumps(entity).encode()
        return root(path) or ropes({"Id": 1})

    with service(serve) as url:
        home = home_of(jux, tmp_path, url, "--credential", "basic=desk:env:YARD")
        config = home / "juxtalogos.toml"
        table = (
            '\n[targets.local.credentials.login]\nuser = "desk"\nenv ='
            ' "YARD"\n[targets.local.credentials.forgeryToken]\nheader = "X-Yard-Token"\n'
        )
        config.write_text(config.read_text() + table)
        jux("call", "Ropes.create", "--save", "made#once", "-C", home, env={"YARD": "s3cret"})
        jux("call", "Ropes.create", "--save", "made#again", "-C", home, env={"YARD": "s3cret"})
        fetched.clear()
        made.clear()
        valid[0] = "t0ken-one"
        out = jux("run", "made", "--jobs", "1", "-C", home, env={"YARD": "s3cret"}).out
        shown = (
            jux("exchanges", "--full", "-C", home, status=None).out + jux("exchanges", "1", "-C", home).out
        )
    assert "2 passed" in out and len(made) == 2
    assert fetched == ["/data/", "/data/"]  # once, and once more when it was refused
    ledger = (home / ".juxtalogos" / "ledger.sqlite").read_bytes()
    assert b"t0ken-" not in ledger and b"s3cret" not in ledger and "t0ken-" not in shown
    with open_ledger(home / ".juxtalogos" / "ledger.sqlite") as found:
        assert found.run()


def test_a_service_that_wants_a_login_says_so(jux: Jux, tmp_path: Path) -> None:
    def serve(method: str, path: str, headers: Any, body: bytes) -> Answer:
        if "Authorization" not in headers:
            return (
                (200, {"Content-Type": "text/html"}, b"<!DOCTYPE html><html>sign in</html>")
                if "page" in path
                else (401, {}, b"")
            )
        return root(path) or ropes({"Id": 1})

    with service(serve) as url:
        home = tmp_path / "work"
        jux("init", home)
        assert "a login is needed" in jux("import", url, "-C", home, status=2).err
        page = jux("import", f"{url}/$metadata?page=1", "-C", home, status=2).err
        assert "this is HTML" in page and "login page" in page
        jux("import", url, "--credential", "basic=desk:env:YARD", "-C", home, env={"YARD": "s3cret"})


def test_a_service_is_shown_as_a_matrix_of_sets_and_what_they_allow(jux: Jux, tmp_path: Path) -> None:
    """Every operation stands in it once, or in the table below, at every width, read fresh and from the
    cache.
    """
    with serving() as url:
        root = url.replace("/v1", "/registry/v4")
        jux("init")
        jux("import", f"{root}/$metadata", "--name", "registry")
        wide, again = (jux("show", "registry", env={"COLUMNS": "120"}).out for _ in range(2))
        full = jux("show", "registry", "--full", env={"COLUMNS": "200"}).out
    assert wide == again and len(wide.splitlines()) < 40
    assert "Inspections.Deficiencies  " in wide and "Vessels.Detain" in wide
    contract = Workspace(tmp_path).contract("registry")
    names = {one.id for one in contract.operations}
    assert all(re.search(rf"^{re.escape(name)} ", full, re.MULTILINE) for name in names)
    for width in (30, 60, 100, 160):
        found, rest = matrices(contract.operations, width)
        shown = [
            subject if word == ITSELF else f"{subject}.{word}"
            for matrix in found
            for subject, words in matrix.rows
            for word in words
        ]
        assert sorted([*shown, *(one.id for one in rest)]) == sorted(names)
        for matrix in found:
            first = max(len(subject) for subject, _ in matrix.rows)
            assert first + sum(len(word) + 2 for word in matrix.words) <= max(width, first)


def test_two_media_types_are_compared_by_what_entities_hold(jux: Jux) -> None:
    with serving() as url:
        root = url.replace("/v1", "/registry/v2")
        jux("init")
        jux("import", f"{root}/$metadata", "--name", "registry")
        jux("targets", "set", "local", root)
        for words in (("Vessels.list",), ("Vessels.read", "--set", "path.VesselId=101")):
            found = jux("call", *words, "--each-media", "--json").json["calls"]
            assert [one["asked"] for one in found] == ["application/json", "application/atom+xml"]
            assert not any(one["differences"] for one in found)


@pytest.mark.parametrize(
    ("one", "other", "same"),
    [
        ({"d": {"results": [{"Id": 1}]}}, {"results": [{"Id": 1}]}, True),
        ({"d": {"__metadata": {}, "Id": 1, "Kind": "a"}}, {"Id": 1, "Kind": "a"}, True),
        ({"@odata.context": "x", "value": [{"Id": 1}]}, [{"Id": 1}], True),
        ({"Id": 1, "Kind@odata.type": "x", "Kind": "a"}, {"Id": 1, "Kind": "a"}, True),
        ({"Id": 1, "Kind": {"__deferred": {"uri": "x"}}}, {"Id": 1}, True),
        ({"Id": 1, "Kind": "a"}, {"Id": 1, "Kind": "b"}, False),
        ({"Id": 1, "value": 2}, {"Id": 1, "value": 3}, False),
        ([{"Id": 1}, {"Id": 2}], [{"Id": 2}, {"Id": 1}], False),
    ],
)
def test_what_a_media_type_adds(one: Any, other: Any, same: bool) -> None:
    contract = read_contract(METADATA.decode(), "ropes")
    model = model_of(contract.documents)
    assert (bare(model, "N.Rope", one) == bare(model, "N.Rope", other)) is same


def test_an_input_that_an_operation_does_not_have(jux: Jux) -> None:
    """Refused by name before anything is sent; sent on purpose all the same."""
    contract = read_contract(METADATA.decode(), "ropes")
    operation = contract.operation("Ropes.list")
    inputs = Inputs({"query.$flter": "Id eq 1"})
    with pytest.raises(UsageError, match=r"no input query\.\$flter"):
        wire_of(contract).encode(operation, inputs, "http://quay.example")
    with_header = Inputs({"header.X-Desk": "a"})
    assert ("X-Desk", "a") in wire_of(contract).encode(operation, with_header, "http://quay.example").headers
