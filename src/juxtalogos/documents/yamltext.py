"""YAML 1.2 text into JSON values: the C parser, the core schema, bounded depth and expansion.

PyYAML resolves by YAML 1.1 (`no`, `on`, dates become other values), so the resolvers of the 1.2 core schema
(YAML 1.2.2, section 10.3.2) stand here instead.
"""

from __future__ import annotations

import gc
import re
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import yaml

MAX_DEPTH = 400
MAX_NODES = 20_000_000
"""Nodes after expanding aliases."""

_Base: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


class NotYaml(ValueError):
    """The text is not YAML that can be used; line and column count from 1 (0: unknown)."""

    def __init__(self, what: str, line: int = 0, column: int = 0) -> None:
        super().__init__(what)
        self.line = line
        self.column = column


class CoreLoader(_Base):  # type: ignore[misc]
    """The C loader with the resolvers of the YAML 1.2 core schema."""

    yaml_implicit_resolvers: dict[str, Any] = {}  # noqa: RUF012  (PyYAML's own way to say it)


_NULL, _BOOL, _INT, _FLOAT = (f"tag:yaml.org,2002:{name}" for name in ("null", "bool", "int", "float"))
CoreLoader.add_implicit_resolver(_NULL, re.compile(r"^(?:~|null|Null|NULL|)$"), ["~", "n", "N", ""])
CoreLoader.add_implicit_resolver(_BOOL, re.compile(r"^(?:true|True|TRUE|false|False|FALSE)$"), list("tTfF"))
CoreLoader.add_implicit_resolver(_INT, re.compile(r"^(?:[-+]?[0-9]+|0o[0-7]+|0x[0-9a-fA-F]+)$"), list("-+0123456789"))
CoreLoader.add_implicit_resolver(
    _FLOAT,
    re.compile(
        r"^(?:[-+]?(?:\.[0-9]+|[0-9]+(?:\.[0-9]*)?)(?:[eE][-+]?[0-9]+)?|[-+]?\.(?:inf|Inf|INF)|\.(?:nan|NaN|NAN))$"
    ),
    list("-+.0123456789"),
)


@contextmanager
def _collector_paused() -> Iterator[None]:
    """Millions of young nodes make the collector scan in vain; figures in docs/performance.md."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


def compose_yaml(text: str) -> yaml.Node | None:
    """The node graph of a YAML text with its marks; NotYaml says what is wrong."""
    with _collector_paused():
        try:
            _check_depth(text)
            loader = CoreLoader(text)
            try:
                return loader.get_single_node()  # type: ignore[no-any-return]
            finally:
                loader.dispose()
        except yaml.YAMLError as error:
            mark = getattr(error, "problem_mark", None)
            what = str(getattr(error, "problem", None) or error).split("\n")[0]
            if mark is None:
                raise NotYaml(what) from None
            raise NotYaml(what, mark.line + 1, mark.column + 1) from None


def _check_depth(text: str) -> None:
    """Events first: the composer recurses in C, and a deep text would end the process."""
    depth = 0
    for event in yaml.parse(text, Loader=CoreLoader):
        if isinstance(event, yaml.CollectionStartEvent):
            depth += 1
            if depth > MAX_DEPTH:
                mark: Any = event.start_mark
                raise NotYaml(f"nested deeper than {MAX_DEPTH} levels", mark.line + 1, mark.column + 1)
        elif isinstance(event, yaml.CollectionEndEvent):
            depth -= 1


def parse_yaml(text: str) -> Any:
    """The JSON value of a YAML text. Keys are texts as written (`200:` is "200"); duplicates are refused."""
    node = compose_yaml(text)
    if node is None:
        return None
    with _collector_paused():
        return _Builder().build(node)


class _Builder:
    """Builds values from nodes; an alias shares its value, and its expanded size is counted."""

    def __init__(self) -> None:
        self.shared: dict[int, tuple[Any, int]] = {}
        self.open: set[int] = set()
        self.size = 0

    def build(self, node: yaml.Node) -> Any:
        known = self.shared.get(id(node))
        if known is not None:
            self._grow(known[1], node)
            return known[0]
        self._grow(1, node)
        if isinstance(node, yaml.ScalarNode):
            return _scalar(node)
        if id(node) in self.open:
            raise self._refuse("an alias stands inside its own anchor", node)
        self.open.add(id(node))
        before = self.size
        value = self._sequence(node) if isinstance(node, yaml.SequenceNode) else self._mapping(node)
        self.open.discard(id(node))
        self.shared[id(node)] = (value, self.size - before + 1)
        return value

    def _sequence(self, node: yaml.SequenceNode) -> list[Any]:
        return [self.build(item) for item in node.value]

    def _mapping(self, node: yaml.Node) -> dict[str, Any]:
        value: dict[str, Any] = {}
        for key, item in node.value:
            if not isinstance(key, yaml.ScalarNode):
                raise self._refuse("a mapping or list cannot be a key", key)
            if key.value in value:
                raise self._refuse(f"the key {key.value!r} stands twice in one mapping", key)
            value[key.value] = self.build(item)
        return value

    def _grow(self, count: int, node: yaml.Node) -> None:
        self.size += count
        if self.size > MAX_NODES:
            raise self._refuse(f"aliases expand to more than {MAX_NODES:,} values", node)

    @staticmethod
    def _refuse(what: str, node: yaml.Node) -> NotYaml:
        return NotYaml(what, *_place(node))


def _place(node: Any) -> tuple[int, int]:
    return node.start_mark.line + 1, node.start_mark.column + 1


def _scalar(node: yaml.ScalarNode) -> Any:
    text = node.value
    match node.tag:
        case "tag:yaml.org,2002:null":
            return None
        case "tag:yaml.org,2002:bool":
            return text in ("true", "True", "TRUE")
        case "tag:yaml.org,2002:int":
            return _integer(text, node)
        case "tag:yaml.org,2002:float":
            plain = text.lower().replace(".inf", "inf").replace(".nan", "nan")
            return float(plain)
    return text


def _integer(text: str, node: yaml.ScalarNode) -> int:
    try:
        if text.startswith(("0x", "0o")):
            return int(text, 0)
        return int(text)
    except ValueError:
        raise NotYaml("a number of too many digits", *_place(node)) from None
