"""How deep elements must nest: what tells, of a choice, the branch that ends."""

from __future__ import annotations

from juxtalogos.schema.xml.tree.components import (
    ComplexType,
    ElementDecl,
    ModelGroup,
    Particle,
    Type,
    Wildcard,
)

_ENDLESS = 10**6


class Depths:
    """How many levels an element takes at least: what tells the branch that ends."""

    def __init__(self) -> None:
        self._known: dict[ElementDecl, int] = {}

    def of(self, particle: Particle) -> int:
        """How deep what a particle lets in must nest at least."""
        if particle.least == 0:
            return 0
        term = particle.term
        if isinstance(term, ElementDecl):
            return self.of_element(term)
        if isinstance(term, Wildcard):
            return 1
        inner = [self.of(one) for one in term.particles]
        return (min if term.kind == "choice" else max)(inner, default=0)

    def of_element(self, declared: ElementDecl) -> int:
        """How deep an element must nest at least."""
        if declared in self._known:
            return self._known[declared]
        self._settle(declared)
        return self._known[declared]

    def _settle(self, declared: ElementDecl) -> None:
        """Every element that can be reached, until nothing gets less deep."""
        reached = {declared: None}
        waiting = [declared]
        while waiting:
            for one in _elements_of(waiting.pop().type):
                if one not in reached:
                    reached[one] = None
                    waiting.append(one)
        for one in reached:
            self._known.setdefault(one, _ENDLESS)
        changed = True
        while changed:
            changed = False
            for one in reached:
                kind = one.type
                content = kind.content if isinstance(kind, ComplexType) else None
                found = min(_ENDLESS, 1 + (self.of(content) if content is not None else 0))
                if found < self._known[one]:
                    self._known[one] = found
                    changed = True


def _elements_of(kind: Type) -> list[ElementDecl]:
    found: list[ElementDecl] = []
    waiting = [kind.content] if isinstance(kind, ComplexType) and kind.content is not None else []
    while waiting:
        term = waiting.pop().term
        if isinstance(term, ElementDecl):
            found.append(term)
        elif isinstance(term, ModelGroup):
            waiting += term.particles
    return found
