"""Recorded exchanges judged: right ones that look odd, wrong ones, and recordings that are odd themselves.
All through the program.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import yaml

from conftest import KEY, KEY_ENV, Result, add_target, answers, definition, read_contract
from recorded import OLD, ROWS, V3, V31, definition_of, path_of

BASE = "https://merrow.example/v1"


def entry(
    method: str,
    url: str,
    status: int,
    kind: str | None,
    body: Any,
    more: dict[str, str] | None = None,
    **request: Any,
) -> dict[str, Any]:
    """A HAR entry; bytes go as Base64, `...` is a body left out."""
    headers = [{"name": name, "value": value} for name, value in (more or {}).items()]
    headers += [{"name": "Content-Type", "value": kind}] if kind else []
    content: dict[str, Any] = {"size": 1, "mimeType": kind or "x-unknown"}
    if isinstance(body, bytes):
        content |= {"size": len(body), "text": base64.b64encode(body).decode(), "encoding": "base64"}
    elif body is not ...:
        text = body if isinstance(body, str) else json.dumps(body)
        content |= {"size": len(text.encode()), "text": text}
    return {
        "startedDateTime": "2026-03-14T06:30:00.000Z",
        "time": 12.5,
        "request": {
            "method": method,
            "url": url,
            "httpVersion": "HTTP/2",
            "headers": [{"name": ":method", "value": method}],
            **request,
        },
        "response": {
            "status": status,
            "statusText": "",
            "httpVersion": "HTTP/2",
            "headers": headers,
            "content": content,
        },
    }


def har(*entries: dict[str, Any]) -> str:
    return json.dumps(
        {"log": {"version": "1.2", "creator": {"name": "harbour", "version": "1"}, "entries": entries}}
    )


@pytest.fixture
def audited(tmp_path: Path, jux: Callable[..., Result]) -> Callable[..., list[dict[str, Any]]]:
    """Audits entries against a definition; gives what `--json` says of each."""

    def run(text: str, entries: list[dict[str, Any]], *words: str, base: str = BASE) -> list[dict[str, Any]]:
        (tmp_path / "quay.yaml").write_text(text, "utf-8")
        (tmp_path / "x.har").write_text(har(*entries), "utf-8")
        if not (tmp_path / "juxtalogos.toml").exists():
            jux("init")
        jux("import", "quay.yaml", status=None)
        found = jux("audit", "x.har", "--contract", "quay", "--base-url", base, "--json", *words, status=None)
        listed: list[dict[str, Any]] = found.json["entries"]
        assert [one["index"] for one in listed] == list(range(len(entries)))
        return listed

    return run


def told(one: dict[str, Any]) -> str:
    if one["findings"]:
        assert one["verdict"] == "failed"
        return " ".join(f"{finding['kind']} {finding['at']}" for finding in one["findings"])
    if one["remarks"]:
        return "remark " + " ".join(f"{finding['kind']} {finding['at']}" for finding in one["remarks"])
    return "" if one["verdict"] == "passed" else str(one["verdict"])


@pytest.mark.parametrize("version", [OLD, V3, V31])
def test_exchanges_right_though_odd_and_wrong_in_one_place(version: str, audited: Any) -> None:
    rows = [row for row in ROWS if row[1] == version]
    entries = [entry("GET", BASE + path_of(what), *answer) for what, _, _, answer, _ in rows]
    found = audited(yaml.safe_dump(definition_of(version), sort_keys=False), entries)
    assert {row[0]: told(one) for row, one in zip(rows, found)} == {row[0]: row[4] for row in rows}
    assert all(finding["line"] for one in found for finding in one["findings"])
    plain = audited(yaml.safe_dump(definition_of(version), sort_keys=False), entries, "--no-remarks")
    assert not any("remarks" in one for one in plain)
    assert [one["findings"] for one in plain] == [one["findings"] for one in found]


_PATHS = [
    "/berths",
    "/berths/{id}",
    "/berths/mine",
    "/berths/{id}/lines",
    "/berths/{id}:close",
    "/berths:search",
    "/tides/{day}.{kind}",
    "/a/{x}/c",
    "/a/b/{y}",
    "/odd(1)/{id}",
    "/tide?view=full",
    "/tide",
    "/notes#short",
    "/files/{path+}",
    "/files/index",
    "/bays/{from}-{to}",
    "/käi/{id}",
    "/brace{/x",
    "/",
    "/s p",
]


@pytest.mark.parametrize(
    "url, operation",
    [
        ("/berths", "/berths"),
        ("/berths?free=true", "/berths"),
        ("/berths/B4", "/berths/{id}"),
        ("/berths/mine", "/berths/mine"),
        ("/berths/B%2F4", "/berths/{id}"),
        ("/berths/B4/lines", "/berths/{id}/lines"),
        ("/berths/B4:close", "/berths/{id}:close"),
        ("/berths:search", "/berths:search"),
        ("/berths%3Asearch", "/berths:search"),
        ("/tides/2026-03-14.csv", "/tides/{day}.{kind}"),
        ("/a/b/c", "/a/b/{y}"),
        ("/a/z/c", "/a/{x}/c"),
        ("/odd(1)/7", "/odd(1)/{id}"),
        ("/odd%281%29/7", "/odd(1)/{id}"),
        ("/tide?view=full&x=1", "/tide?view=full"),
        ("/tide?view=short", "/tide"),
        ("/notes", "/notes#short"),
        ("/files/a/b/c.txt", "/files/{path+}"),
        ("/files/index", "/files/index"),
        ("/bays/3-12", "/bays/{from}-{to}"),
        ("/k%C3%A4i/1", "/käi/{id}"),
        ("/käi/1", "/käi/{id}"),
        ("/brace%7B/x", "/brace{/x"),
        ("/", "/"),
        ("/s%20p", "/s p"),
        ("/berths/", None),
        ("/Berths", None),
        ("/berths/B4/lines/1", None),
    ],
)
def test_odd_paths_are_matched_most_specific_first(url: str, operation: str | None) -> None:
    from juxtalogos.model.exchange import Request

    paths: dict[str, Any] = {}
    for path in _PATHS:
        names = [part.partition("}")[0].rstrip("+") for part in path.split("{")[1:] if "}" in part]
        parameters = [
            {"name": name, "in": "path", "required": True, "schema": {"type": "string"}} for name in names
        ]
        paths[path] = {"get": {"parameters": parameters, "responses": answers()}}
    from juxtalogos.formats import wire_of

    contract = read_contract(definition(paths))
    assert len(contract.operations) == len(_PATHS)
    found = wire_of(contract).match(Request("GET", BASE + url), BASE)
    assert (found[0].path if found else None) == operation


def test_what_is_not_an_operation_of_the_contract(audited: Any) -> None:
    text = definition(
        {
            "/berths": {"get": {"operationId": "listBerths", "responses": answers({"type": "array"})}},
            "/own": {
                "servers": [{"url": "/v2"}],
                "get": {"operationId": "own", "responses": answers({"type": "array"})},
            },
        }
    )
    preflight = [{"name": "Access-Control-Request-Method", "value": "GET"}]
    entries = [
        entry("GET", "https://MERROW.example:443/v1/berths#top", 200, "application/json", []),
        entry("GET", "https://merrow.example/v2/own", 200, "application/json", {}),
        entry("HEAD", BASE + "/berths", 200, "application/json", ""),
        entry("GET", "http://merrow.example/v1/berths", 200, "application/json", []),
        entry("GET", "https://merrow.example/v10/berths", 200, "application/json", []),
        entry("OPTIONS", BASE + "/berths", 204, None, "", headers=preflight),
        entry("GET", "data:text/plain,x", 200, "text/plain", "x"),
        entry("PATCH", BASE + "/berths", 200, "application/json", []),
        entry("GET", BASE + "/secrets", 200, "application/json", []),
        {**entry("GET", BASE + "/berths", 0, None, ""), "time": -1},
        {"request": {"method": "GET"}, "response": {}},
        "nonsense",  # type: ignore[list-item]
        entry("GET", "http://[broken/berths", 200, "application/json", []),
    ]
    found = audited(text, entries)
    assert [(one["operation"], one["verdict"]) for one in found] == [
        ("listBerths", "passed"),
        ("own", "failed"),
        ("listBerths", "passed"),
        (None, "skipped"),
        (None, "skipped"),
        (None, "skipped"),
        (None, "skipped"),
        (None, "failed"),
        (None, "failed"),
        ("listBerths", "error"),
        (None, "error"),
        (None, "error"),
        (None, "error"),
    ]
    assert found[7]["findings"][0]["declared"] == "GET /berths" and found[7]["findings"][0]["line"]
    assert found[8]["findings"][0]["kind"] == "operation.undeclared"


def test_an_audit_is_a_run_like_any(berths: Path, harbour: str, jux: Callable[..., Result]) -> None:
    """A run's exchanges written as HAR and audited give the same findings, coverage and reports; secrets stay
    hidden.
    """
    add_target(berths, harbour)
    jux("compose", "berths", "-C", berths)
    run = jux("run", "--json", "-C", berths, env=KEY_ENV).json
    jux("exchanges", "--har", "out.har", "-C", berths)
    recorded = json.loads((berths.parent / "out.har").read_text("utf-8"))
    assert KEY not in json.dumps(recorded)
    for one in recorded["log"]["entries"]:
        one["request"]["headers"].append({"name": "Authorization", "value": "Bearer tide-secret-1"})
    (berths.parent / "out.har").write_text(json.dumps(recorded), "utf-8")
    audit = jux("audit", "out.har", "--base-url", harbour, "--json", "-C", berths).json
    assert {one["verdict"] for one in audit["entries"]} <= {"passed", "unproven"} and not run["findings"]
    covered = [
        jux("coverage", number, "--json", "-C", berths).json["contracts"]
        for number in (run["run"], audit["run"])
    ]
    assert covered[0] == covered[1]
    jux("report", audit["run"], "-C", berths)
    assert b"tide-secret" not in (berths / ".juxtalogos" / "ledger.sqlite").read_bytes()
    assert "recorded" in jux("runs", "-C", berths).out


@pytest.mark.parametrize(
    "text, words",
    [
        ("{", "no HAR file: expecting"),
        ("[1]", "no list at log.entries"),
        ('{"log": {"entries": {}}}', "no list at log.entries"),
        ("\x00", "no HAR file"),
        ("[" * 100_000, "nested too deep"),
    ],
)
def test_what_is_no_har_file(text: str, words: str, berths: Path, jux: Callable[..., Result]) -> None:
    (berths / "x.har").write_text(text, "utf-8")
    found = jux("audit", berths / "x.har", "--base-url", BASE, "-C", berths, status=2)
    assert words in found.err and len(found.err.splitlines()) <= 3
    assert "check the path" in jux("audit", "none.har", "--base-url", BASE, "-C", berths, status=2).err
