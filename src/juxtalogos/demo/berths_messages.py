"""Requests and answers of the berths service, and the values in them."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass, field
from datetime import date, datetime
from typing import Any


class Refusal(Exception):
    def __init__(self, status: int, title: str, detail: str = "", **headers: str) -> None:
        super().__init__(title)
        self.headers = headers
        self.status = status
        self.title = title
        self.detail = detail


@dataclass
class Reply:
    status: int
    body: Any = None
    media_type: str = "application/json"
    headers: dict[str, str] = field(default_factory=dict)
    text: str | None = None


@dataclass
class Call:
    """One request as the service sees it."""

    query: dict[str, list[str]]
    headers: Any
    body: bytes

    def json(self) -> dict[str, Any]:
        if not self.headers.get("Content-Type", "").startswith("application/json"):
            raise Refusal(400, "Not JSON", "the Content-Type must be application/json")
        try:
            value = json.loads(self.body)
        except ValueError:
            raise Refusal(400, "Not JSON", "the body cannot be parsed") from None
        if not isinstance(value, dict):
            raise Refusal(400, "Not an object")
        return value

    def one(self, name: str) -> str | None:
        values = self.query.get(name)
        return values[0] if values else None

    def count(self, name: str, least: int, most: int, default: int) -> int:
        text = self.one(name)
        if text is None:
            return default
        if not text.isdigit() or not least <= int(text) <= most:
            raise Refusal(400, f"Bad {name}", f"{text!r} is no number from {least} to {most}")
        return int(text)


def read_moment(text: Any, name: str) -> str:
    try:
        stamp = datetime.fromisoformat(text)
    except (TypeError, ValueError):
        raise Refusal(400, f"Bad {name}", "an RFC 3339 date-time is needed") from None
    if stamp.tzinfo is None:
        raise Refusal(400, f"Bad {name}", "the offset is missing")
    return str(text)


def read_day(text: Any, name: str) -> str:
    if not isinstance(text, str) or not re.fullmatch(r"\d{4}-\d\d-\d\d", text):
        raise Refusal(400, f"Bad {name}", "a date is needed")
    date.fromisoformat(text)
    return text


def read_number(value: Any, name: str, least: float, most: float) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or not least <= value <= most:
        raise Refusal(400, f"Bad {name}", f"a number from {least} to {most} is needed")
    return value
