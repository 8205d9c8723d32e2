"""A SOAP stand-in: gangs of linesmen stand in a list, shifts are added to a gang and removed again."""

from __future__ import annotations

from typing import Any
from xml.etree import ElementTree
from xml.sax.saxutils import escape

from styles.rest import Route, Service

SOAP, OURS = "http://schemas.xmlsoap.org/soap/envelope/", "urn:merrow:gangs"
_OPERATIONS = {
    "ListGangs": ((), "<x:element name='gang' minOccurs='0' maxOccurs='unbounded' type='t:Gang'/>", ()),
    "GetGang": (("gangId:x:string",), "<x:element name='gang' type='t:Gang'/>", ("NoSuchGang",)),
    "AddShift": (
        ("gangId:x:string", "hours:x:int", "remark:x:string?"),
        "<x:element name='shiftId' type='x:string'/>",
        ("NoSuchGang", "BadHours"),
    ),
    "GetShift": (("shiftId:x:string",), "<x:element name='hours' type='x:int'/>", ("NoSuchShift",)),
    "ListShifts": (
        ("gangId:x:string",),
        "<x:element name='shiftId' minOccurs='0' maxOccurs='unbounded' type='x:string'/>",
        ("NoSuchGang",),
    ),
    "RemoveShift": (("shiftId:x:string",), "<x:element name='removed' type='x:boolean'/>", ("NoSuchShift",)),
    "RemoveAllShifts": ((), "<x:element name='removed' type='x:int'/>", ()),
}


class Gangs(Service):
    """The operations, and a store."""

    def __init__(self) -> None:
        super().__init__()
        self.gangs = {"G-07": "Day gang", "G-12": "Night gang"}
        self.shifts: dict[str, tuple[str, int]] = {"S-1": ("G-07", 8)}

    def kept(self) -> Any:
        return self.gangs, self.shifts

    def routes(self) -> list[Route]:
        return []

    def definition(self) -> str:
        faults = sorted({fault for _, _, names in _OPERATIONS.values() for fault in names})
        elements, messages, ports, bound = [], [], [], []
        for name, (given, answer, refusals) in _OPERATIONS.items():
            fields = "".join(_field(one) for one in given)
            elements.append(
                "<x:element"
                f" name='{name}'><x:complexType><x:sequence>{fields}</x:sequence></x:complexType></x:element>"
            )
            elements.append(
                "<x:element"
                f" name='{name}Answer'><x:complexType><x:sequence>{answer}</x:sequence></x:complexType></x:element>"
            )
            messages.append(
                f"<message name='{name}In'><part name='p' element='t:{name}'/></message><message"
                f" name='{name}Out'><part name='p' element='t:{name}Answer'/></message>"
            )
            ports.append(
                f"<operation name='{name}'><input message='t:{name}In'/><output"
                f" message='t:{name}Out'/>{''.join(map(_fault, refusals))}</operation>"
            )
            told = "".join(
                f"<fault name='{one}'><s:fault name='{one}' use='literal'/></fault>" for one in refusals
            )
            bound.append(
                f"<operation name='{name}'><s:operation soapAction='{OURS}/{name}'/><input><s:body"
                f" use='literal'/></input><output><s:body use='literal'/></output>{told}</operation>"
            )
        for fault in faults:
            elements.append(f"<x:element name='{fault}' type='x:string'/>")
            messages.append(f"<message name='{fault}'><part name='p' element='t:{fault}'/></message>")
        return (
            "<definitions xmlns='http://schemas.xmlsoap.org/wsdl/'"
            " xmlns:s='http://schemas.xmlsoap.org/wsdl/soap/' xmlns:x='http://www.w3.org/2001/XMLSchema'"
            f" xmlns:t='{OURS}' targetNamespace='{OURS}' name='gangs'><types><x:schema"
            f" targetNamespace='{OURS}' elementFormDefault='qualified'><x:complexType"
            " name='Gang'><x:sequence><x:element name='gangId' type='x:string'/><x:element name='title'"
            f" type='x:string'/></x:sequence></x:complexType>{''.join(elements)}</x:schema></types>{''.join(messages)}<portType"
            f" name='GangsPort'>{''.join(ports)}</portType><binding name='GangsBinding'"
            " type='t:GangsPort'><s:binding style='document'"
            f" transport='http://schemas.xmlsoap.org/soap/http'/>{''.join(bound)}</binding><service"
            " name='Gangs'><port name='Gangs' binding='t:GangsBinding'><s:address"
            " location='http://127.0.0.1/gangs'/></port></service></definitions>"
        )

    def answer(self, method: str, target: str, headers: Any, data: bytes) -> tuple[int, Any, dict[str, str]]:
        kind = {"Content-Type": "text/xml; charset=utf-8"}
        try:
            asked = ElementTree.fromstring(data).find(f"{{{SOAP}}}Body")[0]  # type: ignore[index]
        except (ElementTree.ParseError, TypeError, IndexError):
            return 500, _fault_answer("Client", "no envelope", ""), kind
        name = asked.tag.rpartition("}")[2]
        given = {child.tag.rpartition("}")[2]: child.text or "" for child in asked}
        with self.lock:
            if self.deletes_fail and name.startswith("Remove"):
                return 500, _fault_answer("Server", "the store is being mended", ""), kind
            try:
                said = self.does(name, given)
            except LookupError as fault:
                word = str(fault.args[0])
                return (
                    500,
                    _fault_answer(
                        "Client",
                        f"{word}: {fault.args[1]}",
                        f"<{word} xmlns='{OURS}'>{escape(str(fault.args[1]))}</{word}>",
                    ),
                    kind,
                )
        return 200, _envelope(f"<{name}Answer xmlns='{OURS}'>{said}</{name}Answer>"), kind

    def does(self, name: str, given: dict[str, str]) -> str:
        gang, shift = given.get("gangId", ""), given.get("shiftId", "")
        if name in ("GetGang", "AddShift", "ListShifts") and gang not in self.gangs:
            raise LookupError("NoSuchGang", gang)
        if name in ("GetShift", "RemoveShift") and shift not in self.shifts:
            raise LookupError("NoSuchShift", shift)
        match name:
            case "ListGangs":
                return "".join(
                    f"<gang><gangId>{one}</gangId><title>{title}</title></gang>"
                    for one, title in self.gangs.items()
                )
            case "GetGang":
                return f"<gang><gangId>{gang}</gangId><title>{self.gangs[gang]}</title></gang>"
            case "AddShift":
                if not given["hours"].isdigit() or not 1 <= int(given["hours"]) <= 12:
                    raise LookupError("BadHours", "hours must lie between 1 and 12")
                new = f"S-{self.number()}"
                self.shifts[new] = (gang, int(given["hours"]))
                return f"<shiftId>{new}</shiftId>"
            case "GetShift":
                return f"<hours>{self.shifts[shift][1]}</hours>"
            case "ListShifts":
                return "".join(
                    f"<shiftId>{one}</shiftId>" for one, (of, _) in self.shifts.items() if of == gang
                )
            case "RemoveShift":
                del self.shifts[shift]
                return "<removed>true</removed>"
        count = len(self.shifts)
        self.shifts.clear()
        return f"<removed>{count}</removed>"


def _field(text: str) -> str:
    name, kind = text.rstrip("?").split(":", 1)
    return (
        f"<x:element name='{name}'"
        f" type='{kind}'{' minOccurs=' + chr(39) + '0' + chr(39) if text.endswith('?') else ''}/>"
    )


def _fault(name: str) -> str:
    return f"<fault name='{name}' message='t:{name}'/>"


def _envelope(body: str) -> bytes:
    return f"<s:Envelope xmlns:s='{SOAP}'><s:Body>{body}</s:Body></s:Envelope>".encode()


def _fault_answer(code: str, reason: str, detail: str) -> bytes:
    more = f"<detail>{detail}</detail>" if detail else ""
    return _envelope(
        f"<s:Fault><faultcode>s:{code}</faultcode><faultstring>{escape(reason)}</faultstring>{more}</s:Fault>"
    )
