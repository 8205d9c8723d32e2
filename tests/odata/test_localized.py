"""An OData service with texts and drafts: what can be reached is, and everything is left as it was."""

from __future__ import annotations

from pathlib import Path

import pytest

from styles.desk import Jux
from styles.localized import KEY, METADATA, held, serving


@pytest.mark.parametrize("foreign", [False, True])
def test_texts_and_drafts(tmp_path: Path, jux: Jux, foreign: bool) -> None:
    (tmp_path / "quay.edmx").write_bytes(METADATA)
    home = tmp_path / "w"
    with serving(foreign=foreign) as (url, service):
        jux("init", home)
        jux("import", tmp_path / "quay.edmx", "--name", "quay", "-C", home, status=None)
        jux("targets", "set", "local", url, "-C", home)
        learned = jux("compose", "quay", "--learn=writing", "--json", "-C", home, status=None).json["learned"]
        assert service.rows["Voyages"][0] == held()["Voyages"][0]  # never touched, whatever a response says
        edits = [one for one in service.seen if f"Voyages(ID={KEY}" in one[1] and one[0] != "GET"]
        assert not [one for one in edits if one[2] < 300], edits
        if foreign:
            return
        assert [one["operation"] for one in learned["notReached"]] == []
        assert service.rows == held()
        assert learned["state"]["verdict"] != "different", learned["state"]
        for jobs in (1, 4):
            ran = jux("run", "--jobs", jobs, "--json", "-C", home, status=None).json
            assert service.rows == held()
            unreached = {one["operation"].removeprefix("quay:") for one in ran["notReached"]}
            assert unreached == set()
        # It ignores query options, and nothing else is wrong with it.
        assert {one["kind"] for one in ran["findings"]} == {"option.dropped"}
