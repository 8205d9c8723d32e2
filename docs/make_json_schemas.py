"""The JSON Schemas of every `--json` output, from outputs of the demo. Run: python
docs/make_json_schemas.py

Types and required members are inferred from the outputs of `SAMPLES` in two states of the harbour. `_MAPS`,
`_FREE`, `_NULLABLE`, `_ENUMS` and `_MEANINGS` add what outputs cannot show.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from importlib import resources
from pathlib import Path
from typing import Any

from juxtalogos.demo.planted import planted_names
from juxtalogos.demo.server import KEY, base_url, make_server
from juxtalogos.model.findings import ResultClass, Severity
from juxtalogos.model.verdict import Verdict

FOLDER = Path(__file__).with_name("json")

# Output, and the command that prints it, in this order in a workspace with the harbour's three contracts.
SAMPLES: tuple[tuple[str, str], ...] = (
    ("init", "init {scratch}/other"),
    ("import", "import {scratch}/berths.yaml --replace"),
    ("targets", "targets list"),
    ("targets", "targets check quay"),
    ("contracts", "contracts"),
    ("show-contracts", "show"),
    ("show-contract", "show berths"),
    ("show-contract", "show pilotage"),
    ("show-contract", "show registry"),
    ("show-operation", "show registerVessel"),
    ("show-operation", "show announcePortCall"),
    ("show-operation", "show planJob"),
    ("show-operation", "show Vessels.list"),
    ("show-resources", "show berths --resources"),
    ("call", "call registerVessel --save fleet#vessel"),
    ("call", "call getBerth --set berthId=B2"),
    ("call", "call getJob"),
    ("call", "call Vessels.list"),
    ("call", "call getBerth --target http://127.0.0.1:9"),
    ("call", "call --url {url}/berths"),
    ("pin", "pin --list --exchange @getBerth"),
    ("pin-check", "pin body/kind --exchange @registerVessel"),
    ("compose-dependencies", "compose berths --dependencies"),
    ("compose", "compose berths"),
    ("compose", "compose pilotage"),
    ("compose", "compose registry"),
    ("compose-learn", "compose pilotage --learn --replace"),
    ("suite-list", "suite list"),
    ("suite-check", "suite check"),
    ("suite-show", "suite show berths"),
    ("suite-show", "suite show fleet#vessel"),
    ("suite-changes", "suite undo --list"),
    ("target-show", "targets show quay"),
    ("parameters", "parameters"),
    ("run", "run berths --jobs 2"),
    ("run", "run fleet"),
    ("run", "run registry"),
    ("run-dry", "run fleet pilotage --dry-run"),
    ("plans", "plans"),
    ("compare", "compare"),
    ("compare", "compare 1 2"),
    ("runs", "runs"),
    ("history", "history berths#getBerth"),
    ("history", "history listVessels"),
    ("history", "history header.missing"),
    ("exchanges", "exchanges"),
    ("exchanges", "exchanges --finding any"),
    ("exchange", "exchanges 1"),
    ("exchange", "exchanges @getBerth"),
    ("coverage", "coverage"),
    ("coverage", "coverage --contract berths --gaps"),
    ("coverage", "coverage --by-operation"),
    ("explore", "explore listVessels registerVessel --requests 60"),
    ("audit", "audit {scratch}/morning.har --contract berths --target quay"),
    ("clean", "clean 1"),
    ("rules", "rules"),
    ("trust", "trust --show"),
    ("ledger-check", "ledger check"),
    ("report", "report"),
    ("import", "import {scratch}/broken.yaml --name broken"),
)


_PARAMETERS = (
    ["lines=6"],
    ["ship==pick('Tern')"],
    ["pilot", "--type", "string", "--target", "quay"],
    ["name=Tern", "--suite", "fleet"],
)
_PLANS = (
    ["all"],
    [
        "nightly",
        "fleet",
        "--target",
        "quay",
        "--jobs",
        "2",
        "--repeat",
        "2",
        "--processes",
        "1",
        "--seed",
        "3",
    ],
    ["nightly", "--pace", "0.1", "--order", "given", "--strict", "--strict-clean", "--stop-at-first"],
    ["nightly", "--operation", "registerVessel", "--set", "lines=6"],
)
# Objects whose keys are data, by their key; values that come from services and definitions.
_MAPS = {
    "inputs",
    "labels",
    "waitsFor",
    "cramped",
    "byKind",
    "byOperation",
    "commands",
    "files",
    "sends",
    "saved",
}
_FREE = {
    ("pin", "value"),
    ("pin-check", "equals"),
    ("rules", "value"),
    ("parameters", "value"),
    ("call", "body"),
    ("exchange", "body"),
}
_NULLABLE = {
    ("call", "exchange"),
    ("call", "operation"),
    ("exchange", "operation"),
    ("exchanges", "operation"),
}
_ENUMS: dict[str, list[str]] = {
    "verdict": [str(verdict) for verdict in Verdict],
    "severity": [str(severity) for severity in Severity],
    "class": [str(found) for found in ResultClass],
}
_STATE: dict[str, Any] = {
    "changes": {"operation": "", "what": "", "items": [""], "ours": True, "why": "", "byService": False},
    "unread": "",
    "withheld": {"operation": "", "why": ""},
}
"""Items of the lists in `state`, where the sampled commands print none."""
_MEANINGS = {
    "version": "version of this output; it changes when a member is removed or changes its meaning",
    "at": "place in the exchange: status, header.NAME, body/path",
    "case": "ID of the workflow in the suite",
    "checks": "every check of the exchange, passed or not",
    "class": "what a result counts as (docs/findings.md), or an operation needs (docs/reach.md)",
    "column": "column of the definition, from 1",
    "declared": "what the definition or the check expects",
    "document": "document of the contract",
    "doubts": "violated laws that nobody adopted",
    "exchange": "number of the exchange in the ledger",
    "expectations": "failed checks of suites and the configuration",
    "fingerprint": "identifies the result over runs",
    "formerly": "fingerprint of the version before",
    "held": "whether the check passed",
    "kind": "kind of check (docs/findings.md), or of run (docs/ledger.md)",
    "lenient": "invalid requests that the service accepted",
    "line": "line of the definition, from 1",
    "mend": "how to correct it",
    "observed": "what the response or the request contains",
    "pointer": "JSON Pointer or path of the node in the document",
    "refusals": "declared refusals of generated requests",
    "remarks": "doubtful results, which fail nothing",
    "run": "number of the run in the ledger",
    "seconds": "duration in seconds",
    "started": "start in seconds since 1970-01-01 UTC",
    "status": "status code",
    "step": "ID of the step in the case",
    "times": "how often the result occurred in the run",
}

Jux = Callable[[list[str]], tuple[int, str, str]]
"""Runs the tool with arguments; gives exit status, standard output and standard error."""


def outputs(scratch: Path, url: str, jux: Jux) -> Iterator[tuple[str, str, Any]]:
    """(name, command, value) of each output, in a workspace made in `scratch` for the harbour at `url`."""
    home = scratch / "harbour"
    _prepared(scratch, home, url, jux)
    for name, command in SAMPLES:
        words = command.format(scratch=scratch, url=url).split()
        status, printed, errors = jux([*words, "--json", "-C", str(home)])
        if status not in (0, 1, 3) or not printed.strip():
            raise RuntimeError(f"{command}: {status} {printed} {errors}")
        yield name, command, json.loads(printed)
        if command == "suite undo --list":
            for words in _PARAMETERS:
                jux(["parameters", "set", *words, "-C", str(home)])
            for words in _PLANS:
                jux(["plans", "set", *words, "-C", str(home)])
        if command.startswith("run berths"):
            jux(["exchanges", "--path", "berths", "--har", str(scratch / "morning.har"), "-C", str(home)])


def _process(words: list[str]) -> tuple[int, str, str]:
    environment = {**os.environ, "MERROW_KEY": KEY}
    command = [sys.executable, "-m", "juxtalogos", *words]
    done = subprocess.run(command, env=environment, capture_output=True, text=True, check=False)
    return done.returncode, done.stdout, done.stderr


def _prepared(scratch: Path, home: Path, url: str, jux: Jux) -> None:
    """A workspace with the three contracts and a target for each, and a definition with faults."""
    text = resources.files("juxtalogos.demo").joinpath("berths.yaml").read_text("utf-8")
    (scratch / "berths.yaml").write_text(text, "utf-8")
    (scratch / "broken.yaml").write_text(text.replace("schemas/Closing'", "schemas/Closed'"), "utf-8")
    base = url.removesuffix("/v1")
    commands = [["init", str(home)], ["import", str(scratch / "berths.yaml"), "-C", str(home)]]
    for name, path in (("pilotage", "pilotage/pilotage.wsdl"), ("registry", "registry/v4")):
        commands.append(["import", f"{base}/{path}", "--name", name, "-C", str(home)])
    for name, path in (("berths", "v1"), ("pilotage", "pilotage"), ("registry", "registry/v4")):
        commands.append(["targets", "set", "quay", f"{base}/{path}", "--contract", name, "-C", str(home)])
    for scheme in ("harbourKey=env:MERROW_KEY", "token=desk:env:MERROW_KEY"):
        commands.append(["targets", "set", "quay", "--credential", scheme, "-C", str(home)])
    commands.append(["rules", "getBerth", "--off", "body.format", "--reason", "agreed", "-C", str(home)])
    for words in commands:
        status, printed, errors = jux(words)
        if status not in (0, 1):
            raise RuntimeError(f"{words}: {printed} {errors}")


@dataclass
class _Node:
    """What was seen at one place."""

    count: int = 0
    types: set[str] = field(default_factory=set)
    constants: set[Any] = field(default_factory=set)
    """Whole numbers and texts."""
    members: dict[str, _Node] = field(default_factory=dict)
    items: _Node | None = None

    def add(self, value: Any) -> None:
        self.count += 1
        self.types.add(_TYPES[type(value)])
        if isinstance(value, dict):
            for key, member in value.items():
                self.members.setdefault(key, _Node()).add(member)
        elif isinstance(value, list):
            for item in value:
                self.items = self.items or _Node()
                self.items.add(item)
        elif type(value) in (int, str):
            self.constants.add(value)

    def schema(self, output: str, key: str = "", depth: int = 0) -> dict[str, Any]:
        told: dict[str, Any] = {"description": _MEANINGS[key]} if key in _MEANINGS and depth else {}
        if (output, key) in _FREE:
            return told
        if (output, key) in _NULLABLE:
            self.types.add("null")
        for name, sample in _STATE.items() if key == "state" else ():
            if name in self.members and self.members[name].items is None:
                self.members[name].items = _Node()
                self.members[name].items.add(sample)  # type: ignore[union-attr]
        types = sorted(self.types - {"integer"} if "number" in self.types else self.types)
        made: dict[str, Any] = {**told, "type": types[0] if len(types) == 1 else types}
        if key == "version" and depth == 1 and types == ["integer"] and len(self.constants) == 1:
            made = {**told, "const": next(iter(self.constants))}
        if key in _ENUMS and types == ["string"] and self.constants <= set(_ENUMS[key]):
            made = {**told, "enum": _ENUMS[key]}
        if "object" in types and key in _MAPS:
            merged = _merged(self.members.values())
            made["additionalProperties"] = merged.schema(output, "", depth + 1) if merged.count else True
        elif "object" in types:
            made["required"] = sorted(
                name for name, member in self.members.items() if member.count == self.count
            )
            made["properties"] = {
                name: member.schema(output, name, depth + 1) for name, member in self.members.items()
            }
        if "array" in types and self.items is not None:
            made["items"] = self.items.schema(output, "", depth + 1)
        return made


_TYPES = {
    dict: "object",
    list: "array",
    str: "string",
    int: "integer",
    float: "number",
    bool: "boolean",
    type(None): "null",
}


def _merged(nodes: Iterable[_Node]) -> _Node:
    made = _Node()
    for node in nodes:
        made.count += node.count
        made.types |= node.types
        made.constants |= node.constants
        for name, member in node.members.items():
            made.members[name] = _merged([made.members.get(name, _Node()), member])
        if node.items:
            made.items = _merged([made.items or _Node(), node.items])
    return made


def main() -> None:
    FOLDER.mkdir(exist_ok=True)
    nodes: dict[str, _Node] = {}
    commands: dict[str, str] = {}
    for deviations in ("all", "none"):
        server = make_server(0, planted_names(deviations))
        threading.Thread(target=server.serve_forever, daemon=True).start()
        with tempfile.TemporaryDirectory() as scratch:
            for name, command, value in outputs(Path(scratch), base_url(server), _process):
                nodes.setdefault(name, _Node()).add(value)
                commands.setdefault(name, command.replace("{scratch}/", ""))
        server.shutdown()
    for old in FOLDER.glob("*.schema.json"):
        old.unlink()
    for name, node in nodes.items():
        schema = {
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "title": f"Output of `juxtalogos {commands[name]} --json`",
            **node.schema(name),
        }
        (FOLDER / f"{name}.schema.json").write_text(json.dumps(schema, indent=2) + "\n", "utf-8")
    rows = [
        f"| [{name}]({name}.schema.json) | `juxtalogos {commands[name]} --json` |" for name in sorted(nodes)
    ]
    (FOLDER / "README.md").write_text(_PAGE + "\n".join(rows) + "\n", "utf-8")


_PAGE = """# Schemas of `--json`

For developers who read the output of Juxtalogos in programs. Each schema (JSON Schema 2020-12) describes
the output of one command. Members may be added at any time; ignore those that you do not know. When a
member is removed or changes its meaning, `version` changes.

| schema | example |
|---|---|
"""


if __name__ == "__main__":
    main()
