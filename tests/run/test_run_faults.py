"""Whatever happens in a turn: one record, all other cases go on, clean-up is sent."""

from __future__ import annotations

import asyncio
import inspect
import itertools
from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import pytest

from juxtalogos.exchange.redact import Redactor
from juxtalogos.exchange.sign_in import Signer
from juxtalogos.ledger.records import ExchangeRecord
from juxtalogos.model.errors import ConfigError
from juxtalogos.model.exchange import Request
from juxtalogos.model.location import Location
from juxtalogos.run.engine import engine, step, walk
from juxtalogos.run.engine.plan import (
    PLAN_VERSION,
    CaseRef,
    Part,
    RunPlan,
    Turn,
    Unit,
    steps_of,
    turns,
    units,
)
from juxtalogos.run.judging import judge, rules
from juxtalogos.run.target import session
from juxtalogos.suite.model import Case, CaseKey
from scripted import BASE, Bench, Reply, case, lines, reply
from scripted import step as a_step


@pytest.fixture
def bench(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Bench:
    return Bench(tmp_path / "work", monkeypatch)


def life(name: str, **more: Any) -> dict[str, Any]:
    return case(
        name,
        a_step("make", "makeLine"),
        a_step(
            "read",
            "readLine",
            line="$steps.make.outputs.id",
            status=200,
            **{
                "x-juxtalogos-checks": [
                    {"at": "body/id", "equals": 7},
                    {"at": "body/id", "computed": "steps.make.id"},
                ],
                "x-juxtalogos-outputs": {
                    "state": {"context": "$response.body", "type": "jsonpath", "selector": "$.state"}
                },
                "onSuccess": [
                    {
                        "name": "on",
                        "type": "goto",
                        "stepId": "last",
                        "criteria": [{"condition": "$statusCode == 200"}],
                    }
                ],
            },
        ),
        a_step("last", "readLine", line="$steps.make.outputs.id"),
        a_step("drop", "dropLine", line="$steps.make.outputs.id", **{"x-juxtalogos-always": True}),
        outputs={"id": "$steps.make.outputs.id"},
        **more,
    )


METHODS: list[tuple[Any, str]] = [
    (session.Session, "encoded"),
    (session.Session, "signed"),
    (session.Session, "send"),
    (session.Session, "base_url"),
    (Signer, "chosen"),
    (Signer, "void"),
    (rules.Rules, "apply"),
    (ExchangeRecord, "redacted"),
    (Redactor, "text"),
    (Redactor, "exchange"),
    (walk.Walk, "follow"),
    (walk.Walk, "step"),
    (walk.Walk, "walk"),
    (walk.CasePosition, "go"),
]
NEVER = {"run_plan", "new_state", "turns_of"}
"""What makes the turns themselves: without it there is none."""


def calls() -> Iterator[tuple[Any, str]]:
    """Everything of ours that the modules of `run/` call."""
    for module in (engine, walk, step, judge, rules):
        for name, value in vars(module).items():
            if inspect.isfunction(value) and value.__module__.startswith("juxtalogos") and name not in NEVER:
                yield module, name
    yield from METHODS


def failing_at(original: Callable[..., Any], turn: int, error: type[Exception]) -> Callable[..., Any]:
    count = 0

    def wrapped(*args: Any, **named: Any) -> Any:
        nonlocal count
        count += 1
        if count == turn:
            raise error("the plug was pulled, with ebb-and-flow-77 in hand")
        return original(*args, **named)

    return wrapped


KINDS: list[type[Exception]] = [ValueError, RecursionError, MemoryError]


@pytest.mark.parametrize("error", KINDS)
def test_each_call_of_the_engine_may_raise(
    bench: Bench, monkeypatch: pytest.MonkeyPatch, error: type[Exception]
) -> None:
    names = [f"c{number}" for number in range(4)]
    bench.suite(*(life(name) for name in names))
    bench.configure('[[contracts.quay.standing]]\noperation = "*"\nat = "status"\nbelow = 500\n')
    raised = 0
    for holder, name in calls():
        for turn in (1, 2, 3, 5, 8):
            if (turn + len(name)) % 3 != KINDS.index(error):
                continue  # each call is made to raise one of them at each turn
            original = getattr(holder, name)
            broken = failing_at(original, turn, error)
            ran = bench.run(jobs=1, between=partial(monkeypatch.setattr, holder, name, broken))
            monkeypatch.setattr(holder, name, original)
            told = (
                f"{holder.__name__}.{name}, call {turn}: {ran.verdicts()}"
                f" {[(one.case, one.step, str(one.verdict), one.reason) for one in ran.records if one.reason]}"
            )
            assert sorted(ran.verdicts()) == names and len(ran.cases) == len(names), told
            bad = [one for one in ran.cases if one.verdict != "passed"]
            assert len(bad) <= 1, told
            if bad:
                raised += 1
                assert "a fault of juxtalogos" in bad[0].reason and "ebb-and-flow" not in bad[0].reason, told
            made, dropped = (
                sum(one.method == method for one in ran.service.sent) for method in ("POST", "DELETE")
            )
            assert not any("ebb-and-flow" in one.reason for one in ran.records), told
            drops = [one for one in ran.records if one.step == "drop"]
            sent = {one.case for one in drops if one.exchange is not None or "be kept" in one.reason}
            unsent = {one.case for one in drops if one.verdict == "error"} - sent
            assert made - dropped == len(unsent) <= 1, told
    assert raised > 30, "most calls are really made"


def test_the_transport_itself_may_raise(bench: Bench) -> None:
    bench.suite(*(life(f"c{number}") for number in range(3)))
    sent = 0

    def answer(request: Request) -> Reply:
        nonlocal sent
        sent += 1
        return RuntimeError("a tide out of season") if sent == 2 else lines(request)

    ran = bench.run(answer, jobs=1)
    assert ran.verdicts() == {"c0": "error", "c1": "passed", "c2": "passed"}
    assert ran.steps("c0") == {"make": "passed", "read": "error", "drop": "passed", "last": "skipped"}


FOUND: dict[str, tuple[dict[str, Any], Callable[[Request], Reply]]] = {
    "Retry-After: ²": (
        case(
            "c",
            a_step(
                "read",
                "readLine",
                line=1,
                status=200,
                onFailure=[{"name": "again", "type": "retry", "retryAfter": 1, "retryLimit": 1}],
            ),
        ),
        lambda request: reply(404, {"id": 1}, ("Retry-After", "²")),
    ),
    "mentions of a number": (
        case(
            "c",
            a_step(
                "read",
                "readLine",
                line=1,
                **{"x-juxtalogos-checks": [{"at": "text", "mentions": "$response.body#/id"}]},
            ),
        ),
        lines,
    ),
    "matches of ( by an input": (
        case(
            "c",
            a_step(
                "read",
                "readLine",
                line=1,
                **{"x-juxtalogos-checks": [{"at": "body/state", "matches": "$inputs.pattern"}]},
            ),
            inputs={"type": "object", "properties": {"pattern": {"default": "("}}},
        ),
        lines,
    ),
    "charset=undefined": (
        case("c", a_step("read", "readLine", line=1)),
        lambda request: replace(
            reply(200, {"id": 1}), headers=(("Content-Type", "text/plain; charset=undefined"),)
        ),
    ),
    "a lone surrogate": (
        case("c", a_step("read", "readLine", line=1)),
        lambda request: replace(
            reply(200),
            headers=(("Content-Type", "application/json"), ("X-\udc80", "\ud800")),
            body=b'{"id": 1, "\\ud800": 1}',
        ),
    ),
    "a formula over nothing": (
        case(
            "c",
            a_step(
                "read",
                "readLine",
                line=1,
                **{"x-juxtalogos-checks": [{"at": "body/id", "computed": "inputs.count / 0"}]},
            ),
            inputs={"type": "object", "properties": {"count": {"default": 1}}},
        ),
        lines,
    ),
}


@pytest.mark.parametrize("name", FOUND)
def test_what_ended_runs_once(bench: Bench, name: str) -> None:
    found, answer = FOUND[name]
    bench.suite(found, case("other", a_step("read", "readLine", line=2)))
    ran = bench.run(answer)
    assert sorted(ran.verdicts()) == ["c", "other"]
    assert not any("fault of juxtalogos" in one.reason for one in ran.records), [
        one.reason for one in ran.records
    ]
    if name.startswith("mentions"):
        assert ran.verdicts()["c"] == "passed"
    if name.startswith("matches"):
        assert "no pattern" in next(
            one.observed for one in ran.records[0].results if one.kind == "check.unmet"
        )
    if name.startswith("Retry"):
        assert ran.clock.waits == [1]


def test_a_failing_reset_fails_its_turn_only(bench: Bench) -> None:
    bench.suite(life("a"), life("b"))
    states = iter([False, True])

    async def reset() -> None:
        if not next(states):
            raise ConfigError("the reset command ended with status 3")

    ran = bench.run(reset=reset)
    assert ran.verdicts() == {"a": "error", "b": "passed"} and "status 3" in ran.cases[0].reason


TABLE = {
    "inputs": {"type": "object", "properties": {"line": {"type": "integer"}}},
    "x-juxtalogos-table": {"file": "lines.csv"},
}
DROP = a_step("drop", "dropLine", line="$steps.make.outputs.id", **{"x-juxtalogos-always": True})


def table(bench: Bench, *more: dict[str, Any]) -> None:
    (bench.home.root / "tables").mkdir(exist_ok=True)
    (bench.home.root / "tables" / "lines.csv").write_text("line\n3\n4\n", "utf-8")
    steps = (a_step("make", "makeLine"), *more, a_step("read", "readLine", line="$inputs.line"), DROP)
    setup = ["make", *(one["stepId"] for one in more)]
    bench.suite(case("rows", *steps, **TABLE, **{"x-juxtalogos-setup": setup}))


def test_set_up_and_rows_share_one_reset_one_clean_up_and_are_repeated(bench: Bench) -> None:
    table(bench)
    resets = []

    async def reset() -> None:
        resets.append(1)

    ran = bench.run(reset=reset, repeat=2)
    assert list(ran.verdicts()) == [
        f"rows[{part}]"
        for turn in (1, 2)
        for part in (
            f"turn {turn}, set-up",
            f"row 1, turn {turn}",
            f"row 2, turn {turn}",
            f"turn {turn}, clean-up",
        )
    ]
    assert (
        ran.service.calls() == ["POST /lines", "GET /lines/3", "GET /lines/4", "DELETE /lines/7"] * 2
        and len(resets) == 2
    )


def test_after_a_failed_set_up_rows_are_skipped_and_what_it_made_is_cleaned_up(bench: Bench) -> None:
    table(bench, a_step("check", "readLine", line="$steps.make.outputs.id", status=404))
    ran = bench.run()
    assert ran.verdicts() == {
        "rows[set-up]": "failed",
        "rows[row 1]": "skipped",
        "rows[row 2]": "skipped",
        "rows[clean-up]": "passed",
    }
    assert ran.service.calls() == ["POST /lines", "GET /lines/7", "DELETE /lines/7"]


def test_a_goto_back_into_the_set_up_is_an_error_of_the_suite(bench: Bench) -> None:
    (bench.home.root / "tables").mkdir()
    (bench.home.root / "tables" / "lines.csv").write_text("line\n3\n4\n", "utf-8")
    back = [{"name": "back", "type": "goto", "stepId": "make"}]
    bench.suite(
        case(
            "rows",
            a_step("make", "makeLine"),
            a_step("read", "readLine", line=1, onSuccess=back),
            **TABLE,
            **{"x-juxtalogos-setup": ["make"]},
        ),
        case("other", a_step("read", "readLine", line=2)),
    )
    ran = bench.run()
    assert ran.verdicts() == {
        "rows[set-up]": "passed",
        "rows[row 1]": "error",
        "rows[row 2]": "error",
        "other": "passed",
    }
    assert "a set-up step runs once" in ran.cases[-1].reason + ran.cases[1].reason + ran.cases[2].reason


def test_a_retry_by_way_of_a_set_up_step_is_an_error_of_the_suite(bench: Bench) -> None:
    (bench.home.root / "tables").mkdir()
    (bench.home.root / "tables" / "lines.csv").write_text("line\n3\n4\n", "utf-8")
    again = [{"name": "again", "type": "retry", "retryAfter": 0, "retryLimit": 2, "stepId": "make"}]
    read = a_step("read", "readLine", line="$inputs.line", status=404, onFailure=again)
    after = a_step("after", "readLine", line=9, status=200)
    bench.suite(
        case("rows", a_step("make", "makeLine"), read, after, **TABLE, **{"x-juxtalogos-setup": ["make"]})
    )
    ran = bench.run()
    assert ran.verdicts() == {"rows[set-up]": "passed", "rows[row 1]": "error", "rows[row 2]": "error"}
    assert all("a set-up step runs once" in one.reason for one in ran.cases[1:])
    assert ran.service.calls() == [
        "POST /lines",
        "GET /lines/3",
        "GET /lines/4",
    ], "neither the set-up again nor what comes behind"


def test_clean_up_after_a_thousand_steps(bench: Bench) -> None:
    back = [{"name": "round", "type": "goto", "stepId": "read"}]
    bench.suite(
        case("round", a_step("make", "makeLine"), a_step("read", "readLine", line=1, onSuccess=back), DROP)
    )
    ran = bench.run()
    assert ran.service.calls()[-1] == "DELETE /lines/7" and ran.verdicts() == {"round": "error"}


@pytest.mark.parametrize("hard", [False, True])
def test_clean_up_after_an_interrupt(bench: Bench, hard: bool) -> None:
    bench.suite(*(life(f"c{number}") for number in range(20)))
    ran = bench.run(
        jobs=4, hard=hard, until=lambda service: sum(one.method == "POST" for one in service.sent) >= 6
    )
    made, dropped = (sum(one.method == method for one in ran.service.sent) for method in ("POST", "DELETE"))
    assert made == dropped < 20
    broken = [one for one in ran.cases if one.verdict == "error"]
    assert 1 <= len(broken) <= 4 and all("interrupted" in one.reason for one in broken)
    assert len(ran.cases) == len({one.case for one in ran.cases}) == made


def test_a_case_that_must_be_alone(bench: Bench) -> None:
    bench.suite(
        *(life(f"c{number}", **({"x-juxtalogos-alone": True} if number == 3 else {})) for number in range(8))
    )
    ran = bench.run(jobs=4)
    assert set(ran.verdicts().values()) == {"passed"}
    # Its four calls stand together in the order of all calls, whatever else ran.
    order = [one.case for one in ran.records]
    first = order.index("c3")
    assert order[first : first + 4] == ["c3"] * 4


def test_cases_that_take_turns(bench: Bench) -> None:
    """Those that share a word never overlap, whatever they wait for; the others run beside them."""
    words = {0: ["quay"], 2: ["quay", "crane"], 4: ["crane", "quay"], 5: ["crane"]}
    more = {number: {"x-juxtalogos-in-turn": some} for number, some in words.items()}
    more[0]["dependsOn"] = ["c2"]
    bench.suite(*(life(f"c{number}", **more.get(number, {})) for number in range(9)))
    ran = bench.run(jobs=8)
    assert set(ran.verdicts().values()) == {"passed"} and len(ran.cases) == 9
    order = [one.case for one in ran.records]
    for word in ("quay", "crane"):
        sharing = [name for name in order if word in words.get(int(name[1:]), ())]
        assert len(list(itertools.groupby(sharing))) == 3, sharing
    assert len(list(itertools.groupby(order))) > 9


# Plans, turns and units: pure.


def a_case(name: str, *needs: str, steps: int = 1, setup: tuple[str, ...] = (), alone: bool = False) -> Case:
    found = tuple(step_of(f"s{number}") for number in range(steps))
    keys = tuple(CaseKey("w", one) for one in needs)
    return Case(name, found, Location("w"), CaseKey("w", name), needs=keys, setup=setup, alone=alone)


def step_of(name: str) -> Any:
    from juxtalogos.suite.model import Step

    return Step(name, Location("w"))


def test_turns() -> None:
    plain = a_case("c")
    assert list(turns(plain, None)) == [Turn("c")]
    assert [one.label for one in turns(plain, None, 2)] == ["c[turn 1]", "c[turn 2]"]
    assert list(turns(plain, 0)) == []
    assert [(one.label, one.row) for one in turns(plain, 9, 1, (3, 5))] == [("c[row 4]", 3), ("c[row 5]", 4)]
    built = a_case("c", steps=3, setup=("s0",))
    assert [one.part for one in turns(built, 2)] == [Part.SETUP, Part.ROW, Part.ROW]
    assert [one.fresh for one in turns(built, 2)] == [True, False, False]
    undone = replace(built, undoing=frozenset(("s2",)))
    assert [one.part for one in turns(undone, 1)] == [Part.SETUP, Part.ROW, Part.CLEANUP]
    parts = [[one.id for one in steps_of(undone, part)] for part in Part]
    assert parts == [["s0", "s1", "s2"], ["s0"], ["s1"], ["s2"]]


def test_units_keep_together_what_belongs_together() -> None:
    cases = [
        a_case("a"),
        a_case("b", "a"),
        a_case("c"),
        a_case("d", "b"),
        a_case("e", alone=True),
        a_case("t"),
    ]
    everything: Any = {one.key: (None, one) for one in cases}
    refs = [(CaseRef("w", one.id), one.key) for one in cases]
    found = list(units(refs, everything, {CaseKey("w", "t"): 120}, alone=False))
    names = [[one.case for one in unit.cases] for unit in found]
    assert names == [["a", "b", "d"], ["c"], ["e"], ["t"], ["t"], ["t"]]
    assert [unit.alone for unit in found] == [False, False, True, False, False, False]
    assert [unit.cases[0].rows for unit in found[3:]] == [(0, 50), (50, 100), (100, 120)]
    assert all(unit.alone for unit in units(refs, everything, {}, alone=True))
    hidden = list(units([refs[1], refs[3]], everything, {}, alone=False))
    assert hidden == [Unit((CaseRef("w", "b"), CaseRef("w", "d")))], "joined by a case that is only needed"


def test_a_plan_can_be_written_down(bench: Bench) -> None:
    plan = RunPlan(
        (CaseRef("w", "c", "s", (1, 4)), CaseRef("w", "d")),
        "here",
        (("quay", "ab12"),),
        (("line", {"a": [1]}),),
        1.5,
        3,
        "t0",
        2,
        8,
        False,
        "d",
    )
    assert RunPlan.from_json(plan.to_json()) == plan
    with pytest.raises(ValueError, match="another version"):
        RunPlan.from_json(plan.to_json().replace(f'"version":{PLAN_VERSION}', '"version":9'))
    bench.suite(life("c"))
    text = bench.plan().to_json()
    assert "ebb-and-flow" not in text and BASE not in text


def test_a_plan_is_bound_to_the_definitions_it_was_made_with(bench: Bench) -> None:
    from juxtalogos.run.engine.binding import bind

    bench.suite(life("c"))
    plan = replace(bench.plan(), contracts=(("quay", "0" * 32),))
    with pytest.raises(ConfigError, match="not the one that the run was planned with"):
        bind(bench.home, plan)


def test_slots_are_first_come_first_served_and_one_alone_takes_all() -> None:
    from juxtalogos.run.engine.slots import Slots

    log: list[str] = []

    async def one(slots: Slots, name: str, alone: bool) -> None:
        async with slots.taken(alone=alone):
            log.append(f"+{name}")
            await asyncio.sleep(0.002)
            log.append(f"-{name}")

    async def all_of_them() -> None:
        slots = Slots(3)
        await asyncio.gather(*(one(slots, name, name.isupper()) for name in "abcDeFg"))

    asyncio.run(all_of_them())
    for name in "DF":
        assert log.index(f"-{name}") == log.index(f"+{name}") + 1
    assert sorted(log) == sorted(f"{sign}{name}" for sign in "+-" for name in "abcDeFg")
