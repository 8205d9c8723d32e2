"""Contracts renamed and removed: what refers to them follows or is told, and a failure changes nothing."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import yaml

from conftest import Result

Go = Callable[..., Result]


_READ: dict[str, Callable[[str], Any]] = {".toml": tomllib.loads, ".yaml": yaml.safe_load}


def state(work: Path) -> dict[str, Any]:
    """Each file by what it says: spaces and the order of keys may change."""
    return {
        str(path.relative_to(work)): _READ.get(path.suffix, str)(path.read_text("utf-8"))
        for path in work.rglob("*")
        if path.is_file() and ".juxtalogos" not in path.parts
    }


def test_what_refers_to_a_contract_follows_its_new_name(go: Go, work: Path, harbour: str) -> None:
    go("targets", "set", "quay", harbour, "--contract", "berths")
    go("call", "registerVessel", "--set", "body/name=Tern", "--save", "visit#tern", "--target", "quay")
    go("pin", "--whole", "reg", "--exchange", "@registerVessel")
    go("rules", "berths:registerVessel", "--known", "body/name=Skua")
    before = state(work)
    told = go("contracts", "rename", "berths", "piers").out
    assert all(word in told for word in ("fleet, visit", "targets: quay", "learned/quay", "kept/reg.json"))
    assert go("contracts", "--json").json["contracts"][0]["suites"] == ["fleet", "visit"]
    go("run", "visit", "--target", "quay")
    assert "Skua" in go("rules").out and "piers" in (work / "juxtalogos.toml").read_text()
    go("contracts", "rename", "piers", "berths")
    assert state(work) == before
    assert go("contracts", "remove", "berths", status=2).err.count("fleet, visit")
    assert state(work) == before
    go("contracts", "remove", "berths", "--anyway")
    assert go("contracts", "--json").json["contracts"] == []
    assert "berths" not in (work / "juxtalogos.toml").read_text()


def test_a_rename_that_fails_halfway_changes_nothing(go: Go, work: Path) -> None:
    go("rules", "berths:registerVessel", "--known", "body/name=Skua")
    (work / "suites" / "odd.arazzo.yaml").write_text(
        (work / "suites" / "fleet.arazzo.yaml").read_text().replace("berths.registerVessel", "berths.nix")
    )
    before = state(work)
    assert "nix" in go("contracts", "rename", "berths", "piers", status=2).err
    assert state(work) == before


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("contracts", "rename", "berths"), "rename CONTRACT NAME"),
        (("contracts", "rename", "berhs", "piers"), "did you mean berths?"),
        (("contracts", "rename", "berths", "a b"), "letters, digits"),
        (("contracts", "rename", "berths", "berths"), "choose another name"),
        (("contracts", "rename", "berths", "piers", "--anyway"), "`contracts remove`"),
        (("contracts", "remove"), "remove CONTRACT"),
        (("contracts", "remove", "berths", "piers"), "takes one contract"),
        (("contracts", "berths"), "is none of list, rename, remove"),
        (("contracts", "list", "berths"), "juxtalogos show berths"),
    ],
)
def test_slips_change_nothing(go: Go, work: Path, words: tuple[str, ...], told: str) -> None:
    before = state(work)
    assert told in go(*words, status=2).err
    assert state(work) == before
