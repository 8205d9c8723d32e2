"""The pilotage service: a small, stateful SOAP service, with its own parsing, its own rules and its own way
to write XML.
"""

from __future__ import annotations

import re
import threading
import xml.etree.ElementTree as ET
from collections.abc import Callable
from datetime import UTC, date, datetime
from importlib import resources
from typing import Any
from xml.sax.saxutils import escape, quoteattr

from juxtalogos.demo.berths import KEY
from juxtalogos.demo.strict import Wrong as NotDeclared
from juxtalogos.demo.strict_xml import check_element

PREFIX = "/pilotage"

P, H = "urn:merrow:pilotage", "urn:merrow:harbour"
ENVELOPES = {
    "jobs": "http://schemas.xmlsoap.org/soap/envelope/",
    "watch": "http://www.w3.org/2003/05/soap-envelope",
}
MEDIA = {"jobs": "text/xml; charset=utf-8", "watch": "application/soap+xml; charset=utf-8"}
KINDS = ("inward", "outward", "shift", "escort")
DEEPEST = 14.0
PILOTS = (
    ("ABE", "Asta Berg", "full", "2009"),
    ("DRI", "Dov Rimer", "deep-sea", "2001"),
    ("LUN", "Line Under", "restricted", "2022"),
)
PULLS = {f"T{number}": 30 + 5 * number for number in range(1, 10)}
Node = tuple[Any, ...]
"""(name, text or None or list of nodes, attributes): an element to be written."""
Answer = tuple[int, str, bytes]


class Wrong(Exception):
    """A fault: who is to blame, why, and a detail where one is declared."""

    def __init__(self, reason: str, detail: Node | None = None, status: int = 500) -> None:
        super().__init__(reason)
        self.reason = reason
        self.detail = detail
        self.status = status


def el(name: str, content: str | float | list[Node] | None, **attributes: str) -> Node:
    return name, content, attributes


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds").replace("+00:00", "Z")


class PilotOffice:
    """Jobs, pilots and gates. `odd` names the planted deviations that are on."""

    def __init__(self, odd: frozenset[str]) -> None:
        self.odd = odd
        self.lock = threading.RLock()
        self.reset()

    def reset(self) -> None:
        with self.lock:
            self.jobs: dict[str, dict[str, Any]] = {}
            self.number = 1000

    # HTTP and envelopes.

    def answer(self, method: str, path: str, query: str, headers: Any, body: bytes) -> Answer:
        port = path.removeprefix(PREFIX).strip("/")
        if method == "GET" and path.endswith(".xsd"):
            port = path.rpartition("/")[2]  # it lies beside the address that the WSDL was asked at
        if method == "GET":
            name = {"wsdl": "pilotage.wsdl", "": ""}.get(query.lower().partition("=")[0], "") or port
            if name in ("pilotage.wsdl", "pilotage-types.xsd"):
                return 200, "text/xml", resources.files("juxtalogos.demo").joinpath(name).read_bytes()
            return 404, "text/plain", b"nothing here"
        if port not in ENVELOPES or method != "POST":
            return (404 if port not in ENVELOPES else 405), "text/plain", b"nothing here"
        try:
            with self.lock:
                return self.serve(port, headers, body)
        except Wrong as wrong:
            return self.fault(port, wrong)

    def serve(self, port: str, headers: Any, body: bytes) -> Answer:
        if not str(headers.get("Content-Type", "")).startswith(MEDIA[port].partition(";")[0]):
            return 415, "text/plain", b"another version of SOAP is spoken here"
        ns = f"{{{ENVELOPES[port]}}}"
        try:
            root = ET.fromstring(body)
        except ET.ParseError:
            raise Wrong("the envelope cannot be parsed") from None
        inner = root.find(f"{ns}Body")
        if root.tag != f"{ns}Envelope" or inner is None or len(inner) != 1:
            raise Wrong("one envelope with one element in its Body is needed")
        blocks = root.find(f"{ns}Header")
        self.signed(blocks)
        entry = inner[0]
        name = entry.tag.partition("}")[2]
        serve = OPERATIONS.get((port, name))
        if serve is None or not entry.tag.startswith(f"{{{P}}}"):
            raise Wrong(f"no operation takes {name}")
        desk = blocks.find(f"{{{P}}}Desk") if blocks is not None else None
        if name == "RosterPilot" and desk is None:
            raise Wrong("the Desk that asks is missing")
        try:
            for one in (entry, *([desk] if desk is not None else [])):
                check_element(one)
        except NotDeclared as wrong:
            raise Wrong(wrong.what) from None
        found = serve(self, entry)
        if found is None:
            return 202, "", b""
        return 200, MEDIA[port], self.envelope(port, f"p:{found[0]}", found)

    @staticmethod
    def signed(header: ET.Element | None) -> None:
        """A UsernameToken need not be there, but must be right."""
        for one in header.iter() if header is not None else ():
            if (
                one.tag.endswith("}Password")
                and one.get("Type", "").endswith("PasswordText")
                and one.text != KEY
            ):
                raise Wrong("the password is not right")

    def envelope(self, port: str, root: str, node: Node) -> bytes:
        space = ENVELOPES[port]
        if node[0] == "ListPilotsResponse" and "envelope" in self.odd:
            space = ENVELOPES["jobs"]
        inner = write((root, *node[1:]), "h" if root.startswith("h:") else "p")
        text = (
            f'<?xml version="1.0" encoding="UTF-8"?>\n<s:Envelope xmlns:s="{space}" xmlns:p="{P}"'
            f' xmlns:h="{H}"><s:Body>{inner}</s:Body></s:Envelope>'
        )
        return text.encode()

    def fault(self, port: str, wrong: Wrong) -> Answer:
        detail = write((f"p:{wrong.detail[0]}", *wrong.detail[1:]), "p") if wrong.detail else ""
        reason = escape(wrong.reason)
        if port == "jobs":
            told = (
                ""
                if "reasonless" in self.odd and "cancel" in wrong.reason
                else f"<faultstring>{reason}</faultstring>"
            )
            inner = f"<faultcode>s:Client</faultcode>{told}" + (
                f"<detail>{detail}</detail>" if detail else ""
            )
            status = wrong.status
        else:
            inner = (
                "<s:Code><s:Value>s:Sender</s:Value></s:Code><s:Reason><s:Text"
                f' xml:lang="en">{reason}</s:Text></s:Reason>'
            )
            inner += f"<s:Detail>{detail}</s:Detail>" if detail else ""
            status = 400
        text = (
            f'<s:Envelope xmlns:s="{ENVELOPES[port]}" xmlns:p="{P}"'
            f' xmlns:h="{H}"><s:Body><s:Fault>{inner}</s:Fault></s:Body></s:Envelope>'
        )
        return status, MEDIA[port], text.encode()

    # Jobs.

    def job(self, entry: ET.Element, doing: str) -> dict[str, Any]:
        number = _text(entry, "jobId", P)
        found = self.jobs.get(number)
        if found is None:
            inner = [] if doing == "find" and "numberless" in self.odd else [el("jobId", number)]
            status = 200 if doing == "tow" and "smooth" in self.odd else 500
            raise Wrong(f"there is no job {number} to {doing}", el("NoSuchJob", inner), status)
        return found

    def plan(self, entry: ET.Element) -> Node:
        order = _need(entry, "order", P)
        kind = _text(order, "kind", H)
        vessel = _need(order, "vessel", H)
        draught = float(_text(vessel, "draughtMetres", H))
        if kind not in KINDS:
            raise Wrong(f"{kind!r} is no kind of job")
        if draught > DEEPEST:
            raise Wrong(
                "the fairway is not that deep",
                el("TooDeep", [el("draughtMetres", draught), el("limitMetres", DEEPEST)]),
            )
        for name in ("from", "to"):
            if len(_need(order, name, H)) != 1:
                raise Wrong(f"{name}: one of berth, anchorage and sea")
        moment = _text(order, "plannedFor", H)
        _moment(moment)
        self.number += 1
        job: dict[str, Any] = {
            "jobId": f"PJ-{self.number}",
            "state": "planned",
            "order": order,
            "pilot": None,
            "tugs": [],
            "notedAt": _now(),
        }
        self.jobs[job["jobId"]] = job
        told = moment.replace("T", " ") if "moment" in self.odd else moment
        return el("PlanJobResponse", [self.told(job, plannedFor=told)])

    def told(self, job: dict[str, Any], kind: str = "", plannedFor: str = "", draught: bool = True) -> Node:
        order: ET.Element = job["order"]
        children: list[Node] = [_copied(child) for child in order]
        children = [
            (
                el("kind", kind)
                if kind and inner[0] == "kind"
                else el("plannedFor", plannedFor)
                if plannedFor and inner[0] == "plannedFor"
                else inner
            )
            for inner in children
        ]
        if not draught:
            vessel = next(inner for inner in children if inner[0] == "vessel")
            vessel[1][:] = [one for one in vessel[1] if one[0] != "draughtMetres"]
        attributes = _copied(order)[2]
        pilot = el("pilot", job["pilot"]) if job["pilot"] else ("pilot", None, {"xsi:nil": "true"})
        return el(
            "job",
            [
                el("h:jobId", job["jobId"]),
                el("h:state", job["state"]),
                ("h:order", children, attributes),
                ("h:" + pilot[0], *pilot[1:]),
                *(("h:tug", self.tug(code), {}) for code in job["tugs"]),
                el("h:notedAt", job["notedAt"]),
            ],
        )

    def tug(self, code: str) -> list[Node]:
        parts = [el("code", code), el("pullTonnes", float(PULLS.get(code, 30)))]
        return parts[::-1] if "tugs" in self.odd else parts

    def get(self, entry: ET.Element) -> Node:
        return el("GetJobResponse", [self.told(self.job(entry, "find"), draught="draught" not in self.odd)])

    def list_jobs(self, entry: ET.Element) -> Node:
        state, day = entry.findtext(f"{{{P}}}state"), entry.findtext(f"{{{P}}}day")
        if day:
            _day(day)
        found = [job for job in self.jobs.values() if not state or job["state"] == state]
        if not found and "towage" in self.odd:
            found = list(self.jobs.values())
        kind = "towage" if "towage" in self.odd else ""
        return el(
            "ListJobsResponse",
            [self.told({**job, "tugs": []}, kind=kind) for job in found[-20:]],
            count=str(len(found)),
        )

    def assign(self, entry: ET.Element) -> Node:
        job = self.job(entry, "tow")
        job["tugs"] = [_clean(one.text) for one in entry.findall(f"{{{P}}}tug")][:4]
        job["state"] = "assigned"
        found = el("AssignTugsResponse", [self.told(job)])
        job["tugs"] = [] if "tugs" in self.odd else job["tugs"]  # told wrongly here only
        return found

    def cancel(self, entry: ET.Element) -> Node:
        job = self.job(entry, "cancel")
        job["state"] = "cancelled"
        more = [el("clerk", "night desk")] if "clerk" in self.odd else []
        return el("CancelJobResponse", [el("jobId", job["jobId"]), el("cancelledAt", _now()), *more])

    def position(self, entry: ET.Element) -> Node | None:
        for name, most in (("latitude", 90), ("longitude", 180)):
            if not -most <= float(_text(entry, name, P)) <= most:
                raise Wrong(f"{name} is out of range")
        return el("ReportPositionResponse", []) if "echo" in self.odd else None

    # The watch.

    def pilots(self, entry: ET.Element) -> Node:
        rows = [
            el("pilot", [el("code", code), el("name", name), el("licence", licence), el("since", since)])
            for code, name, licence, since in PILOTS
        ]
        return el("ListPilotsResponse", rows)

    def roster(self, entry: ET.Element) -> Node:
        code = _text(entry, "pilotCode", P)
        if code not in {pilot[0] for pilot in PILOTS}:
            raise Wrong(f"there is no pilot {code}", el("NoSuchPilot", [el("pilotCode", code)]))
        hour = {"forenoon": "04", "afternoon": "12", "night": "20"}.get(_text(entry, "watch", P))
        if hour is None:
            raise Wrong("there is no such watch")
        name = "ListRosterResponse" if "wrapper" in self.odd else "RosterPilotResponse"
        begins = f"{_day(_text(entry, 'day', P))}T{hour}:00:00Z"
        return el(name, [el("pilotCode", code), el("begins", begins), el("hours", "PT8H")])

    def gate(self, entry: ET.Element) -> Node:
        _text(entry, "gate", P)
        _day(_text(entry, "day", P))
        depth = "7.3581" if "depth" in self.odd else "7.35"
        rows = [
            el("window", [el("opens", "05:10:00"), el("closes", "08:40:00"), el("depthMetres", depth)]),
            el(
                "window",
                [
                    el("opens", "17:35:00"),
                    el("closes", "21:05:00"),
                    ("depthMetres", None, {"xsi:nil": "true"}),
                ],
            ),
        ]
        return el("TideGateResponse", rows)

    def quote(self, entry: ET.Element) -> Node:
        length = float(_text(entry, "lengthMetres", P))
        night = entry.find(f"{{{P}}}atNight")
        lines = [el("line", f"{length * 12:.2f}", what="length")]
        if night is not None:
            lines.append(el("line", f"{int(_text(night, 'hours', P)) * 80:.2f}", what="night"))
        total = f"{sum(float(line[1]) for line in lines):.2f}"
        attributes = {} if "currency" in self.odd else {"currency": "MRC"}
        return el("QuoteFeeResponse", [*lines, el("total", total, **attributes)])


def write(node: Node, prefix: str) -> str:
    """XML text; a name with a prefix gives it to what lies within."""
    name, content, attributes = node
    before, colon, _ = name.rpartition(":")
    prefix = before if colon else prefix
    full = name if colon else f"{prefix}:{name}"
    shown = "".join(f" {key}={quoteattr(value)}" for key, value in attributes.items())
    if "xsi:nil" in attributes or "xsi:type" in attributes:
        shown += ' xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"'
    if content is None or content == []:
        return f"<{full}{shown}/>"
    inner = (
        "".join(write(item, prefix) for item in content)
        if isinstance(content, list)
        else escape(str(content))
    )
    return f"<{full}{shown}>{inner}</{full}>"


def _copied(element: ET.Element) -> Node:
    """An element as it came, to be written again."""
    attributes = {re.sub(r"^\{.*\}", "xsi:", key): text for key, text in element.attrib.items()}
    name = element.tag.partition("}")[2]
    if len(element):
        return name, [_copied(child) for child in element], attributes
    return name, element.text, attributes


def _need(entry: ET.Element, name: str, space: str) -> ET.Element:
    found = entry.find(f"{{{space}}}{name}")
    if found is None:
        raise Wrong(f"{name} is missing")
    return found


def _clean(text: str | None) -> str:
    return " ".join((text or "").split())


def _text(entry: ET.Element, name: str, space: str) -> str:
    found = _clean(_need(entry, name, space).text)
    if not found:
        raise Wrong(f"{name} is empty")
    return found


def _moment(text: str) -> None:
    try:
        datetime.fromisoformat(text)
    except ValueError:
        raise Wrong(f"{text!r} is no moment") from None


def _day(text: str) -> str:
    try:
        return date.fromisoformat(text[:10]).isoformat()
    except ValueError:
        raise Wrong(f"{text!r} is no day") from None


OPERATIONS: dict[tuple[str, str], Callable[[PilotOffice, ET.Element], Node | None]] = {
    ("jobs", "PlanJob"): PilotOffice.plan,
    ("jobs", "GetJob"): PilotOffice.get,
    ("jobs", "ListJobs"): PilotOffice.list_jobs,
    ("jobs", "AssignTugs"): PilotOffice.assign,
    ("jobs", "CancelJob"): PilotOffice.cancel,
    ("jobs", "ReportPosition"): PilotOffice.position,
    ("watch", "ListPilots"): PilotOffice.pilots,
    ("watch", "RosterPilot"): PilotOffice.roster,
    ("watch", "TideGate"): PilotOffice.gate,
    ("watch", "QuoteFee"): PilotOffice.quote,
}
