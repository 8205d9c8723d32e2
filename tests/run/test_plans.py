"""Stored plans, parts of a run, orders, a stop at the first failure, and a run that sends nothing."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from conftest import Result
from juxtalogos.run.engine.arranging import part_of
from juxtalogos.run.engine.plan import CaseRef

Go = Callable[..., Result]


@given(st.lists(st.floats(0, 100), max_size=40), st.integers(1, 12))
def test_parts_are_all_cases_once_and_of_about_the_same_length(lengths: list[float], count: int) -> None:
    seconds = {CaseRef("s", f"c{number}"): length for number, length in enumerate(lengths)}
    refs = list(seconds)
    parts = [part_of(refs, seconds, number, count) for number in range(1, count + 1)]
    assert sorted(ref.case for part in parts for ref in part) == sorted(ref.case for ref in refs)
    assert all(list(part) == sorted(part, key=refs.index) for part in parts)
    sums = [sum(seconds[ref] for ref in part) for part in parts]
    assert max(sums) - min(sums) <= max([0.0, *lengths]) + 1e-6
    # However many machines divide them, each finds the same parts.
    again = {ref: seconds[ref] for ref in reversed(refs)}
    assert [set(part) for part in parts] == [
        set(part_of(list(again), again, at, count)) for at in range(1, count + 1)
    ]


def cases_of(told: Any) -> list[str]:
    return [f"{one['suite']}#{one['case'].partition('[')[0]}" for one in told["cases"]]


def test_a_plan_is_set_changed_copied_and_run(go: Go) -> None:
    go("compose", "berths")
    go("plans", "set", "nightly", "fleet", "berths#listVessels", "--target", "local", "--jobs", "2")
    go("suite", "set", "fleet#vessel#register", "body/name=$inputs.ship")
    go("plans", "set", "nightly", "--set", "ship=Skua", "--repeat", "2", "--clear", "jobs")
    (plan,) = go("plans", "--json").json["plans"]
    assert plan == {
        "name": "nightly",
        "what": ["fleet", "berths#listVessels"],
        "target": "local",
        "repeat": 2,
        "inputs": {"ship": "Skua"},
    }
    ran = go("run", "--plan", "nightly", "--json", status=None).json
    assert sorted(set(cases_of(ran))) == ["berths#listVessels", "fleet#vessel"] and len(ran["cases"]) == 4
    # What is typed stands over the plan.
    ran = go("run", "berths#listBerths", "--plan", "nightly", "--repeat", "1", "--json").json
    assert cases_of(ran) == ["berths#listBerths"]
    assert "plan nightly" in go("runs").out
    go("plans", "copy", "nightly", "weekly")
    go("plans", "remove", "nightly")
    assert [one["name"] for one in go("plans", "--json").json["plans"]] == ["weekly"]


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("run", "--plan", "nigtly"), "did you mean nightly?"),
        (("run", "--part", "4/3"), "--part 1/3"),
        (("run", "--part", "0/3"), "--part 1/3"),
        (("run", "fleet", "--part", "2/2"), "use fewer parts"),
        (("run", "--part", "1/2", "--still-failing"), "leave one of the two out"),
        (("run", "--jobs", "0"), "--jobs 4"),
        (("run", "--repeat", "-1"), "--repeat 4"),
        (("run", "--pace", "-2"), "seconds from 0"),
        (("run", "--order", "needed"), "is none of given, needed-first"),
        (("plans", "set"), "name a plan"),
        (("plans", "set", "a b", "fleet"), "letters, digits"),
        (("plans", "set", "new", "flet"), "did you mean fleet?"),
        (("plans", "set", "new", "--target", "locl"), "did you mean local?"),
        (("plans", "set", "new", "--tag", "nightly"), "no case has a tag"),
        (("plans", "set", "new", "--set", "nix=1"), "no case has an input nix"),
        (("plans", "copy", "nightly"), "name the copy"),
        (("plans", "copy", "nightly", "nightly"), "choose another name"),
        (("plans", "remove", "nigtly"), "did you mean nightly?"),
        (("plans", "remove", "nightly", "weekly"), "takes one plan"),
        (("plans", "list", "--jobs", "2"), "plans set"),
        (("plans", "durations"), "no case ran yet"),
        (("plans", "durations", "nightly"), "takes no name"),
    ],
)
def test_slips_change_nothing(go: Go, work: Path, words: tuple[str, ...], told: str) -> None:
    go("plans", "set", "nightly", "fleet")
    before = (work / "juxtalogos.toml").read_bytes()
    assert told in go(*words, status=2).err
    assert (work / "juxtalogos.toml").read_bytes() == before
    assert not (work / "durations.json").exists()


def test_parts_orders_and_the_first_failure(go: Go, work: Path) -> None:
    go("compose", "berths")
    everything = cases_of(go("run", "--target", "local", "--json", status=None).json)
    go("plans", "durations")
    parts = [
        cases_of(go("run", "--target", "local", "--part", f"{at}/3", "--json", status=None).json)
        for at in (1, 2, 3)
    ]
    assert sorted(case for part in parts for case in part) == sorted(everything) and all(parts)
    ordered = cases_of(
        go("run", "berths", "--order", "needed-first", "--jobs", "1", "--target", "local", "--json").json
    )
    assert ordered.index("berths#registerVessel") < ordered.index("berths#getVessel")
    go("suite", "set", "fleet#vessel#register", "--check", "status equals 299")
    for how in (("--jobs", "1"), ("--jobs", "2", "--processes", "2")):
        words = ("run", "fleet", "berths", "--stop-at-first", "--target", "local", *how)
        stopped = go(*words, status=1)
        assert "stopped after the first failure" in stopped.err and "1 failed" in stopped.out
        assert len(go(*words, "--json", status=1).json["cases"]) < len(everything)


@pytest.mark.parametrize("how", [("--jobs", "8"), ("--jobs", "2", "--processes", "2")])
def test_what_a_set_up_made_is_cleaned_up_after_the_first_failure(
    go: Go, work: Path, how: tuple[str, ...]
) -> None:
    """The rows that are left do not run, and have no record; the clean-up of their set-up runs."""
    suite = work / "suites" / "fleet.arazzo.yaml"
    go(
        "suite",
        "set",
        "fleet#vessel#read",
        "path.vesselId=@register#/vesselId",
        "--check",
        "status equals 299",
    )
    (work / "tables" / "many.csv").write_text("n\n" + "".join(f"{one}\n" for one in range(40)))
    document = yaml.safe_load(suite.read_text())
    drop = {
        "stepId": "drop",
        "operationId": "$sourceDescriptions.berths.removeVessel",
        "x-juxtalogos-always": True,
    }
    made = {"name": "vesselId", "in": "path", "value": "$steps.register.outputs.vesselId"}
    document["workflows"][0]["steps"].append({**drop, "parameters": [made]})
    document["workflows"][0] |= {
        "x-juxtalogos-setup": ["register"],
        "x-juxtalogos-table": {"file": "many.csv"},
    }
    suite.write_text(yaml.safe_dump(document, sort_keys=False))
    ran = go("run", "fleet", "--stop-at-first", "--target", "local", *how, "--json", status=1).json
    labels = [one["case"] for one in ran["cases"]]
    assert labels[0] == "vessel[set-up]" and labels[-1] == "vessel[clean-up]" and len(labels) < 10, labels
    sent = go("exchanges", "--json").json["exchanges"]
    assert sent[-1]["method"] == "DELETE" and sent[-1]["status"] == 204


def test_a_dry_run_shows_requests_and_sends_nothing(go: Go, work: Path) -> None:
    go("compose", "berths")
    go("suite", "set", "fleet#vessel#register", "body/name=$inputs.ship")
    go("suite", "set", "fleet#vessel#read", "path.vesselId=@register#/vesselId")
    runs = go("runs", "--json").json["runs"]
    words = ("run", "fleet", "berths#flow-vessels", "--dry-run", "--target", "local", "--set", "ship=Skua")
    told = go(*words)
    assert '"name": "Skua"' in told.out and "/vessels/{vesselId}" in told.out
    assert "path.vesselId = vesselId of register" in told.out and "nothing was sent" in told.out
    assert go("runs", "--json").json["runs"] == runs
    data = go(*words, "--json").json
    (first, second) = data["cases"][0]["turns"][0]["steps"]
    assert first["method"] == "POST" and second["waitsFor"] == {"path.vesselId": "vesselId of register"}


def test_what_passed_after_retries_is_counted_apart(go: Go, work: Path) -> None:
    suite = work / "suites" / "fleet.arazzo.yaml"
    text = suite.read_text()
    again = "        onFailure: [{name: again, type: retry, retryAfter: 0, retryLimit: 2, stepId: more}]\n"
    text = text.replace(
        "          - {name: vesselId, in: path, value: V-1001}\n",
        "          - {name: vesselId, in: path, value: V-1001}\n"
        "        successCriteria: [{condition: $statusCode == 200}]\n",
    )
    counting = (
        "      - stepId: more\n        operationId: $sourceDescriptions.berths.registerVessel\n"
        "        requestBody: {contentType: application/json, payload: {name: Knot, kind: bulk, lengthMetres: 90}}\n"
        "      - stepId: count\n        operationId: $sourceDescriptions.berths.getVessel\n"
        "        parameters: [{name: vesselId, in: path, value: V-1006}]\n"
        f"{again}        successCriteria: [{{condition: $statusCode == 200}}]\n"
    )
    suite.write_text(text + counting)
    ran = go("run", "fleet", "--target", "local", status=None)
    assert "1 passed (1 of them after retries)" in ran.out, ran.out
    assert "after retries:" in ran.out
