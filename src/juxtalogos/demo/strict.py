"""The harbour takes only what its definitions allow: small readers of its own of the three kinds of definition, for what these use."""

from __future__ import annotations

import json
import re
import xml.etree.ElementTree as ET
from collections.abc import Iterator, Mapping
from datetime import date, datetime
from decimal import Decimal, InvalidOperation
from functools import cache
from importlib import resources
from typing import Any
from urllib.parse import parse_qs

import yaml

XS, XSI = "{http://www.w3.org/2001/XMLSchema}", "{http://www.w3.org/2001/XMLSchema-instance}"
EDM = "{http://docs.oasis-open.org/odata/ns/edm}"


class Wrong(Exception):
    """What the definition does not allow; `status` is what HTTP has for it."""

    def __init__(self, what: str, status: int = 400) -> None:
        super().__init__(what)
        self.what, self.status = what, status


def is_day(text: Any) -> bool:
    try:
        return isinstance(text, str) and bool(re.fullmatch(r"\d{4}-\d\d-\d\d", text)) and bool(date.fromisoformat(text))
    except ValueError:
        return False


def is_moment(text: Any, *, zone: bool = True) -> bool:
    if not isinstance(text, str) or not re.fullmatch(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)" + ("" if zone else "?"), text):  # fmt: skip
        return False
    try:
        return bool(datetime.fromisoformat(text.replace("Z", "+00:00")))
    except ValueError:
        return False


# berths: OpenAPI


@cache
def berths() -> Any:
    return yaml.safe_load(resources.files("juxtalogos.demo").joinpath("berths.yaml").read_text("utf-8"))


def _at(node: Any) -> Any:
    while isinstance(node, dict) and "$ref" in node:
        place = berths()
        for step in node["$ref"].removeprefix("#/").split("/"):
            place = place[step]
        node = place
    return node


def check_call(method: str, path: str, query: Mapping[str, list[str]], headers: Any, body: bytes) -> None:
    """Wrong, where a call of the berths service is not as declared; paths and keys are the operations' own."""
    item = next((item for template, item in berths()["paths"].items() if re.fullmatch(re.sub(r"\{\w+\}", "[^/]+", template), path)), None)  # fmt: skip
    operation = item.get(method.lower()) if item else None
    if item is None or operation is None:
        return
    for one in map(_at, [*item.get("parameters", ()), *operation.get("parameters", ())]):
        name, schema = one["name"], _at(one["schema"])
        texts = query.get(name, []) if one["in"] == "query" else [headers[name]] if one["in"] == "header" and name in headers else []  # fmt: skip
        if not texts and one.get("required") and one["in"] == "query":
            raise Wrong(f"{name} is missing")
        if schema.get("type") == "array":
            texts = [part for text in texts for part in text.split(",")]
            schema = _at(schema["items"])
        elif len(texts) > 1:
            raise Wrong(f"{name} stands more than once")
        for text in texts:
            check_json(_typed(text, schema), schema, name)
    if "requestBody" in operation:
        check_body(_at(operation["requestBody"]), headers, body)


def check_body(declared: Any, headers: Any, body: bytes) -> None:
    media = str(headers.get("Content-Type", "")).partition(";")[0].strip().lower()
    if not body:
        raise Wrong("there is no body")
    if media not in declared["content"]:
        raise Wrong(f"{media or 'no media type'} is not taken here")
    schema = _at(declared["content"][media]["schema"])
    if media == "application/json":
        try:
            check_json(json.loads(body), schema, "body")
        except (ValueError, RecursionError):
            raise Wrong("the body is no JSON") from None
    elif media == "application/x-www-form-urlencoded":
        fields = parse_qs(body.decode("utf-8", "replace"), keep_blank_values=True)
        if any(len(values) > 1 for values in fields.values()):
            raise Wrong("a field stands more than once")
        properties = schema.get("properties", {})
        check_json({name: _typed(values[0], _at(properties.get(name, {}))) for name, values in fields.items()}, schema, "body")  # fmt: skip


def _typed(text: str, schema: Any) -> Any:
    kind = schema.get("type")
    if kind == "boolean" and text in ("true", "false"):
        return text == "true"
    if kind == "integer" and re.fullmatch(r"-?\d{1,15}", text):
        return int(text)
    if kind == "number" and re.fullmatch(r"-?\d{1,15}(\.\d{1,15})?([eE][+-]?\d{1,2})?", text):
        return float(text)
    return text


_TYPES: dict[str, Any] = {
    "object": dict, "array": list, "string": str, "boolean": bool, "integer": int, "number": (int, float),
}  # fmt: skip
_FORMATS: dict[str, Any] = {"date": is_day, "date-time": is_moment, "email": lambda text: bool(re.fullmatch(r"[^@\s]+@[^@\s]+\.[^@\s.]+", text))}  # fmt: skip


def check_json(value: Any, schema: Any, at: str) -> None:
    """The rules that berths.yaml uses."""
    schema = _at(schema)
    if value is None:
        if not schema.get("nullable"):
            raise Wrong(f"{at} must not be null")
        return
    for one in schema.get("allOf", ()):
        check_json(value, one, at)
    kind = schema.get("type")
    if isinstance(value, float) and kind == "integer" and value == int(value):
        value = int(value)
    if kind and (not isinstance(value, _TYPES[kind]) or (isinstance(value, bool) and kind != "boolean")):
        raise Wrong(f"{at} must be of type {kind}")
    if "enum" in schema and value not in schema["enum"]:
        raise Wrong(f"{at} must be one of {', '.join(map(str, schema['enum']))}")
    if isinstance(value, str):
        _check_text(value, schema, at)
    elif isinstance(value, int | float):
        if not schema.get("minimum", value) <= value <= schema.get("maximum", value):
            raise Wrong(f"{at} is out of its limits")
    elif isinstance(value, list):
        if not schema.get("minItems", 0) <= len(value) <= schema.get("maxItems", len(value)):
            raise Wrong(f"{at} has too few or too many items")
        for number, item in enumerate(value):
            check_json(item, schema.get("items", {}), f"{at}/{number}")
    elif isinstance(value, dict):
        _check_members(value, schema, at)


def _check_text(value: str, schema: Any, at: str) -> None:
    if not schema.get("minLength", 0) <= len(value) <= schema.get("maxLength", len(value)):
        raise Wrong(f"{at} is too short or too long")
    if "pattern" in schema and not re.search(schema["pattern"].replace("$", r"\Z"), value, re.ASCII):
        raise Wrong(f"{at} does not match {schema['pattern']}")
    if not _FORMATS.get(schema.get("format", ""), lambda text: True)(value):
        raise Wrong(f"{at} is no {schema['format']}")


def _check_members(value: Mapping[str, Any], schema: Any, at: str) -> None:
    for name in schema.get("required", ()):
        if name not in value:
            raise Wrong(f"{at}/{name} is missing")
    if len(value) < schema.get("minProperties", 0):
        raise Wrong(f"{at} has too few members")
    for name, item in value.items():
        if name in schema.get("properties", {}):
            check_json(item, schema["properties"][name], f"{at}/{name}")


# pilotage: XML Schema


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
        if kind_name != "h:Order" or derived.rpartition(":")[2] not in ("Order", "EscortOrder") or ":" not in derived:
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
    _simple(element.text or "", restriction if restriction is not None else _named("simpleType", kind_name), kind_name, name)  # fmt: skip


def _complex(element: ET.Element, kind: ET.Element, name: str) -> None:
    if (element.text or "").strip() or any((child.tail or "").strip() for child in element):
        raise Wrong(f"there is text within {name}")
    attributes = {str(one.get("name")): one for one in _attributes(kind)}
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
        chosen = next((one for one in group if children and children[0].tag == f"{{{one.get('space')}}}{one.get('name')}"), None)  # fmt: skip
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
    "boolean": r"true|false|0|1", "decimal": r"[+-]?(\d+(\.\d*)?|\.\d+)", "unsignedByte": r"\+?\d{1,9}|-0+", "positiveInteger": r"\+?0*[1-9]\d*", "nonNegativeInteger": r"\+?\d+", "gYear": r"-?\d{4}",
    "date": r"\d{4}-\d\d-\d\d(Z|[+-]\d\d:\d\d)?", "dateTime": r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)?", "time": r"\d\d:\d\d:\d\d",
}  # fmt: skip


def _simple(text: str, kind: ET.Element | None, name: str, at: str) -> None:
    restriction = kind.find(f"{XS}restriction") if kind is not None else None
    base = restriction.get("base", "") if restriction is not None else name
    word = base.rpartition(":")[2]
    if base.startswith("xs:") and word != "string":
        text = " ".join(text.split())
    if word in _BASES and not re.fullmatch(_BASES[word], text):
        raise Wrong(f"{at} is no {word}")
    if (word == "date" and not is_day(text[:10])) or (word == "dateTime" and not is_moment(text, zone=False)) or (word == "unsignedByte" and int(text) > 255):  # fmt: skip
        raise Wrong(f"{at} is no {word}")
    if base.startswith(("h:", "p:")):
        _simple(text, _named("simpleType", base), base, at)
    facets = list(restriction) if restriction is not None else []
    choices = [one.get("value") for one in facets if one.tag == f"{XS}enumeration"]
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


# registry: the facets of its metadata


@cache
def _properties(kind: str) -> dict[str, ET.Element]:
    """By name the properties of a type of the registry, with those that it inherits."""
    root = ET.fromstring(resources.files("juxtalogos.demo").joinpath("registry.edmx").read_bytes())
    for one in root.iter():
        if one.tag in (f"{EDM}EntityType", f"{EDM}ComplexType", f"{EDM}Action") and one.get("Name") == kind:
            base = one.get("BaseType", "").rpartition(".")[2]
            own = {str(part.get("Name")): part for part in one if part.tag in (f"{EDM}Property", f"{EDM}Parameter")}
            return {**(_properties(base) if base else {}), **own}
    return {}


_WHOLE = {"Edm.Int16": 15, "Edm.Int32": 31, "Edm.Int64": 63}


def check_row(kind: str, given: Mapping[str, Any], *, also: tuple[str, ...] = ()) -> None:
    """Wrong, where a property is none of the type's, or not of its facets; what is left out is not looked for."""
    properties = _properties(kind)
    for name, value in given.items():
        if name.startswith("@") or "@" in name or name in also:
            continue
        one = properties.get(name)
        if one is None:
            raise Wrong(f"there is no {name}")
        if any(part.get("Term") == "Core.Computed" for part in one):
            continue  # what is sent of it is ignored
        if value is None:
            if one.get("Nullable") == "false":
                raise Wrong(f"{name} must not be null")
            continue
        _check_property(name, value, one)


def _check_property(name: str, value: Any, one: ET.Element) -> None:
    kind = one.get("Type", "")
    if kind in _WHOLE:
        if (
            isinstance(value, bool)
            or not isinstance(value, int)
            or not -(2 ** _WHOLE[kind]) <= value < 2 ** _WHOLE[kind]
        ):
            raise Wrong(f"{name} is no {kind}")
    elif kind == "Edm.String":
        if not isinstance(value, str) or len(value) > int(one.get("MaxLength", 10**6)):
            raise Wrong(f"{name} is no text of at most {one.get('MaxLength')} characters")
    elif kind == "Edm.Boolean":
        if not isinstance(value, bool):
            raise Wrong(f"{name} is no truth value")
    elif kind == "Edm.Date":
        if not is_day(value):
            raise Wrong(f"{name} is no day")
    elif kind == "Edm.DateTimeOffset":
        if not is_moment(value) or "." in value:
            raise Wrong(f"{name} is no moment")
    elif kind == "Edm.Decimal":
        _check_decimal(name, value, one)
    elif kind == "Self.Condition":
        if value not in ("Sound", "Worn", "Condemned"):
            raise Wrong(f"{name} is no condition")
    elif kind == "Self.Measures":
        if not isinstance(value, dict) or "Length" not in value:
            raise Wrong(f"{name} needs a Length")
        check_row("Measures", value)


def _check_decimal(name: str, value: Any, one: ET.Element) -> None:
    try:
        number = Decimal(str(value)) if isinstance(value, int | float) and not isinstance(value, bool) else None
    except InvalidOperation:
        number = None
    if number is None or not number.is_finite():
        raise Wrong(f"{name} is no number")
    scale, precision = int(one.get("Scale", "0")), int(one.get("Precision", "30"))
    if number != round(number, scale) or abs(number) >= 10 ** (precision - scale):
        raise Wrong(f"{name} has too many digits")


def check_options(options: Mapping[str, str]) -> None:
    """Wrong, where a query option is none, or has no such value (OData URL conventions, section 5.1)."""
    known = {"$filter", "$orderby", "$top", "$skip", "$count", "$select", "$expand", "$search", "$format"}
    for name in options:
        if name.startswith("$") and name not in known:
            raise Wrong(f"there is no option {name}", 501)
    if options.get("$count", "true") not in ("true", "false"):
        raise Wrong("$count is true or false")
    if options.get("$format", "json") not in ("json", "application/json", JSON_MINIMAL):
        raise Wrong("the registry speaks JSON", 406)


JSON_MINIMAL = "application/json;odata.metadata=minimal"
