"""What was kept stays, and what interrupts is told in a word: signals at any moment, a
damaged ledger, kills.
"""

from __future__ import annotations

import json
import os
import random
import resource
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from conftest import Result, add_target, serving

Jux = Callable[..., Result]


@pytest.fixture
def kept(berths: Path, jux: Jux) -> Path:
    """A workspace with a suite and two runs of it."""
    with serving() as url:
        add_target(berths, url)
        for berth in ("B1", "B2", "B4"):
            jux(
                "call",
                "getBerth",
                "--no-credentials",
                "--set",
                f"berthId={berth}",
                "--save",
                "all#one",
                "-C",
                berths,
            )
        jux("compose", "berths", "-C", berths)
        for _ in range(2):
            jux("run", "all", "--no-credentials", "-C", berths)
    return berths


def _until_handled(pid: int, sign: signal.Signals) -> None:
    """Waits until the process has a handler for the signal, or is gone."""
    status = Path(f"/proc/{pid}/status")
    while status.exists():
        caught = next((line for line in status.read_text().splitlines() if line.startswith("SigCgt:")), "")
        if not caught or int(caught.split()[1], 16) >> (sign - 1) & 1:
            return
        time.sleep(0.001)


def test_a_signal_at_any_moment_ends_with_a_word(kept: Path) -> None:
    rng = random.Random(11)
    commands = (
        ["show", "berths"],
        ["coverage"],
        ["report", "-o", str(kept / "r.html")],
        ["suite", "check"],
        ["runs"],
    )
    seen = set()
    for _ in range(30):
        sign, words = rng.choice((signal.SIGINT, signal.SIGTERM)), rng.choice(commands)
        child = subprocess.Popen(
            [sys.executable, "-m", "juxtalogos", *words, "-C", str(kept)],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            stdin=subprocess.DEVNULL,
        )
        _until_handled(
            child.pid, signal.SIGTERM
        )  # before our first module, signals are Python's own business
        time.sleep(rng.choice((0, rng.uniform(0, 0.4))))
        child.send_signal(sign)
        _, told = child.communicate(timeout=60)
        assert b"Traceback" not in told and b"File " not in told, told
        assert child.returncode in (0, 1, 128 + sign), (words, child.returncode, told)
        seen.add(child.returncode)
    assert seen & {130, 143}


@pytest.mark.parametrize("sign", [signal.SIGINT, signal.SIGTERM])
def test_a_signal_while_something_is_cleared_away_is_not_lost(sign: signal.Signals) -> None:
    """What is raised in such a callback is dropped by Python, with a traceback."""
    code = f"""
import os, sys, time, weakref
import juxtalogos.cli.main as main
from juxtalogos import start
class Thing: pass
def cleared(_):
    os.kill(os.getpid(), {int(sign)})
    for _ in range(1000): pass
def run_program():
    thing = Thing()
    kept = weakref.ref(thing, cleared)
    del thing
    time.sleep(20)
    return 0
main.run_program = run_program
start.entry()
"""
    began = time.monotonic()
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=30)
    assert done.returncode == 128 + sign and time.monotonic() - began < 15
    assert done.stderr == "interrupted\n"


def test_a_damaged_ledger_is_told_and_what_can_be_read_is_saved(kept: Path, jux: Jux, tmp_path: Path) -> None:
    path = kept / ".juxtalogos" / "ledger.sqlite"
    assert "the ledger is whole" in jux("ledger", "check", "-C", kept).out
    with closing(sqlite3.connect(path)) as db:
        db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        whole = db.execute("SELECT count(*) FROM exchange").fetchone()[0]
    data, rng = path.read_bytes(), random.Random(5)
    told_once = False
    for page in range(2, len(data) // 4096):
        damaged = bytearray(data)
        damaged[page * 4096 : (page + 1) * 4096] = rng.randbytes(4096)
        path.write_bytes(damaged)
        found = jux("ledger", "check", "-C", kept, status=None)
        if found.status == 0:
            continue  # a page that nothing is in
        read = jux("runs", "-C", kept, status=None)
        if read.status:
            told_once = True
            assert "the ledger is damaged" in read.err and "ledger check --save" in read.err
        target = tmp_path / f"saved-{page}.sqlite"
        jux("ledger", "check", "--save", target, "-C", kept, status=1)
        with closing(sqlite3.connect(target)) as db:
            assert db.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
            assert db.execute("SELECT count(*) FROM exchange").fetchone()[0] <= whole
        path.write_bytes(target.read_bytes())
        jux("exchanges", "-C", kept, status=None)
        if page > 12:
            break
    assert told_once
    assert "such a file already" in jux("ledger", "check", "--save", target, "-C", kept, status=2).err


_CLOCK = """
import time, itertools
_true, _calls = time.time, itertools.count()
def _scripted():
    n = next(_calls)
    return _true() + (0, 7200, -86400, 3600, -5)[n % 5] + (40 * 365 * 86400 if n % 11 == 3 else 0)
time.time = _scripted
"""


def test_a_clock_that_is_set_forward_and_back_changes_no_result(kept: Path, jux: Jux, tmp_path: Path) -> None:
    shim = tmp_path / "clock"
    shim.mkdir()
    (shim / "sitecustomize.py").write_text(_CLOCK)
    env = {"PYTHONPATH": str(shim)}
    with serving() as url:
        done = [
            json.loads(
                jux(
                    "run",
                    "all",
                    "--target",
                    url,
                    "--repeat",
                    "3",
                    "--json",
                    "-C",
                    kept,
                    env=env if scripted else {},
                ).out
            )
            for scripted in (False, True)
        ]
    assert done[0]["counts"] == done[1]["counts"] and done[1]["verdict"] == "passed"
    for later in ({}, env):
        listed = json.loads(jux("runs", "--json", "-C", kept, env=later).out)["runs"]
        assert [one["run"] for one in listed] == sorted((one["run"] for one in listed), reverse=True)
        jux("report", "-o", tmp_path / "r.html", "-C", kept, env=later)
        jux("compare", str(listed[1]["run"]), str(listed[0]["run"]), "-C", kept, env=later)


def test_a_full_disk_loses_no_answer(kept: Path) -> None:
    """The files of the program may not grow: what was sent is shown, and what could not be kept is told."""
    with serving() as url:
        for words in (["call", "getBerth", "--set", "berthId=B1"], ["run", "all"]):
            found = subprocess.run(
                [
                    sys.executable,
                    "-m",
                    "juxtalogos",
                    *words,
                    "--target",
                    url,
                    "--no-credentials",
                    "-C",
                    str(kept),
                ],
                capture_output=True,
                text=True,
                stdin=subprocess.DEVNULL,
                preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (100, 100)),
            )
            assert found.returncode == 2 and "make room on the disk" in found.stderr, found
            assert "Traceback" not in found.stderr and ("B1" in found.stdout) == (words[0] == "call")


def count(home: Path) -> int:
    with closing(sqlite3.connect(home / ".juxtalogos" / "ledger.sqlite")) as db:
        return int(db.execute("SELECT count(*) FROM exchange").fetchone()[0])


def wait_for_more(home: Path, seconds: float) -> None:
    """Until something more was committed."""
    before, deadline = count(home), time.monotonic() + seconds
    while count(home) == before and time.monotonic() < deadline:
        time.sleep(0.02)


def test_kills_lose_nothing_that_was_acknowledged(kept: Path, jux: Jux) -> None:
    rng = random.Random(3)
    with serving() as url:
        for _ in range(6):
            words = [
                sys.executable,
                "-m",
                "juxtalogos",
                "run",
                "all",
                "--target",
                url,
                "--repeat",
                "200",
                "-C",
                str(kept),
            ]
            child = subprocess.Popen(
                words,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                stdin=subprocess.DEVNULL,
                env=dict(os.environ),
            )
            wait_for_more(kept, 20)
            time.sleep(rng.uniform(0, 0.3))
            child.kill()
            child.wait()
    assert "the ledger is whole" in jux("ledger", "check", "-C", kept).out
    with closing(sqlite3.connect(kept / ".juxtalogos" / "ledger.sqlite")) as db:
        lost = db.execute(
            "SELECT count(*) FROM exchange WHERE response_body IS NOT NULL AND response_body NOT IN (SELECT"
            " id FROM body)"
        ).fetchone()[0]
        assert lost == 0 and db.execute("SELECT count(*) FROM exchange").fetchone()[0] > 100
    jux("runs", "-C", kept)
