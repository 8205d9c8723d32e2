"""Samples: elements that a declaration accepts, for what is required or for everything,
or varied by a seed.
"""

from __future__ import annotations

import xml.etree.ElementTree as ET
from random import Random

from juxtalogos.documents.xmltext import local
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.schema import ABSENT, NOTHING, Wanted
from juxtalogos.schema.xml.check.checker import Checker
from juxtalogos.schema.xml.check.identity import NIL, TYPE
from juxtalogos.schema.xml.make.sample_text import sample_text
from juxtalogos.schema.xml.tell.addresses import Layout, layout_of
from juxtalogos.schema.xml.tell.plain_values import ANY, NIL_KEY, TEXT, TYPE_KEY
from juxtalogos.schema.xml.tell.text import prefixed, scope_of
from juxtalogos.schema.xml.tree.components import (
    ComplexType,
    ElementDecl,
    ModelGroup,
    Particle,
    Type,
    Wildcard,
    elements_in,
)
from juxtalogos.schema.xml.tree.reader import SchemaReader
from juxtalogos.schema.xml.tree.simple_types import SimpleType

_DEEP = 60
_TRIES = 12
_MOST = 2_000
"""Items of one list that are made."""


def sample_element(
    reader: SchemaReader,
    declared: ElementDecl,
    *,
    full: bool = False,
    seed: int = 0,
    wanted: Wanted = NOTHING,
) -> ET.Element:
    """A valid element that has the places wanted.

    Seed 0 gives the first of each choice; others vary. Unsampleable when none is found.
    """
    last = "nothing was tried"
    for turn in range(_TRIES):
        sampler = _Sampler(reader, full, seed + turn * 101, vary=turn > 0)
        made = sampler.element(declared, (), wanted)
        checker = Checker(reader, lambda _: scope_of(reader.prefixes))
        checker.root(made, declared)
        if any(deviation.keyword == "keyref" for deviation in checker.deviations):
            checker.point_to_keys()
            checker = Checker(reader, lambda _: scope_of(reader.prefixes))
            checker.root(made, declared)
        wrong = [deviation for deviation in checker.deviations if not deviation.advisory]
        if not wrong:
            return made
        last = f"{wrong[0].path or '/'}: {wrong[0].declared}"
    raise Unsampleable(
        f"no valid {local(declared.name)} was found: {last}", mend="give the values with --set"
    )


class Pending:
    """Children of one element that are wanted and not made yet."""

    def __init__(self, layout: Layout, wanted: Wanted) -> None:
        self.waiting: dict[str, list[tuple[ElementDecl, Wanted]]] = {}
        for key, one in wanted.inner.items():
            declared = layout.elements.get(key)
            if declared is not None:
                # A bare value is that of the first; indices count those alike.
                several = [one.below(str(index)) for index in range(min(one.items(), _MOST))] or [one]
                self.waiting[declared.name] = [(declared, each) for each in several]

    def __bool__(self) -> bool:
        return bool(self.waiting)

    def names(self) -> list[str]:
        """Names of the children still wanted."""
        return list(self.waiting)

    def lie_in(self, names: frozenset[str]) -> frozenset[str]:
        """Which of these names are wanted."""
        return names & self.waiting.keys()

    def take(self, name: str) -> tuple[ElementDecl, Wanted]:
        """The next child of that name."""
        found = self.waiting[name].pop(0)
        if not self.waiting[name]:
            del self.waiting[name]
        return found


class _Sampler:
    def __init__(self, reader: SchemaReader, full: bool, seed: int, vary: bool) -> None:
        self.reader = reader
        self.full = full
        self.seed = seed
        self.rng = Random(seed)
        self.vary = vary
        self.turn = seed
        self.ids = 0

    def text(self, kind: SimpleType) -> str:
        if any(ancestor.kind == "ID" for ancestor in kind.ancestors()):
            self.ids += 1
            return f"id{self.ids}"
        if any(ancestor.kind == "IDREF" for ancestor in kind.ancestors()) or (
            kind.item and kind.item.kind == "IDREF"
        ):
            return "id1"
        if self.vary:
            self.turn += 1
        return sample_text(kind, self.turn, scope_of(self.reader.prefixes))

    def named(self, name: str, kind: SimpleType) -> str:
        """A text for what is called so."""
        try:
            return self.text(kind)
        except Unsampleable as error:
            raise Unsampleable(f"{local(name)}: {error.what}", mend=error.mend) from None

    def element(self, declared: ElementDecl, above: tuple[Type, ...], wanted: Wanted = NOTHING) -> ET.Element:
        if len(above) > _DEEP:
            raise Unsampleable(
                f"{local(declared.name)} contains itself without end", mend="give the element as XML text"
            )
        meant = self.stand_in(declared)
        made = ET.Element(meant.name)
        kind = self.type_of(meant, made, wanted)
        if meant.nillable and not wanted.inner and self.seed and not self.full and self.rng.random() < 0.15:
            made.set(NIL, "true")
            if isinstance(kind, ComplexType):
                self.attributes(kind, made)
            return made
        if isinstance(kind, SimpleType):
            made.text = meant.fixed if meant.fixed is not None else self.named(meant.name, kind)
            return made
        self.attributes(kind, made, wanted)
        if kind.simple is not None:
            made.text = meant.fixed if meant.fixed is not None else self.named(meant.name, kind.simple)
        elif meant.fixed is not None:
            made.text = meant.fixed
        elif kind.content is not None:
            layout = layout_of(kind, self.reader)
            pending = Pending(layout, wanted)
            self.particle(kind.content, made, (*above, kind), pending)
        return made

    def stand_in(self, declared: ElementDecl) -> ElementDecl:
        options = list(self.reader.substitutes(declared).values())
        if not options:
            raise Unsampleable(f"{local(declared.name)} is abstract and nothing stands in for it")
        return self.rng.choice(options) if self.seed else options[0]

    def type_of(self, declared: ElementDecl, made: ET.Element, wanted: Wanted) -> Type:
        kind = declared.type
        if wanted.inner:
            chosen = self.type_wanted(declared, wanted)
            if chosen is not kind:
                made.set(TYPE, prefixed(chosen.name, self.reader.prefixes))
            return chosen
        abstract = isinstance(kind, ComplexType) and kind.abstract
        if isinstance(kind, SimpleType) or not (abstract or (self.seed and self.rng.random() < 0.4)):
            return kind
        options = self.reader.variants(declared)
        if not options:
            if abstract:
                raise Unsampleable(
                    f"the type of {local(declared.name)} is abstract and none is derived from it"
                )
            return kind
        chosen = self.rng.choice(options) if self.seed else options[0]
        if chosen is not kind:
            made.set(TYPE, prefixed(chosen.name, self.reader.prefixes))
        return chosen

    def type_wanted(self, declared: ElementDecl, wanted: Wanted) -> Type:
        """The type that is named, or the first that has every place that is wanted."""
        options = [
            declared.type,
            *(variant for variant in self.reader.variants(declared) if variant is not declared.type),
        ]
        options = [option for option in options if not (isinstance(option, ComplexType) and option.abstract)]
        name = wanted.below(TYPE_KEY).value
        if name is not ABSENT:
            options = [
                option
                for option in options
                if name in (option.name, local(option.name), prefixed(option.name, self.reader.prefixes))
            ]
        lacking = ""
        for one in options:
            lacking = next((key for key in wanted.inner if not self.has_place(one, key)), "")
            if not lacking:
                return one
        raise Unsampleable(
            f"{local(declared.name)} has no {lacking}"
            if lacking
            else f"{name} is no type of {local(declared.name)}"
        )

    def has_place(self, kind: Type, key: str) -> bool:
        if key in (TYPE_KEY, NIL_KEY, TEXT):
            return True
        if isinstance(kind, SimpleType):
            return False
        layout = layout_of(kind, self.reader)
        return (
            key in layout.elements
            or key in layout.attributes
            or layout.anything
            or (key == ANY and layout.open)
        )

    def attributes(self, kind: ComplexType, made: ET.Element, wanted: Wanted = NOTHING) -> None:
        keys = layout_of(kind, self.reader).attribute_keys if wanted.inner else {}
        for attribute in kind.attributes.values():
            if (
                attribute.technical
                and not attribute.required
                and keys.get(attribute.name) not in wanted.inner
            ):
                continue
            if (
                attribute.required
                or keys.get(attribute.name) in wanted.inner
                or self.full
                or (self.seed and self.rng.random() < 0.5)
            ):
                made.set(
                    attribute.name,
                    attribute.fixed
                    if attribute.fixed is not None
                    else self.named(f"@{local(attribute.name)}", attribute.type),
                )

    def particle(self, one: Particle, made: ET.Element, above: tuple[Type, ...], pending: Pending) -> None:
        count, turn = self.count(one, above), 0
        names = self.names(one) if pending else frozenset()
        while turn < count or (pending.lie_in(names) and (one.most is None or turn < one.most)):
            before = len(made)
            self.once(one.term, made, above, pending, again=one.most is None or turn + 1 < one.most)
            turn += 1
            if turn >= count and len(made) == before:
                return

    def once(
        self,
        term: ElementDecl | ModelGroup | Wildcard,
        made: ET.Element,
        above: tuple[Type, ...],
        pending: Pending,
        *,
        again: bool,
    ) -> None:
        if isinstance(term, ElementDecl):
            found = next(
                (
                    name
                    for name in pending.names()
                    if name in self.reader.substitutes(term) or name == term.name
                ),
                "",
            )
            if found:
                declared, wanted = pending.take(found)
                made.append(self.element(declared, above, wanted))
            else:
                made.append(self.element(term, above))
        elif isinstance(term, Wildcard):
            made.append(self.anything(term, above))
        elif term.kind == "choice":
            if term.particles:
                self.particle(self.branch(term, above, pending, again), made, above, pending)
        else:
            inner = list(term.particles)
            if term.kind == "all" and self.seed:
                self.rng.shuffle(inner)
            for each in inner:
                self.particle(each, made, above, pending)

    def names(self, particle: Particle) -> frozenset[str]:
        """Names of the elements that may stand in a particle."""
        found: set[str] = set()
        for one, _ in elements_in(particle):
            if isinstance(one.term, ElementDecl):
                found |= {one.term.name, *self.reader.substitutes(one.term)}
        return frozenset(found)

    def count(self, one: Particle, above: tuple[Type, ...]) -> int:
        if one.least > 2_000:
            raise Unsampleable(f"{one.least} repetitions are too many")
        if isinstance(one.term, Wildcard):
            return one.least
        most = one.most if one.most is not None else one.least + 3
        if len(above) > 8 or self.again(one, above):
            return one.least
        if self.seed and not self.full:
            return self.rng.randint(one.least, min(most, one.least + 2))
        return max(one.least, min(1, most)) if self.full else one.least

    def again(self, one: Particle, above: tuple[Type, ...]) -> bool:
        """Whether an element would lie within its own type: once is enough."""
        return isinstance(one.term, ElementDecl) and above.count(one.term.type) > (2 if self.seed else 0)

    def branch(self, group: ModelGroup, above: tuple[Type, ...], pending: Pending, again: bool) -> Particle:
        if pending:
            held = [(particle, pending.lie_in(self.names(particle))) for particle in group.particles]
            best, most = max(held, key=lambda pair: len(pair[1]))
            if most:
                if not again and any(other - most for _, other in held):
                    raise Unsampleable("of a choice one branch can stand only")
                return best
        if len(above) > 6 or any(self.again(particle, above) for particle in group.particles):
            return min(group.particles, key=lambda one: self.reader.depths.of(one))
        if self.seed:
            return self.rng.choice(group.particles)
        # The first that is more than a wildcard.
        return next(
            (particle for particle in group.particles if not isinstance(particle.term, Wildcard)),
            group.particles[0],
        )

    def anything(self, wildcard: Wildcard, above: tuple[Type, ...]) -> ET.Element:
        for kind, name in self.reader.sources.entries:
            space = name[1:].partition("}")[0] if name.startswith("{") else ""
            if kind == "element" and wildcard.admits(space) and len(above) < 6:
                found = self.reader.element(name)
                if found is not None and not found.abstract and self.reader.depths.of_element(found) < 8:
                    return self.element(found, above)
        if wildcard.process == "strict":
            raise Unsampleable(
                "an element of any kind is wanted, and no schema declares one that may stand there"
            )
        spaces = sorted(wildcard.namespaces) if not wildcard.negated else ["urn:merrow:other"]
        return ET.Element(f"{{{spaces[0]}}}extra" if spaces and spaces[0] else "extra")
