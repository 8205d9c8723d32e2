"""Recorded exchanges with what is to be said of them: right by the standard though they look odd, or wrong in
one place.

A row is (what, version, declared responses, answer, expected). An answer is (status, Content-Type, body), a
fourth part
being more headers; a body that is no text is written as JSON, bytes go as Base64, `...` is a body left out of
the recording.
Expected is "" for passed without findings, "unproven", "remark KIND AT", or "KIND AT".
"""

from __future__ import annotations

from typing import Any

J = "application/json"


def one(schema: Any = None, status: str = "200", media: str = J, **more: Any) -> dict[str, Any]:
    return {
        status: {
            "description": "x",
            "content": {media: {"schema": schema} if schema is not None else {}},
            **more,
        }
    }


def old(schema: Any = None, status: str = "200", **more: Any) -> dict[str, Any]:
    return {status: {"description": "x", **({"schema": schema} if schema is not None else {}), **more}}


def obj(required: str = "", **properties: Any) -> dict[str, Any]:
    return {
        "type": "object",
        **({"required": required.split()} if required else {}),
        "properties": properties,
    }


# Text, whole number, number, truth.
S, W, N, B = ({"type": kind} for kind in ("string", "integer", "number", "boolean"))
NAME = obj("name", name=S)
CLOSED = {**NAME, "additionalProperties": False}
LIST = {"type": "array", "items": NAME, "minItems": 1, "maxItems": 3, "uniqueItems": True}
SECRET = obj("name pin", name=S, pin={**S, "writeOnly": True})
MADE = obj("id name", id={**W, "readOnly": True}, name=S)
EMPTY = {"204": {"description": "none"}}
BARE = {"200": {"description": "no body"}}
TAGGED = one(
    NAME,
    headers={
        "X-Tide": {"required": True, "schema": W},
        "X-Gate": {"schema": {"type": "string", "enum": ["open", "shut"]}},
    },
)
KINDS = {
    "oneOf": [obj("kind draught", kind={"enum": ["deep"]}, draught=N), obj("kind", kind={"enum": ["shoal"]})]
}
BERTH = {
    **obj(
        "id name",
        id={**W, "xml": {"attribute": True}},
        name=S,
        bays={"type": "array", "xml": {"wrapped": True}, "items": {**W, "xml": {"name": "bay"}}},
        notes={"type": "array", "items": {**S, "xml": {"name": "note"}}},
    ),
    "xml": {"name": "berth"},
    "additionalProperties": False,
}
OLD, V3, V31 = "2.0", "3.0.3", "3.1.0"

ROWS: list[tuple[str, str, dict[str, Any], tuple[Any, ...], str]] = [
    # Media types: parameters, ranges, suffixes, letters of either case.
    ("plain", V3, one(NAME), (200, J, {"name": "Skerry"}), ""),
    ("charset", V3, one(NAME), (200, f"{J}; charset=utf-8", {"name": "Skerry"}), ""),
    ("charset quoted", V3, one(NAME), (200, f'{J};charset="UTF-8"', {"name": "ä"}), ""),
    ("upper case type", V3, one(NAME), (200, "Application/JSON", {"name": "a"}), ""),
    ("further parameter", V3, one(NAME), (200, f"{J}; v=2", {"name": "a"}), ""),
    ("declared with charset", V3, one(NAME, media=f"{J};charset=utf-8"), (200, J, {"name": "a"}), ""),
    ("declared parameter there", V3, one(NAME, media=f"{J};v=2"), (200, f"{J}; v=2", {"name": "a"}), ""),
    (
        "declared parameter another",
        V3,
        one(NAME, media=f"{J};v=2"),
        (200, f"{J}; v=3", {"name": "a"}),
        "media.undeclared header.Content-Type",
    ),
    ("any type", V3, one(NAME, media="*/*"), (200, J, {"name": "a"}), ""),
    ("any type, wrong body", V3, one(NAME, media="*/*"), (200, J, {}), "body.required body/name"),
    ("range", V3, one(media="image/*"), (200, "image/png", b"\x89PNG\r\n\x1a\n"), ""),
    (
        "outside the range",
        V3,
        one(media="image/*"),
        (200, "text/plain", "no"),
        "media.undeclared header.Content-Type",
    ),
    ("application range", V3, one(NAME, media="application/*"), (200, J, {"name": "a"}), ""),
    (
        "suffix declared",
        V3,
        one(NAME, media="application/vnd.merrow+json"),
        (200, "application/vnd.merrow+json", {"name": "a"}),
        "",
    ),
    (
        "suffix declared, wrong",
        V3,
        one(NAME, media="application/vnd.merrow+json"),
        (200, "application/vnd.merrow+json", {"name": 1}),
        "body.type body/name",
    ),
    (
        "suffix not declared",
        V3,
        one(NAME),
        (200, "application/problem+json", {"name": "a"}),
        "media.undeclared header.Content-Type",
    ),
    ("html for json", V3, one(NAME), (200, "text/html", "<p>no</p>"), "media.undeclared header.Content-Type"),
    ("text that is no json", V3, one(NAME), (200, J, "{name: a}"), "media.untrue body"),
    ("cut json", V3, one(NAME), (200, J, '{"name": "a"'), "media.untrue body"),
    (
        "two types, the other",
        V3,
        {"200": {"description": "x", "content": {J: {"schema": NAME}, "text/plain": {"schema": S}}}},
        (200, "text/plain", "Skerry"),
        "",
    ),
    (
        "two types, closest wins",
        V3,
        {"200": {"description": "x", "content": {"application/*": {"schema": W}, J: {"schema": NAME}}}},
        (200, J, {"name": "a"}),
        "",
    ),
    (
        "no content type",
        V3,
        one(NAME),
        (200, None, {"name": "a"}),
        "remark media.missing header.Content-Type",
    ),
    (
        "content type is none",
        V3,
        one(NAME),
        (200, "json", {"name": "a"}),
        "media.undeclared header.Content-Type",
    ),
    ("byte order mark", V3, one(NAME), (200, J, b'\xef\xbb\xbf{"name":"a"}'), ""),
    ("empty content map", V3, {"200": {"description": "x", "content": {}}}, (200, J, {"anything": 1}), ""),
    ("empty content map, no body", V3, {"200": {"description": "x", "content": {}}}, (200, None, ""), ""),
    ("media without a schema", V3, one(), (200, J, [1, None]), ""),
    ("csv", V3, one(S, media="text/csv"), (200, "text/csv", "a,b\n1,2\n"), ""),
    (
        "latin text",
        V3,
        one({**S, "maxLength": 6}, media="text/plain"),
        (200, "text/plain; charset=iso-8859-1", "Möwe 1"),
        "",
    ),
    (
        "text too long",
        V3,
        one({**S, "maxLength": 6}, media="text/plain"),
        (200, "text/plain", "Skerry Point"),
        "body.length body",
    ),
    (
        "bytes",
        V3,
        one({**S, "format": "binary"}, media="application/octet-stream"),
        (200, "application/octet-stream", b"\x00\xff"),
        "",
    ),
    # Statuses: ranges, default, no body.
    ("range of statuses", V3, one(NAME, "2XX"), (201, J, {"name": "a"}), ""),
    ("lower-case range", V3, one(NAME, "2xx"), (202, J, {"name": "a"}), ""),
    ("exact before range", V3, {**one(W, "2XX"), **one(NAME, "201")}, (201, J, {"name": "a"}), ""),
    ("range, wrong body", V3, one(NAME, "2XX"), (201, J, {}), "body.required body/name"),
    ("default", V3, {**one(NAME), **one(obj("code", code=W), "default")}, (418, J, {"code": 7}), ""),
    (
        "default, wrong body",
        V3,
        {**one(NAME), **one(obj("code", code=W), "default")},
        (409, J, {"code": "7"}),
        "body.type body/code",
    ),
    ("default alone proves nothing", V3, {"default": {"description": "x"}}, (200, None, ""), "unproven"),
    ("status undeclared", V3, one(NAME), (404, J, {"name": "a"}), "status.undeclared status"),
    ("created for ok", V3, one(NAME), (201, J, {"name": "a"}), "status.undeclared status"),
    ("failure undeclared", V3, one(NAME), (500, "text/plain", "oh"), "status.server-error status"),
    (
        "failure declared",
        V3,
        {**one(NAME), **one(NAME, "503")},
        (503, J, {"name": "a"}),
        "remark status.server-error status",
    ),
    (
        "failure under default",
        V3,
        {**one(NAME), **one(NAME, "default")},
        (502, J, {"name": "a"}),
        "remark status.server-error status",
    ),
    ("no content", V3, EMPTY, (204, None, ""), ""),
    ("no content with a type", V3, EMPTY, (204, J, ""), ""),
    ("204 though content is declared", V3, one(NAME, "204"), (204, None, ""), ""),
    ("empty ok without content", V3, BARE, (200, None, ""), ""),
    ("empty ok with length", V3, BARE, (200, None, "", {"Content-Length": "0"}), ""),
    ("body where none is declared", V3, BARE, (200, J, {"a": 1}), "remark body.unexpected body"),
    ("no body where one is declared", V3, one(NAME), (200, J, ""), "body.missing body"),
    ("empty text is a text", V3, one(S, media="text/plain"), (200, "text/plain", ""), ""),
    (
        "redirect declared",
        V3,
        {"303": {"description": "x", "headers": {"Location": {"schema": S}}}},
        (303, None, "", {"Location": "/x"}),
        "",
    ),
    (
        "redirect with a note",
        V3,
        {"302": {"description": "x"}},
        (302, "text/html", "<a href='/x'>x</a>", {"Location": "/x"}),
        "remark body.unexpected body",
    ),
    ("redirect undeclared", V3, one(NAME), (301, None, "", {"Location": "/x"}), "status.undeclared status"),
    ("not modified", V3, {**one(NAME), "304": {"description": "x"}}, (304, None, ""), ""),
    ("not modified, content declared", V3, {**one(NAME), **one(NAME, "304")}, (304, J, ""), ""),
    ("status key as a number", V3, {200: one(NAME)["200"]}, (200, J, {"name": "a"}), ""),
    # Headers.
    ("headers there", V3, TAGGED, (200, J, {"name": "a"}, {"x-tide": "4", "X-GATE": "open"}), ""),
    ("header optional", V3, TAGGED, (200, J, {"name": "a"}, {"X-Tide": "-1"}), ""),
    (
        "headers unknown",
        V3,
        TAGGED,
        (200, J, {"name": "a"}, {"X-Tide": "4", "X-Unknown": "?", "Server": "quay"}),
        "",
    ),
    ("header missing", V3, TAGGED, (200, J, {"name": "a"}), "header.missing header.X-Tide"),
    (
        "header of the wrong type",
        V3,
        TAGGED,
        (200, J, {"name": "a"}, {"X-Tide": "high"}),
        "header.malformed header.X-Tide",
    ),
    (
        "header outside its enumeration",
        V3,
        TAGGED,
        (200, J, {"name": "a"}, {"X-Tide": "1", "X-Gate": "ajar"}),
        "header.malformed header.X-Gate",
    ),
    (
        "content type as a declared header",
        V3,
        one(NAME, headers={"Content-Type": {"required": True, "schema": {"enum": ["x"]}}}),
        (200, J, {"name": "a"}),
        "",
    ),
    (
        "list in a header",
        V3,
        one(NAME, headers={"X-Bays": {"schema": {"type": "array", "items": W}}}),
        (200, J, {"name": "a"}, {"X-Bays": "1, 2,3"}),
        "",
    ),
    (
        "list in a header, wrong",
        V3,
        one(NAME, headers={"X-Bays": {"schema": {"type": "array", "items": W}}}),
        (200, J, {"name": "a"}, {"X-Bays": "1,two"}),
        "header.malformed header.X-Bays/1",
    ),
    # Values.
    ("integer written 1.0", V3, one(W), (200, J, "1.0"), ""),
    ("integer written 1e2", V3, one(W), (200, J, "1e2"), ""),
    ("integer with a fraction", V3, one(W), (200, J, "1.5"), "body.type body"),
    ("number as an integer", V3, one(N), (200, J, "3"), ""),
    ("very large integer", V3, one(W), (200, J, "123456789012345678901234567890"), ""),
    ("int32 too large", V3, one({**W, "format": "int32"}), (200, J, "2147483648"), "body.format body"),
    ("int64 large", V3, one({**W, "format": "int64"}), (200, J, "9223372036854775807"), ""),
    ("true for an integer", V3, one(W), (200, J, "true"), "body.type body"),
    ("number in quotes", V3, one(N), (200, J, '"3"'), "body.type body"),
    ("limit just reached", V3, one({**N, "maximum": 3}), (200, J, "3"), ""),
    ("limit passed", V3, one({**N, "maximum": 3}), (200, J, "3.1"), "body.range body"),
    (
        "exclusive limit reached",
        V3,
        one({**N, "maximum": 3, "exclusiveMaximum": True}),
        (200, J, "3"),
        "body.range body",
    ),
    ("exclusive limit of 3.1", V31, one({**N, "exclusiveMaximum": 3}), (200, J, "3"), "body.range body"),
    ("multiple of a decimal", V3, one({**N, "multipleOf": 0.1}), (200, J, "0.3"), ""),
    ("no multiple", V3, one({**N, "multipleOf": 0.1}), (200, J, "0.35"), "body.range body"),
    ("length counts characters", V3, one({**S, "maxLength": 2}), (200, J, '"⚓⚓"'), ""),
    ("length of a surrogate pair", V3, one({**S, "maxLength": 1}), (200, J, '"\\ud83d\\udea2"'), ""),
    ("pattern is not anchored", V3, one({**S, "pattern": "B[0-9]"}), (200, J, '"berth B4!"'), ""),
    ("pattern unmet", V3, one({**S, "pattern": "^B[0-9]$"}), (200, J, '"b4"'), "body.pattern body"),
    ("null in 3.0", V3, one(obj("a", a=S)), (200, J, {"a": None}), "body.type body/a"),
    ("nullable in 3.0", V3, one(obj("a", a={**S, "nullable": True})), (200, J, {"a": None}), ""),
    (
        "nullable enumeration",
        V3,
        one(obj(a={**S, "nullable": True, "enum": ["x", None]})),
        (200, J, {"a": None}),
        "",
    ),
    (
        "nullable enumeration without null",
        V3,
        one(obj(a={**S, "nullable": True, "enum": ["x"]})),
        (200, J, {"a": None}),
        "remark body.enum body/a",
    ),
    ("null type in 3.1", V31, one(obj(a={"type": ["string", "null"]})), (200, J, {"a": None}), ""),
    ("null in 3.1", V31, one(obj(a=S)), (200, J, {"a": None}), "body.type body/a"),
    (
        "nullable in 3.1",
        V31,
        one(obj(a={**S, "nullable": True})),
        (200, J, {"a": None}),
        "remark body.type body/a",
    ),
    (
        "nullable by anyOf in 3.1",
        V31,
        one(obj(a={"anyOf": [S, {"type": "null"}]})),
        (200, J, {"a": None}),
        "",
    ),
    ("nullable in 2.0", OLD, old(obj(a={**S, "x-nullable": True})), (200, J, {"a": None}), ""),
    ("null in 2.0", OLD, old(obj(a=S)), (200, J, {"a": None}), "body.type body/a"),
    ("missing property", V3, one(NAME), (200, J, {}), "body.required body/name"),
    ("further property", V3, one(NAME), (200, J, {"name": "a", "more": [1]}), ""),
    ("further property, closed", V3, one(CLOSED), (200, J, {"name": "a", "more": 1}), "body.extra body/more"),
    (
        "further properties typed",
        V3,
        one({"type": "object", "additionalProperties": W}),
        (200, J, {"a": 1, "b": "2"}),
        "body.type body/b",
    ),
    ("order of properties", V3, one(obj("a b", a=W, b=W)), (200, J, '{"b":1,"a":2}'), ""),
    ("duplicate name, last counts", V3, one(NAME), (200, J, '{"name":1,"name":"a"}'), ""),
    (
        "write-only came",
        V3,
        one(SECRET),
        (200, J, {"name": "a", "pin": "1"}),
        "remark body.direction body/pin",
    ),
    ("write-only need not come", V3, one(SECRET), (200, J, {"name": "a"}), ""),
    ("read-only must come", V3, one(MADE), (200, J, {"name": "a"}), "body.required body/id"),
    ("read-only came", V3, one(MADE), (200, J, {"id": 1, "name": "a"}), ""),
    ("enumeration", V3, one({**S, "enum": ["bulk"]}), (200, J, '"Bulk"'), "body.enum body"),
    ("enumeration of numbers, 1.0", V3, one({"enum": [1, 2]}), (200, J, "1.0"), ""),
    ("enumeration, true is not 1", V3, one({"enum": [1]}), (200, J, "true"), "body.enum body"),
    ("list", V3, one(LIST), (200, J, [{"name": "a"}]), ""),
    ("list empty", V3, one(LIST), (200, J, []), "body.count body"),
    ("list too long", V3, one(LIST), (200, J, [{"name": str(n)} for n in range(4)]), "body.count body"),
    ("list with an item twice", V3, one(LIST), (200, J, '[{"name":"a"},{"name":"a"}]'), "body.unique body/1"),
    (
        "list with a wrong item",
        V3,
        one(LIST),
        (200, J, [{"name": "a"}, {"name": 2}]),
        "body.type body/1/name",
    ),
    ("object for a list", V3, one(LIST), (200, J, {"name": "a"}), "body.type body"),
    ("one of, the first", V3, one(KINDS), (200, J, {"kind": "deep", "draught": 9}), ""),
    ("one of, none", V3, one(KINDS), (200, J, {"kind": "deep"}), "body.branch body"),
    ("any of, both", V3, one({"anyOf": [NAME, obj("id", id=W)]}), (200, J, {"name": "a", "id": 1}), ""),
    (
        "one of, both",
        V3,
        one({"oneOf": [NAME, obj("id", id=W)]}),
        (200, J, {"name": "a", "id": 1}),
        "body.branch body",
    ),
    (
        "all of, the second",
        V3,
        one({"allOf": [NAME, obj("id", id=W)]}),
        (200, J, {"name": "a"}),
        "body.required body/id",
    ),
    ("not", V3, one({"not": S}), (200, J, '"a"'), "body.branch body"),
    ("const in 3.1", V31, one({"const": 4}), (200, J, "4.0"), ""),
    ("const unmet", V31, one({"const": 4}), (200, J, "5"), "body.const body"),
    (
        "if then",
        V31,
        one({"if": {"required": ["a"]}, "then": {"required": ["b"]}}),
        (200, J, {"a": 1}),
        "body.required body/b",
    ),
    (
        "dependent",
        V31,
        one({"dependentRequired": {"a": ["b"]}}),
        (200, J, {"a": 1}),
        "body.dependency body/b",
    ),
    (
        "unevaluated",
        V31,
        one({"allOf": [NAME], "unevaluatedProperties": False}),
        (200, J, {"name": "a", "b": 1}),
        "body.extra body/b",
    ),
    (
        "prefix items",
        V31,
        one({"type": "array", "prefixItems": [S], "items": False}),
        (200, J, ["a", 1]),
        "body.extra body/1",
    ),
    ("keyword that 3.0 does not know", V3, one({"const": 4}), (200, J, "5"), ""),
    ("schema true in 3.1", V31, one(True), (200, J, "5"), ""),
    # Formats: asserted up to 3.0, annotations from 3.1 on.
    ("date-time", V3, one({**S, "format": "date-time"}), (200, J, '"2026-03-14T06:30:00.5+01:00"'), ""),
    (
        "date-time in lower case",
        V3,
        one({**S, "format": "date-time"}),
        (200, J, '"2026-03-14t06:30:00z"'),
        "",
    ),
    (
        "date-time without zone",
        V3,
        one({**S, "format": "date-time"}),
        (200, J, '"2026-03-14T06:30:00"'),
        "body.format body",
    ),
    ("leap second", V3, one({**S, "format": "date-time"}), (200, J, '"2016-12-31T23:59:60Z"'), ""),
    ("date", V3, one({**S, "format": "date"}), (200, J, '"2026-02-29"'), "body.format body"),
    ("format unknown", V3, one({**S, "format": "berth-code"}), (200, J, '"anything"'), ""),
    ("format of another type", V3, one({"format": "date"}), (200, J, "7"), ""),
    ("format in 3.1", V31, one({**S, "format": "date"}), (200, J, '"soon"'), "remark body.format body"),
    (
        "uuid in upper case",
        V3,
        one({**S, "format": "uuid"}),
        (200, J, '"6F9619FF-8B86-D011-B42D-00C04FC964FF"'),
        "",
    ),
    # Beside a reference.
    (
        "beside a reference in 3.0",
        V3,
        one({"$ref": "#/components/schemas/Name", "required": ["more"]}),
        (200, J, {"name": "a"}),
        "",
    ),
    (
        "beside a reference in 3.1",
        V31,
        one({"$ref": "#/components/schemas/Name", "required": ["more"]}),
        (200, J, {"name": "a"}),
        "body.required body/more",
    ),
    ("recursive", V3, one({"$ref": "#/components/schemas/Tree"}), (200, J, {"parts": [{"parts": [{}]}]}), ""),
    (
        "recursive, wrong inside",
        V3,
        one({"$ref": "#/components/schemas/Tree"}),
        (200, J, {"parts": [{"parts": [4]}]}),
        "body.type body/parts/0/parts/0",
    ),
    (
        "discriminator",
        V3,
        one({"$ref": "#/components/schemas/Craft"}),
        (200, J, {"kind": "tug", "bollard": 60}),
        "",
    ),
    (
        "discriminator, child wrong",
        V3,
        one({"$ref": "#/components/schemas/Craft"}),
        (200, J, {"kind": "tug"}),
        "body.required body/bollard",
    ),
    (
        "discriminator unknown",
        V3,
        one({"$ref": "#/components/schemas/Craft"}),
        (200, J, {"kind": "raft"}),
        "remark body.branch body/kind",
    ),
    # OpenAPI 2.0.
    ("2.0", OLD, old(NAME), (200, J, {"name": "a"}), ""),
    ("2.0 wrong", OLD, old(NAME), (200, J, {"name": 1}), "body.type body/name"),
    ("2.0 without produces", OLD, old(NAME), (200, "application/vnd.x+json", {"name": "a"}), ""),
    ("2.0 without a schema", OLD, old(), (200, None, ""), ""),
    ("2.0 without a schema, body", OLD, old(), (200, J, {}), "body.unexpected body"),
    ("2.0 file", OLD, old({"type": "file"}), (200, "application/pdf", b"%PDF\xff"), ""),
    (
        "2.0 header",
        OLD,
        old(NAME, headers={"X-Tide": {"type": "integer"}}),
        (200, J, {"name": "a"}, {"X-Tide": "no"}),
        "header.malformed header.X-Tide",
    ),
    (
        "2.0 header absent",
        OLD,
        old(NAME, headers={"X-Tide": {"type": "integer"}}),
        (200, J, {"name": "a"}),
        "",
    ),
    ("2.0 default", OLD, {**old(NAME), **old(obj("code", code=W), "default")}, (404, J, {"code": 1}), ""),
    (
        "2.0 discriminator",
        OLD,
        old({"$ref": "#/definitions/Craft"}),
        (200, J, {"kind": "Tug", "bollard": 5}),
        "",
    ),
    (
        "2.0 discriminator unknown",
        OLD,
        old({"$ref": "#/definitions/Craft"}),
        (200, J, {"kind": "Raft"}),
        "body.branch body/kind",
    ),
    # XML by the xml objects, forms, parts.
    (
        "xml",
        V3,
        one(BERTH, media="application/xml"),
        (
            200,
            "application/xml",
            (
                '<?xml version="1.0"?><berth'
                ' id="4"><name>Skerry</name><bays><bay>1</bay><bay>2</bay></bays><note>a</note><note>b</note></berth>'
            ),
        ),
        "",
    ),
    (
        "xml with a prefix",
        V3,
        one(BERTH, media="text/xml"),
        (200, "text/xml", '<m:berth xmlns:m="urn:merrow" id="4"><m:name>x</m:name></m:berth>'),
        "",
    ),
    (
        "xml, attribute of the wrong type",
        V3,
        one(BERTH, media="application/xml"),
        (200, "application/xml", '<berth id="four"><name>x</name></berth>'),
        "body.type body/id",
    ),
    (
        "xml, item of the wrong type",
        V3,
        one(BERTH, media="application/xml"),
        (200, "application/xml", '<berth id="4"><name>x</name><bays><bay>1</bay><bay>b</bay></bays></berth>'),
        "body.type body/bays/1",
    ),
    (
        "xml, element missing",
        V3,
        one(BERTH, media="application/xml"),
        (200, "application/xml", '<berth id="4"/>'),
        "body.required body/name",
    ),
    (
        "xml, another root",
        V3,
        one(BERTH, media="application/xml"),
        (200, "application/xml", '<quay id="4"><name>x</name></quay>'),
        "body.name body",
    ),
    (
        "xml cut",
        V3,
        one(BERTH, media="application/xml"),
        (200, "application/xml", '<berth id="4">'),
        "media.untrue body",
    ),
    (
        "xml with a document type",
        V3,
        one(BERTH, media="application/xml"),
        (200, "application/xml", '<!DOCTYPE berth [<!ENTITY a "x">]><berth id="4"><name>&a;</name></berth>'),
        "media.untrue body",
    ),
    ("xml suffix as text", V3, one(S, media="image/svg+xml"), (200, "image/svg+xml", "<svg/>"), ""),
    (
        "form",
        V3,
        one(obj("a", a=W), media="application/x-www-form-urlencoded"),
        (200, "application/x-www-form-urlencoded", "a=4&b=x%20y"),
        "",
    ),
    (
        "form, wrong",
        V3,
        one(obj("a", a=W), media="application/x-www-form-urlencoded"),
        (200, "application/x-www-form-urlencoded", "a=x"),
        "body.type body/a",
    ),
    (
        "parts",
        V3,
        one(obj("a", a=W), media="multipart/form-data"),
        (
            200,
            "multipart/form-data; boundary=q",
            '--q\r\nContent-Disposition: form-data; name="a"\r\n\r\n4\r\n--q--\r\n',
        ),
        "",
    ),
    (
        "parts, wrong",
        V3,
        one(obj("a", a=W), media="multipart/form-data"),
        (
            200,
            "multipart/form-data; boundary=q",
            '--q\r\nContent-Disposition: form-data; name="b"\r\n\r\n4\r\n--q--\r\n',
        ),
        "body.required body/a",
    ),
    # What the recorder did.
    ("body left out", V3, one(NAME), (200, J, ...), "unproven"),
    (
        "body left out, type undeclared",
        V3,
        one(NAME),
        (200, "text/html", ...),
        "media.undeclared header.Content-Type",
    ),
    ("body left out, status undeclared", V3, one(NAME), (403, J, ...), "status.undeclared status"),
    ("body left out, none declared", V3, BARE, (200, None, ...), ""),
    ("decoded under a coding", V3, one(NAME), (200, J, {"name": "a"}, {"Content-Encoding": "br"}), ""),
    (
        "decoded under gzip, wrong",
        V3,
        one(NAME),
        (200, J, {}, {"Content-Encoding": "gzip"}),
        "body.required body/name",
    ),
    ("base64", V3, one(NAME), (200, J, b'{"name":"a"}'), ""),
    ("base64, wrong", V3, one(NAME), (200, J, b'{"name":4}'), "body.type body/name"),
]

COMPONENTS: dict[str, Any] = {
    "Name": NAME,
    "Tree": {
        "type": "object",
        "properties": {"parts": {"type": "array", "items": {"$ref": "#/components/schemas/Tree"}}},
    },
    "Craft": {
        **obj("kind", kind=S),
        "discriminator": {"propertyName": "kind", "mapping": {"tug": "#/components/schemas/Tug"}},
    },
    "Tug": {"allOf": [{"$ref": "#/components/schemas/Craft"}, obj("bollard", bollard=N)]},
}
DEFINITIONS: dict[str, Any] = {
    "Craft": {**obj("kind", kind=S), "discriminator": "kind"},
    "Tug": {"allOf": [{"$ref": "#/definitions/Craft"}, obj("bollard", bollard=N)]},
}


def path_of(what: str) -> str:
    return "/" + "".join(char if char.isalnum() else "-" for char in what)


def definition_of(version: str) -> dict[str, Any]:
    """The definition of all rows of a version, an operation a row."""
    paths = {
        path_of(what): {"get": {"operationId": what, "responses": declared}}
        for what, of, declared, _, _ in ROWS
        if of == version
    }
    head = {"info": {"title": version, "version": "1"}, "paths": paths}
    if version == OLD:
        return {"swagger": "2.0", **head, "definitions": DEFINITIONS}
    return {"openapi": version, **head, "components": {"schemas": COMPONENTS}}
