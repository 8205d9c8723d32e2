"""The little XPath of identity constraints: selectors and fields (XSD 1.0 part 1, section 3.11.6)."""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from collections.abc import Iterator

from juxtalogos.documents.xmltext import local, namespace
from juxtalogos.documents.xmltree import resolve_name
from juxtalogos.schema.xml.tree.components import Constraint, Path
from juxtalogos.schema.xml.tree.simple_types import XSD
from juxtalogos.schema.xml.tree.sources import SchemaSource, qualified

_NAME = re.compile(r"(?:[^\s/|@:*.()\[\]]+:)?(?:[^\s/|@:*()\[\]]+|\*)")


class BadPath(ValueError):
    """A selector or field is none."""


def constraint(node: ET.Element, source: SchemaSource) -> Constraint:
    """BadPath when a selector or field is missing or not of the form that is allowed."""
    kind, name = local(node.tag), node.get("name", "")
    selector = node.find(f"{{{XSD}}}selector")
    fields = node.findall(f"{{{XSD}}}field")
    if selector is None or not fields:
        raise BadPath(f"the {kind} {name} needs a selector and a field")
    refers = source.name(node.get("refer", ""), node) or "" if kind == "keyref" else ""
    return Constraint(
        kind,
        qualified(source.namespace, name),
        tuple(_paths(selector, source, field=False)),
        tuple(tuple(_paths(field_, source, field=True)) for field_ in fields),
        lambda: source.place(node),
        refers,
    )


def _paths(node: ET.Element, source: SchemaSource, *, field: bool) -> Iterator[Path]:
    text = node.get("xpath", "")
    scope = {prefix: uri for prefix, uri in source.tree.scope(node).items() if prefix}
    for alternative in text.split("|"):
        rest = alternative.strip()
        anywhere = bool(re.match(r"\.\s*//", rest))
        rest = re.sub(r"^\.\s*//", "", rest)
        steps: list[str] = []
        attribute = ""
        parts = [part.strip() for part in rest.split("/")]
        for index, part in enumerate(parts):
            last = index == len(parts) - 1
            is_attribute = part.startswith(("@", "attribute::"))
            name = re.sub(r"^(?:@|attribute::|child::)\s*", "", part)
            if part == ".":
                continue
            full = resolve_name(name, scope, default=False) if _NAME.fullmatch(name) else None
            if full is None or (is_attribute and not (field and last)):
                raise BadPath(f"{text!r} is no {'field' if field else 'selector'}")
            if is_attribute:
                attribute = full
            else:
                steps.append(full)
        yield Path(tuple(steps), anywhere, attribute)


def matches(test: str, tag: str) -> bool:
    return test in ("*", tag) or (test.endswith("}*") and namespace(test) == namespace(tag))


def selected(path: Path, element: ET.Element) -> Iterator[ET.Element]:
    """The elements that a path chooses below an element."""
    starts = element.iter() if path.anywhere else (element,)
    for start in starts:
        found = [start]
        for test in path.steps:
            found = [child for item in found for child in item if matches(test, child.tag)]
        yield from found
