"""The entities of an answer and their values, whatever the wire form wraps them in."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from decimal import Decimal, InvalidOperation
from typing import Any

from juxtalogos.formats.odata.csdl import Model
from juxtalogos.formats.odata.primitives import NUMBERS
from juxtalogos.formats.odata.wire.literals import MOMENT, from_moment
from juxtalogos.model.schema import ABSENT

_MOMENT = re.compile(
    r"(\d{4})-(\d\d)-(\d\d)(?:T(\d\d):(\d\d)(?::(\d\d)(?:\.(\d{1,12}))?)?)?(Z|[+-]\d\d:\d\d)?"
)


def inner(value: Any) -> Any:
    """What the answer is about, without the wrapper of V2."""
    return value["d"] if isinstance(value, dict) and set(value) == {"d"} else value


def entities(value: Any) -> list[dict[str, Any]] | None:
    """The entities of a list; None where the answer is none."""
    found = inner(value)
    if isinstance(found, dict):
        found = found.get("results", found.get("value"))
    if not isinstance(found, list):
        return None
    return [item for item in found if isinstance(item, dict)]


def path_to(value: Any) -> str:
    """The place of the list in the body."""
    found = inner(value)
    wrapped = "" if found is value else "/d"
    if isinstance(found, dict):
        return f"body{wrapped}/{'results' if 'results' in found else 'value'}"
    return f"body{wrapped}"


def count_of(value: Any) -> Any:
    """The number of all that fit, as it came; ABSENT where it did not."""
    found = inner(value)
    if not isinstance(found, dict):
        return ABSENT
    told = found.get("@odata.count", found.get("__count", ABSENT))
    return int(told) if isinstance(told, str) and re.fullmatch(r"\d{1,18}", told) else told


def has_more(value: Any) -> bool:
    """Whether the service says that it sent only some."""
    found = inner(value)
    return isinstance(found, dict) and bool(found.get("@odata.nextLink") or found.get("__next"))


def plain(model: Model, type_name: str, entity: dict[str, Any], path: str) -> Any:
    """A value that can be compared, at a path of properties; ABSENT where there is none."""
    at: Any = entity
    for name in path.split("/"):
        if not isinstance(at, dict) or name not in at:
            return ABSENT
        at = at[name]
    found = model.property_at(type_name, path)
    return comparable(at, model.underlying(found.type) if found else "")


def bare(model: Model, type_name: str, value: Any) -> Any:
    """What an answer says of entities, whatever the media type: without wrappers, metadata and links, numbers
    and moments in one form.
    """
    found = inner(value)
    if isinstance(found, dict):
        own = [name for name in found if not name.startswith("__") and "@" not in name]
        found = found[own[0]] if own in (["results"], ["value"]) else found
    if isinstance(found, list):
        return [bare(model, type_name, item) for item in found]
    if not isinstance(found, dict):
        return _in_one_form(found, type_name)
    members = {}
    for name, item in found.items():
        link = isinstance(item, dict) and set(item) == {"__deferred"}
        if link or name.startswith("__") or "@" in name:
            continue
        declared = model.property_at(type_name, name)
        leads = next((one.target for one in model.navigation(type_name) if one.name == name), "")
        kind = model.underlying(declared.type) if declared else leads
        members[name] = bare(model, kind, item) if isinstance(item, dict | list) else _in_one_form(item, kind)
    return members


def _in_one_form(value: Any, kind: str) -> Any:
    found = comparable(value, kind)
    if isinstance(found, Decimal):
        return str(found.normalize())
    return found.isoformat() if isinstance(found, datetime) else found


def comparable(value: Any, kind: str) -> Any:
    """Numbers as decimals and moments as such, also where a wire form has them as texts."""
    if isinstance(value, bool) or value is None:
        return value
    if isinstance(value, int | float):
        return Decimal(repr(value))
    if not isinstance(value, str):
        return value
    if kind in NUMBERS:
        try:
            return Decimal(value.rstrip("mMlLdDfF"))
        except InvalidOperation:
            return value
    if MOMENT.fullmatch(value):
        value = from_moment(value)
    if kind in ("Edm.Date", "Edm.DateTime", "Edm.DateTimeOffset"):
        return moment(value) or value
    return value


def moment(text: str) -> datetime | None:
    """A moment of ISO 8601; without a zone it is taken as it stands."""
    found = _MOMENT.fullmatch(text)
    if found is None:
        return None
    try:
        year, month, day, hour, minute, second = (int(group or 0) for group in found.groups()[:6])
        at = datetime(year, month, day, hour, minute, second, int((found[7] or "0")[:6].ljust(6, "0")), UTC)
    except ValueError:
        return None
    zone = found[8]
    if zone and zone != "Z":
        ahead = timedelta(hours=int(zone[1:3]), minutes=int(zone[4:6]))
        at = at - ahead if zone[0] == "+" else at + ahead
    return at
