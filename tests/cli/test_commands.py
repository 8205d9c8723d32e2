"""The commands as a process: bad input with its one message and status, and the walk of a new user."""

from __future__ import annotations

import json
import os
import shutil
import signal
import socket
import ssl
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest
import yaml

from conftest import KEY_ENV, ROOT, Result, add_target, answers, definition, serving
from juxtalogos.cli.parsing import COMMANDS, build_parser, parsers_below

Jux = Callable[..., Result]


@pytest.fixture
def ready(berths: Path, harbour: str) -> Path:
    add_target(berths, harbour)
    return berths


BAD: list[tuple[str, list[str], int, str]] = [
    ("no command", ["walk"], 2, "there is no command 'walk'"),
    ("no run", ["report", "-C", "{w}"], 2, "there is no run yet"),
    ("no workspace", ["show", "-C", "/"], 2, "make one: juxtalogos init"),
    ("missing file", ["import", "none.yaml", "-C", "{w}"], 2, "there is no such file or folder"),
    ("not YAML", ["import", "{t}/bad.yaml", "-C", "{w}"], 2, "bad.yaml:2: not YAML"),
    (
        "another kind of YAML",
        ["import", "{t}/other.yaml", "-C", "{w}"],
        2,
        "no service definition: a mapping with the keys services, volumes",
    ),
    ("unknown version", ["import", "{t}/version.yaml", "-C", "{w}"], 2, "unknown OpenAPI version 9.9.9"),
    (
        "a folder without a definition",
        ["import", "{t}/empty", "-C", "{w}"],
        2,
        "no definition is in this folder",
    ),
    (
        "bad contract name",
        ["import", "{t}/berths.yaml", "--name", "a b", "-C", "{w}"],
        2,
        "is no contract name",
    ),
    ("unknown operation", ["show", "getBert", "-C", "{w}"], 2, "did you mean getBerth"),
    ("unknown operation of a contract", ["show", "berths:getBert", "-C", "{w}"], 2, "did you mean getBerth"),
    (
        "bad --set",
        ["call", "getBerth", "--set", "berth", "--target", "http://127.0.0.1:9", "-C", "{w}"],
        2,
        "has no '='",
    ),
    (
        "unknown address",
        ["call", "getBerth", "--set", "berth=1", "--target", "http://127.0.0.1:9", "-C", "{w}"],
        2,
        "did you mean path.berthId",
    ),
    ("no target", ["call", "getBerth", "-C", "{w}"], 2, "no target is named"),
    ("unknown target", ["run", "--target", "locl", "-C", "{w}"], 2, "there are no suites"),
    ("bad target URL", ["targets", "set", "x", "htp:/foo", "-C", "{w}"], 2, "is no base URL"),
    (
        "a password in a URL",
        ["targets", "set", "x", "http://a:b@h/", "-C", "{w}"],
        2,
        "holds no user or password",
    ),
    (
        "refused connection",
        ["call", "getBerth", "--target", "http://127.0.0.1:9", "-C", "{w}"],
        3,
        "127.0.0.1:9 refused the connection",
    ),
    (
        "unknown host",
        ["call", "getBerth", "--target", "http://merrow.invalid", "-C", "{w}"],
        3,
        "merrow.invalid",
    ),
    ("no such run", ["coverage", "77", "-C", "{w}"], 2, "there is no run 77"),
    ("no such exchange", ["exchanges", "77", "-C", "{w}"], 2, "there is no exchange 77"),
    (
        "unknown suite",
        ["run", "berth", "--target", "http://127.0.0.1:9", "-C", "{w}"],
        2,
        "there is no suite berth",
    ),
    (
        "no body file",
        ["call", "announcePortCall", "--body-file", "none", "--target", "http://127.0.0.1:9", "-C", "{w}"],
        2,
        "cannot be read",
    ),
    (
        "bad header",
        ["call", "getBerth", "--header", "x", "--target", "http://127.0.0.1:9", "-C", "{w}"],
        2,
        "is no header field",
    ),
    ("no body to write", ["skeleton", "getBerth", "--form", "body", "-C", "{w}"], 2, "takes no body"),
    (
        "unknown option",
        ["coverage", "--requires", "-C", "{w}"],
        2,
        "did you mean --require?; see juxtalogos coverage --help",
    ),
    ("a workspace twice", ["init", "{w}"], 2, "is a workspace already"),
    ("unknown deviation", ["demo", "--deviations", "statis"], 2, "did you mean status"),
]


def test_bad_input_ends_in_one_message_and_its_status(berths: Path, tmp_path: Path, jux: Jux) -> None:
    (tmp_path / "bad.yaml").write_text("openapi: 3.0.3\npaths: [}\n", "utf-8")
    (tmp_path / "other.yaml").write_text("services: {}\nvolumes: {}\n", "utf-8")
    (tmp_path / "version.yaml").write_text("openapi: 9.9.9\npaths: {}\n", "utf-8")
    (tmp_path / "empty").mkdir()
    before = sorted(str(path) for path in (berths / "definitions").rglob("*"))
    wrong = []
    for name, words, status, message in BAD:
        result = jux(*[word.format(w=berths, t=tmp_path) for word in words], status=None)
        if result.status != status or message not in result.out + result.err:
            wrong.append((name, result.status, result.out[-200:], result.err))
    assert wrong == []
    assert sorted(str(path) for path in (berths / "definitions").rglob("*")) == before


CONFIGS: list[tuple[str, str]] = [
    (
        "version = 1\n[target.local]\nurl = 'http://h'",
        "juxtalogos.toml:2: unknown key target\n  did you mean targets?",
    ),
    (
        "version = 1\n[targets.local]\nurl = 'http://h'\ntimout = 3",
        "juxtalogos.toml:4: unknown key targets.local.timout\n  did you mean timeout",
    ),
    ("version = 2", "juxtalogos.toml:1: version: 1 expected, integer 2 found"),
    ("version = 1\n[targets.local]\nurl = 'ftp://h'", "juxtalogos.toml:3: ftp://h is no base URL"),
    (
        "version = 1\n[targets.local.system]\nstart = 'python server.py'",
        "targets.local.system.start: array expected",
    ),
    ("version = 1\n[targets", "not TOML"),
]


@pytest.mark.parametrize(("text", "words"), CONFIGS)
def test_faults_of_the_configuration(tmp_path: Path, jux: Jux, text: str, words: str) -> None:
    (tmp_path / "juxtalogos.toml").write_text(text, "utf-8")
    assert words in jux("targets", status=2).err


def test_the_walk_of_a_new_user(ready: Path, tmp_path: Path, jux: Jux) -> None:
    place = ("-C", ready)
    assert "berths    openapi 3.0.3          20" in jux("show", *place).out
    shown = jux("show", "announcePortCall", *place).out
    for words in (
        "body/cargo/0/tonnes",
        "at least 1; at most 200000",
        'one of "none", "flammable", "corrosive"',
        "header.X-Agent",
        "response 201",
        "response 404",
    ):
        assert words in shown, words
    message = tmp_path / "announce.http"
    message.write_text(
        jux("skeleton", "announcePortCall", "--set", "body/vesselId=V-1002", *place).out.replace(
            "06:30", "07:45"
        ),
        "utf-8",
    )
    sent = jux("call", "announcePortCall", "--message", message, "--json", *place, env=KEY_ENV).json
    assert sent["verdict"] == "passed" and "07:45" in sent["response"]["body"]
    called = jux(
        "call", "getPortCall", "--set", "callId=PC-1002", "--save", "first#look", *place, env=KEY_ENV
    )
    assert (
        "GET /v1/port-calls/PC-1002" in called.out and "traceparent" in called.out and "passed" in called.out
    )
    suite = ready / "suites" / "first.arazzo.yaml"
    suite.write_text("# by hand\n" + suite.read_text("utf-8"), "utf-8")
    jux("call", "listTides", "--save", "first#look", *place, env=KEY_ENV)
    saved = yaml.safe_load(suite.read_text("utf-8"))
    assert suite.read_text("utf-8").startswith("# by hand")
    assert [step["stepId"] for step in saved["workflows"][0]["steps"]] == ["getPortCall", "listTides"]
    jux("compose", *place)
    first = (ready / "suites" / "berths.arazzo.yaml").read_bytes()
    assert "--replace" in jux("compose", "--suite", "first", *place, status=2).err
    jux("compose", *place)
    assert (ready / "suites" / "berths.arazzo.yaml").read_bytes() == first
    run = jux("run", "--json", "--jobs", "8", *place, env=KEY_ENV).json
    assert (run["verdict"], run["findings"]) == ("passed", [])
    assert {case["suite"] for case in run["cases"]} == {"berths", "first"}
    step = jux("run", "berths#closePortCall#handleLines", "--json", *place, env=KEY_ENV).json
    assert step["cases"][0]["verdict"] == "passed"
    coverage = jux("coverage", "--json", *place).json["contracts"][0]
    assert coverage["total"]["percent"] < 60
    assert jux("coverage", str(run["run"]), "--require", "50", *place).out
    jux("coverage", str(run["run"]), "--require", "99", *place, status=1)
    gaps = jux("coverage", str(run["run"]), "--gaps", *place).out
    assert 'VesselKind = "tanker"' in gaps and "berths.yaml:" in gaps
    junit = ElementTree.fromstring(jux("report", str(run["run"]), "--form", "junit", "-o", "-", *place).out)
    assert sum(int(suite.get("tests", 0)) for suite in junit) == len(run["cases"])
    html = Path(jux("report", str(run["run"]), "--json", *place).json["path"]).read_text("utf-8")
    assert "default-src &#39;none&#39;" in html and "Every check passed" in html
    rows = jux(
        "exchanges", "--run", run["run"], "--method", "delete", "--status", "2XX", "--json", *place
    ).json["exchanges"]
    assert rows and {row["method"] for row in rows} == {"DELETE"}
    assert "check" in jux("exchanges", rows[0]["exchange"], *place).out
    assert [row["kind"] for row in jux("runs", "--calls", "--json", *place).json["runs"]].count("call") == 3


def test_findings_of_a_run_and_their_fingerprints(berths: Path, jux: Jux) -> None:
    found = []
    jux("compose", "-C", berths)
    for _ in range(2):
        with serving("length,reference") as url:
            result = jux("run", "--target", url, "--json", "--no-credentials", "-C", berths, status=1).json
            found.append(
                {
                    (finding["fingerprint"], finding["kind"], finding["operation"], finding["line"])
                    for finding in result["findings"]
                    if finding["kind"].startswith("body")
                }
            )
    assert found[0] == found[1]
    assert {one[1:3] for one in found[0]} == {("body.type", "getVessel"), ("body.pattern", "allotBerth")}


def test_secrets_reach_neither_ledger_nor_report_nor_terminal(ready: Path, jux: Jux) -> None:
    secret = KEY_ENV["MERROW_KEY"]
    texts = []
    for words in (
        ["call", "listNotices"],
        [
            "call",
            "announcePortCall",
            "--full",
            "--set",
            "body/contactPassword=mole-and-tide",
            "--set",
            "body/vesselId=V-1001",
        ],
    ):
        result = jux(*words, "-C", ready, env=KEY_ENV)
        texts.append(result.out + result.err)
    assert "[redacted]" in texts[0] and "[redacted]" in texts[1]
    jux("compose", "-C", ready)
    jux("run", "-C", ready, env=KEY_ENV)
    jux("report", "-C", ready)
    files = [path.read_bytes() for path in ready.rglob("*") if path.is_file()]
    assert not any(secret.encode() in content or b"mole-and-tide" in content for content in files)
    assert not any(secret in text or "mole-and-tide" in text for text in texts)


def test_an_unset_credential_variable(ready: Path, jux: Jux) -> None:
    result = jux("call", "listNotices", "-C", ready, status=2, env={"MERROW_KEY": ""})
    assert "the environment variable MERROW_KEY is not set" in result.err
    assert (
        jux("call", "listNotices", "--no-credentials", "--json", "-C", ready).json["response"]["status"]
        == 401
    )


def test_credentials_go_to_the_targets_origins_only(ready: Path, jux: Jux) -> None:
    with serving() as elsewhere:
        (ready / "juxtalogos.toml").write_text(
            (ready / "juxtalogos.toml").read_text("utf-8") + f'\n[targets.far]\nurl = "{elsewhere}"\n',
            "utf-8",
        )
        told = jux(
            "call", "listNotices", "--target", "far", "--json", "-C", ready, env=KEY_ENV, status=1
        ).json
        assert (
            told["response"]["status"] == 401
            and told["verdict"] == "failed"
            and "sent without a credential" in told["reason"]
        )


def test_a_written_criterion_steers_the_case(ready: Path, jux: Jux) -> None:
    suite = {
        "arazzo": "1.0.1",
        "info": {"title": "x", "version": "1"},
        "sourceDescriptions": [
            {"name": "berths", "url": "../definitions/berths/berths.yaml", "type": "openapi"}
        ],
        "workflows": [
            {
                "workflowId": "steered",
                "inputs": {
                    "type": "object",
                    "properties": {"vessel": {"type": "string", "default": "V-1001"}},
                },
                "steps": [
                    {
                        "stepId": "one",
                        "operationId": "getVessel",
                        "parameters": [{"name": "vesselId", "in": "path", "value": "$inputs.vessel"}],
                        "successCriteria": [
                            {"condition": "$statusCode == 200 && $response.body#/kind == 'GENERAL'"},
                            {"context": "$response.body#/name", "type": "regex", "condition": "^Grey"},
                        ],
                        "outputs": {"name": "$response.body#/name", "none": "$response.body#/nothing"},
                    },
                    {
                        "stepId": "needs",
                        "operationId": "getVessel",
                        "parameters": [
                            {"name": "vesselId", "in": "path", "value": "$steps.one.outputs.none"}
                        ],
                    },
                    {"stepId": "after", "operationId": "listBerths"},
                    {"stepId": "clean", "operationId": "listVessels", "x-juxtalogos-always": True},
                ],
            },
            {
                "workflowId": "unmet",
                "steps": [
                    {
                        "stepId": "a",
                        "operationId": "listBerths",
                        "successCriteria": [{"condition": "$response.body#/0/quay == 'Nowhere'"}],
                    },
                    {"stepId": "b", "operationId": "listBerths"},
                ],
            },
        ],
    }
    (ready / "suites" / "s.arazzo.yaml").write_text(yaml.safe_dump(suite, sort_keys=False), "utf-8")
    result = jux("run", "s", "--json", "-C", ready, status=1, env=KEY_ENV).json
    assert {case["case"]: case["verdict"] for case in result["cases"]} == {
        "steered": "skipped",
        "unmet": "failed",
    }
    steps = {row["step"]: row for row in jux("exchanges", "--json", "-C", ready).json["exchanges"]}
    assert [steps[name]["verdict"] for name in ("one", "needs", "after", "clean", "a", "b")] == [
        "passed",
        "skipped",
        "skipped",
        "passed",
        "failed",
        "skipped",
    ]
    assert steps["needs"]["reason"] == "no value for $steps.one.outputs.none"
    (finding,) = result["expectations"]
    assert result["findings"] == [] and result["counts"]["expectations"] == 1
    assert (
        finding["kind"] == "criterion.unmet"
        and finding["observed"] == '$response.body#/0/quay is "Fish Quay"'
    )
    jux("run", "s#steered", "--set", "vessel=V-1002", "--json", "-C", ready, status=1, env=KEY_ENV)


def _bad_suite(change: Callable[[Any], None]) -> str:
    suite: Any = {
        "arazzo": "1.0.1",
        "info": {"title": "x", "version": "1"},
        "sourceDescriptions": [{"name": "berths", "url": "../definitions/berths/berths.yaml"}],
        "workflows": [
            {
                "workflowId": "w",
                "steps": [
                    {
                        "stepId": "a",
                        "operationId": "getBerth",
                        "parameters": [{"name": "berthId", "in": "path", "value": "B4"}],
                        "successCriteria": [{"condition": "$statusCode == 200"}],
                    }
                ],
            }
        ],
    }
    change(suite)
    return yaml.safe_dump(suite, sort_keys=False)


def _step(**more: Any) -> Callable[[Any], None]:
    return lambda suite: suite["workflows"][0]["steps"][0].update(more)


SUITES: list[tuple[str, Callable[[Any], None], str]] = [
    ("no Arazzo", lambda suite: suite.pop("arazzo"), "no Arazzo 1.0 document"),
    ("unknown operation", _step(operationId="getBert"), "did you mean getBerth"),
    ("unknown source", _step(operationId="$sourceDescriptions.berth.getBerth"), "did you mean berths"),
    (
        "unknown parameter",
        _step(parameters=[{"name": "berth", "in": "path", "value": 1}]),
        "did you mean path.berthId",
    ),
    ("a broken condition", _step(successCriteria=[{"condition": "$statusCode = 200"}]), "            ^"),
    (
        "an unknown expression",
        _step(successCriteria=[{"condition": "$status == 200"}]),
        "no runtime expression",
    ),
    (
        "a step that does not come before",
        _step(parameters=[{"name": "berthId", "in": "path", "value": "$steps.b.outputs.x"}]),
        "does not come before",
    ),
    (
        "a broken pattern",
        _step(successCriteria=[{"context": "$response.body", "type": "regex", "condition": "["}]),
        "no regular expression",
    ),
    ("an unknown key", _step(succesCriteria=[]), "did you mean successCriteria"),
    (
        "two operations",
        _step(operationPath="{$sourceDescriptions.berths.url}#/paths/~1berths/get"),
        "exactly one of",
    ),
    ("no steps", lambda suite: suite["workflows"][0].update(steps=[]), "list of one or more"),
    ("a case twice", lambda suite: suite["workflows"].append(suite["workflows"][0]), "stands 2 times"),
    (
        "an unknown contract",
        lambda suite: suite["sourceDescriptions"][0].update(name="x", url="https://merrow.invalid/x.yaml"),
        "is no imported contract",
    ),
]


def test_bad_suites_are_told_before_anything_is_sent(
    ready: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    from juxtalogos.cli.main import main

    monkeypatch.setenv("MERROW_KEY", "x" * 8)
    wrong = []
    for name, change, words in SUITES:
        (ready / "suites" / "bad.arazzo.yaml").write_text(_bad_suite(change), "utf-8")
        status = main(["run", "-C", str(ready)])
        err = capsys.readouterr().err
        if status != 2 or words not in err or "suites/bad.arazzo.yaml:" not in err:
            wrong.append((name, status, err))
    assert wrong == []
    assert main(["runs", "--json", "-C", str(ready)]) == 0
    assert json.loads(capsys.readouterr().out)["runs"] == []


def test_an_interrupt_keeps_what_was_done(berths: Path, tmp_path: Path, jux: Jux) -> None:
    class Slow(threading.Thread):
        def __init__(self) -> None:
            super().__init__(daemon=True)
            self.listener = socket.create_server(("127.0.0.1", 0))
            self.answered = 0

        def run(self) -> None:
            while True:
                connection, _ = self.listener.accept()
                threading.Thread(target=self.serve, args=(connection,), daemon=True).start()

        def serve(self, connection: socket.socket) -> None:
            with connection:
                while connection.recv(65536):
                    time.sleep(0.15)
                    connection.sendall(
                        b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: 2\r\n\r\n[]"
                    )
                    self.answered += 1

    slow = Slow()
    slow.start()
    jux("compose", "-C", berths)
    url = f"http://127.0.0.1:{slow.listener.getsockname()[1]}"
    command = [sys.executable, "-m", "juxtalogos", "run", "--jobs", "2", "--target", url, "-C", str(berths)]
    process = subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, env={**os.environ, "NO_COLOR": "1"}
    )
    while slow.answered < 6 and process.poll() is None:
        time.sleep(0.05)
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=30)
    slow.listener.close()
    assert process.returncode == 130, err
    assert b"interrupted" in out
    (run,) = jux("runs", "--json", "-C", berths).json["runs"]
    assert run["interrupted"] and run["exchanges"] >= 4


def test_commands_of_a_workspace_run_only_when_trusted(berths: Path, tmp_path: Path, jux: Jux) -> None:
    port = _free_port()
    script = tmp_path / "log.py"
    script.write_text(
        "import sys, pathlib; pathlib.Path(sys.argv[1]).open('a').write(sys.argv[2] + '\\n')\n", "utf-8"
    )
    log = tmp_path / "log.txt"
    start = json.dumps(
        [sys.executable, "-m", "juxtalogos.demo.server", "--port", str(port), "--deviations", "none"]
    )
    system = f'start = {start}\nready = "http://127.0.0.1:{port}/ready"\n' + "".join(
        f"{name} = {json.dumps([sys.executable, str(script), str(log), name])}\n"
        for name in ("reset", "stop")
    )
    config = berths / "juxtalogos.toml"
    config.write_text(
        config.read_text("utf-8")
        + f'\n[targets.own]\nurl = "http://127.0.0.1:{port}/v1"\n[targets.own.system]\n{system}',
        "utf-8",
    )
    with serving() as url:
        jux("call", "listBerths", "--target", url, "--save", "s#one", "-C", berths)
    untrusted = jux("run", "--target", "own", "-C", berths, status=2)
    assert "are not trusted" in untrusted.err and not log.exists()
    digest = jux("trust", "--show", "--json", "-C", berths, status=1).json["digest"]
    assert digest in untrusted.err
    jux("run", "--target", "own", "--trust", digest, "-C", berths)
    assert log.read_text("utf-8").split() == ["reset", "stop"]
    jux("trust", "-C", berths)
    jux("run", "--target", "own", "-C", berths)
    config.write_text(config.read_text("utf-8").replace('"stop"', '"halt"'), "utf-8")
    jux("run", "--target", "own", "-C", berths, status=2)
    with pytest.raises(OSError):
        socket.create_connection(("127.0.0.1", port), timeout=1)


def _free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as listener:
        return int(listener.getsockname()[1])


def test_time_outs_and_broken_tls(berths: Path, tmp_path: Path, jux: Jux) -> None:
    silent = socket.create_server(("127.0.0.1", 0))
    plain = silent.getsockname()[1]
    config = berths / "juxtalogos.toml"
    config.write_text(
        config.read_text("utf-8") + f'\n[targets.silent]\nurl = "http://127.0.0.1:{plain}"\ntimeout = 0.5\n',
        "utf-8",
    )
    assert (
        "sent no response within 0.5 s"
        in jux("call", "listBerths", "--target", "silent", "-C", berths, status=3).out
    )
    assert "http://127.0.0.1" in jux("targets", "-C", berths).out
    silent.close()
    if shutil.which("openssl") is None:
        missing = pytest.fail if os.environ.get("CI") else pytest.skip
        missing("openssl is missing (Debian package openssl)")
    key, certificate = tmp_path / "key.pem", tmp_path / "cert.pem"
    subprocess.run(
        [
            "openssl",
            "req",
            "-x509",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-keyout",
            key,
            "-out",
            certificate,
            "-days",
            "2",
            "-subj",
            "/CN=quay",
            "-addext",
            "subjectAltName=IP:127.0.0.1",
        ],
        check=True,
        capture_output=True,
    )
    from juxtalogos.demo.server import make_server

    server = make_server(0, frozenset())
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate, key)
    server.socket = context.wrap_socket(server.socket, server_side=True)
    server.handle_error = lambda *_: None  # type: ignore[method-assign]
    threading.Thread(target=server.serve_forever, daemon=True).start()
    port = server.server_address[1]
    refused = jux(
        "call", "listBerths", "--target", f"https://127.0.0.1:{port}/v1", "-C", berths, status=3
    ).out
    assert "TLS with 127.0.0.1" in refused and "self-signed" in refused
    config.write_text(
        config.read_text("utf-8")
        + f'\n[targets.tls]\nurl = "https://127.0.0.1:{port}/v1"\nca-file = "../cert.pem"\n',
        "utf-8",
    )
    jux("trust", "-C", berths)
    assert jux("call", "listBerths", "--target", "tls", "--json", "-C", berths).json["verdict"] == "passed"
    message = tmp_path / "m.http"
    message.write_text("GET /v1/berths HTTP/1.1\nHost: quay\nConnection: close\n\n", "utf-8")
    assert (
        jux("call", "listBerths", "--target", "tls", "--message", message, "--json", "-C", berths).json[
            "verdict"
        ]
        == "passed"
    )
    server.shutdown()
    server.server_close()


def test_verdicts_unproven_and_strict(tmp_path: Path, jux: Jux) -> None:
    paths = {
        "/v1/berths": {
            "get": {
                "operationId": "x",
                "responses": {"default": {"description": "anything", "content": {"application/json": {}}}},
            }
        }
    }
    (tmp_path / "x.yaml").write_text(definition(paths), "utf-8")
    jux("init", "w")
    jux("import", "x.yaml", "-C", "w")
    with serving() as url:
        base = url.removesuffix("/v1")
        called = jux("call", "x", "--target", base, "--json", "-C", "w").json
        assert (called["verdict"], called["reason"]) == (
            "unproven",
            "no check that passed could have failed on this response",
        )
        jux("call", "x", "--target", base, "--save", "s#c", "--expect", "any", "-C", "w")
        jux("run", "--target", base, "-C", "w")
        jux("run", "--target", base, "--strict", "-C", "w", status=1)
    (tmp_path / "y.yaml").write_text(
        definition({"/v1/berths": {"get": {"operationId": "y", "responses": answers(None)}}}), "utf-8"
    )
    jux("import", "y.yaml", "-C", "w")


def test_dependencies_can_be_corrected(berths: Path, jux: Jux) -> None:
    found = jux("compose", "--dependencies", "--json", "-C", berths).json["dependencies"]
    assert {one["reason"].partition(":")[0] for one in found} == {"link", "path", "schema"}
    config = berths / "juxtalogos.toml"
    rules = (
        '\n[[contracts.berths.dependencies]]\noperation = "getBerth"\ninput = "path.berthId"\ndrop = true\n'
    )
    rules += (
        '\n[[contracts.berths.dependencies]]\noperation = "getVessel"\ninput = "path.vesselId"\nfrom ='
        ' "listVessels"\nvalue = "$response.body#/items/0/vesselId"\n'
    )
    config.write_text(config.read_text("utf-8") + rules, "utf-8")
    changed = {
        (one["operation"], one["input"]): one
        for one in jux("compose", "--dependencies", "--json", "-C", berths).json["dependencies"]
    }
    assert ("getBerth", "path.berthId") not in changed
    assert changed[("getVessel", "path.vesselId")]["reason"] == "configured"
    config.write_text(config.read_text("utf-8") + rules.replace("getBerth", "getBert"), "utf-8")
    assert "did you mean getBerth" in jux("compose", "-C", berths, status=2).err


@pytest.mark.parametrize(
    ("deviations", "status"),
    [("all", 0), ("none", 0), pytest.param("length,quotes", 0, marks=pytest.mark.slow)],
)
def test_the_demo_finds_exactly_what_is_planted(
    tmp_path: Path, jux: Jux, deviations: str, status: int
) -> None:
    result = jux("demo", "--deviations", deviations, "--into", tmp_path / "d", status=status)
    assert "0 findings missed, 0 too many" in result.out
    assert list((tmp_path / "d" / "reports").glob("*.html"))


def test_help_and_start_up(jux: Jux) -> None:
    top = jux("--help").out
    for name in COMMANDS:
        assert name in top
        verbs = parsers_below(parsers_below(build_parser(name))[name])
        assert "example:\n  juxtalogos" in jux(name, "--help").out
        for words in [(verb,) for verb in verbs] or [()]:
            shown = jux(name, *words, "--help").out
            assert "example:\n  juxtalogos" in shown and "-C DIR" in shown
    count = subprocess.run(
        [
            sys.executable,
            "-c",
            "import sys; from juxtalogos.cli.main import main; main(['--version']); print(len(sys.modules))",
        ],
        capture_output=True,
        text=True,
        check=True,
    )
    assert int(count.stdout.split()[-1]) < 130
    assert (
        "rich"
        not in subprocess.run(
            [sys.executable, "-X", "importtime", "-m", "juxtalogos", "--version"],
            capture_output=True,
            text=True,
            check=True,
        ).stderr
    )


def test_every_command_and_option_is_documented(jux: Jux) -> None:
    text = (ROOT / "docs" / "commands.md").read_text("utf-8")
    for name in COMMANDS:
        verbs = parsers_below(parsers_below(build_parser(name))[name])
        for words in ((), *((verb,) for verb in verbs)):
            shown = jux(name, *words, "--help").out.strip()
            assert shown in text, (
                f"docs/commands.md is not what `{name} --help` says; run: python docs/make_commands.py"
            )


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("targets", "list", "--client", "x"), "--client is for `targets sign-in`"),
        (("targets", "set", "local", "http://127.0.0.1:1", "--forget"), "--forget is for `targets sign-in`"),
        (("targets", "sign-in", "local", "http://127.0.0.1:1"), "a base URL is for `targets set`"),
        (("targets", "check", "local", "--credential", "a=env:B"), "--credential is for `targets set`"),
        (("import", "--list"), "no source given"),
        (("import", "--list", "--refresh"), "exclude each other"),
        (("call", "--url", "http://127.0.0.1:1", "--header", "X-Key=env:HOME"), "is no header field"),
    ],
)
def test_what_would_be_ignored_is_refused(words: tuple[str, ...], told: str, berths: Path, jux: Jux) -> None:
    assert told in jux(*words, "-C", berths, status=2).err
