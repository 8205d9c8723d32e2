"""Stand-ins of services that ask for more than their definition says, each in one way. Every operation can be
reached from the definition and the service's own messages.
"""

from __future__ import annotations

from datetime import UTC, date, datetime
from typing import Any

from styles.harbour import many, shape
from styles.rest import TEXT, WHOLE, Call, Refused, Route, Schema, Service

MOMENT: Schema = {"type": "string", "format": "date-time"}
DATE: Schema = {"type": "string", "format": "date"}


class Book(Service):
    """Entries by key, in a list."""

    base, field = "/entries", "id"

    def __init__(self) -> None:
        super().__init__()
        self.entries: dict[str, Any] = {}

    def kept(self) -> Any:
        return self.entries

    def entry(self, call: Call) -> Any:
        key = next(iter(call.path.values()))
        if key not in self.entries:
            raise Refused(404, f"there is no {key}")
        return self.entries[key]

    def drop(self, call: Call) -> Any:
        self.entry(call)
        del self.entries[next(iter(call.path.values()))]
        return 204, None

    def put(self, key: str, value: Any) -> Any:
        self.entries[key] = {self.field: key, **value}
        return 201, self.entries[key]

    def listed(self, call: Call) -> Any:
        return 200, list(self.entries.values())


class Zones(Book):
    """A name in a form of its own, then a kind, neither of them declared as required; the kind in the words
    of its description.
    """

    field = "name"

    def routes(self) -> list[Route]:
        kind = {"type": "string", "description": 'How it is kept. Must be "tidal" or "dry".'}
        zone = shape((), name=TEXT, kind=kind)
        return [
            Route("GET", "/zones", self.listed, answer=many(zone)),
            Route("POST", "/zones", self.add, answer=zone, body=zone, status=201),
            Route("GET", "/zones/{zone}", lambda call: (200, self.entry(call)), answer=zone),
            Route("DELETE", "/zones/{zone}", self.drop, status=204),
        ]

    def add(self, call: Call) -> Any:
        body = call.body or {}
        for name in ("name", "kind"):
            if name not in body:
                raise Refused(422, f"Key '{name}' not present or not a String")
        if not body["name"].endswith(".") or "." not in body["name"][:-1]:
            raise Refused(422, f"Name '{body['name']}' is not canonical")
        if body["kind"] not in ("tidal", "dry"):
            raise Refused(422, f"{body['kind']} is no kind of zone")
        return self.put(body["name"], {"kind": body["kind"]})


class Starved(Book):
    """Something looks like an id from a list that is empty; any text will do."""

    def routes(self) -> list[Route]:
        report = shape(("id", "gaugeId"), id=TEXT, gaugeId=TEXT)
        gauge = shape(("gaugeId",), gaugeId=TEXT)
        return [
            Route("GET", "/gauges", lambda call: (200, []), answer=many(gauge)),
            Route("GET", "/reports", self.listed, answer=many(report)),
            Route(
                "POST",
                "/reports",
                self.add,
                answer=report,
                body=shape(("gaugeId",), gaugeId=TEXT),
                status=201,
            ),
            Route("GET", "/reports/{id}", lambda call: (200, self.entry(call)), answer=report),
            Route("DELETE", "/reports/{id}", self.drop, status=204),
        ]

    def add(self, call: Call) -> Any:
        return self.put(str(self.number()), {"gaugeId": call.body["gaugeId"]})


class Holds(Book):
    """One resource in the singular and in the plural; a start before its end, both ahead; a list as body, of
    which each item wants a label.
    """

    def routes(self) -> list[Route]:
        body = shape(("startsAt", "endsAt"), startsAt=MOMENT, endsAt=MOMENT)
        hold = shape(("id",), id=TEXT, startsAt=MOMENT, endsAt=MOMENT)
        labels: Schema = {"type": "object", "additionalProperties": TEXT}
        notes: Schema = {"type": "array", "items": shape(("labels",), labels=labels)}
        return [
            Route("GET", "/holds", self.listed, answer=many(hold)),
            Route("POST", "/holds", self.add, answer=hold, body=body, status=201),
            Route("GET", "/hold/{id}", lambda call: (200, self.entry(call)), answer=hold),
            Route("DELETE", "/hold/{id}", self.drop, status=204),
            Route("POST", "/notes/check", self.check, answer=shape((), count=WHOLE), body=notes),
        ]

    def add(self, call: Call) -> Any:
        starts, ends = (datetime.fromisoformat(call.body[name]) for name in ("startsAt", "endsAt"))
        if starts >= ends:
            raise Refused(400, "start time must be before end time")
        if ends <= datetime.now(UTC):
            raise Refused(400, "the end must be in the future")
        return self.put(str(self.number()), dict(call.body))

    def check(self, call: Call) -> Any:
        if not call.body:
            raise Refused(400, "no notes given")
        if not all(note["labels"] for note in call.body):
            raise Refused(400, "at least one label pair required")
        return 200, {"count": len(call.body)}


class Marks(Book):
    """Bare ids in a list; a type that is none; a path that looks as if PUT made something there."""

    def __init__(self) -> None:
        super().__init__()
        self.entries = {"7": {"id": "7"}}

    def routes(self) -> list[Route]:
        return [
            Route("GET", "/marks", lambda call: (200, list(self.entries)), answer=many(TEXT)),
            Route("GET", "/marks/{markId}", lambda call: (200, self.entry(call)), answer=shape((), id=TEXT)),
            Route(
                "GET",
                "/depths",
                self.depths,
                answer=many(WHOLE),
                query={"metres": {"type": "int"}},
                needed=("metres",),
            ),
            Route("PUT", "/delay/{delay}", self.wait, answer=shape((), waited=TEXT), ids={"type": "int"}),
        ]

    def depths(self, call: Call) -> Any:
        if not call.query["metres"].isdigit():
            raise Refused(400, "metres is no number")
        return 200, [int(call.query["metres"])]

    def wait(self, call: Call) -> Any:
        if not call.path["delay"].isdigit():
            raise Refused(400, "delay is no number")
        return 200, {"waited": call.path["delay"]}


class Tides(Book):
    """One entry a day; an empty note is one note too many."""

    def __init__(self) -> None:
        super().__init__()
        self.entries = {"old": {"id": "old", "day": "2026-03-14", "berth": "north"}}

    def routes(self) -> list[Route]:
        berth: Schema = {"type": "string", "nullable": True}
        body = shape(("day", "berth"), day=DATE, berth=berth)
        tide = shape(("id",), id=TEXT, day=DATE, berth=berth)
        return [
            Route("GET", "/tides", self.listed, answer=many(tide)),
            Route("POST", "/tides", self.add, answer=tide, body=body, status=201),
            Route("GET", "/tides/{id}", lambda call: (200, self.entry(call)), answer=tide),
            Route("DELETE", "/tides/{id}", self.drop, status=204),
        ]

    def add(self, call: Call) -> Any:
        date.fromisoformat(call.body["day"])
        if any(one["day"] == call.body["day"] for one in self.entries.values()):
            raise Refused(409, "an entry for this day exists already")
        return self.put(str(self.number()), dict(call.body))


class Logs(Book):
    """Items that have an id and a name, each with an address of its own, and a list below them that is
    emptied as a whole.
    """

    def routes(self) -> list[Route]:
        log = shape(("id", "name"), id=TEXT, name=TEXT)
        named = shape(("name",), name=TEXT)
        return [
            Route("GET", "/logs", self.listed, answer=many(log)),
            Route("POST", "/logs", self.add, answer=log, body=named, status=201),
            Route("GET", "/logs/{id}", lambda call: (200, self.entry(call)), answer=log),
            Route("DELETE", "/logs/{id}", self.drop, status=204),
            Route("GET", "/logs/name/{name}", lambda call: (200, self.called(call)), answer=log),
            Route("PATCH", "/logs/name/{name}", self.touch, answer=log, body=shape((), note=TEXT)),
            Route("DELETE", "/logs/name/{name}", self.drop_called, status=204),
            Route("GET", "/logs/{id}/pages", lambda call: (200, self.entry(call) and []), answer=many(named)),
            Route("DELETE", "/logs/{id}/pages", lambda call: (204, self.entry(call) and None), status=204),
        ]

    def called(self, call: Call) -> Any:
        found = next((one for one in self.entries.values() if one["name"] == call.path["name"]), None)
        if found is None:
            raise Refused(404, "nothing is called so")
        return found

    def touch(self, call: Call) -> Any:
        return 200, self.called(call)

    def drop_called(self, call: Call) -> Any:
        del self.entries[self.called(call)["id"]]
        return 204, None

    def add(self, call: Call) -> Any:
        return self.put(str(self.number()), {"name": call.body["name"]})


STRICT: tuple[type[Service], ...] = (Zones, Starved, Holds, Marks, Tides, Logs)
