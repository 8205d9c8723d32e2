"""Learning, runs and explorations that are interrupted or killed at any moment: what they made is removed, or
`clean --all` does so, and what is not known is told.
"""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from conftest import Result
from styles.desk import Jux, workspace
from styles.harm import Settings, Store, Tree
from styles.rest import Service

COMMANDS = {
    "learn": ("compose", "quay", "--learn=writing", "--replace"),
    "run": ("run", "--repeat", "20"),
    "explore": ("explore", "quay"),
}


def stopped(words: tuple[str, ...], home: Path, service: Service, after: int, sign: int) -> tuple[int, str]:
    """(exit status, output) of a command that a signal ends when the service has seen so many requests."""
    seen = len(service.seen)
    child = subprocess.Popen(
        [sys.executable, "-m", "juxtalogos", *words, "-C", str(home)],
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        stdin=subprocess.DEVNULL,
        env={**os.environ, "HOME": str(home.parent / "home")},
        text=True,
    )
    while len(service.seen) < seen + after and child.poll() is None:
        time.sleep(0.001)
    child.send_signal(sign)
    told = child.communicate(timeout=60)[0]
    return child.returncode, told


def at_some_moments(command: str, kind: type[Service], home: Path, jux: Jux, moments: int) -> None:
    """The same command again and again, ended at moments drawn by a seed, every second time by a kill."""
    service, rng = kind(), random.Random(f"{command} {kind.__name__}")
    before = service.state()
    with workspace(service, home, jux) as go:
        go("compose", "quay")
        for number in range(moments):
            sign = (signal.SIGKILL, signal.SIGINT)[number % 2]
            after = rng.randint(1, 40)
            status, told = stopped(COMMANDS[command], home, service, after, sign)
            time.sleep(0.05)  # what the service still does
            assert "Traceback" not in told
            if sign == signal.SIGINT and status == 130:
                assert service.state() == before, (number, told)
                if command == "learn":
                    assert "written:" in told
            left = go("clean", "--all", "--json")
            assert service.state() == before or _told(left, service, before), (
                number,
                sign,
                after,
                told,
                left.out,
            )


def _told(left: Result, service: Service, before: object) -> bool:
    """Whether what is still there may be what a creation made that was killed before its answer: that is told
    as not known.
    """
    return any("not known" in row["why"] for row in json.loads(left.out)["left"])


@pytest.mark.parametrize("command", COMMANDS)
def test_stopped_at_a_few_moments(command: str, tmp_path: Path, jux: Jux) -> None:
    at_some_moments(command, Store, tmp_path / "w", jux, 4)


@pytest.mark.slow
@pytest.mark.parametrize("kind", [Store, Tree, Settings])
@pytest.mark.parametrize("command", COMMANDS)
def test_stopped_at_thirty_moments(command: str, kind: type[Service], tmp_path: Path, jux: Jux) -> None:
    at_some_moments(command, kind, tmp_path / "w", jux, 30)
