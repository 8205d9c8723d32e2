"""The verbs of `suite`, through the program: seen, changed by number and by name, taken back; slips change
nothing.
"""

from __future__ import annotations

from collections.abc import Callable
from hashlib import sha256
from pathlib import Path
from typing import Any

from conftest import Result

Go = Callable[..., Result]
CASE = "fleet#vessel"


def shown(go: Go, place: str = CASE) -> Any:
    (case,) = go("suite", "show", place, "--json").json["cases"]
    return case


def test_a_case_is_shown_with_where_its_values_come_from(go: Go) -> None:
    go("suite", "set", f"{CASE}#read", "path.vesselId=@register#/vesselId")
    go("suite", "set", f"{CASE}#1", "body/built==format(today(),'YYYY-MM-DD')")
    go("suite", "set", f"{CASE}#2", "--check", "body/kind equals tanker", "--check", "body/name exists")
    go("suite", "table", CASE, "kinds.csv")
    case = shown(go)
    assert case["table"] == {"name": "kinds.csv", "rows": 2}
    assert [step["step"] for step in case["steps"]] == ["register", "read"]
    sources = {one["address"]: (one["source"], one["told"]) for one in case["steps"][0]["inputs"]}
    assert sources == {
        "body/name": ("value", "Grey Tern"),
        "body/kind": ("table", "column kind"),
        "body/lengthMetres": ("value", "118.5"),
        "body/built": ("formula", "format(today(),'YYYY-MM-DD')"),
    }
    (read,) = case["steps"][1]["inputs"]
    assert (read["source"], read["told"]) == ("step", "vesselId of register")
    assert [one["text"] for one in case["steps"][1]["checks"]] == [
        "body/kind equals tanker",
        "body/name exists true",
    ]
    go("run", CASE, "--target", "local", status=1)
    told = go("suite", "show", CASE).out
    assert "POST /vessels   passed 201  @" in told and "check 1  body/kind equals tanker" in told
    assert all(len(line) <= 100 for line in told.splitlines())
    assert shown(go)["steps"][0]["latest"]["status"] == 201


def test_checks_inputs_and_steps_are_changed_by_number_and_taken_back(go: Go, work: Path) -> None:
    suite = work / "suites" / "fleet.arazzo.yaml"
    texts = [suite.read_bytes()]

    def change(*words: str) -> str:
        out = go("suite", *words).out
        texts.append(suite.read_bytes())
        assert texts[-1] != texts[-2], words
        return out

    change("set", f"{CASE}#read", "--check", "body/kind equals bulk", "--check", "body/name exists")
    change("set", f"{CASE}#read", "--check", "1: body/kind among bulk,tanker")
    assert [one["text"] for one in shown(go)["steps"][1]["checks"]] == [
        'body/kind among ["bulk","tanker"]',
        "body/name exists true",
    ]
    change("clear", f"{CASE}#2", "--check", "body/name")
    change("clear", f"{CASE}#2", "--check", "1")
    assert not shown(go)["steps"][1]["checks"]
    assert "path.vesselId is required: juxtalogos suite set" in change("clear", f"{CASE}#2", "vesselId")
    change("clear", f"{CASE}#1", "body/kind")
    assert "kind" not in suite.read_text()
    number = go("call", "listBerths", "--target", "local", "--json").json["exchange"]
    change("add", CASE, f"@{number}", "--before", "read")
    assert [step["step"] for step in shown(go)["steps"]] == ["register", "listBerths", "read"]
    assert "is step 3 now" in change("move", f"{CASE}#listBerths", "--after", "3")
    change("disable", f"{CASE}#3")
    assert shown(go)["steps"][2]["disabled"]
    go("run", CASE, status=None)
    assert shown(go)["steps"][2]["latest"] is None and shown(go)["steps"][0]["latest"] is not None
    change("enable", f"{CASE}#3")
    change("disable", CASE)
    assert "is disabled" in go("run", CASE, status=2).err
    change("rename", f"{CASE}#read", "look")
    assert len(go("suite", "undo", "--list", "--json").json["changes"]) == len(texts) - 1
    for before in reversed(texts[:-1]):
        assert go("suite", "undo").out.startswith("taken back: ")
        assert suite.read_bytes() == before
    assert "no change to undo" in go("suite", "undo", status=2).err


def test_what_a_person_wrote_since_is_not_undone(go: Go, work: Path) -> None:
    suite = work / "suites" / "fleet.arazzo.yaml"
    for number in range(23):
        go("suite", "set", f"{CASE}#register", f"body/lengthMetres={100 + number}")
    assert len(go("suite", "undo", "--list", "--json").json["changes"]) == 20
    suite.write_text(suite.read_text() + "# mine\n")
    assert "was changed since" in go("suite", "undo", status=2).err
    assert suite.read_text().endswith("# mine\n")


def test_what_calls_pins_and_compose_write_is_taken_back_too(go: Go, work: Path) -> None:
    go("call", "listBerths", "--target", "local", "--save", "look#berths")
    saved = (work / "suites" / "look.arazzo.yaml").read_bytes()
    go("pin", "body/0/berthId", "--exchange", "@listBerths")
    assert (work / "suites" / "look.arazzo.yaml").read_bytes() != saved
    go("compose", "berths")
    what = [one["what"] for one in go("suite", "undo", "--list", "--json").json["changes"]]
    assert what == [
        "compose berths",
        "pin 1 check of look#berths#listBerths",
        "call listBerths --save look#berths",
    ]
    go("suite", "undo")
    assert not (work / "suites" / "berths.arazzo.yaml").exists()
    go("suite", "undo")
    assert (work / "suites" / "look.arazzo.yaml").read_bytes() == saved
    go("suite", "undo")
    assert not (work / "suites" / "look.arazzo.yaml").exists()


def test_nothing_that_is_needed_is_removed_unasked(go: Go, work: Path) -> None:
    go("suite", "set", f"{CASE}#read", "path.vesselId=@register#/vesselId")
    for words in (("remove", f"{CASE}#1"), ("disable", f"{CASE}#register"), ("remove", f"{CASE}#register")):
        refused = go("suite", *words, status=2)
        assert f"is needed by {CASE}#read" in refused.err and "--anyway" in refused.err
    assert "takes a value from it" in go("suite", "disable", f"{CASE}#1", "--anyway").out
    go("suite", "undo")
    go("suite", "remove", f"{CASE}#2")
    go("suite", "undo")
    assert len(shown(go)["steps"]) == 2


SLIPS: list[tuple[str, str]] = [
    ("suite lst", "did you mean list?"),
    ("suite shwo fleet", "did you mean show?"),
    ("suite show", "required: SUITE"),
    ("suite show flet", "did you mean fleet"),
    ("suite show fleet#vesel", "did you mean vessel"),
    ("suite show fleet#vessel#raed", "did you mean read"),
    ("suite show fleet#vessel#7", "there is no step 7"),
    ("suite show fleet#vessel#0", "there is no step 0"),
    ("suite show fleet --check 1", "it belongs to suite set, suite clear"),
    ("suite remove fleet#vessel#read --check 1", "it belongs to suite set, suite clear"),
    ("suite remove fleet#vessel#read body/kind", "unknown word body/kind"),
    ("suite remove", "required: SUITE"),
    ("suite remove fleet#vessel", "juxtalogos suite remove fleet"),
    ("suite set fleet#vessel#read --chek x", "did you mean --check?"),
    ("suite set fleet#vessel#read", "say what to set"),
    ("suite set fleet vesselId=1", "names no step"),
    ("suite set fleet#vessel body/kind=tanker", "the case has several steps"),
    ("suite set fleet#vessel#read vesselId", "has no '='"),
    ("suite set fleet#vessel#register body/kind=tanker body/kidn=x", "did you mean"),
    ("suite set fleet#vessel#register body/kind=tanker --check '9: body/kind exists'", "has no check 9"),
    ("suite clear fleet#vessel#register body/kind --check 9", "has no check 9"),
    ("suite set fleet#vessel#read vesslId=1", "did you mean"),
    ("suite set fleet#vessel#read vesselId=@raed#/x", "juxtalogos suite"),
    ("suite set fleet#vessel#register --link a=b", "it belongs to suite table"),
    ("suite set fleet#vessel#register --before read", "it belongs to suite add, suite move"),
    ("suite set fleet#vessel#read --check 'body/kind'", "is no check"),
    ("suite set fleet#vessel#read --check 'body/kind is bulk'", "is"),
    ("suite set fleet#vessel#read --check '4: body/kind equals bulk'", "has no check 4"),
    ("suite clear fleet#vessel#read", "say what to clear"),
    ("suite clear fleet#vessel#read --check 1", "has no check 1"),
    ("suite clear fleet#vessel#read --check body/kind", "has no check body/kind"),
    ("suite clear fleet#vessel#register body/built", "does not send body/built"),
    ("suite clear fleet#vessel#register body/bilt", "did you mean"),
    ("suite clear fleet body/kind", "names no step"),
    ("suite add fleet#vessel", "required: @EXCHANGE"),
    ("suite add fleet @last", "names no case"),
    ("suite add fleet#vessel 17", "names no exchange"),
    ("suite add fleet#vessel @999", "there is no exchange 999"),
    ("suite add fleet#vessel @last --before 1 --after 2", "not allowed with"),
    ("suite move fleet#vessel#read", "say where to"),
    ("suite move fleet#vessel#read --after read", "cannot be put beside itself"),
    ("suite move fleet#vessel#read --after raed", "did you mean read"),
    ("suite move fleet#vessel --after read", "move a step within its case"),
    ("suite move fleet#vessel#read fleet#x --after register", "say where to"),
    ("suite rename fleet#vessel", "required: NAME"),
    ("suite rename fleet#vessel#read register", "already"),
    ("suite rename fleet#vessel 'a b'", "is no name"),
    ("suite copy fleet#vessel", "required: TO"),
    ("suite copy fleet#vessel fleet#vessel", "already"),
    ("suite table fleet#vessel", "name a file"),
    ("suite table fleet#vessel kids.csv", "there is no table"),
    ("suite table fleet#vessel kinds.csv --link colour=body/kind", "has no column"),
    ("suite table fleet#vessel kinds.csv --once raed", "did you mean read"),
    ("suite table fleet#vessel --link kind=body/kind --once read", "--link goes with a file"),
    ("suite tag fleet nightly", "names no case"),
    ("suite tag fleet#vesel nightly", "did you mean vessel"),
    ("suite disable fleet", "name a case or a step"),
    ("suite enable fleet#vessel#raed", "did you mean read"),
    ("suite undo", "no change to undo"),
    ("suite undo 3", "unknown word 3"),
    ("siute list", "did you mean suite"),
    ("run flet", "did you mean fleet"),
    ("run fleet --tagret local", "did you mean --target?"),
    ("run fleet#vesel", "did you mean vessel"),
]


def test_slips_change_nothing_and_name_the_right_word(go: Go, work: Path) -> None:
    import shlex

    def digest() -> str:
        files = sorted(path for path in (work / "suites").rglob("*") if path.is_file())
        return sha256(b"".join(path.read_bytes() for path in files)).hexdigest()

    before, wrong = digest(), []
    for words, told in SLIPS:
        result = go(*shlex.split(words), status=None)
        if result.status != 2 or told not in result.err or "Traceback" in result.err or digest() != before:
            wrong.append((words, result.status, result.err))
    assert not wrong, "\n".join(map(str, wrong))
