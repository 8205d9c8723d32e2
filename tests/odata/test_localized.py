"""An OData service with texts and drafts: what can be reached is, and everything is left as it was."""

from __future__ import annotations

from pathlib import Path

from styles.desk import Jux
from styles.localized import METADATA, held, serving

STATE = {"Voyages.draftEdit", "Voyages.SiblingEntity", "Voyages.SiblingEntity.refs"}
"""They want an active voyage of the run's own, or a draft of it: what the run makes is a draft."""
OTHERWISE = {"batch", "Quays_texts.create"}
"""The service has no batches; that a text's ID is that of its quay stands nowhere in the metadata."""


def test_texts_and_drafts(tmp_path: Path, jux: Jux) -> None:
    (tmp_path / "quay.edmx").write_bytes(METADATA)
    home = tmp_path / "w"
    with serving() as (url, service):
        jux("init", home)
        jux("import", tmp_path / "quay.edmx", "--name", "quay", "-C", home, status=None)
        jux("targets", "set", "local", url, "-C", home)
        learned = jux("compose", "quay", "--learn=writing", "--json", "-C", home, status=None).json["learned"]
        assert {one["operation"] for one in learned["notReached"]} <= STATE | OTHERWISE
        assert service.rows == held()
        assert learned["state"]["verdict"] != "different", learned["state"]
        for jobs in (1, 4):
            ran = jux("run", "--jobs", jobs, "--json", "-C", home, status=None).json
            assert service.rows == held()
            unreached = {one["operation"].removeprefix("quay:") for one in ran["notReached"]}
            # A text has the language that was learned: cases side by side meet at one quay.
            met = {name for name in unreached if jobs > 1 and ("texts" in name or "localized" in name)}
            assert unreached - met <= STATE | OTHERWISE
        # It ignores query options, and nothing else is wrong with it.
        assert {one["kind"] for one in ran["findings"]} == {"option.dropped"}
