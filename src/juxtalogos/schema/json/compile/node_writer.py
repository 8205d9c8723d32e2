"""Writes the checks of a node, and of what it inlines, into one function."""

from __future__ import annotations

from typing import Any

from juxtalogos.schema.json.check.formats import NUMBER_FORMATS, TEXT_FORMATS
from juxtalogos.schema.json.check.interpreter import Record, attempt, deep_notes, follow, is_other_direction
from juxtalogos.schema.json.compile.exclusive_branches import (
    JSON_TYPES,
    python_types,
    resolved,
    telling_property,
)
from juxtalogos.schema.json.compile.scalar_writer import NUMBER_LIMITS, Scalars
from juxtalogos.schema.json.compile.tables import Compiled
from juxtalogos.schema.json.tree.nodes import Items, Members, Node, Rule

_NUMBER_OPS = frozenset((*NUMBER_LIMITS, "multipleOf"))
_TEXT_OPS = frozenset(("minLength", "maxLength", "pattern"))
_LIST_OPS = frozenset(("minItems", "maxItems", "uniqueItems", "items", "contains"))
_OBJECT_OPS = frozenset(
    (
        "minProperties",
        "maxProperties",
        "required",
        "members",
        "propertyNames",
        "dependentRequired",
        "dependentSchemas",
    )
)


class NodeWriter(Scalars):
    """One function."""

    def node(self, node: Node, home: Node, var: str) -> None:
        """Checks of a node on a variable."""
        if node.constant is not None:
            if node.constant is False:
                self.put(self.failing)
            return
        self.above.append(id(node))
        self.budget -= len(node.rules)
        rules = {rule.op: rule for rule in node.rules}
        if "ref" in rules:
            self.same(follow(rules["ref"].operand, self.context), home, var)
        self.typed(rules, node, home, var)
        for rule in node.rules:
            if rule.op in ("allOf", "anyOf", "oneOf", "not", "if"):
                getattr(self, f"rule_{rule.op}")(rule, home, var)
        if self.compiler.counting:
            self.facets(node, rules["type"].operand if "type" in rules else (), var)
        self.above.pop()

    def facets(self, node: Node, allowed: tuple[str, ...], var: str) -> None:
        """Flags of a value's classes: a list empty or not, null. Limits see to their own."""
        rule = node.rule("type")
        for facet, number in self.compiler.facet_numbers(rule) if rule else ():
            test = facet.expression.format(v=var)
            if facet.type and allowed != ("array",):
                test = f"type({var}) is list and {test}"
            self.put(f"if {test}: {self.flag(number)} = 1")

    def same(self, node: Node, home: Node, var: str) -> None:
        """A further schema on the same value: written here, or called where it would grow too large or
        contain itself.
        """
        if id(node) in self.above or self.budget < 0:
            self.call(node, home, var)
        else:
            self.node(node, home, var)

    def child(self, node: Node, var: str) -> None:
        self.same(node, node, var)

    def call(self, node: Node, home: Node, var: str) -> None:
        """Calls another schema's function."""
        name = self.compiler.name_of(node, home)
        if (id(node), id(home)) not in self.compiler.functions:
            self.waiting.append((node, home))
        self.refuse(f"not {name}({var}, H)")

    def typed(self, rules: dict[str, Rule], node: Node, home: Node, var: str) -> None:
        """Writes the rules of a node by the types that they are about."""
        allowed = tuple(rules["type"].operand) if "type" in rules else ()
        groups = {
            "string": [
                op
                for op in rules
                if op in _TEXT_OPS or (op == "format" and rules[op].operand[0] in TEXT_FORMATS)
            ],
            "number": [
                op
                for op in rules
                if op in _NUMBER_OPS or (op == "format" and rules[op].operand[0] in NUMBER_FORMATS)
            ],
            "array": [op for op in rules if op in _LIST_OPS],
            "object": [op for op in rules if op in _OBJECT_OPS],
        }
        if len(allowed) == 1:
            self.exact_type(allowed[0], var)
            name = "number" if allowed[0] in ("integer", "strict integer") else allowed[0]
            if groups.get(name):
                self.group(name, rules, node, home, var)
        else:
            if allowed:
                self.refuse(self.not_one_of(allowed, var))
            for name, ops in groups.items():
                applicable = (
                    not allowed
                    or name in allowed
                    or (name == "number" and any("integer" in entry for entry in allowed))
                )
                if ops and applicable:
                    test = (
                        f"type({var}) is {JSON_TYPES[name]}"
                        if name != "number"
                        else f"type({var}) is int or type({var}) is float"
                    )
                    self.put(f"if {test}:")
                    self.indent += 1
                    mark = len(self.lines)
                    self.group(name, rules, node, home, var)
                    if len(self.lines) == mark:
                        self.put("pass")
                    self.indent -= 1
        if "enum" in rules:
            self.rule_enum(rules["enum"], node, var, allowed)
        if "const" in rules:
            self.rule_const(rules["const"], var)

    def group(self, name: str, rules: dict[str, Rule], node: Node, home: Node, var: str) -> None:
        """Writes the rules about one type."""
        if name == "object":
            self.object(rules, node, home, var)
        elif name == "array":
            self.array(rules, var)
        elif name == "string":
            self.text(rules, var)
        else:
            self.number(rules, var)

    def object(self, rules: dict[str, Rule], node: Node, home: Node, var: str) -> None:
        """Writes the rules about objects."""
        for op in ("minProperties", "maxProperties"):
            if op in rules:
                self.limit(rules[op], f"len({var})")
        members: Members | None = rules["members"].operand if "members" in rules else None
        properties = dict(members.properties) if members else {}
        required = (
            [
                name
                for name in dict.fromkeys(rules["required"].operand)
                if not is_other_direction(name, home, self.context)
            ]
            if "required" in rules
            else []
        )
        values = {name: self.fresh() for name in properties}
        self.required(required, values, var)
        closed = (
            members is not None
            and members.additional is not None
            and members.additional.constant is False
            and not members.patterns
        )
        count = self.fresh() if closed and any(name not in required for name in properties) else ""
        if count:
            self.put(f"{count} = {sum(name in required for name in properties)}")
        for name, child in properties.items():
            self.property(name, child, values[name], var, name in required, count)
        if closed:
            self.refuse(f"len({var}) != {count or len(properties)}")
        elif members is not None and (
            members.patterns or (members.additional is not None and members.additional.constant is not True)
        ):
            self.others(members, var)
        if "propertyNames" in rules:
            name = self.fresh()
            judge = self.compiler.judge(rules["propertyNames"].operand)
            self.put(f"for {name} in {var}:")
            self.indent += 1
            self.refuse(f"not {judge}({name})")
            self.indent -= 1
        for name, needed in (
            rules["dependentRequired"].operand.items() if "dependentRequired" in rules else ()
        ):
            for other in needed:
                self.refuse(f"{name!r} in {var} and {other!r} not in {var}")
        for name, child in rules["dependentSchemas"].operand.items() if "dependentSchemas" in rules else ():
            self.put(f"if {name!r} in {var}:")
            self.indent += 1
            self.put("pass")
            self.same(child, home, var)
            self.indent -= 1

    def required(self, required: list[str], values: dict[str, str], var: str) -> None:
        """Takes all required properties at once."""
        taken = [name for name in required if name in values]
        if taken:
            self.put("try:")
            self.put("    " + "; ".join(f"{values[name]} = {var}[{name!r}]" for name in taken))
            self.put(f"except KeyError: {self.failing}")
        for name in required:
            if name not in values:
                self.refuse(f"{name!r} not in {var}")

    def property(self, name: str, child: Node, value: str, var: str, required: bool, count: str) -> None:
        """Writes the check of one property."""
        number = self.compiler.property_number(child)
        write_only = self.context.direction.value == "response" and deep_notes(child, self.context)[1]
        if not required:
            self.put(f"{value} = {var}.get({name!r}, M)")
            self.put(f"if {value} is not M:")
            self.indent += 1
        if write_only:
            self.put(self.failing)
        else:
            self.put(f"{self.flag(number)} = 1" if self.compiler.counting else "pass")
            if count and not required:
                self.put(f"{count} += 1")
            with self.at(name):
                self.child(child, value)
        if not required:
            self.indent -= 1

    def others(self, members: Members, var: str) -> None:
        """Names that no property declares, and those that patterns match too."""
        name, item, matched = self.fresh(), self.fresh(), self.fresh()
        self.put(f"for {name}, {item} in {var}.items():")
        self.indent += 1
        self.loops += 1
        known = self.compiler.bind(frozenset(members.properties))
        if not members.patterns:
            self.put(f"if {name} in {known}: continue")
        else:
            self.put(f"{matched} = {name} in {known}")
            for pattern, child in members.patterns:
                if pattern.plain_search() is None:
                    self.put(self.failing)
                    continue
                self.put(f"if {self.compiler.search(pattern)}({name}):")
                self.indent += 1
                self.put(f"{matched} = True")
                with self.at(fixed=False):
                    self.child(child, item)
                self.indent -= 1
            self.put(f"if {matched}: continue")
        if members.additional is not None:
            with self.at(fixed=False):
                self.child(members.additional, item)
        self.loops -= 1
        self.indent -= 1

    def array(self, rules: dict[str, Rule], var: str) -> None:
        """Writes the rules about lists."""
        for op in ("minItems", "maxItems"):
            if op in rules:
                self.limit(rules[op], f"len({var})")
        if "uniqueItems" in rules:
            self.refuse(f"not unique({var})")
        if "items" in rules:
            self.items(rules["items"].operand, var)
        if "contains" in rules:
            contains = rules["contains"].operand
            found = self.fresh()
            self.put(f"{found} = sum(map({self.compiler.judge(contains.node)}, {var}))")
            self.refuse(
                f"{found} < {contains.least}"
                + (f" or {found} > {contains.most}" if contains.most is not None else "")
            )

    def items(self, items: Items, var: str) -> None:
        """Writes the checks of items."""
        for index, child in enumerate(items.prefix):
            value = self.fresh()
            self.put(f"if len({var}) > {index}:")
            self.indent += 1
            self.put(f"{value} = {var}[{index}]")
            with self.at(index):
                self.child(child, value)
            self.indent -= 1
        if items.rest is None or items.rest.constant is True:
            return
        if items.rest.constant is False:
            self.refuse(f"len({var}) > {len(items.prefix)}")
            return
        listed = f"{var}[{len(items.prefix)}:]" if items.prefix else var
        if self.way is None:
            self.loop(items.rest, listed)
        else:
            self.resuming_loop(items.rest, listed, var)

    def loop(self, node: Node, listed: str) -> None:
        """Writes a loop over items."""
        value = self.fresh()
        mark = len(self.lines)
        self.put(f"for {value} in {listed}:")
        self.indent += 1
        self.loops += 1
        self.child(node, value)
        self.loops -= 1
        self.indent -= 1
        if len(self.lines) == mark + 1:
            self.lines.pop()

    def resuming_loop(self, node: Node, listed: str, var: str) -> None:
        """A loop that goes on behind a broken item.

        The iterator tells its place, so that counting costs nothing.
        """
        value, iterator, way, bound = (
            self.fresh(),
            self.fresh(),
            self.way,
            self.compiler.bind((self.way, node)),
        )
        before = len(self.lines)
        self.put(f"{iterator} = iter({listed})")
        self.put(f"for {value} in {iterator}:")
        self.put("    try:")
        self.indent += 2
        self.loops += 1
        mark = len(self.lines)
        self.way, self.failing = None, "raise BrokenItem"
        self.child(node, value)
        self.way, self.failing = way, "return False"
        self.loops -= 1
        self.indent -= 2
        if len(self.lines) == mark:
            del self.lines[before:]
            return
        self.put("    except BrokenItem:")
        self.put("        if F is None: return False")
        self.put(f"        F.append(({bound}, len({var}) - 1 - {iterator}.__length_hint__(), {value}))")

    def rule_allOf(self, rule: Rule, home: Node, var: str) -> None:
        """Writes all of them."""
        for child in rule.operand:
            self.same(child, home, var)

    def rule_not(self, rule: Rule, home: Node, var: str) -> None:
        self.refuse(f"{self.compiler.judge(rule.operand)}({var})")

    def rule_if(self, rule: Rule, home: Node, var: str) -> None:
        """Writes the branch that a test chooses."""
        self.put(f"if {self.compiler.judge(rule.operand.test)}({var}):")
        for branch, last in ((rule.operand.then, False), (rule.operand.otherwise, True)):
            self.indent += 1
            self.put("pass")
            if branch is not None:
                with self.whole():
                    self.same(branch, home, var)
            self.indent -= 1
            if not last:
                self.put("else:")

    def rule_anyOf(self, rule: Rule, home: Node, var: str) -> None:
        """Writes the one that a value tells apart, else a trial of all."""
        if not rule.operand or self.told_apart(rule, var):
            return
        # Every branch that fits hits its elements; a trial must not leave the flags of one that does not.
        self.refuse(f"not {self.compiler.bind(self.trial(rule, len(rule.operand)))}({var}, H)")

    def rule_oneOf(self, rule: Rule, home: Node, var: str) -> None:
        """Writes the one that a value tells apart, else a trial of all."""
        if not rule.operand or self.told_apart(rule, var):
            return
        self.refuse(f"not {self.compiler.bind(self.trial(rule, 1))}({var}, H)")

    def trial(self, rule: Rule, most: int) -> Compiled:
        """Tries every branch: at least one must fit, and no more than `most`."""
        functions, context, nodes = self.compiler.functions, self.context, rule.operand
        tried_before, known_before, key = self.compiler.tried, self.compiler.known, id(rule)
        for node in nodes:
            self.compiler.name_of(node, node)
            self.waiting.append((node, node))

        def once(value: Any, records: list[Record]) -> bool:
            """A value is tried once: other branches above it may lead here too."""
            found = tried_before.get((key, id(value)))
            if found is None:
                own: list[Record] = []
                found = tried_before[key, id(value)] = run(value, own), own
            records += found[1]
            return found[0]

        def run(value: Any, records: list[Record]) -> bool:
            fitting = 0
            for node in nodes:
                tried: list[Record] = []
                if functions[(id(node), id(node))](value, tried):
                    fitting += 1
                    records += [*tried, self.compiler.branch_number(node)]
                elif not any(
                    not one.advisory for one in attempt(node, value, (), context.fresh(known_before))[0]
                ):
                    return False  # it fits with a remark: the interpreter tells
            return 1 <= fitting <= most

        return once

    def told_apart(self, rule: Rule, var: str) -> bool:
        """Branches that no value can fit two of: by a property's constant, or by type."""
        nodes = rule.operand
        bare = [resolved(node, self.context) for node in nodes]
        name, constants = telling_property(bare, self.context)
        if name is not None:
            self.refuse(f"type({var}) is not dict")
            told = self.fresh()
            self.put(f"{told} = {var}.get({name!r})")
            self.refuse(f"type({told}) is not str")
            for index, (node, texts) in enumerate(zip(nodes, constants)):
                values = (
                    self.compiler.bind(frozenset(texts))
                    if len(texts) > 1
                    else self.compiler.bind(next(iter(texts)))
                )
                self.put(f"{'el' if index else ''}if {told} {'in' if len(texts) > 1 else '=='} {values}:")
                self.indent += 1
                self.call(node, node, var)  # notes what it hit only if all of it holds
                self.branch(node)
                self.indent -= 1
            self.put("else: return False")
            return True
        types = [python_types(node) for node in bare]
        if any(not type_ for type_ in types) or sum(map(len, types)) != len(set().union(*types)):
            return False
        for index, (node, kinds) in enumerate(zip(nodes, types)):
            self.put(
                f"{'el' if index else ''}if"
                f" {' or '.join(f'type({var}) is {kind}' for kind in sorted(kinds))}:"
            )
            self.indent += 1
            self.put("pass")
            with self.whole():
                self.child(node, var)
            self.branch(node)
            self.indent -= 1
        self.put("else: return False")
        return True

    def branch(self, node: Node) -> None:
        """Notes that a branch was taken."""
        if self.compiler.counting:
            self.put(f"{self.flag(self.compiler.branch_number(node))} = 1")
