"""Signing in as services want it: by an operation that gives a token or cookies, by digest, with a certificate,
by the grants of OAuth; tokens that end in the midst of a run.
"""

from __future__ import annotations

import hashlib
import json
import re
import shutil
import ssl
import subprocess
import threading
from collections import Counter
from http.server import ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl

import pytest
import yaml

from conftest import answers, definition, read_contract
from juxtalogos.run.target.signing_in import sign_in_offered
from styles.desk import Jux
from styles.logbook import PATHS, PIN, Desk, body, desk


class Bearer(Desk):
    def lets_in(self) -> bool:
        return self.use(self.headers.get("Authorization", "").removeprefix("Bearer "))

    def signed_in(self, name: str) -> tuple[dict[str, Any], list[tuple[str, str]]]:
        return {"session": {"access_token": name}}, []


class ShortLived(Bearer):
    """Its tokens hold for twenty requests."""

    holds = 20


class Guarded(Desk):
    """A cookie, and beside it an anti-forgery value for what changes something."""

    def lets_in(self) -> bool:
        cookies = dict(
            pair.strip().split("=", 1) for pair in self.headers.get("Cookie", "").split(";") if pair.strip()
        )
        guarded = self.command == "GET" or self.headers.get("X-Guard") == f"guard-{cookies.get('desk')}"
        return guarded and self.use(cookies.get("desk", ""))

    def signed_in(self, name: str) -> tuple[dict[str, Any], list[tuple[str, str]]]:
        fields = [
            ("Set-Cookie", f"desk={name}; Path=/; HttpOnly"),
            ("Set-Cookie", f"guard=guard-{name}; Path=/"),
            ("Set-Cookie", "old=; Max-Age=0"),
        ]
        return {}, fields


class OwnField(Desk):
    def lets_in(self) -> bool:
        return self.use(self.headers.get("X-Watch", "").removeprefix("Pass "))

    def signed_in(self, name: str) -> tuple[dict[str, Any], list[tuple[str, str]]]:
        return {}, [("X-Pass", name)]


def workspace(tmp_path: Path, jux: Jux, url: str, sign_in: str) -> Path:
    home = tmp_path / "w"
    (tmp_path / "logs.json").write_text(definition(PATHS))
    jux("init", home)
    jux("import", tmp_path / "logs.json", "-C", home)
    jux("targets", "set", "desk", url, "-C", home)
    with (home / "juxtalogos.toml").open("a") as config:
        config.write(sign_in)
    jux("trust", "--send", f"DESK_PIN={url}", "-C", home)
    return home


SIGN_IN = """
[targets.desk.sign-in]
operation = "openSession"
{more}
[targets.desk.sign-in.inputs]
"body/user" = "desk"
"body/pin" = "env:DESK_PIN"
"""


@pytest.mark.parametrize(
    ("kind", "more"),
    [
        (Bearer, ""),
        (ShortLived, 'token = "$response.body#/session/access_token"'),
        (Guarded, 'guard = "cookie.guard"\nguard-field = "X-Guard"'),
        (OwnField, 'token = "$response.header.X-Pass"\nfield = "X-Watch: Pass"'),
    ],
)
def test_sign_in_by_an_operation(kind: type[Desk], more: str, tmp_path: Path, jux: Jux) -> None:
    env = {"DESK_PIN": PIN}
    with desk(kind) as (url, served):
        home = workspace(tmp_path, jux, url, SIGN_IN.format(more=more))
        served.seen.clear()  # writing the target tried the address, with nothing
        assert jux("call", "listLogs", "-C", home, env=env).status == 0
        learned = jux("compose", "logs", "--learn=writing", "--json", "-C", home, env=env).json["learned"]
        assert {one["operation"] for one in learned["notReached"]} == {"openSession", "readVault"}
        found = jux(
            "run", "logs", "--jobs", "8", "--repeat", "3", "--json", "-C", home, env=env, status=None
        ).json
        own = [one for one in found["cases"] if not one["case"].startswith(("openSession", "readVault"))]
        assert {one["verdict"] for one in own} == {"passed"}, own
        assert served.logs == {"old": "fog"}
        refused = [row for row in served.seen if row[1] == 401 and row[0] != "POST /session"]
        assert bool(refused) is (kind is ShortLived)
        signed = sum(row == ("POST /session", 200) for row in served.seen)
        assert signed <= 6 + (len(served.seen) // 10 if kind is ShortLived else 0)
    for path in home.rglob("*"):
        if path.is_file():
            data = path.read_bytes()
            assert PIN.encode() not in data and b"-gate-7f3a" not in data, path


def test_sign_in_is_offered_and_written_by_a_command(tmp_path: Path, jux: Jux) -> None:
    with desk(Bearer) as (url, _):
        home = workspace(tmp_path, jux, url, "")
        offered = jux("call", "listLogs", "-C", home, status=1).out
        assert "targets set desk --sign-in openSession --sign-in-input body/user=NAME" in " ".join(
            offered.split()
        )
        assert "--sign-in-input body/pin=env:NAME" in " ".join(offered.split())
        words = ("targets", "set", "desk", "--sign-in", "openSession", "--sign-in-input", "body/user=desk")
        bare = jux(*words, "--sign-in-input", "body/pin=1234", "-C", home, status=2).err
        assert "a secret itself is never given" in bare and "1234" not in bare
        jux(*words, "--sign-in-input", "body/pin=env:DESK_PIN", "-C", home)
        told = jux("targets", "check", "-C", home, env={"DESK_PIN": PIN}).out
        assert "signed in: listLogs: 200" in " ".join(told.split())
        assert jux("call", "listLogs", "-C", home, env={"DESK_PIN": PIN}).status == 0


@pytest.mark.parametrize(
    ("sign_in", "told"),
    [
        (SIGN_IN.format(more='token = "$response.body#/nowhere"'), "gave no token at"),
        (
            SIGN_IN.format(more="").replace('"desk"\n"body/pin"', '"mate"\n"body/pin"'),
            "returned 401: wrong pin",
        ),
        (SIGN_IN.format(more="").replace("body/user", "body/usr"), "there is no body/usr"),
        (SIGN_IN.format(more='tokn = "x"'), "unknown key"),
    ],
)
def test_what_is_wrong_with_a_sign_in(sign_in: str, told: str, tmp_path: Path, jux: Jux) -> None:
    with desk(Bearer) as (url, _):
        home = tmp_path / "w"
        (tmp_path / "logs.json").write_text(definition(PATHS))
        jux("init", home)
        jux("import", tmp_path / "logs.json", "-C", home)
        jux("targets", "set", "desk", url, "--credential", "x=env:DESK_PIN", "-C", home, status=None)
        jux("targets", "set", "desk", url, "-C", home)
        with (home / "juxtalogos.toml").open("a") as config:
            config.write(sign_in)
        jux("trust", "--send", f"DESK_PIN={url}", "-C", home, status=None)
        done = jux("call", "listLogs", "-C", home, env={"DESK_PIN": PIN}, status=None)
        assert done.status in (2, 3) and told in done.err + done.out, (done.out, done.err)


class Digest(Desk):
    """HTTP Digest with SHA-256, a nonce that holds for twelve requests, judged by an implementation of its own."""

    def lets_in(self) -> bool:
        word = self.headers.get("Authorization", "")
        told = {
            name: quoted or bare for name, quoted, bare in re.findall(r'(\w+)=(?:"([^"]*)"|([^",\s]+))', word)
        }

        def hashed(text: str) -> str:
            return hashlib.sha256(text.encode()).hexdigest()

        first, second = hashed(f'desk:harbour, "north":{PIN}'), hashed(f"{self.command}:{self.path}")
        parts = (first, told.get("nonce"), told.get("nc"), told.get("cnonce"), told.get("qop"), second)
        meant = hashed(":".join(str(part) for part in parts))
        return told.get("response") == meant and told.get("uri") == self.path and self.use(told["nonce"])

    def send(self, status: int, value: Any, *fields: tuple[str, str]) -> None:
        if status == 401:
            with self.lock:
                nonce = f"nonce-{len(self.sessions)}"
                self.sessions[nonce] = 12
            realm = 'realm="harbour, \\"north\\"", qop="auth, auth-int"'
            fields = (
                ("WWW-Authenticate", f'Digest {realm}, algorithm=MD5, nonce="{nonce}"'),
                ("WWW-Authenticate", f'Digest {realm}, algorithm=SHA-256, nonce="{nonce}", opaque="x"'),
            )
        super().send(status, value, *fields)


class Tokens(Desk):
    """OAuth 2.0 by password; the tokens hold for six requests, and are renewed by a refresh token."""

    def lets_in(self) -> bool:
        return self.use(self.headers.get("Authorization", "").removeprefix("Bearer "))

    def _answer(self) -> None:
        if self.path != "/token":
            return super()._answer()
        form = dict(parse_qsl(self.rfile.read(int(self.headers["Content-Length"])).decode()))
        known = form.get("grant_type") == "password" and (form["username"], form["password"]) == ("desk", PIN)
        renewed = form.get("grant_type") == "refresh_token" and form["refresh_token"] in self.sessions
        if not known and not renewed:
            return self.send(400, {"error": "invalid_grant"})
        with self.lock:
            token, refresh = f"tok-{len(self.sessions)}-gate-7f3a", f"ref-{len(self.sessions)}-gate-7f3a"
            self.sessions |= {token: 20, refresh: 0}
        self.seen.append((str(form["grant_type"]), 200))
        return self.send(200, {"access_token": token, "refresh_token": refresh, "token_type": "bearer"})

    do_GET = do_POST = do_DELETE = _answer


SCHEMES = {
    "digest": {"type": "http", "scheme": "digest"},
    "oauth": {"type": "oauth2", "flows": {"password": {"tokenUrl": "token", "scopes": {}}}},
    "bearer": {"type": "http", "scheme": "bearer"},
    "key": {"type": "apiKey", "in": "header", "name": "Authorization: Bearer"},
}


def signed_workspace(tmp_path: Path, jux: Jux, url: str, scheme: str, *more: str) -> Path:
    home = tmp_path / "w"
    paths = {path: item for path, item in PATHS.items() if path != "/session"}
    found = yaml.safe_load(definition(paths, securitySchemes={scheme: SCHEMES[scheme]}))
    (tmp_path / "logs.json").write_text(json.dumps({**found, "security": [{scheme: []}]}))
    jux("init", home)
    jux("import", tmp_path / "logs.json", "-C", home, status=None)
    jux("targets", "set", "desk", url, *more, "-C", home)
    return home


@pytest.mark.parametrize(("kind", "scheme"), [(Digest, "digest"), (Tokens, "oauth")])
def test_sign_in_by_user_and_password(kind: type[Desk], scheme: str, tmp_path: Path, jux: Jux) -> None:
    with desk(kind) as (url, served):
        home = signed_workspace(tmp_path, jux, url, scheme, "--credential", f"{scheme}=desk:env:DESK_PIN")
        env = {"DESK_PIN": PIN}
        told = jux("targets", "check", "-C", home, env=env).out
        assert "signed in: listLogs: 200" in " ".join(told.split())
        jux("compose", "logs", "-C", home)
        found = jux("run", "--jobs", "8", "--repeat", "4", "--json", "-C", home, env=env, status=None).json
        own = [one for one in found["cases"] if not one["case"].startswith("readVault")]
        assert {one["verdict"] for one in own} == {"passed"}
        assert served.logs == {"old": "fog"}
        if kind is Tokens:
            assert ("refresh_token", 200) in served.seen
    for path in home.rglob("*"):
        if path.is_file():
            assert PIN.encode() not in path.read_bytes() and b"-gate-7f3a" not in path.read_bytes(), path


def test_a_credential_is_offered_where_the_definition_declares_none(tmp_path: Path, jux: Jux) -> None:
    with desk(Bearer) as (url, served):
        served.sessions["berth-token-7"] = 10**6
        home = signed_workspace(tmp_path, jux, url, "bearer", "--credential", "bearer=env:DESK_TOKEN")
        bare = json.loads((tmp_path / "logs.json").read_text())
        bare["security"] = []
        (tmp_path / "logs.json").write_text(json.dumps(bare))
        jux("import", tmp_path / "logs.json", "-C", home, status=None)
        env = {"DESK_TOKEN": "berth-token-7"}
        told = jux("call", "listLogs", "-C", home, env=env)
        assert "security.undeclared" in told.out and "let in with bearer" in " ".join(told.out.split())
        jux("compose", "logs", "-C", home)
        served.seen.clear()
        found = jux("run", "--jobs", "1", "--json", "-C", home, env=env, status=1).json
        assert "security.undeclared" in {one["kind"] for one in found["remarks"]}
        assert not found["findings"]
        refused = Counter(what.rpartition("/")[0] for what, status in served.seen if status == 401)
        vault = sum(what == "GET /vault" and status == 401 for what, status in served.seen)
        assert refused.total() - vault == 4 and vault <= 2, "once for each operation that lets in"


def test_a_field_name_that_is_none(tmp_path: Path, jux: Jux) -> None:
    with desk(Bearer) as (url, served):
        served.sessions["berth-token-7"] = 100
        home = signed_workspace(tmp_path, jux, url, "key", "--credential", "key=env:DESK_TOKEN")
        told = jux("import", tmp_path / "logs.json", "--name", "again", "-C", home, status=None)
        assert "no name of a header field; the key is sent in Authorization, after Bearer" in told.out
        assert jux("call", "logs:listLogs", "-C", home, env={"DESK_TOKEN": "berth-token-7"}).status == 0


@pytest.mark.skipif(shutil.which("openssl") is None, reason="openssl makes the certificates")
def test_mutual_tls(tmp_path: Path, jux: Jux) -> None:
    def openssl(*words: str) -> None:
        subprocess.run(["openssl", *words], cwd=tmp_path, check=True, capture_output=True)

    openssl(
        "req",
        "-x509",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-keyout",
        "ca.key",
        "-out",
        "ca.pem",
        "-subj",
        "/CN=harbour",
    )
    (tmp_path / "ext").write_text("subjectAltName=IP:127.0.0.1")
    for name in ("server", "desk"):
        openssl(
            "req",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-keyout",
            f"{name}.key",
            "-out",
            f"{name}.csr",
            "-subj",
            f"/CN={name}",
        )
        openssl(
            "x509",
            "-req",
            "-in",
            f"{name}.csr",
            "-CA",
            "ca.pem",
            "-CAkey",
            "ca.key",
            "-CAcreateserial",
            "-out",
            f"{name}.pem",
            "-extfile",
            "ext",
        )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(tmp_path / "server.pem", tmp_path / "server.key")
    context.load_verify_locations(tmp_path / "ca.pem")
    context.verify_mode = ssl.CERT_REQUIRED

    class Open(Desk):
        def lets_in(self) -> bool:
            return True

    made = {"lock": threading.Lock(), "logs": {"old": "fog"}, "sessions": {}, "seen": []}
    server = ThreadingHTTPServer(("127.0.0.1", 0), type("Open", (Open,), made))
    server.socket = context.wrap_socket(server.socket, server_side=True)
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()
    url = f"https://127.0.0.1:{server.server_port}"
    home = workspace(tmp_path, jux, url, "")
    (home / "ca.pem").write_bytes((tmp_path / "ca.pem").read_bytes())
    config = home / "juxtalogos.toml"
    bare = config.read_text().replace(f'url = "{url}"', f'url = "{url}"\nca-file = "ca.pem"')
    config.write_text(bare)
    refused = jux("call", "listLogs", "-C", home, status=2)  # who vouches for the service is asked for too
    allowed = re.search(r"juxtalogos trust --send (\S+)", refused.err)
    assert "ca.pem" in refused.err and "are not allowed to vouch for" in refused.err and allowed
    jux("trust", "--send", allowed[1], "-C", home)
    jux("call", "listLogs", "-C", home, status=3)
    key = tmp_path / "desk.key"
    config.write_text(
        bare.replace("ca-file", f'certificate = "{tmp_path}/desk.pem"\ncertificate-key = "{key}"\nca-file')
    )
    refused = jux("call", "listLogs", "-C", home, status=2)
    assert "is not allowed to be sent to" in refused.err
    jux("trust", "--send", f"file:{key}={url}", "-C", home)
    assert jux("call", "listLogs", "-C", home).status == 0
    assert "reached" in jux("targets", "check", "-C", home).out
    with (home / "ca.pem").open("a") as file:
        file.write("\n# another authority may stand here now\n")
    jux("call", "listLogs", "-C", home, status=2)
    server.shutdown()
    server.server_close()


@pytest.mark.parametrize(
    ("method", "path", "fields", "offered"),
    [
        ("post", "/session", ("user", "pin"), True),
        ("post", "/auth/login", ("name", "password"), True),
        ("post", "/tokens", ("secret",), True),
        ("get", "/session", ("user", "pin"), False),  # it only reads
        ("delete", "/session", ("user", "pin"), False),
        ("patch", "/session", ("user", "pin"), False),
        ("post", "/berths", ("user", "pin"), False),  # nothing in its name signs in
        ("post", "/session", ("user", "berth"), False),  # nothing that it takes is a secret
        ("post", "/session", ("user", "pin", "a", "b"), True),
        ("post", "/session", ("user", "pin", "a", "b", "c"), False),  # so much is wanted of who registers
    ],
)
def test_what_looks_like_a_sign_in(method: str, path: str, fields: tuple[str, ...], offered: bool) -> None:
    schema = {
        "type": "object",
        "required": list(fields),
        "properties": {one: {"type": "string"} for one in fields},
    }
    item = {"operationId": "x", **body(schema), "responses": answers({"type": "object"})}
    told = sign_in_offered(read_contract(definition({path: {method: item}})))
    assert bool(told) is offered
    assert all(
        (f"body/{one}=env:NAME" in told) is (one in ("pin", "password", "secret")) for one in fields if told
    )
