"""A service that keeps every law, with a switch for each way to break one, and for right ways that look like
it (twins).
"""

from __future__ import annotations

import json
import re
import time
from typing import Any, ClassVar
from urllib.parse import parse_qs, unquote, urlsplit

from styles.rest import Refused, Service

Item = dict[str, Any]
KEY = "slip-key-1"
WORD = {"type": "string", "minLength": 2, "maxLength": 30}
SIZES = ["small", "large"]


def _content(schema: Any, media: str = "application/json") -> Any:
    return {"content": {media: {"schema": schema}}}


class Slips(Service):
    """Slipways, with boats hauled out below them; bookings refer to slips; hauls take their time."""

    def __init__(self, *odd: str) -> None:
        super().__init__()
        self.odd = frozenset(odd)
        self.slips: dict[str, Item] = {}
        self.boats: dict[str, Item] = {}
        self.jobs: dict[str, int] = {}
        self.hidden: dict[str, float] = {}
        for name, size, length in (("Old slip", "small", 12), ("New slip", "large", 40)):
            new = f"S-{self.number()}"
            self.slips[new] = {
                "id": new,
                "name": name,
                "size": size,
                "length": length,
                "note": None,
                "state": "free",
                "version": 1,
            }

    def kept(self) -> Any:
        return self.slips, self.boats

    def routes(self) -> Any:
        return []

    # What it declares.

    SLIP: ClassVar[Item] = {
        "type": "object",
        "required": ["id", "name", "size", "length", "note", "state", "version"],
        "properties": {
            "id": {"type": "string"},
            "name": WORD,
            "size": {"type": "string", "enum": SIZES},
            "length": {"type": "integer", "minimum": 5, "maximum": 90},
            "note": {"type": "string", "nullable": True},
            "state": {"type": "string", "enum": ["free", "taken", "gone"]},
            "version": {"type": "integer"},
        },
    }
    NEW: ClassVar[Item] = {
        "type": "object",
        "required": ["name", "size"],
        "additionalProperties": False,
        "properties": {
            "name": WORD,
            "size": {"type": "string", "enum": SIZES},
            "length": {"type": "integer", "minimum": 5, "maximum": 90, "default": 20},
            "note": {"type": "string", "nullable": True, "maxLength": 40},
        },
    }
    BOAT: ClassVar[Item] = {
        "type": "object",
        "required": ["id", "slipId", "mark"],
        "properties": {"id": {"type": "string"}, "slipId": {"type": "string"}, "mark": WORD},
    }

    def definition(self) -> str:
        problem = {
            "description": "refused",
            **_content(
                {"type": "object", "required": ["title"], "properties": {"title": {"type": "string"}}},
                "application/problem+json",
            ),
        }
        tag = {"ETag": {"required": True, "schema": {"type": "string"}}}
        told = {"description": "done", "headers": tag, **_content(self.SLIP)}

        def answers(*codes: str, **done: Any) -> Item:
            return {
                **{name[1:]: one for name, one in done.items()},
                **dict.fromkeys(("401", *codes), problem),
            }

        def body(schema: Any) -> Item:
            return {"required": True, **_content(schema)}

        slip, boat = (
            [{"name": name, "in": "path", "required": True, "schema": {"type": "string"}}]
            for name in ("slipId", "boatId")
        )
        match = [{"name": "If-Match", "in": "header", "schema": {"type": "string"}}]
        query = [
            {"name": "size", "in": "query", "schema": {"type": "string", "enum": SIZES}},
            {"name": "minLength", "in": "query", "schema": {"type": "integer"}},
            {
                "name": "sort",
                "in": "query",
                "schema": {"type": "string", "enum": ["name", "-name", "length", "-length"]},
            },
            {"name": "limit", "in": "query", "schema": {"type": "integer", "minimum": 1, "maximum": 50}},
            {"name": "offset", "in": "query", "schema": {"type": "integer", "minimum": 0}},
        ]
        page = {
            "type": "object",
            "required": ["items", "total"],
            "properties": {"items": {"type": "array", "items": self.SLIP}, "total": {"type": "integer"}},
        }
        created = {
            "description": "made",
            "headers": {"Location": {"required": True, "schema": {"type": "string"}}},
            **_content(self.SLIP),
        }
        gone = {"description": "gone"}
        paths = {
            "/slips": {
                "get": {
                    "operationId": "listSlips",
                    "parameters": query,
                    "responses": answers("400", _200={"description": "a page", **_content(page)}),
                },
                "post": {
                    "operationId": "addSlip",
                    "requestBody": body(self.NEW),
                    "responses": answers("400", "409", "415", _201=created),
                },
            },
            "/slips/{slipId}": {
                "parameters": slip,
                "get": {
                    "operationId": "getSlip",
                    "parameters": [{**match[0], "name": "If-None-Match"}],
                    "responses": answers("404", _200=told, _304=gone),
                },
                "put": {
                    "operationId": "putSlip",
                    "parameters": match,
                    "requestBody": body(self.NEW),
                    "responses": answers("400", "404", "409", "412", "415", _200=told),
                },
                "patch": {
                    "operationId": "patchSlip",
                    "requestBody": body({**self.NEW, "required": []}),
                    "responses": answers("400", "404", "409", "415", _200=told),
                },
                "delete": {"operationId": "dropSlip", "responses": answers("404", "409", _204=gone)},
            },
            "/slips/{slipId}/take": {
                "parameters": slip,
                "post": {"operationId": "takeSlip", "responses": answers("404", "409", _200=told)},
            },
            "/slips/{slipId}/free": {
                "parameters": slip,
                "post": {"operationId": "freeSlip", "responses": answers("404", "409", _200=told)},
            },
            "/slips/{slipId}/boats": {
                "parameters": slip,
                "get": {
                    "operationId": "listBoats",
                    "responses": answers(
                        "404", _200={"description": "all", **_content({"type": "array", "items": self.BOAT})}
                    ),
                },
                "post": {
                    "operationId": "addBoat",
                    "requestBody": body(
                        {"type": "object", "required": ["mark"], "properties": {"mark": WORD}}
                    ),
                    "responses": answers(
                        "400", "404", "415", _201={"description": "made", **_content(self.BOAT)}
                    ),
                },
            },
            "/slips/{slipId}/boats/{boatId}": {
                "parameters": [*slip, *boat],
                "get": {
                    "operationId": "getBoat",
                    "responses": answers("404", _200={"description": "one", **_content(self.BOAT)}),
                },
                "delete": {"operationId": "dropBoat", "responses": answers("404", _204=gone)},
            },
            "/moves": {
                "post": {
                    "operationId": "moveBoat",
                    "requestBody": body(
                        {
                            "type": "object",
                            "required": ["slipId"],
                            "properties": {"slipId": {"type": "string", "minLength": 1}},
                        }
                    ),
                    "responses": answers(
                        "400",
                        "415",
                        "422",
                        _202={
                            "description": "begun",
                            "headers": {"Location": {"required": True, "schema": {"type": "string"}}},
                            **_content(
                                {
                                    "type": "object",
                                    "required": ["state"],
                                    "properties": {"state": {"type": "string"}},
                                }
                            ),
                        },
                    ),
                }
            },
            "/moves/{moveId}": {
                "get": {
                    "operationId": "getMove",
                    "parameters": [
                        {"name": "moveId", "in": "path", "required": True, "schema": {"type": "string"}}
                    ],
                    "responses": answers(
                        "404",
                        _200={
                            "description": "the move",
                            **_content(
                                {
                                    "type": "object",
                                    "required": ["state"],
                                    "properties": {"state": {"type": "string"}},
                                }
                            ),
                        },
                    ),
                }
            },
        }
        schemes = {"key": {"type": "apiKey", "in": "header", "name": "X-Key"}}
        return json.dumps(
            {
                "openapi": "3.0.3",
                "info": {"title": "Slips", "version": "1"},
                "security": [{"key": []}],
                "paths": paths,
                "components": {"securitySchemes": schemes},
            }
        )

    # What it does.

    def answer(self, method: str, target: str, headers: Any, data: bytes) -> tuple[int, Any, dict[str, str]]:
        parts = urlsplit(target)
        problem = {"Content-Type": "application/problem+json"}
        with self.lock:
            try:
                if headers.get("X-Key") != KEY and not ("unasked" in self.odd and method == "GET"):
                    return (
                        401,
                        {"title": "no key"},
                        problem | ({} if "unchallenged" in self.odd else {"WWW-Authenticate": "Key"}),
                    )
                return self.does(
                    method,
                    parts.path,
                    {name: one[0] for name, one in parse_qs(parts.query).items()},
                    headers,
                    data,
                )
            except Refused as refusal:
                return refusal.status, {"title": refusal.detail}, problem | refusal.more.get("headers", {})

    def does(
        self, method: str, path: str, query: dict[str, str], headers: Any, data: bytes
    ) -> tuple[int, Any, dict[str, str]]:
        steps = [unquote(one) for one in path.strip("/").split("/")]
        match (method, *steps):
            case ("GET", "slips"):
                return self.page(query)
            case ("POST", "slips"):
                return self.add(self.fields(self.read(headers, data), whole=True))
            case (_, "slips", key):
                return self.item(method, key, headers, data)
            case ("POST", "slips", key, "take" | "free" as act):
                return self.act(self.slip(key), act)
            case (_, "slips", key, "boats", *rest):
                return self.below(method, self.slip(key)["id"], rest, headers, data)
            case ("POST", "moves"):
                slip = self.read(headers, data).get("slipId")
                if not isinstance(slip, str) or not slip:
                    raise Refused(400, "slipId is missing")
                if slip not in self.slips and "dangling" not in self.odd:
                    raise Refused(422, "there is no such slip")
                self.jobs[new := f"M-{self.number()}"] = 0
                return 202, {"state": "running"}, {"Location": f"/moves/{new}"}
            case ("GET", "moves", key):
                if key not in self.jobs:
                    raise Refused(404, "there is no such move")
                self.jobs[key] += 1
                return (
                    200,
                    {"state": "done" if self.jobs[key] > 2 and "endless" not in self.odd else "running"},
                    {},
                )
        raise Refused(
            405 if steps[0] in ("slips", "moves") else 404,
            "not here",
            headers={} if "speechless" in self.odd else {"Allow": "GET, POST"},
        )

    def read(self, headers: Any, data: bytes) -> Item:
        if not str(headers.get("Content-Type", "")).startswith("application/json"):
            raise Refused(415, "JSON is wanted")
        try:
            found = json.loads(data)
        except ValueError:
            raise Refused(400, "no JSON") from None
        if not isinstance(found, dict):
            raise Refused(400, "no object")
        return found

    def fields(self, sent: Item, *, whole: bool) -> Item:
        taken: Item = {} if not whole else {"length": 21 if "forgetful" in self.odd else 20, "note": None}
        for name in ("name", "size") if whole else ():
            if name not in sent:
                raise Refused(400, f"{name} is missing")
        for name, value in sent.items():
            if not self.fits(name, value):
                raise Refused(400, f"{name} is not as it should be")
            taken[name] = (
                value.strip().upper()
                if name == "note" and value is not None and "normal" in self.odd
                else value
            )
        return taken

    def fits(self, name: str, value: Any) -> bool:
        most = 91 if "lax" in self.odd else 90
        match name:
            case "name":
                return isinstance(value, str) and 2 <= len(value) <= 30
            case "size":
                return value in (SIZES[:1] if "picky" in self.odd else SIZES)
            case "length":
                return isinstance(value, int) and not isinstance(value, bool) and 5 <= value <= most
            case "note":
                return value is None or (isinstance(value, str) and len(value) <= 40)
        return False

    def slip(self, key: str) -> Item:
        if key not in self.slips or (self.slips[key]["state"] == "gone" and "soft" not in self.odd):
            raise Refused(400 if "astray" in self.odd else 404, "there is no such slip")
        return self.slips[key]

    def add(self, taken: Item) -> tuple[int, Any, dict[str, str]]:
        if any(one["name"] == taken["name"] for one in self.slips.values()) and "double" not in self.odd:
            raise Refused(409, "the name is taken")
        new = f"S-{self.number()}"
        item = {"id": new, **taken, "state": "free", "version": 1}
        told = {**item, "size": "small"} if "misspoken" in self.odd else item
        if "lossy" not in self.odd:
            self.slips[new] = {
                **item,
                "length": (
                    item["length"] - 1 if "short" in self.odd and item["length"] > 5 else item["length"]
                ),
            }
        if "late" in self.odd:
            self.hidden[new] = time.monotonic() + 0.25
        return 201, told, {"Location": "/slips/S-0" if "elsewhere" in self.odd else f"/slips/{new}"}

    def tag(self, item: Item) -> str:
        return '"1"' if "constant" in self.odd else f'"{item["version"]}-{item["state"]}"'

    def told(self, item: Item) -> tuple[int, Any, dict[str, str]]:
        return 200, dict(item), {"ETag": self.tag(item)}

    def item(self, method: str, key: str, headers: Any, data: bytes) -> tuple[int, Any, dict[str, str]]:
        if self.hidden.get(key, 0) > time.monotonic():
            raise Refused(404, "there is no such slip")
        item = self.slip(key)
        if method == "GET":
            if "restless" in self.odd:
                item["note"] = f"read {self.number()}"
            if headers.get("If-None-Match") == self.tag(item) and "stubborn" not in self.odd:
                return 304, None, {"ETag": self.tag(item)}
            return self.told(item)
        if method in ("PUT", "PATCH"):
            sent = self.read(headers, data)
            if "smudge" in self.odd and isinstance(sent.get("note"), str):
                item["note"] = sent["note"][:40]
            taken = self.fields(sent, whole=method == "PUT")
            if (
                headers.get("If-Match", self.tag(item)) not in ("*", self.tag(item))
                and "heedless" not in self.odd
            ):
                raise Refused(412, "it was changed")
            return self.change(item, taken, method)
        if method == "DELETE":
            if any(one["slipId"] == key for one in self.boats.values()):
                raise Refused(409, "it has boats")
            return self.drop(item)
        raise Refused(405, "not by this method", headers={"Allow": "GET, PUT, PATCH, DELETE"})

    def change(self, item: Item, taken: Item, method: str) -> tuple[int, Any, dict[str, str]]:
        if "jealous" in self.odd or any(
            one["name"] == taken.get("name") and one is not item for one in self.slips.values()
        ):
            raise Refused(409, "the name is taken")
        before = dict(item)
        item.update(
            {name: value for name, value in taken.items() if not ("deaf" in self.odd and name == "length")}
        )
        if "greedy" in self.odd and method == "PATCH" and "length" in taken:
            item["note"] = None
        if "contagious" in self.odd:
            for one in self.slips.values():
                one["length"] = item["length"]
        if "growing" in self.odd and method == "PUT":
            item["note"] = f"{before['note'] or ''}+"[:40]
        if before != item:
            item["version"] += 2 if "hopping" in self.odd and method == "PUT" else 1
        return self.told(item)

    def drop(self, item: Item) -> tuple[int, Any, dict[str, str]]:
        if "soft" in self.odd or "lingering" in self.odd:
            item["state"] = "gone" if "soft" in self.odd else item["state"]
        else:
            del self.slips[item["id"]]
        if "sweeping" in self.odd:
            newest = max((one for one in self.slips if one != item["id"]), default="")
            self.slips.pop(newest, None)
        return 204, None, {}

    def act(self, item: Item, act: str) -> tuple[int, Any, dict[str, str]]:
        wanted = "taken" if act == "take" else "free"
        if item["state"] == wanted and "eager" not in self.odd:
            raise Refused(409, f"it is {wanted} already")
        if "idle" not in self.odd:
            item["state"] = wanted
            item["version"] += 1
        return self.told(item)

    def below(
        self, method: str, slip: str, rest: list[str], headers: Any, data: bytes
    ) -> tuple[int, Any, dict[str, str]]:
        if method == "GET" and not rest:
            return (
                200,
                [one for one in self.boats.values() if one["slipId"] == slip or "roaming" in self.odd],
                {},
            )
        if method == "POST" and not rest:
            mark = self.read(headers, data).get("mark")
            if not isinstance(mark, str) or not 2 <= len(mark) <= 30:
                raise Refused(400, "mark is not as it should be")
            new = f"B-{self.number()}"
            self.boats[new] = {"id": new, "slipId": slip, "mark": mark}
            return 201, self.boats[new], {}
        item = self.boats.get(rest[0]) if rest else None
        if item is None and "obliging" in self.odd and method == "GET" and rest:
            return 200, {"id": rest[0], "slipId": slip, "mark": "unknown"}, {}
        if item is None or (item["slipId"] != slip and "straying" not in self.odd):
            raise Refused(404, "there is no such boat")
        if method == "DELETE":
            del self.boats[item["id"]]
            return 204, None, {}
        if method != "GET":
            raise Refused(405, "not by this method", headers={"Allow": "GET, DELETE"})
        return 200, item, {}

    def page(self, query: dict[str, str]) -> tuple[int, Any, dict[str, str]]:
        for name, pattern in (
            ("limit", r"[1-9]|[1-4]\d|50"),
            ("offset", r"\d{1,6}"),
            ("minLength", r"-?\d{1,6}"),
            ("size", "|".join(SIZES)),
            ("sort", "-?(name|length)"),
        ):
            if name in query and not re.fullmatch(pattern, query[name]):
                raise Refused(400, f"{name} is not as it should be")
        found = [
            one
            for key, one in self.slips.items()
            if self.hidden.get(key, 0) <= time.monotonic() and one["state"] != "gone"
        ]
        if "size" in query and "blind" not in self.odd:
            found = [one for one in found if one["size"] == query["size"]]
        least = int(query.get("minLength", 0))
        found = [one for one in found if one["length"] >= least]
        order = query.get("sort", "")
        if order and "unsorted" not in self.odd:
            name = order.lstrip("-")
            found.sort(
                key=(
                    (lambda one: one["name"][::-1])
                    if "collated" in self.odd and name == "name"
                    else (lambda one: one[name])
                ),
                reverse=order.startswith("-"),
            )
        total = len(found) + (1 if "miscounted" in self.odd else 0)
        first, limit = int(query.get("offset", 0)), int(query.get("limit", 50))
        shift = 1 if "shifted" in self.odd and first else 0
        return (
            200,
            {
                "items": found[first + shift : first + limit + (1 if "overfull" in self.odd else 0)],
                "total": total,
            },
            {},
        )
