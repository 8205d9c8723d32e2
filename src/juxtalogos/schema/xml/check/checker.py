"""Checking elements: every deviation with its place, what was declared and what was expected next.

`cvc-` rules of XSD 1.0 part 1 (sections 3.2.4 to 3.11.4), over the components of a schema set. What the
element
exercised is noted on the way.
"""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections import Counter
from collections.abc import Iterator
from typing import Any

from juxtalogos.documents.xmltext import local, namespace
from juxtalogos.documents.xmltree import resolve_name
from juxtalogos.model.errors import quoted
from juxtalogos.model.findings import Deviation
from juxtalogos.schema.xml.check.identity import NIL, TYPE, XSI, KeyChecker, ScopeOf
from juxtalogos.schema.xml.tree.automaton import Automaton, State
from juxtalogos.schema.xml.tree.builtins import nowhere
from juxtalogos.schema.xml.tree.components import (
    Attribute,
    ComplexType,
    ElementDecl,
    ModelGroup,
    Particle,
    Type,
    Wildcard,
    derived,
)
from juxtalogos.schema.xml.tree.reader import SchemaReader
from juxtalogos.schema.xml.tree.simple_types import SimpleType, Where
from juxtalogos.schema.xml.tree.value_spaces import Scope

FREE = (NIL, TYPE, f"{{{XSI}}}schemaLocation", f"{{{XSI}}}noNamespaceSchemaLocation")
MAX_DEVIATIONS = 1_000
_SPACE = " \t\r\n"


def automaton_of(made: ComplexType, reader: SchemaReader) -> Automaton:
    """The automaton of a type's content, made once."""
    if made.automaton is None:
        made.automaton = Automaton(made.content, reader.substitutes)
    found: Automaton = made.automaton
    return found


class Checker(KeyChecker):
    """One pass over one document or element."""

    def __init__(self, reader: SchemaReader, scope_of: ScopeOf) -> None:
        super().__init__(scope_of)
        self.reader = reader
        self.hits: set[Any] = set()
        """Declarations, attributes, enumerated values, (group, index), ("nil" or type, declaration)."""
        self.steps: dict[ET.Element, dict[ET.Element, str]] = {}
        self.ids: dict[str, None] = {}
        self.references: list[tuple[str, str, Where]] = []

    def root(self, element: ET.Element, declared: ElementDecl) -> None:
        """Checks the element that a document begins with."""
        self.element(element, declared)
        for path, name, where in self.references:
            if name not in self.ids:
                self.deviations.append(
                    Deviation(path, "idref", where(), "the ID of an element", quoted(name))
                )

    # What is wrong, and where.

    def path(self, attribute: str = "") -> str:
        """XPath of the element in hand below the root, by local names; numbered where several may or do
        stand.
        """
        steps = []
        for above, one in zip(self.trail, self.trail[1:]):
            if above not in self.steps:
                self.steps[above] = self._steps(above)
            steps.append(self.steps[above][one])
        return "".join(steps) + (f"/@{local(attribute)}" if attribute else "")

    def _steps(self, above: ET.Element) -> dict[ET.Element, str]:
        """The step to each child."""
        totals, counts = Counter(local(ancestor.tag) for ancestor in above), Counter[str]()
        kind = self.types.get(above)
        automaton = automaton_of(kind, self.reader) if isinstance(kind, ComplexType) else None
        found = {}
        for one in above:
            name = local(one.tag)
            counts[name] += 1
            numbered = totals[name] > 1 or (automaton is not None and automaton.repeats(one.tag))
            found[one] = f"/{name}[{counts[name]}]" if numbered else f"/{name}"
        return found

    def place(self, declared: ElementDecl) -> None:
        """Notes the types along the trail, from that of its first element on: what was not gone through
        before.
        """
        meant: ElementDecl | None = declared
        for one, following in zip(self.trail, [*self.trail[1:], None]):
            if meant is None:
                return
            kind = self.types.setdefault(one, meant.type)
            automaton = automaton_of(kind, self.reader) if isinstance(kind, ComplexType) else None
            meant = (
                automaton.meant(following.tag) if automaton is not None and following is not None else None
            )

    def note(
        self,
        keyword: str,
        where: Where,
        declared: str,
        observed: str,
        attribute: str = "",
        *,
        undecided: bool = False,
    ) -> None:
        """Notes a deviation at the element at hand."""
        if len(self.deviations) < MAX_DEVIATIONS:
            path = self.path(attribute)
            self.deviations.append(
                Deviation(path, keyword, where(), declared, observed, undecided, undecided)
            )

    # Elements.

    def element(self, element: ET.Element, declared: ElementDecl) -> None:
        """Checks an element with all below it."""
        self.trail.append(element)
        self.hits.add(declared)
        if declared.abstract:
            self.note(
                "abstract", declared.where, "an element that stands in for it", f"{local(element.tag)} itself"
            )
        actual = self.type_of(element, declared)
        self.types[element] = actual
        nil = element.get(NIL)
        if (declared.unread and actual is declared.type) or (
            isinstance(actual, ComplexType) and actual.unread
        ):
            what = f"what is declared of {local(element.tag)} cannot be read"
            self.note("type", declared.where, "as declared", what, undecided=True)
            self.trail.pop()
            return
        if nil is not None and nil.strip() not in ("true", "false", "1", "0"):
            self.note("type", declared.where, "boolean", quoted(nil), NIL)
        elif nil is not None and not declared.nillable:  # whatever it says (cvc-elt, 3.1)
            self.note("nillable", declared.where, "no xsi:nil", f"xsi:nil {quoted(nil)}", NIL)
        if nil is not None and nil.strip() in ("true", "1"):
            self.nil(element, declared, actual)
        elif isinstance(actual, SimpleType):
            self.attributes(element, {}, None, declared.where)
            self.text(element, actual, declared)
        else:
            self.complex(element, actual, declared)
        for one in declared.constraints:
            if one.kind != "keyref":
                self.key(element, one)
        for one in declared.constraints:
            if one.kind == "keyref":
                self.keyref(element, one)
        self.trail.pop()
        if self.tables.get(element) and self.trail:
            above = self.tables.setdefault(self.trail[-1], {})
            for name, keys in self.tables[element].items():
                above[name] = above.get(name, set()) | keys

    def type_of(self, element: ET.Element, declared: ElementDecl) -> Type:
        """The declared type, or that of `xsi:type` (sections 3.3.4 and 3.4.4)."""
        actual = declared.type
        text = element.get(TYPE)
        if text is not None:
            name = resolve_name(text, self.scope_of(element))
            found = self.reader.type(name) if name is not None else None
            kinds = self.variants(declared)
            if found is None:
                self.note(
                    "xsi:type",
                    declared.where,
                    f"one of {kinds}",
                    f"{quoted(text)}, which no schema declares",
                    TYPE,
                )
            elif not derived(
                found,
                actual,
                declared.block | (actual.block if isinstance(actual, ComplexType) else frozenset()),
            ):
                self.note("xsi:type", declared.where, f"one of {kinds}", quoted(text), TYPE)
            else:
                actual = found
                self.hits.add((found, declared))
        if isinstance(actual, ComplexType) and actual.abstract:
            self.note(
                "abstract",
                declared.where,
                f"xsi:type with one of {self.variants(declared)}",
                "the abstract type",
            )
        return actual

    def variants(self, declared: ElementDecl) -> str:
        return (
            ", ".join(local(variant.name) for variant in self.reader.variants(declared))
            or declared.type.name
            or "its type"
        )

    def nil(self, element: ET.Element, declared: ElementDecl, actual: Type) -> None:
        """Checks an element that says it is nil (cvc-elt, 3)."""
        self.hits.add(("nil", declared))
        if len(element) or (element.text or ""):
            self.note("nillable", declared.where, "nothing within, since xsi:nil is true", "content")
        if declared.fixed is not None:
            self.note("fixed", declared.where, declared.fixed, "xsi:nil", NIL)
        if isinstance(actual, ComplexType):
            self.attributes(element, actual.attributes, actual.any_attribute, actual.where)
        else:
            self.attributes(element, {}, None, declared.where)

    def text(self, element: ET.Element, kind: SimpleType, declared: ElementDecl) -> None:
        """An element whose type is simple, or whose content is."""
        if len(element):
            inner = ", ".join(dict.fromkeys(local(child.tag) for child in element))
            self.note("type", declared.where, f"text ({kind.words()})", f"the elements {quoted(inner)}")
            return
        text = element.text or ""
        default = declared.fixed if declared.fixed is not None else declared.default
        if text == "" and default is not None:
            text = default
        self.value(text, kind, element, "", declared.where)
        if declared.fixed is not None and not self.same(text, declared.fixed, kind, element):
            self.note("fixed", declared.where, declared.fixed, quoted(text))

    def value(self, text: str, kind: SimpleType, element: ET.Element, attribute: str, where: Where) -> None:
        """`where` is told of what no document declares: the built-in types."""
        scope: Scope = self.scope_of(element) if kind.needs_scope else {}
        if not kind.accepts(text, scope):
            for wrong in kind.wrongs(text, scope):
                observed = wrong.undecided or (
                    quoted(text) if text.strip() else "no text" if not text else "blanks only"
                )
                place = wrong.where if wrong.where is not nowhere else where
                self.note(
                    wrong.facet, place, wrong.declared, observed, attribute, undecided=bool(wrong.undecided)
                )
            return
        if kind.enumeration:
            value = kind.value(text, scope)
            self.hits.update(facet for facet in kind.enumeration if facet.value == value)
        elif kind.variety == "union":
            self.hits.update(enumerated(kind, text, scope))
        self.identity(text, kind, attribute)

    def identity(self, text: str, kind: SimpleType, attribute: str) -> None:
        """ID and IDREF (part 1, section 3.15.4, cvc-id)."""
        if kind.kind == "ID":
            name = kind.normal(text)
            if name in self.ids:
                self.note("id", kind.where, "an ID that no other element has", quoted(name), attribute)
            self.ids[name] = None
        elif kind.kind in ("IDREF", "IDREFS"):
            names = kind.normal(text).split()
            self.references += [(self.path(attribute), name, kind.where) for name in names]

    def same(self, text: str, other: str, kind: SimpleType, element: ET.Element) -> bool:
        """Whether two texts are the same value."""
        try:
            scope = self.scope_of(element) if kind.needs_scope else {}
            return kind.value(text, scope) == kind.value(other, scope)
        except (ValueError, ArithmeticError):
            return kind.normal(text) == kind.normal(other)

    # Complex types.

    def complex(self, element: ET.Element, actual: ComplexType, declared: ElementDecl) -> None:
        """Checks an element of a complex type."""
        self.attributes(element, actual.attributes, actual.any_attribute, actual.where)
        if actual.simple is not None:
            self.text(element, actual.simple, declared)
            return
        default = declared.fixed if declared.fixed is not None else declared.default
        if not actual.mixed:
            self.no_text(element, actual)
        elif declared.fixed is not None and ("".join(element.itertext()) or declared.fixed) != declared.fixed:
            self.note("fixed", declared.where, declared.fixed, quoted("".join(element.itertext())))
        if default is not None and not len(element) and not element.text:
            return
        self.content(element, actual)

    def no_text(self, element: ET.Element, actual: ComplexType) -> None:
        """Notes text where elements only may stand."""
        texts = [element.text, *(child.tail for child in element)]
        found = next((text for text in texts if text and text.strip(_SPACE)), None)
        if found is not None:
            self.note("text", actual.where, "elements only", f"the text {quoted(found.strip())}")

    def content(self, element: ET.Element, actual: ComplexType) -> None:
        """Checks children by the content model."""
        automaton = automaton_of(actual, self.reader)
        state = automaton.start
        lost = False
        for child in element:
            taken = automaton.step(state, child.tag)
            if taken is None:
                lost = True
                self.unexpected(child, state, automaton, actual)
                taken = automaton.resume(
                    state, child.tag
                )  # what comes after something missing may still be right
                if taken is None:
                    continue
            state, meant, particle = taken
            self.hits.update(automaton.branches.get(particle, ()))
            if isinstance(meant, ElementDecl):
                self.element(child, meant)
            else:
                self.wild(child, meant)
        if not state.final and not lost:
            missing = automaton.needed(state)
            self.note("missing", missing[0].where, words(missing), "nothing more")

    def unexpected(self, child: ET.Element, state: State, automaton: Automaton, actual: ComplexType) -> None:
        """Notes a child that may not stand where it stands."""
        self.trail.append(child)
        expected = automaton.expected(state)
        needed = automaton.needed(state)
        declared = words(needed or expected) if expected else "nothing more"
        known = automaton.meant(child.tag) is not None
        keyword = "order" if known else "undeclared"
        if known and needed and automaton.resume(state, child.tag) is not None:
            keyword = "missing"  # it could have come, had the one before it come first
        where = (needed or expected)[0].where if expected else actual.where
        observed = local(child.tag)
        self.note(
            keyword, where, declared, f"{observed}, out of its order" if keyword == "order" else observed
        )
        self.trail.pop()

    def wild(self, child: ET.Element, wildcard: Wildcard) -> None:
        """Checks a child that a wildcard lets in."""
        self.hits.add(wildcard)
        if wildcard.process == "skip":
            return
        found = self.reader.element(child.tag)
        if found is not None:
            self.element(child, found)
        elif wildcard.process == "strict" and child.get(TYPE) is None:
            self.trail.append(child)
            self.note("undeclared", wildcard.where, "an element that a schema declares", local(child.tag))
            self.trail.pop()
        else:
            unknown = ElementDecl(child.tag, wildcard.where, self.reader.any_type, nillable=True)
            self.element(child, unknown)
            self.hits.discard(unknown)

    # Attributes.

    def attributes(
        self, element: ET.Element, declared: dict[str, Attribute], wildcard: Wildcard | None, where: Where
    ) -> None:
        """Checks attributes."""
        for name, text in element.items():
            one = declared.get(name)
            if one is None:
                if name not in FREE:
                    self.other_attribute(element, name, text, wildcard, where)
                continue
            self.attribute(element, one, text)
        for one in declared.values():
            if one.required and one.name not in element.attrib:
                self.note(
                    "required", one.where, f"the attribute {local(one.name)}", "no such attribute", one.name
                )

    def attribute(self, element: ET.Element, one: Attribute, text: str) -> None:
        """Checks a declared attribute."""
        self.hits.add(one)
        self.value(text, one.type, element, one.name, one.where)
        if one.fixed is not None and not self.same(text, one.fixed, one.type, element):
            self.note("fixed", one.where, one.fixed, quoted(text), one.name)

    def other_attribute(
        self, element: ET.Element, name: str, text: str, wildcard: Wildcard | None, where: Where
    ) -> None:
        """Checks an attribute that is not declared."""
        if wildcard is None or not wildcard.admits(namespace(name)):
            self.note("undeclared", where, "no such attribute", local(name), name)
            return
        if wildcard.process == "skip":
            return
        found = self.reader.attribute(name)
        if found is not None:
            self.attribute(element, found, text)
        elif wildcard.process == "strict":
            self.note("undeclared", wildcard.where, "an attribute that a schema declares", local(name), name)


def enumerated(kind: SimpleType, text: str, scope: Scope) -> Iterator[Any]:
    """The enumerated values that a text is."""
    for member in kind.members:
        if member.accepts(text, scope):
            if member.enumeration:
                value = member.value(text, scope)
                yield from (facet for facet in member.enumeration if facet.value == value)
            elif member.variety == "union":
                yield from enumerated(member, text, scope)
            return


def words(particles: list[Particle], most: int = 6) -> str:
    """What may come, in words."""
    names = list(dict.fromkeys(map(_word, particles)))
    more = f" or {len(names) - most} others" if len(names) > most else ""
    return " or ".join(names[:most]) + more


def _word(particle: Particle) -> str:
    term = particle.term
    if isinstance(term, ElementDecl):
        return local(term.name)
    return (
        f"an element ({term.words()})"
        if isinstance(term, Wildcard)
        else term.kind
        if isinstance(term, ModelGroup)
        else ""
    )
