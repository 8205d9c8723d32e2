"""Writes the source of compiled functions. Constants enter it by `repr` or as bound variables only."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from juxtalogos.schema.json.compile.tables import Tables, Told
from juxtalogos.schema.json.tree.nodes import Node, Rule

Broken = tuple[tuple[tuple[str | int, ...], Node], int, Any]
"""An item that was not passed: (path of its list in the value, its schema), its index, and itself."""
INLINE_BUDGET = 60
"""Rules that may be written into one function before a further schema gets a function of its own."""
_HOLDS = {
    "minimum": ">=",
    "maximum": "<=",
    "exclusiveMinimum": ">",
    "exclusiveMaximum": "<",
    "minLength": ">=",
    "maxLength": "<=",
    "minItems": ">=",
    "maxItems": "<=",
    "minProperties": ">=",
    "maxProperties": "<=",
}


class Lines:
    """The source of one function under way, with the local flags that note what is hit."""

    def __init__(self, compiler: Tables, waiting: list[tuple[Node, Node]]) -> None:
        self.compiler = compiler
        self.context = compiler.context
        self.waiting = waiting
        self.lines: list[str] = []
        self.indent = 0
        self.budget = INLINE_BUDGET
        self.above: list[int] = []
        self.loops = 0
        self.flags: dict[int, str] = {}
        """Element number -> the local variable that says it was hit; they are written to
        H once, at the end."""
        self.members: list[tuple[str, str, bool]] = []
        """(local variable, table, whether it is a set) of the enumerations met."""
        self.variables = itertools.count()
        self.way: tuple[str | int, ...] | None = ()
        """The path from the function's value to the one at hand; None where it is not fixed."""
        self.failing = "return False"

    def source(self, name: str) -> str:
        """The function: local flags first, then the checks, then one record of what was hit."""
        head = [f"{flag} = 0" for flag in self.flags.values()]
        head += [f"{variable} = {'set()' if is_set else 'None'}" for variable, _, is_set in self.members]
        parts = [
            *self.flags.values(),
            *(f"frozenset({variable})" if is_set else variable for variable, _, is_set in self.members),
        ]
        tail = []
        if parts:
            tables = tuple(
                self.compiler.globals[table] if is_set else None for _, table, is_set in self.members
            )
            told = self.compiler.bind(Told(tuple(self.flags), tables))
            tail = [f"H.append(({told}, {', '.join(parts)}))"]
        lines = [*head, *self.lines, *tail, "return True"]
        return f"def {name}(v, H, F=None):\n" + "".join(f"    {line}\n" for line in lines)

    def put(self, line: str) -> None:
        self.lines.append("    " * self.indent + line)

    def refuse(self, condition: str) -> None:
        self.put(f"if {condition}: {self.failing}")

    @contextmanager
    def at(self, *keys: str | int, fixed: bool = True) -> Iterator[None]:
        """What is written meanwhile is about a value further in."""
        way = self.way
        self.way = (*way, *keys) if way is not None and fixed else None
        yield
        self.way = way

    @contextmanager
    def whole(self) -> Iterator[None]:
        """What fails meanwhile fails the whole function: what a branch hit counts only if it fits."""
        way, failing = self.way, self.failing
        self.way, self.failing = None, "return False"
        yield
        self.way, self.failing = way, failing

    def fresh(self) -> str:
        return f"v{next(self.variables)}"

    def flag(self, number: int) -> str:
        return self.flags.setdefault(number, f"h{number}")

    def limit(self, rule: Rule, measured: str) -> None:
        """A limit; that it was just reached is only asked where the value is not well within, so that it
        costs nothing else.
        """
        limit, holds = self.constant(rule.operand), _HOLDS[rule.op]
        found = self.compiler.facet_numbers(rule) if self.compiler.counting else ()
        if not found:
            self.refuse(f"not {measured} {holds} {limit}")
            return
        self.put(f"if not {measured} {holds[0]} {limit}:")
        self.indent += 1
        self.refuse(f"not {measured} {holds} {limit}")
        self.put(f"{self.flag(found[0][1])} = 1")
        self.indent -= 1

    def constant(self, number: Any) -> str:
        """A number of the definition as a constant in the source."""
        return repr(number) if type(number) is int and abs(number) < 2**62 else self.compiler.bind(number)
