"""Coverage counts each element once."""

from __future__ import annotations

from conftest import answers, definition, read_contract
from juxtalogos.coverage import measure
from juxtalogos.formats import element_kinds, wire_of
from juxtalogos.model.exchange import Exchange, Request, Response, Timings
from juxtalogos.run.judging.judge import judge


def test_coverage_counts_each_element_once() -> None:
    shared = {
        "schemas": {
            "Berth": {
                "type": "object",
                "properties": {"id": {"type": "integer"}, "kind": {"type": "string", "enum": ["a", "b"]}},
            }
        }
    }
    paths = {
        path: {"get": {"operationId": path[1:], "responses": answers({"$ref": "#/components/schemas/Berth"})}}
        for path in ("/one", "/two")
    }
    contract = read_contract(definition(paths, **shared))
    exchange = Exchange(
        Request("GET", "http://h/one"),
        Response(200, "OK", (("Content-Type", "application/json"),), b'{"id": 1, "kind": "a"}'),
        Timings(0, 0, 0),
    )
    judgement = judge(wire_of(contract), contract.operations[0], exchange, "http://h")

    class Row:
        def __init__(self, element: str) -> None:
            self.element, self.operation, self.count = element, contract.operations[0].id, 1

    coverage = measure(wire_of(contract), element_kinds(contract), [Row(hit) for hit in judgement.hits])
    shares = {name: (share.exercised, share.declared) for name, share in coverage.by_kind()}
    assert shares == {
        "operations": (1, 2),
        "status codes": (1, 2),
        "media types": (1, 2),
        "response properties": (2, 2),
        "enum members": (1, 2),
    }
    assert dict(coverage.by_operation())["two"].exercised == 0
    assert [row.element.label for row in coverage.gaps() if row.element.kind == "enum"] == ['kind = "b"']
