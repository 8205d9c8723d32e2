"""What a tester does after the first call: pin values, keep answers, chain, copy, compare; driven through the
program.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import yaml

from conftest import KEY, ROOT, Result, serving
from juxtalogos.model.errors import SuiteError
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.suite.comparing import Allowed, created_places, differences, proposed
from juxtalogos.suite.kept_answers import KeptAnswer, read_kept
from juxtalogos.suite.language.expressions import Scope
from juxtalogos.suite.language.formulas import BadFormula, FormulaContext, NoValue, compute, parse_formula
from juxtalogos.suite.language.selectors import BadSelector, check_xpath, select_json, select_xml
from styles.advice import READING, advised
from styles.desk import Jux


@pytest.fixture
def go(work: Path, jux: Callable[..., Result]) -> Callable[..., Result]:
    def run(*words: object, status: int | None = 0) -> Result:
        return jux(*words, "-C", work, status=status)

    return run


def _suite(work: Path, name: str) -> Any:
    return yaml.safe_load((work / f"suites/{name}.arazzo.yaml").read_text("utf-8"))


def test_values_are_pinned_by_number_and_path(work: Path, go: Any) -> None:
    go("call", "registerVessel", "--target", "local", "--save", "mine#port")
    listed = go("pin", "--list", "--json").json["places"]
    numbers = {one["address"]: one["number"] for one in listed}
    assert {"status", "header.Location", "body", "body/name", "body/vesselId"} <= set(numbers)
    go("pin", numbers["status"], numbers["body/name"], "/kind", "--note", "as agreed")
    go("pin", "body/vesselId", "--test", "type")
    go("pin", "body/name", "--test", "exists")
    go("pin", numbers["body/name"])  # again: takes the older one's place
    [step] = _suite(work, "mine")["workflows"][0]["steps"]
    assert step["x-juxtalogos-checks"] == [
        {"at": "status", "equals": 201, "frozen": True, "note": "as agreed"},
        {"at": "body/name", "equals": "Grey Tern", "frozen": True, "note": "as agreed"},
        {"at": "body/kind", "equals": "bulk", "frozen": True, "note": "as agreed"},
        {"at": "body/vesselId", "type": "string"},
        {"at": "body/name", "exists": True},
    ]
    assert go("run", "mine", "--json").json["verdict"] == "passed"
    text = (
        (work / "suites/mine.arazzo.yaml")
        .read_text("utf-8")
        .replace("equals: bulk", "equals: tanker # on purpose")
    )
    (work / "suites/mine.arazzo.yaml").write_text(text, "utf-8")
    found = go("run", "mine", status=1).out
    assert '"tanker"' in found and '"bulk"' in found and "check.unmet" in found
    go("pin", "body/name", "--exchange", 1)
    assert "# on purpose" in (work / "suites/mine.arazzo.yaml").read_text("utf-8")
    go("call", "listBerths")
    assert "x-juxtalogos-checks" in go("pin", 1).out  # no step of a suite: printed
    for words, message in [
        ((99,), "numbers go from 1"),
        (("body/nme",), "nothing at body/nme"),
        ((1, "--exchange", 999), "there is no exchange 999"),
    ]:
        assert message in go("pin", *words, status=2).err


def test_whole_answers_are_kept_and_compared(work: Path, go: Any) -> None:
    go("call", "registerVessel", "--target", "local", "--save", "mine#port")
    made = go("exchanges", "--run", 1, "--json").json["exchanges"][0]["exchange"]
    go("call", "getVessel", "--set", f"vesselId=@{made}#/vesselId", "--save", "mine#port")
    go("run", "mine")
    got = go("exchanges", "--json").json["exchanges"][1]["exchange"]
    go("pin", "--whole", "vessels/one", "--exchange", got)
    assert json.loads((work / "kept/vessels/one.json").read_text("utf-8"))["values"][
        "steps.registerVessel.vesselId"
    ]
    # A new vessel has a new number, here and in what is kept of the run: a carried value.
    assert go("run", "mine", "--json").json["verdict"] == "passed"
    text = (work / "suites/mine.arazzo.yaml").read_text("utf-8").replace("name: Grey Tern", "name: Curlew")
    (work / "suites/mine.arazzo.yaml").write_text(text, "utf-8")
    found = go("run", "mine", status=1).out
    assert '/name: kept "Grey Tern", received "Curlew"' in found
    last = go("exchanges", "--json").json["exchanges"][1]["exchange"]
    assert "already" in go("pin", "--whole", "vessels/one", "--exchange", last, status=2).err
    assert "Curlew" in go("pin", "--renew", "vessels/one", "--exchange", last, "--yes").out
    assert go("run", "mine", "--json").json["verdict"] == "passed"
    (work / "kept/vessels/one.json").unlink()
    assert "the kept response is missing" in go("run", "mine", status=2).err
    with pytest.raises(SuiteError, match="missing"):
        read_kept(work, "vessels/one")
    go("call", "listTides", "--set", "day=2026-03-14")
    assert "the second response was the same" in go("pin", "--whole", "tides", "--twice").out


_BEFORE = {
    "id": "V-7",
    "at": "2026-03-14",
    "text": "call of V-7",
    "n": 1.0,
    "list": [3, 1],
    "deep": [{"a": 1}],
}


@pytest.mark.parametrize(
    ("allowed", "came", "expected"),
    [
        (Allowed(), {**_BEFORE, "n": 1}, []),
        (Allowed(), {**_BEFORE, "id": "V-8", "text": "call of V-8"}, []),
        (Allowed(carried=False), {**_BEFORE, "id": "V-8"}, ['/id: kept "V-7", received "V-8"']),
        (Allowed(), {**_BEFORE, "id": "V-9"}, ['/id: kept "V-7", received "V-9"']),
        (Allowed(), {**_BEFORE, "more": 1}, ["/more: new, 1"]),
        (Allowed(), {key: value for key, value in _BEFORE.items() if key != "n"}, ["/n: gone, was 1.0"]),
        (Allowed(ignore=("/deep/*/a",)), {**_BEFORE, "deep": [{"a": 9}]}, []),
        (Allowed(any_of_type=("/at",)), {**_BEFORE, "at": "later"}, []),
        (Allowed(any_of_type=("/at",)), {**_BEFORE, "at": 5}, ["/at: kept string, received integer"]),
        (Allowed(near=(("/n", 0.5),)), {**_BEFORE, "n": 1.5}, []),
        (Allowed(near=(("/n", 0.5),)), {**_BEFORE, "n": 1.6}, ["/n: kept 1.0, received 1.6"]),
        (Allowed(unordered=("/list",)), {**_BEFORE, "list": [1, 3]}, []),
        (
            Allowed(),
            {**_BEFORE, "list": [1, 3]},
            ["/list/0: kept 3, received 1", "/list/1: kept 1, received 3"],
        ),
        (Allowed(unordered=("/list",)), {**_BEFORE, "list": [1, 4]}, ["/list: gone, was 3", "/list: new, 4"]),
    ],
)
def test_what_may_differ(allowed: Allowed, came: Any, expected: list[str]) -> None:
    kept = KeptAnswer("k", "op", _BEFORE, {"steps.made.id": "V-7"}, allowed)
    assert kept.differences(came, {"steps.made.id": "V-8"}) == expected
    rules = proposed(_BEFORE, came, allowed)
    assert KeptAnswer("k", "op", _BEFORE, {}, rules).differences(came, {}) == []


_MADE = {
    "id": "V-7",
    "ref": 4711,
    "self": "/v/V-7",
    "at": "2026-03-14T10:00:01Z",
    "until": 1773486000,
    "fixed": "2026-01-01T00:00:00Z",
}
_THEN, _NOW = 1773482400.0, 1773492400.0
"""2026-03-14T10:00:00Z, and ten thousand seconds later."""


@pytest.mark.parametrize(
    ("came", "expected"),
    [
        ({"id": "V-9", "self": "/v/V-9"}, []),
        ({"id": "V-9", "self": "/v/V-8"}, ["/self"]),  # leads to something else than what was made
        ({"id": 9}, ["/id"]),
        ({"at": "2026-03-14T12:46:42Z"}, []),
        ({"at": "Sat, 14 Mar 2026 12:46:42 GMT"}, []),
        ({"at": "2026-03-14T14:00:01Z"}, ["/at"]),
        ({"until": 1773496000}, []),  # an hour after its request, as it was
        ({"until": 1773499600}, ["/until"]),
        ({"fixed": "2026-01-02T00:00:00Z"}, ["/fixed"]),
        ({"ref": 4712}, ["/ref"]),
    ],
)
def test_what_a_call_made_may_be_made_anew(came: dict[str, Any], expected: list[str]) -> None:
    before = {"moment": _THEN}
    after = {**_MADE, "self": "/v/V-7", **came}
    found = differences(_MADE, after, Allowed(created=("/id",)), before, {"moment": _NOW})
    named = {f"/{name}" for name in came} | set(expected)
    assert [one.path for one in found if one.path in named] == expected


SENT = Exchange(
    Request("POST", "http://quay.test/v1/vessels", (), b'{"name": "Tern", "kind": "V-77"}'),
    Response(201, "", (("Location", "/v1/vessels/V-7"),), b""),
    Timings(0, 0, 0),
)


@pytest.mark.parametrize(
    ("value", "outputs", "noun", "expected"),
    [
        ({"x": "V-7", "name": "Tern"}, (), "", ("/x",)),
        ({"key": {"vesselNumber": 12}, "ownerId": "O-1"}, (), "vessel", ("/key/vesselNumber",)),
        ({"pilotId": "P-1", "id": 3}, (), "vessel", ("/id",)),
        ({"token": "c0ffee00-0000-4000-8000-00000000cafe", "kind": "V-77"}, (), "", ("/token",)),
        ({"lines": [{"line": "L-100"}]}, ("L-100",), "", ("/lines/*/line",)),
        ({"free": True, "id": None, "note": "as it was"}, (), "", ()),
    ],
)
def test_what_an_answer_tells_of_what_was_made(
    value: Any, outputs: Any, noun: str, expected: tuple[str, ...]
) -> None:
    assert created_places(value, SENT, outputs, noun) == expected


def test_kept_creations_stay_right(work: Path, go: Any) -> None:
    """Kept whole, run again and again: green; what really changes: red; renewed only when that is wanted; and
    `compare` says the same.
    """
    go("call", "announcePortCall", "--target", "local", "--save", "mine#port")
    go("run", "mine")
    told = go("pin", "--whole", "calls/one", "--exchange", "@announcePortCall").out
    assert "may differ: /callId  generated by each call" in told
    for _ in range(3):
        assert go("run", "mine", "--json").json["verdict"] == "passed"
    assert "1 the same, 0 not" in go("compare").out
    go("suite", "set", "mine#port#announcePortCall", "body/arrives=2026-05-01T06:30:00Z")
    assert "/arrives" in go("run", "mine", status=1).out
    assert "/arrives" in go("compare", status=1).out and "/callId" not in go("compare", status=1).out
    kept = (work / "kept/calls/one.json").read_bytes()
    told = go("pin", "--renew", "calls/one", "--exchange", "@announcePortCall", status=1)
    assert "changed: /arrives" in told.out and (work / "kept/calls/one.json").read_bytes() == kept
    go("pin", "--renew", "calls/one", "--exchange", "@announcePortCall", "--yes")
    assert go("run", "mine", "--json").json["verdict"] == "passed"
    assert "nothing to renew" in go("pin", "--renew", "calls/one", "--exchange", "@announcePortCall").out
    # Twice: the case is run, not the call alone; what is no step of a case cannot be.
    assert (
        "kept: kept/calls/two.json"
        in go("pin", "--whole", "calls/two", "--twice", "--exchange", "@announcePortCall").out
    )
    go("call", "registerVessel")
    assert "first save it in a case" in go("pin", "--whole", "calls/three", "--twice", status=2).err
    assert not (work / "kept/calls/three.json").exists()


def test_standing_checks_and_kinds_switched_off(work: Path, go: Any, jux: Callable[..., Result]) -> None:
    with (work / "juxtalogos.toml").open("a", encoding="utf-8") as out:
        out.write(
            '\n[[contracts.berths.standing]]\noperation = "listBerths"\nat = "body"\ncount = 99\nnote = "all'
            ' of them"\n'
        )
    assert "99 items" in go("call", "listBerths", "--target", "local", status=1).out
    with serving("surface") as url:
        before = go("call", "listBerths", "--target", url, "--json", status=1).json["checks"]
        assert {"body.enum", "check.unmet"} <= {one["kind"] for one in before if not one["held"]}
        with (work / "juxtalogos.toml").open("a", encoding="utf-8") as out:
            out.write(
                '\n[[contracts.berths.off]]\noperation = "*"\nkind = "body.enum"\nreason = "the office'
                ' knows"\n'
            )
        after = go("call", "listBerths", "--target", url, "--json", status=1).json["checks"]
        assert {one["kind"] for one in after if not one["held"]} == {"check.unmet"}
    text = (work / "juxtalogos.toml").read_text("utf-8")
    for old, new, message in [
        ('kind = "body.enum"', 'kind = "body.enmu"', "did you mean body.enum"),
        ('operation = "listBerths"', 'operation = "listBerth"', "did you mean listBerths"),
        ("count = 99", 'count = "many"', "`count` is a number"),
        ('reason = "the office knows"', "", "reason"),
    ]:
        (work / "juxtalogos.toml").write_text(text.replace(old, new), "utf-8")
        assert message in go("call", "listBerths", "--target", "local", status=2).err


def test_cases_are_copied_renamed_moved_and_removed(
    work: Path, go: Any, tmp_path: Path, jux: Callable[..., Result]
) -> None:
    go("compose", "berths")
    first = go("suite", "list", "berths", "--json").json["cases"]
    flow = next(one["case"] for one in first if len(one["steps"]) > 3)
    go("suite", "copy", f"berths#{flow}", "mine#fleet")
    step = _suite(work, "mine")["workflows"][0]["steps"][0]["stepId"]
    (work / "suites/mine.arazzo.yaml").write_text(
        "# ours\n" + (work / "suites/mine.arazzo.yaml").read_text("utf-8"), "utf-8"
    )
    go("suite", "rename", f"mine#fleet#{step}", "begin")
    text = (work / "suites/mine.arazzo.yaml").read_text("utf-8")
    assert text.startswith("# ours\n") and f"$steps.{step}." not in text and "$steps.begin." in text
    go("suite", "rename", "mine#fleet", "armada")
    go("suite", "tag", "mine#armada", "slow", "--describe", "all of it")
    assert [one["case"] for one in go("suite", "list", "--tag", "slow", "--json").json["cases"]] == ["armada"]
    assert go("run", "mine", "--target", "local", "--json").json["verdict"] == "passed"
    go("suite", "copy", "mine#armada", "mine#again")
    assert [one["workflowId"] for one in _suite(work, "mine")["workflows"]] == ["armada", "again"]
    go("suite", "move", "mine#again", "other/deep#x")
    assert (
        _suite(work, "other/deep")["sourceDescriptions"][0]["url"] == "../../definitions/berths/berths.yaml"
    )
    assert go("suite", "check").status == 0
    go("compose", "berths", "--folders")
    folders = {one["suite"] for one in go("suite", "list", "--json").json["cases"]}
    assert {"berths/vessels", "berths/port-calls"} <= folders or len(
        [one for one in folders if one.startswith("berths/")]
    ) > 2
    assert go("suite", "check").status == 0
    assert "is needed by mine#armada#" in go("suite", "remove", "mine#armada#begin", status=2).err
    assert "must be corrected" in go("suite", "remove", "mine#armada#begin", "--anyway").out
    assert "does not come before" in go("suite", "check", "mine", status=1).out
    jux("init", tmp_path / "team")
    go("suite", "copy", "other/deep#x", "shared#x", "--into", tmp_path / "team")
    assert (
        jux("suite", "check", "-C", tmp_path / "team").status == 0
        and (tmp_path / "team/definitions/berths/berths.yaml").exists()
    )
    go("suite", "remove", "other/deep")
    for words, message in [
        (("remove", "mine#none"), "there is no case none"),
        (("rename", "mine#armada"), "required: NAME"),
        (("copy", "a b", "c"), "is no SUITE#CASE#STEP"),
        (("remove", "mine#armada"), "keeps at least one case"),
    ]:
        assert message in go("suite", *words, status=2).err


def test_advice_on_literals_and_near_copies(work: Path, go: Any) -> None:
    made = go("call", "registerVessel", "--target", "local", "--save", "mine#port", "--json").json
    vessel = json.loads(made["response"]["body"])["vesselId"]
    go("call", "getVessel", "--set", f"vesselId={vessel}", "--save", "mine#port")
    advice = go("suite", "check", "--json").json["advice"]
    assert any(vessel in one["what"] and "=@registerVessel#/vesselId" in one["offer"] for one in advice)
    for name, kind in (("a", "bulk"), ("b", "tanker"), ("c", "ro-ro")):
        go("call", "registerVessel", "--set", f"body/kind={kind}", "--save", f"copies#{name}")
    [one] = [
        one for one in go("suite", "check", "copies", "--json").json["advice"] if one["suite"] == "copies"
    ]
    assert one["what"] == "differs from b, c in body/kind only" and '"tanker"' in one["offer"]


def test_two_targets_side_by_side(work: Path, go: Any) -> None:
    go("call", "listBerths", "--target", "local", "--save", "mine#look")
    go("run", "mine", "--target", "local")
    with serving("surface") as url:
        go("run", "mine", "--target", url, status=1)
    found = go("compare", "--json", status=1).json
    assert found["targets"] == ["local", "given"] and "gravel" in found["steps"][0]["differences"][0]
    go("run", "mine", "--target", "local")
    run = go("runs", "--json").json["runs"]
    assert go("compare", run[2]["run"], run[0]["run"]).out.strip() == "1 step: 1 the same, 0 not"
    assert "two runs are compared" in go("compare", 1, status=2).err


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("1 + 2 * 3", 7),
        ("(1 + 2) * 3", 9),
        ("0.1 + 0.2", 0.3),
        ("7 % 4", 3),
        ("-2 - -3", 1),
        ("10 / 4", 2.5),
        ("'a' + text(1.50)", "a1.5"),
        ("inputs.n * 2", 8),
        ("steps.made.id + '!'", "V-1!"),
        ("$steps.made.outputs.id", "V-1"),
        ("date('2026-02-27') + days(2)", "2026-03-01"),
        ("format(date('2026-03-04'), 'DD.MM.YY' )", "04.03.YY"),
        ("date('2026-03-04T05:06:07Z') + hours(1)", "2026-03-04T06:06:07Z"),
        ("date('2026-03-04') - date('2026-03-01')", 3),
        ("length('⚓⚓')", 2),
        ("sum(inputs.list)", 6),
        ("upper(part('berth', 0, 2))", "BE"),
        ("1 < 2", True),
        ("'a' == 'A'", False),
        ("round(2.345, 2)", 2.34),
        ("least(3, 1, 2)", 1),
        ("replace('a-b', '-', '')", "ab"),
        ("number(' 12 ')", 12),
        ("true", True),
        ("'it''s'", "it's"),
    ],
)
def test_formulas(text: str, expected: Any) -> None:
    scope = Scope({"n": 4, "list": [1, 2, 3]}, steps={"made": {"id": "V-1"}})
    assert compute(parse_formula(text), scope, FormulaContext()) == expected


@pytest.mark.parametrize(
    "text",
    [
        "",
        "1 +",
        "f(1)",
        "inputs",
        "a.b",
        "1 2",
        "(1",
        "days(1, 2)",
        "__import__('os')",
        "(" * 200,
        "1" * 3000,
    ],
)
def test_what_is_no_formula(text: str) -> None:
    with pytest.raises(BadFormula):
        parse_formula(text)


@pytest.mark.parametrize(
    "text",
    [
        "1 / 0",
        "'a' * 3",
        "inputs.none",
        "days(1)",
        "'a' < 1",
        "date('soon')",
        "9999999999 * 'x'",
        "date('2026-01-01') + days(99999999999)",
        "sum('x')",
    ],
)
def test_formulas_without_a_value(text: str) -> None:
    with pytest.raises(NoValue):
        compute(parse_formula(text), Scope({}), FormulaContext())


def test_selecting_by_xpath_and_jsonpath() -> None:
    body = (
        b'<m:quay xmlns:m="urn:merrow"><m:berth id="4">Skerry</m:berth><m:berth'
        b' id="5">Curlew</m:berth></m:quay>'
    )
    assert select_xml("//m:berth", body) == ["Skerry", "Curlew"]
    assert select_xml("//*[local-name()='berth']/@id", body) == ["4", "5"]
    assert select_xml("count(//m:berth) = 2", body) == [True]
    assert select_xml("//q:berth[1]", body, "xpath-10", {"q": "urn:merrow"}) == ["Skerry"]
    assert select_xml("//m:berth[matches(., '^Sk')]", body) == ["Skerry"]
    for text in (
        "//a[matches(., '(a+)+b')]",
        "doc('x')",
        "//a[",
        "unparsed-text('/etc/passwd')",
        "//m:x[matches(., @p)]",
    ):
        with pytest.raises(BadSelector):
            check_xpath(text, namespaces={"m": "urn:m"})
    assert select_json("$[?match(@, 'a.*')]", ["ab", "ba"]) == ["ab"]
    assert select_json("$[?search(@, '(a+)+$')]", ["a" * 40 + "!"]) == []


@pytest.mark.parametrize(
    "walk", ["testing-walk.md", "two-services-walk.md", "by-hand-walk.md", "three-formats-walk.md"]
)
def test_walks_as_they_are_written(tmp_path: Path, walk: str, jux: Jux) -> None:
    """Every line of a walk in docs/, in one folder; what a paragraph says it says must be there."""
    import os
    import re
    import shlex
    import subprocess
    import sys

    from conftest import BERTHS

    (tmp_path / "berths.yaml").write_text(BERTHS, "utf-8")
    bin_folder = tmp_path / "bin"
    bin_folder.mkdir()
    (bin_folder / "jux").write_text(f'#!/bin/sh\nexec {sys.executable} -m juxtalogos "$@"\n', "utf-8")
    (bin_folder / "python").write_text(f'#!/bin/sh\nexec {sys.executable} "$@"\n', "utf-8")
    for name in ("jux", "python"):
        (bin_folder / name).chmod(0o755)
    environment = {
        **os.environ,
        "PATH": f"{bin_folder}:{os.environ['PATH']}",
        "MERROW_KEY": KEY,
        "HOME": str(tmp_path / "home"),
        "NO_COLOR": "1",
    }
    text = (ROOT / "docs" / walk).read_text("utf-8")
    folder, count = tmp_path, 0
    tried: list[list[str]] = []
    with serving() as url:
        blocks = re.findall(r"((?:^    .+\n)+)\n(.*(?:\n(?!    ).*)*)", text, re.MULTILINE)
        for block, after in blocks:
            lines = [
                line[4:].replace("http://127.0.0.1:8480", url.removesuffix("/v1"))
                for line in block.rstrip("\n").split("\n")
            ]
            for number, line in enumerate(lines, 1):
                if line.startswith("cd "):
                    folder = folder / line[3:]
                    continue
                bare = re.sub(r"'[^']*'", "", line)
                if line.startswith("jux ") and not re.search(r"[|<>$`;&~*?]", bare):  # no shell is needed
                    run = jux(*shlex.split(line)[1:], cwd=folder, env={"MERROW_KEY": KEY}, status=None)
                    for words in advised(run.out + run.err):  # what only reads, as it stands
                        if words[0] in READING and words not in tried:
                            tried.append(words)
                            read = jux(*words, cwd=folder, env={"MERROW_KEY": KEY}, status=None)
                            assert read.status in (0, 1), (line, words, read.err)
                    done = subprocess.CompletedProcess(line, run.status, run.out, run.err)
                else:
                    done = subprocess.run(
                        ["bash", "-c", line],
                        cwd=folder,
                        env=environment,
                        capture_output=True,
                        text=True,
                        timeout=60,
                    )
                told = after if number == len(lines) else ""
                exits = re.match(r"exits (\d) and ", told)
                wanted = int(exits[1]) if exits else 0
                assert done.returncode == wanted, (line, done.stdout, done.stderr)
                says = re.match(r"(?:exits \d and )?says `([^`]+)`", told)
                if says:
                    assert says.group(1) in done.stdout + done.stderr, (
                        line,
                        says.group(1),
                        done.stdout,
                        done.stderr,
                    )
                    count += 1
    assert count >= 10 and tried
