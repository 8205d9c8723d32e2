"""The structure that is meant: no import circle, no protocol's name above the formats, every public function
told, one name for one thing.
"""

from __future__ import annotations

import ast
import re
from collections import Counter
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src"
FILES = sorted((SOURCE / "juxtalogos").rglob("*.py"))
TREES = {path: ast.parse(path.read_text("utf-8")) for path in FILES}
ABOVE = ("cli", "report", "run", "compose", "suite", "ledger", "workspace", "check", "coverage")
"""Rooms that must not know which protocol a contract speaks."""


def module_of(path: Path) -> str:
    return path.relative_to(SOURCE).with_suffix("").as_posix().replace("/", ".").removesuffix(".__init__")


NAMES = {module_of(path) for path in FILES}


def imports() -> dict[str, set[str]]:
    """What each module imports of ours, also within functions and for types only."""
    graph: dict[str, set[str]] = {}
    for path, tree in TREES.items():
        me = module_of(path)
        found = graph.setdefault(me, set())
        for node in ast.walk(tree):
            if isinstance(node, ast.ImportFrom) and node.module:
                for one in node.names:
                    whole = f"{node.module}.{one.name}"
                    found |= {whole if whole in NAMES else node.module} & NAMES
            elif isinstance(node, ast.Import):
                found |= {one.name for one in node.names} & NAMES
        found.discard(me)
    return graph


def test_no_import_circle() -> None:
    graph = imports()
    left = dict(graph)
    while left:  # what imports nothing that is left goes; a circle never does
        free = [name for name, needs in left.items() if not needs & left.keys()]
        assert free, f"in a circle: {sorted(left)[:20]}"
        for name in free:
            del left[name]


def test_nothing_above_the_formats_names_a_protocol() -> None:
    """In code: names and texts that it compares with. Documentation strings and help may tell of them."""
    word = re.compile(r"soap|wsdl|openapi|odata|envelope|\bxsd\b", re.IGNORECASE)
    found = []
    for path, tree in TREES.items():
        room = path.relative_to(SOURCE / "juxtalogos").parts[0]
        if room not in ABOVE:
            continue
        for node in ast.walk(tree):
            names = [getattr(node, "id", ""), getattr(node, "attr", ""), getattr(node, "arg", "") or ""]
            if isinstance(node, ast.ImportFrom):
                names += [node.module or "", *(one.name for one in node.names)]
            if isinstance(node, ast.Compare | ast.Subscript | ast.Dict):
                names += [
                    one.value
                    for one in ast.walk(node)
                    if isinstance(one, ast.Constant) and isinstance(one.value, str)
                ]
            found += [
                f"{path.name}:{getattr(node, 'lineno', 0)} {name}"
                for name in names
                if isinstance(name, str) and word.search(name)
            ]
    assert not found


def test_nothing_above_the_formats_infers_meaning_from_methods_and_paths() -> None:
    found = []
    for path, tree in TREES.items():
        if path.relative_to(SOURCE / "juxtalogos").parts[0] not in ABOVE:
            continue
        for node in ast.walk(tree):
            if isinstance(node, ast.Compare):
                text = ast.unparse(node)
                if re.search(r"operation\.(method|path|facts)\b", text) and "workspace" not in path.parts:
                    found.append(f"{path.name}:{node.lineno} {text}")
    assert not found


def test_every_public_function_is_told() -> None:
    """But for the stand-ins of the demo, what a protocol tells already, and what says all in one line."""
    bare: list[str] = []

    def look(path: Path, body: list[ast.stmt]) -> None:
        command = {"add_arguments", "run"} if path.name.endswith("_command.py") else set()
        for node in body:
            if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                if not re.match(
                    r"See `|One open file|As many|`processes`|A source that", ast.get_docstring(node) or ""
                ):
                    look(path, node.body)
            elif isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef) and not node.name.startswith("_"):
                short = len(node.body) == 1 and isinstance(node.body[0], ast.Return | ast.Expr)
                if not ast.get_docstring(node) and not short and node.name not in command:
                    bare.append(f"{path.name}:{node.lineno} {node.name}")

    for path, tree in TREES.items():
        if "demo" not in path.parts:
            look(path, tree.body)
    assert not bare


def test_one_name_for_one_thing() -> None:
    """The name of a public class stands for one thing only."""
    names = Counter(
        node.name
        for path, tree in TREES.items()
        for node in tree.body
        if isinstance(node, ast.ClassDef) and not node.name.startswith("_") and "demo" not in path.parts
    )
    allowed = {"Matcher", "Documents"}
    """The same thing for two formats."""
    assert {name for name, count in names.items() if count > 1} <= allowed


TOLD = {
    "UsageError",
    "ConfigError",
    "LedgerError",
    "DocumentError",
    "SuiteError",
    "TrustError",
    "JuxtalogosError",
}


def test_every_error_says_how_to_mend_it_and_where() -> None:
    """A remedy always; the place always but for what was typed on the command line, which the message itself
    names.
    """
    raised = [
        (f"{module_of(path)}:{node.lineno} {node.func.id}", {one.arg: one.value for one in node.keywords})
        for path, tree in TREES.items()
        if "demo" not in path.parts
        for node in ast.walk(tree)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in TOLD
    ]
    assert len(raised) > 250
    empty = [name for name, said in raised if not _says(said.get("mend"))]
    assert not empty, "no remedy"
    nowhere = [
        name for name, said in raised if not name.endswith("UsageError") and not _says(said.get("where"))
    ]
    assert not nowhere, "no place"


def _says(value: ast.expr | None) -> bool:
    return value is not None and not (isinstance(value, ast.Constant) and not value.value)
