"""How the parts of a complex type are called in an address: by local name, with a prefix only where two would
be alike.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from juxtalogos.documents.xmltext import local
from juxtalogos.schema.xml.tell.text import prefixed
from juxtalogos.schema.xml.tree.components import ComplexType, ElementDecl, Wildcard, elements_in
from juxtalogos.schema.xml.tree.reader import SchemaReader


@dataclass(slots=True)
class Layout:
    """Children and attributes of one type by the key that a person writes, and the other way round."""

    elements: dict[str, ElementDecl] = field(default_factory=dict)
    """Key -> declaration, in order of declaration; stand-ins of a substitution group too."""
    attributes: dict[str, str] = field(default_factory=dict)
    """`@key` -> full name."""
    keys: dict[str, str] = field(default_factory=dict)
    """Full name of a child -> key."""
    attribute_keys: dict[str, str] = field(default_factory=dict)
    several: set[str] = field(default_factory=set)
    """Keys of children that may stand more than once."""
    open: bool = False
    """Whether elements that are not declared here may stand in it."""
    anything: bool = False
    """Whether that is all it says: its children are read and written by their own names."""


def has_own_attributes(kind: ComplexType) -> bool:
    """Whether a person may set attributes of it, so that its text has an address of its own."""
    return any(not attribute.technical for attribute in kind.attributes.values())


def layout_of(kind: ComplexType, reader: SchemaReader) -> Layout:
    """The layout of a type, made once."""
    if kind.layout is None:
        kind.layout = _made(kind, reader)
    found: Layout = kind.layout
    return found


def _made(kind: ComplexType, reader: SchemaReader) -> Layout:
    made = Layout(anything=kind is reader.any_type)
    counts: dict[str, int] = {}
    declared: dict[str, ElementDecl] = {}
    for particle, several in elements_in(kind.content):
        if isinstance(particle.term, Wildcard):
            made.open = True
            continue
        assert isinstance(particle.term, ElementDecl)
        heads = {particle.term.name: particle.term} | reader.substitutes(particle.term)
        for name, one in heads.items():
            counts[name] = counts.get(name, 0) + (2 if several else 1)
            declared.setdefault(name, one)
    made.keys = _called(list(declared), reader)
    made.elements = {made.keys[name]: one for name, one in declared.items()}
    made.several = {made.keys[name] for name, count in counts.items() if count > 1}
    made.attribute_keys = {name: f"@{key}" for name, key in _called(list(kind.attributes), reader).items()}
    made.attributes = {key: name for name, key in made.attribute_keys.items()}
    return made


def _called(names: list[str], reader: SchemaReader) -> dict[str, str]:
    locals_ = [local(name) for name in names]
    return {
        name: prefixed(name, reader.prefixes) if locals_.count(local(name)) > 1 else local(name)
        for name in names
    }
