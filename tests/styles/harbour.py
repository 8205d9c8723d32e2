"""Six REST stand-ins: ids chosen by the client, nested resources, foreign keys and unique names, strict
validation, misleading names, no REST at all.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime
from typing import Any

from styles.rest import TEXT, WHOLE, Call, Refused, Route, Service, many, shape


class Moorings(Service):
    """Ids are the client's: an item is made by PUT; there is nothing to POST to but an action."""

    def __init__(self) -> None:
        super().__init__()
        self.moorings: dict[str, Any] = {
            "north-quay": {"name": "North quay", "depth": 8.5},
            "1": {"name": "Old stones", "depth": 2},
        }

    def kept(self) -> Any:
        return self.moorings

    def routes(self) -> list[Route]:
        body = shape(
            ("name",), name=TEXT, depth={"type": "number", "minimum": 1, "maximum": 30}, remarks=TEXT
        )
        item = shape(("mooringId", "name"), mooringId=TEXT, name=TEXT, depth={"type": "number"})
        return [
            Route("GET", "/moorings", self.listed, answer=many(item)),
            Route("PUT", "/moorings/{mooringId}", self.put, answer=item, body=body, status=201),
            Route("GET", "/moorings/{mooringId}", lambda call: (200, self.shown(call)), answer=item),
            Route("DELETE", "/moorings/{mooringId}", self.remove, status=204),
            Route(
                "POST",
                "/moorings/{mooringId}/inspections",
                self.inspect,
                answer=shape(("result",), result=TEXT),
            ),
        ]

    def listed(self, call: Call) -> Any:
        return 200, [{"mooringId": name, **one} for name, one in self.moorings.items()]

    def shown(self, call: Call) -> Any:
        name = call.path["mooringId"]
        if name not in self.moorings:
            raise Refused(404, f"there is no mooring {name}")
        return {"mooringId": name, **self.moorings[name]}

    def put(self, call: Call) -> Any:
        self.moorings[call.path["mooringId"]] = {
            "name": call.body["name"],
            "depth": call.body.get("depth", 5),
        }
        return 201, self.shown(call)

    def remove(self, call: Call) -> Any:
        self.shown(call)
        del self.moorings[call.path["mooringId"]]
        return 204, None

    def inspect(self, call: Call) -> Any:
        self.shown(call)
        return 200, {"result": "sound"}


class Yards(Service):
    """Three levels, a version before the path, slashes behind it; a yard with stacks in it is not removed;
    and one singleton.
    """

    def __init__(self) -> None:
        super().__init__()
        self.yards: dict[int, Any] = {
            7: {"name": "East", "stacks": {3: {"row": "A", "boxes": {5: {"seal": "S-1"}}}}}
        }
        self.settings = {"tide_table": "spring", "night_work": False}

    def kept(self) -> Any:
        return self.yards, self.settings

    def routes(self) -> list[Route]:
        yard, stack, box = (
            shape(("id", "name"), id=WHOLE, name=TEXT),
            shape(("id", "row"), id=WHOLE, row=TEXT),
            shape(("id", "seal"), id=WHOLE, seal=TEXT),
        )
        settings = shape(
            ("tide_table",),
            tide_table={"type": "string", "enum": ["spring", "neap"]},
            night_work={"type": "boolean"},
        )
        base = "/api/v2/yards/"
        page = {"limit": {"type": "integer", "minimum": 1, "maximum": 50}}
        routes = [
            Route("GET", base, self.list_yards, answer=shape(("results",), results=many(yard)), query=page),
            Route(
                "POST",
                base,
                self.add_yard,
                answer=yard,
                body=shape(("name",), name={"type": "string", "maxLength": 24}),
                status=201,
            ),
            Route("GET", base + "{id}/", lambda call: (200, self.yard(call, "id")[1]), answer=yard),
            Route(
                "PATCH",
                base + "{id}/",
                self.rename,
                answer=yard,
                body=shape(name={"type": "string", "maxLength": 24}),
            ),
            Route("DELETE", base + "{id}/", self.drop_yard, status=204),
            Route(
                "GET",
                base + "{yard_id}/stacks/",
                self.list_stacks,
                answer=shape(("results",), results=many(stack)),
            ),
            Route(
                "POST",
                base + "{yard_id}/stacks/",
                self.add_stack,
                answer=stack,
                body=shape(("row",), row=TEXT),
                status=201,
            ),
            Route(
                "GET",
                base + "{yard_id}/stacks/{stack_id}/",
                lambda call: (200, self.stack(call)[1]),
                answer=stack,
            ),
            Route("DELETE", base + "{yard_id}/stacks/{stack_id}/", self.drop_stack, status=204),
            Route(
                "GET",
                base + "{yard_id}/stacks/{stack_id}/boxes/",
                self.list_boxes,
                answer=shape(("results",), results=many(box)),
            ),
            Route(
                "POST",
                base + "{yard_id}/stacks/{stack_id}/boxes/",
                self.add_box,
                answer=box,
                body=shape(("seal",), seal=TEXT),
                status=201,
            ),
            Route("GET", base + "{yard_id}/stacks/{stack_id}/boxes/{box_id}/", self.box, answer=box),
            Route("DELETE", base + "{yard_id}/stacks/{stack_id}/boxes/{box_id}/", self.drop_box, status=204),
            Route(
                "POST", "/api/v2/yards/bulk_delete/", self.drop_all, status=204, body=shape(ids=many(WHOLE))
            ),
            Route("GET", "/api/v2/settings/", lambda call: (200, self.settings), answer=settings),
            Route("PUT", "/api/v2/settings/", self.set_settings, answer=settings, body=settings),
        ]
        for route in routes:
            route.ids = WHOLE
        return routes

    def yard(self, call: Call, name: str = "yard_id") -> tuple[dict[str, Any], dict[str, Any]]:
        number = int(call.path[name])
        if number not in self.yards:
            raise Refused(404, f"no yard {number}")
        return self.yards[number], {"id": number, "name": self.yards[number]["name"]}

    def stack(self, call: Call) -> tuple[dict[str, Any], dict[str, Any]]:
        stacks, number = self.yard(call)[0]["stacks"], int(call.path["stack_id"])
        if number not in stacks:
            raise Refused(404, f"no stack {number} in this yard")
        return stacks[number], {"id": number, "row": stacks[number]["row"]}

    def list_yards(self, call: Call) -> Any:
        return 200, {"results": [{"id": number, "name": one["name"]} for number, one in self.yards.items()]}

    def add_yard(self, call: Call) -> Any:
        number = self.number()
        self.yards[number] = {"name": call.body["name"], "stacks": {}}
        return 201, {"id": number, "name": call.body["name"]}

    def rename(self, call: Call) -> Any:
        yard, _ = self.yard(call, "id")
        yard["name"] = (call.body or {}).get("name", yard["name"])
        return 200, self.yard(call, "id")[1]

    def drop_yard(self, call: Call) -> Any:
        if self.yard(call, "id")[0]["stacks"]:
            raise Refused(409, "the yard has stacks")
        del self.yards[int(call.path["id"])]
        return 204, None

    def list_stacks(self, call: Call) -> Any:
        return 200, {
            "results": [
                {"id": number, "row": one["row"]} for number, one in self.yard(call)[0]["stacks"].items()
            ]
        }

    def add_stack(self, call: Call) -> Any:
        number = self.number()
        self.yard(call)[0]["stacks"][number] = {"row": call.body["row"], "boxes": {}}
        return 201, {"id": number, "row": call.body["row"]}

    def drop_stack(self, call: Call) -> Any:
        if self.stack(call)[0]["boxes"]:
            raise Refused(409, "the stack has boxes")
        del self.yard(call)[0]["stacks"][int(call.path["stack_id"])]
        return 204, None

    def list_boxes(self, call: Call) -> Any:
        return 200, {
            "results": [{"id": number, **one} for number, one in self.stack(call)[0]["boxes"].items()]
        }

    def add_box(self, call: Call) -> Any:
        number = self.number()
        self.stack(call)[0]["boxes"][number] = {"seal": call.body["seal"]}
        return 201, {"id": number, "seal": call.body["seal"]}

    def box(self, call: Call) -> Any:
        boxes, number = self.stack(call)[0]["boxes"], int(call.path["box_id"])
        if number not in boxes:
            raise Refused(404, f"no box {number}")
        return 200, {"id": number, **boxes[number]}

    def drop_box(self, call: Call) -> Any:
        self.box(call)
        del self.stack(call)[0]["boxes"][int(call.path["box_id"])]
        return 204, None

    def drop_all(self, call: Call) -> Any:
        self.yards.clear()
        return 204, None

    def set_settings(self, call: Call) -> Any:
        self.settings = {
            "tide_table": call.body["tide_table"],
            "night_work": bool(call.body.get("night_work", False)),
        }
        return 200, self.settings


class Agency(Service):
    """What is created belongs to something that must be there, and has a name that nobody else has."""

    def __init__(self) -> None:
        super().__init__()
        self.ports = {"MRW": {"code": "MRW", "town": "Merrow"}, "SKR": {"code": "SKR", "town": "Skerry"}}
        self.agents: dict[int, Any] = {11: {"id": 11, "name": "Tern and Sons", "port_code": "MRW"}}
        self.vessels: dict[int, Any] = {21: {"id": 21, "name": "Grey Heron", "agent_id": 11}}

    def kept(self) -> Any:
        return self.ports, self.agents, self.vessels

    def routes(self) -> list[Route]:
        port = shape(("code",), code=TEXT, town=TEXT)
        agent, vessel = (
            shape(("id", "name"), id=WHOLE, name=TEXT, port_code=TEXT),
            shape(("id", "name"), id=WHOLE, name=TEXT, agent_id=WHOLE),
        )
        name = {"type": "string", "minLength": 3, "maxLength": 40, "example": "Tern and Sons"}
        return [
            Route("GET", "/ports", lambda call: (200, list(self.ports.values())), answer=many(port)),
            Route(
                "GET",
                "/agents",
                lambda call: (200, list(self.agents.values())),
                answer=many(agent),
                query={"town": TEXT},
            ),
            Route(
                "POST",
                "/agents",
                self.add_agent,
                answer=agent,
                status=201,
                body=shape(
                    ("name", "port_code"), name=name, port_code={"type": "string", "pattern": "^[A-Z]{3}$"}
                ),
            ),
            Route(
                "GET",
                "/agents/{agentId}",
                lambda call: (200, self.one(self.agents, call.path["agentId"])),
                answer=agent,
                ids=WHOLE,
            ),
            Route("DELETE", "/agents/{agentId}", self.drop_agent, status=204, ids=WHOLE),
            Route("GET", "/vessels", lambda call: (200, list(self.vessels.values())), answer=many(vessel)),
            Route(
                "POST",
                "/vessels",
                self.add_vessel,
                answer=vessel,
                status=201,
                body=shape(("name", "agent_id"), name=name, agent_id=WHOLE, note=TEXT),
            ),
            Route(
                "GET",
                "/vessels/{id}",
                lambda call: (200, self.one(self.vessels, call.path["id"])),
                answer=vessel,
                ids=WHOLE,
            ),
            Route(
                "PUT",
                "/vessels/{id}",
                self.change_vessel,
                answer=vessel,
                body=shape(("name", "agent_id"), name=name, agent_id=WHOLE),
                ids=WHOLE,
            ),
            Route("DELETE", "/vessels/{id}", self.drop_vessel, status=204, ids=WHOLE),
        ]

    @staticmethod
    def one(store: dict[int, Any], text: str) -> Any:
        if int(text) not in store:
            raise Refused(404, f"nothing is filed under {text}")
        return store[int(text)]

    def add_agent(self, call: Call) -> Any:
        if call.body["port_code"] not in self.ports:
            raise Refused(422, f"port_code: there is no port {call.body['port_code']}")
        self.free(self.agents, call.body["name"])
        number = self.number()
        self.agents[number] = {"id": number, "name": call.body["name"], "port_code": call.body["port_code"]}
        return 201, self.agents[number]

    @staticmethod
    def free(store: dict[int, Any], name: str, but: int = 0) -> None:
        if any(one["name"] == name for number, one in store.items() if number != but):
            raise Refused(409, f"the name {name} is taken")

    def drop_agent(self, call: Call) -> Any:
        number = self.one(self.agents, call.path["agentId"])["id"]
        if any(one["agent_id"] == number for one in self.vessels.values()):
            raise Refused(409, "the agent has vessels")
        del self.agents[number]
        return 204, None

    def add_vessel(self, call: Call) -> Any:
        if call.body["agent_id"] not in self.agents:
            raise Refused(404, f"no agent {call.body['agent_id']}")
        self.free(self.vessels, call.body["name"])
        number = self.number()
        self.vessels[number] = {"id": number, "name": call.body["name"], "agent_id": call.body["agent_id"]}
        return 201, self.vessels[number]

    def change_vessel(self, call: Call) -> Any:
        vessel = self.one(self.vessels, call.path["id"])
        if call.body["agent_id"] not in self.agents:
            raise Refused(404, f"no agent {call.body['agent_id']}")
        self.free(self.vessels, call.body["name"], vessel["id"])
        vessel.update(name=call.body["name"], agent_id=call.body["agent_id"])
        return 200, vessel

    def drop_vessel(self, call: Call) -> Any:
        del self.vessels[self.one(self.vessels, call.path["id"])["id"]]
        return 204, None


class Surveys(Service):
    """Stricter than its definition: words that stand nowhere, dates in the future, an optional header that
    nobody knows a value for.
    """

    def __init__(self) -> None:
        super().__init__()
        self.surveys: dict[str, Any] = {"SV-1": {"surveyId": "SV-1", "purpose": "dredging", "draught": 7.5}}

    def kept(self) -> Any:
        return self.surveys

    def routes(self) -> list[Route]:
        item = shape(("surveyId", "purpose"), surveyId=TEXT, purpose=TEXT, draught={"type": "number"})
        moment = {"type": "string", "format": "date-time"}
        body = shape(
            ("purpose", "draught", "starts"),
            purpose=TEXT,
            draught={"type": "number"},
            starts=moment,
            ends=moment,
            surveyor=TEXT,
            callback_url=TEXT,
        )
        desk = {"X-Desk": TEXT}
        routes = [
            Route("GET", "/surveys", self.listed, answer=many(item), query={"since": TEXT, "order": TEXT}),
            Route("POST", "/surveys", self.add, answer=item, body=body, status=201),
            Route("GET", "/surveys/{surveyId}", lambda call: (200, self.one(call)), answer=item),
            Route(
                "POST",
                "/surveys/{surveyId}/notes",
                self.note,
                answer=shape(("count",), count=WHOLE),
                body=shape(("text", "tone"), text=TEXT, tone=TEXT),
            ),
            Route("DELETE", "/surveys/{surveyId}", self.drop, status=204),
        ]
        for route in routes:
            route.headers = desk
        return routes

    def answer(self, method: str, target: str, headers: Any, data: bytes) -> tuple[int, Any, dict[str, str]]:
        desk = headers.get("X-Desk")
        if desk is not None and desk not in ("east", "west"):
            return (
                400,
                {"title": "Bad header", "detail": "X-Desk names no desk of ours"},
                {"Content-Type": "application/problem+json"},
            )
        return super().answer(method, target, headers, data)

    def listed(self, call: Call) -> Any:
        for name in ("since", "order"):
            if name in call.query:
                raise Refused(400, f"invalid value for query parameter {name}")
        return 200, list(self.surveys.values())

    def one(self, call: Call) -> Any:
        if call.path["surveyId"] not in self.surveys:
            raise Refused(404, "no such survey")
        return self.surveys[call.path["surveyId"]]

    def add(self, call: Call) -> Any:
        body = call.body
        wrong = []
        if body["purpose"] not in ("dredging", "wreck search"):
            wrong.append(("/purpose", "must be one of 'dredging', 'wreck search'"))
        if not 2 <= body["draught"] <= 25:
            wrong.append(("/draught", "must lie between 2 and 25"))
        starts = _moment(body["starts"])
        if starts is None or starts <= datetime.now(UTC):
            wrong.append(("/starts", "must be in the future"))
        if "ends" in body and (
            _moment(body["ends"]) is None or starts is None or _moment(body["ends"]) <= starts
        ):  # type: ignore[operator]
            wrong.append(("/ends", "must come after starts"))
        if "surveyor" in body:
            wrong.append(("/surveyor", "is not known"))
        if "callback_url" in body and not body["callback_url"].startswith("https://"):
            wrong.append(("/callback_url", "must be an https address"))
        if wrong:
            raise Refused(
                422,
                "the survey is not sound",
                errors=[{"pointer": place, "detail": what} for place, what in wrong[:1]],
            )
        name = f"SV-{self.number()}"
        self.surveys[name] = {"surveyId": name, "purpose": body["purpose"], "draught": body["draught"]}
        return 201, self.surveys[name]

    def note(self, call: Call) -> Any:
        self.one(call)
        if call.body["tone"] not in ("calm", "urgent"):
            raise Refused(422, "tone: allowed are calm, urgent")
        return 200, {"count": 1}

    def drop(self, call: Call) -> Any:
        self.one(call)
        del self.surveys[call.path["surveyId"]]
        return 204, None


def _moment(text: str) -> datetime | None:
    try:
        found = datetime.fromisoformat(text.replace("Z", "+00:00"))
    except ValueError:
        return None
    return found if found.tzinfo else found.replace(tzinfo=UTC)


class Lockkeepers(Service):
    """Names that mislead: an `id` that is a row number, a `name` in the path that is the code, an id that
    only Location tells.
    """

    def __init__(self) -> None:
        super().__init__()
        self.locks: dict[str, Any] = {"upper-lock": {"id": 1, "slug": "upper-lock", "label": "Upper lock"}}
        self.passages: dict[str, Any] = {"PS-1": {"type": "up"}}

    def kept(self) -> Any:
        return self.locks, self.passages

    def routes(self) -> list[Route]:
        lock = shape(("slug", "label"), id=WHOLE, slug=TEXT, label=TEXT)
        entry = shape(("id", "path"), id=WHOLE, path=TEXT, type=TEXT, name=TEXT)
        return [
            Route("GET", "/log", self.log, answer=many(entry)),
            Route("GET", "/locks", lambda call: (200, list(self.locks.values())), answer=many(lock)),
            Route(
                "POST",
                "/locks",
                self.add,
                answer=lock,
                body=shape(("label",), label={"type": "string", "minLength": 2, "maxLength": 30}),
                status=201,
            ),
            Route("GET", "/locks/{name}", lambda call: (200, self.found(call)), answer=lock),
            Route("DELETE", "/locks/{name}", self.drop, status=204),
            Route(
                "GET",
                "/locks/{name}/gate",
                lambda call: (200, {"open": bool(self.found(call))}),
                answer=shape(open={"type": "boolean"}),
            ),
            Route(
                "POST",
                "/passages",
                self.ask,
                status=201,
                answer=None,
                body=shape(("type",), type={"type": "string", "enum": ["up", "down"]}, path=TEXT),
            ),
            Route(
                "GET",
                "/passages/{id}",
                lambda call: (200, self.passage(call)),
                answer=shape(type=TEXT, path=TEXT),
            ),
            Route("DELETE", "/passages/{id}", self.forget, status=204),
        ]

    def log(self, call: Call) -> Any:
        return 200, [{"id": 9001, "path": "/locks", "type": "note", "name": "nobody"}]

    def found(self, call: Call) -> Any:
        if call.path["name"] not in self.locks:
            raise Refused(404, f"no lock is called {call.path['name']}")
        return self.locks[call.path["name"]]

    def add(self, call: Call) -> Any:
        slug = re.sub(r"[^a-z0-9]+", "-", call.body["label"].lower()).strip("-")
        if not slug or slug in self.locks:
            raise Refused(409, f"a lock {slug} is there")
        self.locks[slug] = {"id": self.number(), "slug": slug, "label": call.body["label"]}
        return 201, self.locks[slug]

    def drop(self, call: Call) -> Any:
        self.found(call)
        del self.locks[call.path["name"]]
        return 204, None

    def ask(self, call: Call) -> Any:
        name = f"PS-{self.number()}"
        self.passages[name] = {key: call.body[key] for key in ("type", "path") if key in call.body}
        return 201, None, {"Location": f"/passages/{name}"}

    def passage(self, call: Call) -> Any:
        if call.path["id"] not in self.passages:
            raise Refused(404, "no such passage")
        return self.passages[call.path["id"]]

    def forget(self, call: Call) -> Any:
        self.passage(call)
        del self.passages[call.path["id"]]
        return 204, None


class Cranes(Service):
    """No REST at all: verbs in the paths, ids in the query, everything by GET or POST."""

    def __init__(self) -> None:
        super().__init__()
        self.cranes: dict[int, Any] = {401: {"craneNo": 401, "title": "Jib", "at": "P1"}}

    def kept(self) -> Any:
        return self.cranes

    def routes(self) -> list[Route]:
        crane = shape(("craneNo", "title"), craneNo=WHOLE, title=TEXT, at=TEXT)
        number = {"craneNo": WHOLE}
        place = {"type": "string", "enum": ["P1", "P2", "P3"]}
        return [
            Route(
                "GET",
                "/listCranes",
                lambda call: (200, {"cranes": list(self.cranes.values())}),
                answer=shape(("cranes",), cranes=many(crane)),
            ),
            Route(
                "GET",
                "/getCrane",
                lambda call: (200, self.crane(call)),
                answer=crane,
                query=number,
                needed=("craneNo",),
            ),
            Route("POST", "/addCrane", self.add, answer=crane, body=shape(("title",), title=TEXT, at=place)),
            Route(
                "GET",
                "/moveCrane",
                self.move,
                answer=crane,
                query={**number, "to": place},
                needed=("craneNo", "to"),
            ),
            Route(
                "POST",
                "/renameCrane",
                self.rename,
                answer=crane,
                body=shape(("craneNo", "title"), craneNo=WHOLE, title=TEXT),
            ),
            Route(
                "POST",
                "/removeCrane",
                self.remove,
                answer=shape(removed=WHOLE),
                body=shape(("craneNo",), craneNo=WHOLE),
            ),
            Route("POST", "/removeAllCranes", self.remove_all, answer=shape(removed=WHOLE)),
        ]

    def crane(self, call: Call) -> Any:
        number = int((call.body or call.query)["craneNo"])
        if number not in self.cranes:
            raise Refused(404, f"there is no crane {number}")
        return self.cranes[number]

    def add(self, call: Call) -> Any:
        number = self.number()
        self.cranes[number] = {
            "craneNo": number,
            "title": call.body["title"],
            "at": call.body.get("at", "P1"),
        }
        return 200, self.cranes[number]

    def move(self, call: Call) -> Any:
        crane = self.crane(call)
        crane["at"] = call.query["to"]
        return 200, crane

    def rename(self, call: Call) -> Any:
        self.crane(call)["title"] = call.body["title"]
        return 200, self.crane(call)

    def remove(self, call: Call) -> Any:
        number = self.crane(call)["craneNo"]
        del self.cranes[number]
        return 200, {"removed": number}

    def remove_all(self, call: Call) -> Any:
        self.cranes.clear()
        return 200, {"removed": 1}


class Deaf(Service):
    """Answers everything with one status."""

    def __init__(self, status: int) -> None:
        super().__init__()
        self.status = status

    def kept(self) -> Any:
        return None

    def routes(self) -> list[Route]:
        return Agency().routes()

    def answer(self, method: str, target: str, headers: Any, data: bytes) -> tuple[int, Any, dict[str, str]]:
        more = {"WWW-Authenticate": "Bearer"} if self.status == 401 else {}
        return self.status, {"title": "no"}, {"Content-Type": "application/problem+json", **more}


class Forgetful(Agency):
    """Loses what was created."""

    def add_agent(self, call: Call) -> Any:
        found = super().add_agent(call)
        return 201, self.agents.pop(found[1]["id"])
