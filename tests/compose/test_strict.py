"""Services that ask for more than they declare are reached all the same, and left as they were."""

from __future__ import annotations

import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from styles.desk import Jux, workspace
from styles.rest import TEXT, Call, Refused, Route, Service, many, shape
from styles.strict import STRICT, Book
from styles.watches import Watches
from styles.yards import Yards


@pytest.mark.parametrize("kind", STRICT)
def test_every_operation_of_a_strict_service_succeeds(kind: type[Service], tmp_path: Path, jux: Jux) -> None:
    service, home = kind(), tmp_path / "w"
    before = service.state()
    with workspace(service, home, jux) as go:
        operations = {one["id"] for one in go("show", "quay", "--json").json["operations"]}
        learned = go("compose", "quay", "--learn=writing", "--json").json["learned"]
        assert not learned["notReached"], learned["notReached"]
        assert learned["requests"] <= 6 * len(operations)
        assert learned["state"]["verdict"] in ("as before", "not known", "only read")
        assert service.state() == before
        found = go("run", "--jobs", "8", "--json").json
        assert {one["verdict"] for one in found["cases"]} <= {"passed", "refused"}, found["cases"]
        assert service.state() == before
    with closing(sqlite3.connect(home / ".juxtalogos" / "ledger.sqlite")) as db:
        query = "SELECT DISTINCT operation FROM exchange JOIN run ON run.id = run WHERE kind = 'run'"
        succeeded = {row[0] for row in db.execute(f"{query} AND status BETWEEN 200 AND 299")}
    assert succeeded == operations


def test_what_learning_has_made_serves_later_rounds(tmp_path: Path, jux: Jux) -> None:
    made, requests = [], []
    for views in (4, 8):
        service = Yards(views)
        with workspace(service, tmp_path / str(views), jux) as go:
            learned = go("compose", "quay", "--learn=writing", "--json").json["learned"]
            assert not learned["notReached"], learned["notReached"]
            assert learned["state"]["verdict"] == "as before" and not service.items
        made.append(dict(service.made))
        requests.append(learned["requests"])
    assert made[0] == made[1], "twice as many questions about an item need no more items"
    assert requests[1] - requests[0] == 4, "and a request each"


def test_an_interrupt_at_any_moment_of_learning_leaves_nothing(tmp_path: Path, jux: Jux) -> None:
    words = [sys.executable, "-m", "juxtalogos", "compose", "quay", "--learn=writing", "--replace"]
    env = {**os.environ, "HOME": str(tmp_path)}
    service, home = Yards(), tmp_path / "w"
    with workspace(service, home, jux):
        statuses = set()
        for count in range(1, 16, 2):
            made = sum(service.made.values())
            (home / "learned" / "local" / "quay.toml").unlink(missing_ok=True)
            process = subprocess.Popen([*words, "-C", str(home)], env=env, stderr=subprocess.PIPE, text=True)
            while sum(service.made.values()) < made + count and process.poll() is None:
                time.sleep(0.002)
            time.sleep(0.013 * count)
            process.send_signal(signal.SIGINT)
            told = process.communicate(timeout=60)[1]
            statuses.add(process.returncode)
            assert not service.items and "Traceback" not in told, (count, service.items, told)
        assert 130 in statuses


def test_what_does_not_stand_any_more_is_made_again(tmp_path: Path, jux: Jux) -> None:
    service = Yards(fleeting=12)
    with workspace(service, tmp_path / "w", jux) as go:
        learned = go("compose", "quay", "--learn=writing", "--json").json["learned"]
        assert not learned["notReached"], learned["notReached"]
        assert not service.items
        found = go("run", "--json").json
        assert {one["verdict"] for one in found["cases"]} <= {"passed", "refused"}, found["cases"]


class Quays(Book):
    """Each entry lies at a quay, of which only people know the names; its own name is taken only once."""

    def routes(self) -> list[Route]:
        entry = shape(("name", "quay"), id=TEXT, name=TEXT, quay=TEXT, pin=TEXT)
        return [
            Route("GET", "/entries", self.listed, answer=many(entry)),
            Route("POST", "/entries", self.add, answer=entry, body=entry, status=201),
            Route("GET", "/entries/{id}", lambda call: (200, self.entry(call)), answer=entry),
            Route("DELETE", "/entries/{id}", self.drop, status=204),
        ]

    def add(self, call: Call) -> Any:
        if call.body["quay"] != "North 7b":
            raise Refused(422, "that will not do")
        if any(one["name"] == call.body["name"] for one in self.entries.values()):
            raise Refused(409, "there is one already")
        return self.put(str(self.number()), {"name": call.body["name"], "quay": call.body["quay"]})


def test_what_a_person_sent_with_success_is_used_again(tmp_path: Path, jux: Jux) -> None:
    service, home = Quays(), tmp_path / "w"
    with workspace(service, home, jux) as go:
        assert go("compose", "quay", "--learn=writing", "--json").json["learned"]["notReached"]
        shown = go("run").out
        assert "without a success: 3 operations" in shown and "422: that will not do" in shown
        assert "try first: juxtalogos rules 'quay:POST /entries' --known ADDRESS=VALUE   opens 3" in shown
        (cause,) = go("run", "--json").json["notReached"]
        assert cause["class"] == "needs a value" and len(cause["waiting"]) == 2
        refused = go("call", "POST /entries", "--set", "body/name=Ann", "--set", "body/quay=South")
        assert "kept for compose" not in refused.err
        told = go("call", "POST /entries", "--set", "body/name=Ann", "--set", "body/quay=North 7b")
        assert "kept for compose: body/name, body/quay" in told.err
        pin = go(
            "call",
            "POST /entries",
            "--set",
            "body/name=Bo",
            "--set",
            "body/quay=North 7b",
            "--set",
            "body/pin=7",
        )
        assert pin.status == 0 and "body/pin" not in pin.err, "a secret by its name is no value to keep"
        assert "pin" not in (home / "learned" / "local" / "quay.toml").read_text()
        service.entries.pop("1002")
        again = go("call", "GET /entries/{id}", "--set", "path.id=1001")
        assert "kept for compose" not in again.err, "an id is that of one item"
        learned = go("compose", "quay", "--learn=writing", "--replace", "--json").json["learned"]
        assert not learned["notReached"]
        ran = go("run", "--json").json
        assert {case["verdict"] for case in ran["cases"]} == {"passed"}, "its own name is not sent again"
        assert list(service.state()) == ["1001"]


@pytest.mark.parametrize("how", ["answers", "a file", "a recording"])
def test_values_of_files_and_recordings_are_used_again(how: str, tmp_path: Path, jux: Jux) -> None:
    service, home = Quays(), tmp_path / "w"
    with workspace(service, home, jux) as go:
        body = json.dumps({"name": "Ann", "quay": "North 7b", "pin": "7"})
        given = home / "given"
        given.write_text(body)
        if how == "answers":
            words = [sys.executable, "-m", "juxtalogos", "call", "POST /entries", "--ask", "-C", str(home)]
            env = {**os.environ, "NO_COLOR": "1", "HOME": str(tmp_path)}
            lines = "\nAnn\nNorth 7b\n" + "\n" * 6
            asked = subprocess.run(words, input=lines, capture_output=True, text=True, env=env, timeout=60)
            assert "kept for compose: body/name, body/quay" in asked.stderr, asked.stderr
        elif how == "a file":
            told = go("call", "POST /entries", "--body-file", given)
            assert "kept for compose: body/name, body/quay" in told.err, told.err
        else:
            url = go("targets", "--json").json["targets"][0]["url"]
            request = {"method": "POST", "url": f"{url}/entries", "headers": []}
            request["postData"] = {"mimeType": "application/json", "text": body}
            content = {"mimeType": "application/json", "text": '{"id": "1"}'}
            response = {"status": 201, "headers": [], "content": content}
            entries = [{"request": request, "response": response}]
            given.write_text(json.dumps({"log": {"version": "1.2", "entries": entries}}))
            assert go("audit", given, "--keep-values").status == 2, "it must be said where they are valid"
            told = go("audit", given, "--target", "local", "--keep-values")
            assert "kept for compose: 2 values" in told.err, told.err
        assert "pin" not in (home / "learned" / "local" / "quay.toml").read_text()
        learned = go("compose", "quay", "--learn=writing", "--replace", "--json").json["learned"]
        assert not learned["notReached"]


def test_operations_that_need_one_another_in_a_circle(tmp_path: Path, jux: Jux) -> None:
    service, home = Watches(), tmp_path / "w"
    before = service.state()
    with workspace(service, home, jux) as go:
        learned = go("compose", "quay", "--learn=writing", "--json").json["learned"]
        assert not learned["notReached"], learned["notReached"]
        assert service.state() == before
        ran = go("run", "--jobs", "4", "--json").json
        assert not ran["notReached"] and not ran["findings"]
        assert service.state() == before
