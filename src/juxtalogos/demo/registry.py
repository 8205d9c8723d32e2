"""The registry service, OData V4: entities, navigation, containment, media, an action,
functions and batches.
"""

from __future__ import annotations

import json
import re
from importlib import resources
from typing import Any
from urllib.parse import quote, unquote

from juxtalogos.demo.registry_batch import Answer, batch, not_allowed
from juxtalogos.demo.registry_store import (
    FIELDS,
    KEYS,
    SINGLE,
    TYPES,
    WAYS,
    Refused,
    Row,
    Store,
    as_number,
    fits,
    ordered,
    read_literal,
)
from juxtalogos.demo.strict import Wrong
from juxtalogos.demo.strict_odata import check_options, check_row

PREFIX = "/registry/v4"
SPACE = "Merrow.Registry"
JSON = "application/json;odata.metadata=minimal"


class Face:
    """A face of the store: what is asked is answered under a lock. `odd` names the planted deviations that
    are on.
    """

    prefix = ""

    def __init__(self, store: Store, odd: frozenset[str]) -> None:
        self.store = store
        self.odd = odd
        self.root = ""

    def answer(self, method: str, path: str, query: str, headers: Any, body: bytes, host: str) -> Answer:
        self.root = f"http://{host}{self.prefix}/"
        options = {
            unquote(name): unquote(text)
            for name, _, text in (part.partition("=") for part in query.split("&") if part)
        }
        try:
            self.check_request(method, path, options, headers, body)
            with self.store.lock:
                return self.dispatch(
                    method, path.removeprefix(self.prefix).strip("/"), options, headers, body
                )
        except Refused as refused:
            return self.refusal(refused, path)

    def check_request(
        self, method: str, path: str, options: dict[str, str], headers: Any, body: bytes
    ) -> None:
        """Refused where the message is not as the protocol has it, whatever it asks for."""

    def dispatch(self, method: str, path: str, options: dict[str, str], headers: Any, body: bytes) -> Answer:
        raise NotImplementedError

    def refusal(self, refused: Refused, path: str) -> Answer:
        raise NotImplementedError

    def read_object(self, body: bytes) -> Row:
        try:
            value = json.loads(body)
        except ValueError:
            raise Refused(400, "NotJson", "the body cannot be parsed") from None
        if not isinstance(value, dict):
            raise Refused(400, "NotAnObject", "the body is no object")
        return value


class RegistryV4(Face):
    """The V4 face."""

    prefix = PREFIX

    def refusal(self, refused: Refused, path: str) -> Answer:
        error = {"code": refused.code, "message": refused.message}
        if "knots" in self.odd and refused.status == 404 and path.startswith(f"{PREFIX}/Vessels("):
            del error["code"]
        return self.json({"error": error}, refused.status, **refused.headers)

    def check_request(
        self, method: str, path: str, options: dict[str, str], headers: Any, body: bytes
    ) -> None:
        try:
            check_options(options)
        except Wrong as wrong:
            raise Refused(wrong.status, "Malformed", wrong.what) from None
        plain = str(headers.get("Content-Type", "")).partition(";")[0].strip().lower()
        media = path.endswith(("/Plans", "/$value", "/$batch"))
        if method in ("POST", "PATCH", "PUT") and not media and plain != "application/json":
            raise Refused(415, "Media", "the registry takes JSON")
        if method in ("POST", "PUT") and media and not body:
            raise Refused(400, "Missing", "there is no body")

    def json(self, value: Any, status: int = 200, **headers: str) -> Answer:
        named = {name.replace("_", "-"): text for name, text in headers.items()}
        return status, JSON, json.dumps(value, ensure_ascii=False).encode(), {"OData-Version": "4.0", **named}

    def empty(self, status: int = 204, **headers: str) -> Answer:
        return (
            status,
            "",
            b"",
            {"OData-Version": "4.0", **{name.replace("_", "-"): text for name, text in headers.items()}},
        )

    def dispatch(self, method: str, path: str, options: dict[str, str], headers: Any, body: bytes) -> Answer:
        if path == "$metadata":
            return (
                200,
                "application/xml",
                resources.files("juxtalogos.demo").joinpath("registry.edmx").read_bytes(),
                {"OData-Version": "4.0"},
            )
        if path == "":
            listed = [{"name": name, "kind": "EntitySet", "url": name} for name in KEYS]
            return self.json({"@odata.context": f"{self.root}$metadata", "value": listed})
        if path == "$batch" and method == "POST":
            return self.batch(headers, body)
        fee = re.fullmatch(r"Fee\(Length=([\d.]+)\)", unquote(path))
        if fee and method == "GET":
            return self.json(
                {
                    "@odata.context": f"{self.root}$metadata#Edm.Decimal",
                    "value": round(float(fee[1]) * 3.25, 2),
                }
            )
        found = re.fullmatch(r"(\w+)(?:\(([^/]*)\))?(?:/(.*))?", path)
        if not found or found[1] not in KEYS:
            raise Refused(404, "NoSuchPath", "there is nothing of that name")
        name, key, rest = found[1], found[2], unquote(found[3] or "")
        if key is None:
            return self.collection(name, method, rest, options, body, headers)
        return self.item(name, read_literal(unquote(key)), method, rest, options, body, headers)

    # Collections.

    def collection(
        self, name: str, method: str, rest: str, options: dict[str, str], body: bytes, headers: Any
    ) -> Answer:
        rows = list(self.store.rows[name].values())
        if rest == "" and method == "GET":
            return self.listed(name, rows, options)
        if rest == "$count" and method == "GET":
            count = len(
                [row for row in rows if fits(options["$filter"], row)] if "$filter" in options else rows
            )
            return 200, "text/plain", str(count).encode(), {"OData-Version": "4.0"}
        if rest == "" and method == "POST":
            return self.create(name, body, headers)
        expiring = re.fullmatch(rf"{re.escape(SPACE)}\.Expiring\(Days=(\d+)\)", rest)
        if expiring and name == "Certificates" and method == "GET":
            return self.json(
                {
                    "@odata.context": f"{self.root}$metadata#{name}",
                    "value": [self.shown(name, row, {}) for row in rows],
                }
            )
        raise (
            not_allowed("GET, POST")
            if rest in ("", "$count")
            else Refused(404, "NoSuchPath", "there is nothing of that name")
        )

    def listed(self, name: str, rows: list[Row], options: dict[str, str]) -> Answer:
        odd = self.odd
        if options.get("$format", "json") != "json":
            raise Refused(406, "Format", "the registry speaks JSON")
        if "$search" in options:
            rows = [row for row in rows if options["$search"].lower() in json.dumps(row).lower()]
        ignored = {
            ("sieve", "Vessels"): "$filter",
            ("drift", "Certificates"): "$orderby",
            ("haul", "Inspections"): "$top",
        }
        without = {option for (planted, place), option in ignored.items() if planted in odd and place == name}
        rows, count = self.picked(
            rows, {option: text for option, text in options.items() if option not in without}
        )
        value: Row = {"@odata.context": f"{self.root}$metadata#{name}{self.columns(options)}"}
        if options.get("$count") == "true":
            value["@odata.count"] = 1 if "muster" in odd and name == "Owners" else count
        value["value"] = [self.shown(name, row, options) for row in rows]
        if name == "Vessels" and "rust" in odd:
            for one in value["value"]:
                if "Condition" in one:
                    one["Condition"] = "Sunken"
        if name == "Certificates" and "longhand" in odd:
            for one in value["value"]:
                if "Kind" in one:
                    one["Kind"] = f"certificate of {one['Kind']}, issued at Merrow"
        return self.json(value)

    @staticmethod
    def columns(options: dict[str, str]) -> str:
        return f"({options['$select']})" if "$select" in options else ""

    @staticmethod
    def picked(rows: list[Row], options: dict[str, str]) -> tuple[list[Row], int]:
        """Filtered, sorted and cut; with the number of all that fit."""
        if "$filter" in options:
            rows = [row for row in rows if fits(options["$filter"], row)]
        if "$orderby" in options:
            rows = ordered(rows, options["$orderby"])
        count = len(rows)
        rows = rows[as_number(options.get("$skip", "0"), "$skip") :]
        return (rows[: as_number(options["$top"], "$top")] if "$top" in options else rows), count

    def shown(self, name: str, row: Row, options: dict[str, str], *, single: bool = False) -> Row:
        fields = self.store.fields(name, row)
        chosen = (
            [one.strip() for one in options["$select"].split(",")] if "$select" in options else list(fields)
        )
        shown: Row = {}
        if row.get("@"):
            shown["@odata.type"] = f"#{SPACE}.{row['@']}"
        if name == "Inspections":
            shown["@odata.etag"] = self.tag(row)
        shown.update({field: row.get(field) for field in fields if field in chosen})
        for way in filter(None, options.get("$expand", "").split(",")):
            way = way.partition("(")[0].strip()
            if not ("inline" in self.odd and single and name == "Inspections"):
                shown[way] = self.inline(name, row, way)
        return shown

    def inline(self, name: str, row: Row, way: str) -> Any:
        if name == "Inspections" and way == "Deficiencies":
            return list(row["Deficiencies"].values())
        if way not in WAYS[name]:
            raise Refused(400, "NoProperty", f"nothing leads to {way}")
        rows = [
            self.shown(WAYS[name][way][0], line, {}) for line in self.store.along(name, row[KEYS[name]], way)
        ]
        return (rows[0] if rows else None) if way in SINGLE else rows

    @staticmethod
    def tag(row: Row) -> str:
        return f'W/"{row.get("~", 1)}"'

    def entity(
        self, name: str, row: Row, options: dict[str, str], status: int = 200, **headers: str
    ) -> Answer:
        value = {
            "@odata.context": f"{self.root}$metadata#{name}{self.columns(options)}/$entity",
            **self.shown(name, row, options, single=True),
        }
        if "bearing" in self.odd and name == "Plans" and status == 200:
            del value["@odata.context"]
        if "ensign" in self.odd and name == "Owners" and status == 200:
            value["Ensign"] = "blue"
        if "decks" in self.odd and name == "Vessels" and status == 200 and value.get("Measures"):
            value["Measures"] = {**value["Measures"], "Length": str(value["Measures"]["Length"])}
        if name == "Inspections":
            headers["ETag"] = self.tag(row)
        return self.json(value, status, **headers)

    def create(self, name: str, body: bytes, headers: Any) -> Answer:
        if name == "Plans":
            row = self.store.create(name, {"Title": "untitled"})
            self.store.streams[row["PlanId"]] = headers.get("Content-Type", "application/octet-stream"), body
        else:
            row = self.store.create(name, self.read(body))
        where = f"{self.root}{name}({self.literal(row[KEYS[name]], name)})"
        if "mooring" in self.odd and name == "Owners":
            return self.entity(name, row, {}, 201)
        return self.entity(name, row, {}, 201, Location=where)

    @staticmethod
    def literal(key: Any, name: str) -> str:
        return f"'{quote(key)}'" if isinstance(key, str) and name == "Owners" else str(key)

    def read(self, body: bytes) -> Row:
        value = self.read_object(body)
        kind = str(value.pop("@odata.type", "")).rpartition(".")[2]
        return {**value, **({"@": kind} if kind in FIELDS and kind not in TYPES.values() else {})}

    # Items.

    def item(
        self, name: str, key: Any, method: str, rest: str, options: dict[str, str], body: bytes, headers: Any
    ) -> Answer:
        row = self.store.one(name, key)
        if rest == "":
            return self.whole(name, key, row, method, options, body, headers)
        if name == "Plans" and rest == "$value":
            return self.stream(key, method, body, headers)
        if rest == f"{SPACE}.Detain" and method == "POST" and name == "Vessels":
            given = self.read(body)
            if given.get("Reason") is None:
                raise Refused(400, "Missing", "Reason is required")
            self.checked("Detain", given)
            row["Detained"] = True
            return self.entity(name, row, {}, 200)
        first, _, last = rest.partition("/")
        if name == "Inspections" and first.partition("(")[0] == "Deficiencies":
            return self.contained(row, rest, method, options, body)
        if first in WAYS[name]:
            return self.related(name, key, first, last, method, options, body)
        if first in self.store.fields(name, row) and method == "GET":
            value = row.get(first)
            if value is None:
                return self.empty()
            if last == "$value":
                return (
                    200,
                    "text/plain",
                    (value if isinstance(value, str) else json.dumps(value)).encode(),
                    {"OData-Version": "4.0"},
                )
            if isinstance(value, dict):
                return self.json({"@odata.context": f"{self.root}$metadata#{name}({key})/{first}", **value})
            return self.json(
                {"@odata.context": f"{self.root}$metadata#{name}({key})/{first}", "value": value}
            )
        raise Refused(404, "NoSuchPath", f"a {TYPES[name].lower()} has no {first}")

    def whole(
        self, name: str, key: Any, row: Row, method: str, options: dict[str, str], body: bytes, headers: Any
    ) -> Answer:
        if method == "GET":
            return self.entity(name, row, options)
        if name == "Inspections" and method in ("PATCH", "PUT", "DELETE"):
            given = headers.get("If-Match")
            if given is None:
                raise Refused(428, "PreconditionRequired", "give the entity tag in If-Match")
            if given not in ("*", self.tag(row)):
                raise Refused(412, "Changed", "the inspection was changed meanwhile")
        if method in ("PATCH", "PUT") and name != "Certificates":
            given_row = self.read(body)
            given_row.pop("@", None)
            if "amnesia" in self.odd and name == "Inspections":
                given_row["Minutes"] = row["Minutes"]
            self.store.change(name, key, given_row, whole=method == "PUT")
            return self.empty()
        if method == "DELETE":
            self.store.delete(name, key)
            return self.empty(200 if "scuttle" in self.odd and name == "Certificates" else 204)
        raise not_allowed("GET, DELETE" if name == "Certificates" else "GET, PATCH, PUT, DELETE")

    def stream(self, key: Any, method: str, body: bytes, headers: Any) -> Answer:
        if method not in ("GET", "PUT"):
            raise not_allowed("GET, PUT")
        if method == "PUT":
            self.store.streams[key] = headers.get("Content-Type", "application/octet-stream"), body
            return self.empty()
        kind, data = self.store.streams.get(key, ("", b""))
        return (200, kind, data, {"OData-Version": "4.0"}) if data else self.empty()

    def related(
        self, name: str, key: Any, way: str, last: str, method: str, options: dict[str, str], body: bytes
    ) -> Answer:
        target, there, here = WAYS[name][way]
        rows = self.store.along(name, key, way)
        if last == "$ref":
            return self.references(name, key, way, rows, method, body)
        if method == "POST" and last == "" and way not in SINGLE:
            given = {**self.read(body), there: self.store.one(name, key)[here]}
            return self.create(target, json.dumps(given).encode(), {})
        if method != "GET" or last:
            raise not_allowed("GET" if way in SINGLE else "GET, POST")
        if way in SINGLE:
            return self.entity_plain(target, rows[0], options) if rows else self.empty()
        return self.listed(target, rows, options)

    def entity_plain(self, name: str, row: Row, options: dict[str, str]) -> Answer:
        value = {
            "@odata.context": f"{self.root}$metadata#{name}{self.columns(options)}/$entity",
            **self.shown(name, row, options),
        }
        return self.json(value)

    def references(self, name: str, key: Any, way: str, rows: list[Row], method: str, body: bytes) -> Answer:
        target, there, here = WAYS[name][way]
        links = [{"@odata.id": f"{target}({self.literal(row[KEYS[target]], target)})"} for row in rows]
        if method == "GET" and way in SINGLE:
            return (
                self.json({"@odata.context": f"{self.root}$metadata#$ref", **links[0]})
                if links
                else self.empty()
            )
        if method == "GET":
            return self.json({"@odata.context": f"{self.root}$metadata#Collection($ref)", "value": links})
        if method in ("POST", "PUT"):
            found = re.search(rf"{target}\((.*)\)$", str(self.read(body).get("@odata.id")))
            other = self.store.one(target, read_literal(unquote(found[1]))) if found else None
            if other is None:
                raise Refused(400, "NoSuch", "that names nothing that is registered")
            own = self.store.one(name, key)
            if way in SINGLE:
                own[here] = other[there]
            else:
                other[there] = own[here]
            return self.empty()
        raise not_allowed("GET, POST, PUT")

    def contained(self, row: Row, rest: str, method: str, options: dict[str, str], body: bytes) -> Answer:
        found = re.fullmatch(r"Deficiencies(?:\((-?\d+)\))?(?:/(.*))?", rest)
        if found is None:
            raise Refused(404, "NoSuchPath", "there is nothing of that name")
        lines: dict[int, Row] = row["Deficiencies"]
        base = f"{self.root}$metadata#Inspections({row['InspectionId']})/Deficiencies"
        if found[1] is None:
            if method == "GET" and found[2] is None:
                found_lines, count = self.picked(list(lines.values()), options)
                counted = {"@odata.count": count} if options.get("$count") == "true" else {}
                shown = [self.line(one, options) for one in found_lines]
                return self.json({"@odata.context": base + self.columns(options), **counted, "value": shown})
            given = self.read(body)
            self.checked("Deficiency", given, "Line", "Text")
            lines[given["Line"]] = {
                "Line": given["Line"],
                "Text": given["Text"],
                "Mended": given.get("Mended"),
            }
            where = f"{self.root}Inspections({row['InspectionId']})/Deficiencies({given['Line']})"
            return self.json(
                {"@odata.context": f"{base}/$entity", **lines[given["Line"]]}, 201, Location=where
            )
        number = int(found[1])
        if number not in lines:
            raise Refused(404, "NotFound", f"there is no deficiency {number}")
        if method == "DELETE":
            del lines[number]
            return self.empty()
        if method in ("PATCH", "PUT"):
            given = {field: value for field, value in self.read(body).items() if field != "Line"}
            self.checked("Deficiency", given, *(("Text",) if method == "PUT" else ()))
            lines[number].update(given)
            return self.empty()
        if found[2]:
            field, _, last = found[2].partition("/")
            value = lines[number].get(field)
            if value is None:
                return self.empty()
            if last == "$value":
                return (
                    200,
                    "text/plain",
                    (value if isinstance(value, str) else json.dumps(value)).encode(),
                    {"OData-Version": "4.0"},
                )
            return self.json({"@odata.context": f"{base}({number})/{field}", "value": value})
        return self.json(
            {"@odata.context": f"{base}{self.columns(options)}/$entity", **self.line(lines[number], options)}
        )

    def checked(self, kind: str, given: Row, *needed: str) -> None:
        for name in needed:
            if given.get(name) is None:
                raise Refused(400, "Missing", f"{name} is required")
        try:
            check_row(kind, given)
        except Wrong as wrong:
            raise Refused(400, "Malformed", wrong.what) from None

    @staticmethod
    def line(row: Row, options: dict[str, str]) -> Row:
        chosen = options["$select"].split(",") if "$select" in options else list(row)
        return {field: value for field, value in row.items() if field in chosen}

    # Batches.

    def batch(self, headers: Any, body: bytes) -> Answer:
        return batch(self, PREFIX, headers, body, 200, {"OData-Version": "4.0"})
