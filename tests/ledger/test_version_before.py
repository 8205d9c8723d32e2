"""A workspace, its suites, ledger and cache as the version before wrote them are read and go on.

`data/version-before.zip` was made by that version: a saved case with a pin and a kept response, a learned suite, two
runs against the harbour with its deviations, rules, and the cache of its contract.
"""

from __future__ import annotations

import re
import shutil
import zipfile
from collections.abc import Callable
from pathlib import Path

from conftest import TESTS, Result, serving
from juxtalogos.demo.server import KEY

ARCHIVE = TESTS / "data" / "version-before.zip"


def test_what_the_version_before_wrote_is_read(tmp_path: Path, jux: Callable[..., Result]) -> None:
    with zipfile.ZipFile(ARCHIVE) as archive:
        archive.extractall(tmp_path)
    home, settings = tmp_path / "work", tmp_path / "work" / "juxtalogos.toml"
    shutil.copytree(tmp_path / "cache", tmp_path / "own" / "cache")
    env = {"MERROW_KEY": KEY, "XDG_CACHE_HOME": str(tmp_path / "own" / "cache")}

    def go(*words: object, status: int | None = 0) -> Result:
        return jux(*words, "-C", home, status=status, env=env)

    assert go("show", "berths", "--json").json["operations"]
    rules = go("rules", "--json").json["rules"]
    assert {(rule["rule"], rule["operation"]) for rule in rules} >= {
        ("off", "getBerth"),
        ("meanings", "listTides"),
    }
    runs = go("runs", "--json").json["runs"]
    assert len(runs) == 2 and {run["kind"] for run in runs} == {"run"}
    latest = max(run["run"] for run in runs)
    assert len(go("exchanges", "--json").json["exchanges"]) == 117
    assert go("exchanges", "@registerVessel", "--json").json["request"]["method"] == "POST"
    go("report", latest, "-o", tmp_path / "old.html")
    assert go("coverage", latest, "--json").json["contracts"][0]["total"]["exercised"] > 150
    assert "ledger" in go("ledger", "check").out and not go("suite", "check", "--json").json["faults"]
    with serving("all") as url:
        settings.write_text(re.sub(r"http://127\.0\.0\.1:\d+/v1", url, settings.read_text("utf-8")), "utf-8")
        go("trust")
        fleet = go("run", "fleet", "--json", status=1).json
        assert {case["verdict"] for case in fleet["cases"]} == {"failed"}
        assert {one["kind"] for one in fleet["findings"]} == {"status.undeclared", "body.type"}
        assert not fleet["expectations"]  # the pin and the kept response still pass
        again = go("run", "berths", "--json", status=1).json
        assert len(again["cases"]) == 31 and len(again["findings"]) == 15
        compared = go("compare", latest, again["run"], "--json", status=None).json
        assert compared["same"] + len(compared["steps"]) == 117
        for step in compared["steps"]:  # lists that grew, and names that are unique to a run
            before, now = step["first"], step["second"]
            assert (before["status"], before["verdict"]) == (now["status"], now["verdict"]), step
