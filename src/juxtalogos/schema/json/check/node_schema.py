"""A schema as those that make and tell values know it: a node, and how values are checked by it."""

from __future__ import annotations

from typing import Any, Protocol

from juxtalogos.model.findings import Deviation
from juxtalogos.model.schema import Direction
from juxtalogos.schema.json.check.interpreter import Context
from juxtalogos.schema.json.tree.nodes import Node
from juxtalogos.schema.json.tree.store import SchemaStore


class NodeSchema(Protocol):
    """One schema in one direction."""

    store: SchemaStore
    node: Node
    direction: Direction
    asserts_format: bool | None
    kinds: dict[str, Any]
    """Declared types by place, once they were asked for."""

    def context(self) -> Context:
        """For a check that begins."""

    def of(self, node: Node) -> NodeSchema:
        """Another schema of the same store, in the same direction."""

    def check(self, value: Any) -> tuple[Deviation, ...]: ...

    def accepts(self, value: Any) -> bool: ...

    def sample(self, *, full: bool = False, seed: int = 0) -> Any: ...
