"""One view of a run: terminal, JSON, JUnit, HTML and exit status agree with one another and with the records
themselves, whatever a run holds.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import answers, definition, read_contract
from juxtalogos.cli.shared.summary import exit_status, run_data, show_findings, show_run
from juxtalogos.cli.shared.terminal import Terminal
from juxtalogos.ledger import CaseRecord, ExchangeRecord
from juxtalogos.ledger.sqlite.store import SqliteLedger
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.model.findings import CheckResult, Severity
from juxtalogos.model.location import Location
from juxtalogos.model.verdict import Verdict, worst
from juxtalogos.report import REPORTERS
from juxtalogos.report.groups import by_class, found_groups
from juxtalogos.report.view import RunView, run_view

MANY = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
CONTRACT = read_contract(
    definition({"/q": {"get": {"operationId": "q", "responses": answers({"type": "integer"})}}})
)
PLACES = [None, Location("quay.yaml", "/paths/~1q/get/responses/200"), Location("gone.yaml", "/x")]

results = st.builds(
    CheckResult,
    kind=st.sampled_from(["body.type", "status.undeclared", "criterion.unmet", "media.missing"]),
    held=st.booleans(),
    at=st.sampled_from(["status", "body/a/0", "body/a/1"]),
    declared=st.sampled_from(["200", "<b>"]),
    observed=st.sampled_from(["500", "]]>&"]),
    location=st.sampled_from(PLACES),
    severity=st.sampled_from(list(Severity)),
)
steps = st.tuples(
    st.sampled_from([0, 200, 404, 500]),
    st.sampled_from(list(Verdict)),
    st.lists(results, max_size=4),
    st.booleans(),
)
cases = st.lists(st.tuples(st.sampled_from(["w", "other/deep"]), st.lists(steps, max_size=3)), max_size=6)


def _records(drawn: list[Any]) -> tuple[list[CaseRecord], list[ExchangeRecord]]:
    found, exchanges = [], []
    for number, (suite, listed) in enumerate(drawn):
        for index, (status, verdict, checks, sent) in enumerate(listed):
            response = Response(status, "", (("Content-Type", "application/json"),), b"1") if status else None
            exchange = (
                Exchange(
                    Request("GET", f"http://h/{number}"), response, Timings(0, 0, 0), "" if status else "none"
                )
                if sent
                else None
            )
            exchanges.append(
                ExchangeRecord(
                    f"c{number}",
                    f"s{index}",
                    "quay",
                    "q",
                    exchange,
                    verdict,
                    f"why {index}",
                    tuple(checks) if sent else (),
                    suite=suite,
                )
            )
        verdict = worst(one[1] for one in listed)
        found.append(CaseRecord(suite, f"c{number}", verdict, f"because {number}", number / 10))
    return found, exchanges


@contextmanager
def viewed(
    drawn: list[Any], *, remarks: bool = True
) -> Iterator[tuple[RunView, list[CaseRecord], list[ExchangeRecord]]]:
    found, exchanges = _records(drawn)
    with SqliteLedger(Path("never-made.sqlite"), write=False) as ledger:
        ledger.db.execute("INSERT INTO run VALUES (1, 100, 101, 'run', 'local', 'all', 'failed', 0, '')")
        ledger._put(1, exchanges, found)
        yield run_view(ledger, 1, {"quay": CONTRACT}, remarks=remarks), found, exchanges


@MANY
@given(cases, st.booleans())
def test_findings_are_those_of_the_records(drawn: list[Any], remarks: bool) -> None:
    with viewed(drawn, remarks=remarks) as (view, _, exchanges):
        wanted = Counter(
            finding.fingerprint
            for one in exchanges
            for finding in one.findings()
            if remarks or finding.result.severity is not Severity.REMARK
        )
        assert {one.found.fingerprint: one.count for one in view.findings} == wanted
        told = run_data(view)
        assert {one["fingerprint"]: one["times"] for name in told["counts"] for one in told[name]} == wanted
        for one in view.findings:
            place = one.result.location
            known = place is not None and place.document == "quay.yaml"
            assert bool(one.where) is known and (one.line is not None) is known and bool(one.excerpt) is known
            first = exchanges[one.found.first - 1]
            assert one.result in first.results and one.found.finding.status == first.status


@MANY
@given(cases)
def test_cases_steps_and_counts_are_those_of_the_records(drawn: list[Any]) -> None:
    with viewed(drawn) as (view, found, exchanges):
        assert Counter(view.cases) == Counter(found)
        assert view.verdicts == Counter(str(one.verdict) for one in found)
        assert view.step_verdicts == Counter(str(one.verdict) for one in exchanges)
        for one in found:
            own = [(step.step, step.status, step.verdict) for step in view.steps_of(one)]
            assert own == [
                (e.step, e.status, e.verdict) for e in exchanges if (e.suite, e.case) == (one.suite, one.case)
            ]
        sent = [one for one in exchanges if one.exchange]
        assert dict(view.statuses) == Counter(
            str(one.status) if one.status else "no response" for one in sent
        )
        assert list(view.exchanges()) == list(view.exchanges()) and len(list(view.exchanges())) == len(
            exchanges
        )
        assert view.run.findings == sum(result.fails for one in exchanges for result in one.results)


@MANY
@given(cases)
def test_reports_agree_with_the_view(drawn: list[Any]) -> None:
    with viewed(drawn) as (view, found, exchanges):
        root = ElementTree.fromstring(REPORTERS["junit"].write(view))
        assert (
            sum(int(suite.get("tests", "0")) for suite in root)
            == len(found)
            == len(list(root.iter("testcase")))
        )
        for kind, verdicts in (
            ("failures", ("failed",)),
            ("errors", ("error",)),
            ("skipped", ("skipped", "unproven", "refused")),
        ):
            assert sum(int(suite.get(kind, "0")) for suite in root) == sum(
                one.verdict in verdicts for one in found
            )
        assert {(one.get("classname"), one.get("name")) for one in root.iter("testcase")} == {
            (one.suite.replace("/", "."), one.case) for one in found
        }
        page = REPORTERS["html"].write(view).decode()
        assert page.count('<article class="finding') == sum(
            len(found_groups(one)) for one in by_class(view.findings).values()
        )
        assert page.count('<details class="exchange"') == len(exchanges)
        assert page.count("<b>") >= 1 and "declared</h4><p><b>" not in page, (
            "what was declared is text, not markup"
        )


@MANY
@given(cases, st.booleans())
def test_the_exit_status_follows_from_the_records(drawn: list[Any], strict: bool) -> None:
    with viewed(drawn) as (view, found, exchanges):
        verdicts = {one.verdict for one in found}
        failing = (
            any(result.fails for one in exchanges for result in one.results) or Verdict.FAILED in verdicts
        )
        counted = strict and verdicts & {Verdict.UNPROVEN, Verdict.REFUSED, Verdict.SKIPPED}
        if failing or counted:
            wanted = 1
        elif Verdict.ERROR in verdicts:
            wanted = 3 if verdicts <= {Verdict.ERROR, Verdict.SKIPPED} else 1
        else:
            reached = Verdict.PASSED in verdicts or any(200 <= one.status < 300 for one in exchanges)
            wanted = int(Verdict.REFUSED in verdicts and not reached)
        assert exit_status(view, strict=strict) == wanted


def test_what_the_terminal_shows(capsys: pytest.CaptureFixture[str]) -> None:
    wrong = CheckResult("body.type", False, "body", "integer", "\x1b[31mred\u202e", PLACES[1])
    doubtful = CheckResult(
        "media.missing", False, "header.Content-Type", "application/json", "none", severity=Severity.REMARK
    )
    drawn = [
        ("w", [(200, Verdict.FAILED, [wrong, doubtful], True), (0, Verdict.SKIPPED, [], False)]),
        ("w", [(0, Verdict.ERROR, [], True)]),
    ]
    with viewed(drawn) as (view, _, _):
        show_run(Terminal(verbose=True), view)
    out = capsys.readouterr().out
    assert "\x1b" not in out and "\\x1b[31mred\\u202e" in out
    assert re.search(r"w#c0 +failed +200 - +0 +because 0", out) and re.search(r"w#c1 +error +- +100", out)
    assert (
        "responses: none × 1  200 × 1" in out
        and "findings: 1" in out
        and "remarks: 1" in out
        and "quay.yaml:" in out
    )
    assert re.search(r"1 +c0#s0 +GET http://h/0 +200 +failed", out)
    assert "run 1 at local: 2 cases, 1 error, 1 failed" in out
    with viewed([]) as (view, _, _):
        show_findings(Terminal(), view)
        assert "no findings" in capsys.readouterr().out
        assert json.dumps(run_data(view)) and exit_status(view, strict=True) == 0


def test_the_order_of_cases_is_that_of_the_suite() -> None:
    drawn = [("w", []), ("other/deep", []), ("w", [])]
    found, _ = _records(drawn)
    with SqliteLedger(Path("never-made.sqlite"), write=False) as ledger:
        ledger.db.execute("INSERT INTO run VALUES (1, 100, 101, 'run', 'local', 'all', 'failed', 0, '')")
        rows = [
            *found[::-1],
            CaseRecord("w", "c2[row 2]", Verdict.PASSED, "", 0),
            CaseRecord("w", "needed", Verdict.PASSED, "", 0),
        ]
        ledger._put(1, [], rows)
        view = run_view(ledger, 1, {}, order=[("w", "c0"), ("w", "c2"), ("other/deep", "c1")])
        assert [one.case for one in view.cases] == ["c0", "c2", "c2[row 2]", "c1", "needed"]
        assert run_view(ledger, None, {}).cases[0].case == "c1"
