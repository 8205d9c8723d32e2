"""Query options really honoured, in each wire form; filters against an oracle; literals and keys there and
back; batches.
"""

from __future__ import annotations

import json
import string
import urllib.parse
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from juxtalogos.compose.requests import sample_inputs
from juxtalogos.formats import wire_of
from juxtalogos.formats.odata.wire.filters import holds
from juxtalogos.formats.odata.wire.literals import from_moment, literal, split_arguments, value_of
from juxtalogos.formats.odata.wire.match import path_values
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.model.schema import ABSENT
from juxtalogos.model.wire import Inputs
from juxtalogos.run.judging.judge import judged_parts
from odata_help import BASE, JSON4, contract_of, exchange, told

V4, V2 = "registry.edmx", "registry-v2.edmx"
A = {"Number": 1, "Kind": "load line", "Expires": "2026-12-01T00:00:00Z", "VesselId": 7}
B = {"Number": 2, "Kind": "radio", "Expires": "2027-01-01T00:00:00+01:00", "VesselId": 7}
VESSEL = {"VesselId": 7, "Name": "Tern", "Condition": "Sound", "OwnerCode": "A", "Detained": False}


def v4(options: str, found: list[dict[str, Any]], **more: Any) -> Exchange:
    body = {
        "@odata.context": f"{BASE}/$metadata#Certificates",
        **{f"@odata.{key}": value for key, value in more.items()},
        "value": found,
    }
    return exchange(
        "GET",
        f"/Certificates?{urllib.parse.quote(options, safe='=&$')}",
        200,
        body,
        headers=(("OData-Version", "4.0"),),
    )


def _old(one: dict[str, Any]) -> dict[str, Any]:
    number = {"Number": str(one["Number"])} if "Number" in one else {}
    expires = {"Expires": f"/Date({1764547200000 + 86_400_000 * one['Number']})/"} if "Expires" in one else {}
    inline = {
        key: value for key, value in one.get("Vessel", {}).items() if key not in ("Condition", "Detained")
    }
    vessel = {"Vessel": inline} if "Vessel" in one else {"Vessel": {"__deferred": {"uri": "x"}}}
    return {
        **{key: value for key, value in one.items() if key in ("Kind", "VesselId")},
        **number,
        **expires,
        **vessel,
    }


def v2(options: str, found: list[dict[str, Any]], **more: Any) -> Exchange:
    options = options.replace("$count=true", "$inlinecount=allpages").replace(
        "2026-12-15T00:00:00Z", "datetime'2025-12-02T12:00:00'"
    )
    body = {
        "d": {
            "results": [_old(one) for one in found],
            **{f"__{key}": str(value) for key, value in more.items()},
        }
    }
    return exchange(
        "GET", f"/Certificates?{urllib.parse.quote(options, safe='=&$')}", 200, body, "application/json"
    )


def atom(options: str, found: list[dict[str, Any]], **more: Any) -> Exchange:
    options = options.replace("$count=true", "$inlinecount=allpages").replace(
        "2026-12-15T00:00:00Z", "datetime'2026-12-15T00:00:00'"
    )

    def entry(one: dict[str, Any]) -> str:
        inner = "".join(
            f"<d:{key}>{str(value)[:19]}</d:{key}>" for key, value in one.items() if key != "Vessel"
        )
        link = '<link rel="http://schemas.microsoft.com/ado/2007/08/dataservices/related/Vessel" href="x">'
        link += "<m:inline/>" if "Vessel" in one else ""
        return (
            f"<entry><id>x</id><title/><updated>x</updated>{link}</link><content"
            f' type="application/xml"><m:properties>{inner}</m:properties></content></entry>'
        )

    count = f"<m:count>{more['count']}</m:count>" if "count" in more else ""
    text = (
        '<feed xmlns="http://www.w3.org/2005/Atom"'
        ' xmlns:d="http://schemas.microsoft.com/ado/2007/08/dataservices"'
        ' xmlns:m="http://schemas.microsoft.com/ado/2007/08/dataservices/metadata">'
        f"{count}<id>x</id><title/><updated>x</updated>{''.join(map(entry, found))}</feed>"
    )
    return exchange(
        "GET", f"/Certificates?{urllib.parse.quote(options, safe='=&$')}", 200, text, "application/atom+xml"
    )


def only(*names: str) -> list[dict[str, Any]]:
    return [{key: value for key, value in one.items() if key in names} for one in (A, B)]


OPTIONS: list[tuple[str, str, Any, Any]] = [
    # option, request, (what came when it was not honoured, its count), (its right twin, its count)
    ("$top", "$top=1", ([A, B], None), ([A], None)),
    ("$count", "$count=true", ([A, B], None), ([A, B], 2)),
    ("$count of fewer", "$count=true", ([A, B], 1), ([A], 1)),
    ("$skip", "$skip=1&$count=true", ([A, B], 2), ([B], 2)),
    ("$select", "$select=Number,Kind", (only("Number"), None), (only("Number", "Kind"), None)),
    ("$expand", "$expand=Vessel", ([A], None), ([{**A, "Vessel": VESSEL}], None)),
    ("$orderby", "$orderby=Number", ([B, A], None), ([A, B], None)),
    ("$orderby downwards", "$orderby=Expires desc", ([A, B], None), ([B, A], None)),
    ("$filter of a number", "$filter=Number gt 1", ([A, B], None), ([B], None)),
    ("$filter of a moment", "$filter=Expires lt 2026-12-15T00:00:00Z", ([B], None), ([A], None)),
    ("$filter of a text", "$filter=Kind eq 'radio' and VesselId eq 7", ([A], None), ([B], None)),
]
FORMS = {"V4": (V4, v4), "V2": (V2, v2), "Atom": (V2, atom)}


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize(("option", "query", "wrong", "right"), OPTIONS, ids=[row[0] for row in OPTIONS])
def test_an_option_that_is_not_honoured_is_found(
    form: str, option: str, query: str, wrong: Any, right: Any
) -> None:
    source, make = FORMS[form]
    contract = contract_of(source)

    def found(case: Any) -> set[str]:
        listed, count = case
        one = make(query, listed, **({} if count is None else {"count": count}))
        return {kind for kind, _ in told(contract, one) if not kind.endswith("?")}

    assert found(wrong) in ({"option.dropped"}, {"control.untrue"})
    if form != "Atom" or option != "$expand":  # an empty inline element is null, and this property may not be
        assert not found(right)


def test_what_is_only_recommended_is_a_remark() -> None:
    """More properties than were selected may come; texts are in the service's own order; pages end where the
    service likes.
    """
    contract = contract_of(V4)
    assert told(contract, v4("$select=Number", [A, B])) == {("option.dropped?", "body/value/0/Kind")}
    assert not told(contract, v4("$orderby=Kind", [B, A]))
    assert not told(contract, v4("$count=true", [A], count=9, nextLink="Certificates?$skiptoken=1"))
    assert not told(contract, v4("$filter=tolower(Kind) eq 'RADIO' or geo.distance(Kind,Kind) lt 1", [A, B]))
    assert not told(contract, v4("$select=Kind", [{"Kind": "x"}]))  # keys may be absent
    assert not told(contract, v4("$expand=Vessel/$count", [A]))
    nulls = [{**_old(A), "Expires": None}, _old(B)]
    for order in (nulls, nulls[::-1]):  # V2 does not say where null stands
        sound = exchange(
            "GET", "/Certificates?$orderby=Expires", 200, {"d": {"results": order}}, "application/json"
        )
        assert {kind for kind, _ in told(contract_of(V2), sound)} == {"body.type"}
    crane = {"@odata.context": "#Cranes", "value": [{"Row": 1}]}
    streams = exchange("GET", "/Cranes?$select=Row,Photo", 200, crane, headers=(("OData-Version", "4.0"),))
    assert not told(contract_of("yard.edmx"), streams)  # a stream shows by its annotations only
    wrong = exchange("GET", "/Certificates?$format=atom", 200, {"d": {"results": []}}, "application/json")
    assert told(contract_of(V2), wrong) == {("option.dropped", "header.Content-Type")}


ROW = {"N": Decimal(5), "D": Decimal("2.5"), "T": "Quay", "O": None, "B": True}
_OPERATORS = {"eq": "==", "ne": "!=", "lt": "<", "le": "<=", "gt": ">", "ge": ">="}
_numbers = st.tuples(st.sampled_from(["N", "D"]), st.sampled_from(sorted(_OPERATORS)), st.integers(0, 9)).map(
    lambda one: (f"{one[0]} {one[1]} {one[2]}", f"(ROW['{one[0]}'] {_OPERATORS[one[1]]} {one[2]})")
)
_texts = st.sampled_from(
    [
        "contains(T,'ua')",
        "startswith(T,'Q')",
        "endswith(T,'x')",
        "T eq 'Quay'",
        "B eq true",
        "O eq null",
        "O ne null",
        "length(T) gt 3",
    ]
).map(
    lambda text: (
        text,
        {
            "contains(T,'ua')": "True",
            "startswith(T,'Q')": "True",
            "endswith(T,'x')": "False",
            "T eq 'Quay'": "True",
            "B eq true": "True",
            "O eq null": "True",
            "O ne null": "False",
            "length(T) gt 3": "True",
        }[text],
    )
)
_filters = st.recursive(
    _numbers | _texts,
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from(["and", "or"]), inner).map(
            lambda one: (f"({one[0][0]} {one[1]} {one[2][0]})", f"({one[0][1]} {one[1]} {one[2][1]})")
        ),
        inner.map(lambda one: (f"not ({one[0]})", f"(not {one[1]})")),
    ),
    max_leaves=8,
)


@given(_filters)
def test_filters_say_what_python_says(pair: tuple[str, str]) -> None:
    text, python = pair
    assert holds(text, lambda path: ROW.get(path, ABSENT)) is eval(python)


@given(st.text(max_size=80))
def test_any_text_as_a_filter_is_decided_or_not(text: str) -> None:
    assert holds(text, lambda path: ROW.get(path, ABSENT)) in (True, False, None)


@given(st.text(max_size=40), st.integers(-(2**31), 2**31 - 1), st.sampled_from(["Port", "Starboard"]))
def test_keys_there_and_back(name: str, row: int, side: str) -> None:
    """Whatever stands in a key arrives as it was given, and is read back so."""
    contract = contract_of("yard.edmx")
    wire = wire_of(contract)
    driver, rope = contract.operation("Drivers.read"), contract.operation("Cranes.Ropes.read")
    assert driver and rope
    if name:
        request = wire.encode(driver, Inputs({"path.Name": name}), BASE)
        assert "/" not in request.url.removeprefix(f"{BASE}/Drivers(") and request.url.isascii()
        assert wire.match(request, BASE)[0].id == "Drivers.read"
        assert path_values(driver, request.url, BASE) == {"Name": name}
    request = wire.encode(rope, Inputs({"path.Row": row, "path.SpotRow": 3, "path.Side": side}), BASE)
    assert path_values(rope, request.url, BASE) == {"Row": row, "SpotRow": 3, "Side": side}


LITERALS: list[tuple[str, Any, str, str]] = [
    # type, value, in V4, in V2
    ("Edm.String", "O'Hara", "'O''Hara'", "'O''Hara'"),
    ("Edm.Int64", 5, "5", "5L"),
    ("Edm.Int64", "5", "5", "5L"),
    ("Edm.Decimal", 4.5, "4.5", "4.5M"),
    ("Edm.Double", 4.5, "4.5", "4.5d"),
    ("Edm.Boolean", True, "true", "true"),
    (
        "Edm.Guid",
        "6f1d2c3a-58b4-4e7a-9d10-2b7c41e0a9f5",
        "6f1d2c3a-58b4-4e7a-9d10-2b7c41e0a9f5",
        "guid'6f1d2c3a-58b4-4e7a-9d10-2b7c41e0a9f5'",
    ),
    (
        "Edm.DateTimeOffset",
        "2026-03-14T06:30:00Z",
        "2026-03-14T06:30:00Z",
        "datetimeoffset'2026-03-14T06:30:00Z'",
    ),
    ("Edm.DateTime", "/Date(1773469800000)/", "2026-03-14T06:30:00", "datetime'2026-03-14T06:30:00'"),
    ("Edm.Time", "PT6H", "PT6H", "time'PT6H'"),
    ("Edm.Duration", "PT6H", "duration'PT6H'", "'PT6H'"),
    ("Edm.Binary", "cXVheQ==", "binary'cXVheQ=='", "X'71756179'"),
    ("Edm.Int32", None, "null", "null"),
]


def test_literals_by_type_and_version() -> None:
    for kind, value, new, old in LITERALS:
        assert literal(kind, value, v4=True) == new, kind
        assert literal(kind, value, v4=False) == old, kind
    assert (
        value_of("X'71756179'") == "cXVheQ=="
        and value_of("12L") == 12
        and value_of("datetime'2026'") == "2026"
    )
    assert from_moment("/Date(1773469800000+0060)/", offset=True) == "2026-03-14T07:30:00+01:00"
    assert split_arguments("a='x,)y',b=2") == [("a", "'x,)y'"), ("b", "2")] and split_arguments("'x") is None


@given(st.text(alphabet=string.printable, max_size=30))
def test_junk_in_a_url_is_no_fault_of_ours(text: str) -> None:
    contract = contract_of(V4)
    wire = wire_of(contract)
    request = Request("GET", f"{BASE}/{text}")
    found = wire.match(request, BASE)
    assert found or wire.unmatched(request, BASE) is not None


def _batch(kind: str) -> Exchange:
    """A sound read and a creation without its place, in one change set."""
    wrong = {"@odata.context": f"{BASE}/$metadata#Owners/$entity", "Code": "A", "Name": "B"}
    good = {"@odata.context": f"{BASE}/$metadata#Owners", "value": []}
    if kind == "json":
        sent = {
            "requests": [
                {"id": "1", "method": "get", "url": "Owners"},
                {"id": "2", "method": "POST", "url": "/Owners", "body": {"Code": "A", "Name": "B"}},
            ]
        }
        got = {
            "responses": [
                {"id": "2", "status": 201, "headers": {"odata-version": "4.0"}, "body": wrong},
                {"id": "1", "status": 200, "body": good},
            ]
        }
        request = Request(
            "POST", f"{BASE}/$batch", (("Content-Type", "application/json"),), json.dumps(sent).encode()
        )
        return Exchange(
            request,
            Response(
                200,
                "",
                (("Content-Type", "application/json"), ("OData-Version", "4.0")),
                json.dumps(got).encode(),
            ),
            Timings(0, 0, 0),
        )
    contract = contract_of(V4)
    operation = contract.operation("batch")
    assert operation
    value = {
        "requests": [
            {"id": "1", "method": "GET", "url": "Owners"},
            {
                "id": "2",
                "atomicityGroup": "g",
                "method": "POST",
                "url": "Owners",
                "body": {"Code": "A", "Name": "B"},
            },
        ]
    }
    request = wire_of(contract).encode(operation, Inputs({}, value, "multipart/mixed"), BASE)

    def part(status: int, body: Any) -> str:
        return (
            f"Content-Type: application/http\r\n\r\nHTTP/1.1 {status} \r\nOData-Version: 4.0\r\nContent-Type:"
            f" {JSON4}\r\n\r\n{json.dumps(body)}\r\n"
        )

    inner = f"Content-Type: multipart/mixed; boundary=c\r\n\r\n--c\r\n{part(201, wrong)}--c--\r\n"
    text = f"--b\r\n{part(200, good)}--b\r\n{inner}--b--\r\n"
    return Exchange(
        request,
        Response(200, "", (("Content-Type", "multipart/mixed;boundary=b"),), text.encode()),
        Timings(0, 0, 0),
    )


@pytest.mark.parametrize("kind", ["multipart", "json"])
def test_the_parts_of_a_batch_are_exchanges_of_their_own(kind: str) -> None:
    contract = contract_of(V4)
    found = judged_parts(wire_of(contract), _batch(kind), BASE)
    assert [(operation.id, {one.kind for one in result.findings}) for operation, _, result in found] == [
        ("Owners.list", set()),
        ("Owners.create", {"header.missing"}),
    ]
    cut = _batch(kind)
    assert cut.response
    for end in range(0, len(cut.response.body), 7):  # a batch that was cut short is no fault of ours
        short = Exchange(
            cut.request, Response(200, "", cut.response.headers, cut.response.body[:end]), Timings(0, 0, 0)
        )
        judged_parts(wire_of(contract), short, BASE)


def test_bodies_in_atom() -> None:
    """An entity as an entry: nested values, null, and what is read back out of it."""
    contract = contract_of(V2)
    operation = contract.operation("Vessels.create")
    assert operation
    wire = wire_of(contract)
    inputs = sample_inputs(contract, operation, full=True, content_type="application/atom+xml")
    body = {**inputs.body, "Built": None, "Measures": {"Length": 4.5, "Draught": None}}
    request = wire.encode(operation, Inputs(inputs.values, body, "application/atom+xml"), BASE)
    text = (request.body or b"").decode()
    assert "null" in text and "Merrow.Registry.Vessel" in text
    hits = set(
        wire.hits(
            operation,
            exchange("POST", "/Vessels", 201, sent={}),
            wire.decode(operation, exchange("POST", "/Vessels", 201)),
            BASE,
        )
    )
    one = Exchange(request, Response(204, "", (), b""), Timings(0, 0, 0))
    assert len(set(wire.hits(operation, one, wire.decode(operation, one), BASE)) - hits) > 3
