"""Planted faults: how many of them exploring finds, and how many a composed suite does.

Run by hand: python benchmarks/faults.py [fairways|tugs] [--every N] [--first K] [--compose] [--jobs 2]
[--show] [--only NAME]
Each fault is one change at one place of the service's source (tests/faulty/mutator.py). The service as it is
comes first: nothing may be told of it.
"""

from __future__ import annotations

import argparse
import importlib
import json
import os
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter, defaultdict
from concurrent.futures import ThreadPoolExecutor
from multiprocessing import get_context
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT / "tests"))

from faulty.mutator import Planted, module, planted  # noqa: E402

PROGRAM = [sys.executable, "-m", "juxtalogos"]
KEYS = {"FAIRWAY_KEY": "master-key-1", "FAIRWAY_CLERK": "clerk-key-1", "FAIRWAY_GUEST": "guest-key-1"}
SIGN_IN = """
[targets.local.credentials.key]
env = "FAIRWAY_KEY"
[targets.local.roles.clerk.credentials.key]
env = "FAIRWAY_CLERK"
[targets.local.roles.guest.credentials.key]
env = "FAIRWAY_GUEST"
"""


def serve(service: str, fault: str, pipe: Any) -> None:
    """In a process of its own: the service with a fault, until it is told to end."""
    made = next((one for one in planted(service) if one.name == fault), None)
    holder = module(made) if made is not None else importlib.import_module(f"faulty.{service}")
    with getattr(holder, service.capitalize())().serving() as url:
        pipe.send(url)
        pipe.recv()


def prepare(service: str, home: Path, url: str) -> Any:
    """A workspace with the definition and the target; what runs the program in it."""
    env = {**os.environ, **KEYS, "HOME": str(home / "user")}
    suffix = "wsdl" if service == "tugs" else "yaml"

    def go(*words: object) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [*PROGRAM, *map(str, words), "-C", str(home)],
            capture_output=True,
            text=True,
            env=env,
            check=False,
        )

    subprocess.run([*PROGRAM, "init", str(home)], capture_output=True, env=env, check=True)
    go("import", ROOT / "tests" / "faulty" / f"{service}.{suffix}", "--name", service)
    go("targets", "set", "local", url)
    if service == "fairways":
        with (home / "juxtalogos.toml").open("a") as out:
            out.write(SIGN_IN)
        go("trust")
    return go


def tried(service: str, fault: str, compose: bool, all_of_it: bool = False) -> dict[str, Any]:
    """What is told of the service with a fault."""
    started = time.perf_counter()
    ours, theirs = get_context("spawn").Pipe()
    process = get_context("spawn").Process(target=serve, args=(service, fault, theirs), daemon=True)
    process.start()
    url = ours.recv()
    try:
        with tempfile.TemporaryDirectory() as folder:
            go = prepare(service, Path(folder), url)
            if compose:
                go("compose", service)
                done = go("run", "--json")
            else:
                done = go(
                    "explore",
                    service,
                    "--token",
                    "fault",
                    "--json",
                    *([] if all_of_it else ["--failures", "1"]),
                )
            try:
                told = json.loads(done.stdout)
            except ValueError:
                return {
                    "fault": fault,
                    "class": "broken",
                    "told": [done.stderr[-600:]],
                    "requests": 0,
                    "seconds": 0.0,
                }
    finally:
        ours.send(None)
        process.join(5)
        process.terminate()
    found = [(name, one) for name in ("findings", "lenient", "doubts") for one in told[name]]
    kinds = [
        f"{one['operation']} {one['kind']} {one['at']}: {one['declared']} / {one['observed']}"
        for _, one in found
    ]
    requests = sum(one["requests"] for one in told.get("explored", {}).values())
    return {
        "fault": fault,
        "class": found[0][0] if found else "",
        "told": kinds,
        "requests": requests,
        "seconds": time.perf_counter() - started,
    }


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("service", nargs="?", default="fairways", choices=("fairways", "tugs"))
    parser.add_argument("--every", type=int, default=1)
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--compose", action="store_true")
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--show", action="store_true", help="what was told of each")
    parser.add_argument("--only", default="", help="faults whose name has this in it")
    args = parser.parse_args()
    right = tried(args.service, "", args.compose, all_of_it=True)
    print(
        f"right: {len(right['told'])} told, {right['requests']} requests, {right['seconds']:.1f} s",
        *right["told"][:10],
        sep="\n  ",
    )
    faults = [one for one in planted(args.service) if args.only in one.name][args.first :: args.every]
    told = run_all(args, faults)
    summary(faults, told)


def run_all(args: argparse.Namespace, faults: list[Planted]) -> dict[str, dict[str, Any]]:
    told: dict[str, dict[str, Any]] = {}
    lock = threading.Lock()

    def one(fault: Planted) -> None:
        result = tried(args.service, fault.name, args.compose)
        with lock:
            told[fault.name] = result
            if args.show or not result["class"] or result["class"] == "broken":
                print(
                    f"{result['class'] or 'NOT FOUND':10} {fault.name:60} {fault.what}  {result['told'][:1]}",
                    flush=True,
                )

    with ThreadPoolExecutor(args.jobs) as pool:
        list(pool.map(one, faults))
    return told


def summary(faults: list[Planted], told: dict[str, dict[str, Any]]) -> None:
    for title, key in (("operator", lambda one: one.operator), ("family", lambda one: one.family)):
        counts: dict[str, Counter[str]] = defaultdict(Counter)
        for fault in faults:
            counts[key(fault)]["planted"] += 1
            counts[key(fault)]["found"] += bool(told[fault.name]["class"])
        print(f"\n{title:30} planted  found")
        for name, row in sorted(counts.items()):
            print(f"{name:30} {row['planted']:7}  {row['found']:5}")
    classes = Counter(one["class"] or "not found" for one in told.values())
    found = sum(bool(one["class"]) for one in told.values())
    requests = sorted(one["requests"] for one in told.values())
    print(
        f"\n{found} of {len(told)} found ({100 * found / max(1, len(told)):.1f} %): {dict(classes)}; requests"
        f" until then: median {requests[len(requests) // 2]}"
    )


if __name__ == "__main__":
    main()
