"""The fast way over sound documents: each state of a content model is a dictionary, each text is first looked
for among
those known to be right. It says yes, with what was exercised, or leaves the explaining to `check`.

What is rare (`xsi:nil`, `xsi:type`, wildcards) is handed to the checker element by element; identity
constraints and IDs,
which need the whole document, hand it over whole.
"""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Callable
from typing import Any

from juxtalogos.model.findings import Deviation
from juxtalogos.schema.xml.check.checker import Checker, automaton_of, enumerated
from juxtalogos.schema.xml.check.identity import ScopeOf
from juxtalogos.schema.xml.compile.fast_text import WHOLE, Test, easy_test, text_test
from juxtalogos.schema.xml.tree.automaton import Automaton, State
from juxtalogos.schema.xml.tree.components import ComplexType, ElementDecl, Wildcard
from juxtalogos.schema.xml.tree.reader import SchemaReader
from juxtalogos.schema.xml.tree.simple_types import MAX_REMEMBERED, SimpleType

Run = Callable[[ET.Element, "Pass"], bool]
_LONGEST = 60
_SPACE = " \t\r\n"


class Whole(Exception):
    """The document cannot be taken element by element."""


class Pass:
    """What one pass over one document notes."""

    __slots__ = ("broken", "hits", "rest", "scope_of")

    def __init__(self, scope_of: ScopeOf) -> None:
        self.broken: list[tuple[ET.Element, ElementDecl]] = []
        """Elements with something wrong in themselves, the rest of the document being gone through all the
        same."""
        self.scope_of = scope_of
        self.hits: set[int] = set()
        """Numbers of moves and attributes; `Fast.tokens` tells what each stands for."""
        self.rest: set[Any] = set()


class KnownTexts(set[Any]):
    """Texts known to be values of one type; the number of each enumerated one."""

    __slots__ = ("numbers",)

    def __init__(self) -> None:
        self.numbers: dict[str | None, int] = {}


def examine(
    fast: Fast, element: ET.Element, declared: ElementDecl, scope_of: ScopeOf
) -> tuple[list[Deviation], set[Any]]:
    """(deviations, what was exercised). ValueError when the element is nested too deep to follow."""
    try:
        found = fast.examine(element, declared, scope_of)
        if found is not None:
            return found
        checker = Checker(fast.reader, scope_of)
        checker.root(element, declared)
        return checker.deviations, checker.hits
    except RecursionError:
        raise ValueError("nested too deep to check") from None


class Fast:
    """Compiled declarations of one schema set."""

    def __init__(self, reader: SchemaReader) -> None:
        self.reader = reader
        self.tokens: list[tuple[Any, ...]] = []
        self._runs: dict[ElementDecl, Run] = {}
        self._known: dict[SimpleType, KnownTexts | None] = {}

    def examine(
        self, root: ET.Element, declared: ElementDecl, scope_of: ScopeOf
    ) -> tuple[list[Deviation], set[Any]] | None:
        """(deviations, what was exercised); None where the checker must take the document whole."""
        made = Pass(scope_of)
        deviations: list[Deviation] = []
        try:
            if not self.run(declared)(root, made):
                return None
            if made.broken:
                deviations = self.explained(root, declared, made)
        except Whole:
            return None
        found = made.rest
        for number in made.hits:
            found.update(self.tokens[number])
        found.add(declared)
        return deviations, found

    def explained(self, root: ET.Element, declared: ElementDecl, made: Pass) -> list[Deviation]:
        """What the checker says of the elements that are broken in themselves."""
        above = {child: node for node in root.iter() for child in node}
        checker = Checker(self.reader, made.scope_of)
        for element, meant in made.broken:
            trail, at = [], element
            while at is not root:
                at = above[at]
                trail.append(at)
            checker.trail = trail[::-1]
            checker.place(declared)
            before = len(checker.deviations)
            checker.element(element, meant)
            if checker.ids or checker.references or checker.tables or len(checker.deviations) == before:
                raise Whole
        made.rest |= checker.hits
        return checker.deviations

    def number(self, *tokens: Any) -> int:
        """The number of an element."""
        self.tokens.append(tokens)
        return len(self.tokens) - 1

    def run(self, declared: ElementDecl) -> Run:
        """The compiled check of a declaration, made once."""
        found = self._runs.get(declared)
        if found is None:
            # A type may contain itself: whoever asks meanwhile gets one that looks again.
            self._runs[declared] = lambda element, made: self._runs[declared](element, made)
            found = self._runs[declared] = self._made(declared)
        return found

    def _made(self, declared: ElementDecl) -> Run:
        kind = declared.type
        if declared.constraints:
            return _whole
        if declared.unread or (isinstance(kind, ComplexType) and kind.unread):
            return self.slow(declared)
        if (
            declared.abstract
            or declared.fixed is not None
            or (isinstance(kind, ComplexType) and kind.abstract)
        ):
            return self.slow(declared)
        if isinstance(kind, SimpleType):
            return self._simple(declared, kind)
        if kind is self.reader.any_type or declared.default is not None:
            return self.slow(declared)
        return self._complex(declared, kind)

    def slow(self, declared: ElementDecl) -> Run:
        """One element by the checker."""
        reader = self.reader

        def run(element: ET.Element, made: Pass) -> bool:
            checker = Checker(reader, made.scope_of)
            checker.element(element, declared)
            if checker.deviations:
                return False
            if checker.ids or checker.references or checker.tables:
                raise Whole
            made.rest |= checker.hits
            return True

        return run

    # Simple types.

    def known(self, kind: SimpleType) -> KnownTexts | None:
        """The texts of a type; None where every text is right and none is enumerated."""
        if kind not in self._known:
            test = text_test(kind)
            self._known[kind] = None if test is None else KnownTexts()
        return self._known[kind]

    def text(self, kind: SimpleType) -> Callable[[str | None, Pass], bool]:
        """Tests a text that is not known yet."""
        test, known = text_test(kind), self.known(kind)
        if known is None or test is None:
            return lambda text, made: True
        if test is WHOLE:
            return _whole
        if kind.enumeration:
            return self._enumerated(kind, known, test)
        union, easy = kind.variety == "union", easy_test(kind)

        def run(text: str | None, made: Pass) -> bool:
            if easy is not None and text is not None and easy(text):
                if len(known) < MAX_REMEMBERED and len(text) <= _LONGEST:
                    known.add(text)
                return True
            full = text or ""
            if not test(full):
                return False
            if union:
                made.rest.update(enumerated(kind, full, {}))
            elif len(full) <= _LONGEST and len(known) < MAX_REMEMBERED:
                known.add(text)
            return True

        return run

    def _enumerated(
        self, kind: SimpleType, known: KnownTexts, test: Test
    ) -> Callable[[str | None, Pass], bool]:
        members, numbers = {facet.value: facet for facet in kind.enumeration}, known.numbers

        def run(text: str | None, made: Pass) -> bool:
            number = numbers.get(text)
            if number is None:
                full = text or ""
                if not test(full):
                    return False
                number = self.number(members[kind.value(full, {})])
                if len(numbers) < MAX_REMEMBERED:
                    numbers[text] = number
            made.hits.add(number)
            return True

        return run

    def _simple(self, declared: ElementDecl, kind: SimpleType) -> Run:
        known, test, slow = self.known(kind), self.text(kind), self.slow(declared)
        if kind.needs_scope:
            return slow
        default = declared.default is not None

        def run(element: ET.Element, made: Pass) -> bool:
            if element.keys():
                return slow(element, made)
            if len(element):
                return False
            text = element.text
            if default and not text:
                return slow(element, made)
            return known is None or text in known or test(text, made)

        return run

    # Complex types.

    def _complex(self, declared: ElementDecl, kind: ComplexType) -> Run:
        attributes = self._attributes(kind)
        slow = self.slow(declared)
        if kind.simple is not None:
            return self._simple_content(kind.simple, attributes, slow)
        moves = _Moves(self, automaton_of(kind, self.reader))
        start, mixed = moves.of(moves.automaton.start), kind.mixed
        more = moves.more

        def run(element: ET.Element, made: Pass) -> bool:
            if not attributes(element, made) if attributes is not None else element.keys():
                return slow(element, made)  # perhaps attributes that need not be declared
            at, hits, broken = start, made.hits, made.broken
            before = len(broken)
            if not mixed and (text := element.text) and text.strip(_SPACE):
                return False
            for child in element:
                move = at.get(child.tag) or more(at, child.tag)
                if move is None:
                    del broken[before:]
                    return False
                at, known, inner, number, meant = move
                hits.add(number)
                # A leaf without attributes whose text is known: nothing more is to be asked.
                known_leaf = known is not None and child.text in known and not len(child) and not child.keys()
                if not known_leaf and not inner(child, made):
                    if meant is None:
                        del broken[before:]
                        return False
                    broken.append((child, meant))
                if (tail := child.tail) and not mixed and tail.strip(_SPACE):
                    del broken[before:]
                    return False
            if None in at:
                return True
            del broken[before:]
            return False

        return run

    def _simple_content(self, simple: SimpleType, attributes: Run | None, slow: Run) -> Run:
        known, quick, test = self.known(simple), _quick(simple), self.text(simple)

        def run(element: ET.Element, made: Pass) -> bool:
            if not attributes(element, made) if attributes is not None else element.keys():
                return slow(element, made)
            text = element.text
            return not len(element) and (
                known is None or text in known or quick(text or "") or test(text, made)
            )

        return run

    def _attributes(self, kind: ComplexType) -> Run | None:
        """Tests the attributes; None where none is declared."""
        if not kind.attributes:
            return None
        required = sum(attribute.required for attribute in kind.attributes.values())
        table = {
            attribute.name: (
                self.known(attribute.type),
                _quick(attribute.type),
                self.text(attribute.type),
                self.number(attribute),
                int(attribute.required),
                attribute.fixed,
            )
            for attribute in kind.attributes.values()
        }

        def run(element: ET.Element, made: Pass) -> bool:
            met = 0
            for name, text in element.items():
                entry = table.get(name)
                if entry is None:
                    return False
                known, quick, test, number, counts, fixed = entry
                if fixed is not None and text != fixed:
                    return False
                if known is not None and text not in known and not quick(text) and not test(text, made):
                    return False
                made.hits.add(number)
                met += counts
            return met == required

        return run


def _quick(kind: SimpleType) -> Callable[[str], Any]:
    """What is true of most values that are not known yet, so that they need not be looked at closer."""
    found = None if kind.enumeration or kind.variety == "union" else easy_test(kind)
    return found or _never


def _never(text: str) -> bool:
    return False


class _Moves:
    """The moves of one automaton: for each state a dictionary of what an element leads to; `None` in it: it
    may end.
    """

    def __init__(self, fast: Fast, automaton: Automaton) -> None:
        self.fast = fast
        self.automaton = automaton
        self._of: dict[State, dict[Any, Any]] = {}
        self._state: dict[int, State] = {}

    def of(self, state: State) -> dict[Any, Any]:
        found = self._of.get(state)
        if found is None:
            found = self._of[state] = {None: True} if state.final else {}
            self._state[id(found)] = state
        return found

    def more(
        self, at: dict[Any, Any], name: str
    ) -> tuple[dict[Any, Any], KnownTexts | None, Run, int, ElementDecl | None] | None:
        """A move that was not taken before; None where there is none."""
        taken = self.automaton.step(self._state[id(at)], name)
        if taken is None:
            return None
        state, meant, particle = taken
        number = self.fast.number(meant, *self.automaton.branches.get(particle, ()))
        move: tuple[dict[Any, Any], KnownTexts | None, Run, int, ElementDecl | None]
        if isinstance(meant, Wildcard):
            move = self.of(state), None, self._wild(meant), number, None
        else:
            kind = meant.type
            simple = isinstance(kind, SimpleType) and meant.fixed is None and meant.default is None
            known = (
                self.fast.known(kind)
                if isinstance(kind, SimpleType) and simple and not meant.constraints
                else None
            )
            move = self.of(state), known, self.fast.run(meant), number, meant
        if len(at) < 2_000:
            at[name] = move
        return move

    def _wild(self, wildcard: Wildcard) -> Run:
        reader = self.fast.reader

        def run(element: ET.Element, made: Pass) -> bool:
            checker = Checker(reader, made.scope_of)
            checker.wild(element, wildcard)
            if checker.ids or checker.references or checker.tables:
                raise Whole
            made.rest |= checker.hits
            return not checker.deviations

        return run


def _whole(*_: Any) -> bool:
    raise Whole
