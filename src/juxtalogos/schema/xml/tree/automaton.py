"""Content models as automata: a state is what may still come, a step is a derivative, made when it is first
taken.

Occurrences stay counters, so a model of a thousand takes no more room than what documents use of it. Models
obey
"unique particle attribution" (XSD 1.0 part 1, appendix H): a name leads to one particle. Where a schema
breaks that
rule, every way is followed and the first particle declared gives the declaration.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from juxtalogos.schema.xml.tree.components import ElementDecl, ModelGroup, Particle, Wildcard, elements_in

MAX_STATES = 20_000
MAX_MOVES = 2_000
MAX_SKIPPED = 60
"""States and steps of one model that are remembered, and states looked at to go on behind
something missing."""


@dataclass(frozen=True, slots=True, eq=False)
class _Leaf:
    particle: Particle


@dataclass(frozen=True, slots=True, eq=False)
class _Sequence:
    first: Model
    rest: Model


@dataclass(frozen=True, slots=True, eq=False)
class _Choice:
    options: tuple[Model, ...]


@dataclass(frozen=True, slots=True, eq=False)
class _Repeat:
    item: Model
    least: int
    most: int | None


@dataclass(frozen=True, slots=True, eq=False)
class _All:
    items: tuple[Model, ...]
    """What has not come yet, in order of declaration."""


@dataclass(frozen=True, slots=True, eq=False)
class _Nothing:
    """`empty`: no more may come; else nothing can be right."""

    empty: bool


Model = _Leaf | _Sequence | _Choice | _Repeat | _All | _Nothing
_EMPTY, _NEVER = _Nothing(True), _Nothing(False)
Substitutes = Callable[[ElementDecl], dict[str, ElementDecl]]
"""The declarations that may stand where one is declared, by name; itself among them unless it is abstract."""


class _Maker:
    """Makes models; equal ones are one object, so that a state is found by identity."""

    def __init__(self) -> None:
        self.made: dict[tuple[object, ...], Model] = {}

    def one(self, kind: type[Any], *parts: Any) -> Model:
        key = (kind, *(part if isinstance(part, int | type(None)) else _identity(part) for part in parts))
        found = self.made.get(key)
        if found is None:
            found = kind(*parts)
            if len(self.made) < MAX_STATES:
                self.made[key] = found
        return found

    def model(self, particle: Particle) -> Model:
        term = particle.term
        if isinstance(term, ModelGroup):
            parts = [self.model(one) for one in term.particles if one.most != 0]
            if term.kind == "all":
                inner = self.one(_All, tuple(parts)) if parts else _EMPTY
            elif term.kind == "choice":
                inner = self.choice(parts)
            else:
                inner = _EMPTY
                for part in reversed(parts):
                    inner = self.sequence(part, inner)
        else:
            inner = self.one(_Leaf, particle)
        return self.repeat(inner, particle.least, particle.most)

    def sequence(self, first: Model, rest: Model) -> Model:
        if first is _NEVER or rest is _NEVER:
            return _NEVER
        if first is _EMPTY:
            return rest
        return first if rest is _EMPTY else self.one(_Sequence, first, rest)

    def choice(self, options: list[Model]) -> Model:
        kept = [one for one in dict.fromkeys(options) if one is not _NEVER]
        if not kept:
            return _NEVER
        return kept[0] if len(kept) == 1 else self.one(_Choice, tuple(kept))

    def repeat(self, item: Model, least: int, most: int | None) -> Model:
        if most == 0 or item is _EMPTY:
            return _EMPTY
        if item is _NEVER:
            return _NEVER if least else _EMPTY
        return item if (least, most) == (1, 1) else self.one(_Repeat, item, least, most)


def _identity(part: Any) -> Any:
    return tuple(map(id, part)) if isinstance(part, tuple) else id(part)


def _parts(model: Model) -> Iterator[Model]:
    """The models of a sequence, one behind the other."""
    while isinstance(model, _Sequence):
        yield model.first
        model = model.rest
    yield model


def _may_end(model: Model) -> bool:
    match model:
        case _Leaf():
            return False
        case _Sequence():
            return all(map(_may_end, _parts(model)))
        case _Choice(options):
            return any(map(_may_end, options))
        case _Repeat(item, least, _):
            return least == 0 or _may_end(item)
        case _All(items):
            return all(map(_may_end, items))
        case _Nothing(empty):
            return empty


Step = tuple[ElementDecl | Wildcard, Particle, Model]


class State:
    """What may come next.

    `moves` remembers the steps taken; `None` in it marks a state in which the content may end.
    """

    __slots__ = ("final", "model", "moves")

    def __init__(self, model: Model) -> None:
        self.model = model
        self.final = _may_end(model)
        self.moves: dict[str, tuple[State, ElementDecl | Wildcard, Particle]] = {}


class Automaton:
    """The automaton of one content model."""

    def __init__(self, content: Particle | None, substitutes: Substitutes) -> None:
        self._substitutes = substitutes
        self._states: dict[Model, State] = {}
        self._maker = _Maker()
        self.branches = _branches(content) if content is not None else {}
        """The (choice, index) that a particle lies in, of each choice around it."""
        self.particles = [one for one, _ in elements_in(content)]
        self._repeats: dict[str, bool] = {}
        self.several = {one for one, several in elements_in(content) if several}
        self.start = self._state(self._maker.model(content) if content is not None else _EMPTY)

    def _state(self, model: Model) -> State:
        found = self._states.get(model)
        if found is None:
            found = State(model)
            if len(self._states) < MAX_STATES:
                self._states[model] = found
        return found

    def step(self, state: State, name: str) -> tuple[State, ElementDecl | Wildcard, Particle] | None:
        """Where an element leads, what it is declared as and by which particle; None
        where it may not come.
        """
        found = state.moves.get(name)
        if found is None:
            steps = list(self._after(state.model, name))
            if not steps:
                return None
            declared, particle, _ = next(
                (earlier for earlier in steps if isinstance(earlier[0], ElementDecl)), steps[0]
            )
            found = self._state(self._maker.choice([earlier[2] for earlier in steps])), declared, particle
            if len(state.moves) < MAX_MOVES:
                state.moves[name] = found
        return found

    def _after(self, model: Model, name: str) -> Iterator[Step]:
        match model:
            case _Leaf(particle):
                declared = self._meant(particle.term, name)
                if declared is not None:
                    yield declared, particle, _EMPTY
            case _Sequence():
                at: Model = model
                while isinstance(at, _Sequence):
                    for declared, particle, left in self._after(at.first, name):
                        yield declared, particle, self._maker.sequence(left, at.rest)
                    if not _may_end(at.first):
                        return
                    at = at.rest
                yield from self._after(at, name)
            case _Choice(options):
                for option in options:
                    yield from self._after(option, name)
            case _Repeat(item, least, most):
                fewer = 0 if _may_end(item) else max(0, least - 1)
                rest = self._maker.repeat(item, fewer, None if most is None else most - 1)
                for declared, particle, left in self._after(item, name):
                    yield declared, particle, self._maker.sequence(left, rest)
            case _All(items):
                for index, one in enumerate(items):
                    remaining = items[:index] + items[index + 1 :]
                    for declared, particle, _ in self._after(one, name):
                        yield declared, particle, self._maker.one(_All, remaining) if remaining else _EMPTY

    def _meant(self, term: ElementDecl | Wildcard | ModelGroup, name: str) -> ElementDecl | Wildcard | None:
        if isinstance(term, ElementDecl):
            return self._substitutes(term).get(name)
        if isinstance(term, Wildcard) and term.admits(name[1:].partition("}")[0] if name[:1] == "{" else ""):
            return term
        return None

    def particles_for(self, state: State, name: str) -> set[Particle]:
        """The particles that an element may be taken by; more than one where the model is ambiguous."""
        return {particle for _, particle, _ in self._after(state.model, name)}

    def meant(self, name: str) -> ElementDecl | None:
        """What an element is declared as, wherever in the content it stands; None where only a wildcard lets
        it in.
        """
        for one in self.particles:
            found = self._meant(one.term, name)
            if isinstance(found, ElementDecl):
                return found
        return None

    def repeats(self, name: str) -> bool:
        """Whether elements of that name may stand more than once."""
        found = self._repeats.get(name)
        if found is None:
            meaning = [
                particle for particle in self.particles if self._meant(particle.term, name) is not None
            ]
            found = len(meaning) > 1 or any(word in self.several for word in meaning)
            if len(self._repeats) < MAX_MOVES:
                self._repeats[name] = found
        return found

    def resume(self, state: State, name: str) -> tuple[State, ElementDecl | Wildcard, Particle] | None:
        """A step with an element that may not come yet: as if what is missing before it had come, as little
        as can be.
        """
        waiting, seen = [state], {state.model}
        for _ in range(MAX_SKIPPED):
            if not waiting:
                return None
            at = waiting.pop(0)
            found = self.step(at, name) if at is not state else None
            if found is not None and isinstance(found[1], ElementDecl):
                return found
            for particle in self.needed(at):
                if isinstance(particle.term, ElementDecl):
                    for stand_in in list(self._substitutes(particle.term))[:1]:
                        following = self.step(at, stand_in)
                        if following is not None and following[0].model not in seen:
                            seen.add(following[0].model)
                            waiting.append(following[0])
        return None

    def expected(self, state: State) -> list[Particle]:
        """What may come next, in order of declaration."""
        return list(dict.fromkeys(_firsts(state.model)))

    def needed(self, state: State) -> list[Particle]:
        """What must come before the content may end: the first that is still missing, or each of a choice."""
        return [] if state.final else list(dict.fromkeys(_missing(state.model)))


def _firsts(model: Model) -> Iterator[Particle]:
    match model:
        case _Leaf(particle):
            yield particle
        case _Sequence():
            for part in _parts(model):
                yield from _firsts(part)
                if not _may_end(part):
                    return
        case _Choice(options) | _All(options):
            for option in options:
                yield from _firsts(option)
        case _Repeat(item=item):
            yield from _firsts(item)


def _missing(model: Model) -> Iterator[Particle]:
    match model:
        case _Leaf(particle):
            yield particle
        case _Sequence():
            yield from _missing(next(part for part in _parts(model) if not _may_end(part)))
        case _Choice(options):
            for option in options:
                yield from _missing(option)
        case _Repeat(item=item):
            yield from _missing(item)
        case _All(items):
            for entry in items:
                if not _may_end(entry):
                    yield from _missing(entry)


def _branches(content: Particle) -> dict[Particle, tuple[tuple[ModelGroup, int], ...]]:
    found: dict[Particle, tuple[tuple[ModelGroup, int], ...]] = {}
    waiting: list[tuple[Particle, tuple[tuple[ModelGroup, int], ...]]] = [(content, ())]
    while waiting:
        one, above = waiting.pop()
        if not isinstance(one.term, ModelGroup):
            found[one] = above
            continue
        for index, inner in enumerate(one.term.particles):
            waiting.append((inner, (*above, (one.term, index)) if one.term.kind == "choice" else above))
    return found
