"""Facets of a type where it is used (CSDL 4.0, section 6.2), from attributes in XML or members in JSON."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from juxtalogos.formats.odata.csdl import TypeUse


def facets_of(use: TypeUse, given: Mapping[str, Any]) -> TypeUse:
    """The type with the facets that stand beside it; one that is no number counts as not said."""
    if not given.keys() & _FACETS:
        return use
    scale = given.get("Scale")
    return replace(
        use,
        nullable=str(given.get("Nullable", "true")).lower() not in ("false", "0"),
        max_length=_number(given.get("MaxLength")),
        fixed_length=str(given.get("FixedLength", "")).lower() == "true",
        precision=_number(given.get("Precision")),
        scale=_number(scale),
        scale_said=scale is not None,
        default=None if given.get("DefaultValue") is None else str(given["DefaultValue"]),
    )


_FACETS = frozenset(("Nullable", "MaxLength", "FixedLength", "Precision", "Scale", "DefaultValue"))


def _number(text: Any) -> int | None:
    """`Max` and `variable` are no limit."""
    if isinstance(text, int) and not isinstance(text, bool):
        return text if text >= 0 else None
    return int(text) if isinstance(text, str) and re.fullmatch(r"\d{1,9}", text.strip()) else None
