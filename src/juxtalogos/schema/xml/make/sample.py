"""Samples: elements that a declaration accepts, for what is required or for everything, or varied by a seed."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from random import Random

from juxtalogos.documents.xmltext import local
from juxtalogos.model.errors import Unsampleable
from juxtalogos.schema.xml.check.checker import Checker
from juxtalogos.schema.xml.check.identity import NIL, TYPE
from juxtalogos.schema.xml.make.sample_text import sample_text
from juxtalogos.schema.xml.tell.text import prefixed, scope_of
from juxtalogos.schema.xml.tree.components import ComplexType, ElementDecl, ModelGroup, Particle, Type, Wildcard
from juxtalogos.schema.xml.tree.reader import SchemaReader
from juxtalogos.schema.xml.tree.simple_types import SimpleType

_DEEP = 60
_TRIES = 12


def sample_element(reader: SchemaReader, declared: ElementDecl, *, full: bool = False, seed: int = 0) -> ET.Element:
    """A valid element. Seed 0 gives the first of each choice; others vary. Unsampleable when none is found."""
    last = "nothing was tried"
    for turn in range(_TRIES):
        sampler = _Sampler(reader, full, seed + turn * 101, vary=turn > 0)
        made = sampler.element(declared, ())
        checker = Checker(reader, lambda _: scope_of(reader.prefixes))
        checker.root(made, declared)
        if any(one.keyword == "keyref" for one in checker.deviations):
            checker.point_to_keys()
            checker = Checker(reader, lambda _: scope_of(reader.prefixes))
            checker.root(made, declared)
        wrong = [one for one in checker.deviations if not one.advisory]
        if not wrong:
            return made
        last = f"{wrong[0].path or '/'}: {wrong[0].declared}"
    raise Unsampleable(f"no valid {local(declared.name)} was found: {last}", mend="give the values with --set")


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
        if any(one.kind == "ID" for one in kind.ancestors()):
            self.ids += 1
            return f"id{self.ids}"
        if any(one.kind == "IDREF" for one in kind.ancestors()) or (kind.item and kind.item.kind == "IDREF"):
            return "id1"
        if self.vary:
            self.turn += 1
        return sample_text(kind, self.turn, scope_of(self.reader.prefixes))

    def element(self, declared: ElementDecl, above: tuple[Type, ...]) -> ET.Element:
        if len(above) > _DEEP:
            raise Unsampleable(
                f"{local(declared.name)} contains itself without end", mend="give the element as XML text"
            )
        meant = self.stand_in(declared)
        made = ET.Element(meant.name)
        kind = self.type_of(meant, made)
        if meant.nillable and self.seed and not self.full and self.rng.random() < 0.15:
            made.set(NIL, "true")
            if isinstance(kind, ComplexType):
                self.attributes(kind, made)
            return made
        if isinstance(kind, SimpleType):
            made.text = meant.fixed if meant.fixed is not None else self.text(kind)
            return made
        self.attributes(kind, made)
        if kind.simple is not None:
            made.text = meant.fixed if meant.fixed is not None else self.text(kind.simple)
        elif meant.fixed is not None:
            made.text = meant.fixed
        elif kind.content is not None:
            self.particle(kind.content, made, (*above, kind))
        return made

    def stand_in(self, declared: ElementDecl) -> ElementDecl:
        options = list(self.reader.substitutes(declared).values())
        if not options:
            raise Unsampleable(f"{local(declared.name)} is abstract and nothing stands in for it")
        return self.rng.choice(options) if self.seed else options[0]

    def type_of(self, declared: ElementDecl, made: ET.Element) -> Type:
        kind = declared.type
        abstract = isinstance(kind, ComplexType) and kind.abstract
        if isinstance(kind, SimpleType) or not (abstract or (self.seed and self.rng.random() < 0.4)):
            return kind
        options = self.reader.variants(declared)
        if not options:
            if abstract:
                raise Unsampleable(f"the type of {local(declared.name)} is abstract and none is derived from it")
            return kind
        chosen = self.rng.choice(options) if self.seed else options[0]
        if chosen is not kind:
            made.set(TYPE, prefixed(chosen.name, self.reader.prefixes))
        return chosen

    def attributes(self, kind: ComplexType, made: ET.Element) -> None:
        for one in kind.attributes.values():
            if one.required or self.full or (self.seed and self.rng.random() < 0.5):
                made.set(one.name, one.fixed if one.fixed is not None else self.text(one.type))

    def particle(self, one: Particle, made: ET.Element, above: tuple[Type, ...]) -> None:
        for _ in range(self.count(one, above)):
            term = one.term
            if isinstance(term, ElementDecl):
                made.append(self.element(term, above))
            elif isinstance(term, Wildcard):
                made.append(self.anything(term, above))
            elif term.kind == "choice":
                if term.particles:
                    self.particle(self.branch(term, above), made, above)
            else:
                inner = list(term.particles)
                if term.kind == "all" and self.seed:
                    self.rng.shuffle(inner)
                for each in inner:
                    self.particle(each, made, above)

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

    def branch(self, group: ModelGroup, above: tuple[Type, ...]) -> Particle:
        if len(above) > 6 or any(self.again(one, above) for one in group.particles):
            return min(group.particles, key=lambda one: self.reader.depths.of(one))
        if self.seed:
            return self.rng.choice(group.particles)
        # The first that is more than a wildcard.
        return next((one for one in group.particles if not isinstance(one.term, Wildcard)), group.particles[0])

    def anything(self, wildcard: Wildcard, above: tuple[Type, ...]) -> ET.Element:
        for kind, name in self.reader.sources.entries:
            space = name[1:].partition("}")[0] if name.startswith("{") else ""
            if kind == "element" and wildcard.admits(space) and len(above) < 6:
                found = self.reader.element(name)
                if found is not None and not found.abstract and self.reader.depths.of_element(found) < 8:
                    return self.element(found, above)
        if wildcard.process == "strict":
            raise Unsampleable("an element of any kind is wanted, and no schema declares one that may stand there")
        spaces = sorted(wildcard.namespaces) if not wildcard.negated else ["urn:merrow:other"]
        return ET.Element(f"{{{spaces[0]}}}extra" if spaces and spaces[0] else "extra")
