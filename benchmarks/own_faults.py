"""Plants small faults in our own code, one at a time, runs the tests that reach them, and lists those that
nobody noticed.

    python benchmarks/own_faults.py run ledger            rooms to plant in
    python benchmarks/own_faults.py run --faults 60       so many, chosen by the seed
    python benchmarks/own_faults.py ledger --seed 7

A fault is a small change of the kind that people make: a negated condition, a limit off by one, a statement
left out, a
truth value turned round, another operator, an early return. The tests that reach a line are found by running
each test
file once with coverage of lines; a file whose tests never come by is not asked. The source is changed in a
copy.
"""

from __future__ import annotations

import argparse
import ast
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parent.parent
LIMIT = 150
"""Seconds that the tests of one fault may take; longer counts as noticed."""
SWAPS: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE,
    ast.LtE: ast.Lt,
    ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
}
TRACER = """
import json, os, sys, threading
_found = {}
_root = os.environ["OWN_FAULTS_SOURCE"]
def _local(frame, event, argument):
    if event == "line":
        _found.setdefault(frame.f_code.co_filename, set()).add(frame.f_lineno)
    return _local
def _trace(frame, event, argument):
    return _local if frame.f_code.co_filename.startswith(_root) else None
def _write():
    name = os.path.join(os.environ["OWN_FAULTS_LINES"], f"{os.getpid()}.json")
    with open(name, "w") as out:
        json.dump({key: sorted(value) for key, value in _found.items()}, out)
if "OWN_FAULTS_LINES" in os.environ:
    import atexit
    sys.settrace(_trace)
    threading.settrace(_trace)
    atexit.register(_write)
"""
"""Runs in each process of a test run, also in those that tests start."""


@dataclass(frozen=True)
class Fault:
    """One change of one file."""

    path: Path
    line: int
    what: str
    text: str
    """The whole file with the fault in it."""


def faults_of(path: Path) -> Iterator[Fault]:
    """Every fault that can be planted in a file."""
    source = path.read_text("utf-8")
    for number, node in enumerate(ast.walk(ast.parse(source))):
        for what in changes(node):
            tree = ast.parse(source)
            found = next(one for count, one in enumerate(ast.walk(tree)) if count == number)
            if apply(tree, found, what):
                yield Fault(
                    path, getattr(node, "lineno", 0), what, ast.unparse(ast.fix_missing_locations(tree))
                )


def changes(node: ast.AST) -> Iterator[str]:
    """The faults that a node can have."""
    if isinstance(node, ast.If | ast.While | ast.IfExp):
        yield "condition negated"
    if isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in SWAPS:
        yield "comparison changed"
    if isinstance(node, ast.BoolOp):
        yield "and for or"
    if isinstance(node, ast.Constant) and isinstance(node.value, bool):
        yield "truth turned round"
    if isinstance(node, ast.Constant) and type(node.value) is int:
        yield "off by one"
    if isinstance(node, ast.Expr) and isinstance(node.value, ast.Call | ast.Await):
        yield "statement left out"
    if isinstance(node, ast.Return) and node.value is not None and not isinstance(node.value, ast.Constant):
        yield "nothing returned"
    if isinstance(node, ast.AugAssign):
        yield "statement left out"


def apply(tree: ast.AST, node: ast.AST, what: str) -> bool:
    """Makes a change in place."""
    if what == "condition negated" and isinstance(node, ast.If | ast.While | ast.IfExp):
        node.test = ast.UnaryOp(ast.Not(), node.test)
    elif what == "comparison changed" and isinstance(node, ast.Compare):
        node.ops = [SWAPS[type(node.ops[0])]()]
    elif what == "and for or" and isinstance(node, ast.BoolOp):
        node.op = ast.Or() if isinstance(node.op, ast.And) else ast.And()
    elif what in ("truth turned round", "off by one") and isinstance(node, ast.Constant):
        node.value = (not node.value) if isinstance(node.value, bool) else int(str(node.value)) + 1
    elif what == "nothing returned" and isinstance(node, ast.Return):
        node.value = ast.Constant(None)
    elif what == "statement left out":
        for parent in ast.walk(tree):
            for name, body in ast.iter_fields(parent):
                if isinstance(body, list) and node in body:
                    body[body.index(node)] = ast.Pass()
                    setattr(parent, name, body)
                    return True
        return False
    return True


def run(folder: Path, files: list[str], limit: float, lines: Path | None = None) -> int | None:
    """The exit status of some test files on a copy of the source; None when they took too long."""
    environment = {
        **os.environ,
        "PYTHONPATH": f"{folder / 'src'}{os.pathsep}{folder / 'tracer'}",
        "CI": "true",
    }
    if lines is not None:
        environment |= {"OWN_FAULTS_LINES": str(lines), "OWN_FAULTS_SOURCE": str(folder / "src")}
    command = [
        sys.executable,
        "-m",
        "pytest",
        "-q",
        "-x",
        "-p",
        "no:cacheprovider",
        "-o",
        "addopts=",
        "-n",
        "2",
        "--dist",
        "loadfile",
        *files,
    ]
    try:
        done = subprocess.run(command, cwd=folder, env=environment, capture_output=True, timeout=limit)
    except subprocess.TimeoutExpired:
        return None
    return done.returncode


def reached(folder: Path, tests: list[str]) -> dict[str, dict[str, set[int]]]:
    """For each test file the lines of ours that it comes by, by path."""
    found: dict[str, dict[str, set[int]]] = {}
    for test in tests:
        with tempfile.TemporaryDirectory() as lines:
            run(folder, [test], 4 * LIMIT, Path(lines))
            merged: dict[str, set[int]] = {}
            for part in Path(lines).glob("*.json"):
                for name, numbers in json.loads(part.read_text()).items():
                    merged.setdefault(str(Path(name).relative_to(folder)), set()).update(numbers)
            found[test] = merged
        print(f"  {test}: {sum(map(len, merged.values()))} lines", flush=True)
    return found


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument(
        "rooms", nargs="*", default=["run", "ledger"], help="folders or files below src/juxtalogos"
    )
    parser.add_argument("--faults", type=int, default=40)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument(
        "--tests", nargs="*", default=[], help="test files to ask; all that come by when left out"
    )
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for part in ("src", "tests", "docs"):
            shutil.copytree(
                ROOT / part, folder / part, ignore=shutil.ignore_patterns("__pycache__", "*.egg-info")
            )
        for part in ("pyproject.toml", "README.md"):
            shutil.copy(ROOT / part, folder / part)
        (folder / "tracer").mkdir()
        (folder / "tracer" / "sitecustomize.py").write_text(TRACER)
        tests = args.tests or sorted(f"tests/{path.name}" for path in (folder / "tests").glob("test_*.py"))
        print("which tests come by which lines:", flush=True)
        lines = reached(folder, tests)
        places = [folder / "src" / "juxtalogos" / room for room in args.rooms]
        paths = sorted(
            one for place in places for one in (place.rglob("*.py") if place.is_dir() else [place])
        )
        candidates = [fault for path in paths for fault in faults_of(path)]
        chosen = random.Random(args.seed).sample(candidates, min(args.faults, len(candidates)))
        survivors, unreached, began = [], 0, time.monotonic()
        for number, fault in enumerate(chosen, 1):
            relative = str(fault.path.relative_to(folder))
            asked = [test for test in tests if fault.line in lines[test].get(relative, ())]
            asked.sort(key=lambda test: len(lines[test]))
            before = fault.path.read_text("utf-8")
            fault.path.write_text(fault.text, "utf-8")
            try:
                status = run(folder, asked, LIMIT) if asked else 0
            finally:
                fault.path.write_text(before, "utf-8")
            if status == 0:
                survivors.append(fault)
                unreached += not asked
            told = "survived" if status == 0 else "noticed"
            print(
                f"{number:4} {told:9} {relative}:{fault.line} {fault.what}"
                + ("" if asked else " (no test comes by)"),
                flush=True,
            )
        share = 100 * (len(chosen) - len(survivors)) / max(len(chosen), 1)
        print(
            f"{len(chosen)} of {len(candidates)} faults planted, {share:.0f} % noticed, {unreached} where no"
            f" test comes by, {time.monotonic() - began:.0f} s"
        )


if __name__ == "__main__":
    main()
