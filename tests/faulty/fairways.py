"""A REST service that does all that its definition (fairways.yaml) says: the source that `mutator.py`
changes.
"""

from __future__ import annotations

import hashlib
import json
import re
from datetime import date
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit

from styles.rest import Refused, Service

Item = dict[str, Any]
ROLES = {"master-key-1": "master", "clerk-key-1": "clerk", "guest-key-1": "guest"}
KINDS, TASKS, STATES = (
    ("main", "inner", "side"),
    ("dredge", "sound", "mark"),
    ("planned", "running", "done", "cancelled"),
)
NAME, CODE, HOUR = r"[A-Z][A-Za-z0-9 '-]{2,39}", r"[A-Z]{2}-\d{1,4}", r"([01]\d|2[0-3]):[0-5]\d"
MISSING = object()


class Call:
    """A request as it came."""

    def __init__(self, method: str, target: str, headers: Any, data: bytes) -> None:
        parts = urlsplit(target)
        self.method, self.path, self.data = method, parts.path, data
        self.query = parse_qs(parts.query, keep_blank_values=True)
        self.headers = {name.lower(): value for name, value in headers.items()}
        self.ids: tuple[str, ...] = ()
        self.role = ""

    def body(self, *media: str) -> Item:
        """The JSON object that was sent."""
        kind = self.headers.get("content-type", "").partition(";")[0].strip().lower()
        if kind not in (media or ("application/json",)):
            raise Refused(415, "the body is of no type that is known here")
        try:
            found = json.loads(self.data, parse_constant=_no_number)
        except ValueError:
            raise Refused(400, "the body is no JSON") from None
        if not isinstance(found, dict):
            raise Refused(400, "the body is no object")
        return found

    def one(self, name: str) -> str | None:
        """A query parameter that stands once."""
        values = self.query.get(name)
        if values is None:
            return None
        if len(values) > 1:
            raise Refused(400, f"{name} stands more than once")
        return values[0]

    def whole(self, name: str, least: int, most: int, default: int) -> int:
        text = self.one(name)
        if text is None:
            return default
        if not re.fullmatch(r"-?\d{1,9}", text) or not least <= int(text) <= most:
            raise Refused(400, f"{name} must be a whole number from {least} to {most}")
        return int(text)

    def choice(self, name: str, choices: tuple[str, ...]) -> str | None:
        text = self.one(name)
        if text is not None and text not in choices:
            raise Refused(400, f"{name} must be one of {', '.join(choices)}")
        return text


def _no_number(text: str) -> Any:
    raise ValueError(text)


class Fields:
    """The members of an object that was sent, each looked at once."""

    def __init__(self, sent: Item, *, whole: bool = True) -> None:
        self.sent, self.whole, self.known = sent, whole, set()
        self.taken: Item = {}

    def take(self, name: str, required: bool, nullable: bool, fits: Any, default: Any = MISSING) -> None:
        self.known.add(name)
        if name not in self.sent:
            if required and self.whole:
                raise Refused(400, f"{name} is missing")
            if self.whole and default is not MISSING:
                self.taken[name] = default
            return
        value = self.sent[name]
        if value is None:
            if not nullable:
                raise Refused(400, f"{name} must not be null")
        elif not fits(value):
            raise Refused(400, f"{name} is not as it should be")
        self.taken[name] = value

    def closed(self) -> None:
        for name in self.sent:
            if name not in self.known:
                raise Refused(400, f"there is no {name}")


def text(least: int, most: int, pattern: str = "") -> Any:
    def fits(value: Any) -> bool:
        return (
            isinstance(value, str)
            and least <= len(value) <= most
            and (not pattern or bool(re.fullmatch(pattern, value)))
        )

    return fits


def number(least: float, most: float) -> Any:
    def fits(value: Any) -> bool:
        return isinstance(value, int | float) and not isinstance(value, bool) and least <= value <= most

    return fits


def integer(least: int, most: int) -> Any:
    def fits(value: Any) -> bool:
        return number(least, most)(value) and value == int(value)

    return fits


def truth(value: Any) -> bool:
    return isinstance(value, bool)


def one_of(choices: tuple[str, ...]) -> Any:
    def fits(value: Any) -> bool:
        return isinstance(value, str) and value in choices

    return fits


def many(most: int, fits_each: Any) -> Any:
    def fits(value: Any) -> bool:
        if not isinstance(value, list) or len(value) > most:
            return False
        if len({json.dumps(one) for one in value}) < len(value):
            return False
        return all(fits_each(one) for one in value)

    return fits


def day(value: Any) -> bool:
    if not isinstance(value, str) or not re.fullmatch(r"\d{4}-\d\d-\d\d", value):
        return False
    try:
        date.fromisoformat(value)
    except ValueError:
        return False
    return True


def contact(value: Any) -> bool:
    if not isinstance(value, dict):
        return False
    fields = Fields(value)
    fields.take("person", True, False, text(1, 60))
    fields.take("channel", False, False, integer(1, 88))
    return True


class Fairways(Service):
    """Fairways with their buoys, work orders, surveys that take their time, and one office."""

    def __init__(self) -> None:
        super().__init__()
        self.fairways: dict[str, Item] = {}
        self.buoys: dict[str, Item] = {}
        self.orders: dict[str, Item] = {}
        self.surveys: dict[str, Item] = {}
        self.jobs: dict[str, Item] = {}
        self.office: Item = {"name": "Fairway office", "channel": 12, "opens": "06:00", "closes": "22:00"}
        for name, kind, depth, lit in (
            ("North deep", "main", 14.5, True),
            ("Mill channel", "inner", 6, False),
            ("Old cut", "side", 3.5, False),
        ):
            new = self.new("F")
            self.fairways[new] = {
                "id": new,
                "name": name,
                "kind": kind,
                "depth": depth,
                "lit": lit,
                "marks": ["red"],
                "contact": None,
                "state": "open",
                "revision": 1,
            }
        first = next(iter(self.fairways))
        for number_, (task, priority) in enumerate((("dredge", 2), ("sound", 4), ("mark", 3), ("dredge", 5))):
            new = self.new("O")
            self.orders[new] = {
                "id": new,
                "fairwayId": first,
                "task": task,
                "priority": priority,
                "due": f"2030-04-{10 + number_}",
                "notes": None,
                "state": "planned",
                "hours": None,
            }

    def kept(self) -> Any:
        return self.fairways, self.buoys, self.orders, self.surveys, self.office

    def new(self, letter: str) -> str:
        return f"{letter}-{self.number()}"

    def definition(self) -> str:
        return (Path(__file__).parent / "fairways.yaml").read_text()

    # One function an operation. Each gives (status, body, headers).

    def list_fairways(self, call: Call) -> Any:
        kind, lit, part = call.choice("kind", KINDS), call.choice("lit", ("true", "false")), call.one("name")
        deep = call.whole("minDepth", 1, 30, 1)
        order = call.choice("sort", ("name", "-name", "depth", "-depth"))
        limit, offset = call.whole("limit", 1, 50, 20), call.whole("offset", 0, 100_000, 0)
        found = list(self.fairways.values())
        if kind is not None:
            found = [one for one in found if one["kind"] == kind]
        if lit is not None:
            found = [one for one in found if one["lit"] == (lit == "true")]
        if part is not None:
            found = [one for one in found if part.lower() in one["name"].lower()]
        found = [one for one in found if one["depth"] >= deep]
        if order is not None:
            found.sort(key=lambda one: one[order.lstrip("-")], reverse=order.startswith("-"))
        return 200, {"items": found[offset : offset + limit], "total": len(found)}, {}

    def add_fairway(self, call: Call) -> Any:
        self.allow(call, "master")
        taken = self.fairway_fields(Fields(call.body()))
        if any(one["name"] == taken["name"] for one in self.fairways.values()):
            raise Refused(409, "the name is taken")
        new = self.new("F")
        item = {"id": new, **taken, "state": "open", "revision": 1}
        self.fairways[new] = item
        return 201, item, {"Location": f"/fairways/{new}", "ETag": tag(item)}

    def fairway_fields(self, fields: Fields) -> Item:
        fields.take("name", True, False, text(3, 40, NAME))
        fields.take("kind", True, False, one_of(KINDS))
        fields.take("depth", True, False, number(1, 30))
        fields.take("lit", False, False, truth, False)
        fields.take("marks", False, False, many(4, text(2, 12)), [])
        fields.take("contact", False, True, contact, None)
        fields.closed()
        return fields.taken

    def get_fairway(self, call: Call) -> Any:
        item = self.find(self.fairways, call.ids[0])
        if call.headers.get("if-none-match") == tag(item):
            return 304, None, {"ETag": tag(item)}
        return 200, item, {"ETag": tag(item)}

    def put_fairway(self, call: Call) -> Any:
        self.allow(call, "master")
        item = self.find(self.fairways, call.ids[0])
        taken = self.fairway_fields(Fields(call.body()))
        return self.change_fairway(call, item, taken)

    def patch_fairway(self, call: Call) -> Any:
        self.allow(call, "master")
        item = self.find(self.fairways, call.ids[0])
        taken = self.fairway_fields(Fields(call.body("application/merge-patch+json"), whole=False))
        return self.change_fairway(call, item, taken)

    def change_fairway(self, call: Call, item: Item, taken: Item) -> Any:
        wanted = call.headers.get("if-match")
        if wanted is not None and wanted not in ("*", tag(item)):
            raise Refused(412, "it was changed meanwhile")
        if any(one["name"] == taken.get("name") and one is not item for one in self.fairways.values()):
            raise Refused(409, "the name is taken")
        if any(item[name] != value for name, value in taken.items()):
            item.update(taken)
            item["revision"] += 1
        return 200, item, {"ETag": tag(item)}

    def drop_fairway(self, call: Call) -> Any:
        self.allow(call, "master")
        item = self.find(self.fairways, call.ids[0])
        if any(one["fairwayId"] == item["id"] for one in self.buoys.values()):
            raise Refused(409, "it has buoys")
        del self.fairways[item["id"]]
        return 204, None, {}

    def close_fairway(self, call: Call) -> Any:
        self.allow(call, "master")
        item = self.find(self.fairways, call.ids[0])
        if item["state"] == "closed":
            raise Refused(409, "it is closed already")
        item["state"] = "closed"
        item["revision"] += 1
        return 200, item, {"ETag": tag(item)}

    def open_fairway(self, call: Call) -> Any:
        self.allow(call, "master")
        item = self.find(self.fairways, call.ids[0])
        if item["state"] == "open":
            raise Refused(409, "it is open already")
        item["state"] = "open"
        item["revision"] += 1
        return 200, item, {"ETag": tag(item)}

    def list_buoys(self, call: Call) -> Any:
        item = self.find(self.fairways, call.ids[0])
        colour = call.choice("colour", ("red", "green"))
        found = [one for one in self.buoys.values() if one["fairwayId"] == item["id"]]
        if colour is not None:
            found = [one for one in found if one["colour"] == colour]
        return 200, found, {}

    def add_buoy(self, call: Call) -> Any:
        self.allow(call, "master")
        item = self.find(self.fairways, call.ids[0])
        taken = self.buoy_fields(Fields(call.body()))
        return 201, self.keep_buoy(item, taken), {}

    def add_buoys(self, call: Call) -> Any:
        self.allow(call, "master")
        item = self.find(self.fairways, call.ids[0])
        sent = call.body().get("buoys")
        if (
            not isinstance(sent, list)
            or not 1 <= len(sent) <= 10
            or not all(isinstance(one, dict) for one in sent)
        ):
            raise Refused(400, "buoys must be a list of one to ten")
        taken = [self.buoy_fields(Fields(one)) for one in sent]
        codes = [one["code"] for one in taken]
        if len(set(codes)) < len(codes):
            raise Refused(409, "a code stands twice")
        for one in taken:
            self.free_code(item, one["code"])
        return 201, {"buoys": [self.keep_buoy(item, one) for one in taken]}, {}

    def free_code(self, fairway: Item, code: str) -> None:
        if any(one["fairwayId"] == fairway["id"] and one["code"] == code for one in self.buoys.values()):
            raise Refused(409, "the code is taken")

    def keep_buoy(self, fairway: Item, taken: Item) -> Item:
        self.free_code(fairway, taken["code"])
        new = self.new("B")
        self.buoys[new] = {"id": new, "fairwayId": fairway["id"], **taken}
        return self.buoys[new]

    def buoy_fields(self, fields: Fields) -> Item:
        fields.take("code", True, False, text(4, 7, CODE))
        fields.take("colour", True, False, one_of(("red", "green")))
        fields.take("range", False, True, number(0.5, 20), None)
        return fields.taken

    def get_buoy(self, call: Call) -> Any:
        return 200, self.buoy(call), {}

    def patch_buoy(self, call: Call) -> Any:
        self.allow(call, "master")
        item = self.buoy(call)
        taken = self.buoy_fields(Fields(call.body("application/merge-patch+json"), whole=False))
        if taken.get("code", item["code"]) != item["code"]:
            self.free_code(self.fairways[item["fairwayId"]], taken["code"])
        item.update(taken)
        return 200, item, {}

    def drop_buoy(self, call: Call) -> Any:
        self.allow(call, "master")
        item = self.buoy(call)
        del self.buoys[item["id"]]
        return 204, None, {}

    def buoy(self, call: Call) -> Item:
        fairway = self.find(self.fairways, call.ids[0])
        item = self.find(self.buoys, call.ids[1])
        if item["fairwayId"] != fairway["id"]:
            raise Refused(404, "there is no such thing")
        return item

    def list_orders(self, call: Call) -> Any:
        state, fairway, after = call.choice("state", STATES), call.one("fairwayId"), call.one("after")
        limit = call.whole("limit", 1, 20, 5)
        found = list(self.orders.values())
        if state is not None:
            found = [one for one in found if one["state"] == state]
        if fairway is not None:
            found = [one for one in found if one["fairwayId"] == fairway]
        if after is not None:
            ids = [one["id"] for one in found]
            if after not in ids:
                raise Refused(400, "after leads nowhere")
            found = found[ids.index(after) + 1 :]
        page = found[:limit]
        return 200, {"items": page, "next": page[-1]["id"] if len(found) > limit else None}, {}

    def add_order(self, call: Call) -> Any:
        self.allow(call, "master", "clerk")
        fields = Fields(call.body())
        fields.take("fairwayId", True, False, text(1, 20))
        fields.take("task", True, False, one_of(TASKS))
        fields.take("priority", False, False, integer(1, 5), 3)
        fields.take("due", True, False, day)
        fields.take("notes", False, True, text(0, 200), None)
        taken = fields.taken
        if taken["fairwayId"] not in self.fairways:
            raise Refused(422, "there is no such fairway")
        new = self.new("O")
        self.orders[new] = {"id": new, **taken, "state": "planned", "hours": None}
        return 201, self.orders[new], {"Location": f"/orders/{new}"}

    def get_order(self, call: Call) -> Any:
        return 200, self.find(self.orders, call.ids[0]), {}

    def start_order(self, call: Call) -> Any:
        self.allow(call, "master", "clerk")
        item = self.find(self.orders, call.ids[0])
        if item["state"] != "planned":
            raise Refused(409, "it is not planned")
        item["state"] = "running"
        return 200, item, {}

    def finish_order(self, call: Call) -> Any:
        self.allow(call, "master", "clerk")
        item = self.find(self.orders, call.ids[0])
        fields = Fields(call.body())
        fields.take("hours", True, False, number(0.25, 200))
        if item["state"] != "running":
            raise Refused(409, "it is not running")
        item["state"], item["hours"] = "done", fields.taken["hours"]
        return 200, item, {}

    def cancel_order(self, call: Call) -> Any:
        self.allow(call, "master", "clerk")
        item = self.find(self.orders, call.ids[0])
        if item["state"] in ("done", "cancelled"):
            raise Refused(409, "it has ended")
        item["state"] = "cancelled"
        return 204, None, {}

    def drop_order(self, call: Call) -> Any:
        self.allow(call, "master")
        item = self.find(self.orders, call.ids[0])
        if item["state"] == "running":
            raise Refused(409, "it is running")
        del self.orders[item["id"]]
        return 204, None, {}

    def add_survey(self, call: Call) -> Any:
        self.allow(call, "master")
        fields = Fields(call.body())
        fields.take("fairwayId", True, False, text(1, 20))
        fields.take("method", True, False, one_of(("lead", "sonar")))
        if fields.taken["fairwayId"] not in self.fairways:
            raise Refused(422, "there is no such fairway")
        new, job = self.new("S"), self.new("J")
        self.surveys[new] = {"id": new, **fields.taken, "points": 120}
        self.jobs[job] = {"id": job, "state": "queued", "survey": new, "turns": 0}
        return 202, self.job_told(self.jobs[job]), {"Location": f"/jobs/{job}"}

    def get_job(self, call: Call) -> Any:
        job = self.find(self.jobs, call.ids[0])
        job["turns"] += 1
        job["state"] = "done" if job["turns"] >= 3 else "running"
        return 200, self.job_told(job), {}

    def job_told(self, job: Item) -> Item:
        return {
            "id": job["id"],
            "state": job["state"],
            "surveyId": job["survey"] if job["state"] == "done" else None,
        }

    def list_surveys(self, call: Call) -> Any:
        return 200, self.ready(), {}

    def get_survey(self, call: Call) -> Any:
        return 200, self.find({one["id"]: one for one in self.ready()}, call.ids[0]), {}

    def drop_survey(self, call: Call) -> Any:
        self.allow(call, "master")
        item = self.find({one["id"]: one for one in self.ready()}, call.ids[0])
        del self.surveys[item["id"]]
        return 204, None, {}

    def ready(self) -> list[Item]:
        done = {one["survey"] for one in self.jobs.values() if one["state"] == "done"}
        return [one for one in self.surveys.values() if one["id"] in done]

    def get_office(self, call: Call) -> Any:
        return 200, self.office, {}

    def put_office(self, call: Call) -> Any:
        self.allow(call, "master")
        fields = Fields(call.body())
        fields.take("name", True, False, text(1, 60))
        fields.take("channel", True, False, integer(1, 88))
        fields.take("opens", True, False, text(5, 5, HOUR))
        fields.take("closes", True, False, text(5, 5, HOUR))
        fields.closed()
        self.office = fields.taken
        return 200, self.office, {}

    # What all share.

    def find(self, store: dict[str, Item], key: str) -> Item:
        if key not in store:
            raise Refused(404, "there is no such thing")
        return store[key]

    def allow(self, call: Call, *roles: str) -> None:
        if call.role not in roles:
            raise Refused(403, f"the role {call.role} may not do this")

    def sign_in(self, call: Call) -> None:
        role = ROLES.get(call.headers.get("x-key", ""))
        if role is None:
            raise Refused(401, "a key is needed")
        call.role = role

    def answer(self, method: str, target: str, headers: Any, data: bytes) -> tuple[int, Any, dict[str, str]]:
        call = Call(method, target, headers, data)
        try:
            with self.lock:
                return self.answered(call)
        except Refused as refusal:
            told = {"title": "refused", "status": refusal.status, "detail": refusal.detail}
            return refusal.status, told, {"Content-Type": "application/problem+json", **extra(refusal)}
        except Exception as error:  # a fault of a changed source: as any server would tell it
            return (
                500,
                {"title": type(error).__name__, "status": 500},
                {"Content-Type": "application/problem+json"},
            )

    def answered(self, call: Call) -> Any:
        allowed = []
        for method, pattern, name in ROUTES:
            found = re.fullmatch(pattern, call.path)
            if found is None:
                continue
            allowed.append(method)
            if method == call.method:
                self.sign_in(call)
                call.ids = tuple(map(unquote, found.groups()))
                status, body, more = getattr(self, name)(call)
                return status, json.loads(json.dumps(body)), more
        if allowed:
            raise Refused(405, "not by this method", allow=", ".join(allowed))
        raise Refused(404, "there is no such address")


def extra(refusal: Refused) -> dict[str, str]:
    if refusal.status == 401:
        return {"WWW-Authenticate": 'Key realm="merrow"'}
    return {"Allow": refusal.more["allow"]} if refusal.status == 405 else {}


def tag(item: Item) -> str:
    return '"' + hashlib.sha256(json.dumps(item, sort_keys=True).encode()).hexdigest()[:12] + '"'


ROUTES = [
    ("GET", "/fairways", "list_fairways"),
    ("POST", "/fairways", "add_fairway"),
    ("GET", "/fairways/([^/]+)", "get_fairway"),
    ("PUT", "/fairways/([^/]+)", "put_fairway"),
    ("PATCH", "/fairways/([^/]+)", "patch_fairway"),
    ("DELETE", "/fairways/([^/]+)", "drop_fairway"),
    ("POST", "/fairways/([^/]+)/close", "close_fairway"),
    ("POST", "/fairways/([^/]+)/open", "open_fairway"),
    ("GET", "/fairways/([^/]+)/buoys", "list_buoys"),
    ("POST", "/fairways/([^/]+)/buoys", "add_buoy"),
    ("POST", "/fairways/([^/]+)/buoys/bulk", "add_buoys"),
    ("GET", "/fairways/([^/]+)/buoys/([^/]+)", "get_buoy"),
    ("PATCH", "/fairways/([^/]+)/buoys/([^/]+)", "patch_buoy"),
    ("DELETE", "/fairways/([^/]+)/buoys/([^/]+)", "drop_buoy"),
    ("GET", "/orders", "list_orders"),
    ("POST", "/orders", "add_order"),
    ("GET", "/orders/([^/]+)", "get_order"),
    ("DELETE", "/orders/([^/]+)", "drop_order"),
    ("POST", "/orders/([^/]+)/start", "start_order"),
    ("POST", "/orders/([^/]+)/finish", "finish_order"),
    ("POST", "/orders/([^/]+)/cancel", "cancel_order"),
    ("POST", "/surveys", "add_survey"),
    ("GET", "/surveys", "list_surveys"),
    ("GET", "/surveys/([^/]+)", "get_survey"),
    ("DELETE", "/surveys/([^/]+)", "drop_survey"),
    ("GET", "/jobs/([^/]+)", "get_job"),
    ("GET", "/office", "get_office"),
    ("PUT", "/office", "put_office"),
]
