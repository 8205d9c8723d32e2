"""Targets: who sends, with which secrets, to which address of which contract."""

from __future__ import annotations

import json
import re
import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

from conftest import BERTHS, KEY_ENV, Result, answers, definition, trusting
from juxtalogos.workspace.secrets import credential_source

Jux = Callable[..., Result]
ENV = {"DESK": "desk-secret-7", "CHIEF": "chief-secret-9", "GATE": "gate-secret-3"}
_ME = answers({"type": "object", "properties": {"who": {"type": "string"}}})
OPEN = definition({"/me": {"get": {"operationId": "me", "responses": {**_ME, **answers(status="401")}}}})
KEYED = definition(
    {"/me": {"get": {"operationId": "whoami", "security": [{"login": []}], "responses": _ME}}},
    securitySchemes={"login": {"type": "http", "scheme": "basic"}},
)


def test_a_target_is_set_as_the_default_said_and_removed(berths: Path, jux: Jux) -> None:
    config = berths / "juxtalogos.toml"
    config.write_text(config.read_text() + "# ours\n")
    for name, port in (("desk", 1), ("quay", 2)):
        jux("targets", "set", name, f"http://127.0.0.1:{port}/v1", "-C", berths, status=None)
    jux("call", "getBerth", "--target", "quay", "-C", berths, status=None)
    jux("targets", "set", "desk", "--default", "-C", berths)
    listed = jux("targets", "--json", "-C", berths).json["targets"]
    assert {one["name"]: one["default"] for one in listed} == {"desk": True, "quay": False}
    jux("compose", "berths", "-C", berths)
    ran = jux("run", "berths#listBerths", "-C", berths, status=None)
    assert "target desk   http://127.0.0.1:1/v1" in ran.err and "at desk: 1 case" in ran.out
    assert "there is no target nix" in jux("targets", "remove", "nix", "-C", berths, status=2).err
    assert "is for `targets set`" in jux("targets", "remove", "desk", "--default", "-C", berths, status=2).err
    for name in ("desk", "quay"):
        jux("targets", "remove", name, "-C", berths)
    assert "# ours" in config.read_text() and "desk" not in config.read_text()


class _Mirror(BaseHTTPRequestHandler):
    """Tells what fields came, but for `/gone`, where nothing is."""

    def do_GET(self) -> None:
        body = json.dumps({"who": self.path, "fields": dict(self.headers.items())}).encode()
        came = {"method": self.command, **dict(self.headers.items())}
        self.server.seen.append(came)  # type: ignore[attr-defined]
        self.send_response(404 if self.path.startswith("/gone") else 200)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    do_POST = do_GET

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture
def mirror() -> Iterator[tuple[str, list[dict[str, str]]]]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Mirror)
    server.seen = []  # type: ignore[attr-defined]
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}", server.seen  # type: ignore[attr-defined]
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


@pytest.fixture
def home(tmp_path: Path, jux: Jux, mirror: Any) -> Path:
    """Two contracts, `open` without a scheme and `keyed` with one, on a target with headers and a role."""
    jux("init", tmp_path / "w")
    for name, text in (("open", OPEN), ("keyed", KEYED)):
        (tmp_path / f"{name}.yaml").write_text(text)
        jux("import", tmp_path / f"{name}.yaml", "-C", tmp_path / "w")
    _configure(
        tmp_path / "w",
        f"""[targets.quay]
url = "{mirror[0]}"
[targets.quay.headers]
X-Gate = "key env:GATE"
X-Desk = "east"
[targets.quay.credentials.login]
user = "desk"
env = "DESK"
[targets.quay.roles.chief.credentials.login]
user = "chief"
env = "CHIEF"
[targets.quay.roles.chief.headers]
X-Desk = "bridge"
""",
    )
    return tmp_path / "w"


def _configure(home: Path, text: str) -> None:
    with (home / "juxtalogos.toml").open("a") as out:
        out.write("\n" + text)
    trusting(home)


def _kept(folder: Path) -> bytes:
    return b"".join(path.read_bytes() for path in folder.rglob("*") if path.is_file())


def test_headers_and_roles_in_every_command_and_no_secret_anywhere(home: Path, jux: Jux, mirror: Any) -> None:
    seen = mirror[1]

    def sent(*words: str, status: int = 0) -> dict[str, str]:
        result = jux(*words, "-C", home, env=ENV, status=status)
        for secret in ENV.values():
            assert secret not in result.out + result.err
        return dict(seen[-1])

    first = sent("call", "me", "--save", "desk#one")
    assert (first["X-Gate"], first["X-Desk"]) == (
        "key gate-secret-3",
        "east",
    ) and "Authorization" not in first
    assert sent("call", "whoami")["Authorization"] == "Basic ZGVzazpkZXNrLXNlY3JldC03"
    chief = sent("call", "whoami", "--role", "chief", "--save", "desk#two")
    assert (chief["Authorization"], chief["X-Desk"], chief["X-Gate"]) == (
        "Basic Y2hpZWY6Y2hpZWYtc2VjcmV0LTk=",
        "bridge",
        "key gate-secret-3",
    )
    own = sent(
        "call",
        "whoami",
        "--credential",
        "login=watch:env:GATE",
        "--header",
        "X-Desk: west",
        "--save",
        "desk#three",
    )
    assert (own["Authorization"], own["X-Desk"]) == ("Basic d2F0Y2g6Z2F0ZS1zZWNyZXQtMw==", "west")
    assert (
        sent("call", "me", "--header", "Authorization: Bearer env:DESK", "--save", "desk#four")[
            "Authorization"
        ]
        == "Bearer desk-secret-7"
    )
    bare = jux("call", "whoami", "--no-credentials", "-C", home)  # no secret is even read
    assert "X-Gate" not in seen[-1] and "Authorization" not in seen[-1] and seen[-1]["X-Desk"] == "east", (
        bare.err
    )
    suite = (home / "suites" / "desk.arazzo.yaml").read_text()
    assert "x-juxtalogos-role: chief" in suite and "west" in suite and "env:" not in suite
    del seen[:]
    for jobs in ("1", "4"):
        jux("run", "desk", "--header", "X-Run: env:CHIEF", "--jobs", jobs, "-C", home, env=ENV, status=None)
    assert {one["X-Run"] for one in seen} == {"chief-secret-9"} and len(seen) == 8
    words = [one.get("Authorization", "")[6:10] for one in seen]
    assert words.count("Y2hp") == 2 and {one["X-Desk"] for one in seen} == {"east", "bridge", "west"}
    jux("run", "desk#three", "--role", "chief", "--processes", "2", "-C", home, env=ENV, status=None)
    assert seen[-1]["Authorization"].startswith("Basic Y2hp")
    kept = _kept(home)
    assert not [secret for secret in ENV.values() if secret.encode() in kept] and b"gate-secret" not in kept


REFUSED = (
    (("call", "whoami", "--role", "cheif"), "has no role cheif", "did you mean chief?"),
    (
        ("call", "whoami", "--credential", "login=plainsecret"),
        "names no secret by reference",
        "a secret itself is never given",
    ),
    (
        ("call", "whoami", "--credential", "lgin=env:DESK"),
        "a credential for lgin, and no contract has such a scheme",
        "did you mean login?",
    ),
    (
        ("call", "me", "--header", "X-Key: env:NOWHERE"),
        "the environment variable NOWHERE is not set",
        "export NOWHERE",
    ),
    (("run", "desk", "--role", "nobody"), "has no role nobody", ""),
)


@pytest.mark.parametrize(("words", "what", "mend"), REFUSED, ids=[" ".join(row[0]) for row in REFUSED])
def test_what_is_refused_before_anything_is_sent(
    home: Path, jux: Jux, mirror: Any, words: tuple[str, ...], what: str, mend: str
) -> None:
    jux("call", "me", "--save", "desk#one", "-C", home, env=ENV)
    del mirror[1][:]
    told = jux(*words, "-C", home, env=ENV, status=2).err
    assert what in told and mend in told and "plainsecret" not in told and not mirror[1]


def test_credentials_and_roles_that_lead_nowhere_are_told_by_name(home: Path, jux: Jux) -> None:
    jux("call", "me", "--save", "desk#one", "-C", home, env=ENV)
    suite = home / "suites" / "desk.arazzo.yaml"
    text = suite.read_text()
    indent = re.search(r"( +)- stepId: me", text)
    assert indent
    suite.write_text(text.replace("- stepId: me\n", f"- stepId: me\n{indent[1]}  x-juxtalogos-role: cook\n"))
    assert "has no role cook" in jux("run", "desk", "-C", home, env=ENV, status=2).err
    _configure(home, '[targets.quay.credentials.harbour]\nenv = "DESK"\n')
    told = jux("call", "me", "-C", home, env=ENV, status=2).err
    assert "a credential for harbour, and no contract has such a scheme" in told and "known: login" in told


def test_each_contract_keeps_its_target(tmp_path: Path, jux: Jux, mirror: Any) -> None:
    """A URL belongs to one contract where there are several; a target that was used is not taken again."""
    home, url = tmp_path / "w", mirror[0]
    jux("init", home)
    for name, text in (("open", OPEN), ("keyed", KEYED)):
        (tmp_path / f"{name}.yaml").write_text(text)
        jux("import", tmp_path / f"{name}.yaml", "-C", home)
    told = jux("targets", "set", "a", f"{url}/a", "-C", home, status=2).err
    assert (
        "there are several contracts, and" in told
        and "--contract keyed; the contracts are keyed, open" in told
    )
    for target in ("a", "b"):
        for contract in ("open", "keyed"):
            jux("targets", "set", target, f"{url}/{target}-{contract}", "--contract", contract, "-C", home)
    assert '"/b-keyed/me"' in jux("call", "whoami", "--target", "b", "-C", home).out.replace(" ", "")
    told = jux("call", "whoami", "-C", home, status=2).err
    assert "--target a or b; or for always: juxtalogos targets set NAME --default" in told
    jux("targets", "set", "a", "--default", "-C", home)
    assert '"/a-open/me"' in jux("call", "me", "-C", home).out.replace(" ", "")
    jux("targets", "remove", "a", "-C", home)
    assert '"/b-keyed/me"' in jux("call", "whoami", "-C", home).out.replace(" ", "")


def test_a_guarded_target_is_changed_only_with_consent(tmp_path: Path, jux: Jux, mirror: Any) -> None:
    """No command sends what may change something there unless somebody agreed; reading goes on."""
    home, (url, seen) = tmp_path / "w", mirror
    jux("init", home)
    paths = {"/me": {"get": {"operationId": "me", "responses": _ME}}}
    paths["/notes"] = {"post": {"operationId": "note", "responses": answers(status="201")}}
    (tmp_path / "own.yaml").write_text(definition(paths))
    jux("import", tmp_path / "own.yaml", "-C", home)
    jux("compose", "own", "-C", home)
    jux("targets", "set", "acc", url, "-C", home)
    jux("targets", "set", "acc", "--guarded", "-C", home)
    shown = jux("targets", "show", "acc", "-C", home).out
    assert "guarded" in shown and "--yes-to acc" in shown and url in shown
    writing = (
        ("call", "note"),
        ("call", "note", "--target", url),
        ("call", "--url", f"{url}/notes", "--method", "POST"),
        ("call", "--url", f"{url}/notes", "--method", "POST", "--save", "own#more"),
        ("run", "own#note"),
        ("compose", "own", "--learn=writing", "--replace"),
        ("explore", "--requests", "20"),
    )
    for words in writing:
        before = len(seen)
        assert "--yes-to acc" in jux(*words, "-C", home, status=2).err
        assert "POST" not in [one["method"] for one in seen[before:]], words
        jux(*words, "--yes-to", "acc", "-C", home, status=None)
        assert "POST" in [one["method"] for one in seen[before:]], words
        assert "--yes-to names" in jux(*words, "--yes-to", "own", "-C", home, status=2).err
    for words in (("call", "me"), ("run", "own#me"), ("explore", "--only-reading", "--requests", "9")):
        assert "guarded" not in jux(*words, "-C", home, status=None).err
    jux("targets", "set", "acc", "--unguarded", "-C", home)
    jux("call", "note", "-C", home, status=None)


def test_reaching_says_what_was_tried(tmp_path: Path, jux: Jux, mirror: Any, harbour: str) -> None:
    home, url = tmp_path / "w", mirror[0]
    jux("init", home)
    (tmp_path / "open.yaml").write_text(OPEN)
    jux("import", tmp_path / "open.yaml", "-C", home)
    assert "it responds (me: 200)" in jux("targets", "set", "a", url, "-C", home).out
    assert (
        "me is not found there (404): is the base URL right?"
        in jux("targets", "set", "a", f"{url}/gone", "-C", home).out
    )
    assert "it cannot be reached" in jux("targets", "set", "a", "http://127.0.0.1:9", "-C", home).out
    (tmp_path / "berths.yaml").write_text(BERTHS)
    jux("import", tmp_path / "berths.yaml", "-C", home)
    assert (
        "for berths" in jux("targets", "set", "b", harbour, "-C", home).out
    )  # its path is the definition's own
    listed = jux("targets", "check", "b", "-C", home, "--json", env=KEY_ENV).json["targets"]
    assert [(one["contract"], one["reached"], one["reason"]) for one in listed] == [("berths", True, "")]


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("login=env:DESK", ("login", "DESK", "", "")),
        ("login=file:/x/y:z", ("login", "", "/x/y:z", "")),
        ("login=a:b:env:DESK", ("login", "DESK", "", "a:b")),
    ],
)
def test_the_one_form_of_credentials(text: str, found: tuple[str, ...]) -> None:
    one = credential_source(text)
    assert (one.scheme, one.env, one.file, one.user) == found
