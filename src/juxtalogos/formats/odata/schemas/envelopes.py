"""What stands around values in requests and answers, by the role that a `SchemaRef` has.

A role is words: `entities read NS.Vessel`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

from juxtalogos.formats.odata.csdl import Callable as Called
from juxtalogos.formats.odata.csdl import Property
from juxtalogos.formats.odata.schemas.lowering import Lowering
from juxtalogos.formats.odata.schemas.options import OPTIONS
from juxtalogos.model.location import Location
from juxtalogos.model.schema import SchemaRef
from juxtalogos.schema.json.tree.nodes import Conditional, Items, Members, Node, Notes, Reference, Rule
from juxtalogos.schema.json.tree.store import BadReference
from juxtalogos.schema.patterns import compile_pattern

_ANNOTATED = compile_pattern("@|^#")
_OLD = compile_pattern("^__")


class Envelopes:
    """The nodes of roles in one wire form."""

    def __init__(self, lowering: Lowering, single: Mapping[Location, Property | Called]) -> None:
        self.lowering = lowering
        self.single = single
        self.old = lowering.old
        self.json2 = lowering.form == "json2"

    def node(self, ref: SchemaRef) -> Node:
        """The node that a reference's role means; BadReference where it means none."""
        word, *rest = ref.role.split(" ")
        maker = _ROLES.get(word)
        if maker is not None:
            return maker(self, ref.location, rest)
        if word in OPTIONS:
            return OPTIONS[word](ref.location, rest)
        raise BadReference(f"{ref.location} as {ref.role}")

    # Answers.

    def entity(self, place: Location, words: list[str]) -> Node:
        """One entity as an answer."""
        purpose, name = words
        return self.data(self.of(name, purpose), place)

    def entities(self, place: Location, words: list[str]) -> Node:
        """A list of entities as an answer."""
        purpose, name = words
        return self.listed(self.of(name, purpose), place, words)

    def of(self, name: str, purpose: str) -> Node:
        """An entity type by purpose; anything where it cannot be read."""
        found = self.lowering.model.structured(name)
        if found is None:
            return Node(Location(""), "")  # not checkable
        uri = self.lowering.uri(name, purpose)
        return Node(found.place, "", (Rule("ref", Reference(uri), "$ref", found.place),))

    def listed(self, item: Node, place: Location, words: list[str]) -> Node:
        """A list in an answer (JSON 4.0, section 12; V2 JSON, feeds)."""
        rows = Node(place, "", (_type("array", place), Rule("items", Items((), item), "items", place)))
        if not self.old:
            count = self.count(place, words)
            if self.lowering.form == "ieee":
                count = Node(
                    place, "", (_type("string", place), Rule("format", ("Edm.Int64", True), "format", place))
                )
            link = Node(place, "", (_type("string", place),), notes=Notes(called="@odata.nextLink"))
            known = {"value": rows, "@odata.count": count, "@odata.nextLink": link}
            return _object(place, known, ("value",), closed=True)
        # Services of V2 write the count as a text or a number, and the link as a text or as an object with a
        # `uri`.
        count = Node(
            place,
            "",
            (
                Rule("type", ("string", "integer"), "type", place),
                Rule("format", ("Edm.Int64", True), "format", place),
            ),
        )
        link = Node(place, "", (Rule("type", ("string", "object"), "type", place),))
        whole = _object(
            place, {"results": rows, "__count": count, "__next": link}, ("results",), closed=True, old=True
        )
        if not self.json2:
            return whole
        if "show" in words:
            return self.data(whole, place)
        # V1 has the bare list.
        bare = Node(place, "", (_type("array", place),))
        return self.data(Node(place, "", (Rule("if", Conditional(bare, rows, whole), "type", place),)), place)

    def data(self, inner: Node, place: Location) -> Node:
        """V2 JSON wraps every answer: `{"d": …}`."""
        return _object(place, {"d": inner}, ("d",), closed=True) if self.json2 else inner

    def value(self, place: Location, words: list[str]) -> Node:
        """A property by itself (JSON 4.0, section 11; V2: under its name)."""
        one = self.single.get(place)
        if not isinstance(one, Property):
            raise BadReference(str(place))
        node = self.lowering.use(one.type, place, Notes(called=one.name), one.annotations, "flat")
        if self.old:
            named = _object(place, {one.name: node}, (one.name,), closed=False)
            wrapped = _object(place, {"results": named}, ("results",), closed=False)
            results = Node(place, "", (Rule("required", ("results",), "required", place),))
            either = Node(place, "", (Rule("if", Conditional(results, wrapped, named), "type", place),))
            return self.data(either, place)
        return _object(place, {"value": node}, ("value",), closed=True)

    def raw(self, place: Location, words: list[str]) -> Node:
        """A property's value as a text, read by its type (URL conventions 4.0, section 4.7)."""
        one = self.single.get(place)
        if not isinstance(one, Property):
            raise BadReference(str(place))
        return self.lowering.use(one.type, place, Notes(called=one.name), one.annotations, "flat")

    def returned(self, place: Location, words: list[str]) -> Node:
        """What an action or function returns."""
        one = self.single.get(place)
        if not isinstance(one, Called) or one.returns is None:
            raise BadReference(str(place))
        use, name = one.returns, one.short_name
        structured = self.lowering.model.structured(use.name)
        if structured is not None and structured.entity:
            item = self.of(use.name, words[0] if words else "flat")
        else:
            single = replace(use, collection=False)
            item = self.lowering.use(single, place, Notes(called=f"result of {name}"), {}, "flat")
        if use.collection:
            return self.listed(item, place, words)
        if self.old:
            return self.data(self.under(name, item, place, alone=structured is not None), place)
        return item if structured is not None else _object(place, {"value": item}, ("value",), closed=True)

    def under(self, name: str, item: Node, place: Location, *, alone: bool) -> Node:
        """V2: a value under the name of what was called, and structured ones also by themselves."""
        named = _object(place, {name: item}, () if alone else (name,), closed=False)
        if not alone:
            return named
        has_name = Node(place, "", (Rule("required", (name,), "required", place),))
        return Node(place, "", (Rule("if", Conditional(has_name, named, item), "type", place),))

    def reference(self, place: Location, words: list[str]) -> Node:
        """An entity by reference only (JSON 4.0, section 13; V2: `{"uri": …}`)."""
        text = Node(place, "", (_type("string", place),))
        if self.old:
            return self.data(_object(place, {"uri": text}, ("uri",), closed=False, old=True), place)
        return _object(place, {"@odata.id": text}, ("@odata.id",), closed=True)

    def references(self, place: Location, words: list[str]) -> Node:
        """A list of entities by reference only."""
        text = Node(place, "", (_type("string", place),))
        key = "uri" if self.old else "@odata.id"
        return self.listed(
            _object(place, {key: text}, (key,), closed=not self.old, old=self.old), place, words
        )

    def count(self, place: Location, words: list[str]) -> Node:
        """A number of entities."""
        return Node(place, "", (_type("integer", place), Rule("format", ("uint64", True), "format", place)))

    def error(self, place: Location, words: list[str]) -> Node:
        """JSON 4.0, section 19; V2 JSON, errors."""
        text = Node(place, "", (_type("string", place),))
        if self.old:
            message = _object(place, {"value": text}, ("value",), closed=False)
            return _object(
                place,
                {
                    "error": _object(
                        place, {"code": text, "message": message}, ("code", "message"), closed=False
                    )
                },
                ("error",),
                closed=False,
            )
        detail = _object(place, {"code": text, "message": text}, ("code", "message"), closed=False)
        details = Node(place, "", (_type("array", place), Rule("items", Items((), detail), "items", place)))
        members = {"code": text, "message": text, "details": details}
        return _object(
            place,
            {"error": _object(place, members, ("code", "message"), closed=False)},
            ("error",),
            closed=True,
        )

    # Requests.

    def sent(self, place: Location, words: list[str]) -> Node:
        """An entity as it is created, changed or replaced."""
        purpose, name = words
        concrete = self.lowering.model.concrete(name)
        return self.of(concrete[0] if len(concrete) == 1 else name, purpose)

    def given(self, place: Location, words: list[str]) -> Node:
        """A single value: a key's part or a parameter."""
        one = self.single.get(place)
        if not isinstance(one, Property):
            raise BadReference(str(place))
        return self.lowering.use(one.type, place, Notes(called=one.name), one.annotations, "part")

    def parameters(self, place: Location, words: list[str]) -> Node:
        """The parameters of an action, as its body."""
        one = self.single.get(place)
        if not isinstance(one, Called):
            raise BadReference(str(place))
        own = one.parameters[1:] if one.bound else one.parameters
        members = {
            each.name: self.lowering.use(
                each.type, each.place, Notes(called=f"{one.short_name}.{each.name}"), each.annotations, "part"
            )
            for each in own
        }
        needed = tuple(
            each.name
            for each in own
            if not each.type.nullable and not each.optional and not each.type.collection
        )
        return _object(place, members, needed, closed=True)

    def batch(self, place: Location, words: list[str]) -> Node:
        """A batch as JSON has it (JSON 4.01, section 19), also where it is sent as multipart."""
        text = Node(place, "", (_type("string", place),))
        members = {
            "id": text,
            "method": text,
            "url": text,
            "atomicityGroup": text,
            "headers": Node(place, "", (_type("object", place),)),
            "body": Node(place, ""),
        }
        one = _object(place, members, ("id", "method", "url"), closed=False)
        listed = Node(
            place,
            "",
            (
                _type("array", place),
                Rule("items", Items((), one), "items", place),
            ),
        )
        example = {
            "requests": [
                {
                    "id": "1",
                    "method": "GET",
                    "url": " ".join(words),
                    "headers": {"Accept": "application/json"},
                }
            ]
        }
        return replace(
            _object(place, {"requests": listed}, ("requests",), closed=False),
            notes=Notes(examples=(example,)),
        )

    def bytes_(self, place: Location, words: list[str]) -> Node:
        """What only the request tells: a stream, or the property that it names."""
        return Node(place, "")

    def link(self, place: Location, words: list[str]) -> Node:
        """A reference to be set: `{"@odata.id": …}` (4.0 part 1, 11.4.6; V2: `{"uri": …}`)."""
        text = Node(place, "", (_type("string", place),))
        key = "uri" if self.old else "@odata.id"
        return _object(place, {key: text}, (key,), closed=False)


def _type(name: str, place: Location) -> Rule:
    return Rule("type", (name,), "type", place)


def _object(
    place: Location, members: dict[str, Node], needed: tuple[str, ...], *, closed: bool, old: bool = False
) -> Node:
    """An object; a closed one still takes annotations."""
    patterns = ((_OLD if old else _ANNOTATED, Node(place, "")),)
    rest = Node(place, "", constant=False) if closed else None
    rules = [_type("object", place)]
    rules += [Rule("required", needed, "required", place)] if needed else []
    rules.append(Rule("members", Members(members, patterns, rest), "properties", place))
    return Node(place, "", tuple(rules))


_ROLES: dict[str, Callable[[Envelopes, Location, list[str]], Node]] = {
    "entity": Envelopes.entity,
    "entities": Envelopes.entities,
    "value": Envelopes.value,
    "raw": Envelopes.raw,
    "return": Envelopes.returned,
    "ref": Envelopes.reference,
    "refs": Envelopes.references,
    "count": Envelopes.count,
    "error": Envelopes.error,
    "sent": Envelopes.sent,
    "given": Envelopes.given,
    "parameters": Envelopes.parameters,
    "batch": Envelopes.batch,
    "bytes": Envelopes.bytes_,
    "any": Envelopes.bytes_,
    "link": Envelopes.link,
}
