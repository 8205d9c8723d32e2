"""Kept responses know what earlier calls made, and are compared at once where that harms nothing."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

from conftest import Result

Go = Callable[..., Result]


def test_what_a_call_by_hand_made_may_differ_in_the_next_run(go: Go, work: Path) -> None:
    go("targets", "set", "local", "--default")
    go("call", "registerVessel", "--set", "body/name=Tern", "--save", "visit#tern")
    go("call", "getVessel", "--set", "vesselId=@registerVessel#/vesselId", "--save", "visit#tern")
    told = go("pin", "--whole", "vessel", "--exchange", "@getVessel")
    assert "next: juxtalogos run visit#tern" in told.err
    for _ in range(2):
        go("run", "visit#tern")
    # One answer that differs from what is kept is told, by compare too, though both runs fail alike.
    path = work / "kept" / "vessel.json"
    data = json.loads(path.read_text())
    data["value"]["kind"] = "tanker"
    path.write_text(json.dumps(data))
    for _ in range(2):
        assert "/kind" in go("run", "visit#tern", status=1).out
    compared = go("compare")
    assert "2 the same" in compared.out and "not as the kept response" in compared.out
    steps = go("compare", "--all", "--json").json["steps"]
    assert [bool(one["notAsKept"]["second"]) for one in steps] == [False, True]
    go("pin", "--renew", "vessel", "--exchange", "@getVessel", "--yes")
    go("run", "visit#tern")


def test_the_first_comparison_is_shown_at_once(go: Go, work: Path) -> None:
    go("targets", "set", "local", "--default")
    go("call", "listVessels", "--save", "visit#list")
    assert "compared at once: the same" in go("pin", "--whole", "list", "--exchange", "@listVessels").out
    go("call", "listVessels", "--save", "visit#more")
    go("call", "registerVessel", "--set", "body/name=Knot")
    told = go("pin", "--whole", "other", "--exchange", "@listVessels")
    assert "differs at once" in told.out and "--renew other --twice" in told.err
