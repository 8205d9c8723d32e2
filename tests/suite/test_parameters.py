"""Parameters: set once for many steps, everywhere, at a target or in a suite, without an editor."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from test_suite_verbs import Go

from conftest import FLEET, Result
from juxtalogos.model.schema import ABSENT
from juxtalogos.suite.parameters import KINDS, SharedParameter, is_of

CASE = "fleet#vessel"
_JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=5),
    lambda inner: (
        st.lists(inner, max_size=2)
        | st.dictionaries(st.sampled_from(["type", "value", "formula", "x"]), inner, max_size=3)
    ),
    max_leaves=6,
)


@given(_JSON)
def test_any_value_is_read_as_it_was_written(value: Any) -> None:
    for kind in ("", *(kind for kind in KINDS if is_of(value, kind))):
        one = SharedParameter(kind, value)
        again = SharedParameter.of(one.written())
        assert (again.value, again.type, again.formula) == (value, one.type, "")
    for one in (
        SharedParameter("integer"),
        SharedParameter("", formula="1 + 1"),
        SharedParameter("number", formula="2"),
    ):
        assert SharedParameter.of(one.written()) == one
    assert not SharedParameter("string").has_value and SharedParameter("string").value is ABSENT


def listed(go: Go) -> dict[tuple[str, str | None, str | None], Any]:
    found = go("parameters", "--json").json["parameters"]
    return {(one["name"], one["target"], one["suite"]): one for one in found}


def test_a_value_becomes_a_parameter_and_is_not_lost(go: Go, work: Path) -> None:
    told = go("suite", "set", f"{CASE}#register", "body/name=$inputs.ship").out
    assert "a parameter of the suite fleet from now on: Grey Tern" in told
    assert listed(go)[("ship", None, "fleet")]["uses"] == [CASE]
    assert "Grey Tern" in go("suite", "show", CASE).out
    again = go("suite", "set", f"{CASE}#register", "body/kind=$inputs.ship").out
    assert "in place of bulk" in again
    go("suite", "undo")
    go("parameters", "set", "ship=Skua")
    go("parameters", "set", "ship==pick('Curlew')", "--target", "local")
    case = go("suite", "show", CASE, "--json").json["cases"][0]
    (row,) = (one for one in case["steps"][0]["inputs"] if one["address"] == "body/name")
    assert (row["source"], row["told"]) == ("parameter ship", "= pick('Curlew')")

    def sent(*words: str) -> str:
        go("run", CASE, "--target", "local", *words, status=None)
        ran = go("exchanges", "--operation", "registerVessel", "--json").json["exchanges"]
        shown: Result = go("exchanges", ran[-1]["exchange"])
        return next(name for name in ("Skua", "Curlew", "Grey Tern", "Knot") if name in shown.out)

    assert sent() == "Curlew"
    go("parameters", "remove", "ship", "--target", "local")
    assert sent() == "Skua"
    assert sent("--set", "ship=Knot") == "Knot"
    go("parameters", "remove", "ship")
    assert sent() == "Grey Tern"
    go("parameters", "remove", "ship", "--suite", "fleet", "--anyway")
    assert not listed(go)[("ship", None, None)]["given"]
    # A case that a person gave a parameter without a value has failed; the command that mends it is told.
    ran = go("run", CASE, "--target", "local", status=1)
    assert "juxtalogos parameters set ship=VALUE" in " ".join(ran.out.split())
    go("suite", "undo")
    assert sent() == "Grey Tern"


def test_a_secret_in_a_file_is_not_shown(go: Go, work: Path) -> None:
    """Somebody may have written one by hand."""
    with (work / "juxtalogos.toml").open("a") as out:
        out.write(
            '\n[variables]\npassword = "tide-s3cret"\n\n[targets.local.headers]\nX-Token = "tide-s3cret"\n'
        )
    for words in (("parameters",), ("parameters", "--json"), ("targets", "show", "local")):
        told = go(*words)
        assert "tide-s3cret" not in told.out + told.err


def test_types_are_kept_to(go: Go) -> None:
    go("suite", "set", f"{CASE}#register", "body/lengthMetres=$inputs.metres")
    go("parameters", "set", "metres=90", "--type", "number")
    told = go("run", CASE, "--target", "local", "--set", "metres=long", status=2).err
    assert "metres is of type number" in told
    assert "metres is of type number" in go("parameters", "set", "metres=long", status=2).err
    go("parameters", "set", "code=007", "--type", "string")
    assert listed(go)[("code", None, None)]["value"] == "007"
    go("parameters", "set", "later", "--type", "integer")
    assert (listed(go)[("later", None, None)]["type"], listed(go)[("later", None, None)]["given"]) == (
        "integer",
        False,
    )
    go("run", CASE, "--target", "local", status=None)
    called = go("call", "registerVessel", "--set", "body/name=$inputs.code", "--save", "fleet#more")
    assert '"name": "007"' in called.out
    assert "$inputs.code" in str(go("suite", "show", "fleet#more", "--json").json)


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("parameters", "set"), "name a parameter"),
        (("parameters", "set", "ship"), "ship=VALUE, or --type string"),
        (("parameters", "set", "a b=1"), "letters, digits"),
        (("parameters", "set", "x==pick("), "is no formula"),
        (("parameters", "set", "password=tern"), "--set password=env:NAME"),
        (("parameters", "set", "x=null"), "--suite SUITE"),
        (("parameters", "set", "x=1", "--suite", "flet"), "did you mean fleet?"),
        (("parameters", "set", "x=1", "--target", "locl"), "did you mean local?"),
        (("parameters", "remove", "shp"), "is set everywhere"),
        (("parameters", "--type", "string"), "parameters set NAME"),
        (("parameters", "set", "x=1", "--anyway"), "`parameters remove`"),
        (("parameters", "sett", "x=1"), "did you mean set?"),
        (("call", "registerVessel", "--set", "body/name=$inputs.nix"), "parameters set nix=VALUE"),
    ],
)
def test_slips_change_nothing(go: Go, work: Path, words: tuple[str, ...], told: str) -> None:
    before = (work / "juxtalogos.toml").read_bytes(), FLEET
    said = go(*words, status=2).err
    assert told in said
    assert (
        (work / "juxtalogos.toml").read_bytes(),
        (work / "suites" / "fleet.arazzo.yaml").read_text(),
    ) == before
