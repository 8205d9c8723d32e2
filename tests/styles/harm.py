"""Stand-ins on which a careless client does harm: each holds things of other people, and counts what became of
them.
"""

from __future__ import annotations

import threading
import time
from typing import Any

from styles.rest import TEXT, WHOLE, Call, Refused, Route, Service, many, shape

ITEM = shape(("id", "name"), id=TEXT, name=TEXT)
NAMED = shape(("name",), name=TEXT)


class Store(Service):
    """Items in a list, made by POST and removed by DELETE; two are other people's."""

    base = "/items"

    def __init__(self) -> None:
        super().__init__()
        self.items: dict[str, Any] = {"old-1": {"name": "Anna's"}, "old-2": {"name": "Bert's"}}

    def kept(self) -> Any:
        return self.items

    def routes(self) -> list[Route]:
        one = f"{self.base}/{{itemId}}"
        return [
            Route("GET", self.base, self.listed, answer=many(ITEM)),
            Route("POST", self.base, self.add, answer=ITEM, body=NAMED, status=201),
            Route("GET", one, lambda call: (200, self.shown(call.path["itemId"])), answer=ITEM),
            Route("PUT", one, self.change, answer=ITEM, body=NAMED),
            Route("DELETE", one, self.remove, status=204),
        ]

    def shown(self, key: str) -> Any:
        if key not in self.items:
            raise Refused(404, f"there is no item {key}")
        return {"id": key, **self.items[key]}

    def listed(self, call: Call) -> Any:
        return 200, [self.shown(key) for key in self.items]

    def add(self, call: Call) -> Any:
        key = str(self.number())
        self.items[key] = {"name": call.body["name"]}
        return 201, self.shown(key), {"Location": f"{self.base}/{key}"}

    def change(self, call: Call) -> Any:
        self.shown(call.path["itemId"])
        self.items[call.path["itemId"]] = {"name": call.body["name"]}
        return 200, self.shown(call.path["itemId"])

    def remove(self, call: Call) -> Any:
        self.shown(call.path["itemId"])
        del self.items[call.path["itemId"]]
        return 204, None


class GetOrCreate(Store):
    """A creation is answered with an item that was there before."""

    def add(self, call: Call) -> Any:
        return 201, self.shown("old-1"), {"Location": f"{self.base}/old-1"}


class PagedGetOrCreate(GetOrCreate):
    """The same, and the item stands on the second page of the list."""

    def __init__(self) -> None:
        super().__init__()
        self.items = {f"new-{number}": {"name": "x"} for number in range(3)} | self.items

    def routes(self) -> list[Route]:
        found = super().routes()
        page = shape(("items",), items=many(ITEM), next=TEXT)
        found[0] = Route("GET", self.base, self.paged, answer=page, query={"cursor": TEXT})
        return found

    def paged(self, call: Call) -> Any:
        start, keys = int(call.query.get("cursor") or 0), list(self.items)
        told: dict[str, Any] = {"items": [self.shown(key) for key in keys[start : start + 3]]}
        if start + 3 < len(keys):
            told["next"] = str(start + 3)
        return 200, told


class UnreadableList(GetOrCreate):
    """The same, and the list cannot be read."""

    def listed(self, call: Call) -> Any:
        raise Refused(403, "not for you")


class ErrorId(Store):
    """A creation fails, and the body of the failure has an id in it: an item of that name exists."""

    def __init__(self) -> None:
        super().__init__()
        self.items["UnknownError"] = {"name": "a report that people keep"}

    def add(self, call: Call) -> Any:
        raise Refused(500, "it failed", id="UnknownError")


class OddIds(Store):
    """What was created is called `..`, and below `/items/` lies everything."""

    odd = ".."

    def add(self, call: Call) -> Any:
        self.items["made"] = {"name": call.body["name"]}
        return 201, {"id": self.odd, "name": call.body["name"]}

    def answer(self, method: str, target: str, headers: Any, data: bytes) -> tuple[int, Any, dict[str, str]]:
        path = target.partition("?")[0]
        if method == "DELETE" and path.rstrip("/").endswith(("/items", "/..", "/.", "%2E%2E", "/%2E")):
            self.items.clear()
            return 204, None, {}
        return super().answer(method, target, headers, data)


class EmptyIds(OddIds):
    odd = ""


class WrongLocation(Store):
    """`Location` names the collection, the body nothing; and whatever is deleted, the answer is a success."""

    base = "/tokens"

    def routes(self) -> list[Route]:
        found = [route for route in super().routes() if route.method not in ("PUT",)]
        found[1] = Route("POST", self.base, self.add, answer=shape(), body=NAMED, status=201)
        return found

    def add(self, call: Call) -> Any:
        key = str(self.number())
        self.items[key] = {"name": call.body["name"]}
        return 201, {}, {"Location": self.base}

    def remove(self, call: Call) -> Any:
        self.items.pop(call.path["itemId"], None)
        return 204, None


class KeepsAll(Store):
    """Every deletion is answered with a success, and nothing is deleted."""

    def remove(self, call: Call) -> Any:
        return 204, None


class Locked(Store):
    """No deletion is let through while it is locked."""

    locked = True

    def remove(self, call: Call) -> Any:
        if self.locked:
            raise Refused(423, "the store is locked")
        return super().remove(call)


JOURNALS = ("journal", "night-journal", "watch-journal", "gate-journal")


class Journal(Store):
    """The service writes down every change, in lists to which no client adds, the newest first."""

    def __init__(self) -> None:
        super().__init__()
        self.entries: list[Any] = [{"id": "e1", "what": "opened"}]

    def routes(self) -> list[Route]:
        entries = many(shape(("id", "what"), id=TEXT, what=TEXT))
        return [
            *super().routes(),
            *(
                Route("GET", f"/{name}", lambda call: (200, self.entries[:50]), answer=entries)
                for name in JOURNALS
            ),
        ]

    def answer(self, method: str, target: str, headers: Any, data: bytes) -> tuple[int, Any, dict[str, str]]:
        if method != "GET":
            self.entries.insert(0, {"id": f"e{len(self.entries) + 1}", "what": method})
        return super().answer(method, target, headers, data)


class Lasting(Store):
    """Nothing that is created can be removed."""

    def routes(self) -> list[Route]:
        return [route for route in super().routes() if route.method in ("GET", "POST")]


class Mode(Service):
    """A POST beside a GET of the same path turns writing off for all, under a name that says nothing."""

    def __init__(self) -> None:
        super().__init__()
        self.mode = {"quay": "A", "open": True}

    def kept(self) -> Any:
        return self.mode

    def routes(self) -> list[Route]:
        body = shape(("quay", "open"), quay=TEXT, open={"type": "boolean"})
        return [
            Route("GET", "/tide-gate", lambda call: (200, dict(self.mode)), answer=body),
            Route("POST", "/tide-gate", self.change, answer=body, body=body),
        ]

    def change(self, call: Call) -> Any:
        self.mode = {"quay": call.body["quay"], "open": call.body["open"]}
        return 200, dict(self.mode)


class SwitchedOff(Store):
    """A request with a harmless name, after which the service is not available for anybody, and nothing that
    a client may do helps.
    """

    status = 503

    def __init__(self) -> None:
        super().__init__()
        self.off = 0
        """Requests that came since it was switched off."""

    def routes(self) -> list[Route]:
        berths = [
            Route("GET", f"/{name}", self.listed, answer=many(ITEM)) for name in ("quays", "locks", "gates")
        ]
        body = shape(("note",), note=TEXT)
        return [*super().routes(), Route("POST", "/watch/note", self.switch, body=body), *berths]

    def switch(self, call: Call) -> Any:
        self.off = 1
        return 200, None

    def answer(self, method: str, target: str, headers: Any, data: bytes) -> tuple[int, Any, dict[str, str]]:
        if self.off:
            self.off += 1
            return (
                self.status,
                {"title": "the harbour is closed"},
                {"Content-Type": "application/problem+json"},
            )
        return super().answer(method, target, headers, data)


class SignedOut(SwitchedOff):
    """The same, and it says that nobody is signed in."""

    status = 401


class Settings(Service):
    """Settings, changed by PUT and by PATCH; one of them does not come back as it is written."""

    def __init__(self) -> None:
        super().__init__()
        self.settings: dict[str, Any] = {"tide_table": "spring", "night_work": False, "note": "as agreed"}
        self.plan: dict[str, Any] = {"shift": "early", "men": 4}
        self.most = 0
        """Members that one request changed, at most."""

    def kept(self) -> Any:
        return self.settings, self.plan

    def routes(self) -> list[Route]:
        whole = shape(
            ("tide_table", "night_work", "note"), tide_table=TEXT, night_work={"type": "boolean"}, note=TEXT
        )
        plan = shape(shift=TEXT, men=WHOLE)
        return [
            Route("GET", "/settings", lambda call: (200, dict(self.settings)), answer=whole),
            Route("PUT", "/settings", self.put, answer=whole, body=whole),
            Route("GET", "/plan", lambda call: (200, dict(self.plan)), answer=plan),
            Route("PATCH", "/plan", self.patch, answer=plan, body=plan),
        ]

    def put(self, call: Call) -> Any:
        self.most = max(self.most, sum(call.body[key] != one for key, one in self.settings.items()))
        self.settings = {key: call.body[key] for key in ("tide_table", "night_work", "note")}
        return 200, dict(self.settings)

    def patch(self, call: Call) -> Any:
        self.most = max(self.most, sum(self.plan[key] != one for key, one in call.body.items()))
        self.plan |= {key: call.body[key] for key in ("shift", "men") if key in call.body}
        return 200, dict(self.plan)


class Particular(Settings):
    """It refuses values that it does not know, and to be sent what cannot be changed, even unchanged. A client
    that fills in all of a setting, or writes all of it back, gets nowhere.
    """

    def put(self, call: Call) -> Any:
        if call.body["tide_table"] not in ("spring", "neap"):
            raise Refused(400, "tide_table must be one of 'spring', 'neap'")
        return super().put(call)

    def patch(self, call: Call) -> Any:
        if "shift" in call.body:
            raise Refused(400, "shift cannot be changed")
        return super().patch(call)


class OtherForm(Service):
    """A setting is read as an array, and written as an object: what was read cannot be written back."""

    def __init__(self) -> None:
        super().__init__()
        self.addresses = ["10.0.0.1", "10.0.0.2"]

    def kept(self) -> Any:
        return self.addresses

    def routes(self) -> list[Route]:
        body = shape(("adapters",), adapters=many(TEXT))
        return [
            Route("GET", "/addresses", lambda call: (200, list(self.addresses)), answer=many(TEXT)),
            Route("PUT", "/addresses", self.put, answer=many(TEXT), body=body),
        ]

    def put(self, call: Call) -> Any:
        self.addresses = list(call.body["adapters"])
        return 200, list(self.addresses)


class Chart(Service):
    """A chart that is not there yet: it answers 404, and PUT makes it."""

    def __init__(self) -> None:
        super().__init__()
        self.chart: Any = None

    def kept(self) -> Any:
        return self.chart

    def routes(self) -> list[Route]:
        body = shape(("scale",), scale=WHOLE)
        return [
            Route("GET", "/chart", self.shown, answer=body),
            Route("PUT", "/chart", self.put, answer=body, body=body),
        ]

    def shown(self, call: Call) -> Any:
        if self.chart is None:
            raise Refused(404, "no chart yet")
        return 200, self.chart

    def put(self, call: Call) -> Any:
        self.chart = call.body
        return 200, self.chart


class Trapped(Store):
    """What restarts, logs out, or publishes, by names alone."""

    def __init__(self) -> None:
        super().__init__()
        self.harm: list[str] = []

    def kept(self) -> Any:
        return self.items, self.harm

    def routes(self) -> list[Route]:
        def does(what: str) -> Any:
            def done(call: Call) -> Any:
                self.harm.append(what)
                return 200, {}

            return done

        return [
            *super().routes(),
            Route("GET", "/auth/logout", does("logout"), answer=shape()),
            Route("PUT", "/server/restart", does("restart"), answer=shape()),
            Route("GET", "/server/restart/{jobId}", lambda call: (200, {}), answer=shape()),
            Route("POST", "/items/{itemId}/release", does("release"), answer=shape()),
            Route("POST", "/purge", does("purge"), answer=shape()),
            Route("POST", "/counters/reset", does("reset"), answer=shape()),
            Route("POST", "/maintenance", does("maintenance"), answer=shape()),
            Route("POST", "/keys/rotate", does("rotate"), answer=shape()),
        ]


class Fragile(Store):
    """Two writers at once spoil the store of other people, and more than one request at a time is refused."""

    def __init__(self) -> None:
        super().__init__()
        self.at_once = 0
        self.guard = threading.Lock()

    def answer(self, method: str, target: str, headers: Any, data: bytes) -> tuple[int, Any, dict[str, str]]:
        with self.guard:
            self.at_once += 1
            crowd = self.at_once
        try:
            time.sleep(0.02)
            if crowd > 1 and method != "GET":
                return 503, {"title": "locked"}, {"Content-Type": "application/problem+json"}
            return super().answer(method, target, headers, data)
        finally:
            with self.guard:
                self.at_once -= 1


class Tree(Service):
    """Yards with berths: a yard is not removed while one of its berths is open."""

    def __init__(self) -> None:
        super().__init__()
        self.yards: dict[str, Any] = {"y-old": {"name": "East", "berths": {"b-old": {"name": "A"}}}}

    def kept(self) -> Any:
        return self.yards

    def routes(self) -> list[Route]:
        yard, berth = "/yards/{yardId}", "/yards/{yardId}/berths/{berthId}"
        return [
            Route("GET", "/yards", lambda call: (200, list(map(self.yard, self.yards))), answer=many(ITEM)),
            Route("POST", "/yards", self.add_yard, answer=ITEM, body=NAMED, status=201),
            Route("GET", yard, lambda call: (200, self.yard(call.path["yardId"])), answer=ITEM),
            Route("DELETE", yard, self.drop_yard, status=204),
            Route("GET", "/yards/{yardId}/berths", self.list_berths, answer=many(ITEM)),
            Route("POST", "/yards/{yardId}/berths", self.add_berth, answer=ITEM, body=NAMED, status=201),
            Route("GET", berth, lambda call: (200, self.berth(call)), answer=ITEM),
            Route("DELETE", berth, self.drop_berth, status=204),
        ]

    def yard(self, key: str) -> Any:
        if key not in self.yards:
            raise Refused(404, f"there is no yard {key}")
        return {"id": key, "name": self.yards[key]["name"]}

    def berth(self, call: Call) -> Any:
        self.yard(call.path["yardId"])
        berths = self.yards[call.path["yardId"]]["berths"]
        if call.path["berthId"] not in berths:
            raise Refused(404, "there is no such berth")
        return {"id": call.path["berthId"], **berths[call.path["berthId"]]}

    def list_berths(self, call: Call) -> Any:
        self.yard(call.path["yardId"])
        berths = self.yards[call.path["yardId"]]["berths"]
        return 200, [{"id": key, **one} for key, one in berths.items()]

    def add_yard(self, call: Call) -> Any:
        key = f"y{self.number()}"
        self.yards[key] = {"name": call.body["name"], "berths": {}}
        return 201, self.yard(key)

    def add_berth(self, call: Call) -> Any:
        self.yard(call.path["yardId"])
        key = f"b{self.number()}"
        self.yards[call.path["yardId"]]["berths"][key] = {"name": call.body["name"]}
        return 201, {"id": key, "name": call.body["name"]}

    def drop_yard(self, call: Call) -> Any:
        self.yard(call.path["yardId"])
        if self.yards[call.path["yardId"]]["berths"]:
            raise Refused(409, "it has berths")
        del self.yards[call.path["yardId"]]
        return 204, None

    def drop_berth(self, call: Call) -> Any:
        self.berth(call)
        del self.yards[call.path["yardId"]]["berths"][call.path["berthId"]]
        return 204, None


LEFT_AS_FOUND: tuple[type[Service], ...] = (
    Store,
    GetOrCreate,
    PagedGetOrCreate,
    UnreadableList,
    ErrorId,
    Mode,
    Settings,
    Particular,
    OtherForm,
    Chart,
    Trapped,
    Fragile,
    Tree,
)
"""These can be left byte for byte as they were."""
LEFT_OVER: tuple[type[Service], ...] = (OddIds, EmptyIds, WrongLocation, KeepsAll, Lasting)
"""On these something may stay that the run made: it must be told, and nobody else's may be missing."""
