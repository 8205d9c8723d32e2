"""The berths service: the state of the port, and what each of its operations does, with its own parsing and
its own rules.
"""

from __future__ import annotations

import json
import re
import threading
from datetime import UTC, datetime
from typing import Any
from urllib.parse import parse_qs

from juxtalogos.demo.berths_messages import Call, Refusal, Reply, read_day, read_moment, read_number

KEY = "merrow-office-7431"
"""The made-up key of the harbour office, for demonstrations."""
PREFIX = "/v1"
KINDS = ("bulk", "container", "tanker", "ro-ro", "general")
STATES = ("announced", "allotted", "moored", "closed")


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds").replace("+00:00", "Z")


class Harbour:
    """The state of the port, and what each operation does. `odd` names the planted deviations that are on."""

    def __init__(self, odd: frozenset[str]) -> None:
        self.odd = odd
        self.lock = threading.RLock()
        self.reset()

    def reset(self) -> None:
        with self.lock:
            self.vessels: dict[str, dict[str, Any]] = {}
            self.calls: dict[str, dict[str, Any]] = {}
            self.ghosts: dict[str, dict[str, Any]] = {}
            self.plans: dict[str, str] = {}
            self.lines: dict[str, int] = {}
            self.notices: list[dict[str, Any]] = [
                {
                    "number": 1,
                    "text": "Dredging in the basin, keep clear of the mole.",
                    "from": "2026-03-01",
                    "area": "basin",
                }
            ]
            self.last = {"V": 1000, "PC": 1000, "AL": 1000}
            self.berths: dict[str, dict[str, Any]] = {
                f"B{number}": {
                    "berthId": f"B{number}",
                    "quay": quay,
                    "depthMetres": depth,
                    "surface": surface,
                    "free": True,
                    "services": services,
                }
                for number, quay, depth, surface, services in (
                    (1, "Fish Quay", 4.5, "timber", ["water"]),
                    (2, "North Mole", 9.0, "stone", ["water", "shore-power"]),
                    (4, "North Mole", 11.5, "concrete", ["water", "crane", "bunkers"]),
                    (7, "Deep Basin", 16.0, "concrete", ["water", "shore-power", "crane"]),
                )
            }
            for name, kind, length in (
                ("Grey Tern", "general", 88.0),
                ("Skerry Maid", "container", 172.4),
                ("Long Reach", "bulk", 199.9),
            ):
                self.add_vessel({"name": name, "kind": kind, "lengthMetres": length, "agentCode": None})
            vessel = next(iter(self.vessels))
            self.add_call({"vesselId": vessel, "arrives": "2026-03-14T06:30:00Z", "draughtMetres": 5.8})

    def next(self, kind: str) -> str:
        self.last[kind] += 1
        return f"{kind}-{self.last[kind]}"

    def add_vessel(self, value: dict[str, Any]) -> dict[str, Any]:
        vessel = {**value, "vesselId": self.next("V")}
        self.vessels[vessel["vesselId"]] = vessel
        return vessel

    def add_call(self, value: dict[str, Any]) -> dict[str, Any]:
        kept = {key: item for key, item in value.items() if key != "contactPassword"}
        call = {
            **kept,
            "callId": self.next("PC"),
            "state": "announced",
            "announcedAt": _now(),
            "berthId": None,
        }
        self.calls[call["callId"]] = call
        return call

    def knows(self, operation: str, keys: tuple[str, ...]) -> bool:
        """Whether what a path names is there."""
        if operation == "amend" and "ghost" in self.odd and keys[0] in self.ghosts:
            return True
        store = {"call_id": self.calls, "vessel_id": self.vessels, "berth_id": self.berths}
        names = getattr(self, operation).__code__.co_varnames[2:3]
        return not keys or not names or keys[0] in store.get(names[0], keys)

    def tolerates(self, operation: str, call: Call, keys: tuple[str, ...]) -> bool:
        """Planted ways to deal with what is not as declared: whether it is let through."""
        try:
            value = json.loads(call.body) if call.body else {}
        except ValueError:
            return False
        if not isinstance(value, dict):
            return False
        if operation == "register_vessel" and "lax" in self.odd:
            length = value.get("lengthMetres")
            return isinstance(length, int | float) and not isinstance(length, bool) and 420 < length < 500
        if (
            operation == "replace_vessel"
            and "stumble" in self.odd
            and isinstance(value.get("agentCode"), str)
        ):
            raise Refusal(500, "The register fell over")
        if (
            operation == "amend"
            and "smudge" in self.odd
            and isinstance(value.get("arrives"), str)
            and "T" in value["arrives"]
        ):
            self.calls[keys[0]]["arrives"] = value["arrives"]
        return False

    def vessel(self, vessel_id: str) -> dict[str, Any]:
        if vessel_id not in self.vessels:
            raise Refusal(404, "No such vessel", vessel_id)
        return self.vessels[vessel_id]

    def call(self, call_id: str) -> dict[str, Any]:
        if call_id not in self.calls:
            raise Refusal(404, "No such port call", call_id)
        return self.calls[call_id]

    # Vessels

    def list_vessels(self, call: Call) -> Reply:
        limit, offset = call.count("limit", 1, 50, 20), call.count("offset", 0, 10**9, 0)
        kinds = [kind for text in call.query.get("kind", []) for kind in text.split(",")]
        if any(kind not in KINDS for kind in kinds):
            raise Refusal(400, "Bad kind", ", ".join(kinds))
        found = [vessel for vessel in self.vessels.values() if not kinds or vessel["kind"] in kinds]
        headers = {} if "total" in self.odd else {"X-Total-Count": str(len(found))}
        more = 1 if "overfull" in self.odd and limit < 4 else 0
        total = len(self.vessels) if "tallied" in self.odd else len(found)
        return Reply(200, {"items": found[offset : offset + limit + more], "total": total}, headers=headers)

    def register_vessel(self, call: Call) -> Reply:
        vessel = self.add_vessel(self.vessel_values(call.json()))
        status = 200 if "status" in self.odd else 201
        return Reply(status, vessel, headers={"Location": f"{PREFIX}/vessels/{vessel['vesselId']}"})

    @staticmethod
    def vessel_values(value: dict[str, Any]) -> dict[str, Any]:
        if not isinstance(value.get("name"), str) or not 2 <= len(value["name"]) <= 60:
            raise Refusal(400, "Bad name")
        if value.get("kind") not in KINDS:
            raise Refusal(400, "Bad kind", str(value.get("kind")))
        read_number(value.get("lengthMetres"), "lengthMetres", 5, 500)
        if "draughtMetres" in value:
            read_number(value["draughtMetres"], "draughtMetres", 0.5, 26)
        if "built" in value:
            read_day(value["built"], "built")
        if value.get("agentCode") is not None and not re.fullmatch("[A-Z]{3}", str(value["agentCode"])):
            raise Refusal(400, "Bad agentCode")
        return value

    def get_vessel(self, call: Call, vessel_id: str) -> Reply:
        vessel = dict(self.vessel(vessel_id))
        if "length" in self.odd:
            vessel["lengthMetres"] = f"{vessel['lengthMetres']} m"
        return Reply(200, vessel)

    def replace_vessel(self, call: Call, vessel_id: str) -> Reply:
        self.vessel(vessel_id)
        self.vessels[vessel_id] = {**self.vessel_values(call.json()), "vesselId": vessel_id}
        return Reply(200, self.vessels[vessel_id])

    def remove_vessel(self, call: Call, vessel_id: str) -> Reply:
        self.vessel(vessel_id)
        del self.vessels[vessel_id]
        return Reply(204)

    # Berths and tides

    def list_berths(self, call: Call) -> Reply:
        free, depth = call.one("free"), call.one("minDepth")
        if free not in (None, "true", "false"):
            raise Refusal(400, "Bad free", str(free))
        try:
            least = float(depth or 0)
        except ValueError:
            raise Refusal(400, "Bad minDepth", str(depth)) from None
        found: list[dict[str, Any]] = [
            dict(berth)
            for berth in self.berths.values()
            if berth["depthMetres"] >= least and (free is None or berth["free"] == (free == "true"))
        ]
        if "surface" in self.odd and found:
            found[-1]["surface"] = "gravel"
        return Reply(200, found)

    def get_berth(self, call: Call, berth_id: str) -> Reply:
        if berth_id not in self.berths:
            raise Refusal(404, "No such berth", berth_id)
        berth = dict(self.berths[berth_id])
        if "services" in self.odd:
            berth["services"] = [*berth["services"], "water"]
        return Reply(200, berth)

    def list_tides(self, call: Call) -> Reply:
        day = read_day(call.one("day"), "day")
        turns = (("02:10", 0.8, "low"), ("08:25", 5.1, "high"), ("14:40", 1.0, "low"), ("20:50", 4.9, "high"))
        headers = {"X-Station-Depth": "five fathoms" if "gauge" in self.odd else "9.1"}
        return Reply(
            200,
            [{"at": f"{day}T{time}:00Z", "height": height, "turn": turn} for time, height, turn in turns],
            headers=headers,
        )

    # Port calls

    def list_port_calls(self, call: Call) -> Reply:
        limit, offset = call.count("limit", 1, 50, 20), call.count("offset", 0, 10**9, 0)
        state, first = call.one("state"), call.one("arrivesFrom")
        if state is not None and state not in STATES:
            raise Refusal(400, "Bad state", state)
        if first is not None:
            read_day(first, "arrivesFrom")
        found = [
            one
            for one in self.calls.values()
            if (state is None or "deaf" in self.odd or one["state"] == state)
            and (first is None or one["arrives"][:10] >= first)
        ]
        more = offset + limit < len(found)
        page = {
            "items": found[offset : offset + limit],
            "total": len(found),
            "next": f"{PREFIX}/port-calls?offset={offset + limit}" if more else None,
        }
        if "page" in self.odd:
            page["shard"] = 3
        return Reply(200, page)

    def announce(self, call: Call) -> Reply:
        value = call.json()
        self.vessel(str(value.get("vesselId")))
        self.call_values(value, {"arrives"})
        made = dict(self.add_call(value))
        if "stamp" in self.odd:
            made["announcedAt"] = "14.03.2026 06:30"
        return Reply(201, made)

    @staticmethod
    def call_values(value: dict[str, Any], needed: set[str]) -> None:
        if "arrives" in value or "arrives" in needed:
            read_moment(value.get("arrives"), "arrives")
        if "draughtMetres" in value:
            read_number(value["draughtMetres"], "draughtMetres", 0.5, 26)
        for end in ("opens", "closes") if "tideWindow" in value else ():
            read_moment(value["tideWindow"].get(end), end)
        for item in value.get("cargo", ()):
            if not item.get("goods") or not isinstance(item.get("tonnes"), int):
                raise Refusal(400, "Bad cargo")

    def get_port_call(self, call: Call, call_id: str) -> Reply:
        found = dict(self.call(call_id))
        if "state" in self.odd:
            del found["state"]
        return Reply(200, found)

    def amend(self, call: Call, call_id: str) -> Reply:
        found, value = self.ghosts.get(call_id) if "ghost" in self.odd else None, call.json()
        found = found or self.call(call_id)
        if not value:
            raise Refusal(400, "Nothing to amend")
        self.call_values(value, set())
        kept = ("arrives",) if "stubborn" in self.odd else ("arrives", "draughtMetres")
        found.update({key: value[key] for key in kept if key in value})
        return Reply(
            200, found, media_type="text/plain; charset=utf-8" if "plain" in self.odd else "application/json"
        )

    def withdraw(self, call: Call, call_id: str) -> Reply:
        self.ghosts[call_id] = self.call(call_id)
        del self.calls[call_id]
        return Reply(202, {"withdrawn": call_id}) if "chatter" in self.odd else Reply(202)

    def allot(self, call: Call, call_id: str) -> Reply:
        found, value = self.call(call_id), call.json()
        berth = value.get("berthId")
        if berth not in self.berths or value.get("side", "port") not in ("port", "starboard"):
            raise Refusal(400, "Bad berth", str(berth))
        found.update(state="allotted", berthId=berth)
        reference = self.next("AL").lower() if "reference" in self.odd else self.next("AL")
        return Reply(
            200,
            {"callId": call_id, "berthId": berth, "side": value.get("side", "port"), "reference": reference},
        )

    def handle_lines(self, call: Call, call_id: str) -> Reply:
        found = self.call(call_id)
        if not call.headers.get("Content-Type", "").startswith("application/x-www-form-urlencoded"):
            raise Refusal(400, "Not a form")
        fields = parse_qs(call.body.decode(), keep_blank_values=True)
        action, lines = fields.get("action", [""])[0], fields.get("lines", [""])[0]
        if action not in ("take", "let-go") or not lines.isdigit() or not 1 <= int(lines) <= 12:
            raise Refusal(400, "Bad lines", f"{action} {lines}")
        if found["state"] == "announced" and "eager" not in self.odd:
            raise Refusal(409, "No berth is allotted")
        found["state"] = "moored"
        self.lines[call_id] = int(lines)
        return Reply(
            200,
            {"callId": call_id, "action": action, "linesAshore": 14 if "lines" in self.odd else int(lines)},
        )

    def upload_plan(self, call: Call, call_id: str) -> Reply:
        self.call(call_id)
        if not call.headers.get("Content-Type", "").startswith("text/csv"):
            raise Refusal(400, "Not CSV")
        rows = [row.split(",") for row in call.body.decode("utf-8").strip().split("\n")]
        self.plans[call_id] = call.body.decode("utf-8")
        kilograms = sum(int(row[-1]) for row in rows[1:] if row[-1].strip().isdigit())
        return Reply(200, {"callId": call_id, "rows": max(0, len(rows) - 1), "tonnes": kilograms / 1000})

    def get_plan(self, call: Call, call_id: str) -> Reply:
        self.call(call_id)
        if call_id not in self.plans:
            raise Refusal(404, "No plan was uploaded")
        return Reply(200, text=self.plans[call_id], media_type="text/csv; charset=utf-8")

    def close(self, call: Call, call_id: str) -> Reply:
        found = self.call(call_id)
        if found["state"] == "announced":
            raise Refusal(409, "No lines were handled")
        found["state"] = "closed"
        departure = (
            {"mode": "piloted"} if "departure" in self.odd else {"mode": "piloted", "pilot": "A. Fairlead"}
        )
        return Reply(200, {"callId": call_id, "closedAt": _now(), "departure": departure})

    # Harbour office

    def office(self, call: Call) -> None:
        if call.headers.get("X-Harbour-Key") != KEY:
            raise Refusal(401, "No key, or not the right one")

    def list_notices(self, call: Call) -> Reply:
        if "ajar" not in self.odd:
            self.office(call)
        return Reply(200, text=str(self.notices)) if "quotes" in self.odd else Reply(200, self.notices)

    def post_notice(self, call: Call) -> Reply:
        self.office(call)
        value = call.json()
        if not isinstance(value.get("text"), str) or not 5 <= len(value["text"]) <= 500:
            raise Refusal(400, "Bad text")
        read_day(value.get("from"), "from")
        if "office" in self.odd:
            raise Refusal(500, "The press is broken")
        notice = {**value, "number": len(self.notices) + 1}
        self.notices.append(notice)
        return Reply(201, notice)


ROUTES: tuple[tuple[str, str, str], ...] = (
    ("GET", "/vessels", "list_vessels"),
    ("POST", "/vessels", "register_vessel"),
    ("GET", "/vessels/([^/]+)", "get_vessel"),
    ("PUT", "/vessels/([^/]+)", "replace_vessel"),
    ("DELETE", "/vessels/([^/]+)", "remove_vessel"),
    ("GET", "/berths", "list_berths"),
    ("GET", "/berths/([^/]+)", "get_berth"),
    ("GET", "/port-calls", "list_port_calls"),
    ("POST", "/port-calls", "announce"),
    ("GET", "/port-calls/([^/]+)", "get_port_call"),
    ("PATCH", "/port-calls/([^/]+)", "amend"),
    ("DELETE", "/port-calls/([^/]+)", "withdraw"),
    ("POST", "/port-calls/([^/]+)/allotment", "allot"),
    ("POST", "/port-calls/([^/]+)/lines", "handle_lines"),
    ("PUT", "/port-calls/([^/]+)/stowage", "upload_plan"),
    ("GET", "/port-calls/([^/]+)/stowage", "get_plan"),
    ("POST", "/port-calls/([^/]+)/closing", "close"),
    ("GET", "/tides", "list_tides"),
    ("GET", "/notices", "list_notices"),
    ("POST", "/notices", "post_notice"),
)
