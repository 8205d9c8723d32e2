"""What the tests of OData share: metadata from files or texts, and exchanges that were never sent."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from juxtalogos.documents.load import load_document
from juxtalogos.formats import format_of, wire_of
from juxtalogos.model.contract import Contract
from juxtalogos.model.errors import DocumentError
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.run.judging.judge import Judgement, judge

HERE = Path(__file__).parent / "odata"
DEMO = Path(__file__).parent.parent / "src" / "juxtalogos" / "demo"
BASE = "http://quay.test/service"
JSON4 = "application/json;odata.metadata=minimal"
_read: dict[str, Contract] = {}


def contract_of(name: str, texts: dict[str, bytes] | None = None) -> Contract:
    """The contract of a file beside this one, of the demo's metadata, or of texts by URI."""
    if texts is None and name in _read:
        return _read[name]

    def fetch(uri: str) -> Any:
        if texts is not None:
            if uri not in texts:
                raise DocumentError("there is no such file", where=uri)
            return load_document(uri, texts[uri])
        path = HERE / uri if (HERE / uri).exists() else DEMO / uri
        return load_document(uri, path.read_bytes())

    found = format_of(fetch(name)).read("quay", name, fetch)
    if texts is None:
        _read[name] = found
    return found


def edmx(inner: str, container: str = "", version: str = "4.0") -> bytes:
    """Metadata of V4 with some declarations, and what is in its container."""
    return (
        f'<edmx:Edmx Version="{version}"'
        ' xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices>\n<Schema Namespace="N"'
        f' xmlns="http://docs.oasis-open.org/odata/ns/edm">\n{inner}\n<EntityContainer'
        f' Name="C">{container}</EntityContainer></Schema></edmx:DataServices></edmx:Edmx>'
    ).encode()


def exchange(
    method: str,
    path: str,
    status: int,
    body: Any = None,
    media: str = JSON4,
    *,
    sent: Any = None,
    headers: Any = (),
) -> Exchange:
    """An exchange as it would have been: a value is written as JSON, bytes and texts as they are."""
    data = (
        body
        if isinstance(body, bytes)
        else body.encode()
        if isinstance(body, str)
        else b""
        if body is None
        else json.dumps(body).encode()
    )
    asked = (("Content-Type", "application/json"),) if sent is not None else ()
    request = Request(method, f"{BASE}{path}", asked, None if sent is None else json.dumps(sent).encode())
    fields = ((("Content-Type", media),) if data else ()) + tuple(headers)
    return Exchange(request, Response(status, "", fields, data), Timings(0.0, 0.0, 0.0))


def judged(contract: Contract, one: Exchange) -> Judgement:
    """What an exchange says against the contract; it must match an operation."""
    wire = wire_of(contract)
    operation = wire.match(one.request, BASE)[0]
    return judge(wire, operation, one, BASE)


def told(contract: Contract, one: Exchange) -> set[tuple[str, str]]:
    """(kind, place) of what deviates; remarks behind a question mark."""
    return {
        (f"{result.kind}{'' if result.fails else '?'}", result.at)
        for result in judged(contract, one).findings
    }
