"""A run of many cases beside a bare loop on the same HTTP library, interleaved in one run: CPU seconds,
ratios as medians.

Run by hand: python benchmarks/run.py [CASES] [ROUNDS]
The server is a process of its own; a step is resolved, sent, decoded, checked, covered and recorded.
"""

from __future__ import annotations

import asyncio
import json
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import aiohttp
import yaml

from juxtalogos.ledger import open_ledger
from juxtalogos.run.engine.binding import bind
from juxtalogos.run.engine.execute import execute
from juxtalogos.run.engine.plan import CaseRef, RunPlan
from juxtalogos.suite.document.reader import read_suites
from juxtalogos.workspace.importing import keep, read_source
from juxtalogos.workspace.remote import Access
from juxtalogos.workspace.workspace import Workspace, init_workspace

_SERVER = """
import asyncio, json, sys
BODY = json.dumps({"id": "B-1", "name": "Skerry", "depth": 7.5, "lines": [{"side": "port", "count": 4}] * 8, "note": "x" * 500}).encode()
HEAD = b"HTTP/1.1 200 OK\\r\\nContent-Type: application/json\\r\\nContent-Length: %d\\r\\n\\r\\n" % len(BODY)
async def serve(reader, writer):
    try:
        while True:
            await reader.readuntil(b"\\r\\n\\r\\n")
            writer.write(HEAD + BODY)
    except (asyncio.IncompleteReadError, ConnectionError):
        writer.close()
async def main():
    server = await asyncio.start_server(serve, "127.0.0.1", 0)
    print(server.sockets[0].getsockname()[1], flush=True)
    await server.serve_forever()
asyncio.run(main())
"""  # noqa: E501
_SCHEMA: Any = {
    "type": "object",
    "required": ["id", "name", "depth", "lines"],
    "properties": {
        "id": {"type": "string", "pattern": "^B-"},
        "name": {"type": "string"},
        "depth": {"type": "number", "minimum": 0},
        "note": {"type": "string"},
        "lines": {
            "type": "array",
            "items": {
                "type": "object",
                "properties": {"side": {"enum": ["port", "starboard"]}, "count": {"type": "integer"}},
            },
        },
    },
}


def workspace(folder: Path, cases: int, steps: int) -> Workspace:
    home = init_workspace(folder / "work")
    answers = {"200": {"description": "x", "content": {"application/json": {"schema": _SCHEMA}}}}
    parameters = [{"name": "id", "in": "path", "required": True, "schema": {"type": "string"}}]
    paths = {
        "/berths/{id}": {"get": {"operationId": "getBerth", "parameters": parameters, "responses": answers}}
    }
    (folder / "quay.yaml").write_text(
        yaml.safe_dump({"openapi": "3.0.3", "info": {"title": "x", "version": "1"}, "paths": paths}), "utf-8"
    )
    [imported] = read_source(str(folder / "quay.yaml"), Access())
    keep(home, imported)
    listed = [
        {
            "workflowId": f"c{n}",
            "steps": [
                {
                    "stepId": f"s{k}",
                    "operationId": "getBerth",
                    "outputs": {"id": "$response.body#/id"},
                    "successCriteria": [{"condition": "$statusCode == 200"}],
                    "parameters": [
                        {
                            "name": "id",
                            "in": "path",
                            "value": f"$steps.s{k - 1}.outputs.id" if k else f"B-{n}",
                        }
                    ],
                }
                for k in range(steps)
            ],
        }
        for n in range(cases)
    ]
    suite = {
        "arazzo": "1.0.1",
        "info": {"title": "x", "version": "1"},
        "sourceDescriptions": [{"name": "quay", "url": "../definitions/quay/quay.yaml", "type": "openapi"}],
        "workflows": listed,
    }
    (home.suites / "many.arazzo.json").write_text(json.dumps(suite), "utf-8")
    return home


async def bare(url: str, count: int, jobs: int) -> None:
    async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=jobs)) as session:

        async def work(numbers: range) -> None:
            for number in numbers:
                async with session.get(f"{url}/berths/B-{number}", allow_redirects=False) as answer:
                    await answer.read()

        await asyncio.gather(*(work(range(start, count, jobs)) for start in range(jobs)))


PARTS = 20
"""Parts of a round that alternate with the bare loop: this machine's speed changes from second to second."""


def _timed(work: Any) -> float:
    started = time.process_time()
    asyncio.run(work)
    return time.process_time() - started


def main() -> None:
    cases = int(sys.argv[1]) if len(sys.argv) > 1 else 5_000
    rounds = int(sys.argv[2]) if len(sys.argv) > 2 else 3
    steps, jobs = 3, 8
    server = subprocess.Popen([sys.executable, "-c", _SERVER], stdout=subprocess.PIPE, text=True)
    try:
        assert server.stdout is not None
        url = f"http://127.0.0.1:{server.stdout.readline().strip()}"
        with tempfile.TemporaryDirectory() as name:
            home = workspace(Path(name), cases, steps)
            started = time.process_time()
            [suite], everything = read_suites(home, [home.suites / "many.arazzo.json"])
            print(f"reading {cases:,} cases of {steps} steps: {time.process_time() - started:.2f} s")
            ratios, keys = [], list(suite.cases)
            size = max(1, len(keys) // PARTS)
            for _ in range(rounds):
                loops, ours = [], []
                for start in range(0, len(keys), size):
                    part = keys[start : start + size]
                    loops.append(_timed(bare(url, len(part) * steps, jobs)))
                    refs = tuple(CaseRef(suite.name, case.id) for case in part)
                    bound = bind(home, RunPlan(refs, url, jobs=jobs), given=([suite], everything))
                    with open_ledger(home.ledger_path, write=True) as ledger:
                        ours.append(_timed(execute(bound, home.root, ledger, "many", lambda record: None)))
                ratios += [one / other for one, other in zip(ours, loops)]
                peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
                told = sum(loops) / cases / steps * 1e6, sum(ours) / cases / steps * 1e6
                print(
                    f"bare loop {told[0]:6.0f} us a request   ours {told[1]:6.0f} us a step   peak {peak} MB",
                    flush=True,
                )
            low, high = sorted(ratios)[len(ratios) // 10], sorted(ratios)[-1 - len(ratios) // 10]
            print(
                f"median of {len(ratios)} parts: {statistics.median(ratios):.2f} times a bare loop (most"
                f" between {low:.1f} and {high:.1f})"
            )
    finally:
        server.terminate()


if __name__ == "__main__":
    main()
