"""Lowering: CSDL types -> nodes of the schema tree, each with its place in the metadata.

What a schema is for decides what it asks: an answer shows keys, a new entity brings all that nobody else can
give,
a change brings what it changes.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from juxtalogos.formats.odata.csdl import Annotations, Navigation, Property, StructuredType, TypeUse
from juxtalogos.formats.odata.schemas.values import OLD_CONTROL, Values, is_answer
from juxtalogos.model.location import Location
from juxtalogos.schema.json.tree.nodes import Conditional, Items, Members, Node, Notes, Reference, Rule
from juxtalogos.schema.patterns import Pattern, compile_pattern

_CONTROL = compile_pattern("@|^#")
_METADATA = compile_pattern("^__metadata$")
_TEXTS = compile_pattern("^@odata\\.(?:context|id|editLink|readLink|etag)$")
_TYPE = compile_pattern("^@odata\\.type$")


class Lowering(Values):
    """The nodes of one wire form of a model."""

    def structured(self, told: str, purpose: str) -> Node:
        """The node of a type with those derived from it; of exactly this one behind `!`,
        or null behind `?`.
        """
        name, exact, nullable = told.rstrip("?!"), "!" in told, "?" in told
        found = self.model.structured(name)
        if found is None:
            return Node(Location(""), "")
        family = self.model.concrete(name)
        several = not exact and not _of_any(purpose) and family != [name]
        kinds = ("object", "null") if nullable else ("object",)
        rules = [Rule("type", kinds, "type", found.place)]
        required = self.required(found, purpose)
        if required:
            rules.append(Rule("required", required, "required", found.place))
        rules.append(
            Rule("members", self.members(name, purpose, closed=not several), "properties", found.place)
        )
        if several:
            rules += self.told(found, family, purpose, "?" * nullable)
        return Node(
            found.place,
            "",
            tuple(rules),
            notes=Notes(called=_short(name), description=_described(found.annotations)),
        )

    def told(self, found: StructuredType, family: list[str], purpose: str, null: str) -> list[Rule]:
        """The value is of the type that it says it is; of the declared one where it says nothing (JSON 4.0,
        section 4.5.3).
        """
        otherwise: Node | None = None if found.abstract else self.reference(f"{found.name}!{null}", purpose)
        for name in reversed(family):
            if name != found.name or found.abstract:
                test = self.of_type(name, found.place)
                then = self.reference(f"{name}!{null}", purpose)
                rule = Rule("if", Conditional(test, then, otherwise), "discriminator", found.place)
                otherwise = Node(found.place, "", (rule,))
        if found.abstract or otherwise is None or self.old:
            return list(otherwise.rules) if otherwise else []
        says = Node(found.place, "", (Rule("required", ("@odata.type",), "required", found.place),))
        silent = Node(found.place, "", (Rule("not", says, "not", found.place),))
        declared = self.reference(f"{found.name}!{null}", purpose)
        return [Rule("if", Conditional(silent, declared, otherwise), "discriminator", found.place)]

    def of_type(self, name: str, place: Location) -> Node:
        """Whether a value says that it is of a type."""
        if self.old:
            told = Node(place, "", (Rule("const", name, "const", place),))
            kind = Node(
                place,
                "",
                (
                    Rule("required", ("type",), "required", place),
                    Rule("members", Members({"type": told}, (), None), "properties", place),
                ),
            )
            return Node(
                place,
                "",
                (
                    Rule("required", ("__metadata",), "required", place),
                    Rule("members", Members({"__metadata": kind}, (), None), "properties", place),
                ),
            )
        told = Node(place, "", (Rule("const", f"#{name}", "const", place),))
        return Node(
            place,
            "",
            (
                Rule("required", ("@odata.type",), "required", place),
                Rule("members", Members({"@odata.type": told}, (), None), "properties", place),
            ),
        )

    def reference(self, told: str, purpose: str) -> Node:
        """A node that leads to a type's."""
        place = self.model.types[told.rstrip("?!")].place
        return Node(place, "", (Rule("ref", Reference(self.uri(told, purpose)), "$ref", place),))

    def required(self, found: StructuredType, purpose: str) -> tuple[str, ...]:
        """The properties that must be there."""
        model, name = self.model, found.name
        keys = tuple(part.path for part in model.key(name) if "/" not in part.path)
        if is_answer(purpose):
            return () if purpose.endswith("-pick") else keys
        if purpose == "change" and self.old:
            return keys  # services of V2 read an entity, and a change as one: with its key
        if purpose not in ("create", "part", "replace"):
            return ()
        needed = [
            prop.name
            for prop in model.properties(name)
            if not prop.type.nullable
            and not prop.type.collection
            and prop.type.default is None
            and not _made_there(prop.annotations)
            and not (purpose == "replace" and prop.name in keys and not self.old)
        ]
        if purpose == "create" and model.is_v4:
            # A reference to what must be there, unless properties say it already (4.0 part 1, 11.4.2.1).
            needed += [f"{one.name}@odata.bind" for one in model.navigation(name) if self.must_bind(one)]
        return tuple(needed)

    def must_bind(self, one: Navigation) -> bool:
        return (
            bool(one.target)
            and not one.collection
            and not one.nullable
            and not one.contains
            and not one.constraints
        )

    def members(self, name: str, purpose: str, *, closed: bool) -> Members:
        """The properties, navigation and control information of a type."""
        model = self.model
        owner = _short(name)
        if _of_any(purpose):
            lines = [part for one in model.family(name) for part in model.line(one)]
            properties = list({prop.name: prop for part in lines for prop in part.own_properties}.values())
            ways = list({one.name: one for part in lines for one in part.own_navigation}.values())
        else:
            properties, ways = model.properties(name), model.navigation(name)
        keys = {part.path for part in model.key(name)}
        own = {prop.name for prop in model.properties(name)}
        found: dict[str, Node] = {}
        if not self.old and not is_answer(purpose) and self.needs_type(name):
            kind = Rule("const", f"#{name}", "const", model.types[name].place)
            found["@odata.type"] = Node(
                model.types[name].place, "", (kind,), notes=Notes(called="@odata.type")
            )
        if purpose == "create" and not self.old and not closed:
            found["@odata.type"] = self.own_type(name)
        for one in properties:
            found[one.name] = self.property(one, owner, purpose, one.name in keys, inherited=one.name in own)
        for way in ways:
            found.update(self.way(way, owner, purpose))
        open_ = (
            model.is_open(name)
            or not closed
            or (purpose.endswith("-bare") and any(map(model.is_open, model.family(name))))
        )
        patterns: list[tuple[Pattern, Node]] = [(_CONTROL, Node(Location(""), ""))]
        if self.old:
            patterns = [(OLD_CONTROL, Node(Location(""), ""))]
        patterns += self.control(name) if is_answer(purpose) else []
        place = model.types[name].place
        return Members(found, tuple(patterns), None if open_ else Node(place, "", constant=False))

    def own_type(self, name: str) -> Node:
        """Which of a family of types a new entity is."""
        place = self.model.types[name].place
        family = tuple(f"#{entity_type}" for entity_type in self.model.concrete(name))
        rules = (Rule("type", ("string",), "type", place), Rule("enum", family, "enum", place))
        said = "its type, where it is not the declared one"
        return Node(place, "", rules, notes=Notes(called="@odata.type", description=said, seldom=True))

    def needs_type(self, name: str) -> bool:
        """Whether a request must say which type it is: it is derived from another one."""
        found = self.model.structured(name)
        return bool(found and found.base)

    def property(self, one: Property, owner: str, purpose: str, is_key: bool, *, inherited: bool) -> Node:
        """A structural property; what the sender has no say in is left out of what is sent."""
        given = one.annotations
        kept_out = False
        if not is_answer(purpose):
            kept_out = (
                _made_there(given) or _computed_default(given) or given.get("Core.Permissions") == "Read"
            )
            fixed = (is_key and not self.old) or given.get("Core.Immutable") is True or one.concurrency
            kept_out |= purpose in ("change", "replace") and fixed
            kept_out |= one.type.name == "Edm.Stream" or not inherited
        example = given.get("Core.Example")
        examples = (example["Value"],) if isinstance(example, dict) and "Value" in example else ()
        if one.type.default is not None and one.type.name == "Edm.String":
            examples = (*examples, one.type.default)
        notes = Notes(
            called=f"{owner}.{one.name}", description=_described(given), examples=examples, read_only=kept_out
        )
        inner = purpose if is_answer(purpose) or purpose in ("create", "part") else "part"
        return self.use(one.type, one.place, notes, given, inner)

    def way(self, one: Navigation, owner: str, purpose: str) -> Iterable[tuple[str, Node]]:
        """What may stand under a navigation property: entities that were asked for, parts of a new entity, a
        reference.
        """
        notes = Notes(called=f"{owner}.{one.name}", description=_described(one.annotations))
        if purpose == "show" and not notes.description:
            many = "entities of the type" if one.collection else "an entity of the type"
            notes = replace(notes, description=f"{many} {_short(one.target)}, where it is expanded")
        if self.model.structured(one.target) is None or purpose.startswith(("show", "flat")):
            yield one.name, Node(one.place, "", notes=notes)
            return
        use = TypeUse(one.target, one.collection, one.nullable and not one.collection)
        if is_answer(purpose):
            inner = purpose.replace("near", "flat")
            item = self.expanded(use, one, notes, inner)
            yield one.name, item
            return
        short = _short(one.target)
        if purpose == "create" and not self.old:
            bind = TypeUse("Edm.String", one.collection, False)
            said = (
                f"references to entities of the type {short}"
                if one.collection
                else f"a reference to an entity of the type {short}"
            )
            name = f"{one.name}@odata.bind"
            about = Notes(called=f"{owner}.{name}", description=said, seldom=not self.must_bind(one))
            yield name, self.use(bind, one.place, about, {}, "part")
        if purpose in ("create", "part"):
            many = "entities of the type" if one.collection else "an entity of the type"
            about = replace(notes, description=notes.description or f"{many} {short}, made with it")
            if not one.contains and not (purpose == "create" and one.owned):
                yield one.name, Node(one.place, "", notes=replace(about, seldom=True))
                return
            deep = purpose == "create" and self.is_part(one)
            yield one.name, self.use(use, one.place, replace(about, seldom=not deep), {}, "part")

    def is_part(self, one: Navigation) -> bool:
        """Whether what is navigated to is made together with the entity as a matter of course."""
        if self.model.structured(one.target) is None or one.annotations.get("Capabilities.NonInsertable"):
            return False
        return one.contains

    def expanded(self, use: TypeUse, one: Navigation, notes: Notes, purpose: str) -> Node:
        """Related entities in an answer, or, in V2, where they can be found."""
        if not self.old:
            return self.use(replace(use, nullable=use.nullable), one.place, notes, {}, purpose)
        inner = self.item(replace(use, collection=False), one.place, notes, {}, purpose)
        place = one.place
        if use.collection:
            rows = Node(
                place,
                "",
                (Rule("type", ("array",), "type", place), Rule("items", Items((), inner), "items", place)),
            )
            wrapped = self.wrapped_list(rows, place, notes)
            plain = Node(place, "", (Rule("type", ("array",), "type", place),))
            inner = Node(
                place, "", (Rule("if", Conditional(plain, rows, wrapped), "type", place),), notes=notes
            )
        deferred = Node(
            place,
            "",
            (Rule("type", ("object",), "type", place), Rule("required", ("__deferred",), "required", place)),
        )
        return Node(place, "", (Rule("if", Conditional(deferred, None, inner), "type", place),), notes=notes)

    def control(self, name: str) -> list[tuple[Pattern, Node]]:
        """Control information whose form is fixed (JSON 4.0, section 4.5; V2 JSON, `__metadata`)."""
        place = self.model.types[name].place
        text = Rule("type", ("string",), "type", place)
        if self.old:
            names = ("uri", "id", "type", "etag", "media_src", "edit_media", "content_type")
            inner = Members({word: Node(place, "", (text,)) for word in names}, (), None)
            whole = (Rule("type", ("object",), "type", place), Rule("members", inner, "properties", place))
            return [(_METADATA, Node(place, "", whole))]
        family = tuple(f"#{entity_type}" for entity_type in self.model.concrete(name))
        kind = Rule("enum", family, "enum", place)
        told = Node(
            place, "", (kind,) if len(family) > 1 else (text,), notes=Notes(called=f"type of {_short(name)}")
        )
        return [(_TEXTS, Node(place, "", (text,))), (_TYPE, told)]


def _of_any(purpose: str) -> bool:
    """Whether nothing tells which of a family of types a value is: no control information, or what is changed
    is there already.
    """
    return purpose.endswith("-bare") or purpose in ("change", "replace")


def _made_there(given: Annotations) -> bool:
    """Whether the service alone makes a property's value."""
    return given.get("Core.Computed") is True


def _computed_default(given: Annotations) -> bool:
    return given.get("Core.ComputedDefaultValue") is True


def _described(given: Annotations) -> str:
    text = given.get("Core.Description") or given.get("Core.LongDescription")
    return text if isinstance(text, str) else ""


def _short(name: str) -> str:
    return name.rpartition(".")[2]
