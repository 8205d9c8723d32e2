"""The run engine within the test's own process: a service that is a function, a clock that only the test
moves.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest

from conftest import definition
from juxtalogos.ledger import CaseRecord, ExchangeQuery, ExchangeRecord, open_ledger
from juxtalogos.ledger.recorder import Recorder
from juxtalogos.model.errors import ConfigError
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.model.verdict import Verdict
from juxtalogos.run.engine.binding import bind
from juxtalogos.run.engine.engine import Engine
from juxtalogos.run.engine.plan import CaseRef, RunPlan, units
from juxtalogos.run.engine.slots import Slots
from juxtalogos.run.engine.step import RunContext
from juxtalogos.run.engine.stop import Stop
from juxtalogos.run.executors import Dealer
from juxtalogos.run.executors.local import LocalExecutor
from juxtalogos.suite.document.reader import read_suites, suite_paths
from juxtalogos.suite.document.writer import to_yaml
from juxtalogos.workspace.importing import keep, read_source
from juxtalogos.workspace.remote import Access
from juxtalogos.workspace.trust import Trust
from juxtalogos.workspace.workspace import Workspace, init_workspace

BASE = "http://quay.test/v1"
LINES = {
    "type": "object",
    "required": ["id"],
    "properties": {"id": {"type": "integer"}, "state": {"enum": ["made", "gone"]}},
}


def _answers(*statuses: str) -> dict[str, Any]:
    body = {"application/json": {"schema": LINES}}
    return {status: {"description": "x", "content": body if status != "204" else {}} for status in statuses}


BY_ID = [{"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}]
DEFINITION = definition(
    {
        "/lines": {
            "post": {
                "operationId": "makeLine",
                "requestBody": {"content": {"application/json": {"schema": {"type": "object"}}}},
                "responses": _answers("201"),
                "security": [{"lineKey": []}],
            }
        },
        "/lines/{id}": {
            "get": {"operationId": "readLine", "parameters": BY_ID, "responses": _answers("200", "404")},
            "delete": {
                "operationId": "dropLine",
                "parameters": BY_ID,
                "responses": {"204": {"description": "gone"}},
            },
        },
    },
    securitySchemes={"lineKey": {"type": "apiKey", "in": "header", "name": "X-Line-Key"}},
)

Reply = Response | Exception | str
"""An answer, an error of the program itself, or why no answer came."""


def reply(status: int, value: Any = None, *headers: tuple[str, str]) -> Response:
    fields = (("Content-Type", "application/json"), *headers) if value is not None else headers
    return Response(status, "", fields, json.dumps(value).encode() if value is not None else b"")


def lines(request: Request) -> Reply:
    """A service that does all as declared."""
    if request.method == "POST":
        return reply(201, {"id": 7, "state": "made"})
    if request.method == "DELETE":
        return reply(204)
    return reply(200, {"id": int(request.url.rpartition("/")[2]), "state": "made"})


@dataclass
class Clock:
    """Seconds that pass only when somebody waits."""

    now: float = 0.0
    waits: list[float] = field(default_factory=list)

    async def sleep(self, seconds: float) -> None:
        self.waits.append(seconds)
        self.now += seconds


@dataclass
class Scripted:
    """Stands in for the transport."""

    answer: Callable[[Request], Reply]
    sent: list[Request] = field(default_factory=list)
    at_once: int = 0
    most: int = 0

    async def __aenter__(self) -> Scripted:
        return self

    async def __aexit__(self, *_: object) -> None:
        pass

    async def send(self, request: Request) -> Exchange:
        self.sent.append(request)
        self.at_once += 1
        self.most = max(self.most, self.at_once)
        try:
            await asyncio.sleep(0)
            found = self.answer(request)
            if isinstance(found, Exception):
                raise found
            timings = Timings(0.0, 0.001, 0.001)
            if isinstance(found, str):
                return Exchange(request, None, timings, found)
            return Exchange(request, found, timings)
        finally:
            self.at_once -= 1

    def calls(self) -> list[str]:
        return [f"{one.method} {one.url.removeprefix(BASE)}" for one in self.sent]


@dataclass
class Ran:
    """What a run left in the ledger."""

    number: int
    verdict: Verdict
    cases: list[CaseRecord]
    records: list[ExchangeRecord]
    service: Scripted
    clock: Clock
    done: list[CaseRecord]

    def verdicts(self) -> dict[str, str]:
        return {one.case: str(one.verdict) for one in self.cases}

    def steps(self, case: str) -> dict[str, str]:
        return {one.step: str(one.verdict) for one in self.records if one.case == case}


class Bench:
    """A workspace with one contract and a target that nobody serves."""

    def __init__(self, root: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        self.home = init_workspace(root)
        (root / "quay.yaml").write_text(DEFINITION, "utf-8")
        for imported in read_source(str(root / "quay.yaml"), Access(), name="quay"):
            keep(self.home, imported)
        self.monkeypatch = monkeypatch
        monkeypatch.setenv("XDG_DATA_HOME", str(root.parent / "home" / "data"))
        monkeypatch.setenv("LINE_KEY", "ebb-and-flow-77")
        self.configure("")

    def configure(self, more: str, target: str = "") -> None:
        text = (
            f'[targets.here]\nurl = "{BASE}"\n{target}\n[targets.here.credentials.lineKey]\nenv ='
            f' "LINE_KEY"\n{more}'
        )
        (self.home.root / "juxtalogos.toml").write_text(text, "utf-8")
        self.home = Workspace(self.home.root)
        with contextlib.suppress(ConfigError):  # what is wrong on purpose is told when it is run
            trust = Trust(self.home.root)
            trust.allow(sends=trust.sends)

    def suite(self, *cases: Mapping[str, Any], name: str = "work") -> None:
        document = {
            "arazzo": "1.0.1",
            "info": {"title": name, "version": "1"},
            "sourceDescriptions": [
                {"name": "quay", "url": "../definitions/quay/quay.yaml", "type": "openapi"}
            ],
            "workflows": list(cases),
        }
        (self.home.suites / f"{name}.arazzo.yaml").write_text(to_yaml(document), "utf-8")

    def plan(self, *, jobs: int = 4, repeat: int = 1, seed: int = 0) -> RunPlan:
        suites, _ = read_suites(self.home, suite_paths(self.home))
        refs = tuple(CaseRef(suite.name, case.id) for suite in suites for case in suite.cases)
        return RunPlan(refs, "here", seed=seed, repeat=repeat, jobs=jobs, started=1_800_000_000.0)

    def run(
        self,
        answer: Callable[[Request], Reply] = lines,
        *,
        jobs: int = 4,
        repeat: int = 1,
        seed: int = 0,
        reset: Callable[[], Awaitable[None]] | None = None,
        until: Callable[[Scripted], bool] | None = None,
        between: Callable[[], None] = lambda: None,
        hard: bool = False,
    ) -> Ran:
        """`until`: the run is interrupted as soon as this holds (`hard`: for the second time); `between`:
        called once all is ready and nothing is sent yet.
        """
        home, service, clock = self.home, Scripted(answer), Clock()
        plan = RunPlan.from_json(self.plan(jobs=jobs, repeat=repeat, seed=seed).to_json())
        bound = bind(home, plan)
        done: list[CaseRecord] = []
        with open_ledger(home.ledger_path, write=True) as ledger:
            number = ledger.begin("run", "here", "test")

            async def work() -> None:
                nonlocal until
                stop = Stop()
                async with Recorder(ledger, number) as recorder:
                    context = RunContext(bound.session, service, stop, clock.sleep)
                    engine = Engine(bound, context, recorder, Slots(jobs), reset, done.append)
                    refs = [(ref, bound.key(ref)) for ref in plan.cases]
                    source = Dealer(units(refs, bound.cases, bound.row_counts, alone=reset is not None))
                    between()
                    task = asyncio.create_task(LocalExecutor(engine).run(source))
                    while not task.done():
                        await asyncio.sleep(0)
                        if until is not None and until(service):
                            (task.cancel if hard else stop.ask)()
                            until = None
                    with contextlib.suppress(asyncio.CancelledError):
                        await task

            asyncio.run(work())
            verdict = ledger.worst(number)
            ledger.end(number, verdict)
            records = list(ledger.exchanges(ExchangeQuery(run=number)))
            return Ran(number, verdict, ledger.cases(number), records, service, clock, done)


def step(
    step_id: str, operation: str, *, line: Any = None, status: int | None = None, **more: Any
) -> dict[str, Any]:
    """A step; `line` is the id in the path."""
    found: dict[str, Any] = {"stepId": step_id, "operationId": f"$sourceDescriptions.quay.{operation}"}
    if line is not None:
        found["parameters"] = [{"name": "id", "in": "path", "value": line}]
    if operation == "makeLine":
        found["requestBody"] = {"contentType": "application/json", "payload": {}}
        found["outputs"] = {"id": "$response.body#/id"}
    if status is not None:
        found["successCriteria"] = [{"condition": f"$statusCode == {status}"}]
    return {**found, **more}


def case(name: str, *steps: Mapping[str, Any], **more: Any) -> dict[str, Any]:
    return {"workflowId": name, **more, "steps": list(steps)}
