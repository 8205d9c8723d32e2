"""Plants small faults in our own code, one at a time, runs the tests that reach them, and lists those that
no test noticed.

    python benchmarks/own_faults.py                        80 lines of all rooms, chosen by the seed
    python benchmarks/own_faults.py run ledger --lines 40  of two rooms only
    python benchmarks/own_faults.py --map FILE             keeps the map, and takes it up again

A fault is a small change of the kind that people make: a negated condition, a limit off by one, a statement
left out, a truth value turned round, another operator, an early return. Every line that can hold one is
chosen with the same chance. The map says which tests reach which line; it is recorded by one run of all
tests with coverage (the dev extra has the library), also in the processes that the tests start. A line that
only an import reaches (a table, a default) asks the tests that reach any line of its file. A kept map of
older source is read by the lines that are still there; a changed line asks the tests of its neighbours.

The source is changed in a copy. A test run that is longer than its limit counts as noticed.
"""

from __future__ import annotations

import argparse
import ast
import json
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from collections import defaultdict
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from difflib import SequenceMatcher
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parent.parent
LIMIT = 900
"""Seconds that the tests of one fault may take; longer counts as noticed."""
ASKED = 600
"""Seconds of tests, by the map (with coverage, beside others), that are asked for one fault: those of its own
room first, then the quickest."""
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
PLUGIN = """
import json, os, time
import coverage
import pytest

@pytest.hookimpl(hookwrapper=True)
def pytest_runtest_protocol(item, nextitem):
    current = coverage.Coverage.current()
    if current is not None:
        current.switch_context(item.nodeid)
    began = time.monotonic()
    yield
    with open(os.environ["OWN_FAULTS_TIMES"], "a") as out:
        out.write(json.dumps([item.nodeid, round(time.monotonic() - began, 3)]) + "\\n")
    if current is not None:
        current.switch_context("")
"""
"""In each test process: the context of its lines is the test that runs, and its seconds are written down."""
SETTINGS = """
[run]
parallel = true
data_file = {folder}/lines/data
source = {folder}/src
context = ${{PYTEST_CURRENT_TEST-}}
patch = _exit, fork
sigterm = true
disable_warnings = no-data-collected, module-not-imported, module-not-measured, no-ctracer
"""


@dataclass(frozen=True)
class Fault:
    """One change of one file."""

    path: str
    line: int
    what: str
    start: int
    end: int
    text: str
    """What stands in the file in place of what lies between the offsets, in bytes of UTF-8."""


@dataclass
class Map:
    """Which tests reach a line, and how long they take."""

    seconds: dict[str, float]
    reached: dict[str, dict[int, list[str]]] = field(default_factory=dict)
    """Tests by file and line; none where only an import comes by."""

    def asked(self, path: str, line: int) -> list[str]:
        """The tests to ask about a line, those of its room first, then quickest first, within `ASKED`
        seconds.
        """
        room = path.removeprefix("src/juxtalogos/").partition("/")[0]
        tests = self.reached.get(path, {}).get(line)
        if tests == []:
            tests = sorted({name for names in self.reached[path].values() for name in names})
        chosen, spent = [], 0.0
        for name in sorted(
            tests or [],
            key=lambda name: (not name.startswith(f"tests/{room}/"), self.seconds.get(name, 1.0), name),
        ):
            spent += self.seconds.get(name, 1.0)
            if chosen and spent > ASKED:
                break
            chosen.append(name)
        return chosen


def copied(folder: Path) -> Path:
    """A copy of what the tests need."""
    for part in ("src", "tests", "docs"):
        shutil.copytree(
            ROOT / part, folder / part, ignore=shutil.ignore_patterns("__pycache__", "*.egg-info")
        )
    for part in ("pyproject.toml", "README.md", "CHANGELOG.md", "CONTRIBUTING.md"):
        shutil.copy(ROOT / part, folder / part)
    return folder


def moved(lines: dict[str, list[str]], before: list[str], after: list[str]) -> dict[int, list[str]]:
    """The tests of each line of a file as it is now, from those of the lines as they were."""
    found: dict[int, list[str]] = {}
    for what, start, end, first, last in SequenceMatcher(None, before, after, False).get_opcodes():
        if what == "equal":
            for line in range(start, end):
                if str(line + 1) in lines:
                    found[first + line - start + 1] = lines[str(line + 1)]
        else:
            around = [lines.get(str(line), []) for line in range(max(start - 2, 0), end + 4)]
            tests = sorted({name for names in around for name in names})
            found |= dict.fromkeys(range(first + 1, last + 1), tests)
    return found


def recorded(folder: Path, kept: Path | None) -> Map:
    """The map of this source: the kept one, otherwise a run of the tests makes it."""
    if kept is not None and kept.exists():
        saved = json.loads(kept.read_text())
        command = [sys.executable, "-m", "pytest", "-q", "--collect-only", "-o", "addopts=", "tests"]
        listed = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=True)
        present = set(listed.stdout.splitlines())
        reached = {
            path: moved(
                {line: [name for name in names if name in present] for line, names in lines.items()},
                saved["text"][path],
                (folder / path).read_text().splitlines(),
            )
            for path, lines in saved["reached"].items()
            if (folder / path).exists()
        }
        return Map(saved["seconds"], reached)
    import coverage

    (folder / "lines").mkdir()
    (folder / "plugin").mkdir()
    (folder / "plugin" / "own_faults_plugin.py").write_text(PLUGIN)
    (folder / "coveragerc").write_text(SETTINGS.format(folder=folder))
    environment = {
        **os.environ,
        "CI": "true",
        "PYTHONPATH": f"{folder / 'src'}{os.pathsep}{folder / 'plugin'}",
        "COVERAGE_PROCESS_START": str(folder / "coveragerc"),
        "OWN_FAULTS_TIMES": str(folder / "times"),
    }
    command = [sys.executable, "-m", "pytest", "-q", "-n", "2", "--dist", "worksteal", "-o", "addopts="]
    command += ["-m", "not slow", "-p", "own_faults_plugin", "-p", "no:cacheprovider", "tests"]
    print("all tests run once, to see which come by which line", flush=True)
    done = subprocess.run(command, cwd=folder, env=environment, capture_output=True, text=True)
    failed = [line for line in done.stdout.splitlines() if line.startswith(("FAILED", "ERROR"))]
    print(*failed, done.stdout.splitlines()[-1] if done.stdout else done.stderr, sep="\n", flush=True)
    data = coverage.CoverageData(str(folder / "lines" / "all"))
    for part in (folder / "lines").glob("data.*"):
        one = coverage.CoverageData(str(part))
        try:
            one.read()
        except coverage.exceptions.DataError:
            continue  # of a process that a test killed while it wrote
        data.update(one)
    reached: dict[str, dict[int, list[str]]] = {}
    for name in data.measured_files():
        path = str(Path(name).relative_to(folder))
        by_line = data.contexts_by_lineno(name)
        reached[path] = {
            line: sorted({test_of(context) for context in contexts} - {""})
            for line, contexts in by_line.items()
        }
    seconds = dict(json.loads(line) for line in (folder / "times").read_text().splitlines())
    if kept is not None:
        text = {path: (folder / path).read_text().splitlines() for path in reached}
        kept.write_text(json.dumps({"text": text, "seconds": seconds, "reached": reached}))
    return Map(seconds, reached)


def test_of(context: str) -> str:
    """The test of a context. In a process that another one forked it stands behind that of its parent:
    `FIRST (call)|SECOND (call)`.
    """
    return re.sub(r"^.* \((?:setup|call|teardown)\)\|", "", context).split(" (")[0]


def faults_of(folder: Path, path: str) -> Iterator[Fault]:
    """Every fault that can be planted in a file. What only a reader or a type checker sees has none."""
    source = (folder / path).read_bytes()
    tree = ast.parse(source)
    starts = [0]
    for line in source.splitlines(keepends=True):
        starts.append(starts[-1] + len(line))
    for node in running(tree):
        for what, made in changes(node):
            yield Fault(
                path,
                node.lineno,
                what,
                starts[node.lineno - 1] + node.col_offset,
                starts[node.end_lineno - 1] + node.end_col_offset,
                made,
            )


def running(node: ast.AST) -> Iterator[Any]:
    """The nodes below one that run: no annotations, decorators, or imports for types."""
    for name, value in ast.iter_fields(node):
        if name in ("annotation", "returns", "decorator_list", "type_params"):
            continue
        for child in value if isinstance(value, list) else [value]:
            if not isinstance(child, ast.AST):
                continue
            if isinstance(child, ast.If) and ast.unparse(child.test) == "TYPE_CHECKING":
                continue
            if isinstance(child, ast.expr | ast.stmt):
                yield child
            yield from running(child)


def changes(node: ast.AST) -> Iterator[tuple[str, str]]:
    """The faults that a node can have: what was done, and the text in its place."""
    if isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in SWAPS:
        other = ast.Compare(node.left, [SWAPS[type(node.ops[0])]()], node.comparators)
        yield "comparison changed", f"({ast.unparse(other)})"
    if isinstance(node, ast.BoolOp):
        op = ast.Or() if isinstance(node.op, ast.And) else ast.And()
        yield "and for or", f"({ast.unparse(ast.BoolOp(op, node.values))})"
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
        yield "condition negated", f"bool({ast.unparse(node.operand)})"
    if isinstance(node, ast.IfExp):
        turned = ast.IfExp(ast.UnaryOp(ast.Not(), node.test), node.body, node.orelse)
        yield "condition negated", f"({ast.unparse(turned)})"
    if isinstance(node, ast.Constant) and isinstance(node.value, bool):
        yield "truth turned round", str(not node.value)
    if isinstance(node, ast.Constant) and type(node.value) is int:
        yield "off by one", str(node.value + 1)
    if isinstance(node, ast.Expr) and isinstance(node.value, ast.Call | ast.Await):
        yield "statement left out", "pass"
    if isinstance(node, ast.AugAssign):
        yield "statement left out", "pass"
    if isinstance(node, ast.Return) and node.value is not None and not isinstance(node.value, ast.Constant):
        yield "nothing returned", "return None"
    if isinstance(node, ast.Continue):
        yield "statement left out", "pass"


def noticed(folder: Path, fault: Fault, tests: list[str]) -> bool:
    """Whether one of the tests fails with a fault in place."""
    path = folder / fault.path
    before = path.read_bytes()
    path.write_bytes(before[: fault.start] + fault.text.encode() + before[fault.end :])
    names = folder / "asked"
    names.write_text("\n".join(tests))
    command = [sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:cacheprovider", "-o", "addopts="]
    environment = {**os.environ, "CI": "true", "PYTHONPATH": str(folder / "src")}
    try:
        done = subprocess.run(
            [*command, f"@{names}"], cwd=folder, env=environment, capture_output=True, timeout=LIMIT
        )
        return done.returncode != 0
    except subprocess.TimeoutExpired:
        return True
    finally:
        path.write_bytes(before)


def chosen(folder: Path, rooms: list[str], lines: int, seed: int) -> list[Fault]:
    """One fault on each of so many lines, each line with the same chance."""
    by_line: dict[tuple[str, int], list[Fault]] = defaultdict(list)
    for room in rooms:
        place = folder / "src" / "juxtalogos" / room
        for path in sorted(place.rglob("*.py")) if place.is_dir() else [place]:
            for fault in faults_of(folder, str(path.relative_to(folder))):
                by_line[fault.path, fault.line].append(fault)
    dice = random.Random(seed)
    places = dice.sample(sorted(by_line), min(lines, len(by_line)))
    return [dice.choice(by_line[place]) for place in places]


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("rooms", nargs="*", default=["."], help="folders or files below src/juxtalogos")
    parser.add_argument("--lines", type=int, default=80, help="how many lines get a fault, one each")
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--map", type=Path, help="where the map is kept")
    parser.add_argument("--at-once", type=int, default=2, help="faults tried at the same time")
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        first = copied(Path(name) / "0")
        known = recorded(first, args.map)
        folders = [first, *(copied(Path(name) / str(number)) for number in range(1, args.at_once))]
        faults = chosen(first, args.rooms, args.lines, args.seed)
        free, lock = list(folders), threading.Lock()
        began = time.monotonic()

        def tried(fault: Fault) -> tuple[Fault, bool, bool]:
            tests = known.asked(fault.path, fault.line)
            with lock:
                folder = free.pop()
            seen = bool(tests) and noticed(folder, fault, tests)
            with lock:
                free.append(folder)
            told = "noticed" if seen else "survived"
            where = f"{fault.path.removeprefix('src/juxtalogos/')}:{fault.line}"
            print(f"{told:9} {where} {fault.what}{'' if tests else ' (no test comes by)'}", flush=True)
            return fault, seen, bool(tests)

        with ThreadPoolExecutor(args.at_once) as pool:
            results = list(pool.map(tried, faults))
    by_room: dict[str, list[bool]] = defaultdict(list)
    for fault, seen, _ in results:
        by_room[fault.path.removeprefix("src/juxtalogos/").partition("/")[0]].append(seen)
    print("\nroom            faults  noticed")
    for room, seens in sorted(by_room.items()):
        print(f"{room:15} {len(seens):6} {100 * sum(seens) // len(seens):7} %")
    total = sum(seen for _, seen, _ in results)
    unreached = sum(not tests for *_, tests in results)
    print(
        f"{len(results)} faults planted, {100 * total / max(len(results), 1):.0f} % noticed,"
        f" {unreached} where no test comes by, {time.monotonic() - began:.0f} s"
    )
    print("not noticed:")
    for fault, seen, _ in sorted(results, key=lambda result: (result[0].path, result[0].line)):
        if not seen:
            print(f"  {fault.path}:{fault.line} {fault.what}: {fault.text[:80]}")


if __name__ == "__main__":
    main()
