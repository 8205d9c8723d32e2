"""An observed answer as a numbered tree, and checks made of chosen places in it: JSON by
path, XML by XPath.
"""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any

from juxtalogos.documents.jsontext import NotJson, parse_json
from juxtalogos.documents.xmltext import NotXml, local, namespace, parse_xml
from juxtalogos.exchange.media import media_type_of
from juxtalogos.model.errors import UsageError, nearest, quoted
from juxtalogos.model.exchange import Response
from juxtalogos.model.location import escape_key
from juxtalogos.model.schema import ABSENT

MAX_PLACES = 5_000
_DECLARED = re.compile(r"""\sxmlns:([A-Za-z_][\w.\-]*)\s*=\s*["']([^"']*)["']""")


@dataclass(frozen=True, slots=True)
class AnswerPlace:
    """One line of the tree. `at` or `xpath` addresses it in a check; a container has no value of its own."""

    depth: int
    name: str
    at: str = ""
    xpath: str = ""
    value: Any = None
    count: int = -1
    """Members of a container; -1 for a single value."""

    @property
    def address(self) -> str:
        return self.at or self.xpath

    @property
    def where(self) -> dict[str, str]:
        """Where a check finds it."""
        return {"at": self.at} if self.at else {"xpath": self.xpath}

    def check(self, test: str) -> dict[str, Any]:
        """The check that holds this place: its value, its type, that it is there, or how
        many members it has.
        """
        where = self.where
        if test == "exists":
            return {**where, "exists": True}
        if self.count >= 0:
            return (
                {**where, "count": self.count}
                if test == "equals" and self.name != "object"
                else {**where, "exists": True}
            )
        if test == "type":
            from juxtalogos.documents.jsonvalues import type_of

            return {**where, "type": type_of(self.value)}
        return {**where, "equals": self.value, "frozen": True}


def places(
    response: Response, prefixes: Mapping[str, str] = MappingProxyType({}), value: Any = ABSENT
) -> list[AnswerPlace]:
    """The status, the headers that say something lasting, and the body's tree; numbered by their order, from
    1.

    `value` is the body as its operation declares it, where that is known: then it has addresses and types of
    its own
    whatever it was written in. `prefixes` (namespace -> prefix) are those that XPaths may use else.
    """
    found = [AnswerPlace(0, "status", "status", value=response.status)]
    for name, text in response.headers:
        if name.lower() in ("content-type", "location", "cache-control", "content-language"):
            found.append(AnswerPlace(0, f"header {name}", f"header.{name}", value=text))
    declared = isinstance(value, dict | list)
    for place in _json(value, "body", "body", 0) if declared else _body(response, prefixes):
        found.append(place)
        if len(found) >= MAX_PLACES:
            break
    return found


def prefixes_for(response: Response, known: Mapping[str, str], taken: Mapping[str, str]) -> dict[str, str]:
    """A prefix for each namespace of an XML body: those `known` (namespace -> prefix), then as the body
    declares them, then made of the namespace's last word; none that is `taken` (prefix -> namespace) for
    another.
    """
    parsed = media_type_of(response)
    if parsed is None or not parsed.is_xml:
        return dict(known)
    try:
        root = parse_xml(response.body)
    except NotXml:
        return dict(known)
    text = response.body.decode("utf-8", "replace")
    own = {uri: prefix for prefix, uri in reversed(_DECLARED.findall(text))}
    found, used = dict(known), {**taken, **{prefix: uri for uri, prefix in known.items()}}
    for uri in dict.fromkeys(namespace(name) for one in root.iter() for name in (one.tag, *one.attrib)):
        if uri and uri not in found:
            words = re.findall(r"[A-Za-z][A-Za-z0-9]*", uri.rpartition("//")[2])
            wished = own.get(uri) or (words[-1].lower()[:12] if words else "n")
            names = (wished, *(f"{wished}{number}" for number in range(2, 1_000)))
            found[uri] = next(name for name in names if used.get(name, uri) == uri)
            used[found[uri]] = uri
    return found


def body_value(response: Response) -> Any:
    """A JSON body's value; UsageError when it is none."""
    try:
        return parse_json(response.body)
    except NotJson as error:
        raise UsageError(
            f"the response is not JSON: {error}", mend="only JSON responses can be kept whole"
        ) from None


def _body(response: Response, prefixes: Mapping[str, str]) -> Iterator[AnswerPlace]:
    parsed = media_type_of(response)
    if parsed is None or parsed.is_json:
        try:
            yield from _json(parse_json(response.body), "body", "body", 0)
        except NotJson:
            return
    elif parsed.is_xml:
        try:
            root = parse_xml(response.body)
            yield from _xml(root, "/" + _test(root.tag, prefixes), 0, prefixes)
        except NotXml:
            return


def _json(value: Any, name: str, at: str, depth: int) -> Iterator[AnswerPlace]:
    if isinstance(value, dict):
        yield AnswerPlace(depth, f"{name} {{}}", at, count=len(value))
        for key, item in value.items():
            yield from _json(item, key, f"{at}/{escape_key(key)}", depth + 1)
    elif isinstance(value, list):
        yield AnswerPlace(depth, f"{name} []", at, count=len(value))
        for index, item in enumerate(value):
            yield from _json(item, str(index), f"{at}/{index}", depth + 1)
    else:
        yield AnswerPlace(depth, name, at, value=value)


def _xml(element: ET.Element, path: str, depth: int, prefixes: Mapping[str, str]) -> Iterator[AnswerPlace]:
    """Elements by their names, numbered where several of one name stand."""
    single = not len(element)
    value = element.text or "" if single else None
    yield AnswerPlace(
        depth, local(element.tag), xpath=path, value=value, count=-1 if single else len(element)
    )
    for name, text in element.attrib.items():
        yield AnswerPlace(depth + 1, f"@{local(name)}", xpath=f"{path}/@{_test(name, prefixes)}", value=text)
    totals = Counter(child.tag for child in element)
    counts: Counter[str] = Counter()
    for child in element:
        counts[child.tag] += 1
        step = _test(child.tag, prefixes) + (f"[{counts[child.tag]}]" if totals[child.tag] > 1 else "")
        yield from _xml(child, f"{path}/{step}", depth + 1, prefixes)


def _test(name: str, prefixes: Mapping[str, str]) -> str:
    """A name as an XPath tests it: by its prefix, or by its local name where there is none."""
    uri = namespace(name)
    if not uri:
        return name
    return f"{prefixes[uri]}:{local(name)}" if uri in prefixes else f"*[local-name()='{local(name)}']"


def chosen(found: list[AnswerPlace], word: str) -> AnswerPlace:
    """A place by its number, or by its address: `body/name`, or a bare path `/name`."""
    if word.isdigit():
        if not 1 <= int(word) <= len(found):
            raise UsageError(
                f"there is no place {word}", mend=f"numbers go from 1 to {len(found)}: juxtalogos pin --list"
            )
        return found[int(word) - 1]
    address = (
        f"body{word}" if word.startswith("/") and not any(item.xpath == word for item in found) else word
    )
    place = next((item for item in found if item.address == address), None)
    if place is None:
        raise UsageError(
            f"there is nothing at {quoted(word)}", mend=nearest(address, [item.address for item in found])
        )
    return place
