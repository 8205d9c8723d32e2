"""The registry's older face, OData V2: JSON as it was then, and Atom."""

from __future__ import annotations

import json
import re
from datetime import UTC, datetime
from importlib import resources
from typing import Any
from urllib.parse import quote, unquote
from xml.sax.saxutils import escape

from juxtalogos.demo.registry import Face
from juxtalogos.demo.registry_batch import Answer, batch, not_allowed
from juxtalogos.demo.registry_store import (
    KEYS,
    SINGLE,
    TYPES,
    WAYS,
    Refused,
    Row,
    as_number,
    fits,
    ordered,
    read_literal,
)

PREFIX = "/registry/v2"
SPACE = "Merrow.Registry"
SETS = ("Owners", "Vessels", "Certificates")
WAYS_V2 = {"Owners": ("Vessels",), "Vessels": ("Owner",), "Certificates": ("Vessel",)}
LEFT_OUT = ("Condition", "Detained", "PullTonnes")
D = "http://schemas.microsoft.com/ado/2007/08/dataservices"


class RegistryV2(Face):
    """The V2 face."""

    prefix = PREFIX

    def refusal(self, refused: Refused, path: str) -> Answer:
        message = {"lang": "en", "value": refused.message}
        return self.json(
            {"error": {"code": refused.code, "message": message}}, refused.status, **refused.headers
        )

    def check_request(
        self, method: str, path: str, options: dict[str, str], headers: Any, body: bytes
    ) -> None:
        plain = str(headers.get("Content-Type", "")).partition(";")[0].strip().lower()
        if method in ("POST", "PUT", "MERGE", "PATCH"):
            if not body:
                raise Refused(400, "Missing", "there is no body")
            if plain not in ("application/json", "application/atom+xml", "multipart/mixed"):
                raise Refused(415, "Media", "the registry takes JSON and Atom")
        if options.get("$format", "json") not in ("json", "atom"):
            raise Refused(406, "Format", "the registry speaks JSON and Atom")
        if options.get("$inlinecount", "none") not in ("none", "allpages"):
            raise Refused(400, "Malformed", "$inlinecount is none or allpages")

    def json(self, value: Any, status: int = 200, **headers: str) -> Answer:
        return (
            status,
            "application/json",
            json.dumps(value).encode(),
            {"DataServiceVersion": "2.0", **headers},
        )

    def dispatch(self, method: str, path: str, options: dict[str, str], headers: Any, body: bytes) -> Answer:
        if path == "$metadata":
            return (
                200,
                "application/xml",
                resources.files("juxtalogos.demo").joinpath("registry-v2.edmx").read_bytes(),
                {"DataServiceVersion": "2.0"},
            )
        if path == "":
            return self.json({"d": {"EntitySets": list(SETS)}})
        if path == "$batch" and method == "POST":
            return batch(self, PREFIX, headers, body, 202, {"DataServiceVersion": "2.0"})
        if path == "Fee" and method == "GET":
            length = read_literal(options.get("Length", ""))
            if isinstance(length, bool) or not isinstance(length, int | float) or abs(length) >= 10_000:
                raise Refused(400, "Malformed", "Length is no number of at most six digits")
            fee = length * 3.25
            return self.json({"d": {"Fee": f"{fee:.2f}"}})
        found = re.fullmatch(r"(\w+)(?:\(([^/]*)\))?(?:/(.*))?", path)
        if not found or found[1] not in SETS:
            raise Refused(404, "NoSuchPath", "there is nothing of that name")
        name, key, rest = found[1], found[2], unquote(found[3] or "")
        atom = options.get("$format") == "atom" or "atom" in headers.get("Accept", "application/json")
        if key is None:
            return self.collection(name, method, rest, options, body, headers, atom)
        return self.item(name, read_literal(unquote(key)), method, rest, options, body, headers, atom)

    def collection(
        self,
        name: str,
        method: str,
        rest: str,
        options: dict[str, str],
        body: bytes,
        headers: Any,
        atom: bool,
    ) -> Answer:
        rows = list(self.store.rows[name].values())
        if rest == "$count" and method != "GET":
            raise not_allowed("GET")
        if rest == "$count":
            return 200, "text/plain", str(len(rows)).encode(), {"DataServiceVersion": "2.0"}
        if rest:
            raise Refused(404, "NoSuchPath", "there is nothing of that name")
        if method == "POST":
            given = self.read(body, name)
            if name == "Vessels":
                given.setdefault("Condition", "Sound")
            row = self.store.create(
                name, {key: value for key, value in given.items() if key != KEYS[name] or name == "Owners"}
            )
            self.keep_moments(row, body)
            return self.entity(name, row, {}, 201, atom="atom" in headers.get("Content-Type", ""))
        if method != "GET":
            raise not_allowed("GET, POST")
        return self.listed(name, rows, options, atom)

    def listed(self, name: str, rows: list[Row], options: dict[str, str], atom: bool) -> Answer:
        if "$filter" in options:
            rows = [row for row in rows if fits(options["$filter"], row)]
        if "$orderby" in options:
            rows = ordered(rows, options["$orderby"])
        count = len(rows)
        rows = rows[as_number(options.get("$skip", "0"), "$skip") :]
        if "$top" in options:
            rows = rows[: as_number(options["$top"], "$top")]
        counted = options.get("$inlinecount") == "allpages" and not (
            "tally" in self.odd and name == "Vessels"
        )
        if atom:
            entries = "".join(self.entry(name, row, options) for row in rows)
            counting = f"<m:count>{count}</m:count>" if counted else ""
            updated = (
                ""
                if "undated" in self.odd and name == "Owners"
                else "<updated>2026-11-01T00:00:00Z</updated>"
            )
            text = (
                f"<feed {_SPACES}>{counting}<id>{self.root}{name}</id><title"
                f' type="text">{name}</title>{updated}{entries}</feed>'
            )
            return (
                200,
                "application/atom+xml;type=feed;charset=utf-8",
                text.encode(),
                {"DataServiceVersion": "2.0"},
            )
        value: Row = {"results": [self.shown(name, row, options) for row in rows]}
        if counted:
            value["__count"] = str(count)
        return self.json({"d": value})

    def fields(self, name: str, row: Row) -> dict[str, str]:
        return {
            field: kind for field, kind in self.store.fields(TYPES[name], {}).items() if field not in LEFT_OUT
        }

    def shown(self, name: str, row: Row, options: dict[str, str], *, single: bool = False) -> Row:
        chosen = options["$select"].split(",") if "$select" in options else list(self.fields(name, row))
        uri = f"{self.root}{name}({self.literal(name, row)})"
        shown: Row = {"__metadata": {"uri": uri, "type": f"{SPACE}.{TYPES[name]}"}}
        for field, kind in self.fields(name, row).items():
            if field in chosen:
                odd = single and not (kind == "day" and name != "Owners")
                kept = None if odd and "almanac" in self.odd else row.get(f"~{field}")
                shown[field] = kept or self.value(self.whole_moment(row, field), kind, odd=odd)
        for way in WAYS_V2[name]:
            if way in options.get("$expand", "").split(","):
                rows = [
                    self.shown(WAYS[name][way][0], line, {})
                    for line in self.store.along(name, row[KEYS[name]], way)
                ]
                shown[way] = (rows[0] if rows else None) if way in SINGLE else {"results": rows}
            elif "$select" not in options:
                shown[way] = {"__deferred": {"uri": f"{uri}/{way}"}}
        return shown

    def value(self, value: Any, kind: str, *, odd: bool = False) -> Any:
        if value is None:
            return None
        if kind == "measures":
            plain = "ballast" in self.odd and odd
            numbers = {key: item if plain or item is None else f"{item:.2f}" for key, item in value.items()}
            return {"__metadata": {"type": f"{SPACE}.Measures"}, **numbers}
        if kind in ("day", "moment"):
            if kind == "day" and "almanac" in self.odd and odd:
                return value if "T" in str(value) else f"{value}T00:00:00"
            moment = datetime.fromisoformat(str(value).replace("Z", "+00:00"))
            return f"/Date({int(moment.replace(tzinfo=moment.tzinfo or UTC).timestamp() * 1000)})/"
        return str(value) if kind == "long" else value

    @staticmethod
    def literal(name: str, row: Row) -> str:
        key = row[KEYS[name]]
        return (
            f"'{quote(key)}'" if isinstance(key, str) else f"{key}L" if name == "Certificates" else str(key)
        )

    def entity(
        self, name: str, row: Row, options: dict[str, str], status: int = 200, *, atom: bool = False
    ) -> Answer:
        where = {"Location": f"{self.root}{name}({self.literal(name, row)})"} if status == 201 else {}
        if atom:
            text = self.entry(name, row, options, spaces=f" {_SPACES}")
            return (
                status,
                "application/atom+xml;type=entry;charset=utf-8",
                text.encode(),
                {"DataServiceVersion": "2.0", **where},
            )
        return self.json({"d": self.shown(name, row, options, single=status == 200)}, status, **where)

    def item(
        self,
        name: str,
        key: Any,
        method: str,
        rest: str,
        options: dict[str, str],
        body: bytes,
        headers: Any,
        atom: bool,
    ) -> Answer:
        row = self.store.one(name, key)
        if rest == "" and method == "GET":
            return self.entity(name, row, options, atom=atom)
        if rest == "" and method in ("MERGE", "PATCH", "PUT"):
            given = self.read(body, name)
            if name == "Vessels":
                given.setdefault("Condition", row["Condition"])
            self.keep_moments(self.store.change(name, key, given, whole=method == "PUT"), body)
            return 204, "", b"", {"DataServiceVersion": "2.0"}
        if rest == "" and method == "DELETE":
            self.store.delete(name, key)
            return 204, "", b"", {"DataServiceVersion": "2.0"}
        links = rest.startswith("$links/")
        first, _, last = rest.removeprefix("$links/").partition("/")
        if first in WAYS_V2[name]:
            return self.related(name, key, first, links, method, options, body, atom)
        kind = self.fields(name, row).get(first)
        if kind is None or method != "GET":
            raise Refused(404, "NoSuchPath", f"a {TYPES[name].lower()} has no {first}")
        value = row.get(first)
        if last == "$value":
            if value is None:
                raise Refused(404, "Null", f"{first} is null")
            return 200, "text/plain", str(value).encode(), {"DataServiceVersion": "2.0"}
        return self.json({"d": {first: self.value(value, kind)}})

    def related(
        self,
        name: str,
        key: Any,
        way: str,
        links: bool,
        method: str,
        options: dict[str, str],
        body: bytes,
        atom: bool,
    ) -> Answer:
        target, there, here = WAYS[name][way]
        rows = self.store.along(name, key, way)
        if links:
            if method in ("POST", "PUT"):
                found = re.search(rf"{target}\((.*)\)$", str(self.read_object(body).get("uri")))
                if not found:
                    raise Refused(400, "NoSuch", "that names nothing that is registered")
                other = self.store.one(target, read_literal(unquote(found[1])))
                own = self.store.one(name, key)
                if way in SINGLE:
                    own[here] = other[there]
                else:
                    other[there] = own[here]
                return 204, "", b"", {"DataServiceVersion": "2.0"}
            if method != "GET":
                raise not_allowed("GET, POST, PUT")
            uris = [{"uri": f"{self.root}{target}({self.literal(target, row)})"} for row in rows]
            return self.json({"d": uris[0] if way in SINGLE else {"results": uris}})
        if method == "POST" and way not in SINGLE:
            given = {**self.read(body, target), there: self.store.one(name, key)[here]}
            given.setdefault("Condition", "Sound")
            row = self.store.create(
                target, {field: value for field, value in given.items() if field != KEYS[target]}
            )
            self.keep_moments(row, body)
            return self.entity(target, row, {}, 201)
        if method != "GET":
            raise not_allowed("GET" if way in SINGLE else "GET, POST")
        if way in SINGLE:
            return self.json({"d": self.shown(target, rows[0], options)}) if rows else (204, "", b"", {})
        return self.listed(target, rows, options, atom)

    def read(self, body: bytes, name: str) -> Row:
        value = self.read_object(body)
        fields = self.store.fields(TYPES[name], {})
        ways = {way for way in WAYS_V2[name] if value.get(way) == []}
        return {
            field: self.stored(item, fields.get(field, ""))
            for field, item in value.items()
            if not field.startswith("__") and field not in ways
        }

    @staticmethod
    def keep_moments(row: Row, body: bytes) -> None:
        """The time of day of what the store keeps as a day only."""
        for field, value in json.loads(body).items():
            if isinstance(value, str) and value.startswith("/Date("):
                row[f"~{field}"] = value

    @staticmethod
    def stored(value: Any, kind: str) -> Any:
        found = re.fullmatch(r"/Date\((-?\d+)\)/", value) if isinstance(value, str) else None
        if found:
            try:
                moment = datetime.fromtimestamp(int(found[1]) / 1000, UTC)
            except (ValueError, OverflowError, OSError):
                raise Refused(400, "NoMoment", f"{value} is no moment that can be kept") from None
            return moment.strftime("%Y-%m-%d" if kind == "day" else "%Y-%m-%dT%H:%M:%SZ")
        if kind == "measures" and isinstance(value, dict):
            numbers = {key: item for key, item in value.items() if not key.startswith("__")}
            if not all(
                item is None or (isinstance(item, str) and re.fullmatch(r"-?\d{1,20}(\.\d{1,20})?", item))
                for item in numbers.values()
            ):
                raise Refused(400, "Malformed", "a decimal is written as a text (JSON format of V2)")
            return {key: None if item is None else float(item) for key, item in numbers.items()}
        return int(value) if kind == "long" and isinstance(value, str) and value.isdigit() else value

    # Atom.

    def entry(self, name: str, row: Row, options: dict[str, str], spaces: str = "") -> str:
        uri = f"{self.root}{name}({self.literal(name, row)})"
        chosen = options["$select"].split(",") if "$select" in options else list(self.fields(name, row))
        inner = "".join(
            self.element(field, self.whole_moment(row, field), kind)
            for field, kind in self.fields(name, row).items()
            if field in chosen
        )
        links = "".join(
            f'<link rel="{D}/related/{way}"'
            f' type="application/atom+xml;type={"entry" if way in SINGLE else "feed"}" title="{way}"'
            f' href="{name}({self.literal(name, row)})/{way}"/>'
            for way in WAYS_V2[name]
        )
        return (
            f"<entry{spaces}><id>{escape(uri)}</id><title"
            ' type="text"></title><updated>2026-11-01T00:00:00Z</updated><author><name/></author><category'
            f' term="{SPACE}.{TYPES[name]}" scheme="{D}/scheme"/>{links}<content'
            f' type="application/xml"><m:properties>{inner}</m:properties></content></entry>'
        )

    @staticmethod
    def whole_moment(row: Row, field: str) -> Any:
        """What the store has of it, or the moment with its time of day."""
        found = re.fullmatch(r"/Date\((-?\d+)\)/", str(row.get(f"~{field}")))
        return (
            datetime.fromtimestamp(int(found[1]) / 1000, UTC).strftime("%Y-%m-%dT%H:%M:%S")
            if found
            else row.get(field)
        )

    def element(self, field: str, value: Any, kind: str) -> str:
        types = {
            "whole": "Edm.Int32",
            "long": "Edm.Int64",
            "day": "Edm.DateTime",
            "moment": "Edm.DateTime",
            "measures": f"{SPACE}.Measures",
        }
        told = f' m:type="{types[kind]}"' if kind in types else ""
        if value is None:
            return f'<d:{field}{told} m:null="true"/>'
        if kind == "measures":
            inner = "".join(
                f'<d:{key} m:type="Edm.Decimal"'
                + (">" + f"{item:.2f}</d:{key}>" if item is not None else ' m:null="true"/>')
                for key, item in value.items()
            )
            return f"<d:{field}{told}>{inner}</d:{field}>"
        text = (
            f"{value}T00:00:00"
            if kind == "day" and "T" not in str(value)
            else str(value).rstrip("Z")
            if kind == "moment"
            else str(value)
        )
        return f"<d:{field}{told}>{escape(text)}</d:{field}>"


_SPACES = f'xmlns="http://www.w3.org/2005/Atom" xmlns:d="{D}" xmlns:m="{D}/metadata"'
