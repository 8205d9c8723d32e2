"""What a person reads: fits the width, breaks no word, groups what is alike, tells the worst first; and names
that survive reordering.
"""

from __future__ import annotations

import copy
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from conftest import BERTHS, KEY_ENV, Result, read_contract, trusting
from juxtalogos.cli.shared.layout import table_lines
from juxtalogos.documents.anchors import anchor
from juxtalogos.documents.load import load_document
from juxtalogos.model.findings import CheckResult, Finding, ResultClass, Severity
from juxtalogos.model.location import Location
from juxtalogos.model.outcome import Outcome
from juxtalogos.report.causes import FAILS, NEEDS_RIGHT, NEEDS_STATE, NEEDS_VALUE, NOT_FOUND, need_of
from juxtalogos.report.groups import CLASSES
from juxtalogos.run.judging.judge import anchored

Jux = Callable[..., Result]
WORDS = st.text("abcdefgh/._-", min_size=1, max_size=14)


@given(
    st.lists(st.lists(st.lists(WORDS, max_size=9).map(" ".join), min_size=4, max_size=4), max_size=6),
    st.integers(20, 140),
)
def test_tables_fit_and_break_no_word(rows: list[list[str]], width: int) -> None:
    headings = ("address", "kind", "why", "at")
    found = [
        "".join(text for text, _ in line)
        for line in table_lines(
            headings, [[(text, "") for text in row] for row in rows], width, frozenset((3,))
        )
    ]
    longest = max((len(word) for row in rows for cell in row for word in cell.split()), default=0)
    first = max((len(row[0]) for row in rows), default=0)
    assert all(len(line) <= max(width, longest + 14, first, 32) for line in found)
    # In blocks a cell's name stands before it: no word of any cell is lost or broken.
    told = " ".join(found).split()
    assert all(word in told for row in rows for cell in row for word in cell.split())


def test_a_table_that_does_not_fit_changes_as_a_whole() -> None:
    """The column with the long word stands below each row; the others stay side by side."""
    rows = [[("held", ""), ("200 OK", ""), ("status", "")], [("held", ""), ("x" * 90, ""), ("url", "")]]
    told = [
        "".join(text for text, _ in line)
        for line in table_lines(("check", "observed", "kind"), rows, 80, frozenset())
    ]
    assert told == [
        "check  kind",
        "held   status",
        "    observed: 200 OK",
        "held   url",
        f"    observed: {'x' * 90}",
    ]


@pytest.mark.parametrize("columns", ["80", "100", "120"])
def test_nothing_that_people_copy_is_broken(berths: Path, jux: Jux, columns: str) -> None:
    contract = read_contract(BERTHS, "berths")
    shown = jux("show", "announcePortCall", "-C", berths, env={"COLUMNS": columns}).out
    assert max(map(len, shown.splitlines())) <= int(columns)
    for address in ("body/contactPassword", "body/tideWindow/closes", "header.X-Agent"):
        assert re.search(rf"^{address}\b", shown, re.MULTILINE)
    assert re.search(r"^takes a body  required\n  application/json$", shown, re.MULTILINE)
    listed = jux("show", "berths", "-C", berths, env={"COLUMNS": columns}).out
    assert max(map(len, listed.splitlines())) <= int(columns)
    assert all(re.search(rf"(^|\s){re.escape(one.id)}\s", listed) for one in contract.operations)


def test_a_long_run_is_told_briefly_and_the_worst_first(berths: Path, jux: Jux, tmp_path: Path) -> None:
    from conftest import add_target, serving

    with serving("all") as url:
        add_target(berths, url)
        jux("compose", "berths", "-C", berths)
        brief = jux("run", "--repeat", "8", "-C", berths, env={**KEY_ENV, "COLUMNS": "100"}, status=1).out
        full = jux(
            "run", "--repeat", "8", "--full", "-C", berths, env={**KEY_ENV, "COLUMNS": "100"}, status=1
        ).out
    lines = brief.splitlines()
    assert len(lines) < 160 < len(full.splitlines()) and max(map(len, lines)) <= 100
    verdicts = [
        word
        for line in lines
        for word in line.split()[2:3]
        if word in ("failed", "unproven", "passed", "error")
    ]
    assert verdicts == sorted(verdicts, key=("error", "failed", "unproven", "passed").index)
    found = re.findall(r"^([a-z]+\.[a-z-]+)  \S+  berths\.yaml:\d+$", brief, re.MULTILINE)
    assert found and found[0] == "status.server-error"
    assert re.search(r"^findings: \d+", brief, re.MULTILINE) and "times, first in exchange" in brief
    told = jux("compare", "-C", berths, env={"COLUMNS": "100"}, status=1).out.splitlines()
    assert (
        re.match(r"\d+ steps: \d+ the same, \d+ not", told[0])
        and len(told) < 80
        and max(map(len, told)) <= 100
    )
    gaps = jux("coverage", "--gaps", "-C", berths, env={"COLUMNS": "90"}).out.splitlines()
    more = jux("coverage", "--gaps", "--full", "-C", berths, env={"COLUMNS": "90"}).out.splitlines()
    assert (
        len(gaps) < len(more)
        and max(map(len, gaps)) <= 90
        and any("more of the kind" in line for line in gaps)
    )


def test_four_classes_apart(tmp_path: Path, jux: Jux) -> None:
    """A finding, an expectation and a remark of one step each count once, in a table of their own."""
    from conftest import add_target, serving

    home = tmp_path / "work"
    (tmp_path / "berths.yaml").write_text(BERTHS)
    jux("init", home)
    jux("import", tmp_path / "berths.yaml", "-C", home)
    with serving("all") as url:
        add_target(home, url)
        jux("call", "listBerths", "--save", "desk#one", "-C", home, env=KEY_ENV, status=1)
        suite = home / "suites" / "desk.arazzo.yaml"
        document = yaml.safe_load(suite.read_text())
        document["workflows"][0]["steps"][0]["successCriteria"] = [{"condition": "$statusCode == 201"}]
        suite.write_text(yaml.safe_dump(document, sort_keys=False))
        told = jux("run", "desk", "-C", home, env=KEY_ENV, status=1)
        data = jux("run", "desk", "--json", "-C", home, env=KEY_ENV, status=1).json
    assert set(CLASSES.values()) <= data.keys() and data["version"] == 2
    assert [one["kind"] for one in data["expectations"]] == ["criterion.unmet"] and data["counts"][
        "expectations"
    ] == 1
    assert (
        all(one["class"] == "finding" for one in data["findings"])
        and data["counts"]["findings"] == len(data["findings"]) > 0
    )
    assert "criterion.unmet" not in {one["kind"] for one in data["findings"]}
    assert re.search(r"^expectations: 1 ", told.out, re.MULTILINE) and re.search(
        r"^findings: ", told.out, re.MULTILINE
    )
    assert ResultClass(data["findings"][0]["class"]) is ResultClass.FINDING


XSD = """<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema">{}<xs:complexType name="T"><xs:sequence>{}<xs:element ref="b"/><xs:choice>
<xs:element name="c" type="xs:int"/></xs:choice></xs:sequence></xs:complexType><xs:element name="b" type="xs:string"/></xs:schema>"""


def test_places_keep_their_names_when_a_definition_is_reordered() -> None:
    before = yaml.safe_load(BERTHS)
    before["components"]["schemas"]["Berth"] = {
        "allOf": [
            {"type": "object"},
            {"$ref": "#/components/schemas/Vessel"},
            {"type": "object", "properties": {"surface": {"type": "string"}}},
        ]
    }
    after = copy.deepcopy(before)
    after["components"]["schemas"]["Berth"]["allOf"].insert(0, {"required": ["quay"]})
    after["paths"]["/vessels"]["get"]["parameters"].reverse()
    pointers: list[tuple[str, str]] = [
        (
            "/components/schemas/Berth/allOf/2/properties/surface",
            "/components/schemas/Berth/allOf/3/properties/surface",
        ),
        ("/components/schemas/Berth/allOf/1", "/components/schemas/Berth/allOf/2"),
        ("/components/schemas/Berth", "/components/schemas/Berth"),
    ]
    count = len(before["paths"]["/vessels"]["get"]["parameters"])
    pointers += [
        (f"/paths/~1vessels/get/parameters/{at}", f"/paths/~1vessels/get/parameters/{count - 1 - at}")
        for at in range(count)
    ]
    contracts = [read_contract(yaml.safe_dump(one, sort_keys=False)) for one in (before, after)]
    for pair in pointers:
        prints = [_finding(contract, pointer) for contract, pointer in zip(contracts, pair)]
        assert prints[0].fingerprint == prints[1].fingerprint and prints[0].fingerprint.startswith("2:")
        assert (prints[0].former_fingerprint == prints[1].former_fingerprint) == (pair[0] == pair[1])
    assert len({_finding(contracts[0], pointer).fingerprint for pointer, _ in pointers}) == len(pointers)

    def xml(extra: str, inner: str) -> Any:
        return load_document("t.xsd", XSD.format(extra, inner).encode())

    one, other = xml("", ""), xml('<xs:element name="a"/>', '<xs:element ref="a"/>')
    for pair in (
        ("/schema/complexType/sequence/element[1]", "/schema/complexType/sequence/element[2]"),
        ("/schema/element", "/schema/element[@name='b']"),
    ):
        places = [
            document.value.path(document.value.find(pointer)) for document, pointer in zip((one, other), pair)
        ]
        assert "ref=b" in anchor(other, places[1]) or "name='b'" in anchor(other, places[1])


def _finding(contract: Any, pointer: str) -> Finding:
    result = CheckResult(
        "body.type",
        False,
        "body/x/3",
        "string",
        "integer",
        Location("quay.yaml", pointer),
        Severity.DEVIATION,
    )
    (named,) = anchored(contract, (result,))
    return Finding(named, "berths", "listBerths", 200)


def test_places_in_a_definition_on_one_line_have_a_column_and_an_excerpt(tmp_path: Path, jux: Jux) -> None:
    from importlib import resources

    from conftest import serving

    home = tmp_path / "w"
    jux("init", home)
    for name in ("pilotage.wsdl", "pilotage-types.xsd"):
        text = resources.files("juxtalogos.demo").joinpath(name).read_text("utf-8")
        (tmp_path / name).write_text(re.sub(r">\s+<", "><", text))
    jux("import", tmp_path / "pilotage.wsdl", "-C", home)
    with serving("all") as url, (home / "juxtalogos.toml").open("a") as config:
        config.write(
            "[targets.quay]\nurl ="
            f' "{url.replace("/v1", "/pilotage")}"\n[targets.quay.credentials.token]\nuser = "desk"\nenv ='
            ' "MERROW_KEY"\n'
        )
        config.flush()
        trusting(home)
        jux("compose", "pilotage", "-C", home)
        told = jux("run", "-C", home, env={**KEY_ENV, "COLUMNS": "120"}, status=1).out
    places = re.findall(
        r"^[a-z]+\.[a-z-]+  \S+  pilotage(?:-types\.xsd|\.wsdl):(\d+):(\d+)\n +(\S.*)$", told, re.MULTILINE
    )
    assert len(places) > 3 and len({column for _, column, _ in places}) > 3
    assert all(excerpt.startswith("<") and len(excerpt) <= 112 for _, _, excerpt in places)
    assert '<xs:enumeration value="inward"/>' in told


@pytest.mark.parametrize(
    ("outcome", "words", "need"),
    [
        (Outcome.INVALID, "purpose is not known", NEEDS_VALUE),
        (Outcome.INVALID, "the call is closed already", NEEDS_STATE),
        (Outcome.CONFLICT, "no", NEEDS_STATE),
        (Outcome.UNAUTHENTICATED, "sign in", NEEDS_RIGHT),
        (Outcome.FORBIDDEN, "already", NEEDS_RIGHT),
        (Outcome.FAILED, "status.server-error at status", FAILS),
        (Outcome.BUSY, "locked", FAILS),
        (Outcome.ABSENT, "there is none", NOT_FOUND),
    ],
)
def test_what_a_request_without_success_needs(outcome: Outcome, words: str, need: str) -> None:
    assert need_of(outcome, words) == need
