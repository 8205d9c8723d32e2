"""Reading schemas: XSD documents -> components, each made when it is first asked for (XSD 1.0 part 1, section 3)."""

from __future__ import annotations

import xml.etree.ElementTree as ET

from juxtalogos.documents.xmltext import local
from juxtalogos.model.errors import nearest, quoted
from juxtalogos.model.location import Location
from juxtalogos.schema.xml.builtins import BUILTINS
from juxtalogos.schema.xml.depths import Depths
from juxtalogos.schema.xml.parts import Attribute, ComplexType, ElementDecl, Group, Particle, Type, Wildcard
from juxtalogos.schema.xml.paths import BadPath, constraint
from juxtalogos.schema.xml.read_simple import SimpleReader
from juxtalogos.schema.xml.simple import XSD, SimpleType, Where
from juxtalogos.schema.xml.sources import WORDS, Entry, Source, Sources, qualified

S = f"{{{XSD}}}"
ALL = frozenset(("extension", "restriction", "substitution", "list", "union"))
_PARTICLES = ("element", "group", "choice", "sequence", "all", "any")
_MAX_NESTING = 150


class Reader(SimpleReader):
    """Makes components of a schema set. Faults are kept in `sources.faults`; what is broken is read as anything."""

    def __init__(self, sources: Sources) -> None:
        super().__init__(sources)
        self.any_type = _any_type()
        self._types: dict[str, Type] = {f"{S}anyType": self.any_type}
        self._types |= {one.name: one for one in BUILTINS.values()}
        self._elements: dict[str, ElementDecl | None] = {}
        self._local: dict[tuple[ET.Element, str], ElementDecl] = {}
        self._waiting: list[tuple[ComplexType, ET.Element, Entry]] = []
        self._filling: set[ComplexType] = set()
        self._filled: dict[ComplexType, None] = {self.any_type: None}
        self.depths = Depths()
        self._prefixes: dict[str, str] = {}
        self._nesting = 0
        self._substitutes: dict[ElementDecl, dict[str, ElementDecl]] = {}

    # Names.

    def element(self, name: str) -> ElementDecl | None:
        """A global element, whole; None when there is none."""
        found = self._global(name)
        self.finish()
        return found

    def type(self, name: str) -> Type | None:
        """A global type, whole; None when there is none."""
        found = self._type(name)
        self.finish()
        return found

    def finish(self) -> None:
        """Fills all that was begun."""
        while self._waiting:
            self._fill(*self._waiting.pop())

    @property
    def prefixes(self) -> dict[str, str]:
        """Namespace -> prefix: those that the documents use, made unique."""
        if not self._prefixes:
            self._prefixes.update(self.sources.prefixes())
        return self._prefixes

    def add_prefix(self, uri: str, prefix: str) -> None:
        """A prefix for a namespace that the schemas do not use, made unique."""
        if uri in self.prefixes:
            return
        taken = self.prefixes.values()
        chosen = next(
            one for one in (prefix, *(f"{prefix}{number}" for number in range(2, 10_000))) if one not in taken
        )
        self._prefixes.setdefault(uri, chosen)

    def everything(self) -> None:
        """Makes every component, so that every fault is known."""
        for kind, name in list(self.sources.entries):
            if kind == "type":
                self._type(name)
            elif kind == "element":
                self._global(name)
            elif kind == "attribute":
                self._global_attribute(name)
            elif kind == "group":
                entry = self.sources.entries[kind, name]
                self._group_of(entry, ())
            elif kind == "attributeGroup":
                self._attributes_of(self.sources.entries[kind, name].node, self.sources.entries[kind, name], ())
            self.finish()

    def complex_types(self) -> list[ComplexType]:
        """Every complex type that was made, those without a name too."""
        return list(self._filled)

    def entry(self, kind: str, name: str, above: Entry) -> Entry | None:
        """What a name means at a place: within a redefinition, its own name means the original."""
        found = self.sources.entries.get((kind, name))
        return found.original if found is above and above.original is not None else found

    def _unknown(self, kind: str, text: str, node: ET.Element, attribute: str, above: Entry) -> None:
        known = [local(name) for what, name in self.sources.entries if what == kind]
        wanted = text.rpartition(":")[2]
        near = nearest(wanted, known) if wanted not in known else "its namespace, or that of the prefix, is another"
        self.sources.fault(
            f"there is no {WORDS[kind]} {quoted(text)}",
            above.source.place(node, attribute),
            near or "declare it, or import the schema that has it",
        )

    def _referred(self, kind: str, node: ET.Element, attribute: str, above: Entry) -> tuple[str, Entry] | None:
        text = node.get(attribute, "")
        name = above.source.name(text, node)
        entry = self.entry(kind, name, above) if name is not None else None
        if name is None or entry is None:
            self._unknown(kind, text, node, attribute, above)
            return None
        return name, entry

    # Types.

    def _type(self, name: str) -> Type | None:
        found = self._types.get(name)
        if found is None:
            entry = self.sources.entries.get(("type", name))
            if entry is None:
                return None
            found = self._new_type(name, entry.node, entry)
        return found

    def named_type(self, name: str) -> Type | None:
        return self._type(name)

    def _new_type(self, name: str, node: ET.Element, above: Entry) -> Type:
        """A type begun; a complex one is filled later, since it may contain itself."""
        if node.tag == f"{S}simpleType":
            made: Type = self.simple(node, above, name)
            if name:
                self._types[name] = made
            return made
        made = ComplexType(name, _where(above.source, node), self.any_type)
        if name:
            self._types[name] = made
        self._waiting.append((made, node, above))
        return made

    def type_at(self, node: ET.Element, attribute: str, above: Entry) -> Type | None:
        """The type that an attribute names; None with a fault where there is none."""
        text = node.get(attribute, "")
        name = above.source.name(text, node)
        if name is not None:
            entry = self.sources.entries.get(("type", name))
            if entry is not None and entry is above and above.original is not None:
                return self._original(name, above.original)
            found = self._type(name)
            if found is not None:
                return found
        self._unknown("type", text, node, attribute, above)
        return None

    def _original(self, name: str, entry: Entry) -> Type:
        """What a redefinition builds on."""
        key = f"{name}\0{id(entry)}"
        found = self._types.get(key)
        if found is None:
            found = self._types[key] = self._new_type("", entry.node, entry)
            found.name = name
        return found

    def _fill(self, made: ComplexType, node: ET.Element, above: Entry) -> None:
        if made in self._filled or made in self._filling:
            return
        self._filling.add(made)
        source = above.source
        made.abstract = _true(node, "abstract")
        made.mixed = _true(node, "mixed")
        made.block = _set(node, "block", source, "blockDefault")
        made.final = _set(node, "final", source, "finalDefault")
        made.description = described(node)
        content = next((one for one in node if local(one.tag) in ("simpleContent", "complexContent")), None)
        how = next((one for one in content if local(one.tag) in ("extension", "restriction")), None) if content is not None else None  # fmt: skip
        if content is None or how is None:
            if content is not None:
                self.sources.fault(
                    f"<{local(content.tag)}> holds no extension or restriction", source.place(content), "add one"
                )
            made.content = self._content(node, above)
            made.attributes, made.any_attribute = self._attributes_of(node, above, ())
        else:
            self._derive(made, content, how, above)
        self._filled[made] = None
        self._filling.discard(made)

    def _derive(self, made: ComplexType, content: ET.Element, how: ET.Element, above: Entry) -> None:
        made.derivation = local(how.tag)
        base = self.type_at(how, "base", above) or self.any_type
        if isinstance(base, ComplexType) and not self._fill_base(base):
            self.sources.fault("this type is derived from itself", above.source.place(how, "base"), "name another base")
            base = self.any_type
        made.base = base
        if made.derivation in base.final:
            self.sources.fault(
                f"the base type does not allow {made.derivation} (final)",
                above.source.place(how, "base"),
                "derive otherwise",
            )
        attributes, wildcard = self._attributes_of(how, above, ())
        inherited = base.attributes if isinstance(base, ComplexType) else {}
        prohibited = {self._attribute_name(one, above) for one in how if one.get("use") == "prohibited"}
        extends = made.derivation == "extension"
        made.attributes = {
            **{name: one for name, one in inherited.items() if extends or name not in prohibited},
            **attributes,
        }
        of_base = base.any_attribute if isinstance(base, ComplexType) else None
        made.any_attribute = wildcard
        if extends and of_base is not None:
            made.any_attribute = of_base if wildcard is None else wildcard.either(of_base)
        if local(content.tag) == "simpleContent":
            made.simple = self._simple_content(how, base, above, extends)
            return
        if "mixed" in content.attrib:
            made.mixed = _true(content, "mixed")
        own = self._content(how, above)
        if not extends:
            made.content = own
        elif isinstance(base, ComplexType):
            if base.simple is not None:
                self.sources.fault("the base has text, which <complexContent> cannot extend", above.source.place(how), "use <simpleContent>")  # fmt: skip
            made.mixed = made.mixed or (base.mixed and own is None)
            made.content = _joined(base.content, own, _where(above.source, how))

    def _fill_base(self, base: ComplexType) -> bool:
        """Fills what is derived from; False when it is being filled, which means a circle."""
        waiting = next((one for one in self._waiting if one[0] is base), None)
        if waiting is not None:
            self._waiting.remove(waiting)
            self._fill(*waiting)
        return base not in self._filling

    def _simple_content(self, how: ET.Element, base: Type, above: Entry, extends: bool) -> SimpleType:
        of_base = base if isinstance(base, SimpleType) else base.simple
        if extends:
            if of_base is None:
                self.sources.fault("<simpleContent> extends a type that has no text", above.source.place(how, "base"), "name a type with text")  # fmt: skip
            return of_base or BUILTINS["string"]
        inner = how.find(f"{S}simpleType")
        start = self.simple(inner, above) if inner is not None else of_base
        return self.restricted(how, start or BUILTINS["string"], above, "")

    # Content.

    def _content(self, node: ET.Element, above: Entry) -> Particle | None:
        found = next((one for one in node if local(one.tag) in _PARTICLES[1:5] and one.tag.startswith(S)), None)
        particle = self._particle(found, above, ()) if found is not None else None
        group = particle.term if particle is not None else None
        if particle is None or not isinstance(group, Group) or group.particles:
            return particle
        # Nothing can be chosen from an empty choice; the others are just empty (section 3.4.2).
        return particle if group.kind == "choice" and particle.least else None

    def _particle(self, node: ET.Element, above: Entry, groups: tuple[ET.Element, ...]) -> Particle | None:
        """None where it may not occur or cannot be read."""
        least, most = self._occurs(node, above)
        kind = local(node.tag)
        if most == 0 or kind not in _PARTICLES:
            return None
        where = _where(above.source, node)
        if kind == "element":
            decl = self._element_at(node, above)
            return Particle(decl, least, most, where) if decl is not None else None
        if kind == "any":
            return Particle(self._wildcard(node, above), least, most, where)
        if kind == "group":
            return self._group_at(node, above, groups, least, most)
        self._nesting += 1
        try:
            if self._nesting > _MAX_NESTING:
                self.sources.fault("groups are nested too deep", above.source.place(node), "flatten the content model")
                return None
            inner = [self._particle(one, above, groups) for one in node if one.tag.startswith(S)]
        finally:
            self._nesting -= 1
        return Particle(Group(kind, tuple(one for one in inner if one is not None), where), least, most, where)

    def _group_at(self, node: ET.Element, above: Entry, groups: tuple[ET.Element, ...], least: int, most: int | None) -> Particle | None:  # fmt: skip
        referred = self._referred("group", node, "ref", above)
        if referred is None:
            return None
        _, entry = referred
        if entry.node in groups:
            self.sources.fault("this group contains itself", above.source.place(node), "break the circle")
            return None
        inner = self._group_of(entry, (*groups, entry.node))
        return Particle(inner.term, least, most, _where(above.source, node)) if inner is not None else None

    def _group_of(self, entry: Entry, groups: tuple[ET.Element, ...]) -> Particle | None:
        found = next((one for one in entry.node if local(one.tag) in ("all", "choice", "sequence")), None)
        return self._particle(found, entry, groups or (entry.node,)) if found is not None else None

    def _occurs(self, node: ET.Element, above: Entry) -> tuple[int, int | None]:
        found: list[int | None] = []
        for attribute in ("minOccurs", "maxOccurs"):
            text = node.get(attribute, "1").strip()
            if attribute == "maxOccurs" and text == "unbounded":
                found.append(None)
            elif text.isascii() and text.isdigit() and len(text) < 10:
                found.append(int(text))
            else:
                self.sources.fault(
                    f"{attribute} is {quoted(text)}", above.source.place(node, attribute), "write a number"
                )
                found.append(1)
        least, most = found
        if most is not None and least is not None and least > most:
            if "maxOccurs" in node.attrib or least > 1:
                self.sources.fault(f"minOccurs is {least}, more than maxOccurs {most}", above.source.place(node), "correct one of them")  # fmt: skip
            least = most
        return least or 0, most

    # Elements.

    def _global(self, name: str) -> ElementDecl | None:
        if name not in self._elements:
            entry = self.sources.entries.get(("element", name))
            if entry is None:
                return None
            made = self._elements[name] = ElementDecl(name, _where(entry.source, entry.node), self.any_type)
            self._fill_element(made, entry.node, entry)
        return self._elements[name]

    def _element_at(self, node: ET.Element, above: Entry) -> ElementDecl | None:
        if "ref" in node.attrib:
            referred = self._referred("element", node, "ref", above)
            return self._global(referred[0]) if referred else None
        key = (node, above.source.namespace)
        made = self._local.get(key)
        if made is None:
            name = node.get("name", "").strip()
            if not name:
                self.sources.fault("this element has neither name nor ref", above.source.place(node), "give it a name")
                return None
            form = node.get("form") or above.source.node.get("elementFormDefault", "unqualified")
            full = qualified(above.source.namespace, name) if form == "qualified" else name
            made = self._local[key] = ElementDecl(full, _where(above.source, node), self.any_type)
            self._fill_element(made, node, above)
        return made

    def _fill_element(self, made: ElementDecl, node: ET.Element, above: Entry) -> None:
        source = above.source
        inner = next((one for one in node if one.tag in (f"{S}simpleType", f"{S}complexType")), None)
        if "type" in node.attrib:
            made.type = self.type_at(node, "type", above) or self.any_type
        elif inner is not None:
            made.type = self._new_type("", inner, above)
        made.nillable = _true(node, "nillable")
        made.abstract = _true(node, "abstract")
        made.default, made.fixed = node.get("default"), node.get("fixed")
        made.block = _set(node, "block", source, "blockDefault")
        made.final = _set(node, "final", source, "finalDefault")
        made.description = described(node)
        head = node.get("substitutionGroup")
        if head:
            referred = self._referred("element", node, "substitutionGroup", above)
            if referred:
                made.head = referred[0]
                if "type" not in node.attrib and inner is None and referred[0] != made.name:
                    leader = self._global(referred[0])
                    made.type = leader.type if leader is not None else self.any_type
        found = []
        for one in node:
            if local(one.tag) in ("key", "keyref", "unique") and one.tag.startswith(S):
                try:
                    found.append(constraint(one, source))
                except BadPath as error:
                    self.sources.fault(
                        str(error), source.place(one), "see XSD part 1, section 3.11.6, for what is allowed"
                    )
        made.constraints = tuple(found)

    def substitutes(self, head: ElementDecl) -> dict[str, ElementDecl]:
        """The elements that may stand where `head` is declared, by name (section 3.3.6)."""
        known = self._substitutes.get(head)
        if known is not None:
            return known
        found: dict[str, ElementDecl] = {} if head.abstract else {head.name: head}
        self._substitutes[head] = found
        if "substitution" in head.block or self._global(head.name) is not head:
            return found
        waiting, seen = [head.name], {head.name}
        while waiting:
            for name, _ in self.sources.members.get(waiting.pop(), ()):
                one = self._global(name) if name not in seen else None
                seen.add(name)
                if one is not None:
                    waiting.append(name)
                    if not one.abstract and derived(one.type, head.type, head.block | _blocked(head.type)):
                        found[name] = one
        self.finish()
        return found

    def variants(self, declared: ElementDecl) -> list[Type]:
        """The named types that `xsi:type` may choose for an element, its own first unless that is abstract."""
        found = []
        base = declared.type
        blocked = declared.block | _blocked(base)
        names = [] if base is self.any_type else self.sources.derived_from(base.name)
        for name in [base.name, *names]:
            one = self.type(name) if name else None
            abstract = isinstance(one, ComplexType) and one.abstract
            if one is not None and not abstract and one not in found and derived(one, base, blocked):
                found.append(one)
        return found

    # Attributes.

    def _attributes_of(
        self, node: ET.Element, above: Entry, groups: tuple[ET.Element, ...]
    ) -> tuple[dict[str, Attribute], Wildcard | None]:
        found: dict[str, Attribute] = {}
        wildcard: Wildcard | None = None
        for one in node:
            kind = local(one.tag)
            if kind == "attribute" and one.get("use") != "prohibited":
                made = self._attribute_at(one, above)
                if made is not None:
                    if made.name in found:
                        self.sources.fault(f"the attribute {local(made.name)} stands twice", above.source.place(one), "remove one of them")  # fmt: skip
                    found[made.name] = made
            elif kind == "attributeGroup" and "ref" in one.attrib:
                referred = self._referred("attributeGroup", one, "ref", above)
                if referred is None:
                    continue
                if referred[1].node in groups:
                    self.sources.fault(
                        "this attribute group contains itself", above.source.place(one), "break the circle"
                    )
                    continue
                inner, its = self._attributes_of(referred[1].node, referred[1], (*groups, referred[1].node))
                found.update(inner)
                wildcard = its if wildcard is None or its is None else wildcard.both(its)
            elif kind == "anyAttribute":
                own = self._wildcard(one, above)
                wildcard = own if wildcard is None else own.both(wildcard)
        return found, wildcard

    def _attribute_name(self, node: ET.Element, above: Entry) -> str:
        if "ref" in node.attrib:
            return above.source.name(node.get("ref", ""), node) or ""
        form = node.get("form") or above.source.node.get("attributeFormDefault", "unqualified")
        name = node.get("name", "").strip()
        return qualified(above.source.namespace, name) if form == "qualified" else name

    def _attribute_at(self, node: ET.Element, above: Entry) -> Attribute | None:
        name = self._attribute_name(node, above)
        where = _where(above.source, node)
        required = node.get("use") == "required"
        if "ref" in node.attrib:
            shared = self._global_attribute(name)
            if shared is None and name in XML_ATTRIBUTES:
                shared = Attribute(name, BUILTINS[XML_ATTRIBUTES[name]], where)
            if shared is None:
                self._unknown("attribute", node.get("ref", ""), node, "ref", above)
                return None
            fixed, default = node.get("fixed", shared.fixed), node.get("default", shared.default)
            return Attribute(name, shared.type, where, required, default, fixed, shared.description)
        if not name:
            self.sources.fault("this attribute has neither name nor ref", above.source.place(node), "give it a name")
            return None
        made = Attribute(
            name, self._attribute_type(node, above), where, required, node.get("default"), node.get("fixed")
        )
        made.description = described(node)
        return made

    def _attribute_type(self, node: ET.Element, above: Entry) -> SimpleType:
        inner = node.find(f"{S}simpleType")
        if inner is not None:
            return self.simple(inner, above)
        if "type" not in node.attrib:
            return BUILTINS["anySimpleType"]
        found = self.type_at(node, "type", above)
        if isinstance(found, ComplexType):
            self.sources.fault("an attribute has text only; this type has more", above.source.place(node, "type"), "name a simple type")  # fmt: skip
            return BUILTINS["anySimpleType"]
        return found or BUILTINS["anySimpleType"]

    def _global_attribute(self, name: str) -> Attribute | None:
        entry = self.sources.entries.get(("attribute", name))
        if entry is None:
            return None
        node = entry.node
        made = Attribute(name, self._attribute_type(node, entry), _where(entry.source, node), False, node.get("default"), node.get("fixed"))  # fmt: skip
        made.description = described(node)
        return made

    def attribute(self, name: str) -> Attribute | None:
        """A global attribute; None when there is none."""
        return self._global_attribute(name)

    def _wildcard(self, node: ET.Element, above: Entry) -> Wildcard:
        text = node.get("namespace", "##any").split()
        target = above.source.namespace
        process = node.get("processContents", "strict")
        where = _where(above.source, node)
        if text == ["##any"]:
            return Wildcard(frozenset(), True, process, where)
        if text == ["##other"]:
            return Wildcard(frozenset((target, "")), True, process, where)
        names = {"##targetNamespace": target, "##local": ""}
        return Wildcard(frozenset(names.get(one, one) for one in text), False, process, where)


XML_ATTRIBUTES = {
    "{http://www.w3.org/XML/1998/namespace}lang": "language",
    "{http://www.w3.org/XML/1998/namespace}space": "NCName",
    "{http://www.w3.org/XML/1998/namespace}base": "anyURI",
    "{http://www.w3.org/XML/1998/namespace}id": "ID",
}
"""Attributes that every document may refer to, also where their schema is not at hand."""


def derived(one: Type, base: Type, blocked: frozenset[str] = frozenset()) -> bool:
    """Whether a type is another or derived from it, by no way that is blocked (sections 3.4.6 and 3.14.6)."""
    at: Type | None = one
    while at is not None and at is not base:
        how = at.derivation if isinstance(at, ComplexType) else "restriction"
        if how in blocked:
            return False
        if (
            isinstance(at, SimpleType)
            and isinstance(base, SimpleType)
            and base.variety == "union"
            and at in base.members
        ):
            return True
        at = at.base
    if at is base:
        return True
    return (isinstance(base, ComplexType) and base.name == f"{S}anyType") or (
        isinstance(base, SimpleType)
        and base.variety == "union"
        and any(derived(one, member) for member in base.members)
    )


def _blocked(one: Type) -> frozenset[str]:
    return one.block if isinstance(one, ComplexType) else frozenset()


def described(node: ET.Element) -> str:
    """The documentation of a component."""
    texts = ["".join(one.itertext()) for one in node.iterfind(f"{S}annotation/{S}documentation")]
    return " ".join(" ".join(texts).split())[:1_000]


def _where(source: Source, node: ET.Element) -> Where:
    return lambda: source.place(node)


def _true(node: ET.Element, attribute: str) -> bool:
    return node.get(attribute, "").strip() in ("true", "1")


def _set(node: ET.Element, attribute: str, source: Source, default: str) -> frozenset[str]:
    text = node.get(attribute)
    words = (source.node.get(default, "") if text is None else text).split()
    return ALL if "#all" in words else frozenset(words)


def _joined(base: Particle | None, own: Particle | None, where: Where) -> Particle | None:
    """The content of an extension: the base's, then its own (section 3.4.2)."""
    if base is None or own is None:
        return base or own
    return Particle(Group("sequence", (base, own), where), 1, 1, where)


def _any_type() -> ComplexType:
    def nowhere() -> Location:
        return Location("", "")

    anything = Wildcard(frozenset(), True, "lax", nowhere)
    made = ComplexType(f"{S}anyType", nowhere, None, mixed=True, any_attribute=anything)
    made.content = Particle(anything, 0, None, nowhere)
    return made
