"""Fixtures: the built program as a process, the harbour as a real server, definitions and workspaces in
temporary folders.
"""

from __future__ import annotations

import atexit
import json
import os
import select
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from importlib import resources
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import settings

from juxtalogos.demo.planted import planted_names
from juxtalogos.demo.server import KEY, base_url, make_server
from styles.advice import check_advice

# In CI the same examples each time, so that a change is judged and not its luck; elsewhere new ones.
settings.register_profile("here", deadline=None)
settings.register_profile("ci", deadline=None, derandomize=True)
if os.environ.get("CI"):
    settings.load_profile("ci")
else:
    settings.load_profile("here")

TESTS = Path(__file__).parent
ROOT = TESTS.parent
BERTHS = resources.files("juxtalogos.demo").joinpath("berths.yaml").read_text("utf-8")


@dataclass
class Result:
    status: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


def _started(words: list[str], cwd: Path, env: dict[str, str]) -> Result:
    """One call of the built program, started for it."""
    line = [sys.executable, "-m", "juxtalogos", *words]
    done = subprocess.run(line, cwd=cwd, env=env, capture_output=True, timeout=120, stdin=subprocess.DEVNULL)
    return Result(done.returncode, done.stdout.decode(), done.stderr.decode())


class _Forker:
    """Calls of the program as processes that are forked from one that has read it in (forker.py)."""

    def __init__(self) -> None:
        self.process: subprocess.Popen[str] | None = None
        self.lock = threading.Lock()

    def call(self, words: list[str], cwd: Path, env: dict[str, str]) -> Result:
        with tempfile.TemporaryDirectory() as scratch, self.lock:
            if self.process is None:
                line = [sys.executable, str(Path(__file__).with_name("forker.py"))]
                self.process = subprocess.Popen(
                    line, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
                )
                atexit.register(self.process.kill)
            assert self.process.stdin and self.process.stdout
            out, err = Path(scratch, "out"), Path(scratch, "err")
            job = {"words": words, "cwd": str(cwd), "env": env, "out": str(out), "err": str(err)}
            self.process.stdin.write(json.dumps(job) + "\n")
            self.process.stdin.flush()
            ready, _, _ = select.select([self.process.stdout], [], [], 120)
            if not ready:  # its next answer would be taken for that of the next call
                self.process.kill()
                self.process = None
                raise AssertionError(f"no end after two minutes: {words}")
            status = int(self.process.stdout.readline())
            return Result(status, out.read_bytes().decode(), err.read_bytes().decode())


_FORKER = _Forker()


@pytest.fixture
def jux(tmp_path: Path) -> Callable[..., Result]:
    """Runs the program as a process in the test's folder; `status` is what it must exit with."""

    def run(
        *words: object, status: int | None = 0, cwd: Path | None = None, env: dict[str, str] | None = None
    ) -> Result:
        home = tmp_path / "home"
        home.mkdir(exist_ok=True)
        environment = {
            **os.environ,
            "HOME": str(home),
            "XDG_DATA_HOME": str(home / "data"),
            "NO_COLOR": "1",
            "COLUMNS": "100",
            **(env or {}),
        }
        # What changes how Python itself starts needs a start; so do some calls in any case, that it is driven
        # too.
        fresh = (
            any(name.startswith("PYTHON") for name in env or ())
            or not words
            or words[0] in ("demo", "--version", "--help")
        )
        result = (_started if fresh else _FORKER.call)([*map(str, words)], cwd or tmp_path, environment)
        assert "Traceback" not in result.err, result.err
        if not {"--help", "--json", "--raw", "complete"}.intersection(map(str, words)):
            check_advice(result.out + result.err)
        if status is not None:
            assert result.status == status, f"{words}\n{result.out}\n{result.err}"
        return result

    return run


@pytest.fixture(autouse=True)
def own_data(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is trusted is kept for each test by itself, also where a command runs in the
    test's own process.
    """
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "home" / "data"))


@contextmanager
def serving(deviations: str = "none") -> Iterator[str]:
    """The harbour's base URL."""
    server = make_server(0, planted_names(deviations))
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True)
    thread.start()
    try:
        yield base_url(server)
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


@pytest.fixture
def harbour() -> Iterator[str]:
    with serving() as url:
        yield url


@pytest.fixture
def berths(tmp_path: Path, jux: Callable[..., Result]) -> Path:
    """A workspace with the berths contract, without targets."""
    home = tmp_path / "work"
    (tmp_path / "berths.yaml").write_text(BERTHS, "utf-8")
    jux("init", home)
    jux("import", tmp_path / "berths.yaml", "-C", home)
    return home


def trusting(home: Path) -> None:
    """Allows everything that a workspace names, as its user, in the home that the `jux` fixture gives its
    processes.
    """
    from juxtalogos.workspace.trust import Trust

    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("XDG_DATA_HOME", str(home.parent / "home" / "data"))
        trust = Trust(home)
        trust.allow(commands=bool(trust.commands), sends=trust.sends)


def add_target(home: Path, url: str) -> None:
    with (home / "juxtalogos.toml").open("a", encoding="utf-8") as out:
        out.write(
            f'\n[targets.local]\nurl = "{url}"\n\n[targets.local.credentials.harbourKey]\nenv ='
            ' "MERROW_KEY"\n'
        )
    trusting(home)


KEY_ENV = {"MERROW_KEY": KEY}


def definition(paths: Any, *, version: str = "3.0.3", **components: Any) -> str:
    """The text of a small definition."""
    return yaml.safe_dump(
        {
            "openapi": version,
            "info": {"title": "Quay", "version": "1"},
            "paths": paths,
            "components": components,
        },
        sort_keys=False,
    )


def answers(schema: Any = None, status: str = "200", **more: Any) -> dict[str, Any]:
    """`responses` with one JSON answer."""
    content = {"application/json": {"schema": schema}} if schema is not None else {}
    return {status: {"description": "x", **({"content": content} if content else {}), **more}}


def read_contract(text: str, name: str = "quay") -> Any:
    """The contract of a definition given as text."""
    from juxtalogos.documents.load import load_document
    from juxtalogos.formats import format_of
    from juxtalogos.model.errors import DocumentError

    def fetch(uri: str) -> Any:
        if uri != "quay.yaml":
            raise DocumentError("there is no such file", where=uri)
        return load_document(uri, text.encode())

    return format_of(fetch("quay.yaml")).read(name, "quay.yaml", fetch)


def sign(contract: Any, operation: Any, request: Any, credentials: Any) -> tuple[Any, tuple[str, ...]]:
    """(the signed request, schemes without a credential): no flow may ask for a request of its own."""
    import asyncio

    from juxtalogos.documents.uris import origin_alone
    from juxtalogos.exchange.sign_in import Signer
    from juxtalogos.formats import FORMATS

    signer, own = Signer(credentials, {origin_alone(request.url)}), FORMATS[contract.format].sign_in
    signed = asyncio.run(signer.signed(contract, operation, request, own, None))  # type: ignore[arg-type]
    return signed, signer.chosen(contract, operation, own)[1]


@pytest.fixture
def work(berths: Path, harbour: str, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A workspace with the contract `berths` and the target `local`, which is the running harbour, and its
    key.
    """
    monkeypatch.setenv("MERROW_KEY", KEY)
    add_target(berths, harbour)
    return berths


FLEET = """arazzo: 1.0.1
info: {title: fleet, version: '1'}   # kept by the office
sourceDescriptions:
  - {name: berths, type: openapi, url: ../definitions/berths/berths.yaml}
workflows:
  # one vessel from its registration on
  - workflowId: vessel
    steps:
      - stepId: register
        operationId: $sourceDescriptions.berths.registerVessel
        requestBody:
          contentType: application/json
          payload: {name: Grey Tern, kind: bulk, lengthMetres: 118.5}   # as agreed
      - stepId: read
        operationId: $sourceDescriptions.berths.getVessel
        parameters:
          - {name: vesselId, in: path, value: V-1001}
"""


@pytest.fixture
def go(work: Path, jux: Callable[..., Result]) -> Callable[..., Result]:
    """Runs the program in that workspace, which has a suite of two steps, and a table."""
    (work / "suites").mkdir(exist_ok=True)
    (work / "suites" / "fleet.arazzo.yaml").write_text(FLEET)
    (work / "tables").mkdir(exist_ok=True)
    (work / "tables" / "kinds.csv").write_text("kind\nbulk\ntanker\n")
    return lambda *words, status=0: jux(*words, "-C", work, status=status)
