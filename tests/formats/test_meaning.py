"""What a protocol means, in one place: outcomes, danger, locations that exist, causes, boundaries, words."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import ROOT, Result, answers, definition
from juxtalogos.conventions import words
from juxtalogos.conventions.faults import fault_outcome
from juxtalogos.conventions.naming import intent_of
from juxtalogos.documents.load import load_document
from juxtalogos.exchange.multipart import enclosed
from juxtalogos.formats import read_contract, wire_of
from juxtalogos.formats.http.links import next_link
from juxtalogos.formats.http.outcomes import declared_outcome, status_outcome
from juxtalogos.formats.odata.wire.batch import parts_of
from juxtalogos.formats.openapi.wire.encode import encode_body
from juxtalogos.model.contract import Contract, Intent
from juxtalogos.model.danger import Danger
from juxtalogos.model.document import Document
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.model.findings import CheckResult, Finding
from juxtalogos.model.location import Location, follow_pointer
from juxtalogos.model.outcome import Outcome
from juxtalogos.model.wire import Inputs
from juxtalogos.run.judging.judge import judge

DEMO = ROOT / "src" / "juxtalogos" / "demo"


def contract_of(path: Path) -> Contract:
    def fetch(uri: str) -> Document:
        return load_document(uri, (path.parent / uri).read_bytes())

    return read_contract(fetch(path.name), path.stem, path.name, fetch)


def small(paths: Any, **components: Any) -> Contract:
    text = definition(paths, **components).encode()
    return read_contract(load_document("q.yaml", text), "q", "q.yaml", lambda uri: load_document(uri, text))


@pytest.mark.parametrize(
    ("outcome", "codes"),
    [
        (Outcome.SUCCEEDED, (200, 201, 204, 206)),
        (Outcome.BEGUN, (202,)),
        (Outcome.INVALID, (400, 411, 413, 414, 418, 422, 431, 499)),
        (Outcome.ABSENT, (404, 410)),
        (Outcome.CONFLICT, (409, 423, 424)),
        (Outcome.STALE, (412, 428)),
        (Outcome.UNAUTHENTICATED, (401, 407)),
        (Outcome.FORBIDDEN, (403, 451)),
        (Outcome.THROTTLED, (429,)),
        (Outcome.UNSUPPORTED, (405, 406, 415, 501)),
        (Outcome.FAILED, (500, 507)),
        (Outcome.BUSY, (408, 502, 503, 504)),
        (Outcome.UNKNOWN, (100, 301, 304, 307, 600)),
    ],
)
def test_every_status_code_has_one_outcome(outcome: Outcome, codes: tuple[int, ...]) -> None:
    assert {status_outcome(code) for code in codes} == {outcome}
    assert {declared_outcome(str(code)) for code in codes} == {outcome}
    assert outcome.succeeded + outcome.refused + outcome.failed <= 1
    assert not outcome.about_caller or outcome.refused


def test_ranges_faults_and_defaults_have_outcomes() -> None:
    assert [declared_outcome(text) for text in ("2XX", "4XX", "5XX", "3XX", "default")] == [
        Outcome.SUCCEEDED,
        Outcome.INVALID,
        Outcome.FAILED,
        Outcome.UNKNOWN,
        Outcome.UNKNOWN,
    ]
    names = {
        Outcome.ABSENT: ("NoSuchTug", "JobNotFound", "UnknownPilot", "no_berth"),
        Outcome.CONFLICT: ("TugBusy", "AlreadyPlanned", "job_closed"),
        Outcome.INVALID: ("InvalidOrder", "BadDraught", "TooDeep", "Notice"),
    }
    for outcome, faults in names.items():
        assert {fault_outcome(name) for name in faults} == {outcome}, outcome
    for contract in (contract_of(DEMO / "pilotage.wsdl"), contract_of(DEMO / "registry.edmx")):
        declared = [answer for one in contract.operations for answer in one.answers]
        assert all(answer.outcome is not Outcome.UNKNOWN for answer in declared)
        assert all(answer.outcome.refused for answer in declared if answer.fault)


@pytest.mark.parametrize(("status", "condition"), [("403", "$statusCode == 403"), ("4XX", ""), ("404", "")])
def test_only_a_declared_403_may_hide_that_a_resource_is_gone(status: str, condition: str) -> None:
    contract = small(
        {"/q": {"get": {"responses": {"200": {"description": "x"}, status: {"description": "y"}}}}}
    )
    (operation,) = contract.operations
    assert wire_of(contract).condition(operation, Outcome.FORBIDDEN) == condition


def _item(name: str) -> dict[str, Any]:
    return {"name": name, "in": "path", "required": True, "schema": {"type": "string"}}


_CALLS = [
    # (method, path, operationId or summary, danger)
    ("get", "/berths", "listBerths", Danger.READS),
    ("post", "/berths", "addBerth", Danger.CREATES),
    ("get", "/berths/{b}", "getBerth", Danger.READS),
    ("delete", "/berths/{b}", "removeBerth", Danger.OWN),
    ("delete", "/berths", "removeAllBerths", Danger.DESTROYS),
    ("post", "/berths/bulk_delete", "", Danger.DESTROYS),
    ("post", "/berths/{b}/reset", "", Danger.OWN),
    ("post", "/berths/{b}/publish", "", Danger.OTHERS),
    ("post", "/notices/send", "", Danger.OTHERS),
    ("post", "/maintenance", "", Danger.SWITCHES),
    ("get", "/maintenance", "", Danger.READS),
    ("put", "/system/maintenance-mode", "", Danger.SWITCHES),
    ("put", "/restart", "", Danger.SWITCHES),
    ("put", "/restart/{r}", "", Danger.OWN),
    ("get", "/auth/logout", "", Danger.SWITCHES),
    ("get", "/releases/{r}", "getRelease", Danger.READS),
    ("put", "/servers/{s}/cache/flush", "flushCache", Danger.DESTROYS),
    ("post", "/search", "searchAll", Danger.OWN),
    ("post", "/tidy", "tidy|Purges all notices", Danger.DESTROYS),
    ("post", "/exports", "purgeExports", Danger.DESTROYS),
    ("put", "/settings", "putSettings", Danger.OWN),
]


def test_danger_is_judged_by_verbs_before_shape() -> None:
    paths: dict[str, Any] = {}
    for method, path, told, _ in _CALLS:
        name, _, summary = told.partition("|")
        parameters = [_item(one) for one in re.findall(r"\{(\w+)\}", path)]
        entry = {"responses": answers({"type": "object"}), "parameters": parameters}
        if name:
            entry["operationId"] = name
        if summary:
            entry["summary"] = summary
        paths.setdefault(path, {})[method] = entry
    contract = small(paths)
    found = {(one.method.lower(), one.path): one for one in contract.operations}
    judged = {(method, path): found[method, path].danger for method, path, _, _ in _CALLS}
    assert judged == {(method, path): danger for method, path, _, danger in _CALLS}
    assert all(one.danger is Danger.READS for one in contract.operations if one.safe)


_STRANGE = [
    (status, kind, body)
    for status in (200, 299, 302, 404, 418, 500, 503)
    for kind in ("application/json", "text/xml", "text/html", None)
    for body in (b"", b"{}", b"[1]", b"<a/>", b"quay")
]


def _resolves(document: Document, location: Location) -> bool:
    if document.syntax == "xml":
        return location.pointer in ("", "/") or document.value.find(location.pointer) is not None
    try:
        follow_pointer(document.value, location.pointer)
    except (LookupError, ValueError):
        return False
    return True


def _results(contract: Contract, operation: Any) -> Iterator[CheckResult]:
    wire = wire_of(contract)
    for status, kind, body in _STRANGE:
        headers = (("Content-Type", kind),) if kind else ()
        request = Request(operation.method or "POST", "http://127.0.0.1/x", (), None)
        exchange = Exchange(request, Response(status, "", headers, body), Timings(0, 0, 0))
        yield from judge(wire, operation, exchange, "http://127.0.0.1").results


@pytest.mark.parametrize("name", ["berths.yaml", "pilotage.wsdl", "registry.edmx", "registry_v2.edmx"])
def test_every_finding_names_a_node_that_exists(name: str) -> None:
    path = DEMO / name
    if not path.exists():
        path = next(DEMO.glob(f"{Path(name).stem.replace('_', '*')}*{path.suffix}"))
    contract = contract_of(path)
    told = 0
    for operation in contract.operations:
        for result in _results(contract, operation):
            if result.location is not None and not result.held:
                told += 1
                document = contract.documents[result.location.document]
                assert _resolves(document, result.location), (operation.id, result.kind, result.location)
    assert told > 100


def test_a_place_that_did_not_exist_has_a_new_fingerprint_and_the_old_one_beside_it() -> None:
    contract = contract_of(DEMO / "registry.edmx")
    operation = contract.operations[0]
    moved = [one for one in _results(contract, operation) if one.kind == "media.undeclared" and one.former]
    assert moved and all(one.former.endswith("/content") for one in moved)
    finding = Finding(moved[0], contract.name, operation.id, 404)
    before = replace(
        moved[0], location=Location(moved[0].location.document, moved[0].former), former="", anchor=""
    )  # type: ignore[union-attr]
    assert finding.fingerprint.startswith("3:")
    assert finding.former_fingerprint == Finding(before, contract.name, operation.id, 404).fingerprint
    berths = contract_of(DEMO / "berths.yaml")
    kept = [one for operation in berths.operations for one in _results(berths, operation)]
    assert not [one for one in kept if one.former]


def test_a_cause_groups_what_one_schema_node_or_one_failure_makes() -> None:
    node = Location("q.yaml", "/components/schemas/Tide/properties/height/maximum")

    def cause(
        kind: str, at: str, observed: str = "9", operation: str = "a", place: Location | None = node
    ) -> Any:
        return Finding(CheckResult(kind, False, at, "at most 8", observed, place), "q", operation, 200).cause

    assert cause("body.range", "body/tides/noon/height") == cause(
        "body.range", "body/tides/dusk/height", operation="b"
    )
    assert cause("body.required", "body/tides/height") != cause("body.required", "body/tides/depth")
    assert cause("status.server-error", "status", "fault 17") == cause(
        "status.server-error", "status", "fault 18"
    )
    assert cause("status.server-error", "status") != cause("status.server-error", "status", operation="b")
    assert cause("header.missing", "header.X", place=None) != cause("header.missing", "header.Y", place=None)


@given(st.lists(st.binary(max_size=60), max_size=5))
def test_a_boundary_occurs_in_no_part(parts: list[bytes]) -> None:
    boundary, body = enclosed(parts)
    assert not any(boundary.encode() in part for part in parts) and enclosed(parts) == (boundary, body)
    inner = body.split(b"--" + boundary.encode())
    assert len(inner) == len(parts) + 2 and [one[2:-2] for one in inner[1:-1]] == parts
    again, _ = enclosed([*parts, b"--" + boundary.encode()])
    assert again != boundary


def test_a_value_with_the_boundary_in_it_breaks_out_of_no_part() -> None:
    form = {"type": "object", "properties": {"note": {"type": "string"}, "more": {"type": "string"}}}
    content = {"content": {"multipart/form-data": {"schema": form}}}
    contract = small({"/n": {"post": {"operationId": "n", "requestBody": content, "responses": answers()}}})
    operation = contract.operations[0]
    note = "fair"
    for _ in range(4):  # each time with the boundary of the body before in the value
        kind, body = encode_body(
            contract, operation, Inputs({}, {"note": note, "more": "x"}, "multipart/form-data")
        )
        boundary = kind.partition("boundary=")[2]
        assert body.count(b"--" + boundary.encode()) == 3
        note = f'fair\r\n--{boundary}\r\nContent-Disposition: form-data; name="third"\r\n\r\nfoul'


def test_nested_batches_are_read_back() -> None:
    from juxtalogos.formats.odata.wire.batch import batch_parts

    calls = [{"id": "1", "method": "GET", "url": "Vessels"}]
    calls += [
        {"id": str(n), "method": "DELETE", "url": f"Vessels({n})", "atomicityGroup": "g"} for n in (2, 3)
    ]
    boundary, body = enclosed(batch_parts({"requests": calls}))
    request = Request(
        "POST", "http://q/$batch", (("Content-Type", f"multipart/mixed;boundary={boundary}"),), body
    )
    response = Response(200, "OK", request.headers, body)
    found = [one.request for one in parts_of(Exchange(request, response, Timings(0, 0, 0)))]
    assert [one.method for one in found] in ([], ["GET", "DELETE", "DELETE"])
    assert body.count(b"application/http") == 3 and body.count(b"multipart/mixed") == 1


@pytest.mark.parametrize(
    ("field", "target"),
    [
        ('<https://q/x?p=2>; rel="next", <https://q/x?p=9>; rel=last', "https://q/x?p=2"),
        ('</x,y>; title="a, b"; rel="prev next"', "/x,y"),
        ('<https://q/x>; rel="previous"; title="next"', None),
        ("no link at all", None),
        ("", None),
    ],
)
def test_the_next_page_of_a_link_field(field: str, target: str | None) -> None:
    assert next_link((("Link", field),)) == target


def test_a_workspace_adds_words(monkeypatch: pytest.MonkeyPatch) -> None:
    assert intent_of("verwijderSteiger") is Intent.UNKNOWN and not words.digest()
    try:
        words.extend({"verbs.delete": ["verwijder"], "faults.absent": ["onbekend"]})
        assert intent_of("verwijderSteiger") is Intent.DELETE and words.digest()
        assert fault_outcome("SteigerOnbekend") is Outcome.ABSENT
        with pytest.raises(KeyError):
            words.extend({"verbs.fly": ["vlieg"]})
    finally:
        words.extend({})
    assert intent_of("verwijderSteiger") is Intent.UNKNOWN


def test_words_of_a_workspace_count_before_and_after_the_cache(
    tmp_path: Path, jux: Callable[..., Result]
) -> None:
    paths = {"/quays": {"get": {"operationId": "leeren", "responses": {"200": {"description": "x"}}}}}
    (tmp_path / "q.yaml").write_text(definition(paths), "utf-8")
    home = tmp_path / "w"
    jux("init", home)
    jux("import", tmp_path / "q.yaml", "-C", home)
    assert not jux("compose", "--json", "-C", home).json["withheld"]
    settings = home / "juxtalogos.toml"
    added = '\n[conventions.danger]\ndestroys = ["leeren"]\nreading = ["leeren"]\n'
    settings.write_text(settings.read_text("utf-8") + added, "utf-8")
    for _ in range(2):
        withheld = jux("compose", "--replace", "--json", "-C", home).json["withheld"]
        assert [one["operation"] for one in withheld] == ["leeren"]
