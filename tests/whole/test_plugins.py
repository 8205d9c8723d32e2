"""The front door: a format with result codes of its own through every command, tables that packages add to,
the
program interface.
"""

from __future__ import annotations

import json
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

import juxtalogos.api
import juxtalogos.plugin
from conftest import ROOT, TESTS, Result
from juxtalogos.model.errors import UsageError
from juxtalogos.plugins import Table

Jux = Callable[..., Result]
PLUGIN = TESTS / "plugin"
ENVIRONMENT = {"PYTHONPATH": str(PLUGIN)}

NUMBER = {"type": "integer", "minimum": 1, "maximum": 99_999}
CRANE = {
    "type": "object",
    "required": ["craneId", "lifts"],
    "properties": {"craneId": NUMBER, "lifts": {"type": "integer", "maximum": 60}},
}
ONE = {
    "type": "object",
    "required": ["craneId"],
    "properties": {"craneId": NUMBER},
    "additionalProperties": False,
}
RESULT = {"type": "object", "required": ["result"], "properties": {"result": {"const": 0}}}


def returning(value: Any) -> dict[str, Any]:
    return {**RESULT, "required": ["result", "value"], "properties": {"result": {"const": 0}, "value": value}}


HOUSE = {
    "cranehouse": "Cranes of Merrow",
    "calls": {
        "addCrane": {
            "summary": "Adds a crane",
            "takes": {
                "type": "object",
                "required": ["lifts"],
                "properties": {"lifts": {"type": "integer", "minimum": 1, "maximum": 60}},
                "additionalProperties": False,
            },
            "returns": returning(CRANE),
            "results": {"0": "added", "2": "a wrong argument"},
        },
        "getCrane": {
            "takes": ONE,
            "returns": returning(CRANE),
            "results": {"0": "the crane", "2": "a wrong argument", "4": "no such crane"},
        },
        "listCranes": {
            "returns": returning({"type": "array", "items": CRANE}),
            "results": {"0": "all cranes"},
        },
        "removeCrane": {
            "takes": ONE,
            "returns": RESULT,
            "results": {"0": "removed", "2": "a wrong argument", "4": "no such crane"},
        },
        "restartHouse": {"returns": RESULT, "results": {"0": "restarted"}},
    },
}


@contextmanager
def house(*odd: str) -> Iterator[tuple[str, list[str]]]:
    """A service of the crane house, and the calls that it received."""
    cranes: dict[int, int] = {}
    numbers = iter(range(31, 90_000))
    calls: list[str] = []

    def crane(number: int) -> dict[str, Any]:
        return {"craneId": number, "lifts": 61 if "heavy" in odd else cranes[number]}

    def does(message: Any) -> dict[str, Any]:
        call, given = message["call"], message["arguments"]
        calls.append(call)
        if call == "addCrane":
            if set(given) != {"lifts"} or type(given["lifts"]) is not int or not 1 <= given["lifts"] <= 60:
                return {"result": 2}
            number = next(numbers)
            cranes[number] = given["lifts"]
            return {"result": 0, "value": crane(number)}
        if call == "listCranes":
            return {"result": 0, "value": [crane(number) for number in cranes]}
        if call == "restartHouse":
            return {"result": 0}
        if (
            set(given) != {"craneId"}
            or type(given["craneId"]) is not int
            or not 1 <= given["craneId"] <= 99_999
        ):
            return {"result": 2}
        if given["craneId"] not in cranes:
            return {"result": 8 if "strange" in odd else 4}
        if call == "removeCrane":
            return {"result": 0 * cranes.pop(given["craneId"])}
        return {"result": 0, "value": crane(given["craneId"])}

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            try:
                told = does(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
            except (ValueError, KeyError, TypeError):
                told = {"result": 2}
            body = json.dumps(told).encode()
            self.send_response(200)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}/house", calls
        assert not cranes, "every crane was removed again"
    finally:
        server.shutdown()
        server.server_close()


@pytest.fixture
def cranes(tmp_path: Path, jux: Jux) -> Jux:
    """The program with the plug-in installed, in a workspace of the crane house."""

    def run(*words: object, status: int | None = 0) -> Result:
        return jux(*words, "-C", tmp_path / "w", status=status, env=ENVIRONMENT)

    jux("init", tmp_path / "w")
    (tmp_path / "house.crane").write_text(json.dumps(HOUSE), "utf-8")
    run("import", tmp_path / "house.crane")
    return run


def test_a_format_with_result_codes_goes_through_every_command(cranes: Jux) -> None:
    with house() as (url, calls):
        cranes("targets", "set", "house", url)
        assert "0 2 4" in cranes("show", "house").out and "at most 60" in cranes("show", "addCrane").out
        assert cranes("call", "addCrane", "--set", "body/lifts=3", "--json").json["verdict"] == "passed"
        assert cranes("call", "getCrane", "--set", "body/craneId=@1#/value/craneId").status == 0
        missing = cranes("call", "getCrane", "--set", "body/craneId=9", "--json", status=None).json
        assert missing["verdict"] != "failed", missing
        cranes("call", "removeCrane", "--set", "body/craneId=@1#/value/craneId")
        told = cranes("compose", "house").out
        assert "restartHouse" in told and "switches the service" in told
        done = cranes("run", "house", "--json", status=None).json
        verdicts = {one["case"]: one["verdict"] for one in done["cases"]}
        assert verdicts and {*verdicts.values()} == {"passed"} and not done["findings"], done
        assert "operations" in cranes("coverage").out
        cranes("report")
        assert "getCrane" in cranes("report", "--form", "junit", "-o", "-").out
        explored = cranes("explore", "house", "--json", status=None).json
        assert not explored["findings"] and not explored["doubts"], explored
        assert {"addCrane", "getCrane", "listCranes", "removeCrane"} <= {
            *explored["explored"]["house"]["reached"]
        }
        assert "restartHouse" not in calls
    with house("heavy", "strange") as (url, _):
        cranes("targets", "set", "house", url)
        done = cranes("run", "house", "--json", status=1).json
        assert ("getCrane", "body.range") in {(one["operation"], one["kind"]) for one in done["findings"]}
        assert cranes("call", "getCrane", "--set", "body/craneId=9", status=1).out.count("result.undeclared")


def test_the_public_face_is_complete_and_documented() -> None:
    face = juxtalogos.plugin
    names = {name for name in vars(face) if not name.startswith("_")}
    assert names == set(face.__all__) and sorted(face.__all__, key=_order) == list(face.__all__)
    bare = [
        name
        for name in face.__all__
        if isinstance(getattr(face, name), type) and not getattr(face, name).__doc__
    ]
    assert not bare
    page = (ROOT / "docs" / "plugins.md").read_text("utf-8")
    tables = [value.group for value in vars(face).values() if isinstance(value, Table)]
    assert len(tables) >= 8 and not [group for group in (*tables, "juxtalogos.commands") if group not in page]
    for path in PLUGIN.glob("*.py"):
        lines = [
            line for line in path.read_text("utf-8").splitlines() if "juxtalogos" in line and "import" in line
        ]
        assert lines == ["from juxtalogos import plugin as api"], path
        length = sum(1 for line in path.read_text("utf-8").splitlines() if line.strip())
        assert length <= {"ropeyard": 130}.get(path.stem, 149)


def _order(name: str) -> tuple[int, str]:
    return (0 if name.isupper() else 1 if name[0].isupper() else 2), name


def test_a_registered_name_is_never_replaced() -> None:
    table: Table[int] = Table("juxtalogos.nothing")
    table.register("one", 1)
    with pytest.raises(UsageError, match="has one already"):
        table.register("one", 2)
    assert dict(table) == {"one": 1}


def test_a_package_adds_checks_table_sources_and_commands(tmp_path: Path, jux: Jux) -> None:
    package = tmp_path / "package"
    (package / "more-1.dist-info").mkdir(parents=True)
    (package / "more-1.dist-info" / "METADATA").write_text("Metadata-Version: 2.1\nName: more\nVersion: 1\n")
    (package / "more-1.dist-info" / "entry_points.txt").write_text(
        "[juxtalogos.commands]\nberthing = more\n\n[juxtalogos.table_sources]\n.tide = more:tides\n\n"
        "[juxtalogos.checks]\ntraced = more:traced\n"
    )
    (package / "more.py").write_text(
        "from juxtalogos import plugin as api\n"
        "SUMMARY, DESCRIPTION, EXAMPLE = 'berth', 'Berth a vessel.', '  juxtalogos berthing'\n"
        "def add_arguments(parser):\n    parser.add_argument('--long', action='store_true')\n"
        "def run(args):\n    print('berthed', args.long)\n    return 0\n"
        "def tides(path):\n    return [{'height': int(line)} for line in path.read_text().split()]\n"
        "def traced(contract, operation, answer, exchange):\n"
        "    held = api.header(exchange.response.headers, 'X-Trace') is not None\n"
        "    yield api.CheckResult('house.traced', held, 'header.X-Trace', 'a trace', 'none', operation.location)\n"
    )
    more = {"PYTHONPATH": str(package)}
    assert jux("berthing", "--long", env=more).out == "berthed True\n"
    assert "no command" in jux("berthing", status=2).err
    (tmp_path / "t.tide").write_text("3\n4\n")
    code = "from juxtalogos.suite.tables import rows_of; from pathlib import Path; import sys; print(rows_of(Path(sys.argv[1])))"
    ran = subprocess.run(
        [sys.executable, "-c", code, tmp_path / "t.tide"], env=more, capture_output=True, text=True
    )
    assert ran.stdout.strip() == "[{'height': 3}, {'height': 4}]", ran.stderr


def test_the_program_interface_is_complete_and_its_example_runs(tmp_path: Path) -> None:
    face = juxtalogos.api
    names = {name for name in vars(face) if not name.startswith("_")}
    assert names == set(face.__all__) and all(getattr(face, name).__doc__ for name in face.__all__)
    page = (ROOT / "docs" / "programs.md").read_text("utf-8")
    example = page.partition("```python\n")[2].partition("```")[0]
    assert 10 <= len(example.splitlines()) <= 22
    from conftest import serving

    with serving("all") as url:
        code = example.replace("http://127.0.0.1:8480/v1", url)
        source = ROOT / "src" / "juxtalogos" / "demo" / "berths.yaml"
        (tmp_path / "berths.yaml").write_bytes(source.read_bytes())
        ran = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True)
    assert ran.returncode == 0 and "verdict" in ran.stdout and "%" in ran.stdout, ran.stderr
