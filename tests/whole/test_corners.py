"""Corners that faults planted in our own code showed to be bare: random values against something simpler that
says the same.
"""

from __future__ import annotations

import asyncio
import itertools
import json
import random
import re
import shutil
import sys
import tempfile
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from types import SimpleNamespace
from typing import Any
from urllib.parse import quote, unquote

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from lxml import etree

from conftest import Result, answers, definition, read_contract
from juxtalogos._version import VERSION
from juxtalogos.exchange.message import parse_request
from juxtalogos.exchange.redact import MASK, Redactor
from juxtalogos.formats import wire_of
from juxtalogos.formats.http.match import path_values
from juxtalogos.ledger import CaseRecord, ExchangeQuery, ExchangeRecord
from juxtalogos.ledger.recorder import Recorder
from juxtalogos.ledger.sqlite.store import SqliteLedger
from juxtalogos.model.errors import ConfigError, LedgerError
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.model.findings import CheckResult
from juxtalogos.model.location import Location
from juxtalogos.model.verdict import Verdict
from juxtalogos.model.wire import Inputs
from juxtalogos.run.engine.binding import BoundRun, digest_of
from juxtalogos.run.engine.engine import Engine
from juxtalogos.run.engine.plan import CaseRef, Part, RunPlan, Unit, turns, units
from juxtalogos.run.engine.slots import Slots
from juxtalogos.run.engine.step import RunContext
from juxtalogos.run.engine.stop import Stop
from juxtalogos.run.engine.unforeseen import told
from juxtalogos.run.executors import Dealer
from juxtalogos.run.executors.local import LocalExecutor
from juxtalogos.run.executors.processes import ProcessExecutor
from juxtalogos.run.target.session import open_session
from juxtalogos.run.target.system import running_system
from juxtalogos.schema.xml import compile_schemas
from juxtalogos.suite.model import Case, CaseKey, Suite
from juxtalogos.workspace import cache
from juxtalogos.workspace.workspace import Workspace
from scripted import BASE, Bench, Scripted, case, lines, step

Jux = Callable[..., Result]
MANY = settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
words = st.text(
    st.characters(codec="utf-8", exclude_characters="-~\x00", exclude_categories=["Cs"]),
    min_size=1,
    max_size=8,
)


@MANY
@given(words, words, words, words)
def test_several_variables_in_one_segment_come_back(a: str, b: str, c: str, d: str) -> None:
    path = "/berths/{a}-{b}/at.{c}~{d}"
    parameters = [
        {"name": name, "in": "path", "required": True, "schema": {"type": "string"}} for name in "abcd"
    ]
    contract = read_contract(definition({path: {"get": {"parameters": parameters, "responses": answers()}}}))
    operation, wire = contract.operations[0], wire_of(contract)
    values = {f"path.{name}": value for name, value in zip("abcd", (a, b, c, d))}
    request = wire.encode(operation, Inputs(values), BASE)
    assert (
        request.url
        == f"{BASE}/berths/{quote(a, safe='')}-{quote(b, safe='')}/at.{quote(c, safe='')}~{quote(d, safe='')}"
    )
    assert wire.match(request, BASE) == (operation,)
    found = path_values(contract, operation, request.url, BASE)
    assert found is not None and {name: unquote(text) for name, text in found.items()} == {
        name: values[f"path.{name}"] for name in "abcd"
    }


KEYS = """<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"><xs:element name="quay"><xs:complexType><xs:sequence>
<xs:element name="berth" maxOccurs="unbounded"><xs:complexType><xs:attribute name="no" type="xs:decimal"/><xs:attribute name="side"/></xs:complexType></xs:element>
<xs:element name="call" minOccurs="0" maxOccurs="unbounded"><xs:complexType><xs:attribute name="at" type="xs:decimal"/></xs:complexType></xs:element>
</xs:sequence></xs:complexType>
<xs:key name="k"><xs:selector xpath="berth"/><xs:field xpath="@no"/></xs:key>
<xs:unique name="u"><xs:selector xpath="berth"/><xs:field xpath="@side"/><xs:field xpath="@no"/></xs:unique>
<xs:keyref name="r" refer="k"><xs:selector xpath="call"/><xs:field xpath="@at"/></xs:keyref></xs:element></xs:schema>"""


def _keys() -> Any:
    if not _compiled:
        folder = Path(tempfile.mkdtemp())
        (folder / "q.xsd").write_text(KEYS, "utf-8")
        _compiled.append(compile_schemas([folder / "q.xsd"]))
        shutil.rmtree(folder)
    return _compiled[0]


_compiled: list[Any] = []
numbers = st.sampled_from(["1", "1.0", "01", "2", "3.50", "3.5", None])


@MANY
@given(
    st.lists(st.tuples(numbers, st.sampled_from(["port", "star", None])), min_size=1, max_size=4),
    st.lists(numbers, max_size=3),
)
def test_keys_whose_fields_are_attributes_against_libxml2(berths: list[Any], calls: list[Any]) -> None:
    def attributes(**named: Any) -> str:
        return "".join(f' {name}="{value}"' for name, value in named.items() if value is not None)

    text = "<quay>" + "".join(f"<berth{attributes(no=no, side=side)}/>" for no, side in berths)
    text += "".join(f"<call{attributes(at=at)}/>" for at in calls) + "</quay>"
    mine = _keys().accepts(text.encode())
    assert mine == etree.XMLSchema(etree.fromstring(KEYS)).validate(etree.fromstring(text)), text


def test_overloads_that_nothing_tells_apart_are_numbered(tmp_path: Path) -> None:
    from test_soap import _BOUND, _GO, _IO, _OP, contract_of, wsdl

    bound = _BOUND.format('use="literal"')
    contract = contract_of(
        tmp_path, wsdl(_GO, _IO.format('element="t:Go"', 'element="t:Gone"'), _OP * 3, bound * 3)
    )
    assert [one.id for one in contract.operations] == ["S.Q.go", "S.Q.go.2", "S.Q.go.3"]
    assert len({contract.operation(one.id) for one in contract.operations}) == 3


def test_ready_without_start_waits_for_a_system_that_others_start(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    bench = Bench(tmp_path / "work", monkeypatch)
    asked: list[str] = []

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            asked.append(self.headers["Host"])
            self.send_response(200 if len(asked) > 2 else 503)
            self.send_header("Content-Length", "0")
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    import threading

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()
    port = server.server_address[1]

    def session(ready: str, timeout: float = 20) -> Any:
        target = (
            f'addresses = {{"quay.test" = "127.0.0.1:{port}"}}\n[targets.here.system]\nready ='
            f' "{ready}"\nready-timeout = {timeout}\n'
        )
        bench.configure("", target)
        return open_session({"quay": bench.home.contract("quay")}, bench.home.target("here"), bench.home.root)

    async def up(one: Any) -> None:
        async with running_system(one, bench.home.root):
            assert asked

    asyncio.run(up(session(f"{BASE}/ready")))
    assert len(asked) == 3 and set(asked) == {"quay.test"}, (
        "by the target's own addresses, its host name kept"
    )
    with pytest.raises(ConfigError, match="none of the target's origins"):
        asyncio.run(up(session("http://other.test/ready")))
    server.shutdown()
    server.server_close()
    with pytest.raises(ConfigError, match=r"not ready within 0.3 s: .*refused"):
        asyncio.run(up(session(f"{BASE}/ready", 0.3)))


def test_the_cache_goes_by_content(berths: Path, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    reads: list[str] = []
    original = cache.save
    monkeypatch.setattr(cache, "save", lambda contract: (reads.append(contract.name), original(contract)))

    def titles() -> str:
        return Workspace(berths).contract("berths").title

    first = titles()
    assert titles() == first and len(reads) == 1, "the second time from the cache"
    path = berths / "definitions" / "berths" / "berths.yaml"
    text = path.read_text("utf-8")
    path.write_text(text.replace(first, "Berths of another port", 1), "utf-8")
    assert titles() == "Berths of another port" and len(reads) == 2
    path.write_text(text, "utf-8")
    assert titles() == first and len(reads) == 2, "what it was before is still there"
    monkeypatch.setattr(cache, "VERSION", "0.0.other")
    assert titles() == first and len(reads) == 3, "another version of the program reads anew"
    for kept in (tmp_path / "cache").rglob("index.json"):
        kept.write_text("{", "utf-8")
    assert titles() == first and len(reads) == 4, "what cannot be used is read anew"
    shutil.rmtree(tmp_path / "cache")
    assert titles() == first and len(reads) == 5


# Queries in the database against the same said in Python.

statuses = st.sampled_from([0, 200, 201, 404, 500])
kinds = st.sampled_from(["body.type", "status.undeclared", "check.unmet"])
records = st.builds(
    lambda status, method, url, operation, verdict, suite, found: ExchangeRecord(
        "c",
        "s",
        "quay",
        operation,
        Exchange(
            Request(method, url),
            Response(status, "", (), b"{}") if status else None,
            Timings(0, 0, 0),
            "" if status else "none",
        ),
        Verdict(verdict),
        "",
        tuple(CheckResult(kind, False, "body", "a", "b") for kind in found),
        suite=suite,
    ),
    statuses,
    st.sampled_from(["GET", "POST"]),
    st.sampled_from(["http://h/a%25b", "http://h/'q", "http://h/A_"]),
    st.sampled_from(["x", "y"]),
    st.sampled_from([str(one) for one in Verdict]),
    st.sampled_from(["", "w"]),
    st.lists(kinds, max_size=2),
)
queries = st.builds(
    ExchangeQuery,
    after=st.integers(0, 8),
    method=st.sampled_from(["", "get", "POST"]),
    url_part=st.sampled_from(["", "%", "'", "_", "a"]),
    status=st.sampled_from(["", "404", "2XX", "5xx", "0"]),
    verdict=st.sampled_from(["", "failed", "passed"]),
    operation=st.sampled_from(["", "x"]),
    finding=st.sampled_from(["", "any", "body.type"]),
    of_a_suite=st.booleans(),
    answered=st.booleans(),
    newest_first=st.booleans(),
    limit=st.sampled_from([-1, 0, 1, 5]),
)


def _wanted(query: ExchangeQuery, number: int, record: ExchangeRecord) -> bool:
    exchange = record.exchange
    assert exchange is not None
    found = [one.kind for one in record.results]
    status = query.status.upper()
    behind = number < query.after if query.newest_first and query.after else number > query.after
    return (
        behind
        and (not query.method or exchange.request.method == query.method.upper())
        and query.url_part in exchange.request.url
        and (not status or status in (str(record.status), f"{record.status // 100}XX"))
        and (not query.verdict or record.verdict == query.verdict)
        and (not query.operation or record.operation == query.operation)
        and (not query.finding or (bool(found) if query.finding == "any" else query.finding in found))
        and (not query.of_a_suite or bool(record.suite))
        and (not query.answered or record.status > 0)
    )


@MANY
@given(st.lists(records, max_size=9), queries)
def test_queries_say_what_the_same_says_in_python(kept: list[ExchangeRecord], query: ExchangeQuery) -> None:
    with SqliteLedger(Path("never-made.sqlite"), write=False) as ledger:
        ledger.db.execute("INSERT INTO run VALUES (1, 0, 0, 'run', 't', 'w', '', 0, '')")
        numbers = ledger._put(1, kept, ())
        found = [one.id for one in ledger.exchanges(query)]
        wanted = [number for number, one in zip(numbers, kept) if _wanted(query, number, one)]
        wanted = wanted[::-1] if query.newest_first else wanted
        assert found == (wanted if query.limit < 0 else wanted[: query.limit])
        grouped = Counter(finding.fingerprint for one in kept for finding in one.findings())
        assert {one.fingerprint: one.count for one in ledger.findings(1)} == grouped


class Flaky(SqliteLedger):
    """Locked whenever the script says so."""

    script: list[bool]

    def try_add(self, run: int, records: Any) -> bool:
        return False if self.script and self.script.pop() else super().try_add(run, records)


@settings(MANY, max_examples=15)
@given(st.integers(0, 700), st.lists(st.booleans(), max_size=6))
def test_whatever_is_locked_when_nothing_is_lost_or_turned_round(count: int, script: list[bool]) -> None:
    from juxtalogos.ledger import recorder

    async def write(ledger: Flaky) -> None:
        async with Recorder(ledger, 1) as sink:
            for number in range(count):
                await sink.put(ExchangeRecord(f"c{number}", "s", "", "", None, Verdict.PASSED, ""))
                await sink.put(CaseRecord("w", f"c{number}", Verdict.PASSED, "", 0.0))

    again, recorder.AGAIN = recorder.AGAIN, 0.001
    try:
        with Flaky(Path("never-made.sqlite"), write=False) as ledger:
            ledger.script = list(script)
            ledger.db.execute("INSERT INTO run VALUES (1, 0, 0, 'run', 't', 'w', '', 0, '')")
            asyncio.run(write(ledger))
            assert (
                [one.case for one in ledger.steps(1)]
                == [one.case for one in ledger.cases(1)]
                == [f"c{number}" for number in range(count)]
            )
    finally:
        recorder.AGAIN = again


# The engine on random cases that need one another.


def _random_run(
    bench: Bench, needs: dict[int, set[int]], failing: set[int], jobs: int
) -> tuple[list[str], dict[str, str]]:
    key = {number: CaseKey("w", f"c{number}") for number in needs}
    contract = bench.home.contract("quay")
    from juxtalogos.suite.model import Step

    def one(number: int) -> Case:
        calls = Step(
            "s", Location("w"), contract, contract.operation("readLine"), parameters=(("path.id", number),)
        )
        return Case(
            f"c{number}",
            (calls,),
            Location("w"),
            key[number],
            needs=tuple(key[other] for other in sorted(needs[number])),
        )

    cases = [one(number) for number in needs]
    suite = Suite("w", Path("w"), contract.documents[contract.root], tuple(cases))
    plan = RunPlan(tuple(CaseRef("w", one.id) for one in cases), "here", jobs=jobs)
    session = open_session({"quay": contract}, bench.home.target("here"), bench.home.root)
    bound = BoundRun(
        plan, session, {one.key: (suite, one) for one in cases}, {("w", one.id): one.key for one in cases}, {}
    )

    def answer(request: Request) -> Any:
        return "the line is cut" if int(request.url.rpartition("/")[2]) in failing else lines(request)

    class Sink:
        def __init__(self) -> None:
            self.cases: list[CaseRecord] = []

        async def put(self, record: Any) -> None:
            if isinstance(record, CaseRecord):
                self.cases.append(record)

    service, sink = Scripted(answer), Sink()

    async def work() -> None:
        engine = Engine(bound, RunContext(session, service, Stop()), sink, Slots(jobs))
        await LocalExecutor(engine).run(
            Dealer(units([(ref, bound.key(ref)) for ref in plan.cases], bound.cases, {}, alone=False))
        )

    asyncio.run(work())
    return service.calls(), {one.case: str(one.verdict) for one in sink.cases}


@settings(MANY, max_examples=30)
@given(st.integers(1, 12), st.integers(0, 2**32), st.integers(1, 5))
def test_cases_that_need_one_another_run_once_and_in_order(
    tmp_path_factory: pytest.TempPathFactory, count: int, seed: int, jobs: int
) -> None:
    chance = random.Random(seed)
    needs = {number: {other for other in range(number) if chance.random() < 0.25} for number in range(count)}
    order = list(needs)
    chance.shuffle(order)
    needs = {number: needs[number] for number in order}
    failing = {number for number in needs if chance.random() < 0.2}
    with pytest.MonkeyPatch.context() as patch:
        calls, verdicts = _random_run(
            Bench(tmp_path_factory.mktemp("bench") / "work", patch), needs, failing, jobs
        )
    expected: dict[str, str] = {}
    for number in sorted(needs):
        ready = all(expected[f"c{other}"] == "passed" for other in needs[number])
        expected[f"c{number}"] = ("error" if number in failing else "passed") if ready else "skipped"
    assert verdicts == expected
    sent = [int(call.rpartition("/")[2]) for call in calls]
    assert sorted(sent) == sorted(number for number in needs if expected[f"c{number}"] != "skipped")
    assert all(sent.index(other) < sent.index(number) for number in sent for other in needs[number])


@MANY
@given(st.one_of(st.none(), st.integers(0, 6)), st.integers(1, 3), st.integers(0, 2), st.booleans())
def test_turns_are_as_many_as_rows_and_repetitions_say(
    rows: int | None, repeat: int, setup: int, undone: bool
) -> None:
    from juxtalogos.suite.model import Step

    steps = tuple(Step(f"s{number}", Location("w")) for number in range(4))
    built = Case(
        "c",
        steps,
        Location("w"),
        CaseKey("w", "c"),
        setup=tuple(f"s{number}" for number in range(setup)),
        undoing=frozenset(("s3",) if undone and setup else ()),
    )
    found = list(turns(built, rows, repeat))
    each = (1 if rows is None else rows) if rows is None or not setup else rows + 1 + (undone and setup > 0)
    assert len(found) == repeat * each and len({turn.label for turn in found}) == len(found)
    assert sum(turn.fresh for turn in found) == repeat * (
        1 if rows is not None and setup else (1 if rows is None else rows)
    )
    assert [turn.row for turn in found if turn.part in (Part.WHOLE, Part.ROW) and turn.row is not None] == (
        list(range(rows)) * repeat if rows else []
    )


@MANY
@given(st.text(min_size=4, max_size=20), st.text(max_size=30))
def test_a_secret_that_is_learned_is_masked_like_one_known_from_the_start(secret: str, around: str) -> None:
    known, learning = Redactor.of([secret]), Redactor.of([])
    assert learning.is_idle
    learning.learn(secret)
    for text in (around + secret + around, json.dumps({"k": secret}), quote(secret)):
        assert learning.text(text) == known.text(text)
        if secret not in around and not set(secret) <= set(MASK):
            assert secret not in learning.text(secret)
    assert learning.body(secret.encode("utf-8", "surrogatepass")) == known.body(
        secret.encode("utf-8", "surrogatepass")
    )


@MANY
@given(
    st.lists(
        st.builds(
            CaseRef,
            words,
            words,
            st.sampled_from(["", "s"]),
            st.one_of(st.none(), st.tuples(st.integers(0, 9), st.integers(9, 20))),
        ),
        max_size=3,
    ),
    st.integers(),
    st.dictionaries(words, st.one_of(st.integers(), words, st.none(), st.lists(st.integers()))),
)
def test_plans_come_back_as_they_were_written(refs: list[CaseRef], seed: int, values: dict[str, Any]) -> None:
    plan = RunPlan(
        tuple(refs), "here", (("quay", "ab"),), tuple(values.items()), 1.25, seed, "token", 2, 3, True, ""
    )
    assert RunPlan.from_json(plan.to_json()) == plan


def test_an_exchange_without_an_answer_comes_back_through_every_command(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, jux: Jux
) -> None:
    bench = Bench(tmp_path / "work", monkeypatch)
    bench.suite(case("c", step("read", "readLine", line=1), step("more", "readLine", line=2)))
    ran = bench.run(lambda request: "the quay hung up")
    assert ran.records[0].exchange is not None and ran.records[0].exchange.response is None
    assert ran.records[0].exchange.error == "the quay hung up" and ran.records[0].status == 0
    home = bench.home.root
    assert "the quay hung up" in jux("exchanges", 1, "-C", home).out
    assert [one["status"] for one in jux("exchanges", "--json", "-C", home).json["exchanges"]] == [None, None]
    assert "error" in jux("report", "--form", "junit", "-o", "-", "-C", home).out
    assert "no response" in jux("report", "-o", "-", "-C", home).out
    assert re.search(r"operations +0 +3", jux("coverage", "--contract", "quay", "-C", home).out)
    har = json.loads(
        (jux("exchanges", "--har", tmp_path / "out.har", "-C", home), (tmp_path / "out.har").read_text())[1]
    )
    assert [entry["response"]["status"] for entry in har["log"]["entries"]] == [0]


def test_the_loop_is_the_same_with_and_without_the_faster_one(monkeypatch: pytest.MonkeyPatch) -> None:
    from juxtalogos.run.engine.loop import run_loop

    async def work() -> int:
        await asyncio.sleep(0)
        return 7

    monkeypatch.setitem(sys.modules, "uvloop", None)
    assert run_loop(work()) == 7
    fast = type(sys)("uvloop")
    made: list[Any] = []
    fast.new_event_loop = lambda: made.append(asyncio.new_event_loop()) or made[-1]  # type: ignore[attr-defined]
    monkeypatch.setitem(sys.modules, "uvloop", fast)
    assert run_loop(work()) == 7 and len(made) == 1


def test_every_record_of_a_batch_has_a_number_of_its_own() -> None:
    part = ExchangeRecord("c", "s/1", "quay", "x", None, Verdict.PASSED, "")
    whole = replace(
        part, step="s", parts=(part, replace(part, step="s/2", parts=(replace(part, step="s/2/1"),)))
    )
    with SqliteLedger(Path("never-made.sqlite"), write=False) as ledger:
        ledger.db.execute("INSERT INTO run VALUES (1, 0, 0, 'run', 't', 'w', '', 0, '')")
        ledger._put(1, [whole, replace(part, step="t")], ())
        kept = list(ledger.exchanges(ExchangeQuery(run=1)))
    assert [(one.id, one.step, one.whole) for one in kept] == [
        (1, "s", 0),
        (2, "s/1", 1),
        (3, "s/2", 1),
        (4, "s/2/1", 3),
        (5, "t", 0),
    ]
    assert len(list(itertools.islice(kept, 9))) == 5


def test_the_digest_of_a_contract_changes_with_each_of_its_documents() -> None:
    texts = [
        definition({"/docks": {"get": {"responses": answers({"type": kind})}}})
        for kind in ("string", "integer")
    ]
    digests = [digest_of(read_contract(text)) for text in (*texts, texts[0])]
    assert digests[0] == digests[2] != digests[1] and all(len(one) == 32 for one in digests)


def test_an_unforeseen_error_is_told_with_its_place_in_our_code() -> None:
    with pytest.raises(TypeError) as found:
        parse_request(None, "http://quay.test", "given")  # type: ignore[arg-type]
    line = told(found.value)
    assert re.search(r"\(\w+Error: .+ at [\w/]+\.py:\d+\); please report this line", line) and VERSION in line
    bare = told(found.value, bare=True)
    assert str(found.value)[:20] not in bare and "TypeError at " in bare
    with pytest.raises(ZeroDivisionError) as other:
        _ = 1 / 0
    assert "at somewhere" in told(other.value)
    assert "x" * 200 in told(ValueError("x" * 900)) and "x" * 201 not in told(ValueError("x" * 900))


def test_the_parts_of_a_batch_are_redacted_like_the_whole() -> None:
    """Also by a redactor that knows no secret of its own: a credential header is one anywhere."""

    def record(*parts: ExchangeRecord) -> ExchangeRecord:
        sent = Exchange(
            Request("GET", "http://h/q", (("Authorization", "Bearer abc-quay-1"),)), None, Timings(0, 0, 0)
        )
        return ExchangeRecord("c", "s", "quay", "x", sent, Verdict.ERROR, "", parts=parts)

    plain = replace(record(record()), exchange=None)
    for redactor in (Redactor.of([]), Redactor.of(["other-secret"], ["pin"])):
        for one in (record(), record(record(record())), plain):
            assert "abc-quay" not in repr(one.redacted(redactor))
            assert len(one.redacted(redactor).parts) == len(one.parts)
    clean = ExchangeRecord("c", "s", "quay", "x", None, Verdict.SKIPPED, "")
    assert clean.redacted(Redactor.of([])) is clean


def test_what_is_kept_is_not_lost_with_its_process() -> None:
    """A unit is taken off when it ended, told as lost only while its records are not committed."""
    executor, told_of = ProcessExecutor.__new__(ProcessExecutor), list[CaseRecord]()
    executor.done, executor.changed, executor.fault = told_of.append, asyncio.Event(), None
    ended: list[tuple[Unit, Any]] = []
    dealer: Any = SimpleNamespace(ended=lambda unit, records: ended.append((unit, records)))
    worker: Any = SimpleNamespace(units={}, records={}, unkept={})
    for number in (1, 2, 3):
        worker.units[number] = Unit((CaseRef("s", f"c{number}"),))
        worker.records[number] = []
    for number in (1, 2):
        case_told = {"suite": "s", "case": f"c{number}", "verdict": "failed", "reason": "why", "seconds": 0.5}
        executor._heard(worker, dealer, {"case": case_told, "unit": number})
        executor._heard(worker, dealer, {"ended": number})
    assert [one.case for one in told_of] == ["c1", "c2"] and [unit.cases[0].case for unit, _ in ended] == [
        "c1",
        "c2",
    ]
    assert [records[0].verdict for _, records in ended] == [Verdict.FAILED] * 2 and executor.changed.is_set()
    assert list(worker.units) == [3] and list(worker.unkept) == [1, 2]
    executor._heard(worker, dealer, {"kept": [1]})
    assert list(worker.unkept) == [2] and executor.fault is None
    executor._heard(
        worker, dealer, {"fault": "full", "where": "l.sqlite", "mend": "make room", "ledger": True}
    )
    executor._heard(worker, dealer, {"fault": "other", "where": "x", "mend": "", "ledger": False})
    assert isinstance(executor.fault, LedgerError) and executor.fault.what == "full"


def test_a_source_of_work_hears_of_what_was_lost_with_a_process() -> None:
    """Told once each: what had ended but was not committed, and what was still being done; only this ends
    now.
    """
    executor = ProcessExecutor.__new__(ProcessExecutor)
    lost: list[tuple[str, str]] = []
    ended: list[tuple[str, Any]] = []

    async def tell(unit: Unit, reason: str) -> list[CaseRecord]:
        lost.append((unit.cases[0].case, reason))
        return [CaseRecord("s", unit.cases[0].case, Verdict.ERROR, reason, 0.0)]

    async def nothing() -> bytes:
        return b""

    async def killed() -> int:
        return -9

    units = {number: Unit((CaseRef("s", f"c{number}"),)) for number in (1, 2, 3)}
    process = SimpleNamespace(stdout=SimpleNamespace(readline=nothing), wait=killed)
    worker: Any = SimpleNamespace(
        process=process, alive=True, unkept={1: units[1]}, units={2: units[2], 3: units[3]}
    )
    source: Any = SimpleNamespace(
        ended=lambda unit, records: ended.append((unit.cases[0].case, records[0].verdict))
    )
    executor.changed = asyncio.Event()
    executor._lost = tell  # type: ignore[method-assign]
    asyncio.run(executor._listen(worker, source))
    assert lost == [(f"c{number}", "the process that ran it ended with status -9") for number in (1, 2, 3)]
    assert ended == [("c2", Verdict.ERROR), ("c3", Verdict.ERROR)]
    assert not worker.alive and not worker.units and executor.changed.is_set()
