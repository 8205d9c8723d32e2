"""The seams: a fourth format, a reporter and a sign-in as plug-ins of another package, through every command;
flows of sign-in; loose requests.
"""

from __future__ import annotations

import asyncio
import json
import os
import re
import shutil
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
import yaml

from conftest import KEY_ENV, TESTS, Result, answers, definition, read_contract, serving, trusting
from juxtalogos.exchange.redact import MASK
from juxtalogos.exchange.sign_in import Signer
from juxtalogos.exchange.signing import Credential
from juxtalogos.formats import FORMATS, wire_of
from juxtalogos.model.errors import NoAnswer
from juxtalogos.model.exchange import Exchange, Request, header
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from scripted import Reply, Scripted, reply

Jux = Callable[..., Result]
PLUGIN = TESTS / "plugin"
SECRET = "bowline-and-hitch"

ROPE = {
    "type": "object",
    "required": ["ropeId", "metres"],
    "properties": {"ropeId": {"type": "integer"}, "metres": {"type": "integer", "maximum": 400}},
}
YARD = {
    "ropeyard": "Ropes of Merrow",
    "does": {
        "makeRope": {
            "intent": "create",
            "on": "ropes",
            "takes": {
                "type": "object",
                "required": ["metres"],
                "properties": {"metres": {"type": "integer", "minimum": 1, "maximum": 9}},
            },
            "gives": ROPE,
        },
        "readRope": {
            "intent": "read",
            "on": "ropes",
            "of": ["ropeId"],
            "item": {"type": "integer"},
            "gives": ROPE,
            "faults": ["NoSuchRope"],
            "refusal": {"type": "object", "required": ["refused"]},
        },
        "dropRope": {
            "intent": "delete",
            "on": "ropes",
            "of": ["ropeId"],
            "item": {"type": "integer"},
            "gives": {"type": "boolean"},
            "faults": ["NoSuchRope"],
            "refusal": {"type": "object", "required": ["refused"]},
        },
        "listRopes": {"intent": "list", "on": "ropes", "gives": {"type": "array", "items": ROPE}},
        "all": {
            "takes": {
                "type": "object",
                "required": ["calls"],
                "properties": {
                    "calls": {
                        "type": "array",
                        "minItems": 1,
                        "items": {
                            "type": "object",
                            "required": ["do"],
                            "properties": {"do": {"const": "listRopes"}},
                        },
                    }
                },
            },
            "gives": {"type": "object"},
        },
        "broken": "a text",
    },
}


@contextmanager
def yard(*odd: str) -> Iterator[str]:
    """A service of the rope yard."""
    ropes: dict[int, int] = {}
    counter = iter(range(7, 10_000))

    def do(message: dict[str, Any]) -> Any:
        number = message.get("args", {}).get("ropeId")
        match message["do"]:
            case "knock":
                return {"word": "tide-"}
            case "makeRope":
                number = next(counter)
                ropes[number] = message["with"]["metres"]
                return {"ropeId": number, "metres": 999 if "long" in odd else ropes[number]}
            case "listRopes":
                return [{"ropeId": one, "metres": metres} for one, metres in ropes.items()]
            case "all":
                return {"answers": [do(one) for one in message["with"]["calls"]]}
        if number not in ropes:
            return {"refused": "NoSuchRope"}
        if message["do"] == "dropRope":
            return {"refused": "Knotted"} if "knot" in odd else ropes.pop(number) > 0
        return {"ropeId": number, "metres": ropes[number]}

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            message = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
            allowed = message["do"] == "knock" or self.headers.get("X-Knock") == f"tide-{SECRET[::-1]}"
            body = json.dumps(do(message) if allowed else {"refused": "Stranger"}).encode()
            self.send_response(200 if allowed else 401)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}/ropes"
        assert not ropes or "knot" in odd, "every rope was dropped again"
    finally:
        server.shutdown()
        server.server_close()


@pytest.fixture
def plugged(tmp_path: Path, jux: Jux) -> Callable[..., Result]:
    """The program with the plug-ins installed, in a workspace of the rope yard."""
    environment = {"PYTHONPATH": str(PLUGIN), "ROPE_SECRET": SECRET}
    home = tmp_path / "w"

    def run(*words: object, status: int | None = 0) -> Result:
        return jux(*words, "-C", home, status=status, env=environment)

    jux("init", home)
    (tmp_path / "yard.rope").write_text(yaml.safe_dump(YARD, sort_keys=False), "utf-8")
    told = run("import", tmp_path / "yard.rope", status=1)
    assert "broken is no mapping" in told.out + told.err
    return run


def test_a_fourth_format_goes_through_every_command(plugged: Callable[..., Result], tmp_path: Path) -> None:
    home = tmp_path / "w"
    with yard("long") as url:
        plugged("targets", "set", "yard", url)
        with (home / "juxtalogos.toml").open("a", encoding="utf-8") as out:
            out.write('[targets.yard.credentials.word]\nenv = "ROPE_SECRET"\n')
        trusting(home)
        for _ in range(2):  # fresh, and from the cache
            listed = plugged("show", "yard").out
            assert re.search(r"operation +intent +sign-in +summary", listed) and re.search(
                r"makeRope +create +word", listed
            )
        assert (
            "at most 9" in plugged("show", "makeRope").out and "NoSuchRope" in plugged("show", "readRope").out
        )
        assert "fetched first, as header X-Knock" in plugged("show", "yard", "--form", "handover").out
        assert json.loads(plugged("skeleton", "makeRope", "--form", "body").out) == {
            "do": "makeRope",
            "args": {},
            "with": {"metres": 1},
        }
        assert (
            "long-standing"
            not in plugged("call", "makeRope", "--set", "body/metres=3", "--save", "kept#make", status=1).out
        )
        found = plugged("call", "readRope", "--set", "query.ropeId=7", "--json").json
        assert found["verdict"] == "passed" and found["response"]["status"] == 200
        plugged("call", "readRope", "--set", "query.other=7", status=2)
        plugged("call", "dropRope", "--set", "ropeId=@1#/ropeId")
        assert (
            "4 dependencies" in plugged("compose", "yard").out
            or "2 dependencies" in plugged("compose", "yard").out
        )
        done = plugged("run", "yard", "--json", status=1).json
        verdicts = {one["case"]: one["verdict"] for one in done["cases"]}
        assert verdicts["makeRope"] == "failed" and {  # and not those that only begin with it
            verdicts[one] for one in ("readRope", "dropRope", "all", "listRopes")
        } == {"passed"}
        assert {(one["operation"], one["kind"], one["at"]) for one in done["findings"]} == {
            ("makeRope", "body.range", "body/metres")
        }
        steps = plugged("exchanges", "--json").json["exchanges"]
        assert {one["operation"] for one in steps if re.fullmatch(r"all/\d", one["step"])} == {"listRopes"}, (
            "parts are exchanges of their own operations"
        )
        told = plugged("coverage").out
        assert re.search(r"operations +5 +5 ", told) and re.search(r"status codes +7 +\d ", told)
        plugged("report")
        assert plugged("report", "--form", "tally", "-o", "-").out.count("\n") == len(verdicts)
        assert "readRope" in plugged("report", "--form", "junit", "-o", "-").out
        plugged("suite", "check")
        assert "rope.knot" in plugged("exchanges", "--finding", "rope.not", status=2).err
        explored = plugged("explore", "yard", "--json", status=1).json
        reached = explored["explored"]["yard"]
        assert {"makeRope", "readRope", "dropRope", "listRopes"} <= {*reached["reached"]} and not explored[
            "leftBehind"
        ]
        rules = {(one["place"], one["rule"]): one["sent"] for one in reached["broken"]}
        assert rules["body", "word"] == 2 and not any(place == "method" for place, _ in rules), rules
        assert not [one for one in explored["cases"] if "fault of juxtalogos" in one["reason"]]
        assert SECRET[::-1].encode() not in (home / ".juxtalogos" / "ledger.sqlite").read_bytes()
        assert SECRET[::-1] not in "".join(path.read_text("utf-8") for path in (home / "reports").iterdir())
    with yard("knot") as url:
        plugged("targets", "set", "yard", url)
        done = plugged("run", "yard#dropRope", "--processes", 2, "--json", status=1).json
        assert {(one["operation"], one["kind"]) for one in done["findings"]} == {("dropRope", "rope.knot")}


def test_without_the_plug_in_its_contract_is_told_and_all_else_goes_on(
    plugged: Callable[..., Result], jux: Jux, tmp_path: Path
) -> None:
    shutil.copytree(tmp_path / "w", tmp_path / "bare")
    jux("show", "-C", tmp_path / "bare", status=2)
    broken = tmp_path / "broken"
    (broken / "bad-1.dist-info").mkdir(parents=True)
    (broken / "bad-1.dist-info" / "METADATA").write_text("Metadata-Version: 2.1\nName: bad\nVersion: 1\n")
    (broken / "bad-1.dist-info" / "entry_points.txt").write_text(
        "[juxtalogos.formats]\nbad = no_such_module:X\n\n[juxtalogos.reporters]\nhtml = no_such_module:X\n"
    )
    (tmp_path / "plain.yaml").write_text(
        definition({"/q": {"get": {"operationId": "q", "responses": answers()}}}), "utf-8"
    )
    jux("init", tmp_path / "own")
    jux("import", tmp_path / "plain.yaml", "-C", tmp_path / "own", env={"PYTHONPATH": str(broken)})
    (tmp_path / "other.yaml").write_text("what: ever\n")
    told = jux(
        "import", tmp_path / "other.yaml", "-C", tmp_path / "own", env={"PYTHONPATH": str(broken)}, status=2
    )
    assert "the plug-in bad cannot be loaded" in told.err and "uninstall it" in told.err


def test_built_in_names_load_no_plug_in() -> None:
    code = (
        "import sys; from juxtalogos.formats import FORMATS; FORMATS['openapi']; assert 'importlib.metadata'"
        " not in sys.modules"
    )
    subprocess.run(
        [sys.executable, "-c", code],
        check=True,
        env={
            **os.environ,
            "PYTHONPATH": os.pathsep.join(filter(None, (str(PLUGIN), os.environ.get("PYTHONPATH", "")))),
        },
    )


def test_a_format_under_another_name_gives_the_same_bytes(tmp_path: Path, jux: Jux) -> None:
    other = tmp_path / "site"
    other.mkdir()
    (other / "sitecustomize.py").write_text(
        f"import sys; sys.path.insert(0, {str(other)!r}); import twin_table"
    )
    (other / "twin.py").write_text(
        "from dataclasses import replace\nfrom juxtalogos.formats.openapi import OPENAPI\nTWIN ="
        " replace(OPENAPI, name='twin')\n"
    )
    (other / "twin_table.py").write_text(
        "import juxtalogos.formats as formats\nformats.FORMATS.register('twin', 'twin:TWIN')\n"
        "formats._SYNTAXES = {'twin': ('json', 'yaml')}\n"
    )
    from conftest import BERTHS

    told: list[dict[str, str]] = []
    for name, text in (
        ("openapi", BERTHS),
        ("twin", BERTHS),
    ):
        with serving("all") as url:
            folder = tmp_path / name
            (tmp_path / "in").mkdir(exist_ok=True)
            (tmp_path / "in" / "berths.yaml").write_text(text, "utf-8")
            site = other
            if name == "openapi":
                site = tmp_path / "nothing"

            def run(*words: object, status: int | None = 0, folder: Path = folder, site: Path = site) -> str:
                return jux(*words, "-C", folder, env={"PYTHONPATH": str(site), **KEY_ENV}, status=status).out

            jux("init", folder)
            run("import", tmp_path / "in" / "berths.yaml")
            run("targets", "set", "local", url)
            with (folder / "juxtalogos.toml").open("a", encoding="utf-8") as out:
                out.write('[targets.local.credentials.harbourKey]\nenv = "MERROW_KEY"\n')
            trusting(folder)
            found = {
                "operations": run("show", "berths", "--json"),
                "one": run("show", "announcePortCall"),
                "step": run("skeleton", "announcePortCall", "--form", "step"),
                "message": run("skeleton", "announcePortCall", "--full"),
                "compose": run("compose", "berths"),
                "handover": run("show", "berths", "--form", "handover"),
            }
            found["suite"] = (folder / "suites" / "berths.arazzo.yaml").read_text("utf-8")
            run("run", "berths", "--jobs", 1, status=1)
            found["findings"] = run("exchanges", "--finding", "any", "--json")
            found["coverage"] = run("coverage", "--by-operation")
            told.append(
                {
                    key: _alike(text.replace(url.split("/")[2], "H"), name, folder)
                    for key, text in found.items()
                }
            )
    for key in told[0]:
        assert told[0][key] == told[1][key], key


def _alike(text: str, name: str, folder: Path) -> str:
    """Without what may differ: the format's own name, the folder, and the one line more of the definition."""
    text = (
        text.replace(str(folder), "W")
        .replace(f'"format": "{name}"', '"format": "F"')
        .replace(f"({name} 3", "(F 3")
    )
    text = re.sub(r'("line": |berths\.yaml:)\d+', r"\1N", text)
    return re.sub(r"type: openapi\n", "", text)


# Sign-in as flows.

OAUTH = definition(
    {
        "/q": {
            "get": {
                "operationId": "q",
                "security": [{"gate": []}],
                "responses": {**answers({"type": "object"}), "401": {"description": "no"}},
            }
        }
    },
    securitySchemes={
        "gate": {
            "type": "oauth2",
            "flows": {
                "clientCredentials": {
                    "tokenUrl": "http://gate.test/token",
                    "scopes": {"read": "r", "moor": "m"},
                }
            },
        }
    },
)


class Gate:
    """Gives out tokens, and lets in who has the last one."""

    def __init__(self, seconds: Any = 3600) -> None:
        self.tokens: list[str] = []
        self.seconds = seconds
        self.asked: list[Request] = []

    def __call__(self, request: Request) -> Reply:
        if request.url == "http://gate.test/token":
            self.asked.append(request)
            self.tokens.append(f"ebb-token-{len(self.tokens)}")
            return reply(
                200, {"access_token": self.tokens[-1], "token_type": "Bearer", "expires_in": self.seconds}
            )
        told = header(request.headers, "authorization")
        return (
            reply(200, {})
            if self.tokens and told == f"Bearer {self.tokens[-1]}"
            else reply(401, {"error": "no"})
        )


def signing(
    gate: Callable[[Request], Reply],
    *origins: str,
    user: str = "quay desk",
    rounds: int = 1,
    before: Callable[[], None] = lambda: None,
) -> tuple[list[Exchange], Scripted, list[str]]:
    contract = read_contract(OAUTH)
    operation, own = contract.operations[0], FORMATS["openapi"].sign_in
    service, learned = Scripted(gate), []
    signer = Signer(
        {"gate": Credential("s3cret&more", user)},
        {"http://quay.test:80", *origins},
        lambda text, passing: learned.append(text),
    )

    async def one() -> Exchange:
        request = Request("GET", "http://quay.test/q")
        exchange = await service.send(await signer.signed(contract, operation, request, own, service))
        if signer.void(contract, operation, exchange, own):
            exchange = await service.send(await signer.signed(contract, operation, request, own, service))
        return exchange

    async def work() -> list[Exchange]:
        found = []
        for _ in range(rounds):
            found += await asyncio.gather(one(), one(), one())
            before()
        return found

    return asyncio.run(work()), service, learned


def test_a_token_is_asked_for_once_kept_and_learned_as_a_secret() -> None:
    gate = Gate()
    found, service, learned = signing(gate, "http://gate.test:80", rounds=2)
    assert [one.response.status for one in found if one.response] == [200] * 6 and len(gate.asked) == 1
    asked = gate.asked[0]
    assert asked.body == b"grant_type=client_credentials&scope=read+moor"
    assert header(asked.headers, "authorization") == "Basic cXVheSUyMGRlc2s6czNjcmV0JTI2bW9yZQ=="
    assert set(learned) == {"ebb-token-0"} and not any(
        "s3cret" in str(one.headers) for one in service.sent if "quay.test" in one.url
    )


def test_a_token_is_renewed_before_it_ends_and_after_a_401() -> None:
    gate = Gate(seconds=0)
    found, _, _ = signing(gate, "http://gate.test:80", rounds=2)
    assert len(gate.asked) > 2
    gate = Gate()
    found, _, _ = signing(gate, "http://gate.test:80", rounds=2, before=lambda: gate.tokens.append("another"))
    assert [one.response.status for one in found[3:] if one.response].count(200) >= 1 and len(gate.asked) >= 2


def test_a_ready_made_token_needs_no_request() -> None:
    _, service, _ = signing(lambda request: reply(200, {}), user="")
    assert {header(one.headers, "authorization") for one in service.sent} == {"Bearer s3cret&more"}


@pytest.mark.parametrize(
    ("gate", "origins", "words"),
    [
        (Gate(), (), "not at the target's origins"),
        (
            lambda request: reply(400, {"error": "invalid_client"}),
            ("http://gate.test:80",),
            "responded 400 invalid_client",
        ),
        (lambda request: reply(200, [1]), ("http://gate.test:80",), "responded 200"),
        (
            lambda request: "refused the connection",
            ("http://gate.test:80",),
            "responded refused the connection",
        ),
    ],
)
def test_no_token_is_told_with_its_remedy(
    gate: Callable[[Request], Reply], origins: tuple[str, ...], words: str
) -> None:
    with pytest.raises((NoAnswer, ExceptionGroup), match=words) as caught:
        signing(gate, *origins)
    assert "s3cret" not in str(caught.value)


def test_oauth_in_a_run_of_the_built_program(tmp_path: Path, jux: Jux) -> None:
    tokens: list[str] = []

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            self.rfile.read(int(self.headers["Content-Length"]))
            tokens.append(f"flood-token-{len(tokens)}")
            self._say(200, {"access_token": tokens[-1]})

        def do_GET(self) -> None:
            given = (self.headers.get("Authorization") or "").removeprefix("Bearer ")
            known = given in tokens
            if len(tokens) == 1 and known:
                tokens[0] = "void"  # it holds for one call only
            self._say(200 if known else 401, {"told": given})

        def _say(self, status: int, value: Any) -> None:
            body = json.dumps(value).encode()
            self.send_response(status)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()
    url = f"http://127.0.0.1:{server.server_address[1]}"
    (tmp_path / "gate.yaml").write_text(OAUTH.replace("http://gate.test", url), "utf-8")
    home = tmp_path / "w"
    jux("init", home)
    jux("import", tmp_path / "gate.yaml", "-C", home)
    jux("compose", "gate", "-C", home)
    (home / "juxtalogos.toml").write_text(
        f'[targets.local]\nurl = "{url}"\n[targets.local.credentials.gate]\nenv = "GATE"\nuser = "desk"\n',
        "utf-8",
    )
    trusting(home)
    found = jux(
        "run", "--target", "local", "--repeat", 3, "--jobs", 1, "-C", home, env={"GATE": "weir-and-sluice"}
    )
    assert "3 passed" in found.out and tokens == ["void", "flood-token-1"]
    shown = jux("exchanges", "1", "-C", home).out
    assert MASK in shown and "flood-token" not in shown, "a token that an answer gives back is masked too"
    for path in home.rglob("*"):
        if path.is_file():
            assert b"flood-token" not in path.read_bytes() and b"weir-and" not in path.read_bytes(), path
    jux("call", "q", "--target", "local", "-C", home, env={"GATE": "weir-and-sluice"})
    server.shutdown()
    server.server_close()


# Strict and loose.


def test_loose_requests_send_what_does_not_fit(tmp_path: Path) -> None:
    parameters = [{"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}]
    contract = read_contract(
        definition({"/q/{id}": {"get": {"parameters": parameters, "responses": answers()}}})
    )
    wire, operation = wire_of(contract), contract.operations[0]
    request = wire.encode(
        operation,
        Inputs({"query.odd": "a b", "cookie.c": 1, "header.X": "y"}, {"any": 1}),
        "http://h",
        loose=True,
    )
    assert (
        request.url == "http://h/q/?odd=a+b" and request.body and header(request.headers, "cookie") == "c=1"
    )
    assert wire is wire_of(contract)


def test_loose_envelopes(tmp_path: Path) -> None:
    from importlib import resources

    from juxtalogos.workspace.importing import read_source
    from juxtalogos.workspace.remote import Access

    for name in ("pilotage.wsdl", "pilotage-types.xsd"):
        (tmp_path / name).write_text(
            resources.files("juxtalogos.demo").joinpath(name).read_text("utf-8"), "utf-8"
        )
    (imported,) = read_source(str(tmp_path / "pilotage.wsdl"), Access())
    assert imported.contract is not None
    wire, operation = wire_of(imported.contract), imported.contract.operation("planJob")
    assert operation is not None
    value = {"nothing": {"of": "it", "@odd": 1}, "order": {"tugs": "many", "tug": [1, 2]}}
    request = wire.encode(operation, Inputs({}, value), "http://h", loose=True)
    body = (request.body or b"").decode()
    assert "many" in body and ">it<" in body and 'odd="1"' in body and body.count("tug>1<") == 1
    assert wire.match(request, "http://h")[0].id == "planJob"
    assert wire.encode(operation, Inputs({}, ABSENT), "http://h", loose=True).body
    assert replace(operation) == operation
