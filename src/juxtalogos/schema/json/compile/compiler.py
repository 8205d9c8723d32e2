"""Compiling: a node -> a specialised Python function that says whether a value has no deviation at all.

The function sets a flag for each element that the value hits. It answers True only when the interpreter would
find nothing, not even something advisory; whatever it doubts it answers False, and the interpreter says what
is
wrong. So the valid path pays nothing for paths and messages, and there is one source of verdicts.

Every name and value of a definition enters the source as a `repr`ed constant or a bound variable, never as
text.
"""

from __future__ import annotations

from typing import Any

from juxtalogos.schema.json.check.interpreter import Record, follow
from juxtalogos.schema.json.compile.growth import grows
from juxtalogos.schema.json.compile.node_writer import NodeWriter
from juxtalogos.schema.json.compile.tables import Compiled, Tables
from juxtalogos.schema.json.tree.nodes import Node
from juxtalogos.schema.json.tree.store import BadReference
from juxtalogos.schema.json.tree.walk import children

MOST_NODES = 20_000


class Compiler(Tables):
    """Compiles the nodes of one store in one direction."""

    def can_compile(self, node: Node) -> bool:
        """Dynamic references, `unevaluated` keywords and a parent's discriminator look beyond one schema:
        those stay with the interpreter.
        """
        seen: set[int] = set()
        waiting = [node]
        while waiting:
            current = waiting.pop()
            if id(current) in seen:
                continue
            seen.add(id(current))
            if len(seen) > MOST_NODES:
                return False  # what would be written is too large to be worth it
            for rule in current.rules:
                if rule.op.startswith("unevaluated") or rule.op == "discriminator":
                    return False
                if rule.op == "ref":
                    if rule.operand.mode != "static":
                        return False
                    try:
                        waiting.append(follow(rule.operand, self.context))
                    except BadReference:
                        return False
                else:
                    waiting += children(rule)
        return not grows(node, self.context)

    def function(self, node: Node) -> Compiled:
        """The function of a node, compiled when it is first asked for, with all functions it calls."""
        key = (id(node), id(node))
        if key not in self.functions:
            self.build(node, node)
        return self.functions[key]

    def build(self, node: Node, home: Node) -> None:
        """Writes and compiles the function of a node, and all that it calls."""
        waiting = [(node, home)]
        sources: list[str] = []
        built: dict[tuple[int, int], str] = {}
        while waiting:
            node, home = waiting.pop()
            key = (id(node), id(home))
            name = self.name_of(node, home)
            if key in self.functions or key in built:
                continue
            writer = NodeWriter(self, waiting)
            writer.node(node, home, "v")
            sources.append(writer.source(name))
            built[key] = name
        exec(compile("\n".join(sources), "<schema>", "exec"), self.globals)
        for key, name in built.items():
            self.functions[key] = self.globals[name]

    def passes(self, node: Node, value: Any, hits: list[Record] | None) -> bool:
        """Whether a value is sound at once; then what it hit is added."""
        records: list[Record] = []
        if not self.function(node)(value, records):
            return False
        if hits is not None:
            hits += records
        return True
