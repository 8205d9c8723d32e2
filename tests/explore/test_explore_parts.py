"""What exploring is made of: broken requests arrive broken, by readers that are not ours; what stands for the
same; kinds of thing; budgets.
"""

from __future__ import annotations

import json
import re
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast
from urllib.parse import parse_qs, urlsplit

import jsonschema
import pytest
import yaml
from hypothesis import example, given
from hypothesis import strategies as st
from lxml import etree

from conftest import TESTS, definition, read_contract
from juxtalogos.compose.listing import items_in
from juxtalogos.conventions.faults import means_conflict
from juxtalogos.explore.prober.budget import Budget, Spent
from juxtalogos.explore.prober.comparing import changes, differing, item_in, same
from juxtalogos.explore.prober.requests import RequestMaker
from juxtalogos.explore.resources.kinds import kinds_of
from juxtalogos.explore.resources.sandbox import Sandbox
from juxtalogos.explore.techniques.broken import breakings
from juxtalogos.explore.techniques.lists import in_order, meanings
from juxtalogos.formats import wire_of
from juxtalogos.formats.http.wire import HttpWire
from juxtalogos.model.contract import Contract
from juxtalogos.workspace.known import Hints
from juxtalogos.workspace.workspace import Workspace

FAULTY = TESTS / "faulty"


def yard_of(contract: Contract) -> Sandbox:
    maker = RequestMaker(contract, Hints(), "token", 0, {})
    bench: Any = SimpleNamespace(session=SimpleNamespace(base_url=lambda contract: "http://127.0.0.1"))
    return Sandbox(bench, maker, kinds_of(maker))


def imported(name: str, tmp_path: Path) -> Contract:
    from juxtalogos.cli.main import main

    assert main(["init", str(tmp_path), "-q"]) == 0
    assert main(["import", str(FAULTY / name), "--name", "x", "-C", str(tmp_path), "-q"]) in (0, 1)
    return Workspace(tmp_path).contract("x")


def plain_schema(node: Any) -> Any:
    """A schema of OpenAPI 3.0 for a validator of JSON Schema: `nullable` said in its words."""
    if isinstance(node, list):
        return [plain_schema(one) for one in node]
    if not isinstance(node, dict):
        return node
    made = {name: plain_schema(one) for name, one in node.items() if name not in ("nullable", "example")}
    if node.get("nullable") and "type" in made:
        made["type"] = [made["type"], "null"]
        if "enum" in made:
            made["enum"] = [*made["enum"], None]
    return made


def test_broken_requests_arrive_broken_in_json_and_queries(tmp_path: Path) -> None:
    contract, count = imported("fairways.yaml", tmp_path), 0
    document = plain_schema(yaml.safe_load((FAULTY / "fairways.yaml").read_text()))
    yard = yard_of(contract)
    for operation in contract.operations:
        declared = document["paths"][operation.path][operation.method.lower()]
        for one in breakings(yard, operation, yard.maker.own(operation, full=True)):
            request = wire_of(contract).encode(operation, one.inputs, "http://127.0.0.1", loose=True)
            count += 1
            if one.at.startswith("body"):
                schema = {
                    **next(iter(declared["requestBody"]["content"].values()))["schema"],
                    "components": document["components"],
                }
                checker = jsonschema.Draft4Validator(schema, format_checker=jsonschema.FormatChecker())
                assert not checker.is_valid(json.loads(request.body or b"null")), one
            else:
                name = one.at.partition(".")[2]
                texts = parse_qs(urlsplit(request.url).query, keep_blank_values=True).get(name, [])
                schema = {
                    **next(each["schema"] for each in declared["parameters"] if each["name"] == name),
                    "components": document["components"],
                }
                for text in texts:
                    read = [
                        text,
                        *([json.loads(text)] if re.fullmatch(r"-?\d+(\.\d+)?|true|false", text) else []),
                    ]
                    assert not any(jsonschema.Draft4Validator(schema).is_valid(value) for value in read), one
    assert count > 150


def test_broken_requests_arrive_broken_in_xml(tmp_path: Path) -> None:
    contract, count = imported("tugs.wsdl", tmp_path), 0
    wsdl = etree.parse(str(FAULTY / "tugs.wsdl"))
    inner = wsdl.find(".//{http://www.w3.org/2001/XMLSchema}schema")
    schema = etree.XMLSchema(etree.fromstring(etree.tostring(inner)))  # with the namespaces in scope
    yard = yard_of(contract)
    for operation in contract.operations:
        for one in breakings(yard, operation, yard.maker.own(operation, full=True)):
            request = wire_of(contract).encode(operation, one.inputs, "http://127.0.0.1", loose=True)
            body = etree.fromstring(request.body).find("{*}Body")
            count += 1
            assert len(body) != 1 or not schema.validate(body[0]), (operation.id, one, request.body)
    assert count > 150


SAME = [
    (1, 1.0),
    ("2026-03-14T06:30:00Z", "2026-03-14T07:30:00+01:00"),
    ("Grey Tern", "grey  tern"),
    ("4.5", "4.50"),
    (7, "7"),
    ([1, 2], [2, 1]),
]
OTHER = [
    (1, True),
    (1, 2),
    ("a", "b"),
    (1_795_828_050_599, 1_795_828_050_600),
    ([1], [1, 2]),
    (None, ""),
    ("2026-03-14", "2026-03-15"),
    (10**400, 1.5),
    (float("inf"), 1e308),
]


def test_what_stands_for_the_same() -> None:
    assert all(same(*pair) for pair in SAME) and not any(same(*pair) for pair in OTHER)
    assert not list(
        differing({"a": 1, "b": {"c": "x"}, "d": [1]}, {"a": 1.0, "b": {"c": "X"}, "d": [1, 9], "e": 0})
    )
    assert [path for path, _, _ in differing({"a": 1, "b": {"c": "x"}}, {"a": 2, "b": {"c": "y"}})] == [
        "/a",
        "/b/c",
    ]
    assert changes({"a": 1, "b": {"c": 1}}, {"a": 1, "b": {"c": 2}, "d": 3}) == {"/b/c", "/d"}
    assert item_in({"data": {"id": 7, "name": "x"}}, {"name": "x"}, 7) == {"id": 7, "name": "x"}
    assert items_in({"page": {"items": [1]}}) == [1] and items_in({"a": 1}) is None


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=6),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=4), inner, max_size=3),
    max_leaves=8,
)


@given(JSON, JSON)
@example(float("inf"), None)
def test_comparing_never_falls_and_a_value_is_itself(one: Any, other: Any) -> None:
    assert same(one, one)
    assert same(one, other) == same(other, one) or isinstance(one, dict | list)
    item_in(one, other if isinstance(other, dict) else {}, 1)
    items_in(one)
    if isinstance(one, dict) and isinstance(other, dict):
        list(differing(one, other))
        assert not changes(one, one)


def test_words_tags_and_orders() -> None:
    assert list(meanings("minDepth", "depth")) == ["at least"] and "more than" in meanings("since", "made")
    assert "contains" in meanings("name", "name") and not meanings("shade", "colour")
    assert (
        in_order([1, 2, 2.5])
        and not in_order([2, 1])
        and in_order(["a2", "a10"])
        and in_order(["a", "B", "c"])
    )
    assert not in_order(["b", "a", "c"])
    assert means_conflict("TugBusy") and not means_conflict("NoSuchTug") and not means_conflict("TooDeep")
    for tag in ('"1795828050599"', 'W/"3"', '"abc"', '"a-0"', '""', "x"):
        assert HttpWire.other_version(cast(HttpWire, None), tag) != tag


def test_kinds_of_thing(tmp_path: Path) -> None:
    contract = imported("fairways.yaml", tmp_path)
    kinds = {one.name: one for one in kinds_of(RequestMaker(contract, Hints(), "t", 0, {}))}
    orders = kinds["/orders"]
    assert [one.id for one in orders.acts] == [
        "startOrder",
        "finishOrder",
        "cancelOrder",
    ] and orders.deleter is not None
    buoys = kinds["/fairways/{}/buoys"]
    assert buoys.parent is kinds["/fairways"] and [one.id for one in buoys.updates] == ["patchBuoy"]
    assert not kinds["/jobs"].creators and kinds["/office"].resource.is_singleton


def test_budgets_are_counted() -> None:
    budget = Budget(requests=3, each=2)
    budget.take("a")
    budget.take("a")
    with pytest.raises(Spent) as each:
        budget.take("a")
    budget.take("b")
    with pytest.raises(Spent) as everything:
        budget.take("b")
    assert not each.value.all_of_it and everything.value.all_of_it
    budget.take("b", needed=True)
    assert budget.used == 4


def test_definitions_without_anything_to_explore() -> None:
    contract = read_contract(definition({"/x": {"post": {"responses": {"200": {"description": "x"}}}}}))
    assert [one.name for one in kinds_of(RequestMaker(contract, Hints(), "t", 0, {}))] in ([], ["/x"])


def test_what_is_counted_by_operation_is_counted_for_each_contract() -> None:
    budget = Budget(requests=100, each=2, weights={("two", "op"): 2.0})
    for contract, most in (("one", 2), ("two", 4)):
        budget.begin(contract)
        for _ in range(most):
            budget.take("op")
        with pytest.raises(Spent, match="are used up"):
            budget.take("op")
        assert budget.mine == most
        for _ in range(budget.patience):
            budget.answered("silent", False)
        with pytest.raises(Spent, match="in a row"):
            budget.take("else")
    assert budget.used == 6
