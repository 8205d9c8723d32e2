"""The run engine on its own: order, actions, clean-up, tables, set-up, sign-in, the ledger read back, the
system under test.
"""

from __future__ import annotations

import asyncio
import sys
from pathlib import Path
from typing import Any

import pytest

from juxtalogos.exchange.redact import MASK
from juxtalogos.ledger import open_ledger
from juxtalogos.model.errors import ConfigError
from juxtalogos.model.exchange import Request, header
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.target.session import open_session
from juxtalogos.run.target.system import run_command, running_system
from scripted import BASE, Bench, Reply, Scripted, case, lines, reply, step


@pytest.fixture
def bench(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Bench:
    return Bench(tmp_path / "work", monkeypatch)


def refusing(*calls: str) -> Any:
    """A service that answers these calls with 500."""

    def answer(request: Request) -> Reply:
        said = f"{request.method} {request.url.removeprefix(BASE)}"
        return reply(500, {"id": 0}) if said in calls else lines(request)

    return answer


LIFE = (
    step("make", "makeLine"),
    step("read", "readLine", line="$steps.make.outputs.id", status=200),
    step("drop", "dropLine", line="$steps.make.outputs.id", **{"x-juxtalogos-always": True}),
)


def test_a_case_from_values_to_values_and_back_out_of_the_ledger(bench: Bench) -> None:
    bench.suite(case("life", *LIFE))
    ran = bench.run()
    assert ran.verdict is Verdict.PASSED and ran.verdicts() == {"life": "passed"} and len(ran.done) == 1
    assert ran.service.calls() == ["POST /lines", "GET /lines/7", "DELETE /lines/7"]
    assert header(ran.service.sent[0].headers, "x-line-key") == "ebb-and-flow-77"
    made, read, _ = ran.records
    assert made.exchange and header(made.exchange.request.headers, "x-line-key") == MASK
    assert b"ebb-and-flow" not in bench.home.ledger_path.read_bytes()
    assert read.flows == (("path.id", "$steps.make.outputs.id"),)
    assert {one.kind for one in read.results} >= {"status.undeclared", "body.type", "criterion.unmet"}
    assert all(one.held for one in read.results) and read.exchange and read.exchange.response
    assert read.exchange.response.body == b'{"id": 7, "state": "made"}'
    with open_ledger(bench.home.ledger_path) as ledger:
        hit = {row.element.partition("|")[0] for row in ledger.hits([ran.number], "quay")}
        assert {"operation", "status", "response-property", "enum"} <= hit
        assert ledger.run(ran.number).exchanges == 3 and ledger.contracts([ran.number]) == ["quay"]


def test_clean_up_runs_after_a_failure_and_what_was_not_reached_is_told(bench: Bench) -> None:
    late = step("late", "readLine", line=9)
    bench.suite(case("life", LIFE[0], LIFE[1], late, LIFE[2]))
    ran = bench.run(refusing("GET /lines/7"))
    assert ran.steps("life") == {"make": "passed", "read": "failed", "drop": "passed", "late": "skipped"}
    assert ran.service.calls()[-1] == "DELETE /lines/7" and ran.verdict is Verdict.FAILED
    assert ran.cases[0].reason.startswith("read: status.server-error at status")


def test_without_an_answer_and_without_what_is_needed(bench: Bench) -> None:
    bench.suite(case("life", *LIFE))
    ran = bench.run(lambda request: "the quay closed the connection")
    assert ran.steps("life") == {"make": "error", "read": "skipped", "drop": "skipped"}
    drop = next(one for one in ran.records if one.step == "drop")
    assert drop.reason == "no value for $steps.make.outputs.id"


def test_retries_wait_as_the_answer_says_or_as_the_suite_does(bench: Bench) -> None:
    retry = [{"name": "again", "type": "retry", "retryAfter": 2.5, "retryLimit": 2}]
    bench.suite(case("stubborn", step("read", "readLine", line=1, status=200, onFailure=retry)))
    replies = [reply(404, {"id": 0}), reply(404, {"id": 0}, ("Retry-After", "40")), reply(200, {"id": 1})]
    ran = bench.run(lambda request: replies.pop(0))
    assert ran.clock.waits == [2.5, 40.0] and [one.status for one in ran.records] == [404, 404, 200]
    assert ran.verdict is Verdict.PASSED, "a retried failure is told, and fails nothing"
    replies[:] = [reply(404, {"id": 0}, ("Retry-After", "86400"))] * 3
    assert bench.run(lambda request: replies.pop(0)).clock.waits == [300.0, 300.0]


def test_actions_lead_on_back_and_into_other_cases(bench: Bench) -> None:
    skip = [{"name": "on", "type": "goto", "stepId": "last"}]
    mend = [{"name": "mend", "type": "goto", "workflowId": "helper"}]
    stop = [{"name": "stop", "type": "end"}]
    bench.suite(
        case(
            "forward",
            step("one", "readLine", line=1, onSuccess=skip),
            step("two", "readLine", line=2),
            step("last", "readLine", line=3),
        ),
        case("aside", step("broken", "readLine", line=4, status=404, onFailure=mend)),
        case("early", step("one", "readLine", line=5, onSuccess=stop), step("two", "readLine", line=6)),
        case("helper", step("help", "readLine", line=8)),
        case("caller", {"stepId": "call", "workflowId": "helper"}, step("then", "readLine", line=9)),
    )
    ran = bench.run(jobs=1)
    assert list(ran.steps("forward")) == ["one", "last"] and list(ran.steps("early")) == ["one"]
    assert list(ran.steps("aside")) == ["broken", "broken.mend/help"]
    assert list(ran.steps("caller")) == ["call/help", "then"]


def test_a_goto_that_leads_round_ends(bench: Bench) -> None:
    back = [{"name": "round", "type": "goto", "stepId": "one"}]
    bench.suite(case("round", step("one", "readLine", line=1, onSuccess=back)))
    ran = bench.run()
    assert len(ran.service.sent) == 1_000 and ran.verdict is Verdict.ERROR
    assert "a goto leads in a circle" in ran.cases[0].reason


def test_needed_cases_come_first_once_and_give_their_outputs(bench: Bench) -> None:
    first = case("first", step("make", "makeLine"), outputs={"id": "$steps.make.outputs.id"})
    follow = [
        case(name, step("read", "readLine", line="$workflows.first.outputs.id"), dependsOn=["first"])
        for name in ("then", "too")
    ]
    bench.suite(*follow, first)
    ran = bench.run(jobs=8)
    assert sorted(ran.service.calls()) == ["GET /lines/7", "GET /lines/7", "POST /lines"]
    assert ran.verdicts() == {"first": "passed", "then": "passed", "too": "passed"}
    ran = bench.run(refusing("POST /lines"))
    assert ran.verdicts() == {"first": "failed", "then": "skipped", "too": "skipped"}
    assert (
        next(one for one in ran.cases if one.case == "then").reason == "first did not succeed, which it needs"
    )


def test_jobs_bound_what_runs_side_by_side(bench: Bench) -> None:
    bench.suite(*(case(f"c{number}", step("read", "readLine", line=number)) for number in range(12)))
    assert bench.run(jobs=3).service.most == 3 and bench.run(jobs=1).service.most == 1


TABLE = case(
    "rows",
    step("make", "makeLine"),
    step("read", "readLine", line="$inputs.line", status=200),
    **{
        "inputs": {"type": "object", "required": ["line"], "properties": {"line": {"type": "integer"}}},
        "x-juxtalogos-table": {"file": "lines.csv"},
    },
)


def test_a_row_a_turn_and_set_up_once(bench: Bench) -> None:
    (bench.home.root / "tables").mkdir()
    (bench.home.root / "tables" / "lines.csv").write_text("line\n3\n4\n", "utf-8")
    bench.suite(TABLE)
    ran = bench.run(repeat=2, jobs=1)
    assert list(ran.verdicts()) == [f"rows[row {row}, turn {turn}]" for turn in (1, 2) for row in (1, 2)]
    bench.suite({**TABLE, "x-juxtalogos-setup": ["make"]})
    ran = bench.run()
    assert list(ran.verdicts()) == ["rows[set-up]", "rows[row 1]", "rows[row 2]"]
    assert ran.service.calls() == ["POST /lines", "GET /lines/3", "GET /lines/4"]


def test_cookies_belong_to_their_case(bench: Bench) -> None:
    bench.suite(
        *(case(name, step("make", "makeLine"), step("read", "readLine", line=1)) for name in ("a", "b"))
    )

    def answer(request: Request) -> Reply:
        if request.method == "POST":
            return reply(201, {"id": 1}, ("Set-Cookie", "berth=seven; Path=/"))
        return reply(200, {"id": 1})

    ran = bench.run(answer, jobs=1)
    cookies = [header(one.headers, "cookie") for one in ran.service.sent]
    assert cookies == [None, "berth=seven", None, "berth=seven"]


def test_standing_checks_and_kinds_switched_off(bench: Bench) -> None:
    bench.suite(case("c", step("read", "readLine", line=1)))
    bench.configure('[[contracts.quay.standing]]\noperation = "*"\nat = "body/id"\nequals = 2\n')
    found = bench.run().records[0]
    assert [one.kind for one in found.results if not one.held] == ["check.unmet"]
    bench.configure('[[contracts.quay.off]]\noperation = "readLine"\nkind = "body.enum"\nreason = "known"\n')
    ran = bench.run(lambda request: reply(200, {"id": 1, "state": "adrift"}))
    told = [one.detail for one in ran.records[0].results if one.detail]
    assert told == ["switched off: known"] and ran.verdict is not Verdict.FAILED


def test_values_from_the_seed_are_the_same_again(bench: Bench) -> None:
    inputs = {
        "type": "object",
        "properties": {"line": {"type": "integer", "x-juxtalogos-value": "between(1, 99999)"}},
    }
    bench.suite(case("c", step("read", "readLine", line="$inputs.line"), inputs=inputs))
    calls = [bench.run(seed=seed).service.calls() for seed in (1, 1, 2)]
    assert calls[0] == calls[1] != calls[2]


def test_credentials_go_to_the_targets_origins_only(bench: Bench) -> None:
    contract = bench.home.contract("quay")
    session = open_session({"quay": contract}, bench.home.target("here"), bench.home.root)
    operation = contract.operation("makeLine")
    assert operation is not None
    service = Scripted(lines)
    signed, elsewhere = (
        asyncio.run(session.signed(contract, operation, Request("POST", url), service))
        for url in (f"{BASE}/lines", "http://other.test/v1/lines")
    )
    assert header(signed.headers, "X-Line-Key") and not elsewhere.headers


def test_the_system_under_test_is_started_awaited_and_stopped(bench: Bench, tmp_path: Path) -> None:
    port_file, stopped = tmp_path / "port", tmp_path / "stopped"
    script = tmp_path / "serve.py"
    script.write_text(
        "import http.server, pathlib\n"
        "server = http.server.ThreadingHTTPServer(('127.0.0.1', 0), http.server.SimpleHTTPRequestHandler)\n"
        f"pathlib.Path({str(port_file)!r}).write_text(str(server.server_address[1]))\nserver.serve_forever()\n"
    )
    import socket

    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    script.write_text(script.read_text().replace("'127.0.0.1', 0)", f"'127.0.0.1', {port})"))
    python = sys.executable
    bench.configure(
        "",
        f'urls = {{quay = "http://127.0.0.1:{port}"}}\n[targets.here.system]\nstart = ["{python}",'
        f' "{script}"]\nready = "http://127.0.0.1:{port}/"\nready-timeout = 20\nstop = ["{python}", "-c",'
        f" \"open({str(stopped)!r}, 'w')\"]\n",
    )
    session = open_session({"quay": bench.home.contract("quay")}, bench.home.target("here"), bench.home.root)

    async def work() -> None:
        async with running_system(session, bench.home.root):
            assert port_file.exists() and not stopped.exists()

    asyncio.run(work())
    assert stopped.exists()
    with pytest.raises(ConfigError, match="status 3: tide"):
        asyncio.run(
            run_command((python, "-c", "print('tide'); raise SystemExit(3)"), bench.home.root, "reset")
        )
    with pytest.raises(ConfigError, match="cannot be run"):
        asyncio.run(run_command(("./no-such-program",), bench.home.root, "reset"))
