"""Runs as the built program does them: in several processes, interrupted, killed, large."""

from __future__ import annotations

import json
import os
import re
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

from conftest import Result, trusting
from juxtalogos.ledger import ExchangeQuery, open_ledger
from scripted import BASE, Bench, case, step

Jux = Callable[..., Result]


class Lines(ThreadingHTTPServer):
    """The quay's lines, with a store: what is made and not dropped is left behind."""

    daemon_threads = True
    pause = 0.0

    def __init__(self) -> None:
        self.left: set[int] = set()
        self.seen: list[tuple[float, str, str]] = []
        self.number = 0
        self.lock = threading.Lock()
        super().__init__(("127.0.0.1", 0), _Handler)

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.server_address[1]}/v1"


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server: Lines

    def _answer(self) -> None:
        self.rfile.read(int(self.headers.get("Content-Length") or 0))
        server = self.server
        time.sleep(server.pause)
        with server.lock:
            server.seen.append((time.monotonic(), self.command, self.path))
            number = int(self.path.rpartition("/")[2]) if self.path[-1].isdigit() else 0
            if self.command == "POST":
                server.number += 1
                number = server.number
                server.left.add(number)
            elif self.command == "DELETE":
                server.left.discard(number)
        body = b"" if self.command == "DELETE" else json.dumps({"id": number, "state": "made"}).encode()
        self.send_response({"POST": 201, "DELETE": 204}.get(self.command, 200))
        if body:
            self.send_header("Content-Type", "application/json")
        if self.command != "DELETE":
            self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    do_GET = do_POST = do_DELETE = _answer

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture
def service() -> Iterator[Lines]:
    server = Lines()
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True)
    thread.start()
    yield server
    server.shutdown()
    server.server_close()


def life(name: str, **more: Any) -> dict[str, Any]:
    return case(
        name,
        step("make", "makeLine"),
        step("read", "readLine", line="$steps.make.outputs.id", status=200),
        step("drop", "dropLine", line="$steps.make.outputs.id", **{"x-juxtalogos-always": True}),
        **more,
    )


@pytest.fixture
def bench(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, service: Lines) -> Bench:
    made = Bench(tmp_path / "work", monkeypatch)
    made.configure("", "")
    config = made.home.root / "juxtalogos.toml"
    config.write_text(config.read_text("utf-8").replace(BASE, service.url), "utf-8")
    trusting(made.home.root)
    return made


def started(bench: Bench, *words: str) -> subprocess.Popen[bytes]:
    command = [
        sys.executable,
        "-m",
        "juxtalogos",
        "run",
        "--target",
        "here",
        "-C",
        str(bench.home.root),
        *words,
    ]
    return subprocess.Popen(
        command,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        stdin=subprocess.DEVNULL,
        start_new_session=True,
    )


def wait_until(holds: Callable[[], bool], seconds: float = 30) -> None:
    end = time.monotonic() + seconds
    while not holds():
        assert time.monotonic() < end
        time.sleep(0.005)


def workers_of(pid: int) -> list[int]:
    found = subprocess.run(
        ["ps", "-o", "pid=", "--ppid", str(pid)], capture_output=True, text=True
    ).stdout.split()
    return [int(one) for one in found]


def test_processes_do_what_one_does(bench: Bench, service: Lines, jux: Jux) -> None:
    (bench.home.root / "tables").mkdir()
    (bench.home.root / "tables" / "lines.csv").write_text(
        "line\n" + "\n".join(map(str, range(130))) + "\n", "utf-8"
    )
    inputs = {"type": "object", "properties": {"line": {"type": "integer"}}}
    bench.suite(
        *(life(f"c{number}") for number in range(12)),
        case(
            "rows",
            step("read", "readLine", line="$inputs.line"),
            inputs=inputs,
            **{"x-juxtalogos-table": {"file": "lines.csv"}},
        ),
        case(
            "first",
            step("make", "makeLine"),
            step("drop", "dropLine", line="$steps.make.outputs.id"),
            outputs={"id": "$steps.make.outputs.id"},
        ),
        case("then", step("read", "readLine", line="$workflows.first.outputs.id"), dependsOn=["first"]),
        life("alone", **{"x-juxtalogos-alone": True}),
    )
    told = []
    for processes in (1, 3):
        service.seen.clear()
        found = jux(
            "run", "--target", "here", "--processes", processes, "--jobs", 6, "--json", "-C", bench.home.root
        ).json
        told.append(sorted((one["suite"], one["case"], one["verdict"]) for one in found["cases"]))
        sent = Counter((method, re.sub(r"\d+$", "*", path)) for _, method, path in service.seen)
        assert sent == {("POST", "/v1/lines"): 14, ("GET", "/v1/lines/*"): 144, ("DELETE", "/v1/lines/*"): 14}
    assert told[0] == told[1] and len(told[0]) == 145 and not service.left
    with open_ledger(bench.home.ledger_path) as ledger:
        one, other = (
            sorted((step.case, step.step, step.status) for step in ledger.steps(run)) for run in (1, 2)
        )
        assert one == other
        hits = [{(row.element, row.count) for row in ledger.hits([run], "quay")} for run in (1, 2)]
        assert hits[0] == hits[1]


def test_the_system_is_reset_for_one_case_at_a_time_across_processes(
    bench: Bench, service: Lines, jux: Jux
) -> None:
    log = bench.home.root / "resets"
    code = (
        f"import time; out = open({str(log)!r}, 'a'); out.write('+'); out.flush(); time.sleep(0.05);"
        " out.write('-')"
    )
    text = f'[targets.here.system]\nreset = ["{sys.executable}", "-c", "{code}"]\n'
    with (bench.home.root / "juxtalogos.toml").open("a", encoding="utf-8") as out:
        out.write(text)
    bench.suite(*(life(f"c{number}") for number in range(6)))
    digest = re.search(r"--trust (\w+)", jux("run", "--target", "here", "-C", bench.home.root, status=2).err)
    assert digest
    jux(
        "run",
        "--target",
        "here",
        "--processes",
        3,
        "--jobs",
        6,
        "--trust",
        digest.group(1),
        "-C",
        bench.home.root,
    )
    assert log.read_text() == "+-" * 6
    starts = [path for _, method, path in service.seen if method in ("POST", "DELETE")]
    assert [path == "/v1/lines" for path in starts] == [True, False] * 6, "never two cases side by side"


def test_a_process_that_dies_takes_only_its_own_cases_with_it(bench: Bench, service: Lines) -> None:
    service.pause = 0.05
    bench.suite(*(life(f"c{number}") for number in range(40)))
    run = started(bench, "--processes", "2", "--jobs", "2", "--json")
    wait_until(lambda: len(service.seen) > 12)
    os.kill(workers_of(run.pid)[0], signal.SIGKILL)
    out, err = run.communicate(timeout=60)
    assert run.returncode == 1 and b"Traceback" not in err, err
    found = {one["case"]: one for one in json.loads(out)["cases"]}
    assert set(found) == {f"c{number}" for number in range(40)}
    lost = [one for one in found.values() if one["verdict"] == "error"]
    assert 1 <= len(lost) <= 3 and all(
        "the process that ran it ended with status -9" in one["reason"] for one in lost
    )


@pytest.mark.parametrize("processes", ["1", "2"])
def test_an_interrupt_keeps_what_was_done_and_cleans_up(bench: Bench, service: Lines, processes: str) -> None:
    service.pause = 0.02
    bench.suite(*(life(f"c{number}") for number in range(200)))
    run = started(bench, "--processes", processes)
    wait_until(lambda: len(service.seen) > 30)
    os.kill(run.pid, signal.SIGINT)
    _, err = run.communicate(timeout=60)
    assert run.returncode == 130 and b"Traceback" not in err, err
    assert not service.left, "clean-up steps are sent after an interrupt"
    with open_ledger(bench.home.ledger_path) as ledger:
        assert ledger.run().interrupted and 8 <= len(ledger.cases(1)) < 200
        assert sum(1 for _ in ledger.exchanges(ExchangeQuery(run=1))) >= 24


def test_when_the_first_process_is_killed_the_others_clean_up_and_end(bench: Bench, service: Lines) -> None:
    service.pause = 0.02
    bench.suite(*(life(f"c{number}") for number in range(200)))
    run = started(bench, "--processes", "2")
    wait_until(lambda: len(service.seen) > 30)
    workers = workers_of(run.pid)
    assert len(workers) == 2
    run.kill()
    run.communicate()
    wait_until(lambda: not any(Path(f"/proc/{pid}").exists() for pid in workers))
    assert not service.left
    with sqlite3.connect(bench.home.ledger_path) as database:
        assert database.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
    database.close()


def test_summaries_are_linear(bench: Bench, jux: Jux) -> None:
    """n beside 2n beside 4n, in calls of the interpreter: no timing, no quadratic loop."""
    from juxtalogos.cli.shared.options import Arguments
    from juxtalogos.cli.shared.summary import exit_status, run_data, show_run
    from juxtalogos.cli.shared.terminal import Terminal
    from juxtalogos.ledger import CaseRecord, ExchangeRecord
    from juxtalogos.model.verdict import Verdict
    from juxtalogos.report import REPORTERS, run_view

    assert Arguments
    counts = []
    for size in (50, 200, 400, 800):
        path = bench.home.root / f"{size}.sqlite"
        with open_ledger(path, write=True) as ledger:
            run = ledger.begin("run", "t", "w")
            steps = [
                ExchangeRecord(
                    f"c{number // 3}", f"s{number % 3}", "", "", None, Verdict.PASSED, "", suite="w"
                )
                for number in range(3 * size)
            ]
            ledger.add(
                run, steps, [CaseRecord("w", f"c{number}", Verdict.PASSED, "", 0.1) for number in range(size)]
            )
            calls = 0

            def count(*_: object) -> None:
                nonlocal calls
                calls += 1

            sys.setprofile(count)
            try:
                view = run_view(ledger, run, {}, order=[("w", f"c{number}") for number in range(size)])
                run_data(view)
                exit_status(view, strict=True)
                show_run(Terminal(quiet=True, verbose=True), view)
                for reporter in REPORTERS.values():
                    reporter.write(view)
            finally:
                sys.setprofile(None)
            counts.append(calls)
    first, second, third = counts[1:]  # the first also loads modules
    assert (third - second) < 2.3 * (second - first), counts
