"""Values of single properties and parameters -> nodes: types with their facets, enumerations, definitions,
lists.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from juxtalogos.formats.odata.csdl import (
    Annotations,
    EnumType,
    Model,
    StructuredType,
    TypeDefinition,
    TypeUse,
)
from juxtalogos.formats.odata.primitives import FORMS, FRACTIONS, NUMBERS, with_digits, with_fraction
from juxtalogos.model.location import Location
from juxtalogos.schema.json.tree.nodes import Items, Members, Node, Notes, Reference, Rule
from juxtalogos.schema.patterns import Pattern, PatternError, compile_pattern

_REACHES = ("show", "flat", "near", "deep")


def is_answer(purpose: str) -> bool:
    """Whether a schema is of what comes. Such a purpose is how far it follows navigation, and what it may
    lack.

    `show` and `flat` leave open what lies behind navigation, and `show` leaves out control information;
    `near` follows it one
    step, `deep` all the way. `-pick`: only some properties were asked for; `-bare`: no control information
    tells types apart.
    """
    return purpose.partition("-")[0] in _REACHES


OLD_CONTROL = compile_pattern("^__")
_LIMITS = (
    ("Validation.Minimum", "minimum"),
    ("Validation.Maximum", "maximum"),
    ("Validation.MultipleOf", "multipleOf"),
)


def facet_place(place: Location, facet: str) -> Location:
    """Where a facet stands: an attribute in XML, a member in JSON."""
    return Location(place.document, f"{place.pointer}/{'$' if _is_json(place) else '@'}{facet}")


def _is_json(place: Location) -> bool:
    return not place.pointer.startswith(("/Edmx", "/Schema"))


class Values:
    """The nodes of single values in one wire form of a model."""

    def __init__(self, model: Model, form: str) -> None:
        self.model = model
        self.form = form
        self.old = form in ("json2", "plain2")
        """Whether control information is in `__metadata` (V2)."""
        self.written = FORMS["plain" if form == "plain2" else form]

    def uri(self, name: str, purpose: str) -> str:
        """The URI of a structured type's node."""
        return f"{self.form}:{purpose}/{name}"

    def use(self, use: TypeUse, place: Location, notes: Notes, extra: Annotations, purpose: str) -> Node:
        """A value of a type as it is used somewhere: the item, or a list of items."""
        if use.collection:
            inner = replace(use, collection=False)
            item = self.item(
                inner, place, replace(notes, called=f"item of {notes.called}", read_only=False), {}, purpose
            )
            rules = [Rule("type", ("array",), "type", place), Rule("items", Items((), item), "items", place)]
            rules += _counts(extra, place)
            whole = Node(place, "", tuple(rules), notes=notes)
            return self.wrapped_list(whole, place, notes) if self.old and is_answer(purpose) else whole
        return self.item(use, place, notes, extra, purpose)

    def wrapped_list(self, items: Node, place: Location, notes: Notes) -> Node:
        """V2 and V3 wrap a list of an entity's values: `{"results": […]}`."""
        members = Members({"results": items}, ((OLD_CONTROL, Node(place, "")),), None)
        rules = (
            Rule("type", ("object",), "type", place),
            Rule("required", ("results",), "required", place),
            Rule("members", members, "properties", place),
        )
        return Node(place, "", rules, notes=replace(notes, called=notes.called))

    def item(self, use: TypeUse, place: Location, notes: Notes, extra: Annotations, purpose: str) -> Node:
        """A single value of a type."""
        named = self.model.types.get(use.name)
        if isinstance(named, StructuredType):
            return self.nested(use, named, place, notes, purpose)
        if isinstance(named, EnumType):
            return self.enumeration(use, named, place, notes)
        if isinstance(named, TypeDefinition):
            use, extra = _refined(use, named.underlying), {**named.annotations, **extra}
        written = self.written.get(use.name)
        if written is None:
            return Node(place, "", notes=notes)  # streams, shapes, untyped values, and what cannot be read
        rules = [self.type_rule(written.json, use, place)]
        if written.format:
            rules.append(Rule("format", (written.format, True), "format", facet_place(place, "Type")))
        rules += self.facets(use, place, extra)
        return Node(place, "", tuple(rules), notes=self.with_example(use, notes))

    def type_rule(self, json: tuple[str, ...], use: TypeUse, place: Location) -> Rule:
        return Rule("type", (*json, "null") if use.nullable else json, "type", facet_place(place, "Type"))

    def facets(self, use: TypeUse, place: Location, extra: Annotations) -> list[Rule]:
        """Lengths, digits and the limits of annotations."""
        rules: list[Rule] = []
        if use.name == "Edm.String" and use.max_length is not None:
            rules.append(Rule("maxLength", use.max_length, "maxLength", facet_place(place, "MaxLength")))
        for also in self.digits(use, place):
            rules.append(Rule("allOf", (Node(place, "", (also,)),), "allOf", also.location))
        for term, op in _LIMITS if use.name in NUMBERS else ():
            limit = extra.get(term)
            if isinstance(limit, int | float) and not isinstance(limit, bool):
                beyond = extra.get(f"{term}@Validation.Exclusive") is True and op != "multipleOf"
                rules.append(
                    Rule(f"exclusive{op.title()}" if beyond else op, limit, op, facet_place(place, "Type"))
                )
        pattern = extra.get("Validation.Pattern")
        if isinstance(pattern, str) and use.name == "Edm.String":
            found = _pattern(pattern)
            rules += [Rule("pattern", found, "pattern", facet_place(place, "Type"))] if found else []
        allowed = extra.get("Validation.AllowedValues")
        if isinstance(allowed, list):
            values = tuple(
                entry["Value"] for entry in allowed if isinstance(entry, dict) and "Value" in entry
            )
            if values:
                rules.append(
                    Rule(
                        "enum",
                        (*values, None) if use.nullable else values,
                        "enum",
                        facet_place(place, "Type"),
                    )
                )
        return rules

    def digits(self, use: TypeUse, place: Location) -> list[Rule]:
        """Precision and Scale.

        What V4 only takes for said where nothing is (6.2.3, 6.2.4) is a remark: few services mean it.
        """
        v4 = self.model.is_v4
        if use.name == "Edm.Decimal":
            rules = []
            if use.precision is not None or use.scale is not None:
                name = with_digits(use.precision, use.scale)
                rules.append(Rule("format", (name, True), "format", facet_place(place, "Precision")))
            if v4 and not use.scale_said:
                rules.append(
                    Rule("format", (with_digits(None, 0), False), "format", facet_place(place, "Type"))
                )
            return rules
        if v4 and use.name in FRACTIONS:
            name = with_fraction(use.name, use.precision or 0)
            said = use.precision is not None
            return [
                Rule("format", (name, said), "format", facet_place(place, "Precision" if said else "Type"))
            ]
        return []

    def with_example(self, use: TypeUse, notes: Notes) -> Notes:
        """The notes with a decimal that uses its scale."""
        if use.name != "Edm.Decimal" or not use.scale:
            return notes
        text = f"{4 if use.precision is None or use.precision > use.scale else 0}.5"
        example: Any = text if "string" in self.written[use.name].json else float(text)
        return replace(notes, examples=(*notes.examples, example))

    def enumeration(self, use: TypeUse, named: EnumType, place: Location, notes: Notes) -> Node:
        """By the members' names, several for flags (JSON 4.0, section 7.1)."""
        names = tuple(name for name, _, _ in named.members)
        rules = [self.type_rule(("string",), use, place)]
        if not names:
            return Node(place, "", tuple(rules), notes=notes)  # not checkable
        if named.flags:
            one = "|".join([*names, r"-?\d+"])
            rules.append(Rule("pattern", compile_pattern(f"^(?:{one})(?:,(?:{one}))*$"), "enum", named.place))
            return Node(place, "", tuple(rules), notes=replace(notes, examples=(*notes.examples, *names[:1])))
        values: tuple[Any, ...] = (*names, None) if use.nullable else names
        rules.append(Rule("enum", values, "enum", named.place))
        return Node(place, "", tuple(rules), notes=notes)

    def nested(
        self, use: TypeUse, named: StructuredType, place: Location, notes: Notes, purpose: str
    ) -> Node:
        """A complex value, or an entity, where it lies in another one."""
        uri = self.uri(named.name + "?" * use.nullable, purpose)
        return Node(place, "", (Rule("ref", Reference(uri), "$ref", named.place),), notes=notes)


def _counts(extra: Annotations, place: Location) -> list[Rule]:
    found = []
    for term, op in (("Validation.MinItems", "minItems"), ("Validation.MaxItems", "maxItems")):
        limit = extra.get(term)
        if isinstance(limit, int) and not isinstance(limit, bool) and limit >= 0:
            found.append(Rule(op, limit, op, facet_place(place, "Type")))
    return found


def _refined(use: TypeUse, under: TypeUse) -> TypeUse:
    """The underlying type with the facets of its definition, where the use says none of its own."""
    return replace(
        under,
        nullable=use.nullable,
        collection=use.collection,
        max_length=under.max_length if use.max_length is None else use.max_length,
        precision=under.precision if use.precision is None else use.precision,
        scale=under.scale if use.scale is None else use.scale,
        scale_said=under.scale_said or use.scale_said,
    )


def _pattern(text: str) -> Pattern | None:
    try:
        return compile_pattern(text)
    except PatternError:
        return None
