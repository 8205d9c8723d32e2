"""Exploring, by the built program: every law is broken and told, right ways that look alike are not; budgets,
interrupts, order, what is kept.
"""

from __future__ import annotations

import json
import os
import signal
import socket
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import pytest

from conftest import ROOT, Result
from faulty.mutator import module, planted
from faulty.tugs import Tugs
from juxtalogos.model.laws import LAWS
from styles.rest import Service
from styles.slips import KEY, Slips

Jux = Callable[..., Result]
Go = Callable[..., Result]
TOLD = ("findings", "lenient", "doubts")
ENV = {"SLIP_KEY": KEY}


@contextmanager
def yard(service: Service, home: Path, jux: Jux, more: str = "") -> Iterator[Go]:
    """What runs the program in a workspace with the service's definition, a target, and its key."""
    jux("init", home)
    text = service.definition()
    source = home / ("d.wsdl" if text.lstrip().startswith("<") else "d.yaml")
    source.write_text(text)
    jux("import", source, "--name", "yard", "-C", home)
    with service.serving() as url:

        def go(*words: object, status: int | None = 0) -> Result:
            return jux(*words, "-C", home, status=status, env=ENV)

        go("targets", "set", "local", url)
        if isinstance(service, Slips):
            go("targets", "set", "local", "--credential", "key=env:SLIP_KEY")
        if more:
            with (home / "juxtalogos.toml").open("a") as out:
                out.write(more)
        yield go


def kinds(told: Any, *classes: str) -> set[str]:
    return {one["kind"] for name in classes or TOLD for one in told[name]}


BROKEN = {
    "unchallenged speechless lax forgetful miscounted": "challenge-told allow-told default-kept total-counts",
    "unasked dangling elsewhere stubborn overfull roaming": (
        "sign-in-asked reference-refused location-leads not-modified page-bounded owner-checked"
    ),
    "astray double constant blind endless": (
        "refusal-as-declared conflict-refused tag-changes filter-keeps job-ends"
    ),
    "misspoken heedless deaf unsorted obliging": (
        "created-told condition-heeded changed-kept sorted unknown-refused"
    ),
    "short hopping shifted eager": "created-kept answers-agree revision-counts pages-whole conflict-refused",
    "picky idle straying": "valid-taken acting-does owner-checked",
    "restless contagious smudge": "reading-changes-nothing others-untouched refusal-traceless",
    "sweeping lingering": "deleted-only deleted-gone",
    "lossy": "created-kept created-listed",
    "greedy growing": "changed-only repeat-changes-nothing",
    "jealous": "same-taken",
}
"""Ways to break laws, and the laws that must be told of for them."""


@pytest.mark.parametrize("odd", BROKEN)
def test_each_broken_law_is_told(odd: str, tmp_path: Path, jux: Jux) -> None:
    with yard(Slips(*odd.split()), tmp_path / "w", jux) as go:
        done = go("explore", "yard", "--token", "t", "--json", status=None)
        assert {f"law.{name}" for name in BROKEN[odd].split()} <= kinds(done.json), kinds(done.json)
        assert done.status == (1 if done.json["findings"] or done.json["lenient"] else 0)
        for one in (one for name in TOLD for one in done.json[name] if one["kind"] in LAWS):
            assert (one["class"] == "finding") is (
                LAWS[one["kind"]].must and one["severity"] == "deviation"
            ), one


@pytest.mark.parametrize("twin", ["", "soft", "normal collated"])
def test_right_ways_that_look_alike_are_not_accused(twin: str, tmp_path: Path, jux: Jux) -> None:
    service = Slips(*twin.split())
    before = service.state()
    with yard(service, tmp_path / "w", jux) as go:
        told = go("explore", "yard", "--json").json
    assert not kinds(told) and not told["explored"]["yard"]["notReached"] and told["leftBehind"] == 0
    assert service.state() == before or twin == "soft"
    assert all(one["refused"] or one["place"] == "query" for one in told["explored"]["yard"]["broken"])


def test_what_is_seen_late_is_waited_for(tmp_path: Path, jux: Jux) -> None:
    with yard(Slips("late"), tmp_path / "w", jux) as go:
        told = go("explore", "addSlip", "getSlip", "--each", 9, "--seconds", 25, "--json").json
    assert not kinds(told) and told["leftBehind"] == 0


def test_soap_right_and_with_planted_faults(tmp_path: Path, jux: Jux) -> None:
    service = Tugs()
    before = service.state()
    with yard(service, tmp_path / "right", jux) as go:
        told = go("explore", "yard", "--json").json
        assert not kinds(told) and service.state() == before and not told["explored"]["yard"]["notReached"]
    wanted = {
        "register_tug:off by one:1": "lenient",
        "change_tug:dropped:2": "doubts",
        "tug:other fault:1": "doubts",
        "find_tugs:negated:1": "doubts",
        "tug_told:dropped:1": "doubts",
    }
    for fault in planted("tugs"):
        word = wanted.pop(fault.name.partition(":")[2], "")
        if word:
            with yard(module(fault).Tugs(), tmp_path / fault.name.replace(" ", "-"), jux) as go:
                assert go("explore", "yard", "--failures", 1, "--json", status=None).json[word], fault.what
    assert not wanted


def test_adopted_left_out_tolerant_and_enforced(tmp_path: Path, jux: Jux) -> None:
    tables = """
[contracts.yard]
inputs = "{inputs}"
[[contracts.yard.laws]]
law = "law.filter-keeps"
[[contracts.yard.laws]]
law = "law.total-counts"
operation = "list*"
holds = false
reason = "counted once a day"
"""
    chosen = ("explore", "listSlips", "addSlip", "--json")
    with yard(Slips("blind", "miscounted"), tmp_path / "a", jux, tables.format(inputs="tolerant")) as go:
        told = go(*chosen, status=1).json
        assert kinds(told, "findings") == {"law.filter-keeps"} and not told["doubts"]
    with yard(Slips("lax"), tmp_path / "b", jux, tables.format(inputs="tolerant")) as go:
        assert kinds(go(*chosen, status=0).json, "lenient") == {"request.accepted"}
    with yard(Slips("lax"), tmp_path / "c", jux, tables.format(inputs="enforced")) as go:
        assert kinds(go(*chosen, status=1).json, "findings") == {"request.accepted"}


def sent(home: Path) -> list[tuple[Any, ...]]:
    """What was sent in the latest run, in its order, without the port."""
    with closing(sqlite3.connect(home / ".juxtalogos" / "ledger.sqlite")) as db:
        rows = db.execute(
            "SELECT suite_case, method, substr(url, 23), status FROM main.exchange WHERE run = (SELECT"
            " max(run) FROM main.exchange) ORDER BY id"
        )
        return rows.fetchall()


def test_same_seed_token_and_state_give_the_same_requests(tmp_path: Path, jux: Jux) -> None:
    orders = []
    for name in ("one", "two"):
        with yard(Slips(), tmp_path / name, jux) as go:
            go("explore", "yard", "--token", "t", "--requests", 400)
            orders.append(sent(tmp_path / name))
    assert len(orders[0]) > 350 and orders[0] == orders[1]


def test_what_is_saved_runs_without_exploring(tmp_path: Path, jux: Jux) -> None:
    service = Slips("lax", "deaf", "eager")
    before = service.state()
    with yard(service, tmp_path / "w", jux) as go:
        out = go("explore", "yard", "--save", "found", status=1).out
        assert "found.arazzo.yaml" in out and '{law = "law.changed-kept", operation = "getSlip"},' in out
        go("suite", "check", "found")
        cases = {one["case"]: one["verdict"] for one in go("run", "found", "--json", status=1).json["cases"]}
        assert cases["addSlip-accepted-length"] == "failed" and cases["addSlip-works"] == "passed"
        assert cases["getSlip-changed-kept-length"] == "failed" and service.state() == before
        service.odd = frozenset()
        healed = {
            one["case"]: one["verdict"] for one in go("run", "found", "--json", status=None).json["cases"]
        }
        assert {verdict for name, verdict in healed.items() if name != "freeSlip-works"} == {"passed"}, healed
        assert "exists already" in go("explore", "yard", "--save", "found", status=2).err
        for words in (
            ["runs"],
            ["report", "1"],
            ["coverage"],
            ["exchanges", "--finding", "request.accepted"],
            ["compare", "1", "1"],
        ):
            assert go(*words, status=None).status in (0, 1), words


class Refusing(Slips):
    def does(self, *words: Any) -> Any:
        raise self.refused()

    @staticmethod
    def refused() -> Exception:
        from styles.rest import Refused

        return Refused(400, "not today")


class Growing(Slips):
    def page(self, query: dict[str, str]) -> Any:
        self.slips |= {
            f"X-{self.number()}": {**next(iter(self.slips.values())), "id": f"X-{self.counter}"}
            for _ in range(3)
        }
        return super().page(query)


@pytest.mark.parametrize("service", [Refusing, Growing])
def test_services_that_refuse_all_or_grow_without_end(service: type[Slips], tmp_path: Path, jux: Jux) -> None:
    with yard(service(), tmp_path / "w", jux) as go:
        began = time.monotonic()
        told = go("explore", "yard", "--requests", 700, "--seconds", 40, "--json", status=None).json
        assert told["explored"]["yard"]["requests"] <= 760 and time.monotonic() - began < 60
        if service is Refusing:
            assert not kinds(told) and len(told["explored"]["yard"]["notReached"]) == 14


class Falling(Slips):
    """Falls over each time that a slip is changed by PATCH; or takes its time for it."""

    def __init__(self, *odd: str, seconds: float = 0.0) -> None:
        super().__init__(*odd)
        self.seconds = seconds

    def answer(self, method: str, path: str, *rest: Any) -> Any:
        if method == "PATCH" and path.count("/") == 2 and path.startswith("/slips"):
            time.sleep(self.seconds)
            if not self.seconds:
                raise ConnectionAbortedError
        return super().answer(method, path, *rest)


@pytest.mark.parametrize("seconds", [0.0, 0.6])
def test_what_gives_no_answer_ends_itself_and_not_the_rest(seconds: float, tmp_path: Path, jux: Jux) -> None:
    """A lost connection is a finding; to be slow is none."""
    service = Falling(seconds=seconds)
    before = service.state()
    with yard(service, tmp_path / "w", jux) as go:
        settings = tmp_path / "w" / "juxtalogos.toml"
        settings.write_text(
            settings.read_text().replace("[targets.local]", "[targets.local]\ntimeout = 0.3", 1)
        )
        told = go("explore", "yard", "--json", status=None).json
    assert kinds(told) == (set() if seconds else {"answer.none"}), kinds(told)
    assert {one["operation"] for one in told["findings"]} == (set() if seconds else {"patchSlip"})
    assert (
        list(told["explored"]["yard"]["notReached"]) == ["patchSlip"]
        and not told["explored"]["yard"]["endedEarly"]
    )
    assert service.state() == before


def test_two_contracts_of_which_one_is_not_served_and_again_from_the_cache(tmp_path: Path, jux: Jux) -> None:
    """Operations of the same names: neither what one has spent, nor that it is silent, is held against the
    other.
    """
    service, home = Slips(), tmp_path / "w"
    before = service.state()
    with yard(service, home, jux) as go:
        alone = go("explore", "yard", "--token", "a", "--json").json["explored"]["yard"]
        go("import", home / "d.yaml", "--name", "another")
        with socket.create_server(("127.0.0.1", 0)) as closed:
            nobody = f"http://127.0.0.1:{closed.getsockname()[1]}"
        go("targets", "set", "local", nobody, "--contract", "another")
        told = go("explore", "--token", "b", "--weight", "listSlips=3", "--json", status=None).json
    assert list(told["explored"]) == ["another", "yard"] and not kinds(told)
    other, mine = told["explored"]["another"], told["explored"]["yard"]
    assert not other["reached"] and other["requests"] <= 80
    assert (
        mine["requests"] == alone["requests"]
        and mine["reached"] == alone["reached"]
        and not mine["endedEarly"]
    )
    assert service.state() == before


@pytest.mark.parametrize("way", ["drops", "hangs", "nobody"])
def test_services_that_do_not_answer(way: str, tmp_path: Path, jux: Jux) -> None:
    listener = socket.create_server(("127.0.0.1", 0))
    port, held = listener.getsockname()[1], []

    def answer() -> None:
        while True:
            try:
                channel, _ = listener.accept()
            except OSError:
                return
            held.append(channel)
            if way == "drops":
                channel.close()

    if way == "nobody":
        listener.close()
    else:
        threading.Thread(target=answer, daemon=True).start()
    with yard(
        Slips(),
        tmp_path / "w",
        jux,
        "\n[targets.there]\ntimeout = 0.3\n" + f'url = "http://127.0.0.1:{port}"\n',
    ) as go:
        began = time.monotonic()
        done = go("explore", "yard", "--target", "there", "--json", status=3)
        told = done.json["explored"]["yard"]
        assert "5 requests in a row" in " ".join((told["endedEarly"], *told["notReached"].values()))
        assert time.monotonic() - began < 40
    listener.close()


def test_an_interrupt_keeps_what_was_done_and_cleans_up(tmp_path: Path, jux: Jux) -> None:
    service, home = Slips(), tmp_path / "w"
    before = service.state()
    with yard(service, home, jux) as go:
        line = [sys.executable, "-m", "juxtalogos", "explore", "yard", "-C", str(home)]
        process = subprocess.Popen(
            line,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            env={**os.environ, **ENV, "HOME": str(tmp_path / "home")},
        )
        while service.counter < 1040:
            time.sleep(0.02)
        process.send_signal(signal.SIGINT)
        out, err = process.communicate(timeout=30)
        assert process.returncode == 130 and b"Traceback" not in err and b"interrupted" in out
        assert service.state() == before
        assert go("runs", "--json").json["runs"][0]["interrupted"]


def test_only_reading_and_what_is_wrongly_asked(tmp_path: Path, jux: Jux) -> None:
    service = Slips()
    with yard(service, tmp_path / "w", jux) as go:
        told = go(
            "explore", "--only-reading", "--leave-out", "getBoat=not ours", "--weight", "list*=2", "--json"
        ).json
        assert not kinds(told) and told["explored"]["yard"]["notReached"]["getBoat"] == "left out: not ours"
        assert service.counter == 1002 and {method for _, method, _, _ in sent(tmp_path / "w")} <= {
            "GET",
            "HEAD",
        }
        for words in (
            ["nothing"],
            ["--weight", "x"],
            ["--weight", "listSlips=y"],
            ["--weight", "lostSlips=2"],
            ["--leave-out", "x"],
            ["--save", "../out"],
        ):
            wrong = go("explore", *words, status=2)
            assert wrong.err and "Traceback" not in wrong.err, words


@pytest.mark.slow
@pytest.mark.parametrize("service", ["fairways", "tugs"])
def test_a_sample_of_planted_faults(service: str) -> None:
    """benchmarks/faults.py, every seventh fault: nothing of the right service, most of the rest."""
    line = [
        sys.executable,
        str(ROOT / "benchmarks" / "faults.py"),
        service,
        "--every",
        "7",
    ]
    out = subprocess.run(line, capture_output=True, text=True, check=True).stdout
    assert "right: 0 told" in out
    found, planted_count = map(int, out.strip().splitlines()[-1].split(" found")[0].split(" of "))
    assert found >= 0.85 * planted_count, out


def test_laws_are_described_in_the_docs() -> None:
    text = (ROOT / "docs" / "exploring.md").read_text()
    assert all(f"| `{one.name}` | {one.told} | {one.why} |" in text for one in LAWS.values())
    assert {f"law.{name}" for names in BROKEN.values() for name in names.split()} | {
        "law.default-kept",
        "law.challenge-told",
        "law.allow-told",
        "law.head-as-get",
        "law.fault-told-truly",
        "law.state-consistent",
        "law.role-refused",
    } == set(LAWS), "a law that no test breaks"
    assert json.dumps(text)
