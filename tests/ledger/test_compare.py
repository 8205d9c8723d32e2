"""Two runs side by side, on random answers and random records, against something simpler
that says the same.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from juxtalogos.documents.jsontext import NotJson, decode_utf8, dump_json, parse_json
from juxtalogos.ledger import ExchangeRecord
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.model.findings import CheckResult, Severity, general_path
from juxtalogos.model.location import Location, escape_key
from juxtalogos.model.verdict import Verdict
from juxtalogos.report.compare import MAX_DIFFERENCES, pairs, plain_answer, told
from juxtalogos.report.finding_changes import finding_changes
from juxtalogos.suite.comparing import Allowed
from juxtalogos.suite.comparing import differences as differing


def differences(one: Any, other: Any) -> Iterator[str]:
    return map(told, differing(one, other, Allowed()))


MANY = settings(max_examples=150, deadline=None)
SCALARS = (
    st.none() | st.booleans() | st.integers(-2, 2) | st.sampled_from([0.5, 1.0, -0.0, "", "1", "~/", "é"])
)
VALUES = st.recursive(
    SCALARS,
    lambda inner: (
        st.lists(inner, max_size=3)
        | st.dictionaries(st.sampled_from(["", "a", "b/c", "~d"]), inner, max_size=3)
    ),
    max_leaves=8,
)


def _leaves(value: Any, path: str = "") -> Iterator[tuple[str, str]]:
    """(path, what stands there), of each value; 1 and 1.0 are the same number, true is none."""
    if isinstance(value, dict):
        yield path, "object"
        for key, item in value.items():
            yield from _leaves(item, f"{path}/{escape_key(key)}")
    elif isinstance(value, list):
        yield path, "array"
        for index, item in enumerate(value):
            yield from _leaves(item, f"{path}/{index}")
    else:
        number = isinstance(value, int | float) and not isinstance(value, bool)
        yield path, f"number {value + 0.0:g}".replace("-0", "0") if number else json.dumps(value)


@MANY
@given(VALUES, VALUES)
def test_each_difference_is_where_the_values_differ(one: Any, other: Any) -> None:
    left, right = dict(_leaves(one)), dict(_leaves(other))
    found = [text.partition(": ")[0].replace("the body", "") for text in differences(one, other)]
    assert max(Counter(found).values(), default=1) == 1
    unequal = {path for path in left.keys() & right.keys() if left[path] != right[path]}
    assert {path for path in found if path in left and path in right} == unequal
    # A value that only one side has is told once, at the uppermost place.
    for path in left.keys() ^ right.keys():
        assert any(path == at or path.startswith(f"{at}/") for at in found)
    assert list(differences(one, one)) == [] and bool(found) == (left != right)
    assert len(list(differences(other, one))) == len(found)


def test_differences_in_words_and_in_the_order_of_the_first() -> None:
    one = {"moored": 1, "a": [1, {"b": 2}], "gone": 0, "same": 1, "odd": [1]}
    other = {"new": 1, "same": 1.0, "a": [1, {"b": 3}, 4], "moored": True, "odd": {"1": 1}}
    assert list(differences(one, other)) == [
        "/moored: 1 in the first, true in the other",
        "/a/1/b: 2 in the first, 3 in the other",
        "/a/2: only in the other",
        "/gone: only in the first",
        '/odd: [1] in the first, {"1":1} in the other',
        "/new: only in the other",
    ]
    assert list(differences("x" * 100, None)) == [f'the body: "{"x" * 59} in the first, null in the other']


@pytest.mark.parametrize("depth", [900, 50_000])
def test_however_deep_answers_nest(depth: int) -> None:
    one: Any = 1
    other: Any = 2
    for _ in range(depth):
        one, other = [one], [other]
    (found,) = differences(one, other)
    assert found.endswith("/0: 1 in the first, 2 in the other") and found.count("/0") == depth
    (found,) = differences(one, {"dock": other})
    assert found.startswith("the body: ")


def _record(
    index: int, case: str, step: str, status: int, verdict: Verdict, body: bytes | None
) -> ExchangeRecord:
    response = None if body is None else Response(status, "", (), body)
    exchange = Exchange(Request("GET", "http://quay.test/"), response, Timings(0, 0, 0))
    return ExchangeRecord(case, step, "berths", "op", exchange, verdict, "", suite="s", id=index)


RECORDS = st.lists(
    st.builds(
        _record,
        st.just(0),
        st.sampled_from("ab"),
        st.sampled_from("xy"),
        st.sampled_from([200, 404]),
        st.sampled_from([Verdict.PASSED, Verdict.FAILED]),
        st.sampled_from([b'{"a": 1}', b'{ "a" :1.0 }', b'{"a": 2}', b"no json", b"\xff", b"", None]),
    ),
    max_size=8,
)


@MANY
@given(RECORDS, RECORDS)
def test_steps_are_paired_by_their_turn(first: list[ExchangeRecord], second: list[ExchangeRecord]) -> None:
    found = pairs(iter(first), iter(second))
    for side, records in (("first", first), ("second", second)):
        of_side = [getattr(one, side) for one in found if getattr(one, side) is not None]
        assert sorted(map(id, of_side)) == sorted(map(id, records))  # each exactly once
    for key in {(one.case, one.step) for one in found}:
        of_key = [one for one in found if (one.case, one.step) == key]
        sides = [[one for one in records if (one.case, one.step) == key] for records in (first, second)]
        assert len(of_key) == max(map(len, sides))
        assert [(one.first, one.second) for one in of_key if one.first and one.second] == list(zip(*sides))
    for one in found:
        if one.first is None or one.second is None:
            assert not one.same and not one.differences
            continue
        answers = [side.exchange.response if side.exchange else None for side in (one.first, one.second)]
        if None in answers:
            continue
        alike = len({_canonical(answer.body) for answer in answers if answer}) == 1
        assert bool(one.differences) is not alike
        assert one.same is (
            alike and (one.first.status, one.first.verdict) == (one.second.status, one.second.verdict)
        )


def _canonical(body: bytes) -> str:
    try:
        return repr(sorted((key, float(value)) for key, value in json.loads(body).items()))
    except ValueError:
        return body.decode("utf-8", "replace")


def test_many_differences_are_cut_and_say_so() -> None:
    bodies = [
        json.dumps({f"k{index}": side for index in range(count)}).encode()
        for side in (0, 1)
        for count in (MAX_DIFFERENCES, MAX_DIFFERENCES + 1)
    ]
    for count in (0, 1):
        first, second = (
            _record(1, "a", "x", 200, Verdict.PASSED, bodies[count + 2 * side]) for side in (0, 1)
        )
        (pair,) = pairs([first], [second])
        assert len(pair.differences) == MAX_DIFFERENCES + count
        assert (pair.differences[-1] == "and more") is bool(count)


@MANY
@given(VALUES, st.sampled_from([None, 2]))
def test_json_is_written_and_read_back_the_same(value: Any, indent: int | None) -> None:
    text = dump_json(value, indent=indent)
    assert (
        json.loads(text) == value
        and parse_json(text) == value
        and parse_json(text.encode("utf-8-sig")) == value
    )
    assert parse_json(text, unique=True) == value


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"\xff", "not UTF-8 at byte 0"),
        (b'"a\xc3"', "not UTF-8 at byte 2"),
        (b"NaN", "NaN is no JSON number"),
        (b"[-Infinity]", "-Infinity is no JSON number"),
        (b'{"a":1,\n"b" 2}', "line 2, column 5"),
        (b"", "line 1, column 1"),
        (b"[1] x", "extra data"),
        (b"[" * 100_000, "nested too deep"),
        (b"9" * 5_000, "exceeds the limit"),
        (b'{"a": 1, "b": {"c": 1, "c": 2}}', "the name 'c' stands twice"),
    ],
)
def test_what_is_no_json_is_told_with_its_place(data: bytes, words: str) -> None:
    with pytest.raises(NotJson, match=words):
        parse_json(data, unique=True)


@MANY
@given(st.text(max_size=6))
def test_lone_surrogates_are_escaped(text: str) -> None:
    mixed = text + "\ud800"
    assert parse_json(dump_json(mixed)) == mixed
    dump_json(mixed).encode()
    assert decode_utf8(text.encode()) == text.removeprefix("\ufeff")


def _checked(body: Any, *results: CheckResult, status: int = 200) -> ExchangeRecord:
    record = _record(1, "a", "x", status, Verdict.PASSED, json.dumps(body).encode())
    return replace(record, results=results)


def _result(kind: str, at: str, *, held: bool = False, declared: str = "d") -> CheckResult:
    return CheckResult(kind, held, at, declared, "o", Location("q.yaml", f"/{kind}/{general_path(at)}"))


BODY_HELD = _result("body", "body", held=True)
ENUM = _result("body.enum", "body/1/kind")
CHANGES: list[tuple[str, ExchangeRecord | None, ExchangeRecord | None, list[str]]] = [
    ("new", _checked([{"kind": "a"}], BODY_HELD), _checked([0, {"kind": 1}], ENUM), ["newly failing"]),
    (
        "no item came before",
        _checked([], BODY_HELD),
        _checked([0, {"kind": 1}], ENUM),
        ["failing, not tried before"],
    ),
    (
        "still, at another index",
        _checked([{"kind": 1}], ENUM),
        _checked([{"kind": 1}], _result("body.enum", "body/0/kind")),
        ["still failing"],
    ),
    ("mended", _checked([0, {"kind": 1}], ENUM), _checked([{"kind": "a"}], BODY_HELD), ["mended"]),
    ("no item came", _checked([0, {"kind": 1}], ENUM), _checked([], BODY_HELD), ["not tried again"]),
    ("no such member came", _checked([0, {"kind": 1}], ENUM), _checked([{}], BODY_HELD), ["not tried again"]),
    (
        "another status",
        _checked([0, {"kind": 1}], ENUM),
        _checked([{"kind": 1}], BODY_HELD, status=404),
        ["not tried again"],
    ),
    (
        "the body was not read",
        _checked([0, {"kind": 1}], ENUM),
        _checked([{"kind": "a"}]),
        ["not tried again"],
    ),
    (
        "an element among several of its name",
        _checked({"job": [{"kind": 1}]}, _result("body.enum", "body/job[1]/kind")),
        _checked({"job": [{"kind": "a"}]}, BODY_HELD),
        ["mended"],
    ),
    (
        "no element of that name",
        _checked({"job": [{"kind": 1}]}, _result("body.enum", "body/job[1]/kind")),
        _checked({"tug": [{"kind": "a"}]}, BODY_HELD),
        ["not tried again"],
    ),
    ("the step did not run", _checked([0, {"kind": 1}], ENUM), None, ["not tried again"]),
    ("a step that is new", None, _checked([0, {"kind": 1}], ENUM), ["failing, not tried before"]),
    (
        "another broken member",
        _checked({"a": 1, "b": 1}, _result("body.type", "body/a")),
        _checked({"a": 1, "b": 1}, _result("body.type", "body/b")),
        ["newly failing", "mended"],
    ),
    (
        "a member too many is gone",
        _checked({"shard": 3}, _result("body.extra", "body/shard")),
        _checked({}, BODY_HELD),
        ["mended"],
    ),
    (
        "a header came",
        _checked({}, _result("header.missing", "header.A")),
        _checked({}, _result("header", "header.A", held=True)),
        ["mended"],
    ),
    (
        "another header came",
        _checked({}, _result("header.missing", "header.A")),
        _checked({}, _result("header", "header.B", held=True)),
        ["not tried again"],
    ),
    (
        "the status is declared now",
        _checked({}, _result("status.undeclared", "status"), status=500),
        _checked({}, _result("status", "status", held=True)),
        ["mended"],
    ),
    (
        "a status that the step does not want",
        _checked({}, _result("status.undeclared", "status")),
        _checked(
            {}, _result("status", "status", held=True), _result("criterion.unmet", "written"), status=404
        ),
        ["failing, not tried before", "not tried again"],
    ),
    (
        "a header of another status",
        _checked({}, _result("header.missing", "header.A")),
        _checked({}, _result("header", "header.A", held=True), status=404),
        ["not tried again"],
    ),
    (
        "a rule of the protocol, about something else there",
        _checked({}, _result("control.untrue", "body/n")),
        _checked({}, _result("control", "body/n", held=True, declared="e")),
        ["not tried again"],
    ),
    (
        "a remark",
        _checked({}, replace(_result("body.unexpected", "body"), severity=Severity.REMARK)),
        _checked({}, BODY_HELD),
        [],
    ),
    (
        "a written check held",
        _checked({}, _result("check.unmet", "body/a")),
        _checked({}, _result("check.unmet", "body/a", held=True)),
        ["mended"],
    ),
    (
        "a written check says something else",
        _checked({}, _result("check.unmet", "body/a")),
        _checked({}, _result("check.unmet", "body/a", held=True, declared="e")),
        ["not tried again"],
    ),
]


@pytest.mark.parametrize(
    ("first", "second", "changes"), [row[1:] for row in CHANGES], ids=[row[0] for row in CHANGES]
)
def test_how_findings_of_two_runs_differ(
    first: ExchangeRecord | None, second: ExchangeRecord | None, changes: list[str]
) -> None:
    """Newly failing, or mended, is only what the other run looked at, and what held there."""
    found = pairs(filter(None, [first]), filter(None, [second]))
    assert [
        str(one.change) for one in finding_changes(found, lambda record: plain_answer(record)[0])
    ] == changes
