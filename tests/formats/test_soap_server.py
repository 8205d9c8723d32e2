"""Against a SOAP server that is not ours: PHP's SoapServer, with a WSDL of document, rpc
and encoded style.
"""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from conftest import TESTS, Result

Jux = Callable[..., Result]
SERVER = TESTS / "php" / "locks.php"


def _php() -> str:
    found = shutil.which("php")
    loaded = subprocess.run([found, "-m"], capture_output=True, text=True).stdout.split() if found else []
    if found is None or "soap" not in loaded:
        if os.environ.get("CI"):
            pytest.fail("php with soap is missing; .ci/run installs it")
        pytest.skip("php with soap is missing (Debian packages php-cli, php-soap)")
    return found


@contextmanager
def locks(state: str, odd: str = "") -> Iterator[str]:
    """The base URL of the locks, served by PHP."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    environment = {**os.environ, "STATE": state, "ODD": odd}
    command = [_php(), "-S", f"127.0.0.1:{port}", str(SERVER)]
    process = subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        for _ in range(100):
            with socket.socket() as trial:
                if trial.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.05)
        yield f"http://127.0.0.1:{port}"
    finally:
        process.terminate()
        process.wait(10)


def test_every_operation_passes_and_planted_faults_are_found(tmp_path: Path, jux: Jux) -> None:
    home = tmp_path / "work"
    jux("init", home)
    with locks(tmp_path.name) as url:
        read = jux("import", f"{url}/?wsdl", "--name", "locks", "--allow-private", "-C", home)
        assert "6 operations" in read.out
        jux("targets", "set", "php", url, "-C", home)
        jux("compose", "locks", "-C", home)
        ran = jux("run", "--json", "-C", home).json
        assert {case["verdict"] for case in ran["cases"]} == {"passed"} and len(ran["cases"]) == 8
        table = jux("coverage", "-C", home).out
        assert (
            "operations                   6         6    100.0" in table
            and "faults                       1         1" in table
        )
    with locks(tmp_path.name, "chamber,level,plainfault") as url:
        jux("targets", "set", "php", url, "-C", home)
        found = jux("run", "--json", "-C", home, status=1).json
        kinds = {(one["operation"], one["kind"], one["at"]) for one in found["findings"]}
        assert kinds == {
            ("bookPassage", "body.enum", "body/passage/chamber"),
            ("level", "body.type", "body/level"),
            ("getPassage", "body.required", "body/detail/NoSuchPassage"),
        }
