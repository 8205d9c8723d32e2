"""A SOAP service whose operations need one another in a circle: a watch needs a pilot, and what assigns a pilot needs
a watch. Only the lists lead in.
"""

from __future__ import annotations

import re
from typing import Any, ClassVar

from faulty.tugs import OURS, Fault, Sent, Tugs, member, text, whole

_PILOT, _WATCH = text(3, 8, r"P-\d{1,6}"), text(3, 8, r"W-\d{1,6}")
_SHAPES = {
    "OpenWatch": ((("pilotId", "PilotId"), ("hours", "Hours")), (("watchId", "WatchId"),)),
    "AssignPilot": ((("watchId", "WatchId"),), (("pilotId", "PilotId"),)),
    "RelievePilot": ((("watchId", "WatchId"), ("pilotId", "PilotId")), (("pilotId", "PilotId"),)),
    "ListPilots": ((), (("pilotId", "PilotId*"),)),
    "GetWatch": (
        (("watchId", "WatchId"),),
        (("watchId", "WatchId"), ("pilotId", "PilotId"), ("hours", "Hours")),
    ),
    "ListWatches": ((), (("watchId", "WatchId*"),)),
    "DeleteWatch": ((("watchId", "WatchId"),), ()),
    "CloseWatch": ((("watchId", "WatchId"),), ()),
}


def _element(name: str, members: tuple[tuple[str, str], ...]) -> str:
    rows = "".join(
        f'<x:element name="{one}" type="t:{kind.rstrip("*")}"'
        + (' minOccurs="0" maxOccurs="unbounded"/>' if kind.endswith("*") else "/>")
        for one, kind in members
    )
    return (
        f'<x:element name="{name}"><x:complexType><x:sequence>{rows}</x:sequence></x:complexType></x:element>'
    )


class Watches(Tugs):
    """Watches of pilots."""

    operations: ClassVar[dict[str, str]] = {
        name: re.sub(r"(?<!^)([A-Z])", r"_\1", name).lower() for name in _SHAPES
    }

    def __init__(self) -> None:
        super().__init__()
        self.pilots = ["P-1", "P-2", "P-3"]
        self.watches: dict[str, dict[str, Any]] = {}

    def kept(self) -> Any:
        return self.pilots, self.watches

    def definition(self) -> str:
        """The WSDL, made from the shapes."""
        limits = {"PilotId": r"P-\d{1,6}", "WatchId": r"W-\d{1,6}"}
        types = "".join(
            f'<x:simpleType name="{name}"><x:restriction base="x:string"><x:minLength value="3"/><x:maxLength'
            f' value="8"/><x:pattern value="{pattern}"/></x:restriction></x:simpleType>'
            for name, pattern in limits.items()
        )
        types += (
            '<x:simpleType name="Hours"><x:restriction base="x:int"><x:minInclusive value="1"/><x:maxInclusive'
            ' value="12"/></x:restriction></x:simpleType>'
        )
        types += "".join(
            _element(name, sent) + _element(f"{name}Answer", told) for name, (sent, told) in _SHAPES.items()
        )
        types += _element("NotThere", (("key", "Key"),)).replace("t:Key", "x:string")
        messages = '<message name="NotThere"><part name="p" element="t:NotThere"/></message>' + "".join(
            f'<message name="{name}In"><part name="p" element="t:{name}"/></message><message name="{name}Out">'
            f'<part name="p" element="t:{name}Answer"/></message>'
            for name in _SHAPES
        )
        port = "".join(
            f'<operation name="{name}"><input message="t:{name}In"/><output message="t:{name}Out"/>'
            '<fault name="NotThere" message="t:NotThere"/></operation>'
            for name in _SHAPES
        )
        bound = "".join(
            f'<operation name="{name}"><s:operation soapAction="{OURS}/{name}"/><input><s:body use="literal"/>'
            '</input><output><s:body use="literal"/></output><fault name="NotThere"><s:fault name="NotThere"'
            ' use="literal"/></fault></operation>'
            for name in _SHAPES
        )
        return (
            '<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:s="http://schemas.xmlsoap.org/wsdl/soap/"'
            f' xmlns:x="http://www.w3.org/2001/XMLSchema" xmlns:t="{OURS}" targetNamespace="{OURS}" name="watches">'
            f'<types><x:schema targetNamespace="{OURS}" elementFormDefault="qualified">{types}</x:schema></types>'
            f'{messages}<portType name="P">{port}</portType><binding name="B" type="t:P"><s:binding'
            f' style="document" transport="http://schemas.xmlsoap.org/soap/http"/>{bound}</binding><service'
            ' name="Watches"><port name="W" binding="t:B"><s:address location="http://127.0.0.1/watches"/></port>'
            "</service></definitions>"
        )

    def _pilot(self, key: str) -> str:
        if key not in self.pilots:
            raise Fault("NotThere", "there is no such pilot", ("key", key))
        return key

    def _watch(self, sent: Sent) -> dict[str, Any]:
        key = sent.take("watchId", _WATCH)
        if key not in self.watches:
            raise Fault("NotThere", "there is no such watch", ("key", key))
        return self.watches[key]

    def open_watch(self, sent: Sent) -> str:
        pilot, hours = self._pilot(sent.take("pilotId", _PILOT)), sent.take("hours", whole(1, 12))
        sent.end()
        key = self.new("W")
        self.watches[key] = {"watchId": key, "pilotId": pilot, "hours": int(hours)}
        return member("watchId", key)

    def assign_pilot(self, sent: Sent) -> str:
        watch = self._watch(sent)
        sent.end()
        return member("pilotId", watch["pilotId"])

    def relieve_pilot(self, sent: Sent) -> str:
        watch, pilot = self._watch(sent), self._pilot(sent.take("pilotId", _PILOT))
        sent.end()
        watch["pilotId"] = pilot
        return member("pilotId", pilot)

    def list_pilots(self, sent: Sent) -> str:
        sent.end()
        return "".join(member("pilotId", one) for one in self.pilots)

    def get_watch(self, sent: Sent) -> str:
        watch = self._watch(sent)
        sent.end()
        return "".join(member(name, value) for name, value in watch.items())

    def list_watches(self, sent: Sent) -> str:
        sent.end()
        return "".join(member("watchId", one) for one in self.watches)

    def close_watch(self, sent: Sent) -> str:
        watch = self._watch(sent)
        sent.end()
        watch["hours"] = 1
        return ""

    def delete_watch(self, sent: Sent) -> str:
        watch = self._watch(sent)
        sent.end()
        del self.watches[watch["watchId"]]
        return ""
