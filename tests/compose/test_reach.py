"""Getting into services of seven styles, and out again without a trace: the built program, no line written by
hand.
"""

from __future__ import annotations

import json
import os
import re
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import pytest

from conftest import Result
from styles.gangs import Gangs
from styles.harbour import Agency, Cranes, Deaf, Forgetful, Lockkeepers, Moorings, Surveys, Yards
from styles.rest import Service

Jux = Callable[..., Result]
STYLES = (Moorings, Yards, Agency, Surveys, Lockkeepers, Cranes, Gangs)
DESTRUCTIVE = {"POST /api/v2/yards/bulk_delete/", "POST /removeAllCranes", "RemoveAllShifts"}


@contextmanager
def office(service: Service, home: Path, jux: Jux) -> Iterator[Callable[..., Result]]:
    """What runs the program in a workspace with the service's definition and a target."""
    jux("init", home)
    source = home / ("d.wsdl" if isinstance(service, Gangs) else "d.json")
    source.write_text(service.definition())
    jux("import", source, "--name", "quay", "-C", home)
    with service.serving() as url:

        def go(*words: object, status: int | None = 0) -> Result:
            return jux(*words, "-C", home, status=status)

        go("targets", "set", "local", url)
        yield go


def answered(home: Path) -> set[str]:
    """Operations that a suite's own run had a success from."""
    with closing(sqlite3.connect(home / ".juxtalogos" / "ledger.sqlite")) as db:
        query = (
            "SELECT DISTINCT operation FROM exchange JOIN run ON run.id = run WHERE kind = 'run' AND status"
            " BETWEEN 200 AND 299"
        )
        return {row[0] for row in db.execute(query)}


@pytest.mark.parametrize("style", STYLES)
def test_every_operation_is_reached_and_nothing_is_left(
    style: type[Service], tmp_path: Path, jux: Jux
) -> None:
    service, home = style(), tmp_path / "w"
    before = service.state()
    with office(service, home, jux) as go:
        composed = go("compose", "quay", "--learn=writing", "--json").json
        operations = {one["id"] for one in go("show", "quay", "--json").json["operations"]}
        assert {one["operation"] for one in composed["withheld"]} == operations & DESTRUCTIVE
        assert not composed["learned"]["notReached"] and service.state() == before
        assert composed["learned"]["requests"] <= 12 * len(operations)
        for words in (
            ("--jobs", "8", "--token", "again"),
            ("--processes", "2", "--repeat", "2", "--token", "again"),
        ):
            found = go("run", *words, "--json").json
            assert {one["verdict"] for one in found["cases"]} == {"passed"} and not found["leftBehind"], words
            assert service.state() == before, words
        assert answered(home) == operations - DESTRUCTIVE
        suite = (home / "suites" / "quay.arazzo.yaml").read_bytes()
        go("compose", "quay")
        assert (home / "suites" / "quay.arazzo.yaml").read_bytes() == suite
        learned = home / "learned" / "local" / "quay.toml"
        if learned.exists():  # the same file gives the same suite; without it there is another
            kept = learned.read_text()
            learned.unlink()
            go("compose", "quay")
            assert (home / "suites" / "quay.arazzo.yaml").read_bytes() != suite
            learned.write_text(kept)
            go("compose", "quay")
            assert (home / "suites" / "quay.arazzo.yaml").read_bytes() == suite


@pytest.mark.parametrize("style", [Moorings, Yards, Gangs])
def test_what_a_broken_deletion_leaves_is_named_and_removed_later(
    style: type[Service], tmp_path: Path, jux: Jux
) -> None:
    service, home = style(), tmp_path / "w"
    before = service.state()
    with office(service, home, jux) as go:
        go("compose", "quay")
        service.deletes_fail = True
        told = go("run", status=1).out
        left = re.search(r"left behind: (\d+) that this run created   juxtalogos clean 1", told)
        assert left and service.state() != before
        assert "state changed" in told
        assert "could" not in go("clean", status=1).out and service.state() != before
        service.deletes_fail = False
        assert len(go("clean", "--show", "--json", status=1).json["left"]) == int(left[1])
        assert f"removed {left[1]} of {left[1]}" in go("clean", "1").out
        assert service.state() == before
        assert "lists nothing that run 1 left behind" in go("clean", "1").out


def wait_for(condition: Callable[[], bool], seconds: float = 20.0) -> None:
    deadline = time.monotonic() + seconds
    while not condition() and time.monotonic() < deadline:
        time.sleep(0.005)


@pytest.mark.parametrize("style", [Yards, Lockkeepers])
def test_an_interrupted_or_killed_run_is_cleaned_up(style: type[Service], tmp_path: Path, jux: Jux) -> None:
    service, home = style(), tmp_path / "w"
    before = service.state()
    with office(service, home, jux) as go:
        go("compose", "quay")
        for number, sign in enumerate((signal.SIGINT, signal.SIGKILL, signal.SIGKILL)):
            words = [sys.executable, "-m", "juxtalogos", "run", "--repeat", "50", "-C", str(home)]
            child = subprocess.Popen(
                words,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                stdin=subprocess.DEVNULL,
                env=dict(os.environ),
            )
            seen = len(service.seen)
            wait_for(lambda: len(service.seen) > seen + 17 + 13 * number)  # noqa: B023
            child.send_signal(sign)
            assert child.wait(30) == (130 if sign == signal.SIGINT else -9)
            time.sleep(0.2)  # what the service still does
            if sign == signal.SIGKILL:
                go("clean")
            assert service.state() == before, sign


def test_services_that_let_nobody_in(tmp_path: Path, jux: Jux) -> None:
    """Nothing is blamed on a service that wants a credential; and to reach nothing is no success."""
    for name, service in (("a", Deaf(401)), ("b", Deaf(404)), ("c", Deaf(429))):
        with office(service, tmp_path / name, jux) as go:
            go("compose", "quay")
            found = go("run", "--json", status=1).json
            verdicts = {one["verdict"] for one in found["cases"]}
            assert "passed" not in verdicts and "error" not in verdicts
            if service.status != 404:
                assert not found["findings"] and "failed" in verdicts
                assert any(
                    re.search(f"{service.status}: (it requires|sent without)", one["reason"])
                    for one in found["cases"]
                )
    with office(Forgetful(), tmp_path / "e", jux) as go:
        go("compose", "quay")
        found = go("run", "--json", status=1).json
        failed = {one["case"] for one in found["cases"] if one["verdict"] == "failed"}
        assert {"GET-agents-agentId", "DELETE-agents-agentId"} <= failed and "POST-agents" not in failed


def test_refusals_are_told_by_the_servers_own_words(tmp_path: Path, jux: Jux) -> None:
    service = Surveys()
    with office(service, tmp_path / "w", jux) as go:
        go("compose", "quay")
        ran = go("run")
        assert "request.refused" in ran.out and "must be one of 'dredging', 'wreck search'" in " ".join(
            ran.out.split()
        )
        assert "juxtalogos rules 'quay:POST /surveys' --known body/purpose=VALUE" in ran.out
        assert go("run", "--strict", status=1).status == 1
        found = go("run", "--json").json
        assert found["counts"]["refusals"] and not found["findings"] and not found["expectations"]
        by_case = {one["case"]: one for one in found["cases"]}
        assert by_case["POST-surveys"]["verdict"] == "refused"
        assert (
            by_case["GET-surveys-surveyId"]["verdict"] == "skipped"
            and "POST-surveys" in by_case["GET-surveys-surveyId"]["reason"]
        )


def test_only_reading(tmp_path: Path, jux: Jux) -> None:
    service = Agency()
    with office(service, tmp_path / "w", jux) as go:
        composed = go("compose", "quay", "--learn", "--only-reading", "--json").json
        assert {one["operation"].split()[0] for one in composed["withheld"]} == {"POST", "PUT", "DELETE"}
        go("run")
        assert {method for method, _, _ in service.seen} == {"GET"}
        assert answered(tmp_path / "w") == {
            "GET /ports",
            "GET /agents",
            "GET /agents/{agentId}",
            "GET /vessels",
            "GET /vessels/{id}",
        }


def test_get_or_create_gives_what_is_somebody_elses(tmp_path: Path, jux: Jux) -> None:
    class Harbour(Agency):
        def add_agent(self, call: object) -> object:
            return 201, self.agents[11]

    service = Harbour()
    before = service.state()
    with office(service, tmp_path / "w", jux) as go:
        go("compose", "quay")
        go("run", "quay#POST-agents", "quay#GET-agents-agentId", "quay#POST-vessels")
        assert service.state() == before and not any(
            method == "DELETE" and "agents" in path for method, path, _ in service.seen
        )


def test_known_values_dependencies_by_pattern_and_meanings(tmp_path: Path, jux: Jux) -> None:
    service, home = Surveys(), tmp_path / "w"
    with office(service, home, jux) as go:
        with (home / "juxtalogos.toml").open("a") as out:
            out.write("""
[[contracts.quay.known]]
at = "*/purpose"
value = "wreck search"
[[contracts.quay.known]]
at = "starts"
formula = "format(now() + days(3), 'YYYY-MM-DDThh:mm:ssZ')"
[[targets.local.known]]
at = "body/draught"
value = 4.5
[[contracts.quay.known]]
at = "body/tone"
operation = "POST /surveys/*"
value = "calm"
[[contracts.quay.leave-out]]
operation = "*"
input = "body/ends"
[[contracts.quay.leave-out]]
operation = "POST /surveys"
input = "body/surveyor"
[[contracts.quay.leave-out]]
operation = "POST /surveys"
input = "body/callback_url"
""")
        go("compose", "quay")
        suite = (home / "suites" / "quay.arazzo.yaml").read_text()
        assert "known('*/purpose')" in suite and "wreck search" not in suite
        assert {one["verdict"] for one in go("run", "--json").json["cases"]} == {"passed"}
        assert '"purpose": "wreck search"' in go("skeleton", "POST /surveys", "--form", "body").out
        assert "wreck search" in go("call", "POST /surveys", "--trial").out
    made = json.loads(go("compose", "quay", "--dependencies", "--json").out)
    assert {one["reason"] for one in made["dependencies"]} and all(
        one["sure"] >= 50 for one in made["dependencies"]
    )
