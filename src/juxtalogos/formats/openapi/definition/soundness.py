"""Which schemas lead nowhere or round in a circle: told from the documents as they stand.

Definitions whose schemas have identifiers of their own are looked at by the schema store's own resolution
instead.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import unquote

from juxtalogos.documents.uris import join_uri
from juxtalogos.formats.openapi.definition.documents import Documents
from juxtalogos.formats.openapi.definition.lost_parts import Lost
from juxtalogos.formats.openapi.definition.survey import place
from juxtalogos.model.contract import Contract
from juxtalogos.model.location import Location, escape_key, follow_pointer
from juxtalogos.model.schema import SchemaRef

_NOT_FOLLOWED = frozenset(("enum", "const", "default", "example", "examples", "discriminator"))


def unsound(
    contract: Contract, documents: Documents, values: Mapping[tuple[str, str], Any], *, ref_alone: bool
) -> Lost:
    """The schemas that cannot be read; `values` are schemas at hand already, `ref_alone` where nothing beside
    a `$ref` counts.
    """
    graph = _Graph(documents, ref_alone)
    found: set[tuple[str, str]] = set()
    for operation in contract.operations:
        for ref in contract.schema_refs(operation):  # every one, so that every fault is found
            place = ref.document, ref.pointer
            value = values.get(place)
            if not (
                graph.is_sound(f"{ref.document}#{ref.pointer}") if value is None else graph.holds(ref, value)
            ):
                found.add(place)
    for uri, document in documents.by_uri.items():  # those too that nothing uses: they are told of
        for home in (("components", "schemas"), ("definitions",)):
            held: Any = document.value
            for key in home:
                held = held.get(key) if isinstance(held, dict) else None
            for name in held if isinstance(held, dict) else ():
                graph.is_sound(f"{uri}#/{'/'.join(home)}/{escape_key(name)}")
    return frozenset(found)


def dangling(documents: Documents) -> None:
    """Notes each reference that leads nowhere, wherever it stands."""
    sound: set[tuple[str, str]] = set()
    for uri, found in documents.surveys.items():
        for link, reference in found.references:
            if (uri, reference) in sound:
                continue
            if documents.place(reference, place(documents.by_uri[uri], link)) is not None:
                sound.add((uri, reference))


class _Graph:
    """Places of schemas that references lead to, with what each leads to in turn. Each is gone over once."""

    def __init__(self, documents: Documents, ref_alone: bool) -> None:
        self.documents = documents
        self.ref_alone = ref_alone
        self.next: dict[str, list[str]] = {}
        self.same: dict[str, list[str]] = {}
        """As `next`, for references that apply to the very same value."""
        self.known: dict[str, bool] = {}

    def holds(self, ref: SchemaRef, value: Any) -> bool:
        """The two commonest forms at once: a schema with nothing inside, and a bare reference."""
        if type(value) is not dict or not any(
            type(item) in (dict, list) or key == "$ref" for key, item in value.items()
        ):
            return True
        reference = value.get("$ref")
        if len(value) == 1 and type(reference) is str and reference.startswith("#/"):
            target = f"{ref.document}#{unquote(reference[1:])}"
            if self.known.get(target):
                return True
        return self.is_sound(f"{ref.document}#{ref.pointer}")

    def is_sound(self, root: str) -> bool:
        if root not in self.known:
            self.explore(root)
        return self.known[root]

    def explore(self, root: str) -> None:
        fresh: list[str] = []
        bad: set[str] = set()
        waiting = [root]
        while waiting:
            place = waiting.pop()
            if place not in self.next:
                fresh.append(place)
                if not self.look(place):
                    bad.add(place)
                waiting += self.next[place]
        for place in fresh:
            if self.circles(place):
                uri, pointer = place.split("#", 1)
                self.documents.fault(
                    "this schema is defined by itself alone",
                    Location(uri, pointer),
                    "let it refer to another schema, or nest it in a property",
                )
                bad.add(place)
        before: dict[str, list[str]] = {}
        for place in fresh:
            for follower in self.next[place]:
                before.setdefault(follower, []).append(place)
        bad |= {
            place
            for place in fresh
            if any(self.known.get(follower) is False for follower in self.next[place])
        }
        spreading = list(bad)
        while spreading:
            for place in before.get(spreading.pop(), ()):
                if place not in bad:
                    bad.add(place)
                    spreading.append(place)
        self.known.update((place, place not in bad) for place in fresh)

    def look(self, place: str) -> bool:
        """Notes what a place leads to; False when one of its references leads nowhere."""
        uri, pointer = place.split("#", 1)
        self.next[place], self.same[place] = [], []
        try:
            value = follow_pointer(self.documents.by_uri[uri].value, pointer)
        except (LookupError, ValueError):
            return False
        sound = True
        for holder, at, same in self.references(value, pointer):
            file, _, fragment = holder["$ref"].partition("#")
            document = join_uri(uri, file) if file else uri
            target = f"{document}#{unquote(fragment)}"
            if target not in self.next and self.documents.place(holder["$ref"], Location(uri, at)) is None:
                sound = False
                continue
            self.next[place].append(target)
            if same:
                self.same[place].append(target)
        return sound

    def references(self, value: Any, pointer: str) -> Iterator[tuple[dict[str, Any], str, bool]]:
        """(holder, its pointer, whether it applies to the same value) of the references inside a schema."""
        stack: list[tuple[Any, str, bool]] = [(value, pointer, True)]
        seen: set[int] = set()
        while stack:
            current, at, same = stack.pop()
            if id(current) in seen:
                continue
            seen.add(id(current))
            if type(current) is list:
                stack += [
                    (item, f"{at}/{index}", same)
                    for index, item in enumerate(current)
                    if type(item) in (dict, list)
                ]
                continue
            if type(current) is not dict:
                continue
            if type(current.get("$ref")) is str:
                yield current, at, same
                if self.ref_alone:
                    continue
            for key, item in current.items():
                if key in _NOT_FOLLOWED or type(item) not in (dict, list):
                    continue
                if (
                    key in ("properties", "patternProperties", "$defs", "definitions", "dependentSchemas")
                    and type(item) is dict
                ):
                    stack += [
                        (child, f"{at}/{key}/{escape_key(name)}", False) for name, child in item.items()
                    ]
                else:
                    stack.append((item, f"{at}/{escape_key(key)}", same and key == "allOf"))

    def circles(self, start: str) -> bool:
        seen: set[str] = set()
        waiting = list(self.same[start])
        while waiting:
            place = waiting.pop()
            if place == start:
                return True
            if place not in seen:
                seen.add(place)
                waiting += self.same.get(place, ())
        return False
