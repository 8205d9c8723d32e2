"""The registry takes only what the facets of its metadata allow."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Mapping
from decimal import Decimal, InvalidOperation
from functools import cache
from importlib import resources
from typing import Any

from juxtalogos.demo.strict import Wrong, is_day, is_moment

EDM = "{http://docs.oasis-open.org/odata/ns/edm}"


@cache
def _properties(kind: str) -> dict[str, ET.Element]:
    """By name the properties of a type of the registry, with those that it inherits."""
    root = ET.fromstring(resources.files("juxtalogos.demo").joinpath("registry.edmx").read_bytes())
    for node in root.iter():
        if node.tag in (f"{EDM}EntityType", f"{EDM}ComplexType", f"{EDM}Action") and node.get("Name") == kind:
            base = node.get("BaseType", "").rpartition(".")[2]
            own = {
                str(part.get("Name")): part
                for part in node
                if part.tag in (f"{EDM}Property", f"{EDM}Parameter")
            }
            return {**(_properties(base) if base else {}), **own}
    return {}


_WHOLE = {"Edm.Int16": 15, "Edm.Int32": 31, "Edm.Int64": 63}


def check_row(kind: str, given: Mapping[str, Any], *, also: tuple[str, ...] = ()) -> None:
    """Wrong, where a property is none of the type's, or not of its facets; what is left out is not looked
    for.
    """
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
        number = (
            Decimal(str(value)) if isinstance(value, int | float) and not isinstance(value, bool) else None
        )
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
