"""The registry's records and rules: what both of its faces share. It knows no wire form."""

from __future__ import annotations

import re
import threading
import uuid
from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta
from typing import Any

from juxtalogos.demo.strict import Wrong
from juxtalogos.demo.strict_odata import check_row

Row = dict[str, Any]
KEYS = {
    "Owners": "Code",
    "Vessels": "VesselId",
    "Certificates": "Number",
    "Inspections": "InspectionId",
    "Plans": "PlanId",
}
TYPES = {
    "Owners": "Owner",
    "Vessels": "Vessel",
    "Certificates": "Certificate",
    "Inspections": "Inspection",
    "Plans": "Plan",
}
FIELDS: dict[str, dict[str, str]] = {
    "Owner": {"Code": "text", "Name": "text", "Registered": "day"},
    "Vessel": {
        "VesselId": "whole",
        "Name": "text",
        "Built": "day",
        "Condition": "condition",
        "Measures": "measures",
        "OwnerCode": "text",
        "Detained": "truth",
    },
    "Tug": {
        "VesselId": "whole",
        "Name": "text",
        "Built": "day",
        "Condition": "condition",
        "Measures": "measures",
        "OwnerCode": "text",
        "Detained": "truth",
        "PullTonnes": "whole",
    },
    "Certificate": {"Number": "long", "Kind": "text", "Expires": "moment", "VesselId": "whole"},
    "Inspection": {"InspectionId": "text", "Inspector": "text", "Minutes": "whole", "VesselId": "whole"},
    "Deficiency": {"Line": "whole", "Text": "text", "Mended": "truth"},
    "Plan": {"PlanId": "whole", "Title": "text"},
}
NEEDED = {
    "Owners": ("Code", "Name"),
    "Vessels": ("Name", "Condition", "OwnerCode"),
    "Certificates": ("Kind", "Expires", "VesselId"),
    "Inspections": ("Inspector", "Minutes", "VesselId"),
    "Plans": (),
}
LONGEST = {"Code": 12, "Name": 60, "Kind": 20, "Inspector": 40, "Title": 60, "OwnerCode": 12}
WAYS: dict[str, dict[str, tuple[str, str, str]]] = {
    "Owners": {"Vessels": ("Vessels", "OwnerCode", "Code")},
    "Vessels": {
        "Owner": ("Owners", "Code", "OwnerCode"),
        "Certificates": ("Certificates", "VesselId", "VesselId"),
    },
    "Certificates": {"Vessel": ("Vessels", "VesselId", "VesselId")},
    "Inspections": {"Vessel": ("Vessels", "VesselId", "VesselId")},
    "Plans": {},
}
"""Navigation: (set there, its property, our property)."""
SINGLE = ("Owner", "Vessel")
CONDITIONS = ("Sound", "Worn", "Condemned")
PLAN = b"%PDF-1.4 stability plan of a made-up vessel\n"


class Refused(Exception):
    def __init__(self, status: int, code: str, message: str, **headers: str) -> None:
        super().__init__(message)
        self.headers = headers
        self.status, self.code, self.message = status, code, message


class Store:
    """Rows by set and key; one lock for all."""

    def __init__(self) -> None:
        self.lock = threading.RLock()
        self.reset()

    def reset(self) -> None:
        with self.lock:
            self.number = 400
            self.version = 1
            self.streams: dict[int, tuple[str, bytes]] = {301: ("application/pdf", PLAN)}
            self.rows: dict[str, dict[Any, Row]] = {name: {} for name in KEYS}
            for code, name, day in (
                ("NEREID", "Nereid Towing", "2001-05-04"),
                ("ASTER", "Aster Lines", "1998-11-30"),
                ("KELP", "Kelp and Daughters", None),
            ):
                self.rows["Owners"][code] = {"Code": code, "Name": name, "Registered": day}
            for number, (name, built, condition, length, owner) in enumerate(
                (
                    ("Tern", "2009-04-01", "Sound", 84.5, "ASTER"),
                    ("Skua", "1994-08-17", "Worn", 31.25, "NEREID"),
                    ("Gannet", None, "Condemned", 120.0, "ASTER"),
                )
            ):
                key = (103, 101, 102)[number]
                row = {
                    "VesselId": key,
                    "Name": name,
                    "Built": built,
                    "Condition": condition,
                    "Measures": {"Length": length, "Draught": None if number else 6.2},
                    "OwnerCode": owner,
                    "Detained": False,
                }
                self.rows["Vessels"][key] = {**row, "PullTonnes": 45, "@": "Tug"} if name == "Skua" else row
            for key, kind, days, vessel in (
                (202, "load line", 40, 103),
                (201, "safety radio", 900, 101),
                (203, "tonnage", 10, 101),
            ):
                when = (datetime(2026, 11, 1, tzinfo=UTC) + timedelta(days=days)).strftime(
                    "%Y-%m-%dT%H:%M:%SZ"
                )
                self.rows["Certificates"][key] = {
                    "Number": key,
                    "Kind": kind,
                    "Expires": when,
                    "VesselId": vessel,
                }
            for key, minutes in ((7, 90), (8, 35), (9, 140)):
                identity = str(uuid.UUID(int=key))
                row = {
                    "InspectionId": identity,
                    "Inspector": "Dov Rimer",
                    "Minutes": minutes,
                    "VesselId": 101,
                    "Deficiencies": {1: {"Line": 1, "Text": "a frayed fender", "Mended": False}},
                    "~": 1,
                }
                self.rows["Inspections"][identity] = row
            self.rows["Plans"][301] = {"PlanId": 301, "Title": "Tern, stability"}

    def one(self, name: str, key: Any) -> Row:
        row = self.rows[name].get(key)
        if row is None:
            raise Refused(404, "NotFound", f"there is no {TYPES[name].lower()} {key}")
        return row

    def fields(self, name: str, row: Row) -> dict[str, str]:
        return FIELDS[row.get("@") or TYPES.get(name, name)]

    def create(self, name: str, given: Row) -> Row:
        """A new row; the registry makes all keys but those of owners."""
        kind = given.pop("@", "")
        for needed in NEEDED[name]:
            if given.get(needed) is None:
                raise Refused(400, "Missing", f"{needed} is required")
        self.check(name, given, kind)
        key: Any = given.get(KEYS[name])
        if name != "Owners":
            self.number += 1
            key = str(uuid.uuid4()) if name == "Inspections" else self.number
        elif key in self.rows[name]:
            raise Refused(409, "Exists", f"there is an owner {key} already")
        row: Row = {field: given.get(field) for field in FIELDS[kind or TYPES[name]]}
        row[KEYS[name]] = key
        if kind:
            row["@"] = kind
        if name == "Vessels":
            row["Detained"] = False
        if name == "Inspections":
            parts = given.get("Deficiencies") or []
            row["Deficiencies"] = {
                int(part["Line"]): {
                    "Line": int(part["Line"]),
                    "Text": part.get("Text"),
                    "Mended": part.get("Mended"),
                }
                for part in parts
            }
            row["~"] = 1
        self.rows[name][key] = row
        return row

    def change(self, name: str, key: Any, given: Row, *, whole: bool = False) -> Row:
        row = self.one(name, key)
        own = KEYS[name]
        for needed in NEEDED[name] if whole else ():
            if given.get(needed) is None and needed != own:
                raise Refused(400, "Missing", f"{needed} is required")
        self.check(name, {field: value for field, value in given.items() if field != own}, row.get("@", ""))
        for field in self.fields(name, row):
            if field in given and field != KEYS[name] and field != "Detained":
                row[field] = given[field]
            elif (
                whole
                and field not in given
                and field not in (KEYS[name], "Detained")
                and field not in NEEDED[name]
            ):
                row[field] = None
        row["~"] = row.get("~", 1) + 1
        return row

    def check(self, name: str, given: Row, kind: str) -> None:
        fields = FIELDS[kind or TYPES[name]]
        parts = given.get("Deficiencies", [])
        try:
            check_row(kind or TYPES[name], given, also=("Deficiencies",))
            if not isinstance(parts, list) or not all(isinstance(part, dict) for part in parts):
                raise Wrong("Deficiencies are a list")
            for one in parts:
                self.check_line(one)
        except Wrong as wrong:
            raise Refused(400, "Malformed", wrong.what) from None
        for field, value in given.items():
            if field.startswith("@") or "@" in field or field == "Deficiencies":
                continue
            if field not in fields:
                raise Refused(400, "Unknown", f"a {TYPES[name].lower()} has no {field}")
            if value is not None and not _FITS[fields[field]](value):
                raise Refused(400, "Malformed", f"{field} is not of its type")
            if isinstance(value, str) and len(value) > LONGEST.get(field, 200):
                raise Refused(400, "TooLong", f"{field} is too long")
        for field, place in (("OwnerCode", "Owners"), ("VesselId", "Vessels")):
            if field in given and field != KEYS[name] and given[field] not in self.rows[place]:
                raise Refused(400, "NoSuch", f"{field} names nothing that is registered")

    def check_line(self, given: Row, *, whole: bool = True) -> None:
        """A deficiency of an inspection. Wrong where it is none."""
        check_row("Deficiency", given)
        if whole and (given.get("Line") is None or given.get("Text") is None):
            raise Wrong("Line and Text are required")

    def delete(self, name: str, key: Any) -> None:
        self.one(name, key)
        for other, ways in WAYS.items():
            for target, there, here in ways.values():
                if (
                    target == name
                    and there == KEYS[name]
                    and any(row.get(here) == key for row in self.rows[other].values())
                ):
                    raise Refused(409, "InUse", f"{other} refer to it")
        del self.rows[name][key]

    def along(self, name: str, key: Any, way: str) -> list[Row]:
        target, there, here = WAYS[name][way]
        value = self.one(name, key)[here]
        return [row for row in self.rows[target].values() if row[there] == value]


def _is_day(value: Any) -> bool:
    try:
        date.fromisoformat(value)
    except (TypeError, ValueError):
        return False
    return len(value) == 10


def _is_moment(value: Any) -> bool:
    return (
        isinstance(value, str)
        and re.fullmatch(r"\d{4}-\d\d-\d\dT\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:\d\d)?", value) is not None
    )


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


_FITS: dict[str, Callable[[Any], bool]] = {
    "text": lambda value: isinstance(value, str),
    "whole": lambda value: isinstance(value, int) and not isinstance(value, bool),
    "long": lambda value: isinstance(value, int) and not isinstance(value, bool),
    "truth": lambda value: isinstance(value, bool),
    "day": _is_day,
    "moment": _is_moment,
    "condition": lambda value: value in CONDITIONS,
    "measures": (
        lambda value: (
            isinstance(value, dict)
            and _is_number(value.get("Length"))
            and (value.get("Draught") is None or _is_number(value["Draught"]))
        )
    ),
}


# Query options, understood as far as the registry's own users need them.

_TERM = re.compile(
    r"\s*(?:(contains|startswith|endswith)\((\w+),\s*'((?:[^']|'')*)'\)|substringof\('((?:[^']|'')*)',\s*(\w+)\)|([\w/]+)\s+(eq|ne|lt|le|gt|ge)\s+((?:[\w.]*'(?:[^']|'')*')|[^\s()]+))\s*"
)


def fits(text: str, row: Row) -> bool:
    """Whether a row fulfils a filter of terms joined by `and`, or by `or`; Refused for anything else."""
    joined = " or " if " or " in text else " and "
    results = [_term(part, row) for part in text.split(joined)]
    return any(results) if joined == " or " else all(results)


def _term(text: str, row: Row) -> bool:
    found = _TERM.fullmatch(text)
    if found is None:
        raise Refused(501, "NotImplemented", f"the registry does not know the filter {text.strip()}")
    function, field, part, old_part, old_field, path, operator, literal = found.groups()
    if function or old_field:
        told = str(row.get(field or old_field) or "")
        wanted = (part if part is not None else old_part).replace("''", "'")
        return {
            "contains": wanted in told,
            "startswith": told.startswith(wanted),
            "endswith": told.endswith(wanted),
        }[function or "contains"]
    value: Any = row
    for step in path.split("/"):
        if not isinstance(value, dict) or step not in value:
            raise Refused(400, "NoProperty", f"there is no property {path}")
        value = value[step]
    other = read_literal(literal)
    if operator in ("eq", "ne"):
        return bool(value == other) is (operator == "eq")
    if value is None or other is None or isinstance(value, str) is not isinstance(other, str):
        return False
    return bool(
        {"lt": value < other, "le": value <= other, "gt": value > other, "ge": value >= other}[operator]
    )


def read_literal(text: str) -> Any:
    if text in ("null", "true", "false"):
        return {"null": None, "true": True, "false": False}[text]
    quoted = re.fullmatch(r"([\w.]*)'((?:[^']|'')*)'", text, re.DOTALL)
    if quoted:
        inner = quoted[2].replace("''", "'")
        return inner.partition("T")[0] if quoted[1] == "datetime" else inner
    number = re.fullmatch(r"(-?\d+(?:\.\d+)?)[lLmMdDfF]?", text)
    return (float(number[1]) if "." in number[1] else int(number[1])) if number else text


def ordered(rows: list[Row], text: str) -> list[Row]:
    for part in reversed(text.split(",")):
        field, _, way = part.strip().partition(" ")
        rows = sorted(
            rows,
            key=lambda row: (row.get(field) is not None, row.get(field) if row.get(field) is not None else 0),
            reverse=way == "desc",
        )
    return rows


def as_number(text: str, name: str) -> int:
    if not text.isdigit():
        raise Refused(400, "Malformed", f"{name} is no number")
    return int(text)
