"""The structure that is meant: no import circle, no protocol's name above the formats, every public function
told, one name for one thing.
"""

from __future__ import annotations

import ast
import re
from collections import Counter
from pathlib import Path

from conftest import ROOT

SOURCE = ROOT / "src"
FILES = sorted((SOURCE / "juxtalogos").rglob("*.py"))
TREES = {path: ast.parse(path.read_text("utf-8")) for path in FILES}
ABOVE = ("cli", "report", "explore", "run", "compose", "suite", "ledger", "workspace", "check", "coverage")
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


_CODES = re.compile(r"\b(?:100|20[0-8]|226|30[0-8]|4[0-4]\d|451|50[0-8]|[1-5]XX)\b")
_METHODS = re.compile(r"\b(?:GET|HEAD|POST|PUT|PATCH|DELETE|OPTIONS|TRACE)\b")
_FIELDS = re.compile(
    r"etag|if-(?:none-)?match|location|link|allow|retry-after|content-type|www-authenticate|accept|authorization"
    r"|set-cookie|x-http-method|prefer",
    re.IGNORECASE,
)
_KEYWORDS = {
    "allOf", "oneOf", "anyOf", "additionalProperties", "minLength", "maxLength", "maximum", "minimum", "multipleOf",
    "minItems", "maxItems", "uniqueItems", "nullable", "readOnly", "writeOnly", "enumeration", "minInclusive",
    "maxInclusive", "minExclusive", "maxExclusive", "totalDigits", "fractionDigits", "minOccurs", "maxOccurs",
}  # fmt: skip
_INTERNALS = re.compile(r"^juxtalogos\.schema\.(?:json|xml)\.")
KNOWN = {
    "cli": {"call.py"},  # the method of a call without a definition, as a person types it
    "suite": {"pins.py"},  # header fields that are offered for pinning
}
"""Files in which a person's own words for methods and fields stand; nothing is inferred from them."""


def _protocol_words(path: Path, tree: ast.Module) -> list[str]:
    """Statuses, methods, header fields and schema keywords among the constants of a file, docstrings and help
    aside.
    """
    silent = {
        id(node)
        for node in ast.walk(tree)
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant)
    }
    texts = {id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr) and id(node) in silent}
    for node in ast.walk(tree):
        if isinstance(node, ast.Assign) and getattr(node.targets[0], "id", "") in (
            "DESCRIPTION",
            "EXAMPLE",
            "SUMMARY",
        ):
            texts |= {id(part) for part in ast.walk(node.value)}
        if isinstance(node, ast.keyword) and node.arg in ("help", "mend", "metavar", "epilog", "description"):
            texts |= {id(part) for part in ast.walk(node.value)}
    found = []
    for node in ast.walk(tree):
        if not isinstance(node, ast.Constant) or id(node) in texts:
            continue
        value = node.value
        if isinstance(value, str) and (
            (len(value) < 60 and "$status" in value and re.search(r"\d{3}", value))
            or _METHODS.fullmatch(value)
            or _FIELDS.fullmatch(value)
            or value in _KEYWORDS
            or (_CODES.fullmatch(value) is not None)
        ):
            found.append(f"{path.name}:{node.lineno} {value!r}")
    return found


def test_nothing_above_the_formats_knows_a_status_a_method_a_field_or_a_keyword() -> None:
    """Whatever stands in constants, comparisons and call arguments; statuses as numbers where they are
    compared.
    """
    found = []
    for path, tree in TREES.items():
        room = path.relative_to(SOURCE / "juxtalogos").parts[0]
        if room not in ABOVE or path.name in KNOWN.get(room, ()):
            continue
        found += _protocol_words(path, tree)
        for node in ast.walk(tree):
            if isinstance(node, ast.Compare) and re.search(r"\bstatus\b", ast.unparse(node)):
                numbers = [
                    one.value
                    for one in ast.walk(node)
                    if isinstance(one, ast.Constant) and type(one.value) is int
                ]
                found += [
                    f"{path.name}:{node.lineno} {ast.unparse(node)}" for one in numbers if 100 <= one <= 599
                ]
            if isinstance(node, ast.Compare) and re.search(
                r"operation\.(method|path|facts)\b", ast.unparse(node)
            ):
                found.append(f"{path.name}:{node.lineno} {ast.unparse(node)}")
    assert not found, "\n".join(found)


def test_nothing_above_the_formats_reaches_into_a_schema_engine() -> None:
    found = []
    for path, tree in TREES.items():
        if path.relative_to(SOURCE / "juxtalogos").parts[0] not in ABOVE:
            continue
        for node in ast.walk(tree):
            if isinstance(node, ast.ImportFrom) and _INTERNALS.match(node.module or ""):
                found.append(f"{path.name}:{node.lineno} {node.module}")
            if isinstance(node, ast.Attribute) and ast.unparse(node) in ("schema.node", "self.schema.node"):
                found.append(f"{path.name}:{node.lineno} {ast.unparse(node)}")
    assert not found, "\n".join(found)


def test_every_public_function_is_told() -> None:
    """But for the stand-ins of the demo, what a protocol tells already, and what says all in one line."""
    bare: list[str] = []

    def look(path: Path, body: list[ast.stmt]) -> None:
        command = {"add_arguments", "run"} if path.parent.name == "commands" else set()
        for node in body:
            if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                if not re.match(
                    r"See `|One open file|As many|`processes`|A source that|A `Wire` |A wire form ",
                    ast.get_docstring(node) or "",
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
