"""Damage in transit, in each wire form: what protocol and metadata forbid is found at its place, what they
allow is no finding.
"""

from __future__ import annotations

import copy
import json
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import pytest

from juxtalogos.formats import wire_of
from juxtalogos.run.judging.judge import judge
from odata_help import BASE, JSON4, contract_of, edmx, exchange, judged, told

V4, V2 = "registry.edmx", "registry-v2.edmx"
TERN = {
    "@odata.context": f"{BASE}/$metadata#Vessels/$entity",
    "VesselId": 4,
    "Name": "Tern",
    "Built": "2009-04-01",
    "Condition": "Sound",
    "Measures": {"Length": 84.5, "Draught": None},
    "OwnerCode": "ASTER",
    "Detained": False,
}
SKUA = {**TERN, "@odata.type": "#Merrow.Registry.Tug", "VesselId": 5, "PullTonnes": 45}
LIST = {
    "@odata.context": f"{BASE}/$metadata#Vessels",
    "value": [{k: v for k, v in one.items() if k != "@odata.context"} for one in (TERN, SKUA)],
}
SINCE = "/Date(1773469800000)/"
OLD = {
    "__metadata": {"uri": f"{BASE}/Vessels(4)", "type": "Merrow.Registry.Vessel"},
    "VesselId": 4,
    "Name": "Tern",
    "Built": SINCE,
    "Measures": {"Length": "84.50", "Draught": None},
    "OwnerCode": "ASTER",
    "Owner": {"__deferred": {"uri": f"{BASE}/Vessels(4)/Owner"}},
}
OLD_LIST = {"d": {"results": [OLD, {**OLD, "VesselId": 5}]}}
Damage = Callable[[Any], Any]


def put(path: str, value: Any) -> Damage:
    """Puts a value at a path, or takes what is there away (`...`)."""

    def change(body: Any) -> Any:
        at = body
        *above, last = [int(step) if step.isdigit() else step for step in path.split("/")]
        for step in above:
            at = at[step]
        if value is ...:
            del at[last]
        else:
            at[last] = value
        return body

    return change


CASES: list[tuple[str, str, str, Any, Damage, set[tuple[str, str]]]] = [
    # what, metadata, path, sound body, damage, findings
    ("a type", V4, "/Vessels(4)", TERN, put("VesselId", "4"), {("body.type", "body/VesselId")}),
    (
        "a number too large",
        V4,
        "/Vessels(5)",
        SKUA,
        put("PullTonnes", 40_000),
        {("body.format", "body/PullTonnes")},
    ),
    ("null where it may not be", V4, "/Vessels(4)", TERN, put("Name", None), {("body.type", "body/Name")}),
    ("null where it may be", V4, "/Vessels(4)", TERN, put("Built", None), set()),
    ("MaxLength", V4, "/Vessels(4)", TERN, put("Name", "x" * 41), {("body.length", "body/Name")}),
    ("as long as may be", V4, "/Vessels(4)", TERN, put("Name", "x" * 40), set()),
    (
        "Scale",
        V4,
        "/Vessels(4)",
        TERN,
        put("Measures/Length", 84.505),
        {("body.format", "body/Measures/Length")},
    ),
    (
        "Precision",
        V4,
        "/Vessels(4)",
        TERN,
        put("Measures/Length", 12345.5),
        {("body.format", "body/Measures/Length")},
    ),
    ("the widest decimal", V4, "/Vessels(4)", TERN, put("Measures/Length", 9999.99), set()),
    (
        "a member of no enumeration",
        V4,
        "/Vessels(4)",
        TERN,
        put("Condition", "Sunk"),
        {("body.enum", "body/Condition")},
    ),
    (
        "a member's number, not its name",
        V4,
        "/Vessels(4)",
        TERN,
        put("Condition", 0),
        {("body.type", "body/Condition"), ("body.enum", "body/Condition")},
    ),
    (
        "a day that is none",
        V4,
        "/Vessels(4)",
        TERN,
        put("Built", "2009-02-30"),
        {("body.format", "body/Built")},
    ),
    ("no key", V4, "/Vessels(4)", TERN, put("VesselId", ...), {("body.required", "body/VesselId")}),
    ("another entity's key", V4, "/Vessels(4)", TERN, put("VesselId", 9), {("body.other", "body/VesselId")}),
    ("no property that is no key", V4, "/Vessels(4)", TERN, put("Built", ...), set()),
    ("an undeclared property", V4, "/Vessels(4)", TERN, put("Flag", "x"), {("body.extra", "body/Flag")}),
    ("an annotation", V4, "/Vessels(4)", TERN, put("Name@Merrow.Spelt", "x"), set()),
    ("control information of any kind", V4, "/Vessels(4)", TERN, put("@odata.etag", 'W/"1"'), set()),
    (
        "an entity tag that is no text",
        V4,
        "/Vessels(4)",
        TERN,
        put("@odata.etag", 1),
        {("body.type", "body/@odata.etag")},
    ),
    ("an advertised action", V4, "/Vessels(4)", TERN, put("#Merrow.Registry.Detain", {"target": "x"}), set()),
    (
        "no context",
        V4,
        "/Vessels(4)",
        TERN,
        put("@odata.context", ...),
        {("control.untrue", "body/@odata.context")},
    ),
    (
        "the context of a list",
        V4,
        "/Vessels(4)",
        TERN,
        put("@odata.context", f"{BASE}/$metadata#Vessels"),
        {("control.untrue", "body/@odata.context")},
    ),
    (
        "a derived type's property",
        V4,
        "/Vessels(4)",
        TERN,
        put("PullTonnes", 4),
        {("body.extra", "body/PullTonnes")},
    ),
    ("a derived type that is told", V4, "/Vessels(5)", SKUA, put("PullTonnes", 46), set()),
    (
        "a type as a whole URL",
        V4,
        "/Vessels(5)",
        SKUA,
        put("@odata.type", f"{BASE}/$metadata#Merrow.Registry.Tug"),
        set(),
    ),
    (
        "a type that is not there",
        V4,
        "/Vessels(5)",
        SKUA,
        put("@odata.type", "#Merrow.Registry.Barge"),
        {("body.enum", "body/@odata.type"), ("body.extra", "body/PullTonnes")},
    ),
    (
        "one entity for a list",
        V4,
        "/Vessels",
        LIST,
        lambda body: body["value"][0],
        {
            ("body.required", "body/value"),
            ("control.untrue", "body/@odata.context"),
            *{("body.extra", f"body/{name}") for name in TERN if name != "@odata.context"},
        },
    ),
    ("a list without its wrapper", V4, "/Vessels", LIST, lambda body: body["value"], {("body.type", "body")}),
    ("a link to the rest", V4, "/Vessels", LIST, put("@odata.nextLink", "Vessels?$skiptoken=2"), set()),
    (
        "a wrong value in a list",
        V4,
        "/Vessels",
        LIST,
        put("value/1/Name", 7),
        {("body.type", "body/value/1/Name")},
    ),
    (
        "what was not asked to be expanded",
        V4,
        "/Vessels(4)",
        TERN,
        put("Owner", {"Code": "ASTER", "Name": "Aster"}),
        set(),
    ),
    (
        "V2: a number for Int64",
        V2,
        "/Certificates(4L)",
        {"d": {"Number": "4", "Kind": "x", "Expires": SINCE, "VesselId": 4}},
        put("d/Number", 4),
        {("body.type", "body/d/Number")},
    ),
    (
        "V2: a decimal as a number",
        V2,
        "/Vessels(4)",
        {"d": OLD},
        put("d/Measures/Length", 84.5),
        {("body.type", "body/d/Measures/Length")},
    ),
    (
        "V2: digits",
        V2,
        "/Vessels(4)",
        {"d": OLD},
        put("d/Measures/Length", "84.505"),
        {("body.format", "body/d/Measures/Length")},
    ),
    (
        "V2: a decimal with its letter",
        V2,
        "/Vessels(4)",
        {"d": OLD},
        put("d/Measures/Length", "84.50M"),
        set(),
    ),
    (
        "V2: an ISO date",
        V2,
        "/Vessels(4)",
        {"d": OLD},
        put("d/Built", "2026-03-14T00:00:00"),
        {("body.format", "body/d/Built")},
    ),
    (
        "V2: without d",
        V2,
        "/Vessels(4)",
        {"d": OLD},
        lambda body: body["d"],
        {("body.required", "body/d"), *{("body.extra", f"body/{name}") for name in OLD}},
    ),
    (
        "V2: an undeclared property",
        V2,
        "/Vessels(4)",
        {"d": OLD},
        put("d/Flag", "x"),
        {("body.extra", "body/d/Flag")},
    ),
    (
        "V2: no key",
        V2,
        "/Vessels(4)",
        {"d": OLD},
        put("d/VesselId", ...),
        {("body.required", "body/d/VesselId")},
    ),
    ("V2: the bare list of V1", V2, "/Vessels", OLD_LIST, lambda body: {"d": body["d"]["results"]}, set()),
    ("V2: a count as it was not asked for", V2, "/Vessels", OLD_LIST, put("d/__count", "2"), set()),
    (
        "V2: a count that is none",
        V2,
        "/Vessels",
        OLD_LIST,
        put("d/__count", "two"),
        {("body.format", "body/d/__count")},
    ),
    (
        "V2: a wrong value in a list",
        V2,
        "/Vessels",
        OLD_LIST,
        put("d/results/1/Name", 7),
        {("body.type", "body/d/results/1/Name")},
    ),
    ("V2: control information", V2, "/Vessels(4)", {"d": OLD}, put("d/__metadata/etag", 'W/"1"'), set()),
    (
        "V2: control information that is no text",
        V2,
        "/Vessels(4)",
        {"d": OLD},
        put("d/__metadata/uri", 4),
        {("body.type", "body/d/__metadata/uri")},
    ),
]


@pytest.mark.parametrize(
    ("what", "source", "path", "sound", "damage", "findings"), CASES, ids=[row[0] for row in CASES]
)
def test_damage_to_json(
    what: str, source: str, path: str, sound: Any, damage: Damage, findings: set[tuple[str, str]]
) -> None:
    contract = contract_of(source)
    media = JSON4 if source == V4 else "application/json"
    headers = (("OData-Version", "4.0"),) if source == V4 else ()
    assert not told(contract, exchange("GET", path, 200, sound, media, headers=headers))
    damaged = damage(copy.deepcopy(sound))
    assert told(contract, exchange("GET", path, 200, damaged, media, headers=headers)) == findings
    broken = json.dumps(sound)[:-3]
    assert told(contract, exchange("GET", path, 200, broken, media, headers=headers)) == {
        ("media.untrue", "body")
    }


HEADS: list[tuple[str, Any, set[tuple[str, str]]]] = [
    # what, (method, path, status, body, media, sent, headers), findings
    (
        "no version",
        ("GET", "/Vessels(4)", 200, TERN, JSON4, None, ()),
        {("header.missing", "header.OData-Version")},
    ),
    (
        "a newer version",
        ("GET", "/Vessels(4)", 200, TERN, JSON4, None, (("OData-Version", "4.01"),)),
        {("header.malformed", "header.OData-Version")},
    ),
    (
        "another media type",
        ("GET", "/Vessels(4)", 200, "x", "text/html", None, (("OData-Version", "4.0"),)),
        {("media.undeclared", "header.Content-Type"), ("header.malformed?", "")},
    ),
    (
        "created, with its place",
        (
            "POST",
            "/Owners",
            201,
            {"@odata.context": f"{BASE}/$metadata#Owners/$entity", "Code": "A", "Name": "B"},
            JSON4,
            {},
            (("OData-Version", "4.0"), ("Location", "x")),
        ),
        set(),
    ),
    (
        "created, nobody knows where",
        (
            "POST",
            "/Owners",
            201,
            {"@odata.context": f"{BASE}/$metadata#Owners/$entity", "Code": "A", "Name": "B"},
            JSON4,
            {},
            (("OData-Version", "4.0"),),
        ),
        {("header.missing", "header.Location")},
    ),
    (
        "created, and 200",
        ("POST", "/Owners", 200, {"Code": "A", "Name": "B"}, JSON4, {}, (("OData-Version", "4.0"),)),
        {("status.undeclared", "status")},
    ),
    (
        "created in silence",
        ("POST", "/Owners", 204, None, "", {}, (("Location", "x"), ("OData-EntityId", "x"))),
        set(),
    ),
    (
        "created in silence, without an id",
        ("POST", "/Owners", 204, None, "", {}, (("Location", "x"),)),
        {("header.missing", "header.OData-EntityId")},
    ),
    ("changed", ("PATCH", "/Owners('A')", 204, None, "", {}, ()), set()),
    ("deleted", ("DELETE", "/Owners('A')", 204, None, "", None, ()), set()),
    (
        "deleted, and 200",
        ("DELETE", "/Owners('A')", 200, None, "", None, ()),
        {("status.undeclared", "status")},
    ),
    (
        "an error in its form",
        ("GET", "/Vessels(4)", 404, {"error": {"code": "x", "message": "y"}}, JSON4, None, ()),
        set(),
    ),
    (
        "an error in another form",
        ("GET", "/Vessels(4)", 404, {"fault": "y"}, JSON4, None, ()),
        {("body.required", "body/error"), ("body.extra", "body/fault")},
    ),
    (
        "an error of what stands before the service",
        ("GET", "/Vessels(4)", 403, "<html/>", "text/html", None, ()),
        {("body.other?", "body")},
    ),
    (
        "not implemented, and says so",
        ("GET", "/Vessels?$search=a", 501, {"error": {"code": "x", "message": "y"}}, JSON4, None, ()),
        {("status.server-error?", "status")},
    ),
    ("broken down", ("GET", "/Vessels", 500, None, "", None, ()), {("status.server-error", "status")}),
    (
        "a number",
        ("GET", "/Vessels/$count", 200, "17", "text/plain", None, (("OData-Version", "4.0"),)),
        set(),
    ),
    (
        "no number",
        ("GET", "/Vessels/$count", 200, "many", "text/plain", None, (("OData-Version", "4.0"),)),
        {("body.type", "body")},
    ),
    (
        "a raw value",
        ("GET", "/Vessels(4)/VesselId/$value", 200, "4", "text/plain", None, (("OData-Version", "4.0"),)),
        set(),
    ),
    (
        "a raw value of another type",
        ("GET", "/Vessels(4)/VesselId/$value", 200, "four", "text/plain", None, (("OData-Version", "4.0"),)),
        {("body.type", "body")},
    ),
    (
        "a property",
        (
            "GET",
            "/Vessels(4)/Name",
            200,
            {"@odata.context": "x", "value": "Tern"},
            JSON4,
            None,
            (("OData-Version", "4.0"),),
        ),
        set(),
    ),
    (
        "a property too long",
        (
            "GET",
            "/Vessels(4)/Name",
            200,
            {"@odata.context": "x", "value": "T" * 41},
            JSON4,
            None,
            (("OData-Version", "4.0"),),
        ),
        {("body.length", "body/value")},
    ),
    (
        "a function's value",
        (
            "GET",
            "/Fee(Length=4.5)",
            200,
            {"@odata.context": "x", "value": 4.125},
            JSON4,
            None,
            (("OData-Version", "4.0"),),
        ),
        {("body.format", "body/value")},
    ),
    (
        "a reference",
        (
            "GET",
            "/Vessels(4)/Owner/$ref",
            200,
            {"@odata.context": "x", "@odata.id": "Owners('A')"},
            JSON4,
            None,
            (("OData-Version", "4.0"),),
        ),
        set(),
    ),
    (
        "no reference",
        (
            "GET",
            "/Vessels(4)/Owner/$ref",
            200,
            {"@odata.context": "x", "Code": "A"},
            JSON4,
            None,
            (("OData-Version", "4.0"),),
        ),
        {("body.required", "body/@odata.id"), ("body.extra", "body/Code")},
    ),
    ("a stream", ("GET", "/Plans(3)/$value", 200, b"%PDF", "application/pdf", None, ()), set()),
]


@pytest.mark.parametrize(("what", "one", "findings"), HEADS, ids=[row[0] for row in HEADS])
def test_what_stands_before_the_body(what: str, one: Any, findings: set[tuple[str, str]]) -> None:
    method, path, status, body, media, sent, headers = one
    found = told(contract_of(V4), exchange(method, path, status, body, media, sent=sent, headers=headers))
    assert found == {pair for pair in findings if pair[1]}


def _entry(changed: str = "", **properties: str) -> str:
    values = {
        "VesselId": "4",
        "Name": "Tern",
        "Built": "2026-03-14T00:00:00",
        "OwnerCode": "ASTER",
        **properties,
    }
    inner = "".join(f"<d:{name}>{text}</d:{name}>" for name, text in values.items() if text != "...")
    text = (
        '<entry xmlns="http://www.w3.org/2005/Atom"'
        ' xmlns:d="http://schemas.microsoft.com/ado/2007/08/dataservices"'
        f' xmlns:m="http://schemas.microsoft.com/ado/2007/08/dataservices/metadata"><id>{BASE}/Vessels(4)</id><title/><updated>2026-11-01T00:00:00Z</updated><content'
        f' type="application/xml"><m:properties>{inner}<d:Measures><d:Length>84.5</d:Length><d:Draught'
        ' m:null="true"/></d:Measures></m:properties></content></entry>'
    )
    return text.replace(*changed.split("=>")) if changed else text


ATOM: list[tuple[str, str, set[tuple[str, str]]]] = [
    ("a type", _entry(VesselId="four"), {("body.type", "body/VesselId"), ("body.other", "body/VesselId")}),
    ("MaxLength", _entry(Name="x" * 41), {("body.length", "body/Name")}),
    ("a date of V2 JSON", _entry(Built=SINCE), {("body.format", "body/Built")}),
    ("no key", _entry(VesselId="..."), {("body.required", "body/VesselId")}),
    ("an undeclared property", _entry(Flag="x"), {("body.extra", "body/Flag")}),
    ("null where it may be", _entry('<d:Built>=><d:Built m:null="true">'), set()),
    ("null where it may not be", _entry('<d:Name>=><d:Name m:null="true">'), {("body.type", "body/Name")}),
    ("digits", _entry(">84.5<=>>84.505<"), {("body.format", "body/Measures/Length")}),
    ("no id", _entry(f"<id>{BASE}/Vessels(4)</id>=>"), {("control.untrue", "body")}),
    (
        "no moment of change",
        _entry("<updated>2026-11-01T00:00:00Z</updated>=>"),
        {("control.untrue", "body")},
    ),
    ("another element", "<other/>", {("body.other", "body")}),
    ("no XML", "<entry", {("media.untrue", "body")}),
    ("an extension of somebody's", _entry('<title/>=><title/><x:note xmlns:x="urn:x"/>'), set()),
]


@pytest.mark.parametrize(("what", "text", "findings"), ATOM, ids=[row[0] for row in ATOM])
def test_damage_to_atom(what: str, text: str, findings: set[tuple[str, str]]) -> None:
    contract = contract_of(V2)
    media = "application/atom+xml;type=entry;charset=utf-8"
    assert not told(contract, exchange("GET", "/Vessels(4)", 200, _entry(), media))
    assert told(contract, exchange("GET", "/Vessels(4)", 200, text, media)) == findings


def test_metadata_levels_and_numbers_as_texts() -> None:
    """none: types cannot be told apart and no context comes; full: more control information;
    IEEE754Compatible: large numbers are texts.
    """
    contract, version = contract_of(V4), (("OData-Version", "4.0"),)
    bare = {k: v for k, v in SKUA.items() if not k.startswith("@")}
    none = "application/json;odata.metadata=none"
    assert not told(contract, exchange("GET", "/Vessels(5)", 200, bare, none, headers=version))
    assert told(
        contract, exchange("GET", "/Vessels(5)", 200, {**bare, "Flag": 1}, none, headers=version)
    ) == {("body.extra", "body/Flag")}
    full = {
        **SKUA,
        "@odata.id": "Vessels(5)",
        "@odata.editLink": "Vessels(5)",
        "Condition@odata.type": "#Merrow.Registry.Condition",
        "Owner@odata.navigationLink": "Vessels(5)/Owner",
        "Owner@odata.associationLink": "Vessels(5)/Owner/$ref",
    }
    assert not told(
        contract,
        exchange("GET", "/Vessels(5)", 200, full, "application/json;odata.metadata=full", headers=version),
    )
    ieee = f"{JSON4};IEEE754Compatible=true"
    texts = {**TERN, "Measures": {"Length": "84.5", "Draught": None}}
    assert not told(contract, exchange("GET", "/Vessels(4)", 200, texts, ieee, headers=version))
    assert told(contract, exchange("GET", "/Vessels(4)", 200, TERN, ieee, headers=version)) == {
        ("body.type", "body/Measures/Length")
    }
    assert told(contract, exchange("GET", "/Vessels(4)", 200, texts, JSON4, headers=version)) == {
        ("body.type", "body/Measures/Length")
    }
    short = {key.replace("@odata.", "@"): value for key, value in SKUA.items()}
    newer = contract_of(
        "m.edmx", {"m.edmx": contract.documents[V4].text.replace(b'Version="4.0"', b'Version="4.01"')}
    )
    assert not told(
        newer,
        exchange("GET", "/Vessels(5)", 200, short, "application/json", headers=(("OData-Version", "4.01"),)),
    )


def test_only_what_is_open_accepts_anything() -> None:
    """Open types, streams and untyped values take anything; everything else can be wrong."""
    contract = contract_of("yard.edmx")
    open_ones = set()
    for operation in contract.operations:
        for answer in operation.answers:
            for media in answer.media:
                if media.schema and contract.schema(media.schema).accepts_anything:
                    open_ones.add(operation.id)
    names = ("property", "value", "Photo", "media", "Photo.replace", "media.replace")
    assert open_ones == {
        one.id
        for one in contract.operations
        if one.id.partition(".")[2] in names[:4] or one.id.endswith((".property", ".value"))
    }
    version = (("OData-Version", "4.0"),)
    log = {
        "@odata.context": f"{BASE}/$metadata#Logs/$entity",
        "Id": "6f1d2c3a-58b4-4e7a-9d10-2b7c41e0a9f5",
        "Free": [1],
    }
    path = "/Logs(6f1d2c3a-58b4-4e7a-9d10-2b7c41e0a9f5)"
    assert not told(contract, exchange("GET", path, 200, log, JSON4, headers=version))
    assert told(contract, exchange("GET", path, 200, {**log, "Id": 5}, JSON4, headers=version)) == {
        ("body.type", "body/Id"),
        ("body.other", "body/Id"),
    }


def test_annotations_are_limits_on_values() -> None:
    """Validation's minimum and maximum, list sizes, and a definition's digits."""
    contract, version = contract_of("yard.edmx"), (("OData-Version", "4.0"),)
    crane = {
        "@odata.context": f"{BASE}/$metadata#Cranes/$entity",
        "Row": 1,
        "Spot": {"Row": 1, "Free": [1]},
        "Lifts": 4.5,
        "Fit": "Wet,Dry",
        "Marks": ["a"],
        "Load": 40,
    }
    path = "/Cranes(Row=1,SpotRow=1)"
    assert not told(contract, exchange("GET", path, 200, crane, JSON4, headers=version))
    for change, finding in (
        ({"Load": 41}, ("body.range", "body/Load")),
        ({"Marks": ["a", "b", "c", "d"]}, ("body.count", "body/Marks")),
        ({"Marks": [None]}, ("body.type", "body/Marks/0")),
        ({"Lifts": 4.25}, ("body.format", "body/Lifts")),
        ({"Fit": "Wet,Damp"}, ("body.enum", "body/Fit")),
    ):
        assert told(contract, exchange("GET", path, 200, {**crane, **change}, JSON4, headers=version)) == {
            finding
        }


CREATED = {
    "@odata.context": f"{BASE}/$metadata#Owners/$entity",
    "Code": "A",
    "Name": "Aster",
    "Registered": "2001-05-04",
}
SENT = {"Code": "A", "Name": "Aster", "Registered": "2001-05-04"}
MADE = ("POST", "/Owners", 201, CREATED, SENT)


def _read(**changes: Any) -> tuple[Any, ...]:
    return ("GET", "/Owners('A')", 200, {**CREATED, **changes}, None)


STORIES: list[tuple[str, list[tuple[Any, ...]], set[tuple[str, str]]]] = [
    # what, exchanges of one case, what the last one is told to be
    ("as it was created", [MADE, _read()], set()),
    (
        "created otherwise than it was sent",
        [("POST", "/Owners", 201, {**CREATED, "Name": "Kelp"}, SENT)],
        {("change.lost", "body/Name")},
    ),
    ("not as it was created", [MADE, _read(Name="Kelp")], {("change.lost", "body/Name")}),
    (
        "a property that does not come",
        [
            MADE,
            (
                "GET",
                "/Owners('A')",
                200,
                {key: value for key, value in CREATED.items() if key != "Name"},
                None,
            ),
        ],
        set(),
    ),
    ("changed", [MADE, ("PATCH", "/Owners('A')", 204, None, {"Name": "Kelp"}), _read(Name="Kelp")], set()),
    (
        "a change that was lost",
        [MADE, ("PATCH", "/Owners('A')", 204, None, {"Name": "Kelp"}), _read()],
        {("change.lost", "body/Name")},
    ),
    (
        "a change that was refused",
        [MADE, ("PATCH", "/Owners('A')", 409, None, {"Name": "Kelp"}), _read()],
        set(),
    ),
    (
        "what nobody changed",
        [MADE, ("PATCH", "/Owners('A')", 204, None, {"Name": "Kelp"}), _read(Name="Kelp", Registered=None)],
        {("change.lost", "body/Registered")},
    ),
    (
        "replaced: what was left out may be anything",
        [MADE, ("PUT", "/Owners('A')", 204, None, {"Name": "Kelp"}), _read(Name="Kelp", Registered=None)],
        set(),
    ),
    (
        "deleted, and there",
        [MADE, ("DELETE", "/Owners('A')", 204, None, None), _read()],
        {("change.lost", "status")},
    ),
    ("deleted, and made anew", [MADE, ("DELETE", "/Owners('A')", 204, None, None), MADE, _read()], set()),
    ("somebody else's", [("PATCH", "/Owners('A')", 204, None, {"Name": "Kelp"}), _read()], set()),
    (
        "after a reference was set",
        [MADE, ("POST", "/Owners('A')/Vessels/$ref", 204, None, {"@odata.id": "x"}), _read(Name="Kelp")],
        set(),
    ),
    ("the same moment, written otherwise", [MADE, _read(Registered="2001-05-04")], set()),
]


@pytest.mark.parametrize(("what", "story", "findings"), STORIES, ids=[row[0] for row in STORIES])
def test_what_was_acknowledged_is_there(what: str, story: list[Any], findings: set[tuple[str, str]]) -> None:
    contract = contract_of(V4)
    wire = wire_of(contract)
    conversation = wire.conversation(BASE)
    assert conversation is not None
    found: list[Any] = []
    for method, path, status, body, sent in story:
        one = exchange(method, path, status, body, JSON4, sent=sent, headers=(("OData-Version", "4.0"),))
        operation = wire.match(one.request, BASE)[0]
        found = [
            result
            for result in conversation.seen(operation, one, wire.decode(operation, one))
            if not result.held
        ]
    assert {(result.kind, result.at) for result in found} == findings


def test_what_cannot_be_read_is_unproven() -> None:
    """A set of a type that is not there keeps its list: an answer is judged as far as it goes, and proves
    nothing.
    """
    contract = contract_of("m.edmx", {"m.edmx": edmx("", '<EntitySet Name="Xs" EntityType="N.X"/>')})
    one = exchange(
        "GET", "/Xs", 200, {"@odata.context": "x", "value": [1]}, headers=(("OData-Version", "4.0"),)
    )
    found = judged(contract, one)
    assert str(found.verdict) == "unproven" and "not checkable" in found.reason
    assert {
        kind
        for kind, _ in told(
            contract, replace(one, response=replace(one.response, headers=one.response.headers[:1]))
        )
    } == {"header.missing"}


def test_versions_of_v2_are_within_what_was_asked_for() -> None:
    contract = contract_of(V2)
    wire = wire_of(contract)
    for told_version, held in (("2.0;Merrow", True), ("1.0", True), ("3.0", False)):
        one = exchange(
            "GET",
            "/Vessels(4)",
            200,
            {"d": OLD},
            "application/json",
            headers=(("DataServiceVersion", told_version),),
        )
        one = replace(one, request=replace(one.request, headers=(("MaxDataServiceVersion", "2.0"),)))
        kinds = {result.kind for result in judge(wire, wire.match(one.request, BASE)[0], one, BASE).findings}
        assert kinds == (set() if held else {"version.protocol"})
