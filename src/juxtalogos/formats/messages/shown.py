"""What messages show of a value: its form and examples of it. It forbids nothing, for nobody declared it."""

from __future__ import annotations

import copy
from collections.abc import Iterator, Mapping
from typing import Any

from juxtalogos.documents.jsonvalues import in_words, type_of
from juxtalogos.formats.messages.message import taken_apart
from juxtalogos.model.document import Document
from juxtalogos.model.elements import Element
from juxtalogos.model.errors import Unsampleable
from juxtalogos.model.findings import Deviation
from juxtalogos.model.location import escape_key, split_pointer
from juxtalogos.model.schema import (
    ABSENT,
    NOTHING,
    Boundary,
    Examined,
    Mutation,
    OutlineRow,
    Schema,
    SchemaRef,
    Wanted,
    is_index,
)

MOST_ROWS = 5_000


class ShownEngine:
    """See `SchemaEngine`. A schema's role is the address of what it tells of."""

    def __init__(self, documents: Mapping[str, Document]) -> None:
        self._documents = documents

    def schema(self, ref: SchemaRef) -> Schema:
        return Shown(self.example(ref))

    def example(self, ref: SchemaRef) -> Any:
        """The value that a message has there; ABSENT when it has none."""
        document = self._documents.get(ref.document)
        if document is None or document.syntax != "message":
            return ABSENT
        message = taken_apart(document)
        given = message.inputs.get(ref.role)
        return message.body if ref.role == "body" else given.value if given else ABSENT

    def assert_formats(self, asserted: bool) -> None:
        return


def engine(documents: Mapping[str, Document], dialect: str) -> ShownEngine:
    return ShownEngine(documents)


class Nothing:
    """Nothing was told of a value."""

    deviations: tuple[Deviation, ...] = ()
    hits: frozenset[str] = frozenset()


class Shown:
    """See `Schema`."""

    accepts_anything = True

    def __init__(self, example: Any) -> None:
        self._example = example

    def examine(self, value: Any) -> Examined:
        return Nothing()

    def check(self, value: Any) -> tuple[Deviation, ...]:
        return ()

    def accepts(self, value: Any) -> bool:
        return True

    def sample(self, *, full: bool = False, seed: int = 0, wanted: Wanted = NOTHING) -> Any:
        """The example; Unsampleable where it does not have the places that are wanted."""
        missing = _missing(self._example, wanted, "")
        if missing:
            raise Unsampleable(f"no message has {missing}", mend="take it all the same with --unchecked")
        return copy.deepcopy(self._example) if self._example is not ABSENT else "quay"

    def elements(self) -> Iterator[Element]:
        return iter(())

    def hits(self, value: Any) -> Iterator[str]:
        return iter(())

    def outline(self, depth: int = 100) -> Iterator[OutlineRow]:
        for number, row in enumerate(_rows("", "", self._example, 0)):
            if number >= MOST_ROWS:
                return
            if row.depth < depth:
                yield row

    def check_part(self, row: OutlineRow, value: Any) -> tuple[Deviation, ...]:
        return ()

    def mutate(self, value: Any) -> Iterator[Mutation]:
        return iter(())

    def boundaries(self, value: Any) -> Iterator[Boundary]:
        return iter(())


def _missing(example: Any, wanted: Wanted, at: str) -> str:
    """The first place that is wanted and not there; a list may grow by what its items are like."""
    for key, inner in wanted.inner.items():
        place = f"{at}/{escape_key(key)}"
        if isinstance(example, dict) and key in example:
            held = example[key]
        elif isinstance(example, list) and is_index(key):
            held = example[int(key)] if int(key) < len(example) else example[0] if example else ABSENT
        elif example is ABSENT:
            held = ABSENT
        else:
            return place
        found = _missing(held, inner, place)
        if found:
            return found
    return ""


def _rows(name: str, path: str, value: Any, depth: int) -> Iterator[OutlineRow]:
    single = not isinstance(value, dict | list)
    kind = "anything" if value is ABSENT or isinstance(value, bytes) else type_of(value)
    shown = f"such as {in_words(value, 60)}" if single and kind != "anything" else ""
    yield OutlineRow(depth, name, path, kind, False, shown, scalar=single)
    if isinstance(value, dict):
        for key, item in value.items():
            yield from _rows(key, f"{path}/{escape_key(key)}", item, depth + 1)
    elif isinstance(value, list) and value:
        yield from _rows("[]", f"{path}/0", value[0], depth + 1)


def typed(example: Any, pointer: str, text: str, *, loose: bool) -> Any:
    """The text of a value at a place as what stands there in the example; `loose`: as JSON where nothing
    stands there.
    """
    from juxtalogos.documents.jsontext import NotJson, parse_json

    for token in split_pointer(pointer):
        if isinstance(example, dict):
            example = example.get(token, ABSENT)
        elif isinstance(example, list) and is_index(token):
            example = example[min(int(token), len(example) - 1)] if example else ABSENT
        else:
            example = ABSENT
    if isinstance(example, str) or (example is ABSENT and not loose):
        return text
    try:
        value = parse_json(text)
    except NotJson:
        return [text] if isinstance(example, list) else text
    return [text] if isinstance(example, list) and not isinstance(value, list) else value
