"""Services that nobody here wrote, and that publish a definition: how far compose gets by itself. Slow; run
where the programs are installed.

pip install kinto jupyter-server; pytest -m slow tests/compose/test_reach_real.py
"""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from importlib.util import find_spec
from pathlib import Path

import pytest

from conftest import Result

Jux = Callable[..., Result]
SETTINGS = """[app:main]
use = egg:kinto
kinto.storage_backend = kinto.core.storage.memory
kinto.cache_backend = kinto.core.cache.memory
kinto.permission_backend = kinto.core.permission.memory
kinto.bucket_create_principals = system.Everyone
multiauth.policies = basicauth
kinto.userid_hmac_secret = merrow
[server:main]
use = egg:waitress#main
host = 127.0.0.1
port = {port}
[loggers]
keys = root
[handlers]
keys =
[formatters]
keys =
[logger_root]
level = ERROR
handlers =
"""


@contextmanager
def running(words: list[str], url: str, cwd: Path) -> Iterator[None]:
    """A program while it answers."""
    child = subprocess.Popen(
        words, cwd=cwd, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL
    )
    try:
        for _ in range(300):
            try:
                urllib.request.urlopen(url, timeout=2)
                break
            except OSError:
                time.sleep(0.2)
        yield
    finally:
        child.terminate()
        child.wait(20)


def free_port() -> int:
    with socket.socket() as trial:
        trial.bind(("127.0.0.1", 0))
        return int(trial.getsockname()[1])


def learned(jux: Jux, home: Path, source: object, url: str, *credential: str) -> tuple[int, int, int]:
    """(operations answered with success, operations tried, requests)."""
    env = {"DESK_PASSWORD": "tern-4711"}
    jux("init", home)
    jux("import", source, "--name", "it", "--allow-private", "-C", home, status=None)
    jux("targets", "set", "local", url, "-C", home)
    if credential:
        jux("targets", "set", "local", "--credential", *credential, "-C", home, env=env)
    found = jux("compose", "it", "--learn=writing", "--json", "-C", home, env=env).json["learned"]
    ran = jux("run", "--json", "-C", home, env=env, status=None).json
    assert not ran["leftBehind"]
    return len(found["worked"]), len(found["worked"]) + len(found["notReached"]), found["requests"]


@pytest.mark.slow
@pytest.mark.skipif(find_spec("kinto") is None, reason="kinto is not installed")
def test_a_store_of_records(tmp_path: Path, jux: Jux) -> None:
    port = free_port()
    (tmp_path / "kinto.ini").write_text(SETTINGS.format(port=port))
    base = f"http://127.0.0.1:{port}/v1"
    with running(
        [str(Path(sys.executable).with_name("kinto")), "start", "--ini", "kinto.ini"], f"{base}/", tmp_path
    ):
        (tmp_path / "it.json").write_bytes(urllib.request.urlopen(f"{base}/__api__").read())
        worked, tried, requests = learned(
            jux, tmp_path / "w", tmp_path / "it.json", base, "basicauth=merrow:env:DESK_PASSWORD"
        )
        left = json.loads(urllib.request.urlopen(f"{base}/buckets").read())["data"]
    assert worked >= 0.9 * tried and requests <= 15 * tried and not left


@pytest.mark.slow
@pytest.mark.skipif(find_spec("jupyter_server") is None, reason="jupyter-server is not installed")
def test_a_server_of_notebooks(tmp_path: Path, jux: Jux) -> None:
    import jupyter_server

    root, port = tmp_path / "root", free_port()
    root.mkdir()
    (root / "a.ipynb").write_text('{"cells": [], "metadata": {}, "nbformat": 4, "nbformat_minor": 5}')
    words = [
        sys.executable,
        "-m",
        "jupyter_server",
        "--no-browser",
        f"--port={port}",
        "--IdentityProvider.token=",
        "--ServerApp.disable_check_xsrf=True",
        "--allow-root",
        f"--ServerApp.root_dir={root}",
    ]
    with running(words, f"http://127.0.0.1:{port}/api/", tmp_path):
        source = Path(jupyter_server.__file__).parent / "services" / "api" / "api.yaml"
        worked, tried, requests = learned(jux, tmp_path / "w", source, f"http://127.0.0.1:{port}")
    assert worked >= 0.6 * tried and requests <= 10 * tried, "what needs a kernel needs one that is installed"
    # A folder for checkpoints is of the service's own making.
    assert [one.name for one in root.iterdir() if one.name != ".ipynb_checkpoints"] == ["a.ipynb"]
