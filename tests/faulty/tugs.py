"""A SOAP service that does all that its definition (tugs.wsdl) says: the source that `mutator.py` changes."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any, ClassVar
from xml.etree import ElementTree
from xml.sax.saxutils import escape

from styles.rest import Route, Service

SOAP, OURS = "http://schemas.xmlsoap.org/soap/envelope/", "urn:merrow:tugs"
Item = dict[str, Any]
KINDS = ("harbour", "escort", "sea")


class Fault(Exception):
    """A declared fault with its detail, or one of the protocol."""

    def __init__(self, name: str, reason: str, *members: tuple[str, object], code: str = "Client") -> None:
        super().__init__(reason)
        self.name, self.reason, self.members, self.code = name, reason, members, code


class Sent:
    """The children of a request's element, taken in the declared order."""

    def __init__(self, element: ElementTree.Element) -> None:
        self.children = list(element)
        if element.attrib or (element.text or "").strip():
            raise Fault("", "there is something that does not belong there")

    def take(self, name: str, fits: Any, *, required: bool = True, most: int = 1) -> Any:
        found = []
        while self.children and self.children[0].tag == f"{{{OURS}}}{name}" and len(found) < most:
            child = self.children.pop(0)
            if len(child) or child.attrib or not fits(child.text or ""):
                raise Fault("", f"{name} is not as it should be")
            found.append(child.text or "")
        if required and not found:
            raise Fault("", f"{name} is missing")
        return found if most > 1 else found[0] if found else None

    def end(self) -> None:
        if self.children:
            raise Fault("", f"{self.children[0].tag} does not belong there")


def text(least: int, most: int, pattern: str = "") -> Any:
    def fits(value: str) -> bool:
        return least <= len(value) <= most and (not pattern or bool(re.fullmatch(pattern, value)))

    return fits


def whole(least: int, most: int) -> Any:
    def fits(value: str) -> bool:
        return bool(re.fullmatch(r"\s*[+-]?\d{1,9}\s*", value)) and least <= int(value) <= most

    return fits


def one_of(*choices: str) -> Any:
    def fits(value: str) -> bool:
        return value in choices

    return fits


def truth(value: str) -> bool:
    return value.strip() in ("true", "false", "1", "0")


TUG, JOB = text(4, 8, r"T-\d{2,6}"), text(4, 8, r"J-\d{2,6}")


class Tugs(Service):
    """Tugs, and the jobs that they are sent to."""

    operations: ClassVar[dict[str, str]] = {
        "RegisterTug": "register_tug",
        "GetTug": "get_tug",
        "FindTugs": "find_tugs",
        "ChangeTug": "change_tug",
        "ScrapTug": "scrap_tug",
        "BeginJob": "begin_job",
        "GetJob": "get_job",
        "ListJobs": "list_jobs",
        "EndJob": "end_job",
        "RemoveJob": "remove_job",
    }

    def __init__(self) -> None:
        super().__init__()
        self.tugs: dict[str, Item] = {}
        self.jobs: dict[str, Item] = {}
        for name, kind, power, pusher in (
            ("Bollard Belle", "harbour", 1800, True),
            ("Grey Heron", "escort", 4200, False),
            ("Long Haul", "sea", 6500, False),
        ):
            new = self.new("T")
            self.tugs[new] = {
                "tugId": new,
                "name": name,
                "kind": kind,
                "power": power,
                "pusher": pusher,
                "crew": ["master", "mate"],
                "remark": None,
            }

    def kept(self) -> Any:
        return self.tugs, self.jobs

    def routes(self) -> list[Route]:
        return []

    def new(self, letter: str) -> str:
        return f"{letter}-{self.number()}"

    def definition(self) -> str:
        return (Path(__file__).parent / "tugs.wsdl").read_text()

    # One function an operation: takes the request's children, gives the answer's.

    def register_tug(self, sent: Sent) -> str:
        taken = {
            "name": sent.take("name", text(3, 30)),
            "kind": sent.take("kind", one_of(*KINDS)),
            "power": int(sent.take("power", whole(100, 12000))),
            "pusher": as_truth(sent.take("pusher", truth, required=False) or "false"),
            "crew": sent.take("crew", text(2, 20), required=False, most=4),
            "remark": sent.take("remark", text(0, 120), required=False),
        }
        sent.end()
        if any(one["name"] == taken["name"] for one in self.tugs.values()):
            raise Fault("NameTaken", "another tug has the name", ("name", taken["name"]))
        new = self.new("T")
        self.tugs[new] = {"tugId": new, **taken}
        return member("tugId", new)

    def get_tug(self, sent: Sent) -> str:
        item = self.tug(sent.take("tugId", TUG))
        sent.end()
        return tug_told(item)

    def find_tugs(self, sent: Sent) -> str:
        kind = sent.take("kind", one_of(*KINDS), required=False)
        power = sent.take("minPower", whole(0, 12000), required=False)
        limit = sent.take("limit", whole(1, 50), required=False)
        sent.end()
        found = list(self.tugs.values())
        if kind is not None:
            found = [one for one in found if one["kind"] == kind]
        if power is not None:
            found = [one for one in found if one["power"] >= int(power)]
        total = len(found)
        if limit is not None:
            found = found[: int(limit)]
        return member("total", total) + "".join(map(tug_told, found))

    def change_tug(self, sent: Sent) -> str:
        item = self.tug(sent.take("tugId", TUG))
        name = sent.take("name", text(3, 30), required=False)
        power = sent.take("power", whole(100, 12000), required=False)
        remark = sent.take("remark", text(0, 120), required=False)
        sent.end()
        if name is not None:
            if any(one["name"] == name and one is not item for one in self.tugs.values()):
                raise Fault("NameTaken", "another tug has the name", ("name", name))
            item["name"] = name
        if power is not None:
            item["power"] = int(power)
        if remark is not None:
            item["remark"] = remark
        return tug_told(item)

    def scrap_tug(self, sent: Sent) -> str:
        item = self.tug(sent.take("tugId", TUG))
        sent.end()
        if any(one["tugId"] == item["tugId"] and one["state"] != "ended" for one in self.jobs.values()):
            raise Fault("TugBusy", "it has a job", ("tugId", item["tugId"]))
        del self.tugs[item["tugId"]]
        return ""

    def begin_job(self, sent: Sent) -> str:
        item = self.tug(sent.take("tugId", TUG))
        hours = int(sent.take("hours", whole(1, 72)))
        berth = sent.take("berth", text(2, 6, r"[A-Z]\d{1,5}"))
        sent.end()
        if any(one["tugId"] == item["tugId"] and one["state"] == "running" for one in self.jobs.values()):
            raise Fault("TugBusy", "it has a job", ("tugId", item["tugId"]))
        new = self.new("J")
        self.jobs[new] = {
            "jobId": new,
            "tugId": item["tugId"],
            "hours": hours,
            "berth": berth,
            "state": "running",
        }
        return member("jobId", new)

    def get_job(self, sent: Sent) -> str:
        item = self.job(sent.take("jobId", JOB))
        sent.end()
        return job_told(item)

    def list_jobs(self, sent: Sent) -> str:
        item = self.tug(sent.take("tugId", TUG))
        state = sent.take("state", one_of("running", "ended"), required=False)
        sent.end()
        found = [one for one in self.jobs.values() if one["tugId"] == item["tugId"]]
        if state is not None:
            found = [one for one in found if one["state"] == state]
        return "".join(map(job_told, found))

    def end_job(self, sent: Sent) -> str:
        item = self.job(sent.take("jobId", JOB))
        sent.end()
        if item["state"] == "ended":
            raise Fault("JobEnded", "it has ended", ("jobId", item["jobId"]))
        item["state"] = "ended"
        return job_told(item)

    def remove_job(self, sent: Sent) -> str:
        item = self.job(sent.take("jobId", JOB))
        sent.end()
        del self.jobs[item["jobId"]]
        return ""

    # What all share.

    def tug(self, key: str) -> Item:
        if key not in self.tugs:
            raise Fault("NoSuchTug", "there is no such tug", ("tugId", key))
        return self.tugs[key]

    def job(self, key: str) -> Item:
        if key not in self.jobs:
            raise Fault("NoSuchJob", "there is no such job", ("jobId", key))
        return self.jobs[key]

    def answer(self, method: str, target: str, headers: Any, data: bytes) -> tuple[int, Any, dict[str, str]]:
        kind = {"Content-Type": "text/xml; charset=utf-8"}
        if method != "POST":
            return 405, b"", {"Allow": "POST"}
        if not headers.get("Content-Type", "").startswith("text/xml"):
            return 415, b"", {}
        try:
            with self.lock:
                return 200, envelope(self.answered(data, headers)), kind
        except Fault as fault:
            return 500, fault_told(fault), kind
        except Exception as error:  # a fault of a changed source: as any server would tell it
            return 500, fault_told(Fault("", type(error).__name__, code="Server")), kind

    def answered(self, data: bytes, headers: Any) -> str:
        try:
            root = ElementTree.fromstring(data)
        except ElementTree.ParseError:
            raise Fault("", "the message is no XML") from None
        if root.tag.endswith("}Envelope") and root.tag != f"{{{SOAP}}}Envelope":
            raise Fault("", "another version of SOAP", code="VersionMismatch")
        body = root.find(f"{{{SOAP}}}Body")
        if body is None or len(body) != 1:
            raise Fault("", "the message has no body")
        for block in root.find(f"{{{SOAP}}}Header") or ():
            if block.get(f"{{{SOAP}}}mustUnderstand") == "1":
                raise Fault("", "a header block is not understood", code="MustUnderstand")
        name = body[0].tag.removeprefix(f"{{{OURS}}}")
        if name not in self.operations:
            raise Fault("", f"there is no operation {body[0].tag}")
        said = getattr(self, self.operations[name])(Sent(body[0]))
        return f"<{name}Answer xmlns='{OURS}'>{said}</{name}Answer>"


def as_truth(text: str) -> bool:
    return text.strip() in ("true", "1")


def member(name: str, value: object) -> str:
    told = str(value).lower() if isinstance(value, bool) else str(value)
    return f"<{name}>{escape(told)}</{name}>"


def tug_told(item: Item) -> str:
    parts = [member(name, item[name]) for name in ("tugId", "name", "kind", "power", "pusher")]
    parts += [member("crew", one) for one in item["crew"]]
    if item["remark"] is not None:
        parts.append(member("remark", item["remark"]))
    return f"<tug>{''.join(parts)}</tug>"


def job_told(item: Item) -> str:
    return f"<job>{''.join(member(name, item[name]) for name in ('jobId', 'tugId', 'hours', 'berth', 'state'))}</job>"


def envelope(body: str) -> bytes:
    return f"<s:Envelope xmlns:s='{SOAP}'><s:Body>{body}</s:Body></s:Envelope>".encode()


def fault_told(fault: Fault) -> bytes:
    members = "".join(member(name, value) for name, value in fault.members)
    detail = f"<detail><{fault.name} xmlns='{OURS}'>{members}</{fault.name}></detail>" if fault.name else ""
    return envelope(
        f"<s:Fault><faultcode>s:{fault.code}</faultcode><faultstring>{escape(fault.reason)}</faultstring>{detail}</s:Fault>"
    )
