"""OData metadata -> operations: a table of method, URL and body for each construct; XML and JSON alike;
broken and untidy metadata.
"""

from __future__ import annotations

import contextlib
import json
import re
from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from juxtalogos.compose.requests import sample_inputs
from juxtalogos.documents.positions import describe
from juxtalogos.formats import wire_of
from juxtalogos.formats.odata.definition.model_reader import model_of
from juxtalogos.model.contract import Contract, Intent
from juxtalogos.model.errors import DocumentError, Unsampleable
from odata_help import BASE, contract_of, edmx

KEY = "Row=1,SpotRow=1"
LOG = "6f1d2c3a-58b4-4e7a-9d10-2b7c41e0a9f5"
TABLE: list[tuple[str, str, str, str, Any]] = [
    # metadata, operation, method, what of the URL lies below the service root, body with what is required
    ("yard.edmx", "Cranes.list", "GET", "/Cranes", None),
    ("yard.edmx", "Cranes.count", "GET", "/Cranes/$count", None),
    ("yard.edmx", "Cranes.create", "POST", "/Cranes", {"Row": 1, "Spot": {"Row": 1}, "Lifts": 4.5}),
    ("yard.edmx", "Cranes.read", "GET", f"/Cranes({KEY})", None),
    ("yard.edmx", "Cranes.update", "PATCH", f"/Cranes({KEY})", {}),
    ("yard.edmx", "Cranes.replace", "PUT", f"/Cranes({KEY})", {"Spot": {"Row": 1}, "Lifts": 4.5}),
    ("yard.edmx", "Cranes.delete", "DELETE", f"/Cranes({KEY})", None),
    ("yard.edmx", "Cranes.property", "GET", f"/Cranes({KEY})/Label", None),
    ("yard.edmx", "Cranes.value", "GET", f"/Cranes({KEY})/Label/$value", None),
    ("yard.edmx", "Cranes.Photo", "GET", f"/Cranes({KEY})/Photo", None),
    ("yard.edmx", "Cranes.Photo.replace", "PUT", f"/Cranes({KEY})/Photo", "quay"),
    ("yard.edmx", "Cranes.Driver", "GET", f"/Cranes({KEY})/Driver", None),
    ("yard.edmx", "Cranes.Driver.refs", "GET", f"/Cranes({KEY})/Driver/$ref", None),
    ("yard.edmx", "Cranes.Driver.link", "PUT", f"/Cranes({KEY})/Driver/$ref", {"@odata.id": "quay"}),
    ("yard.edmx", "Cranes.Driver.unlink", "DELETE", f"/Cranes({KEY})/Driver/$ref", None),
    ("yard.edmx", "Cranes.Ropes", "GET", f"/Cranes({KEY})/Ropes", None),
    ("yard.edmx", "Cranes.Ropes.create", "POST", f"/Cranes({KEY})/Ropes", {"Side": "Port"}),
    ("yard.edmx", "Cranes.Ropes.read", "GET", f"/Cranes({KEY})/Ropes(Merrow.Yard.Side'Port')", None),
    ("yard.edmx", "Cranes.Swing", "POST", f"/Cranes({KEY})/Merrow.Yard.Swing", {"Degrees": 1}),
    ("yard.edmx", "Cranes.Idle", "GET", "/Cranes/Merrow.Yard.Idle()", None),
    ("yard.edmx", "Drivers.update", "PATCH", "/Drivers('quay')", {}),
    ("yard.edmx", "Plans.read", "GET", "/Plans(2026-03-14T06:30:00Z)", None),
    ("yard.edmx", "Plans.media", "GET", "/Plans(2026-03-14T06:30:00Z)/$value", None),
    ("yard.edmx", "Plans.media.replace", "PUT", "/Plans(2026-03-14T06:30:00Z)/$value", "quay"),
    ("yard.edmx", "Logs.delete", "DELETE", f"/Logs({LOG})", None),
    ("yard.edmx", "Master.read", "GET", "/Master", None),
    ("yard.edmx", "Master.update", "PATCH", "/Master", {}),
    ("yard.edmx", "Stop", "POST", "/Stop", None),
    ("yard.edmx", "Reach", "GET", "/Reach(At='quay')", None),
    ("yard.edmx", "Reach.Rows.For", "GET", "/Reach(Rows=@Rows,For=duration'PT6H')?@Rows=%5B1%5D", None),
    (
        "yard.edmx",
        "batch",
        "POST",
        "/$batch",
        {
            "requests": [
                {"id": "1", "method": "GET", "url": "Cranes", "headers": {"Accept": "application/json"}}
            ]
        },
    ),
    ("quays.edmx", "Bollards.read", "GET", "/Bollards(1L)", None),
    ("quays.edmx", "Bollards.create", "POST", "/Bollards", {"Number": "42", "Pull": 1, "Loose": True}),
    ("quays.edmx", "Quays.update", "MERGE", "/Quays('quay')", {"Code": "quay"}),
    ("quays.edmx", "Quays.replace", "PUT", "/Quays('quay')", {"Code": "quay", "Length": "4.5"}),
    ("quays.edmx", "Bollards.Quay.refs", "GET", "/Bollards(1L)/$links/Quay", None),
    ("quays.edmx", "Bollards.Quay.link", "PUT", "/Bollards(1L)/$links/Quay", {"uri": "quay"}),
    ("quays.edmx", "Quays.Bollards", "GET", "/Quays('quay')/Bollards", None),
    ("registry-v2.edmx", "Fee", "GET", "/Fee?Length=4.5M", None),
    ("registry.edmx", "Fee", "GET", "/Fee(Length=4.5)", None),
    ("registry.edmx", "Certificates.Expiring", "GET", "/Certificates/Merrow.Registry.Expiring(Days=1)", None),
    (
        "registry.edmx",
        "Owners.Vessels.create",
        "POST",
        "/Owners('quay')/Vessels",
        {"Name": "quay", "Condition": "Sound", "OwnerCode": "quay"},
    ),
]


@pytest.mark.parametrize(
    ("source", "name", "method", "path", "body"), TABLE, ids=[f"{row[0]} {row[1]}" for row in TABLE]
)
def test_each_construct_is_an_operation(source: str, name: str, method: str, path: str, body: Any) -> None:
    """It is sent as the protocol says, its body is one that the metadata accepts, and the request is known
    again.
    """
    contract = contract_of(source)
    wire, operation = wire_of(contract), contract.operation(name)
    assert operation is not None
    inputs = sample_inputs(contract, operation, full=False)
    request = wire.encode(operation, inputs, BASE)
    assert (request.method, request.url.removeprefix(BASE)) == (method, path)
    sent = (request.body or b"").decode()
    assert (json.loads(sent) if sent[:1] == "{" else sent or None) == body
    assert wire.match(request, BASE)[0].id == name
    full = sample_inputs(contract, operation, full=True)
    for media in operation.body.media if operation.body else ():
        if "json" in media.media_type and media.schema:
            assert not contract.schema(media.schema).check(full.body)
    assert wire.match(wire.encode(operation, full, BASE), BASE)[0].id == name


def test_only_what_annotations_allow() -> None:
    contract = contract_of("yard.edmx")
    ids = {one.id for one in contract.operations}
    assert not ids & {"Drivers.delete", "Drivers.replace", "Plans.create", "Master.delete", "Master.create"}
    cranes, drivers = contract.operation("Cranes.list"), contract.operation("Drivers.list")
    assert cranes and drivers
    assert "query.$top" not in [one.address for one in cranes.inputs]
    assert "query.$search" not in [
        one.address for one in drivers.inputs
    ]  # offered where the metadata says so only
    example = next(one for one in cranes.inputs if one.name == "$filter").examples
    assert all(text.partition(" ")[0] not in ("Row", "Load") for text in example)
    logs = contract.operation("Logs.update")
    assert logs and [one.address for one in logs.inputs if one.required] == ["path.Id", "header.If-Match"]
    plans = contract.operation("Plans.list")
    assert plans and plans.group == "Plans" and plans.intent is Intent.LIST and plans.safe


def test_xml_and_json_are_the_same_contract() -> None:
    def plain(contract: Contract) -> Any:
        text = repr([replace(one, location=None) for one in contract.operations])  # type: ignore[arg-type]
        text = re.sub(r"document='[^']*', pointer=(\"[^\"]*\"|'[^']*')", "here", text)
        return re.sub(r"reference=(\"[^\"]*\"|'[^']*')", "there", text)

    one, other = contract_of("yard.edmx"), contract_of("yard.json")
    assert plain(one) == plain(other) and not one.faults and not other.faults
    for operation in one.operations:
        twin = other.operation(operation.id)
        assert twin is not None
        pairs = zip(one.schema_refs(operation), other.schema_refs(twin))
        for mine, theirs in pairs:
            ours = [
                (row.name, row.type, row.required, row.allowed, row.description)
                for row in one.schema(mine).outline(5)
            ]
            assert ours == [
                (row.name, row.type, row.required, row.allowed, row.description)
                for row in other.schema(theirs).outline(5)
            ]


ITEM = (
    '<EntityType Name="T"><Key><PropertyRef Name="K"/></Key><Property Name="K" Type="Edm.Int32"'
    ' Nullable="false"/>{}</EntityType>'
)
SET = '<EntitySet Name="Ts" EntityType="N.T"/>'
UNTIDY: list[tuple[str, bytes, str, set[str]]] = [
    # what is wrong, the metadata, words of the fault, operations that must be there all the same
    (
        "an unresolved type",
        edmx(ITEM.format('<Property Name="P" Type="N.Gone"/>'), SET),
        "the type N.Gone of N.T/P is not there",
        {"Ts.list", "Ts.read", "Ts.create"},
    ),
    (
        "a base that is not there",
        edmx(ITEM.format("").replace('Name="T"', 'Name="T" BaseType="N.Gone"'), SET),
        "the base type",
        {"Ts.read"},
    ),
    (
        "derived from itself",
        edmx(
            '<EntityType Name="A" BaseType="N.B"/><EntityType Name="B" BaseType="N.A"/>' + ITEM.format(""),
            SET,
        ),
        "is derived from itself",
        {"Ts.read"},
    ),
    (
        "a set of a type that is not there",
        edmx(ITEM.format(""), SET + '<EntitySet Name="Xs" EntityType="N.X"/>'),
        "the type N.X of Xs",
        {"Xs.list", "Ts.read"},
    ),
    (
        "no key",
        edmx('<EntityType Name="T"><Property Name="P" Type="Edm.String"/></EntityType>', SET),
        "has no key",
        {"Ts.list", "Ts.create"},
    ),
    (
        "a key that is no property",
        edmx(
            '<EntityType Name="T"><Key><PropertyRef Name="Q"/></Key><Property Name="P"'
            ' Type="Edm.String"/></EntityType>',
            SET,
        ),
        "is no property of it",
        {"Ts.list"},
    ),
    (
        "a property twice",
        edmx(ITEM.format('<Property Name="K" Type="Edm.String"/>'), SET),
        "has K twice",
        {"Ts.read"},
    ),
    (
        "a property without a type",
        edmx(ITEM.format('<Property Name="P"/>'), SET),
        "P has no type",
        {"Ts.read"},
    ),
    (
        "an import of nothing",
        edmx(ITEM.format(""), SET + '<ActionImport Name="Go" Action="N.Go"/>'),
        "what Go calls",
        {"Ts.read"},
    ),
    (
        "no namespaces",
        re.sub(rb' xmlns(:edmx)?="[^"]*"|edmx:', b"", edmx(ITEM.format(""), SET)),
        "",
        {"Ts.read"},
    ),
    ("UTF-16", edmx(ITEM.format(""), SET).decode().encode("utf-16"), "", {"Ts.read"}),
    ("an unknown version", edmx(ITEM.format(""), SET, version="7.0"), "the version is 7.0", {"Ts.read"}),
    (
        "a reference to nothing",
        edmx(ITEM.format(""), SET).replace(
            b"<edmx:DataServices>",
            b'<edmx:Reference Uri="gone.xml"><edmx:Include'
            b' Namespace="X"/></edmx:Reference><edmx:DataServices>',
        ),
        "reference to gone.xml",
        {"Ts.read"},
    ),
    (
        "the key behind the properties",
        edmx(
            '<EntityType Name="T"><Property Name="K" Type="Edm.Int32" Nullable="false"/><Key><PropertyRef'
            ' Name="K"/></Key></EntityType>',
            SET,
        ),
        "",
        {"Ts.read"},
    ),
]


@pytest.mark.parametrize(("what", "text", "words", "kept"), UNTIDY, ids=[row[0] for row in UNTIDY])
def test_untidy_metadata_loses_nothing(what: str, text: bytes, words: str, kept: set[str]) -> None:
    contract = contract_of("m.edmx", {"m.edmx": text})
    assert kept <= {one.id for one in contract.operations}
    faults = [f"{describe(contract.documents, one.location)} {one.what}" for one in contract.faults]
    assert any(words in fault for fault in faults) if words else not faults, faults
    assert all(re.match(r"m\.edmx:\d+ ", fault) for fault in faults)
    for operation in contract.operations:  # and every one can be shown and filled
        sample_inputs(contract, operation, full=True)
        for ref in contract.schema_refs(operation):
            list(contract.schema(ref).elements())


UNUSABLE: list[tuple[str, bytes, str]] = [
    ("truncated", edmx(ITEM.format(""), SET)[:-30], "not XML"),
    ("a login page", b"<!DOCTYPE html><html><body>Sign in</body></html>", "this is HTML, no definition"),
    ("other XML", b"<feed/>", "no service definition: its root is feed"),
    ("an empty container", edmx(""), "no operation of this metadata can be used"),
    ("JSON of another kind", b'{"value": []}', "no service definition"),
]


@pytest.mark.parametrize(("what", "text", "words"), UNUSABLE, ids=[row[0] for row in UNUSABLE])
def test_what_is_no_metadata_is_told(what: str, text: bytes, words: str) -> None:
    with pytest.raises(DocumentError) as error:
        contract_of("m.edmx", {"m.edmx": text})
    assert words in error.value.what


@settings(max_examples=150)
@given(st.data())
def test_metadata_with_pieces_cut_out_is_read_or_refused(data: st.DataObject) -> None:
    """Whatever is missing: a contract that can be used, or one error for the user."""
    text = (contract_of("yard.edmx").documents["yard.edmx"].text).decode()
    tags = [found.span() for found in re.finditer(r"<[^?/][^>]*/>|\w+=\"[^\"]*\"", text)]
    for start, end in sorted(
        data.draw(st.lists(st.sampled_from(tags), max_size=6, unique=True)), reverse=True
    ):
        text = text[:start] + " " * (end - start) + text[end:]
    try:
        contract = contract_of("m.edmx", {"m.edmx": text.encode()})
    except DocumentError:
        return
    for operation in contract.operations:
        with contextlib.suppress(Unsampleable):
            wire_of(contract).encode(operation, sample_inputs(contract, operation, full=False), BASE)


def test_metadata_in_several_documents() -> None:
    """Types come from where a reference leads; annotations stand in a document of their own."""
    types = edmx(ITEM.format('<Property Name="P" Type="Edm.String"/>')).replace(
        b'<EntityContainer Name="C"></EntityContainer>', b""
    )
    notes = edmx(
        '<Annotations Target="R.C/Ts"><Annotation'
        ' Term="Org.OData.Capabilities.V1.DeleteRestrictions"><Record><PropertyValue Property="Deletable"'
        ' Bool="false"/></Record></Annotation></Annotations>'
    ).replace(b'<EntityContainer Name="C"></EntityContainer>', b"")
    references = (
        b'<edmx:Reference Uri="notes.edmx"><edmx:Include Namespace="N2"/></edmx:Reference><edmx:Reference'
        b' Uri="types.edmx"><edmx:Include Namespace="N" Alias="A"/></edmx:Reference><edmx:DataServices>'
    )
    root = (
        edmx("", '<EntitySet Name="Ts" EntityType="A.T"/>')
        .replace(b"<edmx:DataServices>", references)
        .replace(b'Namespace="N" xmlns', b'Namespace="R" xmlns')
    )
    contract = contract_of("m.edmx", {"m.edmx": root, "types.edmx": types, "notes.edmx": notes})
    ids = {one.id for one in contract.operations}
    assert "Ts.read" in ids and "Ts.delete" not in ids and not contract.faults
    assert set(contract.documents) == {"m.edmx", "types.edmx", "notes.edmx"}


def test_old_versions_are_told_apart() -> None:
    """V3 is spoken as the verbose JSON of its time; what its metadata has beside V2's is read."""
    third = (
        contract_of("quays.edmx")
        .documents["quays.edmx"]
        .text.replace(b'DataServiceVersion="2.0"', b'DataServiceVersion="3.0"')
    )
    contract = contract_of("m.edmx", {"m.edmx": third})
    operation = contract.operation("Quays.list")
    assert contract.version == "OData 3.0" and operation
    request = wire_of(contract).encode(operation, sample_inputs(contract, operation, full=False), BASE)
    assert dict(request.headers) == {
        "Accept": "application/json;odata=verbose",
        "MaxDataServiceVersion": "3.0",
    }


def test_operations_grow_with_the_metadata_and_no_faster() -> None:
    """n entity types that lead to one another, and 2n: twice the operations and links, twice the schema."""

    def size(count: int) -> tuple[int, int, int]:
        types = "".join(
            ITEM.format(
                f'<NavigationProperty Name="A" Type="N.T{(n + 1) % count}"/><NavigationProperty Name="B"'
                f' Type="Collection(N.T{(n * 3) % count})"/>'
            ).replace('Name="T"', f'Name="T{n}"')
            for n in range(count)
        )
        sets = "".join(f'<EntitySet Name="S{n}" EntityType="N.T{n}"/>' for n in range(count))
        contract = contract_of("m.edmx", {"m.edmx": edmx(types, sets)})
        links = sum(len(answer.links) for one in contract.operations for answer in one.answers)
        elements = sum(1 for one in contract.operations for _ in wire_of(contract).elements(one))
        return len(contract.operations), links, elements

    small, large = size(20), size(40)
    assert all(big <= 2.1 * little for little, big in zip(small, large))
    assert model_of(contract_of("yard.edmx").documents) is model_of(contract_of("yard.edmx").documents)
