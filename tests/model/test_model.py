"""The model: fingerprints, pointers, verdicts."""

from __future__ import annotations

from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from juxtalogos.model.findings import KEYWORD_KINDS, KINDS, CheckResult, Finding
from juxtalogos.model.location import Location, follow_pointer, join_pointer, split_pointer
from juxtalogos.model.verdict import Verdict, worst


def test_fingerprints_are_stable() -> None:
    def finding(**more: Any) -> str:
        values = {
            "kind": "body.type",
            "at": "body/items/3/length",
            "declared": "number",
            "observed": "x",
            "location": Location("b.yaml", "/x/type"),
            "status": 200,
            **more,
        }
        result = CheckResult(
            values["kind"], False, values["at"], values["declared"], values["observed"], values["location"]
        )
        return Finding(result, "berths", "getVessel", values["status"]).fingerprint

    assert finding() == finding(at="body/items/0/length", observed="y", declared="a number")
    assert (
        len(
            {
                finding(),
                finding(kind="body.enum"),
                finding(at="body/items/3/name"),
                finding(status=201),
                finding(location=Location("b.yaml", "/y")),
            }
        )
        == 5
    )
    assert set(KEYWORD_KINDS.values()) <= set(KINDS)


@given(st.lists(st.text(max_size=4), max_size=4))
def test_pointers(keys: list[str]) -> None:
    assert split_pointer(join_pointer(keys)) == keys
    value: Any = 1
    for key in reversed(keys):
        value = {key: value}
    assert follow_pointer(value, join_pointer(keys)) == 1


def test_verdicts() -> None:
    assert worst([]) is Verdict.SKIPPED
    assert worst([Verdict.PASSED, Verdict.SKIPPED]) is Verdict.SKIPPED
    assert worst([Verdict.UNPROVEN, Verdict.PASSED, Verdict.SKIPPED]) is Verdict.UNPROVEN
    assert worst([Verdict.FAILED, Verdict.ERROR]) is Verdict.ERROR
