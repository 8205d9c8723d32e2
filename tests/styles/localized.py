"""An OData service (V4, JSON) as business systems write them: texts in several languages, drafts that are activated,
actions and functions with parameters.
"""

from __future__ import annotations

import json
import re
import threading
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from http.client import responses
from http.server import BaseHTTPRequestHandler
from typing import Any, ClassVar
from urllib.parse import parse_qsl, unquote

from odata_help import edmx
from styles.logbook import listening

_PLAIN = 'Type="Edm.String" MaxLength="60"'
METADATA = edmx(
    f"""
<EntityType Name="Quays"><Key><PropertyRef Name="ID"/></Key>
 <Property Name="ID" Type="Edm.Guid" Nullable="false"/>
 <Property Name="name" {_PLAIN} Nullable="false"/>
 <Property Name="depth" Type="Edm.Int32"/>
 <NavigationProperty Name="texts" Type="Collection(N.Quays_texts)" ContainsTarget="false"/>
 <NavigationProperty Name="localized" Type="N.Quays_texts">
  <ReferentialConstraint Property="ID" ReferencedProperty="ID"/></NavigationProperty>
</EntityType>
<EntityType Name="Quays_texts"><Key><PropertyRef Name="locale"/><PropertyRef Name="ID"/></Key>
 <Property Name="locale" Type="Edm.String" MaxLength="14" Nullable="false"/>
 <Property Name="ID" Type="Edm.Guid" Nullable="false"/>
 <Property Name="name" {_PLAIN}/>
</EntityType>
<EntityType Name="Voyages"><Key><PropertyRef Name="ID"/><PropertyRef Name="IsActiveEntity"/></Key>
 <Property Name="ID" Type="Edm.Guid" Nullable="false"/>
 <Property Name="IsActiveEntity" Type="Edm.Boolean" Nullable="false" DefaultValue="true"/>
 <Property Name="title" {_PLAIN}/>
 <Property Name="quay_ID" Type="Edm.Guid"/>
 <NavigationProperty Name="quay" Type="N.Quays">
  <ReferentialConstraint Property="quay_ID" ReferencedProperty="ID"/></NavigationProperty>
 <NavigationProperty Name="SiblingEntity" Type="N.Voyages"/>
</EntityType>
<Action Name="draftActivate" IsBound="true"><Parameter Name="in" Type="N.Voyages"/>
 <ReturnType Type="N.Voyages"/></Action>
<Action Name="draftEdit" IsBound="true"><Parameter Name="in" Type="N.Voyages"/>
 <Parameter Name="PreserveChanges" Type="Edm.Boolean"/><ReturnType Type="N.Voyages"/></Action>
<Action Name="moor" IsBound="true"><Parameter Name="in" Type="N.Quays"/>
 <Parameter Name="ship" {_PLAIN} Nullable="false"/><Parameter Name="minutes" Type="Edm.Int32" Nullable="false"/>
 <ReturnType Type="Edm.Int32"/></Action>
<Action Name="estimate"><Parameter Name="quay" Type="Edm.Guid" Nullable="false"/><ReturnType Type="Edm.Int32"/></Action>
<Function Name="tideAt"><Parameter Name="hour" Type="Edm.Int32" Nullable="false"/>
 <ReturnType Type="Edm.Int32"/></Function>
<Function Name="free" IsBound="true"><Parameter Name="in" Type="N.Quays"/><ReturnType Type="Edm.Boolean"/></Function>
""",
    """
<EntitySet Name="Quays" EntityType="N.Quays"><NavigationPropertyBinding Path="texts" Target="Quays_texts"/>
 <NavigationPropertyBinding Path="localized" Target="Quays_texts"/></EntitySet>
<EntitySet Name="Quays_texts" EntityType="N.Quays_texts"/>
<EntitySet Name="Voyages" EntityType="N.Voyages"><NavigationPropertyBinding Path="quay" Target="Quays"/>
 <NavigationPropertyBinding Path="SiblingEntity" Target="Voyages"/></EntitySet>
<ActionImport Name="estimate" Action="N.estimate"/>
<FunctionImport Name="tideAt" Function="N.tideAt"/>
""",
)
SETS = {"Quays": ("ID",), "Quays_texts": ("locale", "ID"), "Voyages": ("ID", "IsActiveEntity")}
KEY = "0f4e0c6e-6f0f-4c0e-9a51-1d6f6a1b7c11"


def held() -> dict[str, list[dict[str, Any]]]:
    """What is there before anybody comes."""
    return {
        "Quays": [{"ID": KEY, "name": "North", "depth": 7}],
        "Quays_texts": [{"locale": "de", "ID": KEY, "name": "Nord"}],
        "Voyages": [{"ID": KEY, "IsActiveEntity": True, "title": "To the skerries", "quay_ID": KEY}],
    }


class Refused(Exception):
    """A refusal with its status."""


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    rows: ClassVar[dict[str, list[dict[str, Any]]]]
    lock: ClassVar[threading.Lock]
    seen: ClassVar[list[tuple[str, str, int]]]
    foreign: ClassVar[bool]
    """Whether an activated draft is shown under the key of a voyage that was there before."""

    def _answer(self) -> None:
        data = self.rfile.read(int(self.headers.get("Content-Length", 0)))
        path, _, query = self.path.partition("?")
        try:
            if path == "/$batch":
                return self.batch(data)
            with self.lock:
                given = json.loads(data) if data else {}
                status, value = self.dispatch(unquote(path).strip("/"), dict(parse_qsl(query)), given)
        except Refused as refused:
            status, value = (
                refused.args[0],
                {"error": {"code": str(refused.args[0]), "message": refused.args[1]}},
            )
        except (ValueError, KeyError, AttributeError) as error:
            status, value = 400, {"error": {"code": "400", "message": f"not understood: {error}"}}
        self.seen.append((self.command, path, status))
        plain = path.endswith(("/$value", "/$count"))
        text = value if isinstance(value, str) else json.dumps(value)
        body = b"" if value is None else (text if plain else json.dumps(value)).encode()
        self.send_response(status)
        self.send_header("OData-Version", "4.0")
        if status == 201 and isinstance(value, dict):
            self.send_header("Location", self.address(path, value))
        if body:
            kind = "text/plain" if plain and status < 400 else "application/json;odata.metadata=minimal"
            self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def batch(self, data: bytes) -> None:
        """Each request of a batch by itself (OData 4.0 part 1, 11.7): parts of MIME, no change sets."""
        found = re.search(r"multipart/mixed;\s*boundary=\"?([^\";]+)", self.headers.get("Content-Type", ""))
        if found is None:
            raise Refused(415, "a batch is multipart/mixed")
        told = []
        for part in data.split(f"--{found[1]}".encode())[1:-1]:
            line = re.search(rb"^(\w+) (\S+) HTTP/1\.1\r\n", part, re.MULTILINE)
            if line is None:
                raise Refused(400, "a part holds no request")
            _, _, body = part[line.end() :].partition(b"\r\n\r\n")
            path, _, query = line[2].decode().rpartition(self.headers["Host"])[2].partition("?")
            try:
                with self.lock:
                    self.command = line[1].decode()
                    given = json.loads(body) if body.strip() else {}
                    status, value = self.dispatch(unquote(path).strip("/"), dict(parse_qsl(query)), given)
            except Refused as refused:
                status, value = refused.args[0], {"error": {"code": "1", "message": refused.args[1]}}
            text = "" if value is None else json.dumps(value)
            told.append(
                "Content-Type: application/http\r\nContent-Transfer-Encoding: binary\r\n\r\n"
                f"HTTP/1.1 {status} {responses[status]}\r\nOData-Version: 4.0\r\n"
                + ("Content-Type: application/json;odata.metadata=minimal\r\n" if text else "")
                + f"Content-Length: {len(text.encode())}\r\n\r\n{text}"
            )
        whole = "".join(f"--quay\r\n{one}\r\n" for one in told) + "--quay--\r\n"
        self.send_response(200)
        self.send_header("OData-Version", "4.0")
        self.send_header("Content-Type", "multipart/mixed; boundary=quay")
        self.send_header("Content-Length", str(len(whole.encode())))
        self.end_headers()
        self.wfile.write(whole.encode())

    do_GET = do_POST = do_PATCH = do_PUT = do_DELETE = _answer

    def log_message(self, *words: Any) -> None:
        pass

    def address(self, path: str, row: dict[str, Any]) -> str:
        """Where an entity stands."""
        name = "Quays_texts" if path.endswith("texts") else "Voyages" if "Voyages" in path else "Quays"
        words = {True: "true", False: "false"}
        quote = {"locale": "'"}
        parts = [
            f"{part}={quote.get(part, '')}{words.get(row[part], row[part])}{quote.get(part, '')}"
            for part in SETS[name]
        ]
        key = ",".join(parts) if len(parts) > 1 else parts[0].partition("=")[2]
        return f"http://{self.headers['Host']}/{name}({key})"

    def dispatch(self, path: str, options: dict[str, str], given: Any) -> tuple[int, Any]:
        if not path:
            return 200, {
                "@odata.context": "$metadata",
                "value": [{"name": name, "url": name} for name in SETS],
            }
        if (hour := re.fullmatch(r"tideAt\(hour=(-?\d+)\)", path)) is not None:
            if not 0 <= int(hour[1]) < 24:
                raise Refused(400, "hour must be between 0 and 23")
            return 200, {"@odata.context": "$metadata#Edm.Int32", "value": 3}
        if path == "estimate":
            self.row("Quays", {"ID": given["quay"]})
            return 200, {"@odata.context": "$metadata#Edm.Int32", "value": 40}
        found = re.fullmatch(r"(\w+)(?:\(([^)]*)\))?(?:/(.+))?", path)
        if found is None or found[1] not in SETS:
            raise Refused(404, f"there is no {path}")
        name, key, rest = found.groups()
        if key is None:
            return self.collection(name, options, given) if not rest else self.counted(name, rest)
        return self.item(name, self.key_of(name, key), rest or "", given)

    def counted(self, name: str, rest: str) -> tuple[int, Any]:
        if rest != "$count":
            raise Refused(404, f"there is no {rest}")
        return 200, len(self.rows[name])

    @staticmethod
    def key_of(name: str, text: str) -> dict[str, Any]:
        names = SETS[name]
        if "=" not in text:
            if len(names) > 1:
                raise Refused(400, "all parts of the key are needed")
            return {names[0]: text.strip("'")}
        pairs = dict(part.strip().split("=", 1) for part in text.split(","))
        return {
            one: pairs[one] == "true" if one == "IsActiveEntity" else pairs[one].strip("'") for one in names
        }

    def row(self, name: str, key: dict[str, Any]) -> dict[str, Any]:
        for one in self.rows[name]:
            if all(one[part] == value for part, value in key.items()):
                return one
        raise Refused(404, f"there is no {name} {key}")

    def collection(self, name: str, options: dict[str, str], given: Any) -> tuple[int, Any]:
        if self.command == "GET":
            start, most = int(options.get("$skip", 0)), int(options.get("$top", 10**6))
            shown = self.rows[name][start : start + most]
            return 200, {"@odata.context": f"$metadata#{name}", "value": shown}
        made = {"ID": str(uuid.uuid4()), **given}
        if name == "Voyages":
            made["IsActiveEntity"] = False
        for part in SETS[name]:
            if made.get(part) is None:
                raise Refused(400, f"value of '{part}' is missing")
        if name == "Quays_texts":
            self.row("Quays", {"ID": made["ID"]})
            if not re.fullmatch(r"[a-z]{2}(_[A-Z]{2})?", made["locale"]):
                raise Refused(400, f"'{made['locale']}' is no language, such as de or en_GB")
        made.pop("texts", None)
        if any(all(one[part] == made[part] for part in SETS[name]) for one in self.rows[name]):
            raise Refused(400, "an entity with this key exists already")
        self.rows[name].append(made)
        return 201, self.shown(name, made)

    def shown(self, name: str, row: dict[str, Any]) -> dict[str, Any]:
        known = {key: value for key, value in row.items() if not isinstance(value, dict | list)}
        return {"@odata.context": f"$metadata#{name}/$entity", **known}

    def item(self, name: str, key: dict[str, Any], rest: str, given: Any) -> tuple[int, Any]:
        row = self.row(name, key)
        if rest:
            return self.related(name, row, rest, given)
        if self.command == "GET":
            return 200, self.shown(name, row)
        if self.command == "DELETE":
            self.rows[name].remove(row)
            if name == "Quays":
                self.rows["Quays_texts"] = [one for one in self.rows["Quays_texts"] if one["ID"] != key["ID"]]
            return 204, None
        if name == "Voyages" and row["IsActiveEntity"]:
            raise Refused(400, "an active voyage is changed by a draft of it only")
        row.update({part: value for part, value in given.items() if part not in SETS[name]})
        return 200, self.shown(name, row)

    def related(self, name: str, row: dict[str, Any], rest: str, given: Any) -> tuple[int, Any]:
        texts = [one for one in self.rows["Quays_texts"] if one["ID"] == row["ID"]]
        last = rest.rpartition(".")[2].removesuffix("()")
        if rest.removesuffix("/$value") in row:
            value = row[rest.removesuffix("/$value")]
            if rest.endswith("/$value"):
                return 200, value
            context = f"$metadata#{name}({row['ID']})/{rest}"
            return 200, {"@odata.context": context, "value": value}
        if rest.endswith("/$ref"):
            return self.reference(name, row, rest.removesuffix("/$ref"), given)
        if name == "Quays" and rest == "texts":
            if self.command == "POST":
                return self.collection("Quays_texts", {}, {**given, "ID": row["ID"]})
            return 200, {"@odata.context": "$metadata#Quays_texts", "value": texts}
        if name == "Quays" and rest == "localized":
            return (200, self.shown("Quays_texts", texts[0])) if texts else (204, None)
        if name == "Quays" and last in ("moor", "free"):
            if last == "moor" and given["minutes"] < 1:
                raise Refused(400, "minutes must be at least 1")
            kind = "Edm.Int32" if last == "moor" else "Edm.Boolean"
            return 200, {"@odata.context": f"$metadata#{kind}", "value": 1 if last == "moor" else True}
        if name == "Voyages" and rest == "quay":
            return 200, self.shown("Quays", self.row("Quays", {"ID": row.get("quay_ID")}))
        if name == "Voyages" and rest == "SiblingEntity":
            other = {"ID": row["ID"], "IsActiveEntity": not row["IsActiveEntity"]}
            return 200, self.shown("Voyages", self.row("Voyages", other))
        if name == "Voyages" and last == "draftActivate":
            if row["IsActiveEntity"]:
                raise Refused(409, "it is no draft")
            self.rows[name] = [
                one for one in self.rows[name] if one["ID"] != row["ID"] or not one["IsActiveEntity"]
            ]
            row["IsActiveEntity"] = True
            if self.foreign:
                return 200, self.shown("Voyages", {**row, "ID": KEY})
            return 200, self.shown("Voyages", row)
        if name == "Voyages" and last == "draftEdit":
            if not row["IsActiveEntity"]:
                raise Refused(409, "it is a draft already")
            if any(one["ID"] == row["ID"] and not one["IsActiveEntity"] for one in self.rows[name]):
                raise Refused(409, "a draft of it exists already")
            self.rows[name].append({**row, "IsActiveEntity": False})
            return 201, self.shown("Voyages", self.rows[name][-1])
        raise Refused(404, f"there is no {rest}")

    def reference(self, name: str, row: dict[str, Any], way: str, given: Any) -> tuple[int, Any]:
        """References are kept for the quay of a voyage only; texts and siblings follow from keys."""
        if self.command == "GET":
            status, value = self.related(name, row, way, given)
            many = isinstance(value, dict) and isinstance(value.get("value"), list)
            entry = {"@odata.id": f"{name}({row['ID']})/{way}"}
            if value is None or status == 204:
                return 204, None
            context = "$metadata#Collection($ref)" if many else "$metadata#$ref"
            return 200, {
                "@odata.context": context,
                **({"value": [entry] * len(value["value"])} if many else entry),
            }
        if way == "quay":
            found = (
                re.search(r"Quays\(([^)]+)\)", given.get("@odata.id", ""))
                if self.command != "DELETE"
                else None
            )
            if self.command != "DELETE" and found is None:
                raise Refused(400, "no quay is named")
            row["quay_ID"] = self.row("Quays", {"ID": found[1]})["ID"] if found else None
        return 204, None


@contextmanager
def serving(*, foreign: bool = False) -> Iterator[tuple[str, type[_Handler]]]:
    """(base URL, handler) of a fresh service."""
    of_its_own = {"rows": held(), "lock": threading.Lock(), "seen": [], "foreign": foreign}
    handler = type("Localized", (_Handler,), of_its_own)
    with listening(handler) as url:
        yield url, handler
