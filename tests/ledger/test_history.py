"""What runs are found by, and what became of cases, operations and findings over them: against a plain count."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from test_ledger import DATA, HELD, WRONG, record

from conftest import BERTHS, KEY_ENV, Result, add_target, serving
from juxtalogos.cli.shared.labels import labels_of_run
from juxtalogos.ledger import CaseRecord, ExchangeQuery, RunQuery, open_ledger
from juxtalogos.ledger.sqlite.store import SqliteLedger
from juxtalogos.model.verdict import Verdict

Jux = Callable[..., Result]
LABELS = st.lists(st.tuples(st.sampled_from("ab"), st.sampled_from(["1", "2 3", "x=y"])), max_size=3)
RUNS = st.lists(
    st.tuples(
        st.sampled_from(["quay", "office"]),
        st.lists(st.tuples(st.sampled_from(["c", "c[row 1]", "d"]), st.booleans()), max_size=4),
        LABELS,
    ),
    max_size=6,
)


@settings(deadline=None)
@given(RUNS, LABELS, st.integers(1, 4))
def test_history_is_what_a_plain_count_gives(
    runs: list[tuple[str, list[tuple[str, bool]], list[tuple[str, str]]]],
    wanted: list[tuple[str, str]],
    limit: int,
) -> None:
    with SqliteLedger(Path("never-made.sqlite"), write=False) as ledger:
        for target, cases, labels in runs:
            number = ledger.begin("run", target, "w", labels=labels)
            for name, held in cases:
                verdict = Verdict.PASSED if held else Verdict.FAILED
                ledger.add(
                    number,
                    [replace(record(name, b"{}", HELD if held else WRONG), verdict=verdict)],
                    [CaseRecord("suite", name, verdict, "", 0.5)],
                )
            ledger.end(number, "passed")
        found = [one.id for one in ledger.runs(100, RunQuery(labels=tuple(wanted)))]
        assert found == [
            number for number, (_, _, labels) in reversed([*enumerate(runs, 1)]) if set(wanted) <= set(labels)
        ]
        for one in ledger.runs(100):
            assert one.labels == tuple(sorted(set(runs[one.id - 1][2])))
        turns = {
            number: [held for name, held in cases if name.partition("[")[0] == "c"]
            for number, (_, cases, _) in reversed([*enumerate(runs, 1)])
        }
        assert [
            (one.run, one.count, one.failing, one.verdict) for one in ledger.case_history("suite", "c", limit)
        ] == [
            (number, len(held), held.count(False), Verdict.PASSED if all(held) else Verdict.FAILED)
            for number, held in turns.items()
            if held
        ][:limit]
        called = [(number, cases) for number, (_, cases, _) in enumerate(runs, 1) if cases][::-1]
        seen = ledger.operation_history("quay", "x", limit)
        assert [(one.run, one.count, one.failing) for one in seen] == [
            (number, len(cases), sum(not held for _, held in cases)) for number, cases in called[:limit]
        ]
        assert [one.labels for one in seen] == [ledger.run(one.run).labels for one in seen]
        bad = [
            (number, target)
            for number, (target, cases, _) in enumerate(runs, 1)
            for _, held in cases
            if not held
        ]
        findings = ledger.finding_history("body.type", 9)
        assert [
            (one.first_run, one.last_run, one.runs, one.times, one.targets, one.operation) for one in findings
        ] == (
            [
                (
                    *(bad[0][0], bad[-1][0], len({number for number, _ in bad}), len(bad)),
                    *(tuple(sorted({target for _, target in bad})), "quay:x"),
                )
            ]
            if bad
            else []
        )
        for one in findings:
            assert ledger.finding_history(one.fingerprint[:9], 9) == findings
            assert not ledger.finding_history(one.fingerprint[:3], 9)  # too short to name one


@pytest.mark.parametrize(
    ("typed", "plan", "environment", "labels"),
    [
        ((), "", {}, ()),
        (("branch=dock",), "night", {"GIT_BRANCH": "main"}, (("branch", "dock"), ("plan", "night"))),
        (("plan=b",), "night", {}, (("plan", "b"),)),
        ((), "", {"CI_COMMIT_SHA": "ab1", "GIT_COMMIT": "cd2"}, (("commit", "cd2"),)),
        ((), "", {"BUILD_NUMBER": " ", "BUILD_ID": "7\n8"}, (("build", "7 8"),)),
    ],
)
def test_labels_of_a_run(typed: Any, plan: str, environment: dict[str, str], labels: Any) -> None:
    assert labels_of_run(typed, plan, environment) == labels


def test_older_forms_are_read_too(tmp_path: Path) -> None:
    """They have no labels and no fingerprints; what became of cases and operations is known."""
    path = tmp_path / "l.sqlite"
    path.write_bytes((DATA / "ledger-2.sqlite").read_bytes())
    with open_ledger(path) as ledger:
        run = next(one.id for one in ledger.runs() if one.cases)
        case, sent = ledger.cases(run)[0], next(ledger.exchanges(ExchangeQuery(run=run)))
        assert ledger.case_history(case.suite, case.case.partition("[")[0], 9)[0].run == run
        assert ledger.operation_history(sent.contract, sent.operation, 9)[0].run == run
        assert not any(one.labels for one in ledger.runs())
        assert ledger.runs(9, RunQuery(labels=(("a", "1"),))) == ledger.finding_history("body.type", 9) == []


def test_an_operation_without_a_response_did_not_pass(tmp_path: Path) -> None:
    with open_ledger(tmp_path / "l.sqlite", write=True) as ledger:
        silent = replace(record("a", status=0), verdict=Verdict.ERROR)
        ledger.add(ledger.begin("run", "t", "w"), [replace(record("b"), verdict=Verdict.PASSED), silent])
        ledger.add(ledger.begin("learn", "t", "w"), [silent])  # is not judged
        (seen,) = ledger.operation_history("quay", "x", 9)
        assert (seen.verdict, seen.count, seen.failing, seen.exchange) == (Verdict.ERROR, 2, 1, 2)


def test_since_when_a_case_fails(berths: Path, jux: Jux) -> None:
    """Two harbours behind one target: what broke between them is told, with the label of the run."""

    def go(*words: str, status: int | None = 0) -> Result:
        return jux(*words, "-C", berths, env={**KEY_ENV, "GIT_COMMIT": "ab12cd"}, status=status)

    with serving("none") as url:
        add_target(berths, url)
        go("compose", "berths")
        go("run", "berths", "--operation", "getBerth", "--label", "commit=00aa")
        held = go("history", "getBerth").out
    assert "1 run: 1 passed" in held and "failed" not in held.split("run  started")[0]
    with serving("all") as url:
        go("targets", "set", "quay", url)
        go("run", "berths", "--operation", "getBerth", "--target", "quay", status=1)
        go("run", "berths", "--operation", "getBerth", "--target", "quay", status=1)
    told = go("history", "berths#getBerth").out
    assert "3 runs: 2 failed, 1 passed" in told
    assert "at quay it failed in each of these runs" in told and "at local" not in told
    assert "2 newly failing" in go("compare", "1", "2", status=1).out
    assert "2 mended" in go("compare", "2", "1", status=1).out
    assert "2 still failing" in go("compare", "2", "3", status=None).out
    go("run", "berths", "--operation", "getBerth", "--target", "local", status=None)  # nobody is there
    assert "2 not tried again" in go("compare", "2", "4", status=1).out
    told = go("history", "berths#getBerth").out
    assert "at local it fails since run 4" in told and "commit=ab12cd" in told and "passed in run 1" in told
    found = go("history", "body.unique", "--json").json["findings"]
    assert [(one["firstRun"], one["lastRun"], one["inLatest"]) for one in found] == [(2, 3, False)]
    listed = go("runs", "--label", "commit=ab12cd", "--suite", "berths", "--json").json["runs"]
    assert [one["run"] for one in listed] == [4, 3, 2] and listed[0]["labels"]["commit"] == "ab12cd"
    assert "no run is like that" in go("runs", "--verdict", "refused").err
    for words, said in (
        (("history", "berths#getBert"), "getBerth"),
        (("history", "berth#getBerth"), "berths"),
        (("history", "berths#getBerth#getBerth"), "juxtalogos history berths#getBerth"),
        (("history", "getBert"), "getBerth"),
        (("history", "body.enumm"), "did you mean body.enum?"),
        (("history", ""), "there is no operation"),
        (("history", "getBerth", "--last", "0"), "--last 0"),
        (("run", "--label", "a=1", "--label", "a=2"), "the label a is given twice"),
        (("runs", "--label", "x"), "x is no label"),
        (("run", "--label", "=1"), "is no label"),
    ):
        assert said in go(*words, status=2).err.replace("'", "")


def test_an_operation_of_two_contracts_is_asked_back(berths: Path, jux: Jux) -> None:
    (berths.parent / "again.yaml").write_text(BERTHS)
    jux("import", berths.parent / "again.yaml", "--name", "again", "-C", berths)
    told = jux("history", "getBerth", "-C", berths, status=2).err
    assert (
        "several contracts have an operation getBerth" in told.replace("'", "") and "again:getBerth" in told
    )
    assert "is in no run yet" in jux("history", "again:getBerth", "-C", berths).err
