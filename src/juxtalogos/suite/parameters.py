"""Parameters: named values that a person sets once for many steps. They hold everywhere, at one target, or
in one suite.

Written as a plain value, or as a mapping with `type`, `value` and `formula`: one with a type and neither of
the others has no value yet.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from juxtalogos.documents.jsontext import NotJson, dump_json, parse_json
from juxtalogos.model.errors import UsageError, quoted
from juxtalogos.model.schema import ABSENT

KINDS = ("string", "integer", "number", "boolean", "object", "array")
"""Types of JSON that a parameter may have."""
_FORM = {"type", "value", "formula"}


@dataclass(frozen=True, slots=True)
class SharedParameter:
    """What is written of one."""

    kind: str = ""
    """Of `KINDS`; empty where none is declared."""
    value: Any = ABSENT
    formula: str = ""

    @classmethod
    def of(cls, written: Any) -> SharedParameter:
        """From a configuration or a suite; a mapping of another form is a value itself."""
        if isinstance(written, Mapping) and written.keys() <= _FORM:
            kind, formula = written.get("type", ""), written.get("formula", "")
            if (kind in KINDS or (formula and not kind)) and isinstance(formula, str):
                return cls(kind, written.get("value", ABSENT), formula)
        return cls("", written)

    @property
    def has_value(self) -> bool:
        return bool(self.formula) or self.value is not ABSENT

    @property
    def type(self) -> str:
        """The declared type, or that of the value; empty for a formula without one."""
        if self.kind or not self.has_value or self.formula:
            return self.kind
        return next((kind for kind in KINDS if is_of(self.value, kind)), "")

    @property
    def told(self) -> str:
        """The value, for a person."""
        if self.formula:
            return f"= {self.formula}"
        if self.value is ABSENT:
            return ""
        return self.value if isinstance(self.value, str) else dump_json(self.value)

    def written(self) -> Any:
        """The shortest form that says as much."""
        plain = self.value is not ABSENT and not self.formula and not self.kind
        if plain and not (isinstance(self.value, Mapping) and self.value.keys() <= _FORM):
            return self.value
        fields: dict[str, Any] = {"type": self.type} if self.type else {}
        if self.formula:
            return {**fields, "formula": self.formula}
        return fields if self.value is ABSENT else {**fields, "value": self.value}


def is_of(value: Any, kind: str) -> bool:
    """Whether a value has a type of JSON; an integer is a number too."""
    wanted: dict[str, Any] = {
        "string": str,
        "integer": int,
        "number": int | float,
        "boolean": bool,
        "object": Mapping,
        "array": list,
    }
    if kind in ("integer", "number") and isinstance(value, bool):
        return False
    return not kind or isinstance(value, wanted[kind])


def fitting(name: str, text: str, kind: str) -> Any:
    """A typed text as a value of a type; without one as JSON where it is some. UsageError where it does not
    fit.
    """
    if kind == "string":
        return text
    try:
        value = parse_json(text)
    except NotJson:
        value = text
    if not is_of(value, kind):
        raise UsageError(
            f"{name} is of type {kind}, and {quoted(text)} is not",
            mend=f"give another value, or another type: juxtalogos parameters set {name}=VALUE --type string",
        )
    return value
