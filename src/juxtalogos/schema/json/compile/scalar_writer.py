"""Writes the checks of single values into a function: types, texts, numbers, enumerations and constants."""

from __future__ import annotations

from juxtalogos.documents.jsonvalues import key_of
from juxtalogos.schema.json.check.formats import COMMON, NUMBER_FORMATS, TEXT_FORMATS
from juxtalogos.schema.json.compile.exclusive_branches import JSON_TYPES
from juxtalogos.schema.json.compile.source import Lines
from juxtalogos.schema.json.tree.nodes import Node, Rule

NUMBER_LIMITS = ("minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum")


class Scalars(Lines):
    """What a function says of single values."""

    def exact_type(self, name: str, var: str) -> None:
        """Refuses another type than this one."""
        if name in JSON_TYPES:
            self.refuse(f"type({var}) is not {JSON_TYPES[name]}")
        elif name == "number":
            self.refuse(f"type({var}) is not float and type({var}) is not int")
        elif name == "integer":
            self.refuse(f"type({var}) is not int and not (type({var}) is float and {var}.is_integer())")
        else:
            self.refuse(f"type({var}) is not int")

    def not_one_of(self, allowed: tuple[str, ...], var: str) -> str:
        """The condition that a value is of none of some types."""
        parts = [f"type({var}) is {JSON_TYPES[name]}" for name in allowed if name in JSON_TYPES]
        if "number" in allowed:
            parts.append(f"type({var}) is int or type({var}) is float")
        elif "integer" in allowed:
            parts.append(f"type({var}) is int or (type({var}) is float and {var}.is_integer())")
        elif "strict integer" in allowed:
            parts.append(f"type({var}) is int")
        return f"not ({' or '.join(parts)})"

    def text(self, rules: dict[str, Rule], var: str) -> None:
        """Writes the rules about texts."""
        for op in ("minLength", "maxLength"):
            if op in rules:
                self.limit(rules[op], f"len({var})")
        if "pattern" in rules:
            self.refuse(f"not {self.compiler.search(rules['pattern'].operand)}({var})")
        name = rules["format"].operand[0] if "format" in rules else ""
        if name in TEXT_FORMATS:
            check = f"not {self.compiler.bind(TEXT_FORMATS[name])}({var})"
            self.refuse(
                f"not {self.compiler.bind(COMMON[name])}({var}) and {check}" if name in COMMON else check
            )

    def number(self, rules: dict[str, Rule], var: str) -> None:
        """Writes the rules about numbers."""
        for op in NUMBER_LIMITS:
            if op in rules:
                self.limit(rules[op], var)
        if "multipleOf" in rules:
            self.refuse(f"not multiple({var}, {self.compiler.bind(rules['multipleOf'].operand)})")
        if "format" in rules and rules["format"].operand[0] in NUMBER_FORMATS:
            self.refuse(f"not format_holds({rules['format'].operand[0]!r}, {var})")

    def rule_enum(self, rule: Rule, node: Node, var: str, allowed: tuple[str, ...]) -> None:
        """Writes an enumeration."""
        numbers = {key_of(member): self.compiler.enum_number(rule, member) for member in rule.operand}
        table, seen = self.compiler.bind(numbers), self.fresh()
        key = var
        if not all(type(member) is str for member in rule.operand):
            key = f"key_of({var})"
        elif allowed != ("string",):
            self.refuse(f"type({var}) is not str")  # the key of a text is the text
        if not self.compiler.counting:
            self.refuse(f"{key} not in {table}")
        elif self.loops:
            self.put(f"if {key} not in {seen}:")
            self.put(f"    if {key} not in {table}: {self.failing}")
            self.put(f"    {seen}.add({key})")
            self.members.append((seen, table, True))
        else:
            self.put(f"{seen} = {table}.get({key})")
            self.refuse(f"{seen} is None")
            self.members.append((seen, table, False))

    def rule_const(self, rule: Rule, var: str) -> None:
        """Writes a constant."""
        if type(rule.operand) is str:
            self.refuse(f"{var} != {self.compiler.bind(rule.operand)}")
        else:
            self.refuse(f"key_of({var}) != {self.compiler.bind(key_of(rule.operand))}")
