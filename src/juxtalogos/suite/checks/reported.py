"""`x-juxtalogos-reported`: values put into the report on purpose, under a name, without being checked."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from juxtalogos.documents.jsontext import dump_json
from juxtalogos.model.errors import quoted
from juxtalogos.model.location import Location
from juxtalogos.model.schema import ABSENT
from juxtalogos.suite.checks.form import BadCheck
from juxtalogos.suite.checks.written import WrittenCheck, chosen, read_check
from juxtalogos.suite.language.expressions import Scope
from juxtalogos.suite.language.selectors import NoSelection

KEY = "x-juxtalogos-reported"
MOST, LONGEST = 100, 2_000
"""Values of one step; characters of one."""

Reported = tuple[tuple[str, WrittenCheck], ...]
"""(name, where its value is)."""


def read_reported(value: Any, location: Location) -> Reported:
    """`{NAME: ADDRESS}`, in place of an address also `{jsonpath: ...}` or `{xpath: ...}`. BadCheck says what
    is wrong, `key` with which name.
    """
    if not isinstance(value, dict) or len(value) > MOST:
        raise BadCheck(
            f"reported values are a mapping of at most {MOST} names",
            mend=f"write {KEY}: {{call: body/callId}}",
        )
    found = []
    for name, where in value.items():
        place = {"at": where} if isinstance(where, str) else where
        if not isinstance(name, str) or not 0 < len(name) <= 80:
            raise BadCheck(f"{quoted(str(name))} is no name for a value", str(name), "use 1 to 80 characters")
        if not isinstance(place, dict) or not place.keys() <= {"at", "jsonpath", "xpath"}:
            raise BadCheck(
                "this is not a place in a response",
                name,
                "write an address such as body/callId, {jsonpath: ...} or {xpath: ...}",
            )
        try:
            found.append((name, read_check({**place, "exists": True}, location, lambda *_: None)))
        except BadCheck as error:
            raise BadCheck(str(error), name, error.mend) from None
    return tuple(found)


def reported_values(
    reported: Reported, scope: Scope, namespaces: Mapping[str, str] | None = None
) -> Iterator[tuple[str, str, str]]:
    """(name, place, value as text) of each; what is not there is told so."""
    for name, place in reported:
        try:
            value = chosen(place, scope, namespaces)
        except NoSelection as error:
            value = ABSENT if not str(error) else f"({error})"
        text = "(absent)" if value is ABSENT else value if isinstance(value, str) else dump_json(value)
        yield name, place.where, text if len(text) <= LONGEST else text[: LONGEST - 1] + "…"
