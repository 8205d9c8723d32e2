"""A person signs in: on another device, or in a browser; the tokens serve later commands, also with eight jobs,
are renewed, and go nowhere else.
"""

from __future__ import annotations

import base64
import hashlib
import json
import os
import re
import stat
import subprocess
import sys
from pathlib import Path
from typing import Any, ClassVar
from urllib.error import HTTPError
from urllib.parse import parse_qsl, urlencode, urlsplit
from urllib.request import urlopen

import pytest
import yaml

from conftest import definition
from styles.desk import Jux
from styles.logbook import PATHS, Desk, desk

CLIENT = "merrow-desk"


class Issuer(Desk):
    """A log book with a server of tokens beside it; tokens hold for twenty requests, and a refresh token once."""

    codes: ClassVar[dict[str, dict[str, str]]] = {}
    asked: ClassVar[list[str]] = []
    refused: ClassVar[bool] = False

    def lets_in(self) -> bool:
        return self.use(self.headers.get("Authorization", "").removeprefix("Bearer "))

    def _answer(self) -> None:
        path, _, query = self.path.partition("?")
        host = f"http://{self.headers['Host']}"
        if path == "/sign-in" and self.command == "GET":
            return self.page(dict(parse_qsl(query)))
        if path == "/.well-known/openid-configuration":
            told = {
                "issuer": host,
                "token_endpoint": f"{host}/token",
                "authorization_endpoint": f"{host}/sign-in",
                "device_authorization_endpoint": f"{host}/device",
            }
            return self.send(200, told)
        if path not in ("/token", "/device"):
            return super()._answer()
        form = dict(parse_qsl(self.rfile.read(int(self.headers["Content-Length"])).decode()))
        if form.get("client_id") != CLIENT:
            return self.send(401, {"error": "invalid_client"})
        if path == "/device":
            told = {"device_code": "device-code-7f3a", "user_code": "TIDE-7", "verification_uri": f"{host}/d"}
            return self.send(200, {**told, "interval": 0.01, "expires_in": 60})
        return self.token(form)

    def token(self, form: dict[str, str]) -> None:
        grant = form.get("grant_type", "").rpartition(":")[2]
        with self.lock:
            self.asked.append(grant)
            asked = self.asked.count(grant)
            if grant == "device_code":
                if self.refused:
                    return self.send(400, {"error": "access_denied"})
                if asked < 3:
                    return self.send(400, {"error": ("authorization_pending", "slow_down")[asked == 0]})
            elif grant == "authorization_code":
                code = self.codes.pop(form.get("code", ""), None)
                digest = hashlib.sha256(form.get("code_verifier", "").encode()).digest()
                proof = base64.urlsafe_b64encode(digest).rstrip(b"=").decode()
                if (
                    code is None
                    or code["code_challenge"] != proof
                    or code["redirect_uri"] != form["redirect_uri"]
                ):
                    return self.send(400, {"error": "invalid_grant"})
            elif grant != "refresh_token" or self.sessions.pop(form["refresh_token"], None) is None:
                return self.send(400, {"error": "invalid_grant"})
            number = len(self.asked)
            token, refresh = f"tok-{number}-gate-7f3a", f"ref-{number}-gate-7f3a"
            self.sessions |= {token: 20, refresh: 0}
        told = {"access_token": token, "refresh_token": refresh, "token_type": "bearer", "expires_in": 3600}
        return self.send(200, told)

    def page(self, given: dict[str, str]) -> None:
        code = f"code-{len(self.codes)}-gate-7f3a"
        self.codes[code] = given
        back = urlencode({"code": code, "state": given["state"]})
        self.send(302, None, ("Location", f"{given['redirect_uri']}?{back}"))

    do_GET = do_POST = do_DELETE = _answer


CODE = {"authorizationUrl": "sign-in", "tokenUrl": "token", "scopes": {"logs": "all of them"}}
DEVICE = {"deviceAuthorizationUrl": "device", "tokenUrl": "token", "scopes": {}}


def office(tmp_path: Path, jux: Jux, url: str, scheme: dict[str, Any]) -> Path:
    home = tmp_path / "w"
    paths = {path: item for path, item in PATHS.items() if path not in ("/session", "/vault")}
    found = yaml.safe_load(definition(paths, securitySchemes={"watch": scheme}))
    (tmp_path / "logs.json").write_text(json.dumps({**found, "security": [{"watch": []}]}))
    jux("init", home)
    jux("import", tmp_path / "logs.json", "-C", home, status=None)
    jux("targets", "set", "desk", url, "-C", home)
    return home


def schemes(url: str) -> dict[str, dict[str, Any]]:
    return {
        "code": {"type": "oauth2", "flows": {"authorizationCode": CODE}},
        "device": {"type": "oauth2", "flows": {"deviceAuthorization": DEVICE}},
        "open": {"type": "openIdConnect", "openIdConnectUrl": f"{url}/.well-known/openid-configuration"},
    }


def in_a_browser(home: Path) -> str:
    """The command, whose page somebody opens; what it said."""
    words = ["targets", "sign-in", "desk", "--client", CLIENT, "--by", "browser", "-C", str(home)]
    data = home.parent / "home" / "data"
    with subprocess.Popen(
        [sys.executable, "-m", "juxtalogos", *words],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        env={**os.environ, "HOME": str(home.parent / "home"), "XDG_DATA_HOME": str(data)},
        text=True,
    ) as child:
        assert child.stderr is not None
        seen = ""
        while "http" not in (line := child.stderr.readline()):
            assert line, seen
            seen += line
        page = re.search(r"http\S+", line)
        assert page is not None
        back = dict(parse_qsl(urlsplit(page[0]).query))["redirect_uri"]
        for forged in ("?code=x&state=y", "?code=x", "?error=access_denied", "../?state="):
            with pytest.raises(HTTPError) as refused:
                urlopen(back + forged)
            refused.value.close()
            assert refused.value.code == 404
        with urlopen(page[0]) as last:
            assert last.status == 200
        out, err = child.communicate(timeout=30)
        assert child.returncode == 0, err
    return out + line + err


@pytest.mark.parametrize(
    ("kind", "by"), [("code", "browser"), ("device", "device"), ("open", "browser"), ("open", "device")]
)
def test_a_person_signs_in_once_for_many_commands(kind: str, by: str, tmp_path: Path, jux: Jux) -> None:
    with desk(Issuer) as (url, served):
        served.codes, served.asked = {}, []
        home = office(tmp_path, jux, url, schemes(url)[kind])
        words = ("targets", "sign-in", "desk", "--client", CLIENT, "-C", home)
        if by == "browser":
            told = in_a_browser(home)
        else:
            shown = jux(*words)
            told = shown.out + shown.err
            assert "TIDE-7" in told and served.asked.count("device_code") == 3
        assert "signed in" in told and "gate-7f3a" not in told
        jux("call", "listLogs", "-C", home)
        jux("compose", "logs", "-C", home)
        ran = jux("run", "--jobs", "8", "--repeat", "6", "--json", "-C", home).json
        assert {one["verdict"] for one in ran["cases"]} == {"passed"}
        assert "refresh_token" in served.asked, "tokens end in the midst of a run"
        before = served.asked.count("refresh_token")
        both = jux("run", "--processes", "2", "--jobs", "4", "--repeat", "6", "--json", "-C", home).json
        assert {one["verdict"] for one in both["cases"]} == {"passed"}, (
            "each process takes up what another renewed"
        )
        assert served.asked.count("refresh_token") > before
        before = len(served.asked)
        jux("call", "listLogs", "-C", home)
        assert len(served.asked) <= before + 1, "a later command goes on with what is kept"
        # What is kept stands in the user's own folder only, and is read by nobody else.
        kept = list((tmp_path / "home").rglob("sign-in.json"))
        assert len(kept) == 1 and stat.S_IMODE(kept[0].stat().st_mode) == 0o600
        secrets = [one.encode() for one in served.sessions]
        for path in home.rglob("*"):
            assert not path.is_file() or not any(one in path.read_bytes() for one in secrets), path
        # Another origin gets nothing.
        text = (home / "juxtalogos.toml").read_text()
        with desk(Issuer) as (elsewhere, stranger):
            stranger.codes, stranger.asked = {}, []
            (home / "juxtalogos.toml").write_text(text.replace(url, elsewhere))
            assert "targets sign-in desk" in jux("call", "listLogs", "-C", home, status=2).err
            assert not stranger.seen or all(status != 200 for _, status in stranger.seen)
        (home / "juxtalogos.toml").write_text(text)
        assert "removed" in jux("targets", "sign-in", "desk", "--forget", "-C", home).out
        jux("call", "listLogs", "-C", home, status=2)


def test_a_refused_sign_in_is_told(tmp_path: Path, jux: Jux) -> None:
    with desk(Issuer) as (url, served):
        served.codes, served.asked, served.refused = {}, [], True
        home = office(tmp_path, jux, url, schemes(url)["device"])
        words = ("targets", "sign-in", "desk", "-C", home)
        assert "--client ID" in jux(*words, status=2).err
        assert "invalid_client" in jux(*words, "--client", "stranger", status=2).err
        assert "was refused" in jux(*words, "--client", CLIENT, status=2).err
        assert "try --by device" in jux(*words, "--by", "browser", status=2).err
        assert not list((tmp_path / "home").rglob("sign-in.json"))


def test_a_ticket_of_kerberos(tmp_path: Path, jux: Jux) -> None:
    """With a library in place of the system's, which has no server of tickets here."""

    class Realm(Desk):
        def lets_in(self) -> bool:
            return self.headers.get("Authorization") == "Negotiate dGlja2V0LTdmM2E="

    stub = tmp_path / "lib" / "spnego"
    stub.mkdir(parents=True)
    (stub / "__init__.py").write_text(
        "class client:\n"
        "    def __init__(self, user, word, *, hostname, service, protocol):\n"
        "        assert (user, word, hostname, service) == (None, None, '127.0.0.1', 'HTTP')\n"
        "    def step(self):\n"
        "        return b'ticket-7f3a'\n"
    )
    with desk(Realm) as (url, _):
        home = office(tmp_path, jux, url, {"type": "http", "scheme": "negotiate"})
        with (home / "juxtalogos.toml").open("a") as config:
            config.write('[targets.desk.credentials.watch]\nheader = "Authorization"\n')
        told = jux("call", "listLogs", "-C", home, env={"PYTHONPATH": str(stub.parent)})
        assert "dGlja2V0" not in told.out + told.err
