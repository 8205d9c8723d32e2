"""What a schema says that XSD forbids and is common in practice: warnings, since documents can be judged all
the same.

Content models that leave open which particle an element belongs to (part 1, section 3.8.6, unique particle
attribution),
and restrictions that let in what their base does not (section 3.9.6): both by walking the automata, a bounded
way.
"""

from __future__ import annotations

from collections.abc import Iterator

from juxtalogos.documents.xmltext import local
from juxtalogos.schema.xml.check.checker import automaton_of
from juxtalogos.schema.xml.tree.automaton import Automaton, State
from juxtalogos.schema.xml.tree.components import ComplexType, ElementDecl, Particle, Wildcard, elements_in
from juxtalogos.schema.xml.tree.reader import SchemaReader

MAX_STATES = 80
"""States of one model that are looked at; what only comes later is not told."""


def warn(reader: SchemaReader) -> None:
    """Adds the warnings to the faults of the schemas."""
    for made in reader.complex_types():
        if made is reader.any_type or made.content is None:
            continue
        if _may_clash(made, reader):
            found = _ambiguous(automaton_of(made, reader), reader)
            if found:
                reader.sources.fault(
                    f"it is open which declaration {found} belongs to",
                    made.where(),
                    "let the content model tell them apart (unique particle attribution)",
                    "warning",
                )
        base = made.base
        if made.derivation == "restriction" and isinstance(base, ComplexType) and base is not reader.any_type:
            wider = _wider(automaton_of(made, reader), automaton_of(base, reader), reader)
            if wider:
                reader.sources.fault(
                    f"this restriction lets in {wider}, which its base {local(base.name)} does not",
                    made.where(),
                    "restrict what the base has, or derive by extension",
                    "warning",
                )


def _may_clash(made: ComplexType, reader: SchemaReader) -> bool:
    """Whether a name could belong to two particles at all: most models have each name once."""
    names: set[str] = set()
    particles = [particle for particle, _ in elements_in(made.content)]
    for particle in particles:
        if isinstance(particle.term, Wildcard) and len(particles) > 1:
            return True
        mine = set(_names(particle, reader))
        if names & mine:
            return True
        names |= mine
    return False


def _names(particle: Particle, reader: SchemaReader) -> Iterator[str]:
    """Names that a particle takes; of a wildcard one that stands for the others."""
    term = particle.term
    if isinstance(term, ElementDecl):
        yield from reader.substitutes(term)
    elif isinstance(term, Wildcard):
        spaces = sorted(term.namespaces) if not term.negated else ["urn:merrow:any"]
        yield from (f"{{{space}}}any" if space else "any" for space in spaces)


def _states(automaton: Automaton, reader: SchemaReader) -> Iterator[tuple[State, str]]:
    """(state, a name that may come) of the states near the start."""
    waiting, seen = [automaton.start], {automaton.start}
    while waiting:
        state = waiting.pop(0)
        for particle in automaton.expected(state):
            for name in _names(particle, reader):
                yield state, name
                taken = automaton.step(state, name)
                if taken is not None and taken[0] not in seen and len(seen) < MAX_STATES:
                    seen.add(taken[0])
                    waiting.append(taken[0])


def _ambiguous(automaton: Automaton, reader: SchemaReader) -> str:
    for state, name in _states(automaton, reader):
        if len(automaton.particles_for(state, name)) > 1:
            return local(name)
    return ""


def _wider(narrow: Automaton, base: Automaton, reader: SchemaReader) -> str:
    """The first thing that one model lets in and the other does not; empty when there is
    none near the start.
    """
    waiting, seen = [(narrow.start, base.start)], {(narrow.start, base.start)}
    while waiting:
        state, above = waiting.pop(0)
        if state.final and not above.final:
            return "an end where more must come"
        for particle in narrow.expected(state):
            for name in _names(particle, reader):
                taken, there = narrow.step(state, name), base.step(above, name)
                if taken is None:
                    continue
                if there is None:
                    return local(name)
                pair = (taken[0], there[0])
                if pair not in seen and len(seen) < MAX_STATES:
                    seen.add(pair)
                    waiting.append(pair)
    return ""
