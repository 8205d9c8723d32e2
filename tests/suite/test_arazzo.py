"""Arazzo 1.0.1, whole: every object of the standard run on the harbour, and what is wrong told before
anything is sent.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import yaml

from conftest import Result

HEAD: dict[str, Any] = {
    "arazzo": "1.0.1",
    "info": {"title": "Harbour", "version": "1"},
    "sourceDescriptions": [{"name": "berths", "url": "../definitions/berths/berths.yaml", "type": "openapi"}],
}
VESSEL = {"name": "Grey Tern", "kind": "bulk", "lengthMetres": 118.5}
REGISTER: dict[str, Any] = {
    "stepId": "register",
    "operationId": "registerVessel",
    "requestBody": {"contentType": "application/json", "payload": VESSEL},
    "successCriteria": [{"condition": "$statusCode == 201"}],
    "outputs": {"id": "$response.body#/vesselId"},
}
GET: dict[str, Any] = {
    "stepId": "get",
    "operationId": "getVessel",
    "parameters": [{"name": "vesselId", "in": "path", "value": "$steps.register.outputs.id"}],
}


@pytest.fixture
def ran(work: Path, jux: Callable[..., Result]) -> Callable[..., Any]:
    """Writes suites, runs one, and gives (verdict by case, steps as (case, step, status,
    verdict), results).
    """

    def run(suites: dict[str, Any], what: str = "", *words: str, status: int | None = 0) -> Any:
        for name, suite in suites.items():
            text = suite if isinstance(suite, str) else yaml.safe_dump({**HEAD, **suite}, sort_keys=False)
            path = work / "suites" / f"{name}.arazzo.yaml"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text, "utf-8")
        found = jux(
            "run", *([what] if what else []), "--target", "local", "--json", "-C", work, *words, status=status
        ).json
        steps = jux("exchanges", "--json", "-C", work).json["exchanges"]
        return {
            "cases": {case["case"]: case["verdict"] for case in found["cases"]},
            "reasons": {case["case"]: case["reason"] for case in found["cases"]},
            "steps": [(one["case"], one["step"], one["status"], one["verdict"]) for one in steps],
            "exchanges": steps,
        }

    return run


def test_every_object_of_the_standard(ran: Any, work: Path) -> None:
    other = {
        "workflows": [
            {
                "workflowId": "make-vessel",
                "inputs": {"$ref": "#/components/inputs/vessel"},
                "steps": [
                    {
                        **REGISTER,
                        "requestBody": {
                            "contentType": "application/json",
                            "payload": VESSEL,
                            "replacements": [
                                {"target": "/name", "value": "{$inputs.name} the second"},
                                {"target": "/kind", "value": "$inputs.kind"},
                            ],
                        },
                    }
                ],
                "outputs": {"id": "$steps.register.outputs.id"},
            }
        ],
        "components": {
            "inputs": {
                "vessel": {
                    "type": "object",
                    "required": ["name"],
                    "properties": {
                        "name": {"type": "string", "minLength": 2},
                        "kind": {"type": "string", "default": "tanker"},
                    },
                }
            }
        },
    }
    whole = {
        "sourceDescriptions": [
            *HEAD["sourceDescriptions"],
            {"name": "other", "url": "other.arazzo.yaml", "type": "arazzo"},
        ],
        "workflows": [
            {
                "workflowId": "first",
                "steps": [
                    {
                        "stepId": "make",
                        "workflowId": "$sourceDescriptions.other.make-vessel",
                        "parameters": [{"name": "name", "value": "Tern"}],
                        "outputs": {"id": "$outputs.id"},
                    }
                ],
                "outputs": {"vessel": "$steps.make.outputs.id"},
            },
            {
                "workflowId": "second",
                "dependsOn": ["first"],
                "parameters": [{"reference": "$components.parameters.trace"}],
                "steps": [
                    {
                        "stepId": "path",
                        "operationPath": "{$sourceDescriptions.berths.url}#/paths/~1vessels~1{vesselId}/get",
                        "parameters": [
                            {"name": "vesselId", "in": "path", "value": "$workflows.first.outputs.vessel"}
                        ],
                        "successCriteria": [
                            {"condition": "$statusCode == 200 && $response.body#/name == 'TERN THE SECOND'"},
                            {"context": "$response.body#/kind", "type": "regex", "condition": "^tank"},
                            {"context": "$response.body", "type": "jsonpath", "condition": "$.lengthMetres"},
                            {
                                "context": "$response.body",
                                "type": {
                                    "type": "jsonpath",
                                    "version": "draft-goessner-dispatch-jsonpath-00",
                                },
                                "condition": "$.name",
                            },
                            {
                                "context": "$response.header.Content-Type",
                                "type": "regex",
                                "condition": "json",
                            },
                        ],
                        "onSuccess": [
                            {
                                "name": "not-this",
                                "type": "end",
                                "criteria": [{"condition": "$statusCode == 404"}],
                            },
                            {"reference": "$components.successActions.on"},
                        ],
                        "outputs": {
                            "url": "$url",
                            "method": "$method",
                            "status": "$statusCode",
                            "whole": "$response.body",
                            "asked": "$request.path.vesselId",
                        },
                    },
                    {"stepId": "never", "operationId": "listTides"},
                    {
                        "stepId": "list",
                        "operationId": "$sourceDescriptions.berths.listVessels",
                        "parameters": [
                            {"reference": "$components.parameters.limit", "value": 3},
                            {"name": "kind", "in": "query", "value": "$steps.path.outputs.whole#/kind"},
                        ],
                        "successCriteria": [
                            {"condition": "$statusCode == 200"},
                            {"condition": "$request.query.limit == 3"},
                        ],
                    },
                ],
            },
        ],
        "components": {
            "parameters": {
                "trace": {"name": "X-Agent", "in": "header", "value": "Merrow {$inputs.agent}"},
                "limit": {"name": "limit", "in": "query", "value": 5},
            },
            "successActions": {"on": {"name": "on", "type": "goto", "stepId": "list"}},
        },
    }
    found = ran({"other": other, "whole": whole}, "whole#second", "--set", "agent=Agency")
    assert found["cases"] == {"first": "passed", "second": "passed"}
    assert found["steps"] == [
        ("first", "make/register", 201, "passed"),
        ("second", "path", 200, "passed"),
        ("second", "list", 200, "passed"),
    ]


def test_actions_after_a_failure(ran: Any) -> None:
    missing = {
        "stepId": "missing",
        "operationId": "getVessel",
        "parameters": [{"name": "vesselId", "in": "path", "value": "V-0000"}],
        "successCriteria": [{"condition": "$statusCode == 200"}],
    }
    last = {"stepId": "last", "operationId": "listBerths"}
    retry = {"name": "again", "type": "retry", "retryAfter": 0.01, "retryLimit": 2}
    cases = [
        {"workflowId": "breaks", "steps": [missing, last]},
        {"workflowId": "retries", "steps": [{**missing, "onFailure": [retry]}, last]},
        {
            "workflowId": "goes-on",
            "steps": [
                {**missing, "onFailure": [{"name": "on", "type": "goto", "stepId": "last"}]},
                {"stepId": "between", "operationId": "listTides"},
                last,
            ],
        },
        {"workflowId": "ends", "steps": [{**missing, "onFailure": [{"name": "stop", "type": "end"}]}, last]},
        {
            "workflowId": "chooses",
            "steps": [
                {
                    **missing,
                    "onFailure": [
                        {**retry, "criteria": [{"condition": "$statusCode == 503"}]},
                        {
                            "name": "on",
                            "type": "goto",
                            "stepId": "last",
                            "criteria": [{"condition": "$statusCode == 404"}],
                        },
                    ],
                },
                last,
            ],
        },
        {
            "workflowId": "shared",
            "failureActions": [{"name": "on", "type": "goto", "stepId": "last"}],
            "steps": [missing, last],
        },
        {
            "workflowId": "overrides",
            "failureActions": [{"name": "on", "type": "goto", "stepId": "last"}],
            "steps": [{**missing, "onFailure": [{"name": "on", "type": "end"}]}, last],
        },
        {
            "workflowId": "elsewhere",
            "steps": [{**missing, "onFailure": [{"name": "on", "type": "goto", "workflowId": "fine"}]}, last],
        },
        {"workflowId": "fine", "steps": [last]},
        {
            "workflowId": "early",
            "successActions": [{"name": "done", "type": "end"}],
            "steps": [last, missing],
        },
        {
            "workflowId": "round",
            "steps": [{**last, "onSuccess": [{"name": "on", "type": "goto", "stepId": "last"}]}],
        },
        {
            "workflowId": "cleans",
            "steps": [
                missing,
                last,
                {"stepId": "clean", "operationId": "listTides", "x-juxtalogos-always": True},
            ],
        },
        {"workflowId": "needs", "dependsOn": ["breaks"], "steps": [last]},
    ]
    found = ran({"actions": {"workflows": cases}}, status=1)
    taken = {
        case: [(step, verdict) for one, step, _, verdict in found["steps"] if one == case]
        for case in found["cases"]
    }
    assert taken["breaks"] == [("missing", "failed"), ("last", "skipped")]
    assert taken["retries"] == [
        ("missing", "passed"),
        ("missing", "passed"),
        ("missing", "failed"),
        ("last", "skipped"),
    ]
    assert taken["goes-on"] == [("missing", "passed"), ("last", "passed")]
    assert taken["ends"] == [("missing", "failed"), ("last", "skipped")] == taken["overrides"]
    assert taken["chooses"] == [("missing", "passed"), ("last", "passed")] == taken["shared"]
    assert taken["elsewhere"] == [("missing", "passed"), ("missing.on/last", "passed")]
    assert taken["early"] == [("last", "passed")] and found["cases"]["round"] == "error"
    assert "a goto leads in a circle" in found["reasons"]["round"] and len(taken["round"]) == 1001
    assert taken["cleans"] == [("missing", "failed"), ("clean", "passed"), ("last", "skipped")] or taken[
        "cleans"
    ][-1][0] in ("clean", "last")
    assert found["cases"]["needs"] == "skipped" and "breaks did not succeed" in found["reasons"]["needs"]


_CHECKS: list[tuple[dict[str, Any], dict[str, Any], str, str]] = [
    # (a check that holds, one that does not, what is expected of the second, what it says was there)
    (
        {"at": "body/name", "equals": "Grey Tern"},
        {"at": "body/name", "equals": "grey tern"},
        '"grey tern"',
        '"Grey Tern"',
    ),
    (
        {"at": "body/lengthMetres", "equals": 118.50},
        {"at": "body/lengthMetres", "equals": "118.5"},
        '"118.5"',
        "118.5",
    ),
    (
        {"at": "body/vesselId", "equals": "$steps.register.outputs.id"},
        {"at": "body/vesselId", "equals": "$steps.register.outputs.none"},
        "",
        "no value for",
    ),
    (
        {"at": "body/kind", "differs": "tanker"},
        {"at": "body/kind", "differs": "bulk"},
        'other than "bulk"',
        "bulk",
    ),
    (
        {"at": "body/kind", "among": ["bulk", "tanker"]},
        {"at": "body/kind", "among": ["ro-ro"]},
        "one of",
        "bulk",
    ),
    (
        {"at": "body/vesselId", "matches": "^V-\\d+$"},
        {"at": "body/vesselId", "matches": "^X"},
        "text matching ^X",
        "V-",
    ),
    (
        {"at": "body/draughtMetres", "exists": False},
        {"at": "body/name", "exists": False},
        "absent",
        "Grey Tern",
    ),
    ({"at": "body/name", "exists": True}, {"at": "body/none", "exists": True}, "present", "absent"),
    (
        {"at": "body/name", "type": "string"},
        {"at": "body/name", "type": ["number", "null"]},
        "number or null",
        "Grey Tern",
    ),
    (
        {"at": "body/lengthMetres", "above": 118},
        {"at": "body/lengthMetres", "above": 118.5},
        "more than 118.5",
        "118.5",
    ),
    (
        {"at": "body/lengthMetres", "within": [100, 118.5]},
        {"at": "body/lengthMetres", "within": [1, 2]},
        "from 1 to 2",
        "118.5",
    ),
    (
        {"at": "body/lengthMetres", "near": 118, "by": 0.5},
        {"at": "body/lengthMetres", "near": 118, "by": 0.4},
        "give or take 0.4",
        "118.5",
    ),
    (
        {"at": "body/lengthMetres", "atMost": 118.5},
        {"at": "body/lengthMetres", "below": 10},
        "less than 10",
        "118.5",
    ),
    ({"at": "text", "mentions": ["Grey", "bulk"]}, {"at": "text", "mentions": "Skerry"}, "text with", "Grey"),
    ({"at": "text", "omits": "error"}, {"at": "text", "omits": "Tern"}, "text without", "Tern"),
    ({"at": "status", "among": [200, 304]}, {"at": "status", "equals": 201}, "201", "200"),
    ({"at": "time", "below": 60000}, {"at": "time", "below": 0}, "less than 0", "."),
    (
        {"at": "header.Content-Type", "matches": "json"},
        {"at": "header.X-None", "exists": True},
        "present",
        "absent",
    ),
    (
        {"at": "header.Content-Length", "above": 10},
        {"at": "header.Content-Length", "above": 1000000},
        "more than",
        "",
    ),
    ({"at": "$url", "mentions": "/vessels/V-"}, {"at": "$method", "equals": "POST"}, "POST", "GET"),
    (
        {"jsonpath": "$.name", "equals": "Grey Tern"},
        {"jsonpath": "$.none", "exists": True},
        "present",
        "absent",
    ),
    (
        {"jsonpath": "$[?search(@, 'Tern')]", "count": 1},
        {"jsonpath": "$.*", "count": {"atMost": 1}},
        "items",
        "4 items",
    ),
    (
        {"at": "body/lengthMetres", "computed": "237 / 2"},
        {"at": "body/lengthMetres", "computed": "inputs.half * 2 + 1"},
        "inputs.half * 2 + 1 = 119.5",
        "118.5",
    ),
    (
        {"at": "body", "fits": {"type": "object", "required": ["name"]}},
        {"at": "body", "fits": {"$ref": "#/components/inputs/short"}},
        "as the schema says",
        "/name",
    ),
]
_LIST_CHECKS: list[tuple[dict[str, Any], dict[str, Any], str, str]] = [
    ({"at": "body", "count": {"atLeast": 2}}, {"at": "body", "count": 99}, "99 items", "items"),
    (
        {"at": "body", "ordered": {"by": "/berthId"}},
        {"at": "body", "ordered": {"by": "/berthId", "direction": "descending"}},
        "descending order",
        "",
    ),
    (
        {"at": "body", "every": {"at": "/depthMetres", "above": 0}},
        {"at": "body", "every": {"at": "/depthMetres", "above": 5}},
        "every item /depthMetres",
        "not so: 0",
    ),
    (
        {"at": "body", "any": {"at": "/surface", "equals": "timber"}},
        {"at": "body", "any": {"at": "/surface", "equals": "glass"}},
        "any item",
        "items",
    ),
    (
        {"jsonpath": "$[*].surface", "every": {"among": ["stone", "concrete", "timber"]}},
        {"jsonpath": "$[*].surface", "every": {"equals": "stone"}},
        "every item",
        "not so",
    ),
]


def test_every_kind_of_check_holds_and_does_not(ran: Any, work: Path, jux: Callable[..., Result]) -> None:
    cases = [
        {
            "workflowId": "vessel",
            "inputs": {"type": "object", "properties": {"half": {"type": "number", "default": 59.25}}},
            "steps": [
                REGISTER,
                {
                    **GET,
                    "x-juxtalogos-checks": [
                        check for pair in _CHECKS for check in pair[:2] if "outputs.none" not in str(check)
                    ],
                },
            ],
        },
        {
            "workflowId": "list",
            "steps": [
                {
                    "stepId": "list",
                    "operationId": "listBerths",
                    "x-juxtalogos-checks": [check for pair in _LIST_CHECKS for check in pair[:2]],
                }
            ],
        },
    ]
    short = {"type": "object", "properties": {"name": {"type": "string", "maxLength": 3}}}
    found = ran({"checks": {"workflows": cases, "components": {"inputs": {"short": short}}}}, status=1)
    assert found["cases"] == {"vessel": "failed", "list": "failed"}
    told: list[dict[str, Any]] = []
    for one in sorted(found["exchanges"], key=lambda one: one["case"] == "list"):
        if one["step"] in ("get", "list"):
            told += [
                check
                for check in jux("exchanges", one["exchange"], "--json", "-C", work).json["checks"]
                if check["kind"] == "check.unmet"
            ]
    wanted = [
        check
        for pair in (*_CHECKS, *_LIST_CHECKS)
        for check in ((pair[0], True, "", ""), (pair[1], False, *pair[2:]))
        if "outputs.none" not in str(check[0])
    ]
    assert len(told) == len(wanted)
    for check, (written, held, declared, observed) in zip(told, wanted):
        assert check["held"] is held, (written, check)
        assert declared in check["declared"] and observed in check["observed"], (written, check)


def test_tables_of_every_kind(ran: Any, work: Path, jux: Callable[..., Result]) -> None:
    import csv
    import sqlite3

    import openpyxl
    import pyarrow
    import pyarrow.parquet

    tables = work / "tables"
    tables.mkdir()
    rows = [
        {"name": "Skerry", "length": 80},
        {"name": "Lantern", "length": 90.5},
        {"name": "x", "length": 70},
    ]
    with (tables / "t.csv").open("w", encoding="utf-8", newline="") as out:
        writer = csv.DictWriter(out, ["name", "length"])
        writer.writeheader()
        writer.writerows(rows)
    book = openpyxl.Workbook()
    for row in (["name", "length"], *(list(one.values()) for one in rows)):
        book.active.append(row)
    book.save(tables / "t.xlsx")
    floats = [{**one, "length": float(one["length"])} for one in rows]  # type: ignore[arg-type]
    pyarrow.parquet.write_table(pyarrow.Table.from_pylist(floats), tables / "t.parquet")
    (tables / "t.jsonl").write_text("\n".join(map(json.dumps, rows)), "utf-8")
    with sqlite3.connect(work / "rows.db") as database:
        database.execute("CREATE TABLE t (name TEXT, length REAL)")
        database.executemany("INSERT INTO t VALUES (:name, :length)", rows)
    database.close()
    case = {
        "inputs": {
            "type": "object",
            "required": ["name"],
            "properties": {
                "name": {"type": "string"},
                "length": {"type": "number"},
                "kind": {"type": "string", "default": "bulk"},
            },
        },
        "steps": [
            {"stepId": "first", "operationId": "listBerths", "outputs": {"any": "$response.body#/0/berthId"}},
            {
                **REGISTER,
                "requestBody": {
                    "contentType": "application/json",
                    "payload": {
                        "name": "$inputs.name",
                        "kind": "$inputs.kind",
                        "lengthMetres": "$inputs.length",
                    },
                },
                "x-juxtalogos-checks": [{"at": "$steps.first.outputs.any", "exists": True}],
            },
        ],
    }
    files = ["t.csv", "t.xlsx", "t.parquet", "t.jsonl"]
    workflows = [
        {"workflowId": name.replace(".", "-"), **case, "x-juxtalogos-table": {"file": name}} for name in files
    ]
    workflows.append(
        {
            "workflowId": "once",
            **case,
            "x-juxtalogos-table": {"file": "t.csv"},
            "x-juxtalogos-setup": ["first"],
        }
    )
    found = ran({"tables": {"workflows": workflows}}, status=1)
    for name in files:
        key = name.replace(".", "-")
        assert [found["cases"][f"{key}[row {n}]"] for n in (1, 2, 3)] == ["passed", "passed", "failed"], (
            name,
            found["reasons"],
        )
    once = [(case, step) for case, step, _, _ in found["steps"] if case.startswith("once")]
    assert once == [
        ("once[set-up]", "first"),
        ("once[row 1]", "register"),
        ("once[row 2]", "register"),
        ("once[row 3]", "register"),
    ]
    with (work / "juxtalogos.toml").open("a", encoding="utf-8") as out:
        out.write('\n[queries.vessels]\nfile = "rows.db"\nsql = "SELECT * FROM t ORDER BY length"\n')
    (work / "suites/tables.arazzo.yaml").unlink()
    suite = {"workflows": [{"workflowId": "q", **case, "x-juxtalogos-table": {"query": "vessels"}}]}
    assert "are not trusted" in ran_error(ran, suite, work, jux)
    jux("trust", "-C", work)
    assert list(ran({"q": suite}, status=1)["cases"].values()) == ["failed", "passed", "passed"]
    assert len(ran({"q": suite}, "q", "--repeat", "2", status=1)["cases"]) == 6


def ran_error(ran: Any, suite: dict[str, Any], work: Path, jux: Callable[..., Result]) -> str:
    (work / "suites/bad.arazzo.yaml").write_text(yaml.safe_dump({**HEAD, **suite}, sort_keys=False), "utf-8")
    found = jux("run", "bad", "--target", "local", "-C", work, status=2).err
    (work / "suites/bad.arazzo.yaml").unlink()
    return found


def test_inputs_are_checked_defaulted_and_computed(ran: Any) -> None:
    properties = {
        "name": {"type": "string", "minLength": 2},
        "day": {"type": "string", "x-juxtalogos-value": "format(date('2026-03-14') + days(3), 'YYYY-MM-DD')"},
        "made": {"type": "string", "x-juxtalogos-value": "pick('bulk', 'bulk')"},
    }
    step = {
        **REGISTER,
        "requestBody": {
            "contentType": "application/json",
            "payload": {**VESSEL, "name": "{$inputs.name} {$inputs.day}", "kind": "$inputs.made"},
        },
        "x-juxtalogos-checks": [{"at": "body/name", "mentions": "2026-03-17"}],
    }
    suite = {
        "workflows": [
            {
                "workflowId": "w",
                "inputs": {"type": "object", "required": ["name"], "properties": properties},
                "steps": [step],
            }
        ]
    }
    found = ran({"inputs": suite}, status=3)
    assert (
        found["cases"] == {"w": "error"}
        and "input name: property name is required" in found["reasons"]["w"]
        and found["steps"] == []
    )
    assert (
        "2 or more characters"
        in ran({"inputs": suite}, "inputs", "--set", "name=x", status=3)["reasons"]["w"]
    )
    assert ran({"inputs": suite}, "inputs", "--set", "name=7788")["cases"] == {"w": "passed"}


def test_variables_of_workspace_target_suite_and_case(
    work: Path, ran: Any, jux: Callable[..., Result]
) -> None:
    text = (work / "juxtalogos.toml").read_text("utf-8")
    (work / "juxtalogos.toml").write_text(
        text + '\n[variables]\na = "workspace"\nb = "workspace"\n\n[targets.local.variables]\nb = "target"\n'
        "f = { formula = \"'no. ' + text(between(7, 7))\" }\n",
        "utf-8",
    )
    checks = [
        {"at": f"$inputs.{name}", "equals": value}
        for name, value in {
            "a": "workspace",
            "b": "target",
            "c": "suite",
            "d": "case",
            "e": "set",
            "f": "no. 7",
        }.items()
    ]
    properties = {"d": {"default": "case"}, "a": {"default": "case"}}
    case = {
        "workflowId": "w",
        "inputs": {"type": "object", "properties": properties},
        "steps": [{**_STEP, "x-juxtalogos-checks": checks}],
    }
    suite = {"x-juxtalogos-variables": {"a": "suite", "c": "suite", "d": "suite"}, "workflows": [case]}
    assert ran({"v": suite}, "v", "--set", "e=set")["cases"] == {"w": "passed"}
    with (work / "juxtalogos.toml").open("a", encoding="utf-8") as file:
        file.write('g = { formula = "inputs.none" }\n')
    refused = jux("run", "--target", "local", "-C", work, status=2)
    assert "the variable g: " in refused.err and "juxtalogos.toml" in refused.err


_STEP = {"stepId": "a", "operationId": "listBerths"}


def _one(**step: Any) -> dict[str, Any]:
    return {"workflows": [{"workflowId": "w", "steps": [{**_STEP, **step}]}]}


@pytest.mark.parametrize(
    ("suite", "words"),
    [
        (_one(operationId="listBerth"), "did you mean listBerths"),
        (_one(operationPath="x"), "exactly one of"),
        (
            {
                "workflows": [
                    {"workflowId": "w", "dependsOn": ["v"], "steps": [_STEP]},
                    {"workflowId": "v", "dependsOn": ["w"], "steps": [_STEP]},
                ]
            },
            "round in a circle: w -> v -> w",
        ),
        (
            {"workflows": [{"workflowId": "w", "dependsOn": ["none"], "steps": [_STEP]}]},
            "there is no workflow none",
        ),
        (_one(onSuccess=[{"name": "x", "type": "goto", "stepId": "none"}]), "there is no step none"),
        (_one(onSuccess=[{"name": "x", "type": "retry"}]), "one of end, goto"),
        (_one(onFailure=[{"name": "x", "type": "retry", "retryLimit": -1}]), "from 0"),
        (_one(successCriteria=[{"condition": "$statusCode = 200"}]), "is not understood"),
        (
            _one(successCriteria=[{"condition": "$[?", "context": "$response.body", "type": "jsonpath"}]),
            "is no JSONPath",
        ),
        (
            _one(successCriteria=[{"condition": "//a[", "context": "$response.body", "type": "xpath"}]),
            "is no XPath",
        ),
        (
            _one(
                successCriteria=[
                    {"condition": "matches(//a, '(a+)+$')", "context": "$response.body", "type": "xpath"}
                ]
            ),
            "could run for ever",
        ),
        (
            _one(
                successCriteria=[
                    {"condition": "doc('/etc/passwd')", "context": "$response.body", "type": "xpath"}
                ]
            ),
            "not allowed",
        ),
        (
            _one(successCriteria=[{"condition": "(", "context": "$response.body", "type": "regex"}]),
            "no regular expression",
        ),
        (
            _one(
                successCriteria=[
                    {
                        "condition": "$x",
                        "context": "$response.body",
                        "type": {"type": "jsonpath", "version": "9"},
                    }
                ]
            ),
            "unknown expression type",
        ),
        (
            _one(parameters=[{"name": "minDepth", "in": "query", "value": "$steps.none.outputs.x"}]),
            "a step that does not come before",
        ),
        (_one(outputs={"x": "$response.bodyx"}), "no runtime expression"),
        (
            {
                "workflows": [
                    {
                        "workflowId": "w",
                        "steps": [
                            {**_STEP, "outputs": {"x": "$url"}},
                            {
                                "stepId": "b",
                                "operationId": "getBerth",
                                "parameters": [
                                    {"name": "berthId", "in": "path", "value": "$steps.a.outputs.y"}
                                ],
                            },
                        ],
                    }
                ]
            },
            "the step a has no output y",
        ),
        (_one(parameters=[{"reference": "$components.parameters.none"}]), "no component"),
        (_one(**{"x-juxtalogos-checks": [{"at": "body/x"}]}), "makes one test, this makes 0"),
        (_one(**{"x-juxtalogos-checks": [{"at": "bodies", "equals": 1}]}), "no place in an exchange"),
        (_one(**{"x-juxtalogos-checks": [{"at": "body", "equal": 1}]}), "did you mean equals?"),
        (_one(**{"x-juxtalogos-checks": [{"at": "body", "computed": "1 + + 2"}]}), "a value is missing"),
        (
            _one(**{"x-juxtalogos-checks": [{"at": "body", "computed": "exec('x')"}]}),
            "there is no function 'exec'",
        ),
        (_one(**{"x-juxtalogos-chekcs": []}), "unknown extension"),
        (
            {
                "workflows": [
                    {"workflowId": "w", "steps": [_STEP], "x-juxtalogos-table": {"file": "none.csv"}}
                ]
            },
            "there is no table none.csv",
        ),
        (
            {"workflows": [{"workflowId": "w", "steps": [_STEP], "x-juxtalogos-table": {"query": "none"}}]},
            "are not trusted",
        ),
        (
            {
                "sourceDescriptions": [{"name": "other", "url": "none.arazzo.yaml", "type": "arazzo"}],
                "workflows": [{"workflowId": "w", "steps": [_STEP]}],
            },
            "there is no suite at",
        ),
    ],
)
def test_bad_suites_end_in_one_message(
    suite: dict[str, Any], words: str, work: Path, ran: Any, jux: Callable[..., Result]
) -> None:
    found = ran_error(ran, suite, work, jux)
    assert words in found and len(found.splitlines()) <= 5, found
    assert jux("runs", "--json", "-C", work).json["runs"] == []


def test_a_table_without_a_needed_column(work: Path, ran: Any, jux: Callable[..., Result]) -> None:
    (work / "tables").mkdir()
    (work / "tables/t.csv").write_text("nam\nSkerry\n", "utf-8")
    inputs = {"type": "object", "required": ["name"], "properties": {"name": {"type": "string"}}}
    suite = {
        "workflows": [
            {"workflowId": "w", "inputs": inputs, "steps": [_STEP], "x-juxtalogos-table": {"file": "t.csv"}}
        ]
    }
    found = ran_error(ran, suite, work, jux)
    assert "no column name" in found and "did you mean nam?" in found
