"""Services that ask for more than they declare are reached all the same, and left as they were."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from styles.desk import Jux, workspace
from styles.rest import Service
from styles.strict import STRICT


@pytest.mark.parametrize("kind", STRICT)
def test_every_operation_of_a_strict_service_succeeds(kind: type[Service], tmp_path: Path, jux: Jux) -> None:
    service, home = kind(), tmp_path / "w"
    before = service.state()
    with workspace(service, home, jux) as go:
        operations = {one["id"] for one in go("show", "quay", "--json").json["operations"]}
        learned = go("compose", "quay", "--learn=writing", "--json").json["learned"]
        assert not learned["notReached"], learned["notReached"]
        assert learned["requests"] <= 8 * len(operations)
        assert learned["state"]["verdict"] in ("as before", "not known", "only read")
        assert service.state() == before
        found = go("run", "--jobs", "8", "--json").json
        assert {one["verdict"] for one in found["cases"]} <= {"passed", "refused"}, found["cases"]
        assert service.state() == before
    with closing(sqlite3.connect(home / ".juxtalogos" / "ledger.sqlite")) as db:
        query = "SELECT DISTINCT operation FROM exchange JOIN run ON run.id = run WHERE kind = 'run'"
        succeeded = {row[0] for row in db.execute(f"{query} AND status BETWEEN 200 AND 299")}
    assert succeeded == operations
