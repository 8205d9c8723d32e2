"""The pilotage office takes only what its XML schemas allow, as far as these use XML Schema."""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from collections.abc import Iterator
from decimal import Decimal
from functools import cache
from importlib import resources

from juxtalogos.demo.strict import Wrong, is_day, is_moment

XS, XSI = "{http://www.w3.org/2001/XMLSchema}", "{http://www.w3.org/2001/XMLSchema-instance}"


@cache
def _schemas() -> dict[str, ET.Element]:
    """Global declarations by kind and name: `element {urn:merrow:pilotage}PlanJob`."""
    found: dict[str, ET.Element] = {}
    wsdl = ET.fromstring(resources.files("juxtalogos.demo").joinpath("pilotage.wsdl").read_bytes())
    types = ET.fromstring(resources.files("juxtalogos.demo").joinpath("pilotage-types.xsd").read_bytes())
    for schema in (next(wsdl.iter(f"{XS}schema")), types):
        space = schema.get("targetNamespace")
        for one in schema:
            if one.get("name"):
                found[f"{one.tag.removeprefix(XS)} {{{space}}}{one.get('name')}"] = one
                for inner in one.iter():
                    inner.set("space", str(space))
    return found


_SPACES = {"p": "urn:merrow:pilotage", "h": "urn:merrow:harbour"}


def _named(kind: str, text: str) -> ET.Element | None:
    prefix, _, name = text.partition(":")
    return _schemas().get(f"{kind} {{{_SPACES.get(prefix, '')}}}{name}")


def check_element(element: ET.Element) -> None:
    """Wrong, where an element is not as its declaration says."""
    declared = _schemas().get(f"element {element.tag}")
    if declared is not None:
        _element(element, declared)


def _element(element: ET.Element, declared: ET.Element) -> None:
    name = element.tag.rpartition("}")[2]
    nil = element.get(f"{XSI}nil")
    if nil is not None and declared.get("nillable") != "true":
        raise Wrong(f"{name} must not be nil")
    kind_name = declared.get("type", "")
    derived = element.get(f"{XSI}type")
    if derived is not None:
        if (
            kind_name != "h:Order"
            or derived.rpartition(":")[2] not in ("Order", "EscortOrder")
            or ":" not in derived
        ):
            raise Wrong(f"{name} cannot be of the type {derived}")
        kind_name = f"h:{derived.rpartition(':')[2]}"
    inner = declared.find(f"{XS}complexType")
    complex_type = inner if inner is not None else _named("complexType", kind_name)
    if complex_type is not None:
        _complex(element, complex_type, name)
        return
    if len(element) or [key for key in element.attrib if not key.startswith(XSI)]:
        raise Wrong(f"{name} holds nothing but text")
    restriction = declared.find(f"{XS}simpleType")
    _simple(
        element.text or "",
        restriction if restriction is not None else _named("simpleType", kind_name),
        kind_name,
        name,
    )


def _complex(element: ET.Element, kind: ET.Element, name: str) -> None:
    if (element.text or "").strip() or any((child.tail or "").strip() for child in element):
        raise Wrong(f"there is text within {name}")
    attributes = {str(attribute.get("name")): attribute for attribute in _attributes(kind)}
    for key, text in element.attrib.items():
        if key.startswith(XSI):
            continue
        if key not in attributes:
            raise Wrong(f"{name} has no attribute {key}")
        _simple(text, None, attributes[key].get("type", ""), key)
    for key, declared in attributes.items():
        if declared.get("use") == "required" and str(key) not in element.attrib:
            raise Wrong(f"{name} needs {key}")
    children = list(element)
    for group in _groups(kind):
        children = _group(children, group, name)
    if children:
        raise Wrong(f"{children[0].tag.rpartition('}')[2]} does not belong there")


def _attributes(kind: ET.Element) -> Iterator[ET.Element]:
    yield from kind.findall(f"{XS}attribute")
    for extension in kind.iter(f"{XS}extension"):
        base = _named("complexType", extension.get("base", ""))
        yield from _attributes(base) if base is not None else ()


def _groups(kind: ET.Element) -> Iterator[ET.Element]:
    extension = kind.find(f"{XS}complexContent/{XS}extension")
    if extension is not None:
        base = _named("complexType", extension.get("base", ""))
        yield from _groups(base) if base is not None else ()
        kind = extension
    yield from (one for one in kind if one.tag in (f"{XS}sequence", f"{XS}choice"))


def _group(children: list[ET.Element], group: ET.Element, name: str) -> list[ET.Element]:
    """What is left of the children behind a sequence or choice."""
    if group.tag == f"{XS}choice":
        chosen = next(
            (
                one
                for one in group
                if children and children[0].tag == f"{{{one.get('space')}}}{one.get('name')}"
            ),
            None,
        )
        if chosen is None:
            raise Wrong(f"{name}: one of several is needed")
        _element(children[0], chosen)
        return children[1:]
    for one in group:
        if one.tag != f"{XS}element":
            children = _group(children, one, name)
            continue
        tag, most, count = f"{{{one.get('space')}}}{one.get('name')}", one.get("maxOccurs", "1"), 0
        while children and children[0].tag == tag and (most == "unbounded" or count < int(most)):
            _element(children[0], one)
            children, count = children[1:], count + 1
        if count < int(one.get("minOccurs", "1")):
            raise Wrong(f"{one.get('name')} is missing")
    return children


_BASES: dict[str, str] = {
    "boolean": r"true|false|0|1",
    "decimal": r"[+-]?(\d+(\.\d*)?|\.\d+)",
    "unsignedByte": r"\+?\d{1,9}|-0+",
    "positiveInteger": r"\+?0*[1-9]\d*",
    "nonNegativeInteger": r"\+?\d+",
    "gYear": r"-?\d{4}",
    "date": r"\d{4}-\d\d-\d\d(Z|[+-]\d\d:\d\d)?",
    "dateTime": r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)?",
    "time": r"\d\d:\d\d:\d\d",
}


def _simple(text: str, kind: ET.Element | None, name: str, at: str) -> None:
    restriction = kind.find(f"{XS}restriction") if kind is not None else None
    base = restriction.get("base", "") if restriction is not None else name
    word = base.rpartition(":")[2]
    if base.startswith("xs:") and word != "string":
        text = " ".join(text.split())
    if word in _BASES and not re.fullmatch(_BASES[word], text):
        raise Wrong(f"{at} is no {word}")
    if (
        (word == "date" and not is_day(text[:10]))
        or (word == "dateTime" and not is_moment(text, zone=False))
        or (word == "unsignedByte" and int(text) > 255)
    ):
        raise Wrong(f"{at} is no {word}")
    if base.startswith(("h:", "p:")):
        _simple(text, _named("simpleType", base), base, at)
    facets = list(restriction) if restriction is not None else []
    choices = [facet.get("value") for facet in facets if facet.tag == f"{XS}enumeration"]
    if choices and text not in choices:
        raise Wrong(f"{at} must be one of {', '.join(map(str, choices))}")
    for one in facets:
        if not _keeps(text, one.tag.removeprefix(XS), one.get("value", "")):
            raise Wrong(f"{at} does not keep to {one.tag.removeprefix(XS)} {one.get('value')}")


def _keeps(text: str, facet: str, value: str) -> bool:
    match facet:
        case "pattern":
            return bool(re.fullmatch(value, text, re.ASCII))
        case "minLength":
            return len(text) >= int(value)
        case "maxLength":
            return len(text) <= int(value)
        case "minInclusive":
            return Decimal(text) >= Decimal(value)
        case "maxInclusive":
            return Decimal(text) <= Decimal(value)
        case "minExclusive":
            return Decimal(text) > Decimal(value)
        case "fractionDigits":
            return len(text.partition(".")[2].rstrip("0")) <= int(value)
    return True
