"""Lowering: a schema as written in some dialect -> a `Node`. All differences between dialects end here.

A keyword whose operand is of the wrong kind is left out; reading a definition lists those as faults.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from typing import Any

from juxtalogos.documents.uris import join_uri
from juxtalogos.model.location import Location
from juxtalogos.schema.json.tree.dialects import Dialect, enter
from juxtalogos.schema.json.tree.keyword_kinds import is_count, is_number
from juxtalogos.schema.json.tree.nodes import (
    Conditional,
    Contains,
    Discriminator,
    Items,
    Members,
    Node,
    Notes,
    Reference,
    Rule,
    Xml,
)
from juxtalogos.schema.patterns import PatternError, compile_pattern

_NUMBERS = ("multipleOf", "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum")
_COUNTS = ("minLength", "maxLength", "minItems", "maxItems", "minProperties", "maxProperties")
_TYPES = frozenset(("null", "boolean", "object", "array", "number", "integer", "string"))
_MEANT = {
    **dict.fromkeys(("int", "int32", "int64", "long", "short", "byte", "uint", "bigint"), "integer"),
    **dict.fromkeys(("float", "double", "decimal", "numeric", "num"), "number"),
    **dict.fromkeys(("str", "text", "char", "varchar", "uuid", "date", "datetime", "date-time"), "string"),
    **dict.fromkeys(("timestamp", "time", "email", "uri", "url", "binary", "enum"), "string"),
    **dict.fromkeys(("bool",), "boolean"),
    **dict.fromkeys(("list", "set", "tuple"), "array"),
    **dict.fromkeys(("dict", "map", "hash", "json", "struct"), "object"),
    **dict.fromkeys(("none", "nil"), "null"),
}
"""What people mean by names that are no types: it steers samples, never a verdict."""


def meant_types(named: Any) -> tuple[str, ...]:
    """The types that are meant where a name among them is none; none where all are, or one cannot be told."""
    names = [named] if isinstance(named, str) else named if isinstance(named, list) else []
    if not names or not all(isinstance(name, str) for name in names) or _TYPES.issuperset(names):
        return ()
    found = [name if name in _TYPES else _MEANT.get(name.lower(), "") for name in names]
    return tuple(found) if all(found) else ()


def lower(value: Any, location: Location, base: str, dialect: Dialect) -> Node:
    """The node of one schema; a value that is no schema allows everything."""
    if isinstance(value, bool):
        return Node(location, base, constant=value)
    if not isinstance(value, dict):
        return Node(location, base)
    return _Lowering(value, location, base, dialect).node()


class _Lowering:
    def __init__(self, value: dict[str, Any], location: Location, base: str, dialect: Dialect) -> None:
        self.value = value
        self.location = location
        self.base = base
        self.dialect = dialect

    def node(self) -> Node:
        if isinstance(self.value.get("$ref"), str) and self.dialect.ref_alone:
            # What stands beside the reference has no effect; `nullable` there still tells what was meant.
            meant = bool(self.dialect.nullable) and self.value.get(self.dialect.nullable) is True
            notes = Notes(nullable=True) if meant else Notes()
            return Node(self.location, self.base, (self.reference("$ref", "static"),), None, notes)
        rules = tuple(self.rules())
        looks_back = any(rule.op.startswith("unevaluated") for rule in rules)
        return Node(self.location, self.base, rules, None, self.notes(), self.discriminator(), looks_back)

    def has(self, keyword: str) -> bool:
        return keyword in self.value and keyword in self.dialect.keywords

    def child(self, value: Any, *keys: str | int) -> Node:
        base, dialect = enter(value, self.base, self.dialect)
        return lower(value, self.location.child(*keys), base, dialect)

    def rule(self, op: str, operand: Any, keyword: str = "") -> Rule:
        return Rule(op, operand, keyword or op, self.location.child(keyword or op))

    def reference(self, keyword: str, mode: str) -> Rule:
        return self.rule("ref", Reference(join_uri(self.base, self.value[keyword]), mode), keyword)

    def rules(self) -> Iterator[Rule]:
        for keyword, mode in (("$ref", "static"), ("$dynamicRef", "dynamic"), ("$recursiveRef", "recursive")):
            if self.has(keyword) and isinstance(self.value[keyword], str):
                yield self.reference(keyword, mode)
        yield from self.typing()
        yield from self.scalars()
        yield from self.objects()
        yield from self.arrays()
        yield from self.combinations()

    def typing(self) -> Iterator[Rule]:
        named = self.value.get("type")
        types = [named] if isinstance(named, str) else named
        if (
            isinstance(types, list)
            and self.has("type")
            and types
            and all(isinstance(name, str) for name in types)
        ):
            if self.dialect.nullable and self.value.get(self.dialect.nullable) is True:
                types = [*types, "null"]
            if self.dialect.name == "openapi-2.0":
                types = ["string" if name == "file" else name for name in types]
            known = tuple(name for name in types if name in _TYPES)
            if "integer" in known and not self.dialect.float_integers:
                known = tuple("strict integer" if name == "integer" else name for name in known)
            if known and len(known) == len(types):
                yield self.rule("type", known)
        if self.has("enum") and isinstance(self.value["enum"], list):
            yield self.rule("enum", tuple(self.value["enum"]))
        if self.has("const"):
            yield self.rule("const", self.value["const"])

    def scalars(self) -> Iterator[Rule]:
        for keyword in _NUMBERS:
            operand: Any = self.value.get(keyword)
            if not self.has(keyword) or not is_number(operand) or (keyword == "multipleOf" and operand <= 0):
                continue
            if (
                self.dialect.boolean_exclusive
                and self.value.get("exclusive" + keyword[0].upper() + keyword[1:]) is True
            ):
                exclusive = "exclusive" + keyword[0].upper() + keyword[1:]
                yield self.rule(exclusive, operand, keyword)
            elif not (self.dialect.boolean_exclusive and keyword.startswith("exclusive")):
                yield self.rule(keyword, operand)
        for keyword in _COUNTS:
            operand = self.value.get(keyword)
            if self.has(keyword) and is_count(operand):
                yield self.rule(keyword, int(operand))
        if self.has("pattern") and isinstance(self.value["pattern"], str):
            with contextlib.suppress(PatternError):  # listed as a fault of the definition
                yield self.rule("pattern", compile_pattern(self.value["pattern"]))
        if self.has("format") and isinstance(self.value["format"], str):
            yield self.rule("format", (self.value["format"], self.dialect.asserts_format))
        if self.has("uniqueItems") and self.value["uniqueItems"] is True:
            yield self.rule("uniqueItems", True)

    def objects(self) -> Iterator[Rule]:
        required = self.value.get("required")
        if self.has("required") and isinstance(required, list):
            yield self.rule("required", tuple(name for name in required if isinstance(name, str)))
        members = self.members()
        if members:
            yield self.rule("members", members, "properties")
        if self.has("propertyNames"):
            yield self.rule("propertyNames", self.child(self.value["propertyNames"], "propertyNames"))
        dependent_names: dict[str, tuple[str, ...]] = {}
        dependent_nodes: dict[str, Node] = {}
        for keyword in ("dependentRequired", "dependentSchemas", "dependencies"):
            if self.has(keyword) and isinstance(self.value[keyword], dict):
                for name, operand in self.value[keyword].items():
                    if isinstance(operand, list) and keyword != "dependentSchemas":
                        dependent_names[name] = tuple(other for other in operand if isinstance(other, str))
                    elif isinstance(operand, dict | bool) and keyword != "dependentRequired":
                        dependent_nodes[name] = self.child(operand, keyword, name)
        word = "dependencies" if self.has("dependencies") else ""
        if dependent_names:
            yield self.rule("dependentRequired", dependent_names, word)
        if dependent_nodes:
            yield self.rule("dependentSchemas", dependent_nodes, word)

    def members(self) -> Members | None:
        properties: dict[str, Node] = {}
        if self.has("properties") and isinstance(self.value["properties"], dict):
            properties = {
                name: self.child(value, "properties", name)
                for name, value in self.value["properties"].items()
            }
        patterns = []
        if self.has("patternProperties") and isinstance(self.value["patternProperties"], dict):
            for source, value in self.value["patternProperties"].items():
                try:
                    patterns.append((compile_pattern(source), self.child(value, "patternProperties", source)))
                except PatternError:
                    continue
        additional = self.optional("additionalProperties")
        if not properties and not patterns and additional is None:
            return None
        return Members(properties, tuple(patterns), additional)

    def optional(self, keyword: str) -> Node | None:
        return (
            self.child(self.value[keyword], keyword)
            if self.has(keyword) and isinstance(self.value[keyword], dict | bool)
            else None
        )

    def arrays(self) -> Iterator[Rule]:
        items = self.value.get("items")
        if self.has("prefixItems"):
            prefix = self.value["prefixItems"]
            first = (
                tuple(self.child(value, "prefixItems", index) for index, value in enumerate(prefix))
                if isinstance(prefix, list)
                else ()
            )
            yield self.rule("items", Items(first, self.optional("items")))
        elif isinstance(items, list) and self.has("items") and "additionalItems" in self.dialect.keywords:
            first = tuple(self.child(value, "items", index) for index, value in enumerate(items))
            yield self.rule("items", Items(first, self.optional("additionalItems")))
        elif self.has("items") and isinstance(items, dict | bool):
            yield self.rule("items", Items((), self.child(items, "items")))
        if self.has("contains"):
            least: Any = self.value.get("minContains")
            most: Any = self.value.get("maxContains")
            knows = "minContains" in self.dialect.keywords
            yield self.rule(
                "contains",
                Contains(
                    self.child(self.value["contains"], "contains"),
                    int(least) if knows and is_number(least) else 1,
                    int(most) if knows and is_number(most) else None,
                    "prefixItems" in self.dialect.keywords,
                ),
            )

    def combinations(self) -> Iterator[Rule]:
        for keyword in ("allOf", "anyOf", "oneOf"):
            branches = self.value.get(keyword)
            if self.has(keyword) and isinstance(branches, list):
                yield self.rule(
                    keyword, tuple(self.child(value, keyword, index) for index, value in enumerate(branches))
                )
        if self.has("not"):
            yield self.rule("not", self.child(self.value["not"], "not"))
        if self.has("if"):
            branches = [
                self.child(self.value[word], word) if word in self.value else None
                for word in ("then", "else")
            ]
            yield self.rule("if", Conditional(self.child(self.value["if"], "if"), branches[0], branches[1]))
        discriminator = self.discriminator()
        if discriminator and not self.has("oneOf") and not self.has("anyOf"):
            yield self.rule("discriminator", discriminator)
        # Last, for they look at what all others have evaluated.
        for keyword in ("unevaluatedItems", "unevaluatedProperties"):
            if self.has(keyword):
                yield self.rule(keyword, self.child(self.value[keyword], keyword))

    def notes(self) -> Notes:
        get: Callable[[str], Any] = self.value.get
        examples: tuple[Any, ...] = ()
        if isinstance(get("examples"), list):
            examples = tuple(self.value["examples"])
        if "example" in self.value and self.dialect.openapi:
            examples = (self.value["example"], *examples)
        return Notes(
            title=get("title") if isinstance(get("title"), str) else "",
            description=get("description") if isinstance(get("description"), str) else "",
            examples=examples,
            default=(self.value["default"],) if "default" in self.value else (),
            read_only=get("readOnly") is True,
            write_only=get("writeOnly") is True,
            deprecated=get("deprecated") is True,
            xml=_xml(get("xml")) if self.dialect.openapi else None,
            nullable=self.dialect.openapi and get(self.dialect.nullable or "nullable") is True,
            meant=meant_types(get("type")),
        )

    def discriminator(self) -> Discriminator | None:
        """An object from OpenAPI 3.0 on, the bare name of a property in 2.0."""
        found = self.value.get("discriminator")
        old = self.dialect.name == "openapi-2.0"
        name = found if old else found.get("propertyName") if isinstance(found, dict) else None
        if not self.dialect.openapi or not isinstance(name, str):
            return None
        family = join_uri(self.base, "#/definitions/" if old else "#/components/schemas/")
        mapping = found.get("mapping") if isinstance(found, dict) else None
        uris: dict[str, str] = {}
        for key, target in (mapping if isinstance(mapping, dict) else {}).items():
            if isinstance(target, str):
                plain = (
                    target.replace(".", "").replace("-", "").replace("_", "").isalnum()
                    and "/" not in target
                    and not target.endswith((".json", ".yaml", ".yml"))
                )
                uris[key] = family + target if plain else join_uri(self.base, target)
        return Discriminator(name, uris, family, old)


def _xml(value: Any) -> Xml | None:
    if not isinstance(value, dict):
        return None
    name, space, prefix = (
        value[key] if isinstance(value.get(key), str) else "" for key in ("name", "namespace", "prefix")
    )
    return Xml(
        name, space, prefix, attribute=value.get("attribute") is True, wrapped=value.get("wrapped") is True
    )
